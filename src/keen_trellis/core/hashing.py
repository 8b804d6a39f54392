"""Whole numbers to codes from 0 on, by a hash table of vectors.

Open addressing with linear probing (D. Knuth, "The Art of Computer Programming", volume 3, 6.4), in which a
whole block of numbers takes each step together: those that are not settled after one go on to the next place.
"""

from __future__ import annotations

import numpy as np

from keen_trellis.core.parallel import block_by_block
from keen_trellis.core.text_bytes import SPREADING, Vector

_BLOCK = 1 << 15  # numbers that are looked for together
_ADDED = 1 << 20  # numbers that are added together
_LEAST_BITS = 12
_SAMPLE = 4_096
_LOAD = 0.4  # at most, so that few places are looked at
_FREE = -1
_HALF = np.uint64(32)


class Numbering:
    """Distinct whole numbers (int64) and their codes (int32), in the order in which they were added."""

    def __init__(self) -> None:
        self.count = 0
        self._reserve(_LEAST_BITS)

    def add(self, numbers: Vector) -> Vector:
        """The codes of N numbers; those that are new get the next ones."""
        if not self.count and len(numbers) > _SAMPLE:
            few = np.unique(numbers[:: len(numbers) // _SAMPLE])
            if len(few) > _SAMPLE // 2:  # most are distinct: the table need not grow step by step
                self._reserve(int(np.ceil(np.log2(min(len(numbers), _ADDED) / _LOAD))))
        codes = np.empty(len(numbers), np.int32)
        for first in range(0, len(numbers), _ADDED):
            rows = slice(first, first + _ADDED)
            found = self.find(numbers[rows]) if self.count else np.full(len(numbers[rows]), -1, np.int32)
            new = np.flatnonzero(found < 0)
            if len(new):
                found[new] = self._added(numbers[rows][new])
            codes[rows] = found
        return codes

    def find(self, numbers: Vector) -> Vector:
        """The codes of N numbers, -1 for one that was not added."""
        codes = np.empty(len(numbers), np.int32)

        def fill(rows: slice) -> None:
            codes[rows] = self._found(numbers[rows])

        block_by_block(fill, len(numbers), _BLOCK)
        return codes

    def _found(self, numbers: Vector) -> Vector:
        place = self._places(numbers)
        found: Vector = self._codes[place]
        open_ = np.flatnonzero((self._numbers[place] != numbers) & (found != _FREE))
        while len(open_):
            place[open_] = at = (place[open_] + 1) & self._mask
            found[open_] = codes = self._codes[at]
            open_ = open_[(self._numbers[at] != numbers[open_]) & (codes != _FREE)]
        return found

    def _added(self, numbers: Vector) -> Vector:
        """The codes of numbers none of which was added, some of them perhaps several times among these."""
        while self.count + len(numbers) > _LOAD * (self._mask + 1):
            self._grow()
        return self._put(numbers)

    def _put(self, numbers: Vector, known: Vector | None = None) -> Vector:
        """Put numbers that are not there into the table. known: their codes; None for the next ones."""
        codes = np.empty(len(numbers), np.int32)
        open_, place = np.arange(len(numbers)), self._places(numbers)
        while len(open_):
            free = np.flatnonzero(self._codes[place] == _FREE)
            # Of several that claim a place the last one gets it.
            self._codes[place[free]] = free
            won = free[self._codes[place[free]] == free]
            at, mine = place[won], open_[won]
            self._numbers[at] = numbers[mine]
            if known is not None:
                self._codes[at] = known[mine]
            else:
                self._codes[at] = np.arange(self.count, self.count + len(won), dtype=np.int32)
                self.count += len(won)
            same = self._numbers[place] == numbers[open_]
            codes[open_[same]] = self._codes[place[same]]
            open_, place = open_[~same], (place[~same] + 1) & self._mask
        return codes

    def _places(self, numbers: Vector) -> Vector:
        """Where each would stand if its place were free."""
        bits = numbers.view(np.uint64)
        found: Vector = (((bits ^ (bits >> _HALF)) * SPREADING) >> self._shift).astype(np.int64)
        return found

    def _grow(self) -> None:
        held = self._codes != _FREE
        numbers, codes = self._numbers[held], self._codes[held]
        self._reserve(self._bits + 1)
        self._put(numbers, codes)

    def _reserve(self, bits: int) -> None:
        self._bits = bits
        self._shift = np.uint64(64 - bits)
        self._mask = (1 << bits) - 1
        self._numbers = np.zeros(1 << bits, np.int64)
        self._codes = np.full(1 << bits, _FREE, np.int32)
