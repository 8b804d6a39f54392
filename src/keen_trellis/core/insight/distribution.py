"""How the values of a field spread: rows by ranges of numbers or dates, or by the most frequent values.

Several series of rows are counted on one scale, so that one sees where they do not meet. Ranges begin at
round numbers (1, 2 or 5 times a power of ten) or at days, months or years; which range a value is in is
decided by comparing it with the ranges' bounds in its own type, so that every count is exact.
"""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Callable, Iterator, Sequence
from decimal import Decimal
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.insight.reason import Vector
from keen_trellis.core.table import Cells
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text, type_of_arrow

# So many ranges at most, and so many values by themselves.
MOST_RANGES, MOST_VALUES = 24, 12
_ORDERED = (FieldType.INTEGER, FieldType.DECIMAL, FieldType.REAL, FieldType.DATE, FieldType.TIMESTAMP)
# From so many different values on, numbers and dates are shown in ranges.
_RANGES_FROM = 13
_MONTHS = (1, 2, 3, 6, 12, 24, 60, 120, 240, 600, 1200, 2400, 6000, 12000)
_DAYS = (1, 2, 7)


class Bar(msgspec.Struct, frozen=True):
    """One value, or one range of values from `low` up to but not with `high`.

    said: in words.  counts: the rows of each series.  text: the value as text; None for a range.
    """

    said: str
    counts: tuple[int, ...]
    text: str | None = None
    low: Any = None
    high: Any = None


class Distribution(msgspec.Struct, frozen=True):
    """How the values of a field spread.

    series: what each count of a bar counts.  ordered: the bars are ranges that follow each other.  blanks:
    rows without value, of each series.  others: rows of values that have no bar, of each series.
    """

    field: str
    series: tuple[str, ...]
    bars: tuple[Bar, ...]
    ordered: bool
    blanks: tuple[int, ...]
    others: tuple[int, ...]

    @property
    def rows(self) -> tuple[int, ...]:
        """All rows of each series."""
        return tuple(
            sum(bar.counts[n] for bar in self.bars) + self.blanks[n] + self.others[n]
            for n in range(len(self.series))
        )

    def lines(self) -> Iterator[tuple[str, tuple[int, ...]]]:
        """Each bar, then other values and blanks where there are any, in words with its counts."""
        for bar in self.bars:
            yield bar.said, bar.counts
        for said, counts in (("other values", self.others), ("blank", self.blanks)):
            if any(counts):
                yield said, counts


def distribution(
    field: str, series: Sequence[tuple[str, Cells]], task: Task | None = None, *, in_ranges: bool = False
) -> Distribution:
    """How the values of several series of rows spread, on one scale.

    series: what each is called, and its cells; their types are alike, or they are shown as texts.  in_ranges:
    many texts are shown in ranges, too, each of about as many different ones.  Cancelled.
    """
    task = task or Task()
    task.checkpoint(0, 0, f"looking how {field} spreads")
    columns = _of_one_type([cells.values for _, cells in series])
    blanks = tuple(column.null_count for column in columns)
    kind = type_of_arrow(columns[0].type) if columns else FieldType.TEXT
    names = tuple(name for name, _ in series)
    edges: list[Any] = []
    if kind in _ORDERED:
        edges = _edges(columns, kind)
    elif kind is FieldType.TEXT and in_ranges:
        edges = _text_edges(columns)
    if edges:
        return Distribution(field, names, _ranges(columns, edges), True, blanks, (0,) * len(columns))
    bars, others = _values(columns, in_order=kind is not FieldType.TEXT)
    return Distribution(field, names, bars, False, blanks, others)


def _of_one_type(columns: Sequence[pa.Array]) -> list[pa.Array]:
    """The columns in a type that all of them have, as texts if there is none."""
    kinds = {column.type for column in columns}
    return list(columns) if len(kinds) < 2 else [as_text(column) for column in columns]


# --- ranges ---


def _edges(columns: Sequence[pa.Array], kind: FieldType) -> list[Any]:
    """The bounds of the ranges, one more than there are of them; none where values are few, or not finite."""
    filled = [column.drop_null() for column in columns]
    together = pa.concat_arrays(filled)
    if kind is FieldType.REAL:
        together = together.filter(pc.is_finite(together))
    if not len(together) or len(pc.unique(together)) < _RANGES_FROM:
        return []
    bounds = pc.min_max(together)
    least, greatest = bounds["min"].as_py(), bounds["max"].as_py()
    if kind in (FieldType.DATE, FieldType.TIMESTAMP):
        return _date_edges(least, greatest)
    return _number_edges(least, greatest, kind)


def _text_edges(columns: Sequence[pa.Array]) -> list[Any]:
    """Texts that cut the different ones of all columns into ranges of about as many; the last is open."""
    distinct = pc.unique(pa.concat_arrays([column.drop_null() for column in columns]))
    if len(distinct) < _RANGES_FROM:
        return []
    ordered = distinct.take(pc.sort_indices(distinct))
    places = np.unique(np.linspace(0, len(ordered), min(MOST_RANGES, len(ordered)) + 1).astype(np.int64))[:-1]
    return [*ordered.take(pa.array(places)).to_pylist(), None]


def _number_edges(least: Any, greatest: Any, kind: FieldType) -> list[Any]:
    low, high = Decimal(str(least)), Decimal(str(greatest))
    step = _round_step((high - low) / MOST_RANGES)
    if kind is FieldType.INTEGER:
        step = max(step, Decimal(1))
    first = (low / step).to_integral_value("ROUND_FLOOR") * step
    count = int((high - first) / step) + 1
    edges = [first + step * n for n in range(count + 1)]
    if kind is FieldType.INTEGER:
        return [int(edge) for edge in edges]
    return [float(edge) for edge in edges] if kind is FieldType.REAL else edges


def _round_step(least: Decimal) -> Decimal:
    """The least of 1, 2 and 5 times a power of ten that is not less than `least`."""
    if least <= 0:
        return Decimal(1)
    power = Decimal(10) ** math.floor(least.log10())
    return next(times * power for times in (1, 2, 5, 10) if times * power >= least)


def _date_edges(least: dt.date, greatest: dt.date) -> list[dt.date]:
    first, last = _day(least), _day(greatest)
    for days in _DAYS:
        begin = first - dt.timedelta(first.weekday() if days == 7 else 0)
        if (last - begin).days // days + 1 <= MOST_RANGES:
            return [begin + dt.timedelta(days * n) for n in range((last - begin).days // days + 2)]
    one, end = first.year * 12 + first.month - 1, last.year * 12 + last.month - 1
    months = next(size for size in _MONTHS if end // size - one // size + 1 <= MOST_RANGES)
    edges = range(one - one % months, end + months + 1, months)
    return [_month(edge) for edge in edges]


def _month(number: int) -> dt.date:
    """The first day of a month counted from the year 0, as far as there are such days."""
    if number < 12:
        return dt.date.min
    return dt.date(number // 12, number % 12 + 1, 1) if number < 12 * 10_000 else dt.date.max


def _day(moment: dt.date) -> dt.date:
    return moment.date() if isinstance(moment, dt.datetime) else moment


def _ranges(columns: Sequence[pa.Array], edges: Sequence[Any]) -> tuple[Bar, ...]:
    """The rows of each column in each range."""
    kind = columns[0].type
    known = [edge for edge in edges if edge is not None]
    bounds = [pa.scalar(edge).cast(kind) if not _is_decimal(kind) else edge for edge in known]
    counts = [_counted(column, bounds, len(edges) - 1) for column in columns]
    said = _range_said(edges)
    return tuple(
        Bar(said(number), tuple(int(of[number]) for of in counts), None, edges[number], edges[number + 1])
        for number in range(len(edges) - 1)
    )


def _is_decimal(kind: pa.DataType) -> bool:
    return bool(pa.types.is_decimal(kind))


def _counted(column: pa.Array, bounds: Sequence[Any], count: int) -> Vector:
    """How many values are in each of so many ranges. What is beyond the last bound is in the last range."""
    if _is_decimal(column.type):
        bounds = [
            pa.scalar(bound, pa.decimal128(38, max(column.type.scale, _places(bound)))) for bound in bounds
        ]
    below = [int(pc.sum(pc.less(column, bound)).as_py() or 0) for bound in bounds]
    below[0] = 0
    return np.diff(np.array([*below[:count], len(column) - column.null_count]))


def _places(number: Decimal) -> int:
    exponent = number.as_tuple().exponent
    return max(-exponent, 0) if isinstance(exponent, int) else 0


def _range_said(edges: Sequence[Any]) -> Callable[[int], str]:
    """What each range is called: 100 to 150, 2026-03, 2026, 2026-03-02 to 08."""
    if isinstance(edges[0], str):
        return lambda number: f"{edges[number]} to {edges[number + 1] or 'the last'}"
    if not isinstance(edges[0], dt.date):
        return lambda number: f"{_number_said(edges[number])} to {_number_said(edges[number + 1])}"
    starts = {(edge.month, edge.day) for edge in edges}
    if starts == {(1, 1)} and edges[1].year - edges[0].year == 1:
        return lambda number: str(edges[number].year)
    if all(edge.day == 1 for edge in edges) and (edges[1] - edges[0]).days in (28, 29, 30, 31):
        return lambda number: f"{edges[number]:%Y-%m}"
    if (edges[1] - edges[0]).days == 1:
        return lambda number: str(edges[number])
    return lambda number: f"{edges[number]} to {edges[number + 1] - dt.timedelta(1)}"


def _number_said(number: Any) -> str:
    if isinstance(number, int):
        return f"{number:,}"
    text = f"{Decimal(str(number)):f}"
    return text.rstrip("0").rstrip(".") if "." in text else f"{int(Decimal(text)):,}"


# --- values ---


def _values(columns: Sequence[pa.Array], *, in_order: bool) -> tuple[tuple[Bar, ...], tuple[int, ...]]:
    """The most frequent values with their rows in each column, and the rows of all others."""
    texts = [as_text(column).drop_null() for column in columns]
    coded = pa.concat_arrays(texts).dictionary_encode()
    codes = coded.indices.to_numpy(zero_copy_only=False)
    ends = np.cumsum([len(text) for text in texts])
    size = len(coded.dictionary)
    counts = [np.bincount(part, minlength=size) for part in np.split(codes, ends[:-1])]
    if not size:
        return (), (0,) * len(columns)
    # What is frequent in any of them, as a share of it.
    weight = np.max([of / max(of.sum(), 1) for of in counts], axis=0)
    chosen = np.argsort(-weight, kind="stable")[:MOST_VALUES]
    values = coded.dictionary.take(pa.array(chosen)).to_pylist()
    if in_order and size <= MOST_VALUES:
        distinct = pc.unique(pa.concat_arrays([column.drop_null() for column in columns]))
        values = as_text(distinct.take(pc.sort_indices(distinct))).to_pylist()
    numbers = [int(pc.index(coded.dictionary, text).as_py()) for text in values]
    bars = tuple(
        Bar(text, tuple(int(of[number]) for of in counts), text)
        for text, number in zip(values, numbers, strict=True)
    )
    others = tuple(int(of.sum()) - sum(bar.counts[n] for bar in bars) for n, of in enumerate(counts))
    return bars, others
