"""Numbers or moments that are near each other: within so much, or the nearest of all."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation

import numpy as np
import pyarrow as pa

from keen_trellis.core.comparing import as_comparable, reals
from keen_trellis.core.encoding import Encoded
from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.letters import Vector
from keen_trellis.core.link import ANY_DISTANCE, Likeness
from keen_trellis.core.ordering import in_order
from keen_trellis.core.ragged import laid_out
from keen_trellis.core.ranges import Limits, bisected, check_pairs
from keen_trellis.core.values import FieldType, type_of_arrow, unscaled

_DAY = 86_400_000_000  # microseconds
_MOST_DIGITS = 38


def near(
    left: pa.Array, right: pa.Array, groups: Encoded, likeness: Likeness, limits: Limits
) -> tuple[Vector, Vector, Vector]:
    """Pairs of rows of one group whose values are near: their numbers, and the distance, in days of moments.

    left, right: values a row, both numbers or both dates or timestamps, null matches nothing.  likeness: how
    far the right value may be from the left one, on which side of it, and whether only the nearest ones are
    meant. DataError where these are too many pairs, or decimals leave 64 bits.
    """
    one, other, unit = _on_one_scale(left, right)
    span = _span(likeness, unit, one.dtype)
    known = right.is_valid().to_numpy(zero_copy_only=False) & (groups.right >= 0)
    order = np.flatnonzero(known)
    order = order[in_order(groups.right[order], other[order])]
    bounds = np.searchsorted(groups.right[order], np.arange(groups.size + 1))
    asking = np.flatnonzero(left.is_valid().to_numpy(zero_copy_only=False) & (groups.left >= 0))
    values, wanted = other[order], one[asking]
    first, last = bounds[groups.left[asking]], bounds[groups.left[asking] + 1]
    low = wanted - span if likeness.side != "after" else wanted
    high = wanted + span if likeness.side != "before" else wanted
    if likeness.best:
        low, high = _nearest(values, first, last, wanted, low, high)
    start = bisected(values, first, last, low, behind=False)
    stop = np.maximum(bisected(values, first, last, high, behind=True), start)
    check_pairs(int((stop - start).sum()), limits)
    at, place = laid_out(stop - start)
    rows, others = asking[at], order[start[at] + place]
    distance = np.abs(one[rows] - other[others])
    if likeness.best and len(rows):
        # Of the two neighbours one may be farther than the other.
        starts = np.flatnonzero(np.diff(rows, prepend=-1))
        least = np.repeat(np.minimum.reduceat(distance, starts), np.diff(np.append(starts, len(rows))))
        kept = distance == least
        rows, others, distance = rows[kept], others[kept], distance[kept]
    return rows, others, distance / unit


def _nearest(
    values: Vector, first: Vector, last: Vector, wanted: Vector, low: Vector, high: Vector
) -> tuple[Vector, Vector]:
    """What is wanted at least and at most, where only the nearest values before and after are."""
    behind = bisected(values, first, last, wanted, behind=True)
    before = bisected(values, first, last, wanted, behind=False)
    held = np.append(values, values[:1] if len(values) else np.zeros(1, wanted.dtype))
    # The value itself counts as one before and one after.
    under = np.where(behind > first, held[np.maximum(behind - 1, 0)], wanted)
    over = np.where(before < last, held[before], wanted)
    return np.maximum(low, under), np.minimum(high, over)


def _on_one_scale(left: pa.Array, right: pa.Array) -> tuple[Vector, Vector, float]:
    """Both sides as numbers, and how many of these are one unit: exact, unless one of them is real."""
    kinds = {type_of_arrow(left.type), type_of_arrow(right.type)}
    if FieldType.REAL in kinds:
        return reals(left), reals(right), 1.0
    if FieldType.DECIMAL in kinds:
        scale = max(side.type.scale for side in (left, right) if pa.types.is_decimal(side.type))
        made = []
        for side in (left, right):
            try:
                held = (
                    side.fill_null(0).cast(pa.decimal256(76, scale)).cast(pa.decimal128(_MOST_DIGITS, scale))
                )
            except pa.ArrowInvalid:
                raise _too_large() from None
            units, narrow = unscaled(held)
            if not narrow:
                raise _too_large()
            made.append(_in_reach(units))
        return made[0], made[1], float(10**scale)
    one, other = as_comparable(left, right)
    if FieldType.TIMESTAMP in kinds:
        return one, other, float(_DAY)
    return _in_reach(one.astype(np.int64)), _in_reach(other.astype(np.int64)), 1.0


def _in_reach(numbers: Vector) -> Vector:
    """Numbers to which a span can be added within 64 bits."""
    if len(numbers) and max(abs(int(numbers.min())), abs(int(numbers.max()))) >= 2**62:
        raise _too_large()
    return numbers


def _too_large() -> DataError:
    return DataError(
        "A number is too large to be compared by its distance.", remedy="CAST it to REAL before."
    )


def span_of(text: str) -> Decimal | None:
    """How far values may be apart, None for any distance. UsageError for what is no number from 0."""
    if text in ("", ANY_DISTANCE):
        return None
    try:
        found = Decimal(text)
    except InvalidOperation:
        found = Decimal("NaN")
    if not found.is_finite() or found < 0:
        raise UsageError(
            f"“{text}” is no distance.", remedy="Write a number from 0, as 3 or 0.5; of dates, days."
        )
    return found


def _span(likeness: Likeness, unit: float, kind: np.dtype) -> object:
    span = span_of(likeness.within)
    if np.issubdtype(kind, np.floating):
        return np.inf if span is None else float(span)
    most = 2**62
    return np.int64(most if span is None else min(int(span * Decimal(unit)), most))
