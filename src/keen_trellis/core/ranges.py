"""Matches by other operators than =: values between two fields, dates in periods, and any combination.

Within groups of equal link fields, one side's values are sorted; what a row of the other side asks for is a
stretch of them, found by two binary searches. For loans on 3 and 9 March, and periods that begin on 1, 5 and
9 March, the condition begin <= loan finds the first 1 and the first 3 of the sorted begins: 1 + 3 candidates,
and nothing is listed that does not match. So the candidates are the pairs themselves, however long or short
the periods are. Conditions that this leaves over are tested on the candidates, block by block.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import msgspec
import numpy as np

from keen_trellis.core.comparing import COMPARE, as_comparable
from keen_trellis.core.encoding import Encoded, PreparedLink, encode
from keen_trellis.core.errors import DataError
from keen_trellis.core.hashing import own_codes
from keen_trellis.core.link import Operator
from keen_trellis.core.match import ListedMatch, Pairs, how_often, index_type, ordered_by_code
from keen_trellis.core.ordering import in_order
from keen_trellis.core.ragged import repeated, running_total
from keen_trellis.core.table import IndexVector, Mask
from keen_trellis.core.task import Task

_BLOCK_CANDIDATES = 1 << 22
Vector = np.ndarray[Any, Any]


class Limits(msgspec.Struct, frozen=True):
    """What is attempted at most."""

    pairs: int = 50_000_000
    candidates: int = 5_000_000_000


_NO_ORDER = (Operator.EQUAL, Operator.UNEQUAL)


class Condition(msgspec.Struct, frozen=True):
    """`left operator right` on vectors that compare as the values do; known: where it can be true."""

    operator: Operator
    left: Vector
    right: Vector
    left_known: Mask
    right_known: Mask
    names: tuple[object, object]

    @staticmethod
    def of(entry: PreparedLink) -> Condition:
        link = entry.link
        names = (
            (link.left, link.left_is_expression, link.preparation),
            (link.right, link.right_is_expression, link.preparation),
        )
        if link.blanks or link.operator in (Operator.EQUAL, Operator.UNEQUAL):
            codes = encode([entry])
            if link.operator is Operator.UNEQUAL:
                return Condition(link.operator, *_distinct_codes(entry, codes), names)
            return Condition(link.operator, codes.left, codes.right, codes.left >= 0, codes.right >= 0, names)
        one, other = entry.left.of_rows, entry.right.of_rows
        known = [side.is_valid().to_numpy(zero_copy_only=False) for side in (one, other)]
        return Condition(link.operator, *as_comparable(one, other), known[0], known[1], names)

    def holds(self, left: IndexVector, right: IndexVector) -> Mask:
        """For pairs of rows whether the condition is true."""
        found = COMPARE[self.operator.value](self.left[left], self.right[right])
        return np.asarray(found & self.left_known[left] & self.right_known[right])

    @property
    def swapped(self) -> Condition:
        """The same condition with the sides swapped."""
        return Condition(
            self.operator.mirrored,
            self.right,
            self.left,
            self.right_known,
            self.left_known,
            (self.names[1], self.names[0]),
        )


def _distinct_codes(entry: PreparedLink, codes: Encoded) -> tuple[Vector, Vector, Mask, Mask]:
    """Codes for <>: a value that the other side does not have differs from all of it, and is not unknown."""
    made: list[Vector] = []
    known: list[Mask] = []
    for number, (side, coded) in enumerate(((entry.left, codes.left), (entry.right, codes.right))):
        rows = np.ones(len(coded), dtype=bool)
        for mask in (side.lost, *(() if entry.link.blanks else (side.blank, side.absent))):
            if mask is not None:
                rows &= ~mask
        made.append(np.where(coded < 0, -1 - number, coded))
        known.append(rows)
    return made[0], made[1], known[0], known[1]


def match_by_conditions(
    groups: Encoded, conditions: Sequence[Condition], limits: Limits, task: Task
) -> ListedMatch:
    """Rows of one group that fulfil all conditions. DataError if that is out of reach."""
    ways: list[tuple[bool, list[int]]] = []
    for swapped in (False, True):
        sided = [entry.swapped if swapped else entry for entry in conditions]
        ordering = [number for number, entry in enumerate(sided) if entry.operator not in _NO_ORDER]
        names = dict.fromkeys(sided[number].names[0] for number in ordering)
        ways += [(swapped, [n for n in ordering if sided[n].names[0] == name]) for name in names]
    searches = []
    for swapped, chosen in sorted(ways, key=lambda way: -len(way[1])):
        task.checkpoint(0, 0, "sorting values")
        sided = [conditions[number].swapped if swapped else conditions[number] for number in chosen]
        rest = [entry for number, entry in enumerate(conditions) if number not in chosen]
        searches.append((_Stretches.of(groups, sided, swapped=swapped), rest))
        if not rest:
            break  # its candidates are the pairs: none has fewer
    if not searches:
        if len(conditions) == 1:
            return _all_but_equal(groups, conditions[0], limits, task)
        searches.append((_Stretches.of(groups, [], swapped=False), list(conditions)))
    best, rest = min(searches, key=lambda search: (search[0].candidates, len(search[1])))
    return best.filtered(rest, limits, task) if rest else best.listed(limits, task)


class _Stretches(msgspec.Struct, frozen=True):
    """For each asking row the stretch of the other side's sorted rows that it asks for.

    order: rows of the sorted side.  start, stop: one entry a row of the asking side.  asks_left: whether that
    is the left one.
    """

    order: IndexVector
    start: IndexVector
    stop: IndexVector
    sorted_rows: int
    asks_left: bool

    @staticmethod
    def of(groups: Encoded, conditions: Sequence[Condition], *, swapped: bool) -> _Stretches:
        """conditions: all with the same left side (that of the right table if swapped), which is sorted."""
        sorted_codes, asking_codes = (groups.right, groups.left) if swapped else (groups.left, groups.right)
        known = sorted_codes >= 0
        for entry in conditions:
            known = known & entry.left_known
        codes = np.where(known, sorted_codes, -1)
        if conditions:
            # By value first, then by group, which keeps the order by value: both linear but for one sort.
            by_value = in_order(conditions[0].left)
            order, bounds = ordered_by_code(codes[by_value], max(groups.size, 1))
            order = by_value[order]
        else:
            order, bounds = ordered_by_code(codes, max(groups.size, 1))
        can_ask = asking_codes >= 0
        for entry in conditions:
            can_ask = can_ask & entry.right_known
        codes = np.where(can_ask, asking_codes, 0)
        start, stop = bounds[codes].astype(np.int64), bounds[codes + 1].astype(np.int64)
        stop = np.where(can_ask, stop, start)
        for entry in conditions:
            values = entry.left[order]
            if entry.operator in (Operator.GREATER, Operator.AT_LEAST):
                found = bisected(values, start, stop, entry.right, behind=entry.operator is Operator.GREATER)
                start = found
            else:
                found = bisected(values, start, stop, entry.right, behind=entry.operator is Operator.AT_MOST)
                stop = found
        return _Stretches(order, start, np.maximum(start, stop), len(sorted_codes), swapped)

    @property
    def candidates(self) -> int:
        return int((self.stop - self.start).sum())

    def listed(self, limits: Limits, task: Task) -> ListedMatch:
        """All candidates are pairs: they are counted now and listed when they are asked for."""
        asking = self.stop - self.start
        ends = np.bincount(self.start, minlength=len(self.order) + 1) - np.bincount(
            self.stop, minlength=len(self.order) + 1
        )
        partners = np.zeros(self.sorted_rows, dtype=np.int64)
        partners[self.order] = np.cumsum(ends)[:-1]
        sides = (asking, partners) if self.asks_left else (partners, asking)

        def listing() -> IndexVector:
            check_pairs(self.candidates, limits)
            first, second = _together([self._pairs(block) for block in self._blocks(task)])
            return _in_order(first, second, (len(sides[0]), len(sides[1])), asks_left=self.asks_left)

        return ListedMatch(sides[0], sides[1], listing)

    def filtered(self, rest: Sequence[Condition], limits: Limits, task: Task) -> ListedMatch:
        """Those of the candidates that fulfil the rest of the conditions, too."""
        if self.candidates > limits.candidates:
            raise DataError(
                f"{self.candidates:,} pairs of rows would have to be compared; "
                f"the limit is {limits.candidates:,}.",
                remedy="Add a link field that must be equal, or a period.",
            )
        parts, found = [], 0
        for block in self._blocks(task):
            asking, others = self._pairs(block)
            left, right = (asking, others) if self.asks_left else (others, asking)
            kept = np.ones(len(left), dtype=bool)
            for entry in rest:
                kept &= entry.holds(left, right)
            parts.append((asking[kept], others[kept]))
            found += len(parts[-1][0])
            check_pairs(found, limits, so_far=True)
        rows = (len(self.start), self.sorted_rows) if self.asks_left else (self.sorted_rows, len(self.start))
        return listed_match(parts, rows, asks_left=self.asks_left)

    def _blocks(self, task: Task) -> Any:
        """Stretches of asking rows with not too many candidates each."""
        totals = running_total(self.stop - self.start)
        row = 0
        while row < len(self.start):
            task.checkpoint(int(totals[row]), int(totals[-1]), "pairing rows")
            end = int(np.searchsorted(totals, totals[row] + _BLOCK_CANDIDATES, side="right")) - 1
            end = min(max(end, row + 1), len(self.start))
            yield slice(row, end)
            row = end

    def _pairs(self, block: slice) -> tuple[IndexVector, IndexVector]:
        """Asking rows and the rows that each asks for."""
        lengths = (self.stop - self.start)[block]
        kind = index_type(max(len(self.start), self.sorted_rows))
        asking = repeated(np.arange(block.start, block.stop, dtype=kind), lengths)
        begin = self.start[block] - running_total(lengths)[:-1]
        return asking, self.order[repeated(begin, lengths) + np.arange(len(asking))].astype(kind)


def bisected(
    values: Vector, start: IndexVector, stop: IndexVector, wanted: Vector, *, behind: bool
) -> IndexVector:
    """For each wanted value its place in the sorted stretch from start to stop, behind equal ones or not."""
    low, high = start.copy(), stop.copy()
    most = int((high - low).max(initial=0))
    if not len(values):
        return low
    for _ in range(most.bit_length()):
        middle = (low + high) // 2
        there = values[np.minimum(middle, len(values) - 1)]
        below = (there <= wanted) if behind else (there < wanted)
        open_ = low < high
        low = np.where(open_ & below, middle + 1, low)
        high = np.where(open_ & ~below, middle, high)
    return low


def _all_but_equal(groups: Encoded, condition: Condition, limits: Limits, task: Task) -> ListedMatch:
    """<> alone: counted by taking away what is equal, listed when it is asked for."""
    size = max(groups.size, 1)
    left = np.where((groups.left >= 0) & condition.left_known, groups.left, -1)
    right = np.where((groups.right >= 0) & condition.right_known, groups.right, -1)
    values = int(max(condition.left.max(initial=0), condition.right.max(initial=0))) + 1

    def of_both(codes: Vector, value: Vector) -> Vector:
        return np.where((codes >= 0) & (value >= 0), codes.astype(np.int64) * values + value, -1)

    equal = [of_both(left, condition.left), of_both(right, condition.right)]
    both = np.concatenate(equal)
    held = both >= 0
    both[held], distinct = own_codes(both[held])
    alike = both[: len(left)], both[len(left) :]

    def partners(own: Vector, other: Vector, own_alike: Vector, other_alike: Vector) -> IndexVector:
        all_of = np.append(how_often(other, size), 0)[own]
        same = np.append(how_often(other_alike, distinct), 0)[own_alike]
        return np.asarray(all_of - same)

    counts = partners(left, right, *alike), partners(right, left, alike[1], alike[0])

    def listing() -> IndexVector:
        check_pairs(int(counts[0].sum()), limits)
        stretches = _Stretches.of(groups, [], swapped=True)
        return stretches.filtered([condition], limits, task).right_of_pair

    return ListedMatch(counts[0], counts[1], listing)


def check_pairs(pairs: int, limits: Limits, *, so_far: bool = False) -> None:
    """DataError if so many pairs are not listed."""
    if pairs > limits.pairs:
        at_least = "at least " if so_far else ""
        raise DataError(
            f"The match would have {at_least}{pairs:,} pairs; the limit is {limits.pairs:,}.",
            remedy="Link by a further field, or keep one row a key on one side.",
        )


def listed_match(parts: Sequence[Pairs], rows: tuple[int, int], *, asks_left: bool) -> ListedMatch:
    """A match of listed pairs, each part with the asking rows first, which ascend from part to part."""
    first, second = _together(parts)
    left, right = (first, second) if asks_left else (second, first)
    right_of_pair = _in_order(first, second, rows, asks_left=asks_left)
    counts = np.bincount(left, minlength=rows[0]), np.bincount(right, minlength=rows[1])
    return ListedMatch(counts[0], counts[1], lambda: right_of_pair)


def _together(parts: Sequence[Pairs]) -> Pairs:
    nothing = np.zeros(0, np.int32)
    first, second = (np.concatenate([nothing, *(part[side] for part in parts)]) for side in (0, 1))
    return first, second


def _in_order(
    first: IndexVector, second: IndexVector, rows: tuple[int, int], *, asks_left: bool
) -> IndexVector:
    """The right row of each pair, in left order and then right order; linear in pairs and rows."""
    if asks_left:
        # Ordered by right row, keeping left order: then by left row, keeping right order.
        by_right, _ = ordered_by_code(second, rows[1])
        first, second = first[by_right], second[by_right]
        order, _ = ordered_by_code(first, rows[0])
        return second[order]
    order, _ = ordered_by_code(second, rows[0])
    return first[order]
