"""What the bench shows, without a painter: columns, bands, parts of bands, and their rows.

A band is one group of rows (matched, unmatched of either side). Its parts say how rows belong to it (as
written, only after preparation). Rows are named by their place in a part, from 0, and cells are gathered
for the rows that are looked at only.
"""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.blending import Keep
from keen_trellis.core.insight.reason import Kind, Mend, Reason, Way
from keen_trellis.core.join_type import JoinType, type_keeping
from keen_trellis.core.joining import MOST_RESULT_ROWS
from keen_trellis.core.match import ListedMatch, Match
from keen_trellis.core.table import Cells, Field, IndexVector, RowOrigin, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text
from keen_trellis.flow.kinds import InputShape, StepResult
from keen_trellis.flow.mending import Explained
from keen_trellis.flow.steps.join import JoinSettings
from keen_trellis.flow.wording import counted, ignoring, nothing_wrong, rows_called

BLOCK = 64
FEW = 5
FEW_OF_REASON = 3
_SEARCHED_AT_ONCE = 50_000
_SAMPLED_FOR_GROUPS = 2_000
_KEY_NAME = re.compile(r"(?:^|[\W_])(?:id|no|nr|number|code|key|year)$")

LEFT, LINK, RIGHT = "left", "link", "right"
NOTHING_FOUND = "found:0"  # the band of a blend whose rows found nothing


@dataclass(frozen=True)
class Column:
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


class _Pairs(Rows):
    """Pairs of a match: all of them, or those with certain numbers."""

    def __init__(self, match: Match, numbers: IndexVector | None) -> None:
        super().__init__(match.pairs if numbers is None else len(numbers))
        self._match, self._numbers = match, numbers

    def sides(self, places: IndexVector) -> tuple[IndexVector, IndexVector]:
        return self._match.pair_rows(places if self._numbers is None else self._numbers[places])

    def place_of(self, left: int, right: int) -> int | None:
        if left < 0 or right < 0:
            return None
        first, end = self._match.first_pair_of_left[left : left + 2]
        numbers = np.arange(first, end)
        pair = numbers[self._match.pair_rows(numbers)[1] == right]
        if not len(pair) or self._numbers is None:
            return int(pair[0]) if len(pair) else None
        place = int(np.searchsorted(self._numbers, pair[0]))
        return place if place < self.count and int(self._numbers[place]) == pair[0] else None


class _PairsOfRows(Rows):
    """All pairs of some left rows, which are not listed. until: how many pairs there are up to each row."""

    def __init__(self, match: Match, rows: IndexVector, until: IndexVector) -> None:
        super().__init__(int(until[-1]) if len(until) else 0)
        self._match, self._rows, self._until = match, rows, until

    def sides(self, places: IndexVector) -> tuple[IndexVector, IndexVector]:
        which = np.searchsorted(self._until, places, side="right")
        before = np.where(which > 0, self._until[which - 1], 0)
        first = self._match.first_pair_of_left[self._rows[which]]
        return self._match.pair_rows(first + places - before)

    def place_of(self, left: int, right: int) -> int | None:
        which = int(np.searchsorted(self._rows, left))
        if left < 0 or right < 0 or which == len(self._rows) or self._rows[which] != left:
            return None
        first, end = self._match.first_pair_of_left[left : left + 2]
        pair = np.flatnonzero(self._match.pair_rows(np.arange(first, end))[1] == right)
        before = int(self._until[which - 1]) if which else 0
        return before + int(pair[0]) if len(pair) else None


@dataclass
class Part:
    """Rows of a band that belong to it in one way. `text` is "" where the band has only one part."""

    key: str
    text: str
    rows: Rows
    order: IndexVector | None = None  # places in sorted order
    reason: Reason | None = None
    starts_closed: bool = False

    @property
    def mends(self) -> tuple[Mend, ...]:
        """What would mend its reason, the best first."""
        return self.reason.mends if self.reason is not None else ()

    def sides(self, places: IndexVector) -> tuple[IndexVector, IndexVector]:
        """The left and right rows at these places of the part as it is sorted now."""
        return self.rows.sides(places if self.order is None else self.order[places])


@dataclass(frozen=True)
class Destination:
    """Where a band's rows go, as a choice: the words, and the join type or way to keep rows of it."""

    text: str
    goes: JoinType | Keep


@dataclass
class Band:
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
            self._grouped[column] = looks_like_amounts(self._table_of(column), column.field)
        return self._grouped[column]

    def _table_of(self, column: Column) -> Table:
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
        """Where the rows of a band can go, as the join types that this makes."""
        return destinations(self, band, current)

    def destination_text(self, band: Band, current: JoinType) -> str:
        """Where the rows of a band go now."""
        return destination_text(self, band, current)

    def origins(self, part: Part, place: int) -> tuple[RowOrigin, ...]:
        """Where the row at one place stands in its sources."""
        left, right = self.row_sides(part, place)
        found = self.left.origins(left) if left >= 0 else ()
        return found + (self.right.origins(right) if right >= 0 and self.right is not None else ())


VALUE, BLANK, ABSENT, FILLED = "value", "blank", "absent", "filled"


@dataclass(frozen=True)
class Cell:
    """A cell as it is shown. state: value, blank, absent (no partner) or filled (by a fill step).

    other: the right link value.
    """

    text: str
    state: str
    other: Cell | None = None


def shown_cells(cells: Cells, *, grouped: bool = False) -> list[Cell]:
    """Cells as they are shown; grouped: the digits of numbers stand in groups of three."""
    texts = as_text(cells.values).to_pylist()
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


def knot_content(
    settings: JoinSettings,
    shapes: Sequence[InputShape],
    left: Table,
    right: Table,
    result: StepResult,
    explained: Explained | None = None,
) -> Content:
    """The bands of a knot: unmatched left, matched, unmatched right. explained: divides them by reasons."""
    match = result.match
    assert match is not None, "a knot's result has a match"
    names = (shapes[0].name, shapes[1].name)
    links = tuple((entry.left, entry.right) for entry in settings.links if entry.link.is_plain)
    counts = match.counts
    one_right = rows_called(names[1])[0]
    bands = [
        Band(
            "unmatched_left",
            f"Unmatched {names[0]} · {counts.left_unmatched:,} {_rows_word(counts.left_unmatched)}",
            _unmatched_parts("left", match.left_unmatched_rows, explained, names[1]),
            effect=f"found no {one_right}",
        ),
        Band(
            "matched",
            f"Matched · {counted(counts.left_matched, names[0])} with "
            f"{counted(counts.right_matched, names[1])} in {counts.pairs:,} "
            f"{'pair' if counts.pairs == 1 else 'pairs'}",
            _matched_parts(match, settings, explained),
            effect=_nothing_wrong(explained, names),
        ),
        Band(
            "unmatched_right",
            f"Unmatched {names[1]} · {counts.right_unmatched:,} {_rows_word(counts.right_unmatched)}",
            _unmatched_parts("right", match.right_unmatched_rows, explained, names[0]),
            effect=f"found no {rows_called(names[0])[0]}",
        ),
    ]
    passed = [
        (_PASSED[0], names[0], match.left_passed_over_rows, True),
        (_PASSED[1], names[1], match.right_passed_over_rows, False),
    ]
    for key, name, rows, on_left in passed:
        if len(rows):
            title = f"Passed over · {counted(len(rows), name)} with a match"
            part = Part(key, "", OneSide(len(rows), rows, on_left=on_left))
            bands.insert(-1, Band(key, title, [part], effect="another row was taken"))
    return Content(_knot_columns(settings, shapes), bands, left, right, match, names, links)


def _nothing_wrong(explained: Explained | None, names: tuple[str, str]) -> str:
    """That nothing is wrong, where that is so."""
    kinds = [entry.kind for entry in explained.reasons] if explained is not None else []
    return nothing_wrong(*names) if Kind.NOTHING_WRONG in kinds else ""


_SIGNS = {"<>": "≠", "<=": "≤", ">=": "≥"}
# The bands of rows that match and are in no pair, and the bands whose destination they share.
_PASSED = ("passed_left", "passed_right")
_UNMATCHED_OF_SIDE = {_PASSED[0]: "unmatched_left", _PASSED[1]: "unmatched_right"}


def _rows_word(count: int) -> str:
    return "row" if count == 1 else "rows"


def _unmatched_parts(
    side: str, rows: IndexVector, explained: Explained | None, other_name: str
) -> list[Part]:
    """The rows of one side by the reason why they have no partner in the table called `other_name`."""
    key, on_left = f"unmatched_{side}", side == "left"
    told = [
        entry
        for entry in (explained.reasons if explained else ())
        if entry.side == side and not entry.kind.multiplies and entry.kind is not Kind.NOTHING_WRONG
    ]
    if not told:
        return [Part(key, "", OneSide(len(rows), rows, on_left=on_left))]
    return [
        Part(
            f"{key}:{entry.kind.value}:{entry.said}",
            _reason_text(entry, other_name),
            OneSide(entry.rows, entry.row_numbers, on_left=on_left),
            reason=entry,
            starts_closed=number > 0,
        )
        for number, entry in enumerate(told)
    ]


def _reason_text(reason: Reason, other_name: str = "") -> str:
    """A reason as the head of its rows, with an example."""
    said = reason.said
    if reason.kind is Kind.ABSENT and other_name:
        said = f"really absent from {other_name}" if len(reason.examples) else said
    rows = f"{reason.rows:,} {_rows_word(reason.rows)}"
    if reason.values and reason.values != reason.rows:
        rows = f"{rows}, {reason.values:,} {'value' if reason.values == 1 else 'values'}"
    example = reason.examples[0] if reason.examples else None
    shown = f", as “{example.value}”" if example and example.other else ""
    if reason.kind is Kind.NOTHING_ALIKE:
        return f"{rows}: {said}"
    cluster = "".join(f"; {entry.rows:,} with {entry.field} {entry.value}" for entry in reason.clusters[:1])
    return f"{rows}: {said}{shown}{cluster}"


def mend_text(mend: Mend) -> str:
    """A mend as what a click or Enter does."""
    said = mend.said[:1].upper() + mend.said[1:]
    if mend.way.takes_away:
        return f"{said}, {mend.gain:,} {_rows_word(mend.gain)} fewer"
    if mend.way in (Way.ACCEPT, Way.FILL):
        return said
    gains = f"{said}, {'up to ' if mend.way is Way.REVIEW else 'gains '}{mend.gain:,}"
    if mend.merged:
        keys = "1 key" if mend.merged == 1 else f"{mend.merged:,} keys"
        return f"{gains}, but {keys} can no longer be told apart"
    return gains


def _matched_parts(match: Match, settings: JoinSettings, explained: Explained | None) -> list[Part]:
    counts = match.counts
    parts = _matched_by_mend(match, settings, explained)
    told = zip(explained.reasons, explained.pairs_until, strict=True) if explained else ()
    for entry, until in told:
        if until is not None:
            rows = _PairsOfRows(match, entry.row_numbers, until)
            parts.insert(
                0, Part(entry.kind.value, _reason_text(entry), rows, reason=entry, starts_closed=True)
            )
            if len(parts) == 2 and not parts[1].text:
                parts[1].text = f"all {counts.pairs:,} pairs"
    return parts


def _matched_by_mend(match: Match, settings: JoinSettings, explained: Explained | None) -> list[Part]:
    """The pairs as written, and those that match only after mending, by mend."""
    counts = match.counts
    if isinstance(match, ListedMatch) and counts.pairs > MOST_RESULT_ROWS:
        return [
            Part(
                "matched",
                f"{counts.pairs:,} pairs are too many to be listed",
                OneSide(0, None, on_left=True),
            )
        ]
    prepared = [entry.link.preparation for entry in settings.links if entry.link.preparation]
    if not prepared:
        return [Part("matched", "", _Pairs(match, None))]
    only_prepared = counts.pairs - counts.pairs_as_written
    said = ignoring(prepared[0]) if len(set(prepared)) == 1 else "their preparation"
    if not only_prepared:
        return [Part("as_written", f"all {counts.pairs:,} pairs as written", _Pairs(match, None))]
    prepared_parts = [
        Part(
            "prepared",
            f"{only_prepared:,} {'pair matches' if only_prepared == 1 else 'pairs match'} only after {said}",
            _Pairs(match, match.pair_numbers_only_prepared),
        )
    ]
    if explained is not None and explained.mended:
        prepared_parts = [
            Part(
                f"prepared:{entry.said}",
                f"{len(entry.numbers):,} {'pair matches' if len(entry.numbers) == 1 else 'pairs match'} only "
                f"by {entry.said}",
                _Pairs(match, entry.numbers),
                starts_closed=number > 0,
            )
            for number, entry in enumerate(explained.mended)
        ]
    return [
        *prepared_parts,
        Part(
            "as_written",
            f"{counts.pairs_as_written:,} as written",
            _Pairs(match, match.pair_numbers_as_written),
        ),
    ]


def _knot_columns(settings: JoinSettings, shapes: Sequence[InputShape]) -> list[Column]:
    """Left fields, the link fields in the middle, and the right fields that are brought."""
    left = {entry.name: entry for entry in shapes[0].fields}
    right = {entry.name: entry for entry in shapes[1].fields}
    linked_left = {entry.left for entry in settings.links if entry.link.is_plain}
    linked_right = {entry.right for entry in settings.links if entry.link.is_plain}
    kept = [left[name] for name in settings.keep or left if name in left and name not in linked_left]
    chosen = right if settings.bring is None else settings.bring
    brought = [right[name] for name in chosen if name in right and name not in linked_right]
    plain = [entry for entry in settings.links if entry.link.is_plain]
    links = [
        Column(LINK, left[entry.left], right[entry.right], _SIGNS.get(entry.operator, entry.operator))
        for entry in plain
    ]
    return [Column(LEFT, entry) for entry in kept] + links + [Column(RIGHT, entry) for entry in brought]


def destinations(content: Content, band: Band, current: JoinType) -> list[Destination]:
    """Where the rows of a band can go, as the join types that this makes."""
    keeps = {
        "unmatched_left": current.keeps_unmatched_left,
        "matched": current.keeps_matched,
        "unmatched_right": current.keeps_unmatched_right,
    }

    key = _UNMATCHED_OF_SIDE.get(band.key, band.key)

    def changed(kept: bool) -> JoinType | None:
        now = {**keeps, key: kept}
        if band.key in _PASSED and kept:
            now["matched"] = True  # only beside pairs are they kept
        if now == keeps and band.key != "matched":
            return current
        return type_keeping(
            unmatched_left=now["unmatched_left"],
            matched=now["matched"],
            unmatched_right=now["unmatched_right"],
        )

    found = []
    stay, leave = changed(True), changed(False)
    if band.key == "matched":
        if stay is not None:
            found.append(Destination("every pair", stay))
        found.append(Destination(f"each {rows_called(content.names[0])[0]} once", JoinType.LEFT_SEMI))
        found.append(Destination(f"each {rows_called(content.names[1])[0]} once", JoinType.RIGHT_SEMI))
    elif stay is not None:
        found.append(Destination("stay in the result", stay))
    if leave is not None:
        found.append(Destination("left out", leave))
    return found


def destination_text(content: Content, band: Band, current: JoinType) -> str:
    """Where the rows of a band go now."""
    if band.key == "matched":
        if current is JoinType.LEFT_SEMI:
            return f"each {rows_called(content.names[0])[0]} once"
        if current is JoinType.RIGHT_SEMI:
            return f"each {rows_called(content.names[1])[0]} once"
        return "every pair" if current.keeps_pairs else "left out"
    left = _UNMATCHED_OF_SIDE.get(band.key, band.key) == "unmatched_left"
    keeps = current.keeps_unmatched_left if left else current.keeps_unmatched_right
    if band.key in _PASSED:
        keeps = keeps and current.keeps_pairs
    return "stay in the result" if keeps else "left out"
