"""Where the quotation marks of delimited text open and close, for 64 bytes at a time.

Each byte of a block is a bit of a word, and a byte is quoted if an odd number of marks stands up to it: the
exclusive or of all bits before, after Geoff Langdale and Daniel Lemire, "Parsing gigabytes of JSON per
second" (2019), by shifts.
"""

from __future__ import annotations

from typing import Any

import numpy as np

Vector = np.ndarray[Any, Any]

_CHUNK = 1 << 17  # bytes at a time, so that they stay in the processor's cache; a multiple of 64
_SHIFTS = [np.uint64(1 << power) for power in range(6)]
_ONE, _LAST = np.uint64(1), np.uint64(63)
_NEWLINE, _RETURN = ord("\n"), ord("\r")


class Quotation:
    """The quotation marks of some bytes that begin outside of quotation (inside, if it `is_open` there).

    marks: how many there are.  stand_well: whether they are as RFC 4180 has them: read from the start, marks
    open and close by turns, a doubled mark closing and opening at once; so each that opens must follow a
    delimiter, a line's end or a mark, and each that closes must be followed by one.  ends_open: whether the
    last one opens.  newlines, row_ends: how many lines end there, and how many of them outside of quotation.
    """

    def __init__(self, content: Vector, quote: str, delimiter: str, *, is_open: bool = False) -> None:
        marks, around, self._newlines = _bits(content, ord(quote), ord(delimiter))
        quoted = _odd_up_to(marks)
        if is_open:
            quoted = ~quoted
        edges = marks | around
        before, after = edges << _ONE, edges >> _ONE
        before[1:] |= edges[:-1] >> _LAST
        after[:-1] |= edges[1:] << _LAST
        # Nothing odd is known of what is before the first byte and behind the last one.
        before[:1] |= _ONE
        if len(content):
            after[-1] |= _ONE << np.uint64((len(content) - 1) % 64)
        self._outside = self._newlines & ~quoted
        self.marks = _count(marks)
        self.stand_well = not ((marks & quoted & ~before).any() or (marks & ~quoted & ~after).any())
        self.ends_open = bool(self.marks % 2) != is_open
        self.newlines, self.row_ends = _count(self._newlines), _count(self._outside)

    def ends(self) -> tuple[Vector, Vector]:
        """The places at which lines end, and for each whether that ends a row."""
        places: Vector = np.flatnonzero(_unpacked(self._newlines))
        return places, _unpacked(self._outside)[places].view(bool)


def _bits(content: Vector, quote: int, delimiter: int) -> tuple[Vector, Vector, Vector]:
    """The bits of quotation marks, of what may stand beside them, and of newlines."""
    found = np.zeros((3, -(-len(content) // 64) * 8), np.uint8)
    for start in range(0, len(content), _CHUNK):
        part = content[start : start + _CHUNK]
        newlines = part == _NEWLINE
        signs = (part == quote, (part == delimiter) | (part == _RETURN) | newlines, newlines)
        for row, is_sign in zip(found, signs, strict=True):
            packed = np.packbits(is_sign, bitorder="little")
            row[start // 8 : start // 8 + len(packed)] = packed
    marks, around, ends = found.view("<u8")
    return marks, around, ends


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
