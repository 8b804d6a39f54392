"""A bar of a distribution as a condition of a filter."""

from __future__ import annotations

import datetime as dt
from typing import Any

from keen_trellis.core.expressions.quoting import quoted_name, quoted_text
from keen_trellis.core.filtering import Comparison
from keen_trellis.core.insight.distribution import Bar
from keen_trellis.core.values import FieldType
from keen_trellis.flow.steps.filter import ConditionSettings


def bounds_of(kind: FieldType, first: Bar, last: Bar) -> tuple[str, str] | None:
    """The least and the greatest value from one bar to another, both included; None where no value is the
    greatest, as of decimals.
    """
    low, high = first.low, last.high
    if kind is FieldType.INTEGER:
        return str(low), str(high - 1)
    if kind is FieldType.DATE:
        return str(low), str(high - dt.timedelta(1))
    if kind is FieldType.TIMESTAMP:
        end = dt.datetime.combine(high, dt.time()) - dt.timedelta(microseconds=1)
        return f"{low} 00:00:00", end.isoformat(" ")
    return None


def condition_of(field: str, kind: FieldType, first: Bar, last: Bar | None = None) -> ConditionSettings:
    """The condition that a field has the values of a bar, or of all from one to another.

    kind: the field's type.
    """
    last = last or first
    if first.text is not None:
        return ConditionSettings(field, Comparison.ONE_OF.value, (first.text,))
    bounds = bounds_of(kind, first, last)
    if bounds is not None:
        return ConditionSettings(field, Comparison.BETWEEN.value, bounds)
    name = quoted_name(field)
    said = f"{name} >= {_literal(first.low)}"
    if last.high is not None:
        said = f"{said} AND {name} < {_literal(last.high)}"
    return ConditionSettings(said, Comparison.TRUE.value)


def _literal(value: Any) -> str:
    if isinstance(value, str):
        return quoted_text(value)
    return repr(value) if isinstance(value, float) else f"{value:f}"
