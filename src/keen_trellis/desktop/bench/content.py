"""What the bench shows, without a painter: columns, bands, parts of bands, and their rows.

A band is one group of rows (matched, unmatched of either side). Its parts say how rows belong to it (as
written, only after preparation). Rows are named by their place in a part, from 0, and cells are gathered
for the rows that are looked at only.
"""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.blending import Keep
from keen_trellis.core.insight.reason import Mend, Reason
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.match import Match
from keen_trellis.core.table import Cells, Field, IndexVector, RowOrigin, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text, shown_text

BLOCK = 64
FEW = 5
FEW_OF_REASON = 3
_SEARCHED_AT_ONCE = 50_000
_SAMPLED_FOR_GROUPS = 2_000
_KEY_NAME = re.compile(r"(?:^|[\W_])(?:id|no|nr|number|code|key|year)$")

LEFT, LINK, RIGHT = "left", "link", "right"
NOTHING_FOUND = "found:0"  # the band of a blend whose rows found nothing


class Column(msgspec.Struct, frozen=True):
    """One column of the bench. For a link column `field` is the left one, `other` the right one, and `sign`
    says how they compare.
    """

    zone: str
    field: Field
    other: Field | None = None
    sign: str = "="

    @property
    def is_number(self) -> bool:
        return self.field.type.is_number


class Rows(ABC):
    """The rows of one part of a band: a left row and a right row each, -1 for none."""

    def __init__(self, count: int) -> None:
        self.count = count

    @abstractmethod
    def sides(self, places: IndexVector) -> tuple[IndexVector, IndexVector]:
        """The left and right rows at these places."""

    def place_of(self, left: int, right: int) -> int | None:
        """Where the row of a left and a right row, -1 for none, stands before sorting; None if it is not
        here.
        """
        return None


class OneSide(Rows):
    """Rows of one table: all of them, or those of an index vector."""

    def __init__(self, count: int, chosen: IndexVector | None, *, on_left: bool) -> None:
        super().__init__(count)
        self._chosen, self._on_left = chosen, on_left

    def sides(self, places: IndexVector) -> tuple[IndexVector, IndexVector]:
        rows = places if self._chosen is None else self._chosen[places]
        none = np.full(len(places), -1)
        return (rows, none) if self._on_left else (none, rows)

    def place_of(self, left: int, right: int) -> int | None:
        row, other = (left, right) if self._on_left else (right, left)
        if row < 0 or other >= 0:
            return None
        place = row if self._chosen is None else int(np.searchsorted(self._chosen, row))
        found = place < self.count and (self._chosen is None or int(self._chosen[place]) == row)
        return place if found else None


class Part(msgspec.Struct):
    """Rows of a band that belong to it in one way. `text` is "" where the band has only one part.

    signs: how the fields of each link compare here, if not as at the head of its column.
    """

    key: str
    text: str
    rows: Rows
    order: IndexVector | None = None  # places in sorted order
    reason: Reason | None = None
    starts_closed: bool = False
    signs: Mapping[tuple[str, str], str] | None = None

    def sign_of(self, column: Column) -> str:
        """How the fields of a link column compare in these rows, "" if they do not."""
        if self.signs is None or column.other is None:
            return column.sign
        return self.signs.get((column.field.name, column.other.name), "")

    @property
    def mends(self) -> tuple[Mend, ...]:
        """What would mend its reason, the best first."""
        return self.reason.mends if self.reason is not None else ()

    def sides(self, places: IndexVector) -> tuple[IndexVector, IndexVector]:
        """The left and right rows at these places of the part as it is sorted now."""
        return self.rows.sides(places if self.order is None else self.order[places])


class Destination(msgspec.Struct, frozen=True):
    """Where a band's rows go, as a choice: the words, and the join type or way to keep rows of it."""

    text: str
    goes: JoinType | Keep


class Band(msgspec.Struct):
    """One group of rows. Without `text` the band has no head: the only band of a step that is no knot."""

    key: str
    text: str
    parts: list[Part]
    effect: str = ""

    @property
    def count(self) -> int:
        return sum(part.rows.count for part in self.parts)


@dataclass
class Content:
    """Everything that the bench can show for one step."""

    columns: list[Column]
    bands: list[Band]
    left: Table
    right: Table | None = None
    match: Match | None = None
    names: tuple[str, str] = ("", "")
    links: tuple[tuple[str, str], ...] = ()
    sorted_by: tuple[int, bool] | None = None  # column number, descending
    titles: dict[str, tuple[str, str]] = field(
        default_factory=dict
    )  # by zone: a name, and what is said of it
    warnings: dict[str, float] = field(default_factory=dict)  # by field: how often adding it up counts it
    _cells: Any = field(default=None, repr=False)
    _grouped: dict[Column, bool] = field(default_factory=dict, repr=False)

    @property
    def is_knot(self) -> bool:
        return self.match is not None

    @property
    def zones(self) -> tuple[str, ...]:
        """The zones of its columns, from left to right."""
        return (LEFT, LINK, RIGHT) if self.is_knot else (LEFT,)

    @property
    def parts(self) -> list[Part]:
        return [part for band in self.bands for part in band.parts]

    # --- cells ---

    def cells(self, part: Part, block: int) -> list[list[Cell]]:
        """The cells of one block of rows, a list for each column of the bench."""
        if self._cells is None:
            self._cells = lru_cache(maxsize=256)(self._gathered)
        result: list[list[Cell]] = self._cells(part.key, block)
        return result

    def forget_cells(self) -> None:
        """Gather cells anew, because rows have another order now."""
        self._cells = None

    def _gathered(self, key: str, block: int) -> list[list[Cell]]:
        part = next(part for part in self.parts if part.key == key)
        places = np.arange(block * BLOCK, min((block + 1) * BLOCK, part.rows.count))
        left, right = part.sides(places)
        return [self._column_cells(column, left, right) for column in self.columns]

    def _column_cells(self, column: Column, left: IndexVector, right: IndexVector) -> list[Cell]:
        if column.zone == LINK and column.other is not None and self.right is not None:
            ours = shown_cells(self.left.take(left, [column.field.name])[0])
            theirs = shown_cells(self.right.take(right, [column.other.name])[0])
            return [Cell(one.text, one.state, other) for one, other in zip(ours, theirs, strict=True)]
        return shown_cells(self._side(column, left, right), grouped=self._is_grouped(column))

    def _is_grouped(self, column: Column) -> bool:
        if column not in self._grouped:
            self._grouped[column] = looks_like_amounts(self.table_of(column), column.field)
        return self._grouped[column]

    def table_of(self, column: Column) -> Table:
        """The table that a column is of; of a link column the left one."""
        return self.right if column.zone == RIGHT and self.right is not None else self.left

    def _side(self, column: Column, left: IndexVector, right: IndexVector) -> Cells:
        if column.zone == RIGHT and self.right is not None:
            return self.right.take(right, [column.field.name])[0]
        return self.left.take(left, [column.field.name])[0]

    # --- sorting and finding; both may take long and run off the interface's thread ---

    def orders(self, column: Column, *, descending: bool, task: Task) -> dict[str, IndexVector]:
        """For each part its places sorted by one column; blanks last, ties as they stood."""
        found: dict[str, IndexVector] = {}
        for part in self.parts:
            task.checkpoint(len(found), len(self.parts), f"sorting by {column.field.name}")
            left, right = part.rows.sides(np.arange(part.rows.count))
            values = self._side(column, left, right).values
            if column.other is not None and self.right is not None and part.rows.count and (left < 0).all():
                values = self.right.take(right, [column.other.name])[0].values
            found[part.key] = _sorted_places(values, descending=descending)
        return found

    def find(
        self, text: str, start: tuple[int, int], task: Task, *, backwards: bool = False
    ) -> tuple[int, int] | None:
        """The next row after `start` (part number, place) with `text` in a cell, going round; None if none.

        Case is not looked at. The row at `start` itself comes last.
        """
        parts = self.parts
        total = sum(part.rows.count for part in parts)
        searched = 0
        for number, low, high in _stretches(parts, start, backwards=backwards):
            task.checkpoint(searched, total, f"looking for “{text}”")
            hits = self._hits(parts[number], low, high, text)
            if len(hits):
                return number, int(hits[-1] if backwards else hits[0])
            searched += high - low
        return None

    def _hits(self, part: Part, low: int, high: int, text: str) -> IndexVector:
        left, right = part.sides(np.arange(low, high))
        found = np.zeros(high - low, dtype=bool)
        for column in self.columns:
            sides = [self._side(column, left, right)]
            if column.other is not None and self.right is not None:
                sides.append(self.right.take(right, [column.other.name])[0])
            for cells in sides:
                hit = pc.match_substring(as_text(cells.values), text, ignore_case=True)
                found |= hit.fill_null(False).to_numpy(zero_copy_only=False)
        return np.flatnonzero(found) + low

    # --- one row ---

    def row_sides(self, part: Part, place: int) -> tuple[int, int]:
        """The left and right row at one place, -1 for none."""
        left, right = part.sides(np.array([place]))
        return int(left[0]), int(right[0])

    def cell_at(self, part: Part, place: int, number: int) -> tuple[Table, str, Cells]:
        """The one cell at a place in column `number`, with its table and its field's name there; of a link
        column that of the side that has the row.
        """
        left, right = part.sides(np.array([place]))
        column = self.columns[number]
        if column.other is not None and self.right is not None and left[0] < 0:
            return self.right, column.other.name, self.right.take(right, [column.other.name])[0]
        return self.table_of(column), column.field.name, self._side(column, left, right)

    def is_absent(self, zone: str, left: int, right: int) -> bool:
        """Whether a zone has nothing to show of a row."""
        return (zone == LEFT and left < 0) or (zone == RIGHT and right < 0)

    def row_number(self, left: int, right: int) -> int:
        """The number of a row in its table, from 0."""
        return left if left >= 0 else right

    def result_row(self, left: int, right: int) -> tuple[str, int] | None:
        """The port of the step, and the row there, that a row is; None where it is told by its sides."""
        return None

    def entries(self, left: int, right: int) -> list[tuple[Table, int, str]]:
        """The rows that one line shows, where more than a left and a right one are shown."""
        return []

    def destinations(self, band: Band, current: JoinType) -> list[Destination]:
        """Where the rows of a band can go."""
        return []

    def destination_text(self, band: Band, current: JoinType) -> str:
        """Where the rows of a band go now."""
        return ""

    def origins(self, part: Part, place: int) -> tuple[RowOrigin, ...]:
        """Where the row at one place stands in its sources."""
        left, right = self.row_sides(part, place)
        found = self.left.origins(left) if left >= 0 else ()
        return found + (self.right.origins(right) if right >= 0 and self.right is not None else ())


VALUE, BLANK, ABSENT, FILLED = "value", "blank", "absent", "filled"


class Cell(msgspec.Struct, frozen=True):
    """A cell as it is shown. state: value, blank, absent (no partner) or filled (by a fill step).

    other: the right link value.
    """

    text: str
    state: str
    other: Cell | None = None


def shown_cells(cells: Cells, *, grouped: bool = False) -> list[Cell]:
    """Cells as they are shown; grouped: the digits of numbers stand in groups of three."""
    texts = shown_text(cells.values).to_pylist()
    absent, filled = (
        mask if mask is not None else [False] * len(texts) for mask in (cells.absent, cells.filled)
    )
    return [
        Cell("", ABSENT)
        if gone
        else Cell("", BLANK)
        if text is None
        else Cell(_grouped(text) if grouped else text, FILLED if was_gap else VALUE)
        for text, gone, was_gap in zip(texts, absent, filled, strict=True)
    ]


def _grouped(text: str) -> str:
    """The digits before the point in groups of three."""
    whole, dot, fraction = text.partition(".")
    sign, digits = ("-", whole[1:]) if whole.startswith("-") else ("", whole)
    return f"{sign}{int(digits):,}{dot}{fraction}" if digits.isdigit() else text


def looks_like_amounts(table: Table, field: Field) -> bool:
    """Whether a field's numbers are read more easily in groups: not if they are keys or may be years."""
    if field.type not in (FieldType.INTEGER, FieldType.DECIMAL) or _KEY_NAME.search(field.name.lower()):
        return False
    values = table.take(range(min(table.rows, _SAMPLED_FOR_GROUPS)), [field.name])[0].values
    bounds = pc.min_max(values)
    least, greatest = bounds["min"].as_py(), bounds["max"].as_py()
    return greatest is not None and not (least >= 1000 and greatest < 3000)


def _sorted_places(values: pa.Array, *, descending: bool) -> IndexVector:
    """Places in order of their values, blanks last, equal values as they stood."""
    if values.type == pa.bool_():
        values = values.cast(pa.int8())
    order = "descending" if descending else "ascending"
    return np.asarray(pc.array_sort_indices(values, order=order, null_placement="at_end"), dtype=np.int64)


def _stretches(
    parts: Sequence[Part], start: tuple[int, int], *, backwards: bool
) -> list[tuple[int, int, int]]:
    """All rows once as (part number, first place, end), beginning after `start` and going round."""
    number, place = start
    count = len(parts)
    stretches: list[tuple[int, int, int]] = []
    for step in range(count + 1):
        current = (number - step if backwards else number + step) % count if count else 0
        if not count:
            break
        low, high = 0, parts[current].rows.count
        if step == 0:
            low, high = (0, min(place, high)) if backwards else (min(place + 1, high), high)
        elif step == count:
            low, high = (min(place, high), high) if backwards else (0, min(place + 1, high))
        blocks = [
            (current, at, min(at + _SEARCHED_AT_ONCE, high)) for at in range(low, high, _SEARCHED_AT_ONCE)
        ]
        stretches += reversed(blocks) if backwards else blocks
    return stretches


# --- making content ---


def table_content(table: Table) -> Content:
    """The rows of any step that is no knot."""
    columns = [Column(LEFT, entry) for entry in table.fields]
    rows = Part("rows", "", OneSide(table.rows, None, on_left=True))
    return Content(columns, [Band("rows", "", [rows])], table)


def chosen_rows_content(table: Table, rows: IndexVector) -> Content:
    """Some rows of a table."""
    columns = [Column(LEFT, entry) for entry in table.fields]
    part = Part("rows", "", OneSide(len(rows), rows, on_left=True))
    return Content(columns, [Band("rows", "", [part])], table)
