"""A match and a join type to a joined table, whose cells are gathered only when looked at."""

from __future__ import annotations

import enum
from collections.abc import Callable, Iterable, Sequence
from functools import cached_property, partial
from typing import TypeVar

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.comparing import as_comparable
from keen_trellis.core.errors import DataError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import LinkField
from keen_trellis.core.match import Match
from keen_trellis.core.ordering import distinct_numbers
from keen_trellis.core.ragged import laid_out, running_total
from keen_trellis.core.table import (
    BATCH_ROWS,
    Cells,
    Field,
    Gathered,
    IndexVector,
    Mask,
    RowOrigin,
    Rows,
    Table,
    find_field,
    holding_both,
    row_numbers,
    taken,
)
from keen_trellis.core.values import ARROW_TYPES, FieldType, held_as

MOST_RESULT_ROWS = 50_000_000
MOST_FIELDS = 10_000

_SIDES = ("left", "right", "both")


def check_rows(what: str, rows: int, remedy: str, *, given: int = 0) -> None:
    """DataError where something would have more rows than there is room for. given: the rows that it is made
    of: with no more than these it is not too large.
    """
    most = max(MOST_RESULT_ROWS, given)
    if rows > most:
        raise DataError(f"{what} would have {rows:,} rows; the limit is {most:,}.", remedy=remedy)


class Side(enum.Enum):
    """Which table a field of the result is read from."""

    LEFT = "left"
    RIGHT = "right"
    EITHER = "either"  # a link field: the left value, or the right one where the left has no row
    LEFT_FIRST = "left first"  # merged: the left value, or the right one where that is blank
    RIGHT_FIRST = "right first"  # merged: the right value, or the left one where that is blank

    BOTH = "both"  # whether both sides have a row
    WHICH = "which"  # which table has the row, or that both have
    RUNG = "rung"  # by which rung of a ladder the left row was found
    SCORE = "score"  # how alike or how far apart the pair is

    @property
    def merges(self) -> bool:
        return self in (Side.LEFT_FIRST, Side.RIGHT_FIRST)


class JoinedField(msgspec.Struct, frozen=True):
    """One field of a joined table and the fields it is read from ("" on a side it is not read from).

    said: what stands in rows of the left, of the right, and of both, where the field only says which it is.
    """

    field: Field
    side: Side
    left: str = ""
    right: str = ""
    said: tuple[str, ...] = ()


class FieldChoice(msgspec.Struct, frozen=True):
    """Which fields come along, and how they are called.

    keep, bring: names of left and right fields in the order wanted; None is all of them.
    both_links: link fields stay on both sides instead of standing once.
    name_all: every brought field carries its table's name, not only one whose name both sides have.
    merge: fields of the same name that become one, each with the side whose value comes first.
    partner_found: a field of the result says of each row whether it has a partner; in a full anti join, where
    none has, which side it is of.  side: a field says whether it is of the left, the right or both.
    rungs: what is said of the rungs of a ladder in a field of pairs; none for no such field.  score: a field
    says of pairs how alike or how far apart they are.
    """

    keep: tuple[str, ...] | None = None
    bring: tuple[str, ...] | None = None
    both_links: bool = False
    name_all: bool = False
    merge: tuple[tuple[str, Side], ...] = ()
    partner_found: bool = False
    side: bool = False
    rungs: tuple[str, ...] = ()
    score: bool = False


def plan_fields(
    left: Sequence[Field],
    right: Sequence[Field],
    links: Sequence[LinkField],
    join_type: JoinType,
    choice: FieldChoice,
    right_name: str,
    *,
    left_name: str = "",
    any_of: bool = False,
) -> tuple[JoinedField, ...]:
    """The fields that the join will have, without looking at a row. UsageError for an unknown field."""
    kept = _chosen(left, choice.keep, left_name) if join_type.has_left_fields else []
    brought = _chosen(right, choice.bring, right_name) if join_type.has_right_fields else []
    once = not choice.both_links and not any_of and join_type.has_right_fields
    merged = _links_that_appear_once(kept, right, links) if once else {}
    shown_once = {entry.right for entry in merged.values()} if choice.bring is None else set()
    in_one = _merged_fields(kept, brought, right_name, choice) if kept and brought else {}
    of_both = merged | in_one
    plan = [of_both.get(field.name) or JoinedField(field, Side.LEFT, left=field.name) for field in kept]
    taken = {entry.field.name for entry in plan}
    for field in brought:
        if field.name in shown_once or field.name in in_one:
            continue
        name = field.name
        if name in taken or (choice.name_all and kept):
            name = _free_name(f"{field.name} of {right_name}", taken)
        taken.add(name)
        named = field if name == field.name else msgspec.structs.replace(field, name=name)
        plan.append(JoinedField(named, Side.RIGHT, right=field.name))
    if len(plan) > MOST_FIELDS:
        raise DataError(
            f"The join would have {len(plan):,} fields; the limit is {MOST_FIELDS:,}.",
            remedy="Choose which fields come along.",
        )
    by_name = choice.partner_found and join_type is JoinType.FULL_ANTI
    if choice.partner_found and not by_name:
        plan.append(JoinedField(Field(_free_name("partner found", taken), pa.bool_()), Side.BOTH))
    for wanted, said in ((by_name, (left_name or "left", right_name)), (choice.side, _SIDES)):
        if wanted:
            field = Field(_free_name("side", taken), ARROW_TYPES[FieldType.TEXT])
            taken.add(field.name)
            plan.append(JoinedField(field, Side.WHICH, said=said))
    if join_type.keeps_pairs:
        of_pairs = (
            (choice.rungs, "matched by", FieldType.TEXT, Side.RUNG),
            (choice.score, "likeness", FieldType.REAL, Side.SCORE),
        )
        for is_wanted, name, kind, asked in of_pairs:
            if is_wanted:
                field = Field(_free_name(name, taken), ARROW_TYPES[kind])
                taken.add(field.name)
                plan.append(JoinedField(field, asked, said=choice.rungs if asked is Side.RUNG else ()))
    return tuple(plan)


def _merged_fields(
    kept: Sequence[Field], brought: Sequence[Field], right_name: str, choice: FieldChoice
) -> dict[str, JoinedField]:
    """The fields that both sides have and that become one, by name."""
    made = {}
    for name, side in choice.merge:
        field = find_field(kept, name, "the fields kept of the left table")
        other = find_field(brought, name, f"the fields brought from {right_name}")
        both = holding_both(field, other)
        if both is None:
            raise DataError(
                f"{name} is {field.type.value} on the left and {other.type.value} on the right: "
                "they cannot be one field.",
                remedy="Keep both, or give both one type in their sources.",
            )
        made[name] = JoinedField(both, side, name, name)
    return made


def disagreements(left: Table, right: Table, match: Match, name: str) -> int:
    """In how many pairs both sides have a value in the field `name`, and another one."""
    count = 0
    first, second = match.all_pairs()
    for start in range(0, len(first), BATCH_ROWS):
        rows = slice(start, start + BATCH_ROWS)
        one = left.take(first[rows], [name])[0].values
        other = right.take(second[rows], [name])[0].values
        if one.null_count == len(one) or other.null_count == len(other):
            continue  # nothing to disagree about, and perhaps no type yet
        values = as_comparable(one, other)
        filled = pc.and_(one.is_valid(), other.is_valid()).to_numpy(zero_copy_only=False)
        count += int(np.count_nonzero((values[0] != values[1]) & filled))
    return count


def _chosen(fields: Sequence[Field], names: Iterable[str] | None, table: str) -> list[Field]:
    """The fields with these names, said to come from `table` unless an earlier join said from where."""
    found = fields if names is None else [find_field(fields, name) for name in dict.fromkeys(names)]
    return [field if field.table else msgspec.structs.replace(field, table=table) for field in found]


def _links_that_appear_once(
    kept: Sequence[Field], right: Sequence[Field], links: Sequence[LinkField]
) -> dict[str, JoinedField]:
    """The kept link fields that can stand for both sides, by name."""
    by_name = {field.name: field for field in kept}
    merged: dict[str, JoinedField] = {}
    for link in links:
        field = by_name.get(link.left)
        if field is None or link.left in merged or not link.is_plain_equality:
            continue
        other = find_field(right, link.right)
        both = holding_both(field, other)
        if both is not None:
            merged[link.left] = JoinedField(both, Side.EITHER, field.name, other.name)
    return merged


def _free_name(wanted: str, taken: set[str]) -> str:
    name, number = wanted, 2
    while name in taken:
        name, number = f"{wanted} {number}", number + 1
    return name


Told = TypeVar("Told")
_Asked = tuple[Table, IndexVector, Sequence[str]]  # of a side: its rows, -1 for none, and its fields


class JoinedTable(Table):
    """The rows of one join type of a match. Row order: left order, then what only the right has.

    Row numbers become rows of both sides by arithmetic on the match; whole index vectors are built
    only when a later step asks for all rows.
    """

    def __init__(
        self,
        left: Table,
        right: Table,
        match: Match,
        join_type: JoinType,
        plan: Sequence[JoinedField],
    ) -> None:
        self.rows = match.counts.rows_under(join_type)
        remedy = "Link by a further field, or keep one row a key on one side."
        check_rows(f"The {join_type.trade_name}", self.rows, remedy, given=left.rows + right.rows)
        self._left, self._right, self._match, self._type = left, right, match, join_type
        self._plan = {entry.field.name: entry for entry in plan}
        self.fields = tuple(entry.field for entry in plan)

    def take(self, rows: Rows | None, names: Sequence[str]) -> list[Cells]:
        entries = [self._plan[self.field(name).name] for name in names]
        left_rows, right_rows = self.all_pairs if rows is None else self.rows_of_sides(rows)
        has_left = left_rows >= 0
        from_left, from_right = _of_both_sides(
            (self._left, left_rows, [entry.left for entry in entries]),
            (self._right, right_rows, _read_on_the_right(entries, has_left)),
            lambda table, rows, names: table.take(rows, names),
            taken,
        )
        cells = []
        for entry in entries:
            if entry.side is Side.LEFT:
                cells.append(from_left[entry.left])
            elif entry.side is Side.RIGHT:
                cells.append(from_right[entry.right])
            elif entry.side in (Side.WHICH, Side.BOTH):
                cells.append(_told_of_sides(entry, left_rows, right_rows))
            elif entry.side in (Side.RUNG, Side.SCORE):
                cells.append(_told_of_pairs(entry, self._match, left_rows, right_rows))
            elif entry.side.merges:
                sides = from_left[entry.left], from_right[entry.right]
                cells.append(_merged(*(sides if entry.side is Side.LEFT_FIRST else sides[::-1]), entry.field))
            else:
                right = from_right.get(entry.right)
                cells.append(_either(from_left[entry.left], right, has_left, entry.field))
        return cells

    def absent(self, rows: Rows, names: Sequence[str]) -> list[Mask | None]:
        entries = [self._plan[self.field(name).name] for name in names]
        left_rows, right_rows = self.rows_of_sides(rows)
        has_left = left_rows >= 0
        left, right = _of_both_sides(
            (self._left, left_rows, [entry.left for entry in entries]),
            (self._right, right_rows, _read_on_the_right(entries, has_left)),
            lambda table, rows, names: table.absent(rows, names),
            lambda mask, places: None if mask is None else mask[places],
        )
        made: list[Mask | None] = []
        for entry in entries:
            if entry.side in (Side.LEFT, Side.RIGHT):
                made.append(left[entry.left] if entry.side is Side.LEFT else right[entry.right])
            elif entry.side in (Side.BOTH, Side.WHICH):
                made.append(_told_of_sides(entry, left_rows, right_rows).absent)
            elif entry.side in (Side.RUNG, Side.SCORE):
                made.append(_told_of_pairs(entry, self._match, left_rows, right_rows).absent)
            else:
                made.append(_absent_in_either(entry.side, left[entry.left], right.get(entry.right), has_left))
        return made

    def origins(self, row: int) -> tuple[RowOrigin, ...]:
        left, right = self.rows_of_sides(np.array([row]))
        found: tuple[RowOrigin, ...] = ()
        if left[0] >= 0:
            found += self._left.origins(int(left[0]))
        if right[0] >= 0:
            found += self._right.origins(int(right[0]))
        return found

    def parents(self, row: int) -> list[tuple[Table, IndexVector]]:
        sides = zip((self._left, self._right), self.rows_of_sides(np.array([row])), strict=True)
        return [(table, rows) for table, rows in sides if rows[0] >= 0]

    def read_from(self, name: str) -> list[tuple[Table, str]]:
        entry = self._plan[self.field(name).name]
        return [(table, own) for table, own in ((self._left, entry.left), (self._right, entry.right)) if own]

    def gathered(self) -> list[Gathered]:
        return self._gathered

    @cached_property
    def _gathered(self) -> list[Gathered]:
        # Kept: where one knot after another joins a table with itself, each would ask for it twice.
        found: list[Gathered] = []
        for number, table in enumerate((self._left, self._right)):
            here = partial(self._rows_of_side, number)
            side = (Side.LEFT, Side.RIGHT)[number]
            own = {
                name: (entry.left, entry.right)[number]
                for name, entry in self._plan.items()
                if entry.side is side
            }
            further = [entry.within(own, here) for entry in table.gathered()]
            known = {name for entry in further for name in entry.names}
            rest = {name: its for name, its in own.items() if name not in known}
            found += [*further, Gathered(table, rest, here)]
        return [entry for entry in found if entry.names]

    def _rows_of_side(self, side: int, rows: Rows) -> IndexVector:
        return self.rows_of_sides(rows)[side]

    def rows_from(self, source: Table, rows: IndexVector) -> IndexVector:
        if self is source:
            return rows
        left = self._left.rows_from(source, rows)
        right = left if self._right is self._left else self._right.rows_from(source, rows)
        return distinct_numbers(np.concatenate([self._rows_of_left(left), self._rows_of_right(right)]))

    def _rows_of_left(self, left: IndexVector) -> IndexVector:
        """The rows here that some left rows are part of; it costs what these are, not what there is."""
        match, kind = self._match, self._type
        if not kind.has_left_fields or not len(left):
            return np.zeros(0, np.int64)
        if not kind.keeps_pairs:
            return _places(match.left_matched_rows if kind.keeps_matched else match.left_unmatched_rows, left)
        counts = match.partners_of_left[left].astype(np.int64)
        if not kind.keeps_unmatched_left:
            start = match.first_pair_of_left[left]
        elif self._first_row_of_left is None:
            return left
        else:
            start, counts = self._first_row_of_left[left], np.maximum(counts, 1)
        owner, nth = laid_out(counts)
        return np.asarray(start[owner] + nth)

    def _rows_of_right(self, right: IndexVector) -> IndexVector:
        """The same of right rows."""
        match, kind = self._match, self._type
        if not kind.has_right_fields or not len(right):
            return np.zeros(0, np.int64)
        if not kind.has_left_fields:
            rows = match.right_matched_rows if kind.keeps_matched else match.right_unmatched_rows
            return _places(rows, right)
        found = np.zeros(0, np.int64)
        if kind.keeps_pairs:
            numbers = self._rows_of_left(match.left_rows_of(right))
            found = numbers[np.isin(self.rows_of_sides(numbers)[1], right)]
        if kind.keeps_unmatched_right:
            lower = _places(self._lower_rows, right) + self._rows_from_left
            found = np.concatenate([found, lower])
        return found

    @cached_property
    def all_pairs(self) -> tuple[IndexVector, IndexVector]:
        """The left and right row of every row of the result, -1 for none."""
        if self._type in (JoinType.INNER, JoinType.CROSS):
            return self._match.all_pairs()
        return self.rows_of_sides(np.arange(self.rows))

    def rows_of_sides(self, rows: Rows) -> tuple[IndexVector, IndexVector]:
        """The left and right rows of the result rows `rows`, -1 for none."""
        numbers = row_numbers(rows, self.rows)
        nowhere = numbers < 0
        if nowhere.any():
            left, right = self._sides_of(np.maximum(numbers, 0)) if self.rows else (numbers, numbers)
            return np.where(nowhere, -1, left), np.where(nowhere, -1, right)
        return self._sides_of(numbers)

    def _sides_of(self, numbers: IndexVector) -> tuple[IndexVector, IndexVector]:
        match, none = self._match, np.full(len(numbers), -1, dtype=np.int32)
        if self._type is JoinType.LEFT_SEMI:
            return match.left_matched_rows[numbers], none
        if self._type is JoinType.RIGHT_SEMI:
            return none, match.right_matched_rows[numbers]
        if self._type is JoinType.LEFT_ANTI:
            return match.left_unmatched_rows[numbers], none
        if self._type is JoinType.RIGHT_ANTI:
            return none, match.right_unmatched_rows[numbers]
        upper = self._rows_from_left
        if not self._type.keeps_unmatched_right:
            return self._from_left(numbers)
        below = numbers >= upper
        left, right = none, none.copy()
        if upper:
            left, right = self._from_left(np.minimum(numbers, upper - 1))
        if below.any():
            left, right = np.where(below, -1, left), np.array(right)
            right[below] = self._lower_rows[numbers[below] - upper]
        return left, right

    @property
    def _lower_rows(self) -> IndexVector:
        """The right rows that stand below all others: those in no pair, or those that match nothing."""
        kept = self._type.keeps_pairs
        return self._match.right_unpaired_rows if kept else self._match.right_unmatched_rows

    @cached_property
    def _rows_from_left(self) -> int:
        """How many rows of the result come from the left: the others are right rows without partner."""
        return self.rows - len(self._lower_rows) if self._type.keeps_unmatched_right else self.rows

    def _from_left(self, numbers: IndexVector) -> tuple[IndexVector, IndexVector]:
        match = self._match
        if not self._type.keeps_pairs:  # full anti: its left part is the unmatched rows
            left = match.left_unmatched_rows[numbers]
            return left, np.full(len(numbers), -1, dtype=np.int32)
        if not self._type.keeps_unmatched_left:
            return match.pair_rows(numbers)
        first = self._first_row_of_left
        if first is None:
            return numbers, match.nth_partner(numbers, np.zeros_like(numbers))
        left = np.searchsorted(first, numbers, side="right") - 1
        return left, match.nth_partner(left, numbers - first[left])

    @cached_property
    def _first_row_of_left(self) -> IndexVector | None:
        """For each left row the number of its first result row; None where every left row has just one."""
        partners = self._match.partners_of_left
        if partners.max(initial=0) <= 1:
            return None
        return running_total(np.maximum(partners, 1))


class PassedOverTable(JoinedTable):
    """The rows that match and yet are in no pair: those of the left, then those of the right."""

    def __init__(self, left: Table, right: Table, match: Match, plan: Sequence[JoinedField]) -> None:
        super().__init__(left, right, match, JoinType.FULL_ANTI, plan)
        self.rows = match.counts.left_passed_over + match.counts.right_passed_over

    def _sides_of(self, numbers: IndexVector) -> tuple[IndexVector, IndexVector]:
        upper, lower = self._match.left_passed_over_rows, self._match.right_passed_over_rows
        rows = np.concatenate((upper, lower))[numbers] if self.rows else numbers
        above = numbers < len(upper)
        return np.where(above, rows, -1), np.where(above, -1, rows)

    def _rows_of_left(self, left: IndexVector) -> IndexVector:
        return _places(self._match.left_passed_over_rows, left)

    def _rows_of_right(self, right: IndexVector) -> IndexVector:
        above = self._match.counts.left_passed_over
        return _places(self._match.right_passed_over_rows, right) + above


def _places(rows: IndexVector, wanted: IndexVector) -> IndexVector:
    """Where some rows are in a vector of rows in order, as far as they are in it."""
    places = np.searchsorted(rows, wanted)
    inside = places < len(rows)
    places = places[inside]
    return places[rows[places] == wanted[inside]] if len(rows) else np.zeros(0, np.int64)


def _read_on_the_right(entries: Iterable[JoinedField], has_left: Mask) -> list[str]:
    """The fields to read from the right: not what the left has for every row. Where knots join what comes
    from one rail again and again, reading both sides would double with each of them.
    """
    every = bool(has_left.all())
    return [entry.right for entry in entries if not (every and entry.side is Side.EITHER)]


def _of_both_sides(
    left: _Asked, right: _Asked, read: Callable[..., list[Told]], at: Callable[[Told, IndexVector], Told]
) -> tuple[dict[str, Told], dict[str, Told]]:
    """What is read of both sides by field. at: what stands at some places of that.

    A table that is joined with itself is read once: where one knot after another does so, reading both sides
    would double with each of them.
    """

    def found(table: Table, rows: IndexVector, names: Iterable[str]) -> dict[str, Told]:
        wanted = [name for name in dict.fromkeys(names) if name]
        return dict(zip(wanted, read(table, rows, wanted), strict=True)) if wanted else {}

    if left[0] is not right[0]:
        return found(*left), found(*right)
    both = np.concatenate([left[1], right[1]])
    if len(both) > left[0].rows:
        rows, places = np.arange(-1, left[0].rows), both + 1
    else:
        rows, places = np.unique(both, return_inverse=True)
    told = found(left[0], rows, [*left[2], *right[2]])
    cut = len(left[1])
    return (
        {name: at(told[name], places[:cut]) for name in left[2] if name},
        {name: at(told[name], places[cut:]) for name in right[2] if name},
    )


def _absent_in_either(side: Side, left: Mask | None, right: Mask | None, has_left: Mask) -> Mask | None:
    """Where a field that is read from both sides has no partner."""
    if side.merges:
        return None if left is None or right is None else left & right
    if has_left.all():
        return left
    return np.where(has_left, False if left is None else left, False if right is None else right)


def _told_of_sides(entry: JoinedField, left: IndexVector, right: IndexVector) -> Cells:
    """Whether both sides have a row, or which one has; without partner where the row itself is none."""
    nowhere = (left < 0) & (right < 0)
    if entry.side is Side.BOTH:
        values = pa.array((left >= 0) & (right >= 0), mask=nowhere)
    else:
        texts = pa.array(entry.said, entry.field.arrow_type)
        places = np.where(
            left < 0, 1, np.where(right < 0, 0, len(entry.said) - 1 if len(entry.said) > 2 else 0)
        )
        values = texts.take(pa.array(places.astype(np.int8), mask=nowhere))
    return Cells(values, nowhere if nowhere.any() else None)


def _told_of_pairs(entry: JoinedField, match: Match, left: IndexVector, right: IndexVector) -> Cells:
    """Of pairs by which rung they were found, or their score; without partner where a row is in no pair."""
    nowhere = (left < 0) | (right < 0)
    pairs = np.flatnonzero(~nowhere)
    if entry.side is Side.RUNG:
        place = np.zeros(len(left), np.int64)
        if match.rung_of_left is not None:
            place[pairs] = match.rung_of_left[left[pairs]].astype(np.int64) - 1
        texts = pa.array(entry.said, entry.field.arrow_type)
        return Cells(texts.take(pa.array(place, mask=nowhere)), nowhere if nowhere.any() else None)
    scores = np.full(len(left), np.nan)
    if match.scores is not None and len(pairs):
        scores[pairs] = match.scores_of(left[pairs], right[pairs])
    return Cells(pa.array(scores, mask=np.isnan(scores)), nowhere if nowhere.any() else None)


def _either(left: Cells, right: Cells | None, has_left: Mask, field: Field) -> Cells:
    """What the left has, and the right's where there is no left row; right: None where the left has all."""
    values = held_as(left.values, field.arrow_type)
    if right is None:
        return Cells(values, left.absent)
    values = pc.if_else(pa.array(has_left), values, held_as(right.values, field.arrow_type))
    return Cells(values, _absent_in_either(Side.EITHER, left.absent, right.absent, has_left))


def _merged(first: Cells, second: Cells, field: Field) -> Cells:
    """The first value, or the second where that is blank; without partner where both are."""
    values = pc.coalesce(*(held_as(cells.values, field.arrow_type) for cells in (first, second)))
    absent = _absent_in_either(Side.LEFT_FIRST, first.absent, second.absent, np.zeros(0, dtype=bool))
    return Cells(values, absent if absent is not None and absent.any() else None)
