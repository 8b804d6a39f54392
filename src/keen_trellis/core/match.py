"""A match: which rows of two tables belong together, and every count of it.

Link fields compared with = are encoded; rows with one code match. The rows of the right table are ordered by
code in linear time (the row lists of a sparse matrix, as in Gustavson, "Two fast algorithms for sparse
matrices", ACM TOMS 4 (3), 1978), unless each code stands there once; the partners of a left row are then one
stretch of that order. Counts are read off the codes alone; pairs are never listed for them. What other
operators find is listed by `ranges`; `taking` says which of the matching rows become pairs.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from functools import cached_property
from typing import Any, Protocol

import msgspec
import numpy as np

from keen_trellis.core.coding import Codes
from keen_trellis.core.encoding import Encoded, SideCounts
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.ordering import among, distinct_numbers, in_order
from keen_trellis.core.parallel import gathered, side_by_side
from keen_trellis.core.ragged import repeated, running_total
from keen_trellis.core.table import IndexVector, Mask

Pairs = tuple[IndexVector, IndexVector]

# Rows at a time, so that no other vector as long as the table is held beside.
_STRETCH = 1 << 18


class MatchCounts(msgspec.Struct, frozen=True):
    """What a match comes to, in rows and pairs.

    A row is matched if it matches some row, and passed over if it does so and yet ends in no pair, since
    another was taken.
    """

    left_rows: int
    right_rows: int
    pairs: int
    left_matched: int
    right_matched: int
    left_passed_over: int
    right_passed_over: int
    left_blank: int
    right_blank: int
    left_no_partner: int
    right_no_partner: int
    left_lost: int
    right_lost: int
    most_partners_of_left: int
    most_partners_of_right: int
    left_as_written: int
    pairs_as_written: int

    @property
    def left_unmatched(self) -> int:
        return self.left_rows - self.left_matched

    @property
    def right_unmatched(self) -> int:
        return self.right_rows - self.right_matched

    @property
    def left_unpaired(self) -> int:
        """Left rows in no pair: unmatched or passed over."""
        return self.left_unmatched + self.left_passed_over

    @property
    def right_unpaired(self) -> int:
        """Right rows in no pair: unmatched or passed over."""
        return self.right_unmatched + self.right_passed_over

    @property
    def left_only_prepared(self) -> int:
        """Left rows in pairs all of which match only after preparation."""
        return self.left_matched - self.left_passed_over - self.left_as_written

    @property
    def cardinality(self) -> str:
        """How often rows repeat on either side of the match: 1:1, 1:n, n:1 or n:m."""
        many_left, many_right = self.most_partners_of_right > 1, self.most_partners_of_left > 1
        if many_left and many_right:
            return "n:m"
        return f"{'n' if many_left else '1'}:{'n' if many_right else '1'}"

    def rows_under(self, join_type: JoinType) -> int:
        """How many rows the join has under `join_type`."""
        return {
            JoinType.INNER: self.pairs,
            JoinType.LEFT_OUTER: self.pairs + self.left_unpaired,
            JoinType.RIGHT_OUTER: self.pairs + self.right_unpaired,
            JoinType.FULL_OUTER: self.pairs + self.left_unpaired + self.right_unpaired,
            JoinType.LEFT_ANTI: self.left_unmatched,
            JoinType.RIGHT_ANTI: self.right_unmatched,
            JoinType.FULL_ANTI: self.left_unmatched + self.right_unmatched,
            JoinType.LEFT_SEMI: self.left_matched,
            JoinType.RIGHT_SEMI: self.right_matched,
            JoinType.CROSS: self.left_rows * self.right_rows,
        }[join_type]

    def rows_by_type(self) -> dict[str, int]:
        """The row count under each join type, by the type's name on the command line."""
        return {join_type.value: self.rows_under(join_type) for join_type in JoinType}


class Written(Protocol):
    """The same links with nothing prepared: which pairs they match, and the codes of their fields."""

    def __call__(self, left: IndexVector, right: IndexVector) -> Mask: ...

    def codes(self) -> Encoded: ...


class Match(ABC):
    """The outcome of comparing two tables: counts, and pairs by number.

    Pairs stand in left order, the partners of a left row in right order, and are numbered from 0.

    pairs: how many there are.  partners_of_left, partners_of_right: how many each row is in.  scores: of each
    pair how alike or how far apart it is, NaN where it is simply equal; None where none was asked for.
    are_distances: whether the less of them is the better.  rung_of_left: by which rung of a ladder each left
    row was found, from 1, 0 for none.
    """

    pairs: int
    partners_of_left: IndexVector
    partners_of_right: IndexVector
    sides: tuple[SideCounts, SideCounts] = (SideCounts(), SideCounts())
    as_written: Written | None = None
    scores: IndexVector | None = None
    are_distances: bool = False
    rung_of_left: IndexVector | None = None

    # --- what the kinds of match differ in ---

    @property
    def found_left(self) -> Mask:
        """Which left rows match some row, whether or not they are in a pair."""
        return self.partners_of_left > 0

    @property
    def found_right(self) -> Mask:
        """Which right rows match some row, whether or not they are in a pair."""
        return self.partners_of_right > 0

    @abstractmethod
    def nth_partner(self, left: IndexVector, nth: IndexVector) -> IndexVector:
        """The right row that is partner number `nth` (from 0) of each row of `left`, -1 if it has none."""

    @abstractmethod
    def partners_in_right(self, left_row: int) -> IndexVector:
        """The right rows that match one left row, in right order."""

    @abstractmethod
    def partners_in_left(self, right_row: int) -> IndexVector:
        """The left rows that match one right row, in left order."""

    @abstractmethod
    def left_rows_of(self, right: IndexVector) -> IndexVector:
        """The left rows that match any of these right rows, in order."""

    @abstractmethod
    def all_pairs(self) -> Pairs:
        """The left and the right row of every pair. DataError if there are too many to be listed."""

    def written_counts(self) -> tuple[int, int]:
        """How many pairs match as written, and how many left rows are in one of them."""
        if self.as_written is None:
            return self.pairs, int(np.count_nonzero(self.partners_of_left))
        left = self.all_pairs()[0][self._pairs_as_written]
        return len(left), int(np.count_nonzero(np.diff(left))) + (len(left) > 0)

    # --- counts ---

    @cached_property
    def counts(self) -> MatchCounts:
        left_matched = int(np.count_nonzero(self.found_left))
        right_matched = int(np.count_nonzero(self.found_right))
        pairs_as_written, left_as_written = self.written_counts()
        return MatchCounts(
            left_rows=len(self.partners_of_left),
            right_rows=len(self.partners_of_right),
            pairs=self.pairs,
            left_matched=left_matched,
            right_matched=right_matched,
            left_passed_over=left_matched - int(np.count_nonzero(self.partners_of_left)),
            right_passed_over=right_matched - int(np.count_nonzero(self.partners_of_right)),
            left_blank=self.sides[0].blank,
            right_blank=self.sides[1].blank,
            left_no_partner=self.sides[0].no_partner,
            right_no_partner=self.sides[1].no_partner,
            left_lost=self.sides[0].lost,
            right_lost=self.sides[1].lost,
            most_partners_of_left=int(self.partners_of_left.max(initial=0)),
            most_partners_of_right=int(self.partners_of_right.max(initial=0)),
            left_as_written=left_as_written,
            pairs_as_written=pairs_as_written,
        )

    # --- rows ---

    @cached_property
    def left_matched_rows(self) -> IndexVector:
        return positions(self.found_left)

    @cached_property
    def right_matched_rows(self) -> IndexVector:
        return positions(self.found_right)

    @cached_property
    def left_unmatched_rows(self) -> IndexVector:
        return positions(~self.found_left)

    @cached_property
    def right_unmatched_rows(self) -> IndexVector:
        return positions(~self.found_right)

    @cached_property
    def left_passed_over_rows(self) -> IndexVector:
        return positions(self.found_left & (self.partners_of_left == 0))

    @cached_property
    def right_passed_over_rows(self) -> IndexVector:
        return positions(self.found_right & (self.partners_of_right == 0))

    @cached_property
    def right_unpaired_rows(self) -> IndexVector:
        """Right rows in no pair: unmatched or passed over."""
        return positions(self.partners_of_right == 0)

    # --- pairs ---

    @cached_property
    def first_pair_of_left(self) -> IndexVector:
        """For each left row the number of its first pair; one entry more, the number of pairs."""
        return running_total(self.partners_of_left)

    def pair_rows(self, pairs: IndexVector) -> Pairs:
        """The left and right rows of the pairs with these numbers."""
        left = np.searchsorted(self.first_pair_of_left, pairs, side="right") - 1
        return left, self.nth_partner(left, pairs - self.first_pair_of_left[left])

    def scores_of(self, left: IndexVector, right: IndexVector) -> IndexVector:
        """The scores of pairs that are among these, given by their rows; there are some."""
        assert self.scores is not None
        size = max(len(self.partners_of_right), 1)
        place = np.searchsorted(self._pair_keys, left.astype(np.int64) * size + right)
        found: IndexVector = self.scores[place]
        return found

    @cached_property
    def _pair_keys(self) -> IndexVector:
        left, right = self.all_pairs()
        keys: IndexVector = left.astype(np.int64) * max(len(self.partners_of_right), 1) + right
        return keys

    @cached_property
    def pair_numbers_as_written(self) -> IndexVector:
        """The numbers of the pairs that match with nothing prepared."""
        return positions(self._pairs_as_written)

    @cached_property
    def pair_numbers_only_prepared(self) -> IndexVector:
        """The numbers of the pairs that match only after preparation."""
        return positions(~self._pairs_as_written)

    @cached_property
    def _pairs_as_written(self) -> Mask:
        if self.as_written is None:
            return np.ones(self.pairs, dtype=bool)
        return self.as_written(*self.all_pairs())


class CodeMatch(Match):
    """Rows match that have the same code."""

    def __init__(self, codes: Encoded) -> None:
        self.codes = codes
        size = max(codes.size, 1)
        self._size = size
        self._on_right = how_often(codes.right, size)
        if self.right_is_unique:
            self._pair_with_the_one()
        else:
            on_left = how_often(codes.left, size)
            self.partners_of_left = _looked_up(self._on_right, codes.left)
            self.partners_of_right = _looked_up(on_left, codes.right)
            self.pairs = int(np.dot(on_left.astype(np.int64), self._on_right.astype(np.int64)))

    @cached_property
    def right_is_unique(self) -> bool:
        """Whether no two right rows have the same code: then a left row has one partner at most."""
        return int(self._on_right.max(initial=0)) <= 1

    def _pair_with_the_one(self) -> None:
        """Look the one partner of each left row up; nothing is ordered, nothing counted twice."""
        left, right = self.codes.left, self.codes.right
        # The entry behind the last stands for a code of -1.
        row_of_code = np.full(self._size + 1, -1, dtype=index_type(len(right)))
        held = right >= 0
        row_of_code[right[held]] = np.flatnonzero(held)
        partner = gathered(row_of_code, left)
        has = np.empty(len(left), dtype=np.int8)

        def count(part: slice) -> IndexVector:
            np.greater_equal(partner[part], 0, out=has[part], casting="unsafe")
            # Rows of -1 are counted in the first place, which is then dropped.
            return np.bincount(np.add(partner[part], 1, dtype=np.intp), minlength=len(right) + 1)[1:]

        counted = side_by_side(count, len(left))
        self._partner = partner
        self.partners_of_left = has
        self.partners_of_right = np.sum(counted, axis=0, dtype=index_type(len(left)))
        self.pairs = int(self.partners_of_right.sum(dtype=np.int64))

    def nth_partner(self, left: IndexVector, nth: IndexVector) -> IndexVector:
        if self.right_is_unique:
            return self._partner[left]
        order, start = self.right_order
        codes = self.codes.left[left]
        partners = order[np.minimum(start[codes] + nth, len(order) - 1)] if len(order) else start[codes]
        return np.where(self.partners_of_left[left] > 0, partners, -1)

    def partners_in_right(self, left_row: int) -> IndexVector:
        code = self.codes.left[left_row]
        return positions((self.codes.right == code) & (self.codes.right >= 0))

    def partners_in_left(self, right_row: int) -> IndexVector:
        code = self.codes.right[right_row]
        return positions((self.codes.left == code) & (self.codes.left >= 0))

    def left_rows_of(self, right: IndexVector) -> IndexVector:
        codes = self.codes.right[right]
        return positions(among(self.codes.left, codes[codes >= 0]))

    def all_pairs(self) -> Pairs:
        kind = index_type(len(self.codes.left))
        if self.right_is_unique:
            has = self.partners_of_left.view(bool)

            def listed(part: slice) -> Pairs:
                left = (np.flatnonzero(has[part]) + part.start).astype(kind)
                return left, self._partner[left]

            halves = side_by_side(listed, len(has))
            return (
                halves[0]
                if len(halves) == 1
                else (
                    np.concatenate([half[0] for half in halves]),
                    np.concatenate([half[1] for half in halves]),
                )
            )
        order, start = self.right_order
        left = repeated(np.arange(len(self.codes.left), dtype=kind), self.partners_of_left)
        # Stretch by stretch of the right order: where it begins, moved on by one from pair to pair.
        begin = gathered(start, self.codes.left) - self.first_pair_of_left[:-1]
        place = repeated(begin, self.partners_of_left) + np.arange(self.pairs)
        return left, gathered(order, place)

    @cached_property
    def right_order(self) -> Pairs:
        """The right rows ordered by code, and where each code's stretch begins."""
        return ordered_by_code(self.codes.right, self._size)

    def written_counts(self) -> tuple[int, int]:
        if self.as_written is None or self.right_is_unique:
            return super().written_counts()
        # Values that are equal as written are equal when prepared, so that these pairs are among ours: they
        # are counted without being listed.
        codes = self.as_written.codes()
        partners = _looked_up(how_often(codes.right, max(codes.size, 1)), codes.left)
        return int(partners.sum(dtype=np.int64)), int(np.count_nonzero(partners))


class ListedMatch(Match):
    """Pairs that are listed, at once or when they are first asked for.

    found_left, found_right: rows that match, where these are more than those in pairs.
    """

    def __init__(
        self,
        partners_of_left: IndexVector,
        partners_of_right: IndexVector,
        listing: Callable[[], IndexVector],
        *,
        found: tuple[Mask, Mask] | None = None,
    ) -> None:
        self.partners_of_left, self.partners_of_right = partners_of_left, partners_of_right
        self.pairs = int(partners_of_left.sum(dtype=np.int64))
        self._listing, self._found = listing, found

    @property
    def found_left(self) -> Mask:
        return self.partners_of_left > 0 if self._found is None else self._found[0]

    @property
    def found_right(self) -> Mask:
        return self.partners_of_right > 0 if self._found is None else self._found[1]

    @cached_property
    def right_of_pair(self) -> IndexVector:
        """The right row of every pair."""
        return self._listing()

    @cached_property
    def _left_of_pair(self) -> IndexVector:
        rows = np.arange(len(self.partners_of_left), dtype=index_type(len(self.partners_of_left)))
        return repeated(rows, self.partners_of_left)

    def all_pairs(self) -> Pairs:
        right = self.right_of_pair
        return self._left_of_pair, right

    def nth_partner(self, left: IndexVector, nth: IndexVector) -> IndexVector:
        if not self.pairs:
            return np.full(len(left), -1, dtype=np.int32)
        place = np.minimum(self.first_pair_of_left[left] + nth, self.pairs - 1)
        return np.where(self.partners_of_left[left] > 0, self.right_of_pair[place], -1)

    def partners_in_right(self, left_row: int) -> IndexVector:
        start, stop = self.first_pair_of_left[left_row : left_row + 2]
        return self.right_of_pair[start:stop]

    def partners_in_left(self, right_row: int) -> IndexVector:
        found: IndexVector = self._left_of_pair[self.right_of_pair == right_row]
        return found

    def left_rows_of(self, right: IndexVector) -> IndexVector:
        return distinct_numbers(self._left_of_pair[among(self.right_of_pair, right)])


def first_of_codes(codes: Codes, size: int) -> IndexVector:
    """For each code, 0 <= code < size, the first row that has it; the number of rows where none has."""

    def of_stretch(rows: slice) -> IndexVector:
        found = np.full(size, len(codes), dtype=index_type(len(codes)))
        for start in reversed(range(rows.start, rows.stop, _STRETCH)):
            part = codes[start : min(start + _STRETCH, rows.stop)]
            # Written backwards, so that the first row of each code is written last.
            found[part[::-1]] = np.arange(start + len(part) - 1, start - 1, -1)
        return found

    stretches = side_by_side(of_stretch, len(codes))
    first: IndexVector = stretches[0]
    for later in stretches[1:]:
        np.minimum(first, later, out=first)
    return first


def last_of_codes(codes: Codes, size: int) -> IndexVector:
    """For each code the last row that has it; -1 for one that none has."""
    found = np.full(size, -1, dtype=index_type(len(codes)))
    for start in range(0, len(codes), _STRETCH):
        part = codes[start : start + _STRETCH]
        found[part] = np.arange(start, start + len(part))
    return found


def ordered_by_code(codes: Codes, size: int) -> Pairs:
    """Rows ordered by code, those of one code in their order, and where each code's stretch begins (one entry
    more, where the last one ends).
    """
    bounds = running_total(how_often(codes, size))
    kind = index_type(max(size, len(codes)))
    return in_order(codes)[len(codes) - bounds[-1] :].astype(kind), bounds.astype(kind)


def how_often(codes: Codes, size: int) -> IndexVector:
    """How many rows have each code; codes of -1 are not counted."""

    def count(part: slice) -> IndexVector:
        return np.bincount(np.add(codes[part], 1, dtype=np.intp), minlength=size + 1)[1:]

    counted = side_by_side(count, len(codes))
    total: IndexVector = counted[0] if len(counted) == 1 else np.sum(counted, axis=0)
    return total


def _looked_up(numbers: IndexVector, codes: Codes) -> IndexVector:
    """The number of each row's code, 0 for a code of -1."""
    table = np.append(numbers, 0).astype(index_type(int(numbers.max(initial=0))))
    return gathered(table, codes)


def positions(mask: Mask) -> IndexVector:
    """The numbers of the rows for which `mask` is true."""
    return np.flatnonzero(mask).astype(index_type(len(mask)))


def index_type(rows: int) -> Any:
    """The narrowest type that numbers so many rows."""
    return np.int32 if rows <= np.iinfo(np.int32).max else np.int64
