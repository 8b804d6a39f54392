"""Sheets, blocks of cells, named tables and ranges of workbooks, read in a child process that can be
stopped.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from keen_trellis.core.task import Task
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.sources.about import ROWS_FILE, Listing
from keen_trellis.sources.child import ask, settings_word
from keen_trellis.sources.reading import COLUMNS_OF_SHEET, LAYOUT, WRITING, Reader, ReadTable, mapped
from keen_trellis.sources.recognise import WORKBOOK

_CHILD = "keen_trellis.sources.workbook_process"


class WorkbookReader(Reader):
    """Reads whatever a workbook holds in cells; charts and macros are not read."""

    name = WORKBOOK
    said = "a workbook"
    uses = LAYOUT | COLUMNS_OF_SHEET | WRITING

    def tables(self, path: str, task: Task) -> Sequence[Listing]:
        return ask(_CHILD, path, task, "list").tables

    def further_tables(self, path: str, task: Task) -> Sequence[Listing]:
        """Tables that stand beside or below another one in a sheet: found only by reading the sheets."""
        return ask(_CHILD, path, task, "further").tables

    def read(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable:
        target = room / ROWS_FILE
        answer = ask(_CHILD, settings.path, task, "read", settings_word(settings), str(target))
        assert answer.about is not None
        return ReadTable(mapped(target), answer.about)

    def files(self, settings: SourceSettings) -> list[Path] | None:
        return [Path(settings.path)]
