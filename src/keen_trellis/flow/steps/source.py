"""The source step: a table of a file, folder or database, or one typed in, as its snapshot has it."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress

import msgspec

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.table import Field
from keen_trellis.flow.graph import ROWS, Flow
from keen_trellis.flow.kinds import Context, InputRows, InputShape, Kinds, StepResult
from keen_trellis.flow.source_settings import SourceSettings


def sources_of(flow: Flow, kinds: Kinds) -> dict[str, SourceSettings]:
    """The settings of all source steps by id; those that cannot be read are left out."""
    found: dict[str, SourceSettings] = {}
    for step in flow.steps:
        if step.kind == SourceKind.name:
            with suppress(TrellisError):
                found[step.id] = kinds.settings(step)
    return found


class SourceKind:
    """Its one input is the snapshot, which the runner hands in."""

    name = "source"
    settings_type: type[msgspec.Struct] = SourceSettings
    input_names: tuple[str, ...] = ()
    path_settings: tuple[str, ...] = ("path",)
    more_inputs = False
    on_rail = False

    def ports(self, settings: SourceSettings) -> tuple[str, ...]:
        return (ROWS,)

    def fields(self, settings: SourceSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return inputs[0].fields

    def problems(self, settings: SourceSettings, inputs: Sequence[InputShape]) -> list[TrellisError]:
        return []

    def fingerprint(self, settings: SourceSettings, inputs: Sequence[InputShape]) -> object:
        return ()

    def compute(self, settings: SourceSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        return StepResult({ROWS: inputs[0].table})

    def sentence(self, settings: SourceSettings, inputs: Sequence[InputShape]) -> str:
        where = f"{settings.table} of {settings.file_name}" if settings.table else settings.file_name
        return f"Read {where}."
