"""Dates and intervals of expressions: a moment moved by an interval, and the interval between two moments.

SQL:2016, 6.35 and 6.38. A date that is not there, as 30 February, is an exception there; it is blank here,
and counted.
"""

from __future__ import annotations

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions.expression import Node, RowCells
from keen_trellis.core.expressions.held import DATE, INTEGER, Vector, as_type, valid
from keen_trellis.core.values import ARROW_TYPES, FieldType

_MOMENT = ARROW_TYPES[FieldType.TIMESTAMP]
_MONTHS = {"YEAR": 12, "MONTH": 1}
_SECOND = 1_000_000  # microseconds
_UNITS = {"DAY": 86_400 * _SECOND, "HOUR": 3_600 * _SECOND, "MINUTE": 60 * _SECOND, "SECOND": _SECOND}
UNITS = (*_MONTHS, *_UNITS)
_FIRST, _LAST = np.datetime64("0001-01-01"), np.datetime64("9999-12-31")
_FIRST_MOMENT, _LAST_MOMENT = (
    np.datetime64("0001-01-01", "us"),
    np.datetime64("9999-12-31T23:59:59.999999", "us"),
)


class Interval(msgspec.Struct, frozen=True):
    """So many of a unit. count: whole numbers.  unit: one of UNITS."""

    count: Node
    unit: str


def moved(moment: Node, interval: Interval, sign: int) -> Node:
    """A date or timestamp, and the interval more (sign 1) or less (-1). UsageError for what has no such
    part.
    """
    if moment.type is None:
        return moment
    if not moment.type.is_moment:
        raise UsageError(
            f"An interval is added to a date or a timestamp, not to {moment.type.value}.",
            remedy="CAST it to DATE before.",
        )
    is_date = moment.type is FieldType.DATE
    if is_date and interval.unit in ("HOUR", "MINUTE", "SECOND"):
        raise UsageError(f"A date has no {interval.unit}.", remedy="CAST it to TIMESTAMP before.")
    kind = DATE if is_date else _MOMENT
    count = as_type(interval.count, INTEGER)

    def compute(rows: RowCells) -> pa.Array:
        values, counts = moment.evaluate(rows), count.evaluate(rows)
        known = valid(values) & valid(counts)
        days = values.cast(pa.date32() if is_date else _MOMENT).fill_null(0)
        whole = days.to_numpy(zero_copy_only=False).astype("M8[D]" if is_date else "M8[us]")
        by = counts.fill_null(0).to_numpy(zero_copy_only=False) * sign
        made, there = _moved(whole, by, interval.unit)
        rows.notes.out_of_range += int(np.count_nonzero(known & ~there))
        return pa.array(np.where(there, made, whole), mask=~(known & there)).cast(kind)

    return Node(kind, compute)


def _moved(whole: Vector, by: Vector, unit: str) -> tuple[Vector, Vector]:
    """Moments moved, and which of them there are: others are no dates, or outside of the years 1 to 9999."""
    least, most = (_FIRST, _LAST) if whole.dtype == np.dtype("M8[D]") else (_FIRST_MOMENT, _LAST_MOMENT)
    span = np.int64(10_000 * 366 * 86_400) * _SECOND  # longer than any that leads from a date to a date
    if unit in _MONTHS:
        near = np.abs(by) <= 120_000
        month = whole.astype("M8[M]")
        new = month + np.where(near, by, 0) * _MONTHS[unit]
        day = whole - month.astype(whole.dtype)
        made = new.astype(whole.dtype) + day
        there = near & (made.astype("M8[M]") == new)
    else:
        step = 1 if whole.dtype == np.dtype("M8[D]") else _UNITS[unit]
        near = np.abs(by) <= span // step
        made = whole + np.where(near, by, 0) * np.int64(step)
        there = near
    return made, there & (made >= least) & (made <= most)


def difference(unit: str, left: Node, right: Node) -> Node:
    """`(left - right) UNIT` as a number of units: of days and less how many whole ones lie between, toward
    zero; of months and years the difference of these fields alone. UsageError for what has no such part.
    """
    for side in (left, right):
        if side.type is not None and not side.type.is_moment:
            raise UsageError(
                f"There is no interval between {side.type.value} and anything.",
                remedy="CAST it to DATE before.",
            )
    if unit in ("HOUR", "MINUTE", "SECOND") and FieldType.DATE in (left.type, right.type):
        raise UsageError(f"A date has no {unit}.", remedy="CAST both to TIMESTAMP before.")
    one, other = as_type(left, _MOMENT), as_type(right, _MOMENT)

    def compute(rows: RowCells) -> pa.Array:
        sides = [node.evaluate(rows) for node in (one, other)]
        known = valid(sides[0]) & valid(sides[1])
        moments = [side.fill_null(0).to_numpy(zero_copy_only=False).astype("M8[us]") for side in sides]
        if unit in _MONTHS:
            fields = [
                moment.astype("M8[M]" if unit == "MONTH" else "M8[Y]").astype(np.int64) for moment in moments
            ]
            made = fields[0] - fields[1]
        else:
            apart = (moments[0] - moments[1]).astype(np.int64)
            made = np.sign(apart) * (np.abs(apart) // _UNITS[unit])
        return pa.array(made, INTEGER, mask=~known)

    return Node(INTEGER, compute)
