"""What a group of rows comes to: sums, means, least, greatest, median, counts, first, last, listings.

Whole numbers and decimals are summed exactly: in limbs of 32 bits, each of which stays within 64 bits for two
thousand million rows, and are put together once at the end.
"""

from __future__ import annotations

import enum
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.comparing import as_comparable, reals
from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.link import parsed
from keen_trellis.core.match import Mask, ordered_by_code
from keen_trellis.core.table import Cells, Field, IndexVector, Table
from keen_trellis.core.values import ARROW_TYPES, FieldType, as_text, type_of_arrow

Vector = np.ndarray[Any, Any]
_INTEGER, _REAL = ARROW_TYPES[FieldType.INTEGER], ARROW_TYPES[FieldType.REAL]
_MOST_DIGITS = 38
_LIMB = np.int64(32)
_LOW = np.int64(0xFFFFFFFF)


class Function(enum.Enum):
    """What is made of the values of a group; blanks are left out of all of them."""

    SUM = "sum"
    MEAN = "mean"
    LEAST = "least"
    GREATEST = "greatest"
    MEDIAN = "median"
    COUNT = "count"
    COUNT_DISTINCT = "count-distinct"
    FIRST = "first"
    LAST = "last"
    LISTING = "listing"


@dataclass(frozen=True)
class Measure:
    """One field of a summary. expression: over the table's fields; "" for a count of rows."""

    function: Function
    expression: str
    name: str

    def field(self, fields: Sequence[Field]) -> Field:
        """The field that it gives, without looking at a row. UsageError or DataError if it gives none."""
        if not self.expression:
            if self.function is not Function.COUNT:
                raise UsageError(f"{self.function.value} needs something to work on.", remedy="Name a field.")
            return Field(self.name, _INTEGER)
        found = value_of(self.expression, fields)
        kind = found.arrow_type
        if self.function in (Function.COUNT, Function.COUNT_DISTINCT):
            return Field(self.name, _INTEGER)
        if self.function is Function.LISTING:
            return Field(self.name, ARROW_TYPES[FieldType.TEXT])
        if self.function in (Function.SUM, Function.MEAN) and not found.type.is_number:
            raise DataError(
                f"{self.function.value} needs numbers, and {self.expression} is {found.type.value}.",
                remedy="Choose another field, or CAST it to a number.",
            )
        if self.function is Function.MEAN or (self.function is Function.SUM and kind == _REAL):
            return Field(self.name, _REAL)
        if self.function is Function.MEDIAN and found.type in (FieldType.INTEGER, FieldType.DECIMAL):
            # Half of a sum of two has one place more.
            return Field(self.name, pa.decimal128(_MOST_DIGITS, _scale(kind) + 1))
        if pa.types.is_decimal(kind):
            return Field(self.name, pa.decimal128(_MOST_DIGITS, kind.scale))
        return Field(self.name, kind)


def value_of(text: str, fields: Sequence[Field]) -> Any:
    """The field called so, or else the expression that the text writes."""
    from keen_trellis.core.expressions.expression import Expression

    for field in fields:
        if field.name == text:
            return Expression.of_field(field)
    return parsed(text, fields)


def _scale(kind: pa.DataType) -> int:
    return kind.scale if pa.types.is_decimal(kind) else 0


@dataclass(frozen=True)
class Groups:
    """Rows put into groups. codes: the group of each row.  size: how many groups there are."""

    codes: IndexVector
    size: int


def measured(table: Table, groups: Groups, measure: Measure) -> Cells:
    """The measure of each group, without partner where all rows of the group are.

    DataError where a sum leaves 64 bits or 38 digits.
    """
    if not measure.expression:
        return Cells(pa.array(np.bincount(groups.codes, minlength=groups.size)))
    cells = value_of(measure.expression, table.fields).cells(table)
    kind = measure.field(table.fields).arrow_type
    sorted_rows = _Sorted.of(cells.values, groups)
    values = _FUNCTIONS[measure.function](sorted_rows, kind, measure)
    if cells.absent is None or not cells.absent.any():
        return Cells(values)
    present = np.bincount(groups.codes[~cells.absent], minlength=groups.size)
    absent = present == 0
    return Cells(pc.if_else(pa.array(absent), pa.scalar(None, values.type), values), absent)


def rows_without_partner(table: Table, measure: Measure) -> int:
    """How many rows have no partner in what is measured."""
    if not measure.expression:
        return 0
    absent = value_of(measure.expression, table.fields).cells(table).absent
    return 0 if absent is None else int(np.count_nonzero(absent))


@dataclass(frozen=True)
class _Sorted:
    """The filled values of a column, ordered by group.

    values: all of the column.  order: rows of filled values by group.  starts, counts: the stretch of each
    group; filled: groups that have any.
    """

    values: pa.Array
    order: IndexVector
    starts: IndexVector
    counts: IndexVector

    @staticmethod
    def of(values: pa.Array, groups: Groups) -> _Sorted:
        codes = groups.codes
        if values.null_count:
            codes = np.where(values.is_valid().to_numpy(zero_copy_only=False), codes, -1)
        order, bounds = ordered_by_code(codes, groups.size)
        return _Sorted(values, order, bounds[:-1], np.diff(bounds))

    @property
    def filled(self) -> Mask:
        return self.counts > 0

    def reduced(self, reduce: Any, vector: Vector) -> Vector:
        """`reduce` (a ufunc) over the entries of each group, 0 where there are none."""
        made = np.zeros(len(self.counts), vector.dtype)
        if len(self.order):
            made[self.filled] = reduce.reduceat(vector[self.order], self.starts[self.filled])
        return made

    def taken(self, rows: IndexVector) -> pa.Array:
        """The value of one row for each group that has any."""
        at = np.zeros(len(self.counts), np.int64)
        at[self.filled] = rows[self.filled]
        return self.values.take(pa.array(at, mask=~self.filled))


def _sum(rows: _Sorted, kind: pa.DataType, measure: Measure) -> pa.Array:
    if kind == _REAL:
        return pa.array(rows.reduced(np.add, reals(rows.values)), mask=~rows.filled)
    high, low = _exact_sum(rows)
    if kind == _INTEGER:
        if (high != low >> 63).any():
            raise DataError(
                f"{measure.name}: a sum does not fit into 64 bits.",
                remedy="CAST to DECIMAL or REAL before summing.",
            )
        return pa.array(low, mask=~rows.filled)
    return _decimals(high, low, kind, rows.filled, measure)


def _exact_sum(rows: _Sorted) -> tuple[Vector, Vector]:
    """Sums of whole numbers or of decimals in units of their last place, as 128 bits: high and low half."""
    values = rows.values
    if pa.types.is_decimal(values.type):
        words = np.frombuffer(values.buffers()[1], np.int64)[
            2 * values.offset : 2 * (values.offset + len(values))
        ]
        low, high = words[0::2], words[1::2]
    else:
        low = (values.fill_null(0) if values.null_count else values).to_numpy(zero_copy_only=False)
        high = low >> 63
    narrow = bool(np.array_equal(high[rows.order], low[rows.order] >> 63)) if len(rows.order) else True
    if narrow:
        limbs = [rows.reduced(np.add, low & _LOW), rows.reduced(np.add, low >> _LIMB)]
        limbs.append(np.zeros_like(limbs[0]))
    else:
        limbs = [
            rows.reduced(np.add, low & _LOW),
            rows.reduced(np.add, (low >> _LIMB) & _LOW),
            rows.reduced(np.add, high),
        ]
    # Carried from limb to limb; the shift of a negative limb rounds down, as it has to.
    first, second, third = limbs
    second = second + (first >> _LIMB)
    made_low = (first & _LOW) | (second << _LIMB)
    made_high = third + (second >> _LIMB)
    return made_high, made_low


def _decimals(high: Vector, low: Vector, kind: pa.DataType, filled: Mask, measure: Measure) -> pa.Array:
    words = np.empty((len(low), 2), np.int64)
    words[:, 0], words[:, 1] = low, high
    made = pa.Array.from_buffers(kind, len(low), [None, pa.py_buffer(words)])
    try:
        made.validate(full=True)
    except pa.ArrowInvalid as error:
        raise DataError(
            f"{measure.name}: a result does not fit into {_MOST_DIGITS} digits.",
            remedy="CAST to REAL before summing.",
        ) from error
    return pc.if_else(pa.array(filled), made, pa.scalar(None, kind))


def _mean(rows: _Sorted, kind: pa.DataType, measure: Measure) -> pa.Array:
    if rows.values.type == _REAL:
        sums = rows.reduced(np.add, reals(rows.values))
    else:
        exact = _decimals(
            *_exact_sum(rows), pa.decimal128(_MOST_DIGITS, _scale(rows.values.type)), rows.filled, measure
        )
        sums = reals(exact)
    return pa.array(sums / np.maximum(rows.counts, 1), mask=~rows.filled)


def _least(rows: _Sorted, kind: pa.DataType, measure: Measure) -> pa.Array:
    return rows.taken(_extreme(rows, np.minimum)).cast(kind)


def _greatest(rows: _Sorted, kind: pa.DataType, measure: Measure) -> pa.Array:
    return rows.taken(_extreme(rows, np.maximum)).cast(kind)


def _extreme(rows: _Sorted, reduce: Any) -> IndexVector:
    """The first row of each group that has its least or greatest value."""
    worth = as_comparable(rows.values, rows.values.slice(0, 0))[0]
    best = np.repeat(rows.reduced(reduce, worth), rows.counts)
    places = np.where(worth[rows.order] == best, np.arange(len(rows.order)), len(rows.order))
    made = np.zeros(len(rows.counts), np.int64)
    if len(rows.order):
        made[rows.filled] = rows.order[np.minimum.reduceat(places, rows.starts[rows.filled])]
    return made


def _median(rows: _Sorted, kind: pa.DataType, measure: Measure) -> pa.Array:
    worth = as_comparable(rows.values, rows.values.slice(0, 0))[0]
    group = np.repeat(np.arange(len(rows.counts)), rows.counts)
    order = rows.order[np.lexsort((worth[rows.order], group))]
    last = len(order) - 1
    lower = (
        order[np.clip(rows.starts + np.maximum(rows.counts - 1, 0) // 2, 0, max(last, 0))]
        if len(order)
        else rows.starts
    )
    upper = order[np.clip(rows.starts + rows.counts // 2, 0, max(last, 0))] if len(order) else rows.starts
    one = rows.taken(lower)
    if not type_of_arrow(kind).is_number:
        return one
    other = rows.taken(upper)
    if kind == _REAL:
        # Halves first: the sum of two might be infinite.
        return pa.array(reals(one) / 2 + reals(other) / 2, mask=~rows.filled)
    wide = [side.cast(pa.decimal256(_MOST_DIGITS + 20, kind.scale - 1)) for side in (one, other)]
    five = pa.scalar(5, _INTEGER).cast(pa.decimal128(19, 0)).cast(pa.decimal256(1, 0), safe=False)
    halves = pc.multiply(pc.add(*wide), five)
    # Five times the sum, read with one place more, is half of it.
    moved = pa.Array.from_buffers(
        pa.decimal256(halves.type.precision, kind.scale), len(halves), halves.buffers()
    )
    try:
        return moved.cast(kind)
    except pa.ArrowInvalid as error:
        raise DataError(f"{measure.name}: a median does not fit into {_MOST_DIGITS} digits.") from error


def _count(rows: _Sorted, kind: pa.DataType, measure: Measure) -> pa.Array:
    return pa.array(rows.counts.astype(np.int64))


def _count_distinct(rows: _Sorted, kind: pa.DataType, measure: Measure) -> pa.Array:
    worth = as_comparable(rows.values, rows.values.slice(0, 0))[0][rows.order]
    group = np.repeat(np.arange(len(rows.counts)), rows.counts)
    order = np.lexsort((worth, group))
    worth, group = worth[order], group[order]
    new = np.ones(len(order), dtype=bool)
    new[1:] = (worth[1:] != worth[:-1]) | (group[1:] != group[:-1])
    return pa.array(np.bincount(group[new], minlength=len(rows.counts)))


def _first(rows: _Sorted, kind: pa.DataType, measure: Measure) -> pa.Array:
    return rows.taken(
        rows.order[np.minimum(rows.starts, max(len(rows.order) - 1, 0))] if len(rows.order) else rows.starts
    ).cast(kind)


def _last(rows: _Sorted, kind: pa.DataType, measure: Measure) -> pa.Array:
    ends = np.maximum(rows.starts + rows.counts - 1, 0)
    return rows.taken(
        rows.order[np.minimum(ends, max(len(rows.order) - 1, 0))] if len(rows.order) else ends
    ).cast(kind)


def _listing(rows: _Sorted, kind: pa.DataType, measure: Measure) -> pa.Array:
    texts = as_text(rows.values).take(pa.array(rows.order))
    offsets = np.append(rows.starts, len(rows.order)).astype(np.int64)
    lists = pa.LargeListArray.from_arrays(pa.array(offsets), texts)
    made = pc.binary_join(lists, pa.scalar(", ", texts.type))
    return pc.if_else(pa.array(rows.filled), made, pa.scalar(None, made.type))


_FUNCTIONS = {
    Function.SUM: _sum,
    Function.MEAN: _mean,
    Function.LEAST: _least,
    Function.GREATEST: _greatest,
    Function.MEDIAN: _median,
    Function.COUNT: _count,
    Function.COUNT_DISTINCT: _count_distinct,
    Function.FIRST: _first,
    Function.LAST: _last,
    Function.LISTING: _listing,
}
