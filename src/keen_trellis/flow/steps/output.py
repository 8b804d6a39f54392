"""The output step: the rows are written to a file when the flow is run."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import PurePath

import msgspec

from keen_trellis.core.errors import UsageError
from keen_trellis.core.filling import cells_without_partner
from keen_trellis.core.table import Field
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, Standing, StepKind, StepResult


@dataclass(frozen=True)
class Target:
    """A sort of thing that outputs write, as far as their settings and sentences go; `outputs` writes it.

    said: what it is called where nothing names it better.  has_sheet: its rows lie in a sheet with a name.
    is_text: cells are text with a delimiter between them.  endings: of its files, each with the delimiter
    that goes with it; none where it is no file.
    """

    said: str
    has_sheet: bool = False
    is_text: bool = False
    endings: Mapping[str, str] = field(default_factory=dict)


TARGETS = {
    "xlsx": Target("a workbook", has_sheet=True, endings={".xlsx": ","}),
    "text": Target("delimited text", is_text=True, endings={".csv": ",", ".txt": "\t", ".tsv": "\t"}),
    "parquet": Target("a Parquet file", endings={".parquet": ","}),
    "arrow": Target("an Arrow file", endings={".arrow": ",", ".feather": ","}),
    "json-lines": Target("JSON lines", endings={".jsonl": ",", ".ndjson": ","}),
    "json": Target("JSON", endings={".json": ","}),
}


class OutputSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """writer: one of TARGETS.  path: what to write to: a file.  sheet: the sheet's name, for a workbook.

    delimiter: between the cells of delimited text.  harmless: cells that a spreadsheet would run as a
    formula are written so that it does not.  guards: what must hold, as `core.insight.guards` writes it.
    """

    writer: str
    path: str
    sheet: str = "Data"
    delimiter: str = ","
    harmless: bool = True
    guards: tuple[str, ...] = ()

    @property
    def file_name(self) -> str:
        return PurePath(self.path).name

    @property
    def target(self) -> Target:
        """What it writes; a writer of a later version is a file without more."""
        return TARGETS.get(self.writer, Target(self.writer))


class OutputKind(StepKind[OutputSettings]):
    """Its rows are those of its input; writing them is the business of `outputs`."""

    name = "output"
    settings_type = OutputSettings
    input_names = ("rows",)
    path_settings = ("path",)
    standing = Standing.ENDS
    has_guards = True

    def fields(self, settings: OutputSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return inputs[0].fields

    def check(self, settings: OutputSettings, inputs: Sequence[InputShape]) -> None:
        if not settings.path:
            raise UsageError("It has no file to write to.", remedy="Choose one.")
        target, plain = settings.target, OutputSettings(settings.writer, settings.path)
        used = {"sheet": target.has_sheet, "delimiter": target.is_text, "harmless": target.is_text}
        for name, is_used in used.items():
            if not is_used and getattr(settings, name) != getattr(plain, name):
                raise UsageError(
                    f"“{name}” is set for it, which {target.said} has no use for.",
                    remedy="Choose its file anew, or take that out of the flow’s file.",
                )
        mark = settings.delimiter
        if len(mark) != 1 or not mark.isascii() or mark.isalnum() or mark in '"\r\n\0':
            raise UsageError(f"“{mark}” cannot stand between cells.", remedy="Use one ASCII character.")

    def fingerprint(self, settings: OutputSettings, inputs: Sequence[InputShape]) -> object:
        return ()

    def compute(self, settings: OutputSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        table = inputs[0].table
        open_cells = cells_without_partner(table, table.names, context.task)
        return StepResult({ROWS: table}, open_cells=open_cells)

    def summed_up(self, settings: OutputSettings) -> tuple[str, str]:
        target = settings.target
        return settings.file_name, f"sheet {settings.sheet}" if target.has_sheet else target.said

    def sentence(self, settings: OutputSettings, inputs: Sequence[InputShape]) -> str:
        where = (
            f"sheet {settings.sheet} of {settings.file_name}"
            if settings.target.has_sheet
            else settings.file_name
        )
        return f"Write {inputs[0].name if inputs else 'nothing yet'} to {where}."
