"""Reads numbers, dates and moments that are written plainly from columns of text.

That all values are plain is told by their bytes, which Arrow holds one value behind the other, so that few
operations look at all of them; Arrow then reads them. Each function answers None where not all are: that is
no answer, and slower ways have to decide.
"""

from __future__ import annotations

from functools import cached_property
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.text_bytes import bytes_of, text_of, with_blanks

Vector = np.ndarray[Any, Any]

# So many digits fit into integers of 64 bits, reals of as many, and decimals, whatever they are.
_MOST_IN_INTEGERS, _MOST_IN_REALS, _MOST_IN_DECIMALS = 18, 15, 38
_ZERO, _POINT, _MINUS = (ord(sign) for sign in "0.-")
_TEXT = pa.large_string()
# How long dates and moments are, and the signs between their digits, by place: to the minute, the second,
# or parts of it.
_DATES = (len("2026-11-23"),)
_MOMENTS = tuple(len("2026-11-23 10:15") + further for further in (0, 3, *range(5, 11)))
_BETWEEN = {4: "-", 7: "-", 10: " T", 13: ":", 16: ":", 19: "."}
_FIRST_DAY = -719_162  # of the year 1, from 1970
_MICROSECONDS = 86_400_000_000  # in a day


def plain_integers(values: pa.Array) -> pa.Array | None:
    """Digits, perhaps after a minus, with no zero before others: n values of text as n of int64."""
    text = _Text.of(values)
    if text is None or text.lengths.max() > _MOST_IN_INTEGERS:
        return None
    begins = text.behind_signs(text.others())
    if begins is None or not text.begin_plainly(begins):
        return None
    return text.with_blanks(_read(text.values, pa.int64()))


def plain_decimals(values: pa.Array) -> pa.Array | None:
    """Digits around at most one point, perhaps after a minus, with no zero before others: n values of text
    as n of the narrowest decimal128 that holds them.
    """
    text = _Text.of(values)
    if text is None or text.lengths.max() > _MOST_IN_DECIMALS + len("-."):
        return None
    places = text.places_of_points()
    has_point = places >= 0
    points = int(np.count_nonzero(has_point))
    # A second point in a value is left over here, and is no minus.
    begins = text.behind_signs(text.others() - points)
    if begins is None or not text.begin_plainly(begins):
        return None
    behind = np.where(has_point, text.lengths - places - 1, 0)
    scale = int(behind.max())
    most = max(int((text.offsets[1:] - begins - behind - has_point).max()), 1) + scale
    if most > _MOST_IN_DECIMALS or np.count_nonzero(behind) != points:
        return None  # or nothing stands behind a point
    kind = pa.decimal128(most, scale)
    if most > _MOST_IN_REALS:
        return text.with_blanks(_read(text.values.cast(pa.string()), kind))
    reals = _read(text.values, pa.float64())
    if reals is None:
        return None
    # Of so few digits the nearest real times a power of ten is less than a quarter off.
    wide = np.empty((len(reals), 2), np.int64)
    wide[:, 0] = np.rint(reals.to_numpy() * 10.0**scale)
    np.right_shift(wide[:, 0], 63, out=wide[:, 1])
    made = pa.Array.from_buffers(kind, len(reals), [None, pa.py_buffer(wide)])
    return text.with_blanks(made)


def plain_dates(values: pa.Array) -> pa.Array | None:
    """ISO dates from the year 1 on: n values of text as n of date32."""
    return _moments(values, _DATES, pa.date32(), _FIRST_DAY)


def plain_moments(values: pa.Array) -> pa.Array | None:
    """ISO dates with a time, all to the same part of a second, from the year 1 on: n values of text as n
    of timestamp("us").
    """
    return _moments(values, _MOMENTS, pa.timestamp("us"), _FIRST_DAY * _MICROSECONDS)


def _moments(values: pa.Array, lengths: tuple[int, ...], kind: pa.DataType, least: int) -> pa.Array | None:
    """All values as this type if each is digits with signs between them, and none is less than `least`."""
    text = _Text.of(values)
    if text is None:
        return None
    length = int(text.lengths[0])
    if length not in lengths or (text.lengths != length).any():
        return None
    letters = text.content.reshape(-1, length)
    between = [(place, signs) for place, signs in _BETWEEN.items() if place < length]
    for place, signs in between:
        column = letters[:, place]
        if not np.logical_or.reduce([column == ord(sign) for sign in signs]).all():
            return None
    if text.others() != len(between) * len(letters):
        return None
    made = _read(text.values, kind)
    units = pa.int32() if pa.types.is_date(kind) else pa.int64()
    return None if made is None or pc.min(made.view(units)).as_py() < least else text.with_blanks(made)


class _Text(msgspec.Struct, frozen=True, dict=True):
    """The m values of a column that are not blank. None of them is without characters.

    content: all their bytes.  offsets: m + 1, where each begins and ends.  is_filled: bool mask of the n
    values of the column, None if all are filled.
    """

    content: Vector
    offsets: Vector
    is_filled: Vector | None

    @staticmethod
    def of(values: pa.Array) -> _Text | None:
        """The values of a column of text; None if there are none, or some that are empty but not blank."""
        every, places = bytes_of(values.cast(_TEXT))
        is_filled: Vector = np.diff(places) > 0
        if values.null_count:
            if not np.array_equal(is_filled, values.is_valid().to_numpy(zero_copy_only=False)):
                return None
            places = np.append(places[:-1][is_filled], places[-1])
        elif not is_filled.all():
            return None
        if len(places) < 2:
            return None
        return _Text(every, places, is_filled if values.null_count else None)

    @cached_property
    def lengths(self) -> Vector:
        """How many bytes each value has."""
        return np.diff(self.offsets)

    @property
    def values(self) -> pa.Array:
        """The values as Arrow holds them."""
        return text_of(self.content, self.offsets)

    def others(self) -> int:
        """How many bytes are no digits."""
        return int(np.count_nonzero(self.content - np.uint8(_ZERO) > 9))

    def behind_signs(self, minuses: int) -> Vector | None:
        """Where each value begins behind its minus; None unless there are just so many minuses at their
        beginnings.
        """
        starts = self.offsets[:-1]
        if not minuses:
            return starts
        signs = self.content[starts] == _MINUS
        return starts + signs if np.count_nonzero(signs) == minuses else None

    def places_of_points(self) -> Vector:
        """Where in each value its first point is, counted in bytes; -1 in those without."""
        lengths = self.lengths
        first = bytes(self.content[: lengths[0]]).find(b".")
        if first >= 0 and np.count_nonzero(self.content == _POINT) == len(lengths):
            places: Vector = lengths - lengths[0] + first
            if (places >= 0).all() and (self.content[self.offsets[:-1] + places] == _POINT).all():
                return places  # as far from the end in all of them
        found: Vector = pc.find_substring(self.values, ".").to_numpy()
        return found

    def begin_plainly(self, begins: Vector) -> bool:
        """Whether the values begin there with a digit that is no zero before another one. A byte behind the
        last value counts as a digit.
        """
        first = self.content.take(begins, mode="clip")
        is_zero = (first == _ZERO) & (begins + 1 < self.offsets[1:])
        if is_zero.any() and (is_zero & (self.content.take(begins + 1, mode="clip") != _POINT)).any():
            return False
        return not (first == _POINT).any()

    def with_blanks(self, made: pa.Array | None) -> pa.Array | None:
        """What was made of the m values, as n with the blank ones among them."""
        return None if made is None else with_blanks(made, self.is_filled)


def _read(texts: pa.Array, kind: pa.DataType) -> pa.Array | None:
    """Texts as Arrow reads them; None if one cannot be read."""
    try:
        return texts.cast(kind)
    except pa.ArrowInvalid:
        return None
