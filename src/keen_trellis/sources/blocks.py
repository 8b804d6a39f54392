"""Finds the tables in a sheet: where each begins and ends, its header, and what above and below is none of
it.
"""

from __future__ import annotations

import datetime as dt
import math
import re
from collections.abc import Iterator, Sequence
from typing import Any

import msgspec
import numpy as np

from keen_trellis.core.errors import SourceError
from keen_trellis.flow.cell_names import column_letters, column_number
from keen_trellis.flow.remark import ABOVE, DATA, EMPTY, HEADER, NOTE, TOTAL, Raw, RawRow, Remark
from keen_trellis.flow.source_settings import Layout
from keen_trellis.sources.headers import (
    LOOKED_AT,
    Header,
    all_names,
    blank,
    field_names,
    find_header,
    title_remark,
)

Cells = np.ndarray[Any, np.dtype[np.object_]]
Area = tuple[range, range]
_LONGEST_TITLE = 40
_TOTAL = re.compile(r"(grand |sub)?totals?\b.*|sums?\b.*", re.IGNORECASE)
_RANGE = re.compile(r"\$?([A-Z]{1,3})\$?(\d{1,7})(?::\$?([A-Z]{1,3})\$?(\d{1,7}))?", re.IGNORECASE)
_LEAST_SUMMED = 3  # rows, for a row below them to be their sum without saying so
_RAW_HEAD, _RAW_TAIL = 200, 40


class Sheet(msgspec.Struct, frozen=True):
    """The cells of a sheet. cells: rows by columns.  filled: which are not blank.  merged: areas of merged
    cells.
    """

    cells: Cells
    filled: np.ndarray[Any, np.dtype[np.bool_]]
    merged: tuple[Area, ...] = ()

    @staticmethod
    def of(rows: Sequence[Sequence[Any]], merged: Sequence[Area] = ()) -> Sheet:
        """The sheet with these rows, all of one width."""
        cells = np.empty((len(rows), len(rows[0]) if rows else 0), dtype=object)
        if cells.size:
            cells[:] = rows
        filled = cells != ""
        return Sheet(cells, np.asarray(filled, dtype=bool), tuple(merged))

    def rows(self, rows: range, columns: range) -> list[list[Any]]:
        """The cells of an area, row by row."""
        return self.cells[rows.start : rows.stop, columns.start : columns.stop].tolist()  # type: ignore[no-any-return]


class Block(msgspec.Struct, frozen=True):
    """A table in a sheet. All rows and columns count from 0.

    header: None where there is none.  data: the rows of data, blank ones among them included.  roles: what
    each other row of the area is.
    """

    area: Area
    header: range
    data: range
    columns: range
    roles: dict[int, str]

    @property
    def corner(self) -> str:
        """The cell that it begins in, as sheets name cells."""
        return f"{column_letters(self.columns.start)}{(self.header or self.data).start + 1}"


def parse_range(text: str) -> Area | None:
    """The rows and columns that A3:F40 or F3 names, from 0; for F3 the ends are open. None if it names
    none.
    """
    found = _RANGE.fullmatch(text.strip())
    if found is None:
        return None
    left, top, right, bottom = found.groups()
    rows = range(int(top) - 1, int(bottom) if bottom else 2**20)
    columns = range(column_number(left), column_number(right) + 1 if right else 2**14)
    return rows, columns


# --- where tables are ---


def find_blocks(sheet: Sheet) -> list[Block]:
    """All tables of the sheet, from left to right, those in the same columns from top to bottom."""
    height, width = sheet.filled.shape
    areas = _areas(sheet, range(height), range(width))
    return [block_in(sheet, area) for area in areas]


def _areas(sheet: Sheet, rows: range, columns: range) -> list[Area]:
    """The areas of the tables within an area: cut at blank columns, then where a new header begins."""
    found: list[Area] = []
    for group in _runs(sheet.filled[rows.start : rows.stop, columns.start : columns.stop].any(axis=0)):
        across = range(columns.start + group.start, columns.start + group.stop)
        parts = _cut_below(sheet, rows, across)
        for part in parts:
            inner = _areas(sheet, part, across) if len(parts) > 1 and _gap_inside(sheet, part, across) else []
            if len(inner) > 1 and all(find_header(_head(sheet, area)).row is not None for area in inner):
                found += inner
            else:
                found.append((part, _used_columns(sheet, part, across)))
    return found


def _used_columns(sheet: Sheet, rows: range, columns: range) -> range:
    used = _runs(sheet.filled[rows.start : rows.stop, columns.start : columns.stop].any(axis=0))
    return range(columns.start + used[0].start, columns.start + used[-1].stop) if used else columns


def _gap_inside(sheet: Sheet, rows: range, columns: range) -> bool:
    return len(_runs(sheet.filled[rows.start : rows.stop, columns.start : columns.stop].any(axis=0))) > 1


def _runs(mask: Any) -> list[range]:
    """The stretches in which the mask, a bool vector, is true."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], mask, [False])).astype(np.int8)))
    return [range(int(start), int(stop)) for start, stop in zip(edges[::2], edges[1::2], strict=True)]


def _cut_below(sheet: Sheet, rows: range, columns: range) -> list[range]:
    """The rows of the tables that stand one above the other in these columns."""
    filled = sheet.filled[rows.start : rows.stop, columns.start : columns.stop]
    stretches = [range(rows.start + run.start, rows.start + run.stop) for run in _runs(filled.any(axis=1))]
    cuts = [rows.start]
    begun = False
    title: int | None = None
    for stretch in stretches:
        counts = filled[stretch.start - rows.start : stretch.stop - rows.start].sum(axis=1)
        lone = int(np.argmax(counts > 1)) if (counts > 1).any() else len(stretch)
        if lone and len(columns) > 1:
            # Rows of one cell are titles, or notes if nothing follows them.
            title = stretch.start if title is None else title
        body = range(stretch.start + lone, stretch.stop) if len(columns) > 1 else stretch
        if not len(body):
            continue
        above = range(cuts[-1], stretch.start)
        if begun and _begins_another(sheet, above, body, columns, title is not None):
            cuts.append(body.start if title is None else title)
        begun, title = True, None
    return [range(start, stop) for start, stop in zip(cuts, [*cuts[1:], rows.stop], strict=True)]


def _begins_another(sheet: Sheet, before: range, stretch: range, columns: range, titled: bool) -> bool:
    """Whether a stretch of rows below a blank one is a table of its own, and not more of the one above."""
    rows = sheet.rows(range(stretch.start, min(stretch.stop, stretch.start + LOOKED_AT)), columns)
    head = rows[0]
    if len(rows) < 2 or not all_names(head) or sum(not blank(cell) for cell in head) < 2:
        return False
    if find_header(rows).row != 0:
        return False
    above = sheet.rows(range(max(before.start, before.stop - LOOKED_AT), before.stop), columns)
    used = {column for column in range(len(columns)) if any(not blank(row[column]) for row in rows)}
    used_above = {column for column in range(len(columns)) if any(not blank(row[column]) for row in above)}
    body = [row for row in above if sum(not blank(cell) for cell in row) > 1][1:]
    # A name stands where the table above has numbers or dates, and the rows below have such again.
    against = [column for column in used if not blank(head[column]) and _of_values(body, column)]
    below = any(_of_values(rows[1:], column) for column in used)
    return (
        (bool(against) and (below or titled))
        or (used != used_above and below)
        or (titled and used != used_above)
    )


def _of_values(rows: Sequence[Sequence[Any]], column: int) -> bool:
    """Whether most cells of a column are no text."""
    cells = [row[column] for row in rows if not blank(row[column])]
    return bool(cells) and sum(not isinstance(cell, str) for cell in cells) * 2 > len(cells)


def _head(sheet: Sheet, area: Area) -> list[list[Any]]:
    rows, columns = area
    return sheet.rows(range(rows.start, min(rows.stop, rows.start + LOOKED_AT)), columns)


# --- what is header, data, total, note in one of them ---


def block_in(sheet: Sheet, area: Area, layout: Layout | None = None, *, whole: bool = False) -> Block:
    """The table in an area. whole: every row below its header is one of data, as in a range that was
    named.
    """
    layout = layout or Layout()
    rows, columns = _within(sheet, area, layout)
    if layout.header is None:
        found = find_header(_head(sheet, (rows, columns)), _spans_by_row(sheet, rows, columns))
        if found.row is None and not whole:
            # Many rows of notes above the header: look at all rows.
            found = find_header(sheet.rows(rows, columns)) if len(rows) <= 20 * LOOKED_AT else found
        start = None if found.row is None else rows.start + found.row
        height = found.height
    else:
        start = layout.header - 1 if layout.header else None
        height = 1
        if start is not None and layout.header_rows is None:
            below = find_header(
                _head(sheet, (range(start, rows.stop), columns)),
                _spans_by_row(sheet, range(start, rows.stop), columns),
            )
            height = below.height if below.row == 0 else 1
    height = layout.header_rows or height
    header = range(0) if start is None else range(start, min(start + height, rows.stop))
    first = (
        layout.first - 1 if layout.first else header.stop if header else _first_filled(sheet, rows, columns)
    )
    roles: dict[int, str] = {}
    if layout.last is not None:
        last = min(layout.last, rows.stop)
    else:
        last = _last_filled(sheet, range(first, rows.stop), columns)
        if not whole:
            last = _without_tail(sheet, range(first, last), columns, roles)
    for row in range(rows.start, first):
        if row not in header and sheet.filled[row, columns.start : columns.stop].any():
            roles[row] = ABOVE
    return Block((rows, columns), header, range(first, max(first, last)), columns, roles)


def _within(sheet: Sheet, area: Area, layout: Layout) -> Area:
    height, width = sheet.filled.shape
    rows, columns = area
    if layout.columns:
        left, _, right = layout.columns.partition(":")
        columns = range(column_number(left), column_number(right or left) + 1)
    rows = range(min(rows.start, height), min(rows.stop, height))
    columns = range(min(columns.start, width), min(columns.stop, width))
    if layout.header or layout.first or layout.last:
        rows = range(height)
    return rows, columns


def _spans(sheet: Sheet, row: int, columns: range) -> list[range]:
    """The columns, from the area's first, that merged cells which begin in this row reach over."""
    return [
        range(across.start - columns.start, across.stop - columns.start)
        for down, across in sheet.merged
        if down.start == row and len(across) > 1 and across.start >= columns.start
    ]


def _spans_by_row(sheet: Sheet, rows: range, columns: range) -> list[range]:
    return [
        next(iter(_spans(sheet, row, columns)), range(0))
        for row in range(rows.start, min(rows.stop, rows.start + LOOKED_AT))
    ]


def _first_filled(sheet: Sheet, rows: range, columns: range) -> int:
    used = np.flatnonzero(sheet.filled[rows.start : rows.stop, columns.start : columns.stop].any(axis=1))
    return rows.start + int(used[0]) if len(used) else rows.start


def _last_filled(sheet: Sheet, rows: range, columns: range) -> int:
    used = np.flatnonzero(sheet.filled[rows.start : rows.stop, columns.start : columns.stop].any(axis=1))
    return rows.start + int(used[-1]) + 1 if len(used) else rows.start


def _without_tail(sheet: Sheet, rows: range, columns: range, roles: dict[int, str]) -> int:
    """Where the data ends once notes and totals at the bottom are taken off; their roles are noted."""
    last = rows.stop
    while last > rows.start + 1:
        row = sheet.cells[last - 1, columns.start : columns.stop].tolist()
        filled = sum(not blank(cell) for cell in row)
        if not filled:
            last -= 1
        elif _is_note(row, filled, sheet, range(rows.start, last - 1), columns):
            roles[last - 1] = NOTE
            last -= 1
        elif _is_total(row, sheet, range(rows.start, last - 1), columns):
            roles[last - 1] = TOTAL
            last -= 1
        else:
            break
    return last


def _is_note(row: Sequence[Any], filled: int, sheet: Sheet, above: range, columns: range) -> bool:
    """A lone text at the left, below rows that have three cells and more as a rule."""
    if filled > 1 or len(columns) < 3 or not isinstance(next(cell for cell in row if not blank(cell)), str):
        return False
    if blank(row[0]) and blank(row[1]):
        return False
    counts = sheet.filled[above.start : above.stop, columns.start : columns.stop].sum(axis=1)
    counts = counts[counts > 0]
    return bool(len(counts)) and float(np.median(counts)) >= 3


def _is_total(row: Sequence[Any], sheet: Sheet, above: range, columns: range) -> bool:
    """A row that says that it is one, or whose numbers are all sums of those above, and that has gaps.

    Of two rows a third is the sum by chance too often, and what has a day of its own is a row like others.
    """
    numbers = [
        column
        for column, cell in enumerate(row)
        if isinstance(cell, (int, float)) and not isinstance(cell, bool)
    ]
    texts = [cell for cell in row if isinstance(cell, str) and cell]
    gaps = sum(map(blank, row))
    said = len(texts) == 1 and bool(_TOTAL.fullmatch(texts[0].strip()))
    if said and (numbers or gaps):
        return True
    if not numbers or not gaps or len(texts) > 1 or len(above) < _LEAST_SUMMED:
        return False
    if any(isinstance(cell, dt.date) for cell in row):
        return False
    usual = sheet.filled[above.start : above.stop, columns.start : columns.stop].sum(axis=1)
    if len(row) - gaps >= np.median(usual):
        return False
    return all(
        _adds_up(row[column], sheet.cells[above.start : above.stop, columns.start + column])
        for column in numbers
    )


def _adds_up(total: float, cells: Cells) -> bool:
    values = [
        cell for cell in cells.tolist() if isinstance(cell, (int, float)) and not isinstance(cell, bool)
    ]
    return (
        len(values) >= _LEAST_SUMMED and total != 0 and math.isclose(math.fsum(values), total, rel_tol=1e-9)
    )


# --- what is said of it ---


def title_of(sheet: Sheet, block: Block) -> str:
    """What stands above the header of a table, within its area; "" for nothing, and for more than a line."""
    above = sheet.rows(range(block.area[0].start, block.header.start), block.columns)
    said = [str(cell).strip() for cells in above for cell in cells if not blank(cell)]
    return said[0] if len(said) == 1 and len(said[0]) <= _LONGEST_TITLE else ""


def names_and_remarks(sheet: Sheet, block: Block) -> tuple[tuple[str, ...], list[Remark]]:
    """The names of a table's fields, and what there is to say about where it stands."""
    columns = block.columns
    rows = sheet.rows(block.header, columns) if block.header else []
    names, named = field_names(
        rows, 0, len(columns), _spans(sheet, block.header.start, columns) if block.header else ()
    )
    above = sheet.rows(range(block.header.start), columns) if block.header else []
    remarks = title_remark(above, Header(block.header.start if block.header else None))
    if len(block.header) > 1:
        remarks.append(Remark(f"the header has {len(block.header)} rows, {block.header.start + 1} and below"))
    remarks += named
    for role, one, several in ((TOTAL, "holds totals", "hold totals"), (NOTE, "holds a note", "hold notes")):
        numbers = sorted(row + 1 for row, said in block.roles.items() if said == role)
        if len(numbers) == 1:
            remarks.append(Remark(f"row {numbers[0]:,} {one} and is left out"))
        elif numbers:
            remarks.append(Remark(f"rows {numbers[0]:,} to {numbers[-1]:,} {several} and are left out"))
    inside = [
        down
        for down, across in sheet.merged
        if down.start in block.data and len(down) > 1 and across.start in columns
    ]
    if inside:
        groups = "1 group of cells is" if len(inside) == 1 else f"{len(inside):,} groups of cells are"
        said = f"{groups} merged downwards; only the first row of each has the value"
        remarks.append(Remark(said, doubtful=True))
    return names, remarks


def raw_of(sheet: Sheet, block: Block, text: Any) -> Raw:
    """The first and the last rows of the sheet as they stand, and what each is to the table. text: a cell
    as text.
    """
    height = len(sheet.cells)
    shown = [*range(min(height, _RAW_HEAD)), *range(max(_RAW_HEAD, height - _RAW_TAIL), height)]
    return Raw(tuple(_raw_rows(sheet, block, shown, text)), block.columns.start, block.columns.stop)


def _raw_rows(sheet: Sheet, block: Block, shown: Sequence[int], text: Any) -> Iterator[RawRow]:
    columns = block.columns
    for row in shown:
        if row in block.header:
            role = HEADER
        elif not sheet.filled[row, columns.start : columns.stop].any():
            role = EMPTY
        elif row in block.data:
            role = DATA
        else:
            role = block.roles.get(row, ABOVE if row < block.data.start else NOTE)
        yield RawRow(
            row + 1, role, tuple("" if blank(cell) else text(cell) for cell in sheet.cells[row].tolist())
        )


def chosen_block(sheet: Sheet, place: str, layout: Layout) -> Block:
    """The table at a place: "" the first one, "F3" that which begins there, "A3:F40" just that range.

    Raises SourceError if there is none.
    """
    if layout.header or layout.first or layout.columns:
        height = len(sheet.cells)
        return block_in(sheet, (range(height), _taken_columns(sheet, place)), layout)
    if ":" in place:
        area = parse_range(place)
        assert area is not None
        if not sheet.filled[area[0].start : area[0].stop, area[1].start : area[1].stop].any():
            raise SourceError(f"There is nothing in {place}.", remedy="Choose another range of cells.")
        return block_in(sheet, area, layout, whole=True)
    blocks = find_blocks(sheet)
    if not place:
        block = next((block for block in blocks if block.header or len(block.data)), blocks[0])
    else:
        area = parse_range(place)
        assert area is not None
        block = _nearest(blocks, area[0].start, area[1].start)
    return block_in(sheet, block.area, layout)


def _taken_columns(sheet: Sheet, place: str) -> range:
    """The columns of the table at a place, before its rows are set by hand."""
    return chosen_block(sheet, place, Layout()).columns


def _nearest(blocks: Sequence[Block], row: int, column: int) -> Block:
    """The table that begins at a cell; where none does now, the one in its column, or the one next to it."""

    def distance(block: Block) -> tuple[bool, int, int]:
        top = (block.header or block.data).start
        return column not in block.columns, abs(block.columns.start - column), abs(top - row)

    return min(blocks, key=distance)
