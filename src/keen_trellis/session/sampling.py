"""Sources of which only a sample is read."""

from __future__ import annotations

import msgspec

from keen_trellis.flow.edits import change_settings
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.source_settings import Sampling, SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.source import sampled, sources_of
from keen_trellis.session.session import Session


def take_whole(session: Session) -> None:
    """Read all rows of all sources from now on."""
    if not session.apply("Read all rows of all sources", with_all_rows):
        session.said.emit("All rows of all sources are read: none is looked at by a sample.")


def with_all_rows(flow: Flow) -> Flow:
    """The flow without samples."""
    for step in sampled(sources_of(flow, KINDS)):
        settings: SourceSettings = KINDS.settings(flow.step(step))
        flow = change_settings(flow, step, msgspec.structs.replace(settings, sample=Sampling()))
    return flow
