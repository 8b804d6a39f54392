"""Writers of outputs, one module a kind. A new kind is a new module, a line in WRITERS and one in TARGETS."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from itertools import islice
from pathlib import Path

import msgspec

from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.registry import Registry
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.outputs.parting import parted
from keen_trellis.outputs.writing import Part, Writer

WRITERS = Registry[Writer](
    "keen_trellis.outputs",
    {
        "xlsx": "workbook.writer.WorkbookWriter",
        "ods": "opendocument.OpenDocumentWriter",
        "text": "delimited.DelimitedWriter",
        "parquet": "columns.ParquetWriter",
        "arrow": "columns.ArrowWriter",
        "json-lines": "json_text.LinesWriter",
        "database": "database.writer.DatabaseWriter",
        "json": "json_text.ArrayWriter",
    },
)


class Written(msgspec.Struct, frozen=True):
    """What was written. place: where, as it is said to the user: a file's path, or a sheet of it.

    path: of the file; within: where in it, "" for one of its own.  files: one for each value, if it is split.

    open_cells: by field how many cells had no partner, where that was counted.

    changed: what could not be held as it was, in words.
    """

    place: str
    rows: int
    fields: int
    open_cells: Mapping[str, int] = msgspec.field(default_factory=dict)
    changed: tuple[str, ...] = ()
    path: str = ""
    within: str = ""
    files: tuple[str, ...] = ()


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
    """Write outputs, to be put in place together when the block ends without error, or not at all.

    kept: what must not be written to, as sources are.  replace: whether what is there may go. OutputError if
    they cannot be written; Cancelled.
    """
    doing = task or Task()
    every = [parted(part, doing) for part in parts]
    pieces = [piece for some in every for piece in some]
    for piece in pieces:
        writer_of(piece.settings).check(piece.settings, kept, replace=replace)
    together: dict[tuple[str, str], list[int]] = {}
    for number, piece in enumerate(pieces):
        together.setdefault((piece.settings.writer, piece.settings.path), []).append(number)
    said: dict[int, list[str]] = {}
    with ExitStack() as stack:
        for (writer, _), numbers in together.items():
            some = [pieces[number] for number in numbers]
            changed = stack.enter_context(WRITERS[writer].staged(some, doing))
            said |= dict(zip(numbers, changed, strict=True))
        in_order = (said[number] for number in range(len(pieces)))
        yield [
            _written(part, some, list(islice(in_order, len(some))))
            for part, some in zip(parts, every, strict=True)
        ]


def _written(part: Part, some: Sequence[Part], said: Sequence[list[str]]) -> Written:
    """What was written of an output, which may be several files. said: of each, what changed."""
    writer, settings = writer_of(part.settings), part.settings
    lines = dict.fromkeys(line for changed in said for line in changed)
    return Written(
        writer.place(settings),
        part.table.rows,
        len(part.table.fields),
        changed=tuple(lines),
        path=settings.path,
        within=settings.within,
        files=tuple(entry.settings.path for entry in some) if settings.split_by else (),
    )


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
