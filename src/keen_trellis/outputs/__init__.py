"""Writers of outputs, one module a kind. A new kind is a new module, a line in WRITERS and one in TARGETS."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.outputs.columns import ArrowWriter, ParquetWriter
from keen_trellis.outputs.database.writer import DatabaseWriter
from keen_trellis.outputs.delimited import DelimitedWriter
from keen_trellis.outputs.json_text import ArrayWriter, LinesWriter
from keen_trellis.outputs.workbook.writer import WorkbookWriter
from keen_trellis.outputs.writing import Part, Writer

_ALL: tuple[Writer, ...] = (
    WorkbookWriter(),
    DelimitedWriter(),
    ParquetWriter(),
    ArrowWriter(),
    LinesWriter(),
    DatabaseWriter(),
    ArrayWriter(),
)
WRITERS: dict[str, Writer] = {writer.name: writer for writer in _ALL}


@dataclass(frozen=True)
class Written:
    """What was written. place: where, as it is said to the user: a file's path, or a sheet of it.

    path: of the file; within: where in it, "" for one of its own.

    open_cells: by field how many cells had no partner, where that was counted.

    changed: what could not be held as it was, in words.
    """

    place: str
    rows: int
    fields: int
    open_cells: Mapping[str, int] = field(default_factory=dict)
    changed: tuple[str, ...] = ()
    path: str = ""
    within: str = ""


def writer_of(settings: OutputSettings) -> Writer:
    """What writes an output; OutputError if this version has no such writer."""
    found = WRITERS.get(settings.writer)
    if found is None:
        raise OutputError(
            f"This version does not know the writer “{settings.writer}”.",
            where=settings.path,
            remedy=f"It knows: {', '.join(WRITERS)}.",
        )
    return found


@contextmanager
def staged(
    parts: Sequence[Part],
    *,
    kept: Collection[str | Path] = (),
    replace: bool = False,
    task: Task | None = None,
) -> Iterator[list[Written]]:
    """Write outputs with one path, to be put in place when the block ends without error, or not at all.

    kept: what must not be written to, as sources are.  replace: whether what is there may go. OutputError if
    they cannot be written; Cancelled.
    """
    writer = writer_of(parts[0].settings)
    for part in parts:
        writer.check(part.settings, kept, replace=replace)
    with writer.staged(parts, task or Task()) as changed:
        yield [
            Written(
                writer.place(part.settings),
                part.table.rows,
                len(part.table.fields),
                changed=tuple(said),
                path=part.settings.path,
                within=part.settings.within,
            )
            for part, said in zip(parts, changed, strict=True)
        ]


def write(
    table: Table,
    settings: OutputSettings,
    *,
    kept: Collection[str | Path] = (),
    replace: bool = False,
    task: Task | None = None,
) -> Written:
    """Write `table` as `settings` say: whole, or not at all. See `staged`."""
    with staged([Part(table, settings)], kept=kept, replace=replace, task=task) as (written,):
        return written
