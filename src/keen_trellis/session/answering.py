"""Reads answers from a report that came back: all of its sheets that have room for them."""

from __future__ import annotations

from pathlib import Path

import msgspec

from keen_trellis.core.errors import SourceError
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.flow.answers import COLUMNS, Answer, answers_of, has_answers
from keen_trellis.flow.source_settings import FieldSettings
from keen_trellis.outputs.report.sheets import COUNTS
from keen_trellis.sources.library import Library


def answers_in(path: Path, library: Library | None = None, task: Task | None = None) -> list[Answer]:
    """The answers in a file. SourceError if it cannot be read, or has no room for any; Cancelled."""
    library, task = library or Library(), task or Task()
    content, sheets = library.content(str(path)), 0
    found: list[Answer] = []
    as_text = tuple(FieldSettings(name, "text") for name in COLUMNS)
    for listing in content.tables:
        if listing.name in COUNTS:
            continue
        task.checkpoint(0, 0, f"reading answers from {listing.name}")
        settings = content.settings(listing.name)
        table: Table = library.get(settings, task).table
        if not has_answers(table):
            continue
        sheets += 1
        if not all(table.field(name).type is FieldType.TEXT for name in COLUMNS):
            # What is written is taken to the letter: 007 is no number here.
            table = library.get(msgspec.structs.replace(settings, fields=as_text), task).table
        found += answers_of(table, listing.name)
    if not sheets:
        raise SourceError(
            f"No sheet of it has the columns {', '.join(COLUMNS)}.",
            where=str(path),
            remedy="Read back a workbook that was written as a report.",
        )
    return found
