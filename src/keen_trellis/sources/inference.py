"""Finds the type of a field from all of its values, and says what was doubtful."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.values import ARROW_TYPES, FieldType, shortest_number
from keen_trellis.flow.snapshot import Remark
from keen_trellis.sources.headers import blank

_LARGEST_EXACT = 2**53


# --- cells that have a type already: sheets and databases ---


def column_of_cells(cells: Sequence[Any], name: str) -> tuple[pa.Array, list[Remark]]:
    """One column of Python values as a typed array. Blank are None and empty text."""
    values = [None if blank(cell) else cell for cell in cells]
    kinds = set(map(type, values)) - {type(None)}
    if not kinds:
        return pa.array(values, ARROW_TYPES[FieldType.TEXT]), [_no_values(name)]
    if kinds <= {int, float}:
        return _numbers(values), []
    if kinds == {bool}:
        return pa.array(values, ARROW_TYPES[FieldType.BOOLEAN]), []
    if kinds <= {dt.datetime, dt.date}:
        return _moments(values), []
    if kinds == {dt.time}:
        return pa.array(values, ARROW_TYPES[FieldType.TIME]), []
    remarks = [] if kinds == {str} else [_mixed(values, name)]
    texts = values if kinds == {str} else [None if value is None else cell_text(value) for value in values]
    array = pa.array(texts, ARROW_TYPES[FieldType.TEXT])
    if kinds == {str}:
        remarks += _doubts(array, name)
    return array, remarks


def _no_values(name: str) -> Remark:
    return Remark("has no values, so that its type is not known; taken for text", field=name)


def _numbers(values: Sequence[Any]) -> pa.Array:
    integers = all(type(value) is int for value in values if value is not None)
    if integers and all(abs(value) < 2**63 for value in values if value is not None):
        return pa.array(values, pa.int64())
    reals = pa.array([None if value is None else float(value) for value in values], pa.float64())
    numbers = reals.fill_null(0).to_numpy(zero_copy_only=False)
    with np.errstate(invalid="ignore"):
        whole = np.all((np.floor(numbers) == numbers) & (np.abs(numbers) <= _LARGEST_EXACT))
    return reals.cast(pa.int64()) if whole else reals


def _moments(values: Sequence[Any]) -> pa.Array:
    midnight = dt.time()
    only_dates = all(
        value is None or not isinstance(value, dt.datetime) or value.time() == midnight for value in values
    )
    if only_dates:
        days = [value.date() if isinstance(value, dt.datetime) else value for value in values]
        return pa.array(days, ARROW_TYPES[FieldType.DATE])
    moments = [
        dt.datetime.combine(value, midnight)
        if value is not None and not isinstance(value, dt.datetime)
        else value
        for value in values
    ]
    return pa.array(moments, ARROW_TYPES[FieldType.TIMESTAMP])


def cell_text(value: Any) -> str:
    """A cell's value as text: numbers in their shortest form, dates and times as ISO 8601 has them."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, (int, float, Decimal)):
        return shortest_number(value)
    if isinstance(value, dt.datetime) and value.time() == dt.time():
        return value.date().isoformat()
    if isinstance(value, dt.datetime):
        return value.isoformat(" ")
    if isinstance(value, (dt.date, dt.time)):
        return value.isoformat()
    return str(value)


_KIND_NAMES = {str: "text", int: "numbers", float: "numbers", bool: "true or false", dt.date: "dates"}


def _mixed(values: Sequence[Any], name: str) -> Remark:
    tally: dict[str, int] = {}
    for value in values:
        if value is not None:
            kind = _KIND_NAMES.get(
                type(value), "times" if isinstance(value, (dt.time, dt.timedelta)) else "dates"
            )
            tally[kind] = tally.get(kind, 0) + 1
    counts = sorted(tally.items(), key=lambda entry: -entry[1])
    said = ", ".join(f"{count:,} {kind}" for kind, count in counts)
    return Remark(f"cells of several kinds ({said}); read as text", field=name, doubtful=True)


# --- text that may stand for something else: delimited files ---


@dataclass(frozen=True)
class _Pattern:
    """A way to write values of one type. `convert` raises if a value that looks right is not."""

    what: str
    expression: str
    convert: Callable[[pa.Array], pa.Array]


def _decimals(values: pa.Array) -> pa.Array:
    plain = pc.replace_substring_regex(values, r"^\+", "")
    parts = pc.extract_regex(plain, r"^-?(?P<whole>\d+)(?:\.(?P<fraction>\d+))?$")
    whole = pc.max(pc.binary_length(pc.struct_field(parts, "whole"))).as_py()
    scale = pc.max(pc.binary_length(pc.struct_field(parts, "fraction"))).as_py() or 0
    if whole + scale > 38:
        raise pa.ArrowInvalid("more digits than a decimal holds")
    return plain.cast(pa.string()).cast(pa.decimal128(whole + scale, scale))


def _ordered_date(expression: str) -> Callable[[pa.Array], pa.Array]:
    def convert(values: pa.Array) -> pa.Array:
        parts = pc.extract_regex(values, expression)
        year, month, day = (pc.struct_field(parts, name) for name in ("y", "m", "d"))
        padded = [pc.utf8_lpad(part, 2, padding="0") for part in (month, day)]
        iso = pc.binary_join_element_wise(year, *padded, pa.scalar("-", year.type))
        return iso.cast(pa.date32())

    return convert


def _times(values: pa.Array) -> pa.Array:
    with_seconds = pc.replace_substring_regex(values, r"^(\d\d:\d\d)$", r"\1:00")
    moments = pc.strptime(with_seconds.cast(pa.string()), "%H:%M:%S", "us")
    return moments.cast(ARROW_TYPES[FieldType.TIME])


def _timestamps(values: pa.Array) -> pa.Array:
    return values.cast(ARROW_TYPES[FieldType.TIMESTAMP])


_DAY_FIRST = r"^(?P<d>0?[1-9]|[12]\d|3[01])[./](?P<m>0?[1-9]|1[0-2])[./](?P<y>\d{4})$"
_MONTH_FIRST = r"^(?P<m>0?[1-9]|1[0-2])[./](?P<d>0?[1-9]|[12]\d|3[01])[./](?P<y>\d{4})$"

_ISO_DATE = _Pattern("dates", r"^\d{4}-\d{2}-\d{2}$", lambda values: values.cast(pa.date32()))
_ISO_TIMESTAMP = _Pattern(
    "timestamps", r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}(:\d{2}(\.\d{1,6})?)?$", _timestamps
)
_PATTERNS = (
    _Pattern(
        "whole numbers",
        r"^[+-]?(0|[1-9]\d{0,17})$",
        lambda v: pc.replace_substring_regex(v, r"^\+", "").cast(pa.int64()),
    ),
    _Pattern("numbers", r"^[+-]?(0|[1-9]\d*)(\.\d+)?$", _decimals),
    _Pattern(
        "numbers with an exponent", r"^[+-]?\d+(\.\d+)?([eE][+-]?\d+)?$", lambda v: v.cast(pa.float64())
    ),
    _Pattern("true or false", r"^(?i:true|false)$", lambda v: pc.equal(pc.utf8_lower(v), "true")),
    _ISO_DATE,
    _ISO_TIMESTAMP,
    _Pattern("times", r"^([01]\d|2[0-3]):[0-5]\d(:[0-5]\d)?$", _times),
    _Pattern("dates, day first", _DAY_FIRST, _ordered_date(_DAY_FIRST)),
    _Pattern("dates, month first", _MONTH_FIRST, _ordered_date(_MONTH_FIRST)),
)
_LEADING_ZEROS = r"^0\d+$"
_DIGITS = r"^\d+$"
# Ways to write a number that stay text until the analyst says what is meant.
_SUSPECTS = (
    ("numbers with a decimal comma", r"^[+-]?\d{1,3}(\.?\d{3})*,\d+$"),
    ("amounts with a currency sign", r"^[+-]?\s*(\p{Sc}\s*[\d.,]+|[\d.,]+\s*\p{Sc})$"),
    ("percentages", r"^[+-]?[\d.,]+\s*%$"),
)
_MOSTLY = 0.5
_SAMPLED = 400


def column_of_text(values: pa.Array, name: str, first_row: int) -> tuple[pa.Array, list[Remark]]:
    """Text with nulls for blank, as an array of the type that all of its values have.

    first_row: the row number of the first value, for pointing at a value that does not fit.
    """
    filled = len(values) - values.null_count
    if not filled:
        return values, [_no_values(name)]
    sample = _sample(values)
    if _mostly_matching(sample, _DIGITS) and _matching(values, _LEADING_ZEROS):
        if _matching(values, _DIGITS) == filled:
            return values, [Remark("digits with leading zeros; kept as text", field=name)]
        return values, []
    if _order_is_open(values, sample, filled):
        return values, [
            Remark("dates, but day and month cannot be told apart; read as text", field=name, doubtful=True)
        ]
    best: tuple[int, _Pattern] | None = None
    for pattern in _PATTERNS:
        if not _mostly_matching(sample, pattern.expression):
            continue
        fitting = _matching(values, pattern.expression)
        if fitting == filled:
            try:
                return pattern.convert(values), []
            except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
                said = f"they look like {pattern.what}, but not all are; read as text"
                return values, [Remark(said, field=name, doubtful=True)]
        if best is None or fitting > best[0]:
            best = fitting, pattern
    if best is not None and best[0] > _MOSTLY * filled:
        return values, [_mostly(values, name, best[0], best[1], filled, first_row)]
    return values, _doubts(values, name)


def _sample(values: pa.Array) -> pa.Array:
    """Some of the filled values, spread over all: what these do not look like, all do not."""
    rows = np.unique(np.linspace(0, len(values) - 1, min(_SAMPLED, len(values))).astype(np.int64))
    found = values.take(pa.array(rows)).drop_null()
    return found if len(found) else values.drop_null().slice(0, _SAMPLED)


def _mostly_matching(sample: pa.Array, expression: str) -> bool:
    return _matching(sample, expression) >= _MOSTLY * len(sample)


def _order_is_open(values: pa.Array, sample: pa.Array, filled: int) -> bool:
    """Whether all are dates that can be read day first and month first."""
    both = (_DAY_FIRST, _MONTH_FIRST)
    if not all(_matching(sample, order) == len(sample) for order in both):
        return False
    return all(_matching(values, order) == filled for order in both)


def moments_in_text(values: pa.Array) -> pa.Array:
    """Text whose values are all ISO dates or timestamps as such; any other text as it is."""
    filled = len(values) - values.null_count
    for pattern in (_ISO_DATE, _ISO_TIMESTAMP):
        if filled and _matching(values, pattern.expression) == filled:
            try:
                return pattern.convert(values)
            except pa.ArrowInvalid:
                return values
    return values


def _matching(values: pa.Array, expression: str) -> int:
    return pc.sum(pc.match_substring_regex(values, expression)).as_py() or 0


def _mostly(
    values: pa.Array, name: str, fitting: int, pattern: _Pattern, filled: int, first_row: int
) -> Remark:
    odd = pc.invert(pc.match_substring_regex(values, pattern.expression))
    index = pc.index(odd, True).as_py()
    return Remark(
        f"{fitting:,} of {filled:,} values are {pattern.what}, but “{values[index].as_py()}” "
        f"(row {first_row + index:,}) is not; read as text",
        field=name,
        doubtful=True,
    )


def _doubts(values: pa.Array, name: str) -> list[Remark]:
    """What a text field seems to hold instead of text."""
    filled = len(values) - values.null_count
    sample = _sample(values)
    suspects = [(pattern.what, pattern.expression) for pattern in _PATTERNS[:1]] + list(_SUSPECTS)
    for what, expression in suspects:
        if not _mostly_matching(sample, expression):
            continue
        fitting = _matching(values, expression)
        if fitting == filled or (what != "whole numbers" and fitting > _MOSTLY * filled):
            return [Remark(f"holds {what} as text", field=name, doubtful=True)]
    return []
