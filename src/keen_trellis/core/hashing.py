"""Whole numbers to codes from 0 on, by a hash table of vectors.

Open addressing with linear probing (D. Knuth, "The Art of Computer Programming", volume 3, 6.4), in which a
whole block of numbers takes each step together: those that are not settled after one go on to the next place.
"""

from __future__ import annotations

import numpy as np

from keen_trellis.core.parallel import block_by_block
from keen_trellis.core.text_bytes import SPREADING, Vector

_ADDED = 1 << 20  # numbers that are added together
_LEAST_BITS = 12
_SAMPLE = 4_096
_LOAD = 0.4  # at most, so that few places are looked at
_FREE = -1
_HALF = np.uint64(32)
Parts = tuple[Vector, ...]  # a vector for each of the numbers that are told apart together


class Numbering:
    """Distinct whole numbers (int64), or combinations of as many, and their codes (int32), in the order in
    which they were added. parts: how many numbers make one of those.
    """

    def __init__(self, parts: int = 1) -> None:
        self.count = 0
        self._parts = parts
        self._reserve(_LEAST_BITS)

    def add(self, *numbers: Vector) -> Vector:
        """The codes of N numbers, of which there is a vector for each part; those that are new get the next
        ones.
        """
        rows = len(numbers[0])
        if not self.count and rows > _SAMPLE:
            few = np.unique(numbers[-1][:: rows // _SAMPLE])
            if len(few) > _SAMPLE // 2:  # most are distinct: the table need not grow step by step
                self._reserve(int(np.ceil(np.log2(min(rows, _ADDED) / _LOAD))))
        codes = np.empty(rows, np.int32)
        for first in range(0, rows, _ADDED):
            some = _some(numbers, slice(first, first + _ADDED))
            found = self.find(*some) if self.count else np.full(len(some[0]), -1, np.int32)
            new = np.flatnonzero(found < 0)
            if len(new):
                found[new] = self._added(_some(some, new))
            codes[first : first + _ADDED] = found
        return codes

    def find(self, *numbers: Vector) -> Vector:
        """The codes of N numbers, -1 for one that was not added."""
        codes = np.empty(len(numbers[0]), np.int32)

        def fill(rows: slice) -> None:
            codes[rows] = self._found(_some(numbers, rows))

        block_by_block(fill, len(codes))
        return codes

    def _found(self, numbers: Parts) -> Vector:
        place = self._places(numbers)
        there = self._at(place)
        found: Vector = there[:, -1].astype(np.int32)
        open_ = np.flatnonzero(_are_others(there, numbers) & (found != _FREE))
        while len(open_):
            place[open_] = at = (place[open_] + 1) & self._mask
            there = self._at(at)
            found[open_] = codes = there[:, -1]
            open_ = open_[_are_others(there, _some(numbers, open_)) & (codes != _FREE)]
        return found

    def _added(self, numbers: Parts) -> Vector:
        """The codes of numbers none of which was added, some of them perhaps several times among these."""
        while self.count + len(numbers[0]) > _LOAD * (self._mask + 1):
            self._grow()
        return self._put(numbers)

    def _put(self, numbers: Parts, known: Vector | None = None) -> Vector:
        """Put numbers that are not there into the table. known: their codes; None for the next ones."""
        codes = np.empty(len(numbers[0]), np.int32)
        open_, place = np.arange(len(codes)), self._places(numbers)
        while len(open_):
            free = np.flatnonzero(self._codes[place] == _FREE)
            # Of several that claim a place the last one gets it.
            self._codes[place[free]] = free
            won = free[self._codes[place[free]] == free]
            at, mine = place[won], open_[won]
            for held, part in zip(self._numbers, numbers, strict=True):
                held[at] = part[mine]
            if known is not None:
                self._codes[at] = known[mine]
            else:
                self._codes[at] = np.arange(self.count, self.count + len(won), dtype=np.int32)
                self.count += len(won)
            there = self._at(place)
            others = _are_others(there, _some(numbers, open_))
            codes[open_[~others]] = there[~others, -1]
            open_, place = open_[others], (place[others] + 1) & self._mask
        return codes

    def _places(self, numbers: Parts) -> Vector:
        """Where each would stand if its place were free."""
        bits = numbers[0].view(np.uint64)
        for part in numbers[1:]:
            bits = ((bits ^ (bits >> _HALF)) * SPREADING) ^ part.view(np.uint64)
        found: Vector = (((bits ^ (bits >> _HALF)) * SPREADING) >> self._shift).astype(np.int64)
        return found

    def _at(self, places: Vector) -> Vector:
        """What stands at some places of the table."""
        # Each is one of its places: `take` is quicker where it need not refuse others.
        found: Vector = self._table.take(places, axis=0, mode="wrap")
        return found

    def _grow(self) -> None:
        held = self._codes != _FREE
        numbers, codes = _some(self._numbers, held), self._codes[held]
        self._reserve(self._bits + 1)
        self._put(numbers, codes)

    def _reserve(self, bits: int) -> None:
        self._bits = bits
        self._shift = np.uint64(64 - bits)
        self._mask = (1 << bits) - 1
        # A number and its code stand next to each other: each look meets one place of memory.
        self._table = np.zeros((1 << bits, self._parts + 1), np.int64)
        *numbers, self._codes = self._table.T
        self._numbers = tuple(numbers)
        self._codes[:] = _FREE


def _are_others(there: Vector, numbers: Parts) -> Vector:
    """Whether each number is another one than stands at its place."""
    found: Vector = there[:, 0] != numbers[0]
    for place, part in enumerate(numbers[1:], 1):
        found |= there[:, place] != part
    return found


def _some(numbers: Parts, rows: slice | Vector) -> Parts:
    return tuple(part[rows] for part in numbers)
