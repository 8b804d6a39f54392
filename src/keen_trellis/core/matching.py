"""Codes to a match: which rows of two tables belong together, and every count of it.

Rows of the right table are ordered by code in linear time (the row lists of a sparse matrix, as in
Gustavson, "Two fast algorithms for sparse matrices", ACM TOMS 4 (3), 1978); the partners of a left row
are then one stretch of that order. Counts are read off the codes alone; pairs are never listed for them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from keen_trellis.core.encoding import Codes, encode
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import LinkField, check_links
from keen_trellis.core.table import IndexVector, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType

Mask = np.ndarray[Any, np.dtype[np.bool_]]


@dataclass(frozen=True)
class MatchCounts:
    """What a match comes to, in rows and pairs."""

    left_rows: int
    right_rows: int
    pairs: int
    left_matched: int
    right_matched: int
    left_blank: int
    right_blank: int
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
    def left_only_prepared(self) -> int:
        """Left rows all of whose partners match only after preparation."""
        return self.left_matched - self.left_as_written

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
            JoinType.LEFT_OUTER: self.pairs + self.left_unmatched,
            JoinType.RIGHT_OUTER: self.pairs + self.right_unmatched,
            JoinType.FULL_OUTER: self.pairs + self.left_unmatched + self.right_unmatched,
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


class Match:
    """The outcome of comparing two tables: codes, counts, and pairs by number.

    Pairs stand in left order, the partners of a left row in right order, and are numbered from 0.
    """

    def __init__(
        self,
        left_codes: Codes,
        right_codes: Codes,
        size: int,
        *,
        blanks: tuple[int, int] = (0, 0),
        written: tuple[Codes, Codes, int] | None = None,
    ) -> None:
        size = max(size, 1)
        self._left_codes = left_codes
        self._right_codes = right_codes
        self._size = size
        self._blanks = blanks
        # The codes of the same link fields with nothing prepared, where something is.
        self._written = written

        on_left = _how_often(left_codes, size)
        on_right = _how_often(right_codes, size)
        self._on_right = on_right
        self.partners_of_left = _looked_up(on_right, left_codes)
        self.partners_of_right = _looked_up(on_left, right_codes)
        self.pairs = int(np.dot(on_left.astype(np.int64), on_right.astype(np.int64)))

    @cached_property
    def counts(self) -> MatchCounts:
        left_matched = int(np.count_nonzero(self.partners_of_left))
        pairs_as_written, left_as_written = self.pairs, left_matched
        if self._written is not None:
            # Values that are equal as written are equal when prepared, so that these pairs are among ours.
            left, right, size = self._written
            partners = _looked_up(_how_often(right, size), left)
            pairs_as_written = int(partners.sum(dtype=np.int64))
            left_as_written = int(np.count_nonzero(partners))
        return MatchCounts(
            left_rows=len(self._left_codes),
            right_rows=len(self._right_codes),
            pairs=self.pairs,
            left_matched=left_matched,
            right_matched=int(np.count_nonzero(self.partners_of_right)),
            left_blank=self._blanks[0],
            right_blank=self._blanks[1],
            most_partners_of_left=int(self.partners_of_left.max(initial=0)),
            most_partners_of_right=int(self.partners_of_right.max(initial=0)),
            left_as_written=left_as_written,
            pairs_as_written=pairs_as_written,
        )

    # --- rows and pairs ---

    @cached_property
    def left_matched_rows(self) -> IndexVector:
        return _positions(self.partners_of_left > 0)

    @cached_property
    def right_matched_rows(self) -> IndexVector:
        return _positions(self.partners_of_right > 0)

    @cached_property
    def left_unmatched_rows(self) -> IndexVector:
        return _positions(self.partners_of_left == 0)

    @cached_property
    def right_unmatched_rows(self) -> IndexVector:
        return _positions(self.partners_of_right == 0)

    @cached_property
    def first_pair_of_left(self) -> IndexVector:
        """For each left row the number of its first pair; one entry more, the number of pairs."""
        return running_total(self.partners_of_left)

    def pair_rows(self, pairs: IndexVector) -> tuple[IndexVector, IndexVector]:
        """The left and right rows of the pairs with these numbers."""
        left = np.searchsorted(self.first_pair_of_left, pairs, side="right") - 1
        return left, self.nth_partner(left, pairs - self.first_pair_of_left[left])

    def nth_partner(self, left: IndexVector, nth: IndexVector) -> IndexVector:
        """The right row that is partner number `nth` (from 0) of each row of `left`, -1 if it has none."""
        codes = self._left_codes[left]
        if self._right_row_of_code is not None:
            partners = self._right_row_of_code[codes]
        else:
            order, start = self._right_order
            partners = order[np.minimum(start[codes] + nth, len(order) - 1)] if len(order) else start[codes]
        return np.where(self.partners_of_left[left] > 0, partners, -1)

    def partners_in_right(self, left_row: int) -> IndexVector:
        """The right rows that match one left row, in right order."""
        return _positions((self._right_codes == self._left_codes[left_row]) & (self._right_codes >= 0))

    def partners_in_left(self, right_row: int) -> IndexVector:
        """The left rows that match one right row, in left order."""
        return _positions((self._left_codes == self._right_codes[right_row]) & (self._left_codes >= 0))

    @cached_property
    def pair_numbers_as_written(self) -> IndexVector:
        """The numbers of the pairs that match with nothing prepared."""
        return _positions(self._pairs_as_written)

    @cached_property
    def pair_numbers_only_prepared(self) -> IndexVector:
        """The numbers of the pairs that match only after preparation."""
        return _positions(~self._pairs_as_written)

    @cached_property
    def _pairs_as_written(self) -> Mask:
        if self._written is None:
            return np.ones(self.pairs, dtype=bool)
        left, right = self.pair_rows(np.arange(self.pairs))
        codes = self._written[0][left]
        return np.asarray((codes >= 0) & (codes == self._written[1][right]))

    @cached_property
    def _right_row_of_code(self) -> IndexVector | None:
        """The one right row of each code, or None if some code stands in several."""
        if self._on_right.max(initial=0) > 1:
            return None
        rows = np.full(self._size, -1, dtype=_index_type(len(self._right_codes)))
        held = self._right_codes >= 0
        rows[self._right_codes[held]] = np.flatnonzero(held)
        return rows

    @cached_property
    def _right_order(self) -> tuple[IndexVector, IndexVector]:
        """The right rows ordered by code, and where each code's stretch begins."""
        # Imported here: the window is up before the first match needs it.
        from scipy.sparse import csr_array

        rows = np.flatnonzero(self._right_codes >= 0)
        codes = self._right_codes[rows]
        kind = _index_type(max(self._size, len(self._right_codes)))
        bounds = np.arange(len(rows) + 1, dtype=kind)
        ones = np.ones(len(rows), dtype=np.int8)
        matrix = csr_array((ones, codes.astype(kind), bounds), shape=(len(rows), self._size)).tocsc()
        return rows[matrix.indices], matrix.indptr


def match(left: Table, right: Table, links: Sequence[LinkField], task: Task | None = None) -> Match:
    """Compare all rows of two tables by `links`, which must all hold.

    Raises UsageError for an unknown field, DataError for types that can never be equal, and Cancelled.
    """
    task = task or Task()
    check_links(links, left.fields, right.fields)
    encoded = encode(left, right, links, task)
    written = None
    if any(_prepares(link, left) for link in links):
        task.checkpoint(0, 0, "telling apart what matches as written")
        plain = encode(left, right, [link.as_written for link in links], task)
        written = (plain.left, plain.right, plain.size)
    task.checkpoint(0, 0, "pairing rows")
    return Match(
        encoded.left,
        encoded.right,
        encoded.size,
        blanks=(encoded.left_blank, encoded.right_blank),
        written=written,
    )


def _prepares(link: LinkField, left: Table) -> bool:
    """Whether the link's preparation can change anything: only text is prepared."""
    return bool(link.preparation) and left.field(link.left).type is FieldType.TEXT


def running_total(counts: IndexVector) -> IndexVector:
    """Sums of all entries before each, and the whole sum at the end: length n + 1, int64."""
    totals = np.zeros(len(counts) + 1, dtype=np.int64)
    np.cumsum(counts, out=totals[1:])
    return totals


def _how_often(codes: Codes, size: int) -> IndexVector:
    """How many rows have each code."""
    # Codes of -1 are counted in the first place, which is then dropped.
    return np.bincount(codes.astype(np.int64) + 1, minlength=size + 1)[1:]


def _looked_up(numbers: IndexVector, codes: Codes) -> IndexVector:
    """The number of each row's code, 0 for a code of -1."""
    found = numbers.astype(_index_type(int(numbers.max(initial=0))))[codes] if len(numbers) else codes * 0
    found[codes < 0] = 0
    return found


def _positions(mask: Mask) -> IndexVector:
    return np.flatnonzero(mask).astype(_index_type(len(mask)))


def _index_type(rows: int) -> Any:
    return np.int32 if rows <= np.iinfo(np.int32).max else np.int64
