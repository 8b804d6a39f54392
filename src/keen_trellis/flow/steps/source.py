"""The source step: a table of a file, folder or database, or one typed in, as its snapshot has it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress

import msgspec

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.table import Field
from keen_trellis.flow.graph import ROWS, Flow
from keen_trellis.flow.kinds import Context, InputRows, InputShape, Kinds, Standing, StepKind, StepResult
from keen_trellis.flow.last_run import types_kept
from keen_trellis.flow.run_values import spoken_of, text_of
from keen_trellis.flow.source_settings import Given, SourceSettings


def sources_of(flow: Flow, kinds: Kinds) -> dict[str, SourceSettings]:
    """The settings of all source steps by id, as they are run: with their run values; those that cannot be
    read are left out.
    """
    found: dict[str, SourceSettings] = {}
    for step in flow.steps:
        if kinds.begins_rail(step):
            with suppress(TrellisError):
                found[step.id] = kinds.settled(flow, step)
    return found


def sampled(sources: Mapping[str, SourceSettings]) -> list[str]:
    """The ids of those source steps of which only a sample is read."""
    return [step for step, settings in sources.items() if settings.sample.parts]


class SourceKind(StepKind[SourceSettings]):
    """Its one input is the snapshot, which the runner hands in."""

    name = "source"
    settings_type = SourceSettings
    path_settings = ("path",)
    standing = Standing.BEGINS

    def settled(self, settings: SourceSettings, flow: Flow, step: str) -> SourceSettings:
        given = spoken_of(settings.query, flow.values) if settings.query else ()
        told = tuple(Given(value.name, value.type, text_of(value)) for value in given)
        return msgspec.structs.replace(settings, given=told, kept=types_kept(flow, step))

    def fields(self, settings: SourceSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return inputs[0].fields

    def fingerprint(self, settings: SourceSettings, inputs: Sequence[InputShape]) -> object:
        return ()

    def compute(self, settings: SourceSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        return StepResult({ROWS: inputs[0].table})

    def sentence(self, settings: SourceSettings, inputs: Sequence[InputShape]) -> str:
        return f"Read {settings.where}."
