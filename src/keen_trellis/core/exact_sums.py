"""Exact sums of whole numbers and decimals, by group or running, as 128 bits in a high and a low half.

By group, numbers are cut into limbs so short that their sums are exact even as doubles, which NumPy adds up
in one pass; running, into limbs of 32 bits, whose sums 64 bits can hold. They are put together at the end.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import DataError
from keen_trellis.core.parallel import side_by_side
from keen_trellis.core.table import IndexVector, Mask
from keen_trellis.core.values import ARROW_TYPES, FieldType

Vector = np.ndarray[Any, Any]
MOST_DIGITS = 38
_INTEGER = ARROW_TYPES[FieldType.INTEGER]
_HALF = 32
_LOW_HALF = np.int64((1 << _HALF) - 1)


def words(values: pa.Array) -> tuple[Vector, Vector]:
    """Integers, or decimals in units of their last place, as 128 bits: high and low half, int64.

    What is read of a blank has no meaning.
    """
    if pa.types.is_decimal(values.type):
        halves = np.frombuffer(values.buffers()[1], np.int64)
        halves = halves[2 * values.offset : 2 * (values.offset + len(values))]
        return halves[1::2], halves[0::2]
    filled = values.fill_null(0) if values.null_count else values
    low = filled.to_numpy(zero_copy_only=False)
    return low >> 63, low


def summed(high: Vector, low: Vector, codes: IndexVector, size: int) -> tuple[Vector, Vector]:
    """The sum of each of `size` groups; codes: the group of each number."""
    # So many bits of as many values as there are add up to less than 2 ** 53.
    bits = 52 - len(low).bit_length()
    width = max(side_by_side(lambda part: _width(high[part], low[part]), len(low)))
    total_high, total_low = np.zeros(size, np.int64), np.zeros(size, np.int64)
    for start in range(0, width, bits):
        is_last = start + bits >= width
        limb = _limb(high, low, start, None if is_last else bits)
        sums = _sums(limb, codes, size).astype(np.int64)
        total_high, total_low = _added(total_high, total_low, sums, start)
    return total_high, total_low


def _width(high: Vector, low: Vector) -> int:
    """How many bits hold each of some numbers, with its sign."""
    if not np.array_equal(high, low >> 63):
        return 128
    return max(abs(int(end)) for end in (low.min(initial=0), low.max(initial=0))).bit_length() + 1


def _sums(numbers: Vector, codes: IndexVector, size: int) -> Vector:
    """The sum of each group of whole reals, which are small enough for it to be exact whatever the order."""
    parts = side_by_side(lambda part: np.bincount(codes[part], numbers[part], size), len(codes))
    found: Vector = parts[0] if len(parts) == 1 else np.sum(parts, axis=0)
    return found


def running(high: Vector, low: Vector, starts: IndexVector) -> tuple[Vector, Vector]:
    """For each number the sum of those from the start of its stretch up to it.

    starts: for each the place at which its stretch begins.  DataError where a sum leaves 128 bits.
    """
    carry = np.zeros(len(low), np.int64)
    halves = []
    for half in (low & _LOW_HALF, (low >> _HALF) & _LOW_HALF, high & _LOW_HALF, high >> _HALF):
        # Up to 2 ** 31 of them stay within 64 bits, with the carry.
        whole = np.cumsum(half)
        total = whole - (whole - half)[starts] + carry
        halves.append(total & _LOW_HALF)
        carry = total >> _HALF
    if (carry != (halves[-1] << _HALF) >> 63).any():
        raise DataError("A running total does not fit into 128 bits.", remedy="CAST to REAL before.")
    return halves[2] | (halves[3] << _HALF), halves[0] | (halves[1] << _HALF)


def exact(high: Vector, low: Vector, kind: pa.DataType, filled: Mask, name: str) -> pa.Array:
    """128 bits as integers or decimals, blank where not filled; DataError where they do not fit."""
    if kind == _INTEGER:
        if (high != low >> 63).any():
            raise DataError(
                f"{name}: a sum does not fit into 64 bits.", remedy="CAST to DECIMAL or REAL before summing."
            )
        return pa.array(low, mask=~filled)
    halves = np.empty((len(low), 2), np.int64)
    halves[:, 0], halves[:, 1] = low, high
    made = pa.Array.from_buffers(kind, len(low), [None, pa.py_buffer(halves)])
    try:
        made.validate(full=True)
    except pa.ArrowInvalid as error:
        raise DataError(
            f"{name}: a result does not fit into {MOST_DIGITS} digits.", remedy="CAST to REAL before summing."
        ) from error
    return pc.if_else(pa.array(filled), made, pa.scalar(None, kind))


def _limb(high: Vector, low: Vector, start: int, bits: int | None) -> Vector:
    """So many bits of 128 from `start` on, or all that are left, with the sign."""
    if start == 0:
        found = low
    elif start < 64:
        found = (low.view(np.uint64) >> np.uint64(start)).view(np.int64) | (high << np.int64(64 - start))
    else:
        found = high >> np.int64(start - 64)
    return found if bits is None else found & np.int64((1 << bits) - 1)


def _added(high: Vector, low: Vector, more: Vector, shift: int) -> tuple[Vector, Vector]:
    """128 bits and 64 bits that are moved up by `shift`, added."""
    if shift >= 64:
        return high + (more << np.int64(shift - 64)), low
    moved = more << np.int64(shift)
    carried = more >> np.int64(63 if shift == 0 else 64 - shift)
    total = low + moved
    carry = total.view(np.uint64) < moved.view(np.uint64)
    return high + carried + carry, total
