"""Where the quotation marks of delimited text open and close, for 64 bytes at a time.

Each byte of a block is a bit of a word, and a byte is quoted if an odd number of marks stands up to it: the
exclusive or of all bits before, after Geoff Langdale and Daniel Lemire, "Parsing gigabytes of JSON per
second" (2019), by shifts.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

Vector = np.ndarray[Any, Any]

# So much at a time that it stays in the processor's cache: bytes, a multiple of 64, and words.
_CHUNK, _WORDS = 1 << 18, 1 << 13
_SHIFTS = [np.uint64(1 << power) for power in range(6)]
_ONE, _LAST = np.uint64(1), np.uint64(63)
_NEWLINE, _RETURN = ord("\n"), ord("\r")


class Quotation:
    """The quotation marks of some bytes that begin outside of quotation (inside, if it `is_open` there).
    has_returns: whether returns may be among them, as a search tells sooner than this does.

    marks: how many there are.  stand_well: whether they are as RFC 4180 has them: read from the start, marks
    open and close by turns, a doubled mark closing and opening at once; so each that opens must follow a
    delimiter, a line's end or a mark, and each that closes must be followed by one.  ends_open: whether the
    last one opens.  newlines, row_ends: how many lines end there, and how many of them outside of quotation.
    """

    def __init__(
        self, content: Vector, quote: str, delimiter: str, *, is_open: bool = False, has_returns: bool = True
    ) -> None:
        signs = [ord(quote), _NEWLINE, ord(delimiter), _RETURN]
        marks, self._newlines, *around = _bits(content, signs if has_returns else signs[:-1])
        # What may stand beside a mark, with a word around it: nothing odd is known of what is before the
        # first byte and behind the last one.
        edges = np.zeros(len(marks) + 2, "<u8")
        edges[0] = _ONE << _LAST
        for bits in (marks, self._newlines, *around):
            edges[1:-1] |= bits
        edges[1 + len(content) // 64] |= _ONE << np.uint64(len(content) % 64)
        self._outside = np.empty_like(marks)
        self.marks, self.newlines, self.row_ends = 0, 0, 0
        self.stand_well, self.ends_open = True, is_open
        for start in range(0, len(marks), _WORDS):
            here = slice(start, start + _WORDS)
            near = edges[start : start + _WORDS + 2]
            self._look(marks[here], near, self._newlines[here], self._outside[here])

    def _look(self, marks: Vector, near: Vector, newlines: Vector, outside: Vector) -> None:
        """Look at further words. near: what may stand beside marks, there and in a word before and behind;
        outside: is filled.
        """
        quoted = _odd_up_to(marks)
        if self.ends_open:
            np.invert(quoted, out=quoted)
        before = (near[1:-1] << _ONE) | (near[:-2] >> _LAST)
        after = (near[1:-1] >> _ONE) | (near[2:] << _LAST)
        if (marks & ~((quoted & before) | (~quoted & after))).any():
            self.stand_well = False
        np.bitwise_and(newlines, ~quoted, out=outside)
        count = _count(marks)
        self.marks += count
        self.ends_open ^= count % 2 == 1
        self.newlines += _count(newlines)
        self.row_ends += _count(outside)

    def ends(self) -> tuple[Vector, Vector]:
        """The places at which lines end, and for each whether that ends a row."""
        places: Vector = np.flatnonzero(_unpacked(self._newlines))
        return places, _unpacked(self._outside)[places].view(bool)


def _bits(content: Vector, signs: Sequence[int]) -> Vector:
    """A row of bits for each sign: where it stands."""
    found = np.zeros((len(signs), -(-len(content) // 64) * 8), np.uint8)
    room = np.empty(_CHUNK, bool)
    for start in range(0, len(content), _CHUNK):
        part = content[start : start + _CHUNK]
        for row, sign in zip(found, signs, strict=True):
            packed = np.packbits(np.equal(part, sign, out=room[: len(part)]), bitorder="little")
            row[start // 8 : start // 8 + len(packed)] = packed
    return found.view("<u8")


def _odd_up_to(bits: Vector) -> Vector:
    """For each bit whether an odd number of ones stands up to it, itself included."""
    odd = bits.copy()
    for shift in _SHIFTS:
        odd ^= odd << shift
    carried = np.bitwise_xor.accumulate(odd >> _LAST)
    odd[1:] ^= np.uint64(0) - carried[:-1]
    return odd


def _count(bits: Vector) -> int:
    return int(np.bitwise_count(bits).sum(dtype=np.int64))


def _unpacked(bits: Vector) -> Vector:
    return np.unpackbits(bits.view(np.uint8), bitorder="little")
