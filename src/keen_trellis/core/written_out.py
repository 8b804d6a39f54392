"""Writes decimals, dates and moments out as text, whole columns at a time.

Each function answers None where values are not such as it writes: slower ways have to do it then.
"""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.text_bytes import bytes_of, text_of, with_blanks

Vector = np.ndarray[Any, Any]

_TEXT = pa.large_string()
_MOST_DIGITS = 18  # so that there is room in 64 bits for one more
_ZERO = ord("0")
_DAY, _TIME = len("2026-11-23"), len("10:15:30")
_FIRST_DAY, _LAST_DAY = -719_162, 2_932_896  # from 1970: the years that have four digits
_SECOND, _SECONDS = 1_000_000, 86_400  # in microseconds, and in a day


def units_as_text(units: Vector, scale: int, blank: Vector | None) -> pa.Array | None:
    """Decimals of up to 18 digits with all of their places, as n values of text.

    units: what they are in units of their last place, n of int64.  scale: their places.  blank: bool mask of
    those that are, or None.
    """
    if not 0 <= scale < _MOST_DIGITS or (np.abs(units) >= 10**_MOST_DIGITS).any():
        return None
    if not scale:
        return pa.array(units, mask=blank).cast(_TEXT)
    # Below one there are too few digits: these get a one before them, which becomes a zero.
    is_small = np.abs(units) < 10**scale
    units = units + np.where(is_small, np.where(units < 0, -(10**scale), 10**scale), 0)
    digits = pa.array(units, mask=blank).cast(_TEXT).view(pa.large_binary())
    made = pc.binary_replace_slice(digits, start=-scale, stop=-scale, replacement=b".")
    validity, offsets, content = made.buffers()
    if is_small.any():
        rows = np.flatnonzero(is_small if blank is None else is_small & ~blank)
        letters = np.frombuffer(content, np.uint8).copy()
        letters[np.frombuffer(offsets, np.int64)[:-1][rows] + (units[rows] < 0)] = _ZERO
        content = pa.py_buffer(letters)
    return pa.Array.from_buffers(_TEXT, len(made), [validity, offsets, content], made.null_count)


def dates_as_text(dates: pa.Array) -> pa.Array | None:
    """Dates of the years from 1 to 9999 as ISO 8601 has them: n of date32 as n values of text."""
    filled = dates.drop_null()
    letters = _days(filled.view(pa.int32()).to_numpy().astype(np.int64))
    return None if letters is None else _of_letters(letters, dates)


def moments_as_text(moments: pa.Array) -> pa.Array | None:
    """Moments at whole seconds as ISO 8601 has them, with a space: n of timestamp("us") as n values of
    text.
    """
    seconds, parts = np.divmod(moments.drop_null().view(pa.int64()).to_numpy(), _SECOND)
    if parts.any():
        return None
    days, seconds = np.divmod(seconds, _SECONDS)
    of_days = _days(days)
    if of_days is None:
        return None
    letters = np.full((len(days), _DAY + 1 + _TIME), ord(" "), np.uint8)
    letters[:, :_DAY] = of_days
    letters[:, _DAY + 1 :] = _times().take(seconds, axis=0)
    return _of_letters(letters, moments)


def _days(days: Vector) -> Vector | None:
    """N days as n x 10 letters; None where their range is wider than there are values."""
    if not len(days):
        return None
    first, last = int(days.min()), int(days.max())
    if first < _FIRST_DAY or last > _LAST_DAY or last - first > len(days):
        return None
    # Each day of the range is written once.
    written = pa.array(np.arange(first, last + 1, dtype=np.int32)).view(pa.date32()).cast(_TEXT)
    found: Vector = bytes_of(written)[0].reshape(-1, _DAY).take(days - first, axis=0)
    return found


@cache
def _times() -> Vector:
    """Every second of a day as 86,400 x 8 letters."""
    written = pa.array(np.arange(_SECONDS, dtype=np.int32)).view(pa.time32("s")).cast(_TEXT)
    return bytes_of(written)[0].reshape(-1, _TIME)


def _of_letters(letters: Vector, like: pa.Array) -> pa.Array:
    """Text of m rows of as many letters each, with blanks where `like` has them."""
    made = text_of(letters, np.arange(len(letters) + 1) * letters.shape[1])
    return with_blanks(made, np.asarray(like.is_valid()) if like.null_count else None)
