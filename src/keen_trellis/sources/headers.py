"""Finds the header row, below a title if there is one, and gives every field a name of its own."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from keen_trellis.flow.snapshot import Remark

LOOKED_AT = 60
_NUMERIC = re.compile(r"\s*[+-]?[\d.,]*\d\s*%?")
_MOMENT = re.compile(r"\s*\d{1,4}[-./:]\d{1,2}([-./:T ].*)?")


@dataclass(frozen=True)
class Header:
    """row: index of the header row among the rows looked at, or None where there is none.

    first, last: the columns of the table, first inclusive, last exclusive.  names: one a column.
    """

    row: int | None
    first: int
    last: int
    names: tuple[str, ...]
    remarks: tuple[Remark, ...]

    @property
    def rows_above(self) -> int:
        """How many rows come before the first row of data."""
        return 0 if self.row is None else self.row + 1


def blank(cell: Any) -> bool:
    """Whether a cell of a sheet or text file holds nothing."""
    return cell is None or cell == ""


def find_header(rows: Sequence[Sequence[Any]], *, blocks: bool = False) -> Header:
    """The header among the first rows of a sheet or text file.

    blocks: a wholly blank column ends the table; what stands beside it is another one.
    """
    filled = [sum(not blank(cell) for cell in row) for row in rows]
    row = _header_row(rows, filled)
    # In text the header says how many fields there are; what is beyond it is a ragged row's.
    width = max((len(cells) for cells in rows), default=0)
    first, last = 0, width if blocks else len(rows[row]) if row is not None else _usual_width(rows)
    remarks: list[Remark] = []
    if row:
        title = next((str(cell) for cells in rows[:row] for cell in cells if not blank(cell)), "")
        if title:
            remarks.append(Remark(f"the header is in row {row + 1}, below “{_short(title)}”"))
    if blocks:
        first, last, beside = _first_block(rows[row or 0 :], width)
        if beside:
            remarks.append(
                Remark(
                    f"a second table stands beside it, from column {beside}; it is not read", doubtful=True
                )
            )
    names, named = _names(rows[row] if row is not None else (), first, last)
    if row is None:
        remarks.append(Remark("no header row was found; the fields are numbered", doubtful=True))
        named = []
    return Header(row, first, last, names, tuple(remarks + named))


def _header_row(rows: Sequence[Sequence[Any]], filled: Sequence[int]) -> int | None:
    """The first row as wide as those below it, all of text, none of it a number or a date."""
    for index, (row, width) in enumerate(zip(rows, filled, strict=True)):
        below = sorted(count for count in filled[index + 1 :] if count)
        typical = below[len(below) // 2] if below else width
        if not width or width < max(1.0, 0.6 * typical):
            continue
        cells = [cell for cell in row if not blank(cell)]
        named = all(isinstance(cell, str) and not _is_value(cell) for cell in cells)
        return index if named else None
    return None


def _usual_width(rows: Sequence[Sequence[Any]]) -> int:
    widths = [len(cells) for cells in rows if cells]
    return max(set(widths), key=widths.count) if widths else 0


def _is_value(cell: str) -> bool:
    return bool(_NUMERIC.fullmatch(cell) or _MOMENT.fullmatch(cell))


def _first_block(rows: Sequence[Sequence[Any]], width: int) -> tuple[int, int, str]:
    """The columns of the first table in these rows, and the letters of the column where another begins."""
    used = [any(not blank(row[column]) for row in rows if column < len(row)) for column in range(width)]
    first = used.index(True) if True in used else 0
    last = next((column for column in range(first, width) if not used[column]), width)
    other = next((column for column in range(last, width) if used[column]), None)
    return first, last, "" if other is None else column_letters(other)


def column_letters(column: int) -> str:
    """The letters by which a sheet names column number `column`, counted from 0."""
    letters = ""
    column += 1
    while column:
        column, rest = divmod(column - 1, 26)
        letters = chr(ord("A") + rest) + letters
    return letters


def _names(row: Sequence[Any], first: int, last: int) -> tuple[tuple[str, ...], list[Remark]]:
    """A name of its own for each column, blank and repeated headers repaired."""
    remarks: list[Remark] = []
    names: list[str] = []
    for column in range(first, last):
        cell = row[column] if column < len(row) else None
        wanted = " ".join(str(cell).split()) if not blank(cell) else ""
        name = wanted or f"field {column - first + 1}"
        number = 2
        while name in names:
            name, number = f"{wanted or name} {number}", number + 1
        names.append(name)
        if not wanted:
            remarks.append(Remark("its header is blank; it was given a name", field=name))
        elif name != wanted:
            remarks.append(Remark(f"another field is called “{wanted}” too; it was numbered", field=name))
    return tuple(names), remarks


def _short(text: str, most: int = 40) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"
