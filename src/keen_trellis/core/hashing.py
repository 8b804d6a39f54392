"""Whole numbers to codes from 0 on, by a hash table of vectors.

Open addressing with linear probing (D. Knuth, "The Art of Computer Programming", volume 3, 6.4). The table is
filled at once, in the order of the hashes: each number stands where its hash says, or behind the one before
it. A whole block of numbers is looked for together: those that are not settled after a look go on to the next
place.
"""

from __future__ import annotations

import numpy as np

from keen_trellis.core.ordering import are_new, dense_ranks, distinct_numbers, in_order
from keen_trellis.core.parallel import block_by_block
from keen_trellis.core.text_bytes import SPREADING, Vector

_SAMPLE = 4_096
_LOAD = 0.4  # at most, so that few places are looked at
_FREE = -1
_HALF = np.uint64(32)
_BACK = np.uint64(pow(int(SPREADING), -1, 2**64))  # undoes a product with it
Parts = tuple[Vector, ...]  # a vector for each of the numbers that are told apart together


def own_codes(*numbers: Vector) -> tuple[Vector, int]:
    """Codes of N whole numbers, or of combinations of them, from 0 to below a count, and that count.

    Where most are distinct, a table would be larger than what stands in order.
    """
    few = _few(numbers)
    if len(_distinct(few)[1]) > len(few[0]) // 2:
        ranks = dense_ranks(*numbers)
        return ranks, int(ranks.max()) + 1
    numbering = Numbering(*numbers)
    return numbering.find(*numbers), numbering.count


class Numbering:
    """The distinct ones of N whole numbers (int64), or of combinations of as many, and their codes (int32),
    from 0 to below a count. numbers: a vector for each part of such a combination.
    """

    def __init__(self, *numbers: Vector) -> None:
        few = _few(numbers)
        self._fill(few)
        if self.count > len(few[0]) // 2:
            if len(few[0]) < len(numbers[0]):
                self._fill(numbers)
            return
        # The same ones come again and again: most are among the few, and need not be put in order.
        new = np.flatnonzero(self.find(*numbers) == _FREE)
        if len(new):
            self._fill(tuple(np.concatenate(both) for both in zip(few, _some(numbers, new), strict=True)))

    def find(self, *numbers: Vector) -> Vector:
        """The codes of N numbers, -1 for one that is not among those that are known."""
        codes = np.empty(len(numbers[0]), np.int32)

        def fill(rows: slice) -> None:
            codes[rows] = self._found(_some(numbers, rows))

        block_by_block(fill, len(codes))
        return codes

    def _found(self, numbers: Parts) -> Vector:
        place = self._places(_hashes(numbers))
        there = self._at(place)
        found: Vector = there[:, -1].astype(np.int32)
        open_ = np.flatnonzero(_are_others(there, numbers) & (found != _FREE))
        while len(open_):
            place[open_] = at = place[open_] + 1
            there = self._at(at)
            found[open_] = codes = there[:, -1]
            open_ = open_[_are_others(there, _some(numbers, open_)) & (codes != _FREE)]
        return found

    def _places(self, hashes: Vector) -> Vector:
        """Where each stands if its place is free: as far into the table as the hash is among all hashes."""
        found: Vector = (((hashes >> _HALF) * self._size) >> _HALF).view(np.int64)
        return found

    def _at(self, places: Vector) -> Vector:
        """What stands at some places of the table."""
        # Each is one of its places: `take` is quicker where it need not refuse others.
        found: Vector = self._table.take(places, axis=0, mode="wrap")
        return found

    def _fill(self, numbers: Parts) -> None:
        """Put the distinct ones of these into a table of their own."""
        distinct, hashes = _distinct(numbers)
        self.count = len(hashes)
        self._size = np.uint64(int(self.count / _LOAD) + 1)
        codes = np.arange(self.count)
        # As many places behind the first one's as others are between, or more.
        place = np.maximum.accumulate(self._places(hashes) - codes) + codes
        # The last place stays free, so that each look ends.
        rows = max(int(self._size), int(place[-1]) + 1 if self.count else 0) + 1
        # A number and its code stand next to each other: each look meets one place of memory.
        self._table = np.full((rows, len(numbers) + 1), _FREE, np.int64)
        self._table[place] = np.column_stack((*distinct, codes))


def _few(numbers: Parts) -> Parts:
    """Some thousands of them, from the first to the last; all where they are fewer."""
    return _some(numbers, slice(None, None, max(len(numbers[0]) // _SAMPLE, 1)))


def _hashes(numbers: Parts) -> Vector:
    """A hash of each number, or combination, as uint64. That of a single number is another one for each."""
    bits = numbers[0].view(np.uint64)
    for part in numbers[1:]:
        bits = ((bits ^ (bits >> _HALF)) * SPREADING) ^ part.view(np.uint64)
    found: Vector = (bits ^ (bits >> _HALF)) * SPREADING
    return found


def _distinct(numbers: Parts) -> tuple[Parts, Vector]:
    """Each of the numbers, or combinations, once, in the order of their hashes; and these."""
    hashes = _hashes(numbers)
    if len(numbers) == 1:
        hashes = distinct_numbers(hashes)
        mixed = hashes * _BACK
        return ((mixed ^ (mixed >> _HALF)).view(np.int64),), hashes
    # Others may have the same hash, so that this alone would not put equal ones next to each other.
    ordered = _some((hashes, *numbers), in_order(hashes, *numbers))
    hashes, *distinct = _some(ordered, are_new(*ordered))
    return tuple(distinct), hashes


def _are_others(there: Vector, numbers: Parts) -> Vector:
    """Whether each number is another one than stands at its place."""
    found: Vector = there[:, 0] != numbers[0]
    for place, part in enumerate(numbers[1:], 1):
        found |= there[:, place] != part
    return found


def _some(numbers: Parts, rows: slice | Vector) -> Parts:
    return tuple(part[rows] for part in numbers)
