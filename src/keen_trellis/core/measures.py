"""What a group of rows comes to: sums, means, least, greatest, median, counts, first, last, listings.

Whole numbers and decimals are summed exactly: cut into limbs so short that their sums are exact even as
doubles, which NumPy adds up by group in one pass, and put together once at the end.
"""

from __future__ import annotations

import enum
from collections.abc import Sequence
from functools import cached_property
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.comparing import ordered_as, other_way_round, reals
from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.exact_sums import MOST_DIGITS, exact, summed, words
from keen_trellis.core.link import value_of
from keen_trellis.core.match import how_often, ordered_by_code
from keen_trellis.core.ordering import in_order
from keen_trellis.core.ragged import running_total
from keen_trellis.core.table import Cells, Field, IndexVector, Mask, Table
from keen_trellis.core.values import ARROW_TYPES, FieldType, as_text, type_of_arrow

Vector = np.ndarray[Any, Any]
_INTEGER, _REAL = ARROW_TYPES[FieldType.INTEGER], ARROW_TYPES[FieldType.REAL]


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

    @property
    def counts(self) -> bool:
        """Whether it is 0, and not blank, where there is nothing to work on."""
        return self in (Function.COUNT, Function.COUNT_DISTINCT)


class Measure(msgspec.Struct, frozen=True):
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
        if found.untyped:
            return Field(self.name, _held_without_type(self.function, kind), untyped=not self.function.counts)
        if self.function.counts:
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
            return Field(self.name, pa.decimal128(MOST_DIGITS, _scale(kind) + 1))
        if pa.types.is_decimal(kind):
            return Field(self.name, pa.decimal128(MOST_DIGITS, kind.scale))
        return Field(self.name, kind)


def _held_without_type(function: Function, kind: pa.DataType) -> pa.DataType:
    """As what a measure of blanks only is held, whose field has no type yet."""
    if function.counts or function is Function.SUM:
        return _INTEGER
    if function in (Function.MEAN, Function.LISTING):
        return _REAL if function is Function.MEAN else ARROW_TYPES[FieldType.TEXT]
    return kind


def _scale(kind: pa.DataType) -> int:
    return kind.scale if pa.types.is_decimal(kind) else 0


class Groups:
    """Rows put into groups. codes: the group of each row.  size: how many groups there are."""

    def __init__(self, codes: IndexVector, size: int) -> None:
        self.codes, self.size = codes, size

    @cached_property
    def counts(self) -> IndexVector:
        """How many rows each group has."""
        return how_often(self.codes, self.size)

    @cached_property
    def ordered(self) -> tuple[IndexVector, IndexVector]:
        """The rows by group, those of one group in their order, and where each group's stretch begins."""
        return ordered_by_code(self.codes, self.size)


def measured(table: Table, groups: Groups, measure: Measure) -> tuple[Cells, int]:
    """The measure of each group, without partner where all rows of the group are; and how many rows had no
    partner in what is measured.

    DataError where a sum leaves 64 bits or 38 digits.
    """
    if not measure.expression:
        return Cells(pa.array(groups.counts)), 0
    found = value_of(measure.expression, table.fields)
    cells, kind = found.cells(table), measure.field(table.fields).arrow_type
    if found.untyped and not measure.function.counts:
        values = pa.nulls(groups.size, kind)
    else:
        values = _FUNCTIONS[measure.function](_Values(cells.values, groups), kind, measure)
    if cells.absent is None or not cells.absent.any():
        return Cells(values), 0
    present = np.bincount(groups.codes[~cells.absent], minlength=groups.size)
    absent = present == 0
    made = Cells(pc.if_else(pa.array(absent), pa.scalar(None, values.type), values), absent)
    return made, int(np.count_nonzero(cells.absent))


class _Values:
    """The filled values of a column and their groups.

    rows: the rows that are filled, None for all.  codes: their groups.  filled: groups that have any.
    """

    def __init__(self, values: pa.Array, groups: Groups) -> None:
        self.values, self.size = values, groups.size
        self._groups = groups
        self.rows: IndexVector | None = None
        self.codes = groups.codes
        if values.null_count:
            self.rows = np.flatnonzero(values.is_valid().to_numpy(zero_copy_only=False))
            self.codes = groups.codes[self.rows]
        self.counts = groups.counts if self.rows is None else how_often(self.codes, self.size)
        self.filled: Mask = self.counts > 0

    def of_filled(self, vector: Vector) -> Vector:
        """A vector of all rows, cut down to the filled ones."""
        return vector if self.rows is None else vector[self.rows]

    @cached_property
    def worth(self) -> Vector:
        """The filled values as numbers that compare as they do."""
        return self.of_filled(ordered_as(self.values))

    @cached_property
    def ordered(self) -> tuple[IndexVector, IndexVector]:
        """Filled rows (by their place among these) by group, and where each group's stretch begins."""
        return self._groups.ordered if self.rows is None else ordered_by_code(self.codes, self.size)

    def taken(self, places: IndexVector) -> pa.Array:
        """The value at one place among the filled rows for each group that has any."""
        rows = np.zeros(self.size, np.int64)
        rows[self.filled] = places[self.filled] if self.rows is None else self.rows[places[self.filled]]
        return self.values.take(pa.array(rows, mask=~self.filled))

    def last_written(self, places: IndexVector, codes: IndexVector) -> IndexVector:
        """For each group the place that stands last among those handed in."""
        found = np.zeros(self.size, np.int64)
        found[codes] = places
        return found


def _sum(rows: _Values, kind: pa.DataType, measure: Measure) -> pa.Array:
    if kind == _REAL:
        sums = np.bincount(rows.codes, weights=rows.of_filled(reals(rows.values)), minlength=rows.size)
        # Of nothing at all NumPy counts, whatever the weights.
        return pa.array(sums.astype(np.float64), mask=~rows.filled)
    return exact(*_exact_sum(rows), kind, rows.filled, measure.name)


def _exact_sum(rows: _Values) -> tuple[Vector, Vector]:
    high, low = words(rows.values)
    return summed(rows.of_filled(high), rows.of_filled(low), rows.codes, rows.size)


def _mean(rows: _Values, kind: pa.DataType, measure: Measure) -> pa.Array:
    if rows.values.type == _REAL:
        sums = np.bincount(rows.codes, weights=rows.of_filled(reals(rows.values)), minlength=rows.size)
    else:
        kept = pa.decimal128(MOST_DIGITS, _scale(rows.values.type))
        sums = reals(exact(*_exact_sum(rows), kept, rows.filled, measure.name))
    return pa.array(sums / np.maximum(rows.counts, 1), mask=~rows.filled)


def _least(rows: _Values, kind: pa.DataType, measure: Measure) -> pa.Array:
    return rows.taken(_first_of_groups(rows, rows.worth)).cast(kind)


def _greatest(rows: _Values, kind: pa.DataType, measure: Measure) -> pa.Array:
    return rows.taken(_first_of_groups(rows, other_way_round(rows.worth))).cast(kind)


def _first_of_groups(rows: _Values, worth: Vector) -> IndexVector:
    """The place of the row of each group that comes first in an order; of no meaning where it has none."""
    order, start = in_order(rows.codes, worth), running_total(rows.counts)[:-1]
    return _at(order, start)


def _at(order: IndexVector, places: IndexVector) -> IndexVector:
    """What stands at some places; of no meaning behind the last, where a group at the end begins that has
    none.
    """
    return order[np.minimum(places, len(order) - 1)] if len(order) else places


def _median(rows: _Values, kind: pa.DataType, measure: Measure) -> pa.Array:
    order = in_order(rows.codes, rows.worth)
    start = rows.ordered[1][:-1]
    lower, upper = (
        _at(order, start + middle) for middle in (np.maximum(rows.counts - 1, 0) // 2, rows.counts // 2)
    )
    one = rows.taken(lower)
    if not type_of_arrow(kind).is_number:
        return one
    other = rows.taken(upper)
    if kind == _REAL:
        # Halves first: the sum of two might be infinite.
        return pa.array(reals(one) / 2 + reals(other) / 2, mask=~rows.filled)
    wide = [side.cast(pa.decimal256(MOST_DIGITS + 20, kind.scale - 1)) for side in (one, other)]
    five = pa.scalar(5, _INTEGER).cast(pa.decimal128(19, 0)).cast(pa.decimal256(1, 0), safe=False)
    halves = pc.multiply(pc.add(*wide), five)
    # Five times the sum, read with one place more, is half of it.
    moved = pa.Array.from_buffers(
        pa.decimal256(halves.type.precision, kind.scale), len(halves), halves.buffers()
    )
    try:
        return moved.cast(kind)
    except pa.ArrowInvalid as error:
        raise DataError(f"{measure.name}: a median does not fit into {MOST_DIGITS} digits.") from error


def _count(rows: _Values, kind: pa.DataType, measure: Measure) -> pa.Array:
    return pa.array(rows.counts.astype(np.int64))


def _count_distinct(rows: _Values, kind: pa.DataType, measure: Measure) -> pa.Array:
    order = in_order(rows.codes, rows.worth)
    worth, group = rows.worth[order], rows.codes[order]
    new = np.ones(len(order), dtype=bool)
    new[1:] = (worth[1:] != worth[:-1]) | (group[1:] != group[:-1])
    return pa.array(np.bincount(group[new], minlength=rows.size))


def _first(rows: _Values, kind: pa.DataType, measure: Measure) -> pa.Array:
    places = np.arange(len(rows.codes) - 1, -1, -1)
    return rows.taken(rows.last_written(places, rows.codes[::-1])).cast(kind)


def _last(rows: _Values, kind: pa.DataType, measure: Measure) -> pa.Array:
    return rows.taken(rows.last_written(np.arange(len(rows.codes)), rows.codes)).cast(kind)


def _listing(rows: _Values, kind: pa.DataType, measure: Measure) -> pa.Array:
    order, offsets = rows.ordered
    chosen = order if rows.rows is None else rows.rows[order]
    texts = as_text(rows.values.take(pa.array(chosen)))
    lists = pa.LargeListArray.from_arrays(pa.array(offsets.astype(np.int64)), texts)
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
