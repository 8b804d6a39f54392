"""Puts the rows of outputs into a workbook, one after the other, each into what the one before it left."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import ArrowTable, Cells, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import as_text
from keen_trellis.flow.cell_names import MOST_COLUMNS, MOST_ROWS, Block
from keen_trellis.flow.steps.output import APPEND, OutputSettings
from keen_trellis.flow.wording import counted, listed
from keen_trellis.outputs.lines import batches
from keen_trellis.outputs.workbook.book import Book
from keen_trellis.outputs.workbook.cells import Counted, check_text, rows_of_cells
from keen_trellis.outputs.workbook.following import (
    follow_everywhere,
    follow_in_sheet,
    move_table,
    remove_within,
    widen_dimension,
)
from keen_trellis.outputs.workbook.package import Element, opened
from keen_trellis.outputs.workbook.placing import Placed, Placing
from keen_trellis.outputs.workbook.sheet import Splicing, assembled
from keen_trellis.outputs.workbook.totals import totals_cells
from keen_trellis.outputs.writing import Part

_WIDTHS = (8, 60)
_DESCRIBED = {
    "field": pa.large_string(),
    "type": pa.large_string(),
    "table": pa.large_string(),
    "blank": pa.int64(),
}


def fill_all(base: Path, parts: Sequence[Part], folder: Path, draft: Path, task: Task) -> list[list[str]]:
    """Write a copy of the workbook `base` with the rows of all outputs to `draft`; what of each is not there
    as it was, in words. folder: for what is needed meanwhile.

    OutputError if one of them has no place, or the place of another one; Cancelled.
    """
    # What takes a whole sheet comes first: what others put into it would go with the rest.
    order = sorted(range(len(parts)), key=lambda number: not parts[number].settings.is_whole)
    further = [_description(part) for part in parts if part.settings.described]
    every = [*(parts[number] for number in order), *further]
    said: dict[int, list[str]] = {}
    taken: list[tuple[str, Block, OutputSettings]] = []
    for number, part in enumerate(every):
        made = draft if number == len(every) - 1 else folder / f"{number}.xlsx"
        sheet, block, counts = _fill(base, made, part, folder, task)
        _check_free(taken, sheet, block, part.settings)
        taken.append((sheet, block, part.settings))
        if number < len(parts):
            said[order[number]] = counts
        base = made
    return [said[number] for number in range(len(parts))]


def _check_free(
    taken: Sequence[tuple[str, Block, OutputSettings]], sheet: str, block: Block, settings: OutputSettings
) -> None:
    """OutputError if another output of the run wrote to some of the same cells."""
    for other, cells, of in taken:
        if other == sheet and cells.meets(block) and settings.mode != APPEND:
            raise OutputError(
                f"Two outputs write to the same cells of sheet {sheet}: {of.within} and {settings.within}.",
                where=settings.path,
                remedy="Give one of them another place.",
            )


def _fill(base: Path, made: Path, part: Part, folder: Path, task: Task) -> tuple[str, Block, list[str]]:
    """Write the rows of one output into a copy of a workbook: the sheet, its cells that were written, and
    what is not there as it was, in words.
    """
    settings = part.settings
    check_size(part.table, settings)
    for field in part.table.fields:
        check_text(field.name, f"The name of the field “{field.name[:40]}”")
    changed: Counted = Counter()
    said: list[str] = []
    with opened(base) as package:
        book = Book(package)
        placed = Placing(book, part.table, settings, widths(part.table), task).placed()
        splicing = Splicing(book, placed.sheet, placed.place, placed.looked, placed.moved, placed.table)
        named = book.table_name(placed.sheet) if settings.as_table else ""
        place = placed.place
        block = Block(place.top, place.left, place.bottom + settings.totals, place.right)
        rows = folder / "rows"
        root = splicing.write(_made(part, placed, named, changed, task), rows, task)
        said += _dress(book, root, placed, part, named, block)
        follow_everywhere(book, placed.sheet, placed.moved)
        if splicing.formulas_gone:
            book.forget_order()
        book.recalculate()
        package.streams[placed.sheet.part] = assembled(root, rows)
        package.save(made)
    said += [
        f"{counted(count, 'cells')} of {name} written as text: {why}"
        for (name, why), count in changed.items()
    ]
    return placed.sheet.name, block, said


def _made(
    part: Part, placed: Placed, named: str, changed: Counted, task: Task
) -> Iterator[tuple[int, pa.Array]]:
    """The cells of the new rows, in batches, each with the number of its first row."""
    with_field = [column for column in placed.columns if column.field is not None]
    names = [column.field.name for column in with_field if column.field is not None]
    first = placed.place.first

    def cells(rows: range, batch: list[Cells]) -> tuple[int, pa.Array, Counted]:
        start = rows.start
        made, counts = rows_of_cells(
            placed.columns,
            batch,
            first + start,
            len(rows),
            before=start,
            word=part.settings.no_partner,
            shown=placed.looked.prefix,
        )
        return first + start, made, counts

    what = f"rows of {part.settings.file_name}"
    for number, texts, counts in batches(part.table, cells, what, task, names=names):
        changed.update(counts)
        yield number, texts
    if part.settings.totals:
        at = placed.place.last + 1
        total = totals_cells(
            part.table,
            placed.columns,
            first,
            placed.place.last,
            named=named,
            prefix=placed.looked.prefix,
            task=task,
        )
        yield at, pa.array([total], pa.large_string())


def _dress(book: Book, root: Element, placed: Placed, part: Part, named: str, block: Block) -> list[str]:
    """What a sheet says of its cells: where they reach, which are merged, which are a table.

    block: those that are written.
    """
    place = placed.place
    widen_dimension(root, block, whole=place.whole)
    follow_in_sheet(root, placed.moved)
    merges, links = remove_within(root, None if place.whole else place.gone)
    if placed.table is not None:
        move_table(book, placed.table)
    if part.settings.as_table:
        sums = {field.name for field in part.table.fields if field.type.is_number}
        names = list(part.table.names)
        book.make_table(root, placed.sheet, named, block, names, sums if part.settings.totals else set())
    gone = [counted(count, what) for count, what in ((merges, "merged cells"), (links, "links")) if count]
    return [f"{listed(gone)} of sheet {placed.sheet.name} taken out"] if gone else []


def described_in(settings: OutputSettings) -> str:
    """What the sheet is called that says what the fields of an output are."""
    return f"{(settings.table or settings.sheet)[:24]} fields"


def _description(part: Part) -> Part:
    """The sheet that says of each field what it is."""
    fields = part.table.fields
    columns = (
        [field.name for field in fields],
        [field.type.value for field in fields],
        [field.table for field in fields],
        _blanks(part.table),
    )
    arrays = [pa.array(values, kind) for values, kind in zip(columns, _DESCRIBED.values(), strict=True)]
    table = ArrowTable(pa.table(arrays, names=list(_DESCRIBED)))
    settings = OutputSettings(part.settings.writer, part.settings.path, sheet=described_in(part.settings))
    return Part(table, settings)


def _blanks(table: Table) -> list[int]:
    """How many blanks each field has."""
    found = [0] * len(table.fields)
    for batch in table.batches(table.names):
        found = [before + cells.values.null_count for before, cells in zip(found, batch, strict=True)]
    return found


def check_size(table: Table, settings: OutputSettings) -> None:
    """OutputError unless a sheet has so many rows and columns."""
    if table.rows + 1 > MOST_ROWS:
        raise OutputError(
            f"A sheet holds {MOST_ROWS - 1:,} rows below its header; these are {table.rows:,}.",
            where=settings.path,
            remedy="Write delimited text (.csv), or keep fewer rows.",
        )
    if len(table.fields) > MOST_COLUMNS:
        raise OutputError(
            f"A sheet holds {MOST_COLUMNS:,} columns; these are {len(table.fields):,}.",
            where=settings.path,
            remedy="Bring fewer fields.",
        )
    if not table.fields:
        raise OutputError(
            "The rows have no field.", where=settings.path, remedy="Keep or bring a field of the tables."
        )


def widths(table: Table) -> list[float]:
    """The columns' widths in characters, by their headers and first rows."""
    found = []
    for field, cells in zip(table.fields, table.take(range(min(table.rows, 200)), table.names), strict=True):
        longest = pc.max(pc.utf8_length(as_text(cells.values))).as_py() or 0
        found.append(min(max(longest, len(field.name), _WIDTHS[0]) + 2, _WIDTHS[1]))
    return found
