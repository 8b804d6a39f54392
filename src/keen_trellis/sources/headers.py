"""Finds the header of a table, of one row or two, below a title if there is one, and names every field."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import Any

import msgspec

from keen_trellis.flow.plain_text import cut
from keen_trellis.flow.remark import Remark

LOOKED_AT = 60
_NUMERIC = re.compile(r"\s*[+-]?[\d.,]*\d\s*%?")
_MOMENT = re.compile(r"\s*\d{1,4}[-./:]\d{1,2}([-./:T ].*)?")


class Header(msgspec.Struct, frozen=True):
    """row: index of the header's first row among those looked at, None where there is none.  height: its
    rows.
    """

    row: int | None
    height: int = 1

    @property
    def rows_above(self) -> int:
        """How many rows come before the first row of data."""
        return 0 if self.row is None else self.row + self.height


def blank(cell: Any) -> bool:
    """Whether a cell of a sheet or text file holds nothing."""
    return cell is None or cell == ""


def find_header(rows: Sequence[Sequence[Any]], spanned: Sequence[range] = ()) -> Header:
    """The header among the first rows of a table.

    spanned: for each row that merged cells of more than one column begin in, such a range of columns may be
    given in `spanned[row]`; it tells a header of two rows from a header above a row of text.
    """
    row = _header_row(rows)
    if row is None:
        return Header(None)
    over = spanned[row] if row < len(spanned) else range(0)
    if len(over) > 1 and row + 1 < len(rows) and _names_below(rows, row, over):
        return Header(row, 2)
    above = row - 1
    if above >= 0 and _groups_above(rows[above], rows[row]):
        return Header(above, 2)
    if _completed_below(rows, row):
        return Header(row, 2)
    return Header(row)


def _header_row(rows: Sequence[Sequence[Any]]) -> int | None:
    """The first row as wide as those below it, all of text, none of it a number or a date."""
    filled = [sum(not blank(cell) for cell in row) for row in rows]
    for index, (row, width) in enumerate(zip(rows, filled, strict=True)):
        below = sorted(count for count in filled[index + 1 :] if count)
        typical = below[len(below) // 2] if below else width
        if not width or width < max(1.0, 0.6 * typical):
            continue
        return index if all_names(row) else None
    return None


def all_names(row: Sequence[Any]) -> bool:
    """Whether all filled cells could be names of fields: text, and none of it a number or a date."""
    return all(isinstance(cell, str) and not _is_value(cell) for cell in row if not blank(cell))


def _is_value(cell: str) -> bool:
    return bool(_NUMERIC.fullmatch(cell) or _MOMENT.fullmatch(cell))


def _names_below(rows: Sequence[Sequence[Any]], row: int, over: range) -> bool:
    """Whether the row below a header with merged cells names the columns under them."""
    below = rows[row + 1]
    under = [below[column] for column in over if column < len(below)]
    return all_names(below) and len(under) > 1 and not any(map(blank, under))


def _groups_above(above: Sequence[Any], header: Sequence[Any]) -> bool:
    """Whether the row above a header groups its columns: some names, and blanks that they reach over."""
    cells = [column for column, cell in enumerate(above) if not blank(cell)]
    if len(cells) < 2 or not all_names(above):
        return False
    # A group's name stands over its first column, and every column below has a name of its own.
    return all(column < len(header) and not blank(header[column]) for column in cells)


def _completed_below(rows: Sequence[Sequence[Any]], row: int) -> bool:
    """Whether the row below fills just the gaps of the header, each beside or under the name it belongs
    to.
    """
    if row + 2 >= len(rows):
        return False
    head, below = rows[row], rows[row + 1]
    gaps = [column for column, cell in enumerate(head) if blank(cell)]
    filled = [column for column, cell in enumerate(below) if not blank(cell)]
    if not gaps or not filled or not all_names(below):
        return False
    return set(gaps) <= set(filled) <= set(gaps) | {column - 1 for column in gaps}


def field_names(
    rows: Sequence[Sequence[Any]], first: int, last: int, spans: Sequence[range] = ()
) -> tuple[tuple[str, ...], list[Remark]]:
    """A name of its own for each column from `first` to before `last`; blank and repeated headers are
    repaired.

    rows: the header's rows, none where there is no header.  spans: the columns that merged cells of the first
    of two rows reach over; without any, a name reaches over the blanks at its right.
    """
    columns = range(first, last)
    wanted = []
    for column, group in zip(columns, _groups(rows, columns, spans), strict=True):
        own = _text(rows[-1], column) if rows else ""
        wanted.append(" ".join(part for part in (group, own) if part))
    names, remarks = own_names(wanted)
    return names, remarks if rows else []


def own_names(wanted: Sequence[str]) -> tuple[tuple[str, ...], list[Remark]]:
    """A name of its own for each of some columns, of which some may want none, or that of another."""
    remarks: list[Remark] = []
    names: list[str] = []
    given = OwnNames()
    for number, own in enumerate(wanted, 1):
        name = given.give(own if own.strip() else f"field {number}")
        names.append(name)
        if not own.strip():
            remarks.append(Remark("its header is blank; it was given a name", field=name))
        elif name != own:
            remarks.append(Remark(f"another field is called “{own}” too; it was numbered", field=name))
    return tuple(names), remarks


class OwnNames:
    """Gives names of which no two are the same."""

    def __init__(self, taken: Iterable[str] = ()) -> None:
        self._taken = set(taken)
        self._next: dict[str, int] = {}  # where to go on, so that many of one name are not counted anew

    def give(self, wanted: str) -> str:
        """The name that is wanted, numbered where another field has it."""
        name, number = wanted, self._next.get(wanted, 2)
        while name in self._taken:
            name, number = f"{wanted} {number}", number + 1
        self._next[wanted] = number
        self._taken.add(name)
        return name


def _groups(rows: Sequence[Sequence[Any]], columns: range, spans: Sequence[range]) -> list[str]:
    """For each column the name of the group that it stands in, "" for none: the upper of two header rows."""
    if len(rows) < 2:
        return [""] * len(columns)
    found = [_text(rows[0], column) for column in columns]
    for span in spans:
        inside = range(max(span.start, columns.start), min(span.stop, columns.stop))
        for column in inside:
            found[column - columns.start] = _text(rows[0], span.start)
    if not spans:
        # Without merged cells a group's name reaches over the blanks at its right that have a name below.
        group = ""
        for place, column in enumerate(columns):
            group = found[place] or group
            found[place] = group if found[place] or _text(rows[-1], column) else ""
    return found


def _text(row: Sequence[Any], column: int) -> str:
    cell = row[column] if column < len(row) else None
    return " ".join(str(cell).split()) if not blank(cell) else ""


def title_remark(rows: Sequence[Sequence[Any]], header: Header) -> list[Remark]:
    """What is said of a title above the header, and of a missing header."""
    if header.row is None:
        return [Remark("no header row was found; the fields are numbered", doubtful=True)]
    title = next((str(cell) for cells in rows[: header.row] for cell in cells if not blank(cell)), "")
    if not title:
        return []
    return [Remark(f"the header is in row {header.row + 1}, below “{cut(title, 40)}”")]
