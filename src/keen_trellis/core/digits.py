"""Reads plain numbers and dates from columns of text, eight characters of every value at a time.

A value's characters are taken as little-endian 64-bit words from its end on, so that one operation on a
vector of words works on eight characters of all values. Eight digits become a number in three
multiplications, after Daniel Lemire, "Quickly parsing eight digits" (2018). Each function answers None where
not all values are written plainly: that is no answer, and slower ways have to decide.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

Vector = np.ndarray[Any, Any]

_MOST_DIGITS = 18  # so many fit into 64 bits, whatever they are
_ZERO, _POINT, _MINUS = ord("0"), ord("."), ord("-")
_ZEROS, _POINT_BIT = (np.uint64(byte * 0x0101010101010101) for byte in (_ZERO, (_POINT ^ _ZERO) & 0x10))
# Which bytes of a word belong to a value of so many characters: its last ones.
_KEPT = np.array([2**64 - 2 ** (64 - 8 * size) for size in range(9)], np.uint64)
_TENS = 10 ** np.arange(_MOST_DIGITS + 1, dtype=np.int64)
_BLOCK = 1 << 14  # rows at a time, so that vectors of words stay in the processor's cache
_DATE = len("2026-11-23")


def plain_integers(values: pa.Array) -> pa.Array | None:
    """Digits, perhaps after a minus, with no zero before others: n values of text as n of int64."""
    found = _numbers(values)
    return None if found is None or found.points else _kept_blank(pa.array(found.digits), values)


def plain_decimals(values: pa.Array) -> pa.Array | None:
    """Digits around at most one point, perhaps after a minus, with no zero before others: n values of text
    as n of the narrowest decimal128 that holds them.
    """
    found = _numbers(values)
    if found is None:
        return None
    scale = int(found.behind.max())
    most = max(int((found.lengths - found.behind - (found.behind > 0)).max()), 1) + scale
    # One point too many, or one with nothing behind it, is a point that no value was seen to have.
    if most > _MOST_DIGITS or np.count_nonzero(found.behind) != found.points:
        return None
    wide = np.empty((len(values), 2), np.int64)
    np.multiply(found.digits, _TENS[scale - found.behind], out=wide[:, 0])
    np.right_shift(wide[:, 0], 63, out=wide[:, 1])
    made = pa.Array.from_buffers(pa.decimal128(most, scale), len(values), [None, pa.py_buffer(wide)])
    return _kept_blank(made, values)


def plain_dates(values: pa.Array) -> pa.Array | None:
    """ISO dates from the year 1 on: n values of text as n of date32."""
    text = _Text(values)
    if not text.is_whole or (text.lengths[text.lengths > 0] != _DATE).any():
        return None
    letters: Vector = text.content.reshape(-1, _DATE)
    digits = letters - np.uint8(_ZERO)
    if (letters[:, [4, 7]] != _MINUS).any() or np.count_nonzero(digits > 9) != 2 * len(digits):
        return None
    year = _number(digits[:, 0:4])
    month, day = _number(digits[:, 5:7]), _number(digits[:, 8:10])
    if year.min() < 1 or month.min() < 1 or month.max() > 12 or day.min() < 1:
        return None
    months = _first_of_months()
    place = year * np.int32(12) + month
    days = months[place - 1] + day - np.int32(1)
    if (days >= months[place]).any():
        return None
    if values.null_count:
        filled, days = days, np.zeros(len(values), np.int32)
        days[text.lengths > 0] = filled
    return _kept_blank(pa.array(days).view(pa.date32()), values)


def _number(digits: Vector) -> Vector:
    """N rows of k digits as n of int32."""
    made = digits[:, 0].astype(np.int32)
    for place in range(1, digits.shape[1]):
        made *= np.int32(10)
        made += digits[:, place]
    return made


@cache
def _first_of_months() -> Vector:
    """The day, counted from 1970, on which each month begins, from January of the year 0 on."""
    months = np.arange("0000-01", "10000-02", dtype="datetime64[M]")
    return months.astype("datetime64[D]").astype(np.int32)


def _kept_blank(made: pa.Array, values: pa.Array) -> pa.Array:
    return pc.if_else(pc.is_valid(values), made, pa.scalar(None, made.type)) if values.null_count else made


class _Text:
    """A column of text as Arrow holds it: all bytes, one value behind the other.

    is_whole: whether it has values, and blanks are the only ones without characters.
    """

    def __init__(self, values: pa.Array) -> None:
        _, offsets, content = values.cast(pa.large_string()).buffers()
        places = np.frombuffer(offsets, np.int64)[values.offset : values.offset + len(values) + 1]
        every = np.zeros(0, np.uint8) if content is None else np.frombuffer(content, np.uint8)
        self.content = every[places[0] : places[-1]]
        self.starts, self.ends = places[:-1] - places[0], places[1:] - places[0]
        self.lengths = self.ends - self.starts
        self.is_whole = len(self.content) > 0 and np.count_nonzero(self.lengths == 0) == values.null_count

    def letter(self, place: Vector | int) -> Vector:
        """The byte at this place of each value; of one that is shorter, some other."""
        found: Vector = self.content.take(self.starts + place, mode="clip")
        return found


@dataclass(frozen=True)
class _Numbers:
    """Plain numbers.

    points: how many of them there are.  lengths: of the values without their minus.  digits: those of a value
    as one number.  behind: how many of them stand behind its point.
    """

    points: int
    lengths: Vector
    digits: Vector
    behind: Vector


def _numbers(values: pa.Array) -> _Numbers | None:
    """The values if they are nothing but digits, points and a minus before them, as plain numbers are."""
    text = _Text(values)
    if not text.is_whole or text.lengths.max() > _MOST_DIGITS:
        return None
    lengths, signs = text.lengths, 0
    points = int(np.count_nonzero(text.content == _POINT))
    others = int(np.count_nonzero(text.content - np.uint8(_ZERO) > 9)) - points
    if others:
        signs = (text.letter(0) == _MINUS) & (lengths > 0)
        lengths = lengths - signs
        if np.count_nonzero(signs) != others or (lengths[signs] == 0).any():
            return None
    first = text.letter(signs)
    leading = np.flatnonzero((first == _ZERO) & (lengths > 1))
    if len(leading) and (text.letter(signs + 1)[leading] != _POINT).any():
        return None
    if points and ((first == _POINT) & (lengths > 0)).any():
        return None
    digits, behind = _parsed(text, lengths, with_points=points > 0)
    return _Numbers(points, lengths, np.where(signs, -digits, digits) if others else digits, behind)


def _parsed(text: _Text, lengths: Vector, *, with_points: bool) -> tuple[Vector, Vector]:
    """The digits of each value as one number, and how many of them stand behind a point (the first one seen
    from the end; there should be no other).
    """
    digits, behind = np.zeros(len(lengths), np.int64), np.zeros(len(lengths), np.int64)
    words = -(-int(lengths.max()) // 8)
    # With so many bytes in front, the word that ends where a value ends at e begins at e + 8 * (words - 1).
    padded = np.concatenate((np.zeros(8 * words, np.uint8), text.content))
    every = np.ndarray((len(padded) - 7,), "<u8", buffer=padded, strides=(1,))
    for start in range(0, len(lengths), _BLOCK):
        part = slice(start, start + _BLOCK)
        ends, left = text.ends[part] + 8 * (words - 1), lengths[part]
        for word in range(words):
            kept = _KEPT[left if words == 1 else np.clip(left - 8 * word, 0, 8)]
            number = (every[ends - 8 * word if word else ends] ^ _ZEROS) & kept
            place = 8 * word - (behind[part] > 0) if with_points and word else 8 * word
            if with_points:
                number, after = _without_point(number)
                behind[part] += np.where(after > 0, after + 8 * word, 0) if word else after
            made = _eight_digits(number)
            digits[part] = made if not word else digits[part] + made * _TENS[place]
    return digits, behind


def _without_point(number: Vector) -> tuple[Vector, Vector]:
    """Words of digits (bytes 0 to 9) with the point taken out, and how many digits stand behind it."""
    # A point less a zero is the one byte here with this bit; moved down, it is a one in the point's byte.
    unit = (number & _POINT_BIT) >> np.uint64(4)
    before = number & (np.maximum(unit, np.uint64(1)) - np.uint64(1))
    # What stands before it moves up by a byte: 256 times as much.
    joined = number - unit * np.uint64(_POINT ^ _ZERO) + before * np.uint64(255)
    # Multiplied by a bit in its own byte, byte 7 - p of the constant comes to stand in the highest one.
    after = (unit * np.uint64(0x0706050403020100)) >> np.uint64(56)
    return joined, after.view(np.int64)


def _eight_digits(number: Vector) -> Vector:
    """Eight bytes with a digit each, the first in the lowest, as one number (int64)."""
    pairs = number * np.uint64(10) + (number >> np.uint64(8))
    even, odd = np.uint64(0x000F424000000064), np.uint64(0x0000271000000001)
    mask = np.uint64(0x000000FF000000FF)
    made = (pairs & mask) * even + ((pairs >> np.uint64(16)) & mask) * odd
    return (made >> np.uint64(32)).view(np.int64)
