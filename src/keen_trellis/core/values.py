"""Field types, and how their values are held, compared and written as text."""

from __future__ import annotations

import enum
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.written_out import dates_as_text, moments_as_text, units_as_text

_USUAL_PLACES = 4  # of amounts and rates: with more, a decimal is a measurement


class FieldType(enum.Enum):
    """The types of a field, named as SQL names them."""

    TEXT = "text"
    INTEGER = "integer"
    DECIMAL = "decimal"
    REAL = "real"
    BOOLEAN = "boolean"
    DATE = "date"
    TIME = "time"
    TIMESTAMP = "timestamp"

    @property
    def is_number(self) -> bool:
        return self in NUMBERS

    @property
    def is_moment(self) -> bool:
        return self in MOMENTS


NUMBERS = frozenset({FieldType.INTEGER, FieldType.DECIMAL, FieldType.REAL})
MOMENTS = frozenset({FieldType.DATE, FieldType.TIMESTAMP})

# How each type is held; decimals keep their own scale.
ARROW_TYPES: dict[FieldType, pa.DataType] = {
    FieldType.TEXT: pa.large_string(),
    FieldType.INTEGER: pa.int64(),
    FieldType.DECIMAL: pa.decimal128(38, 0),
    FieldType.REAL: pa.float64(),
    FieldType.BOOLEAN: pa.bool_(),
    FieldType.DATE: pa.date32(),
    FieldType.TIME: pa.time64("us"),
    FieldType.TIMESTAMP: pa.timestamp("us"),
}


def one_array(column: pa.Array | pa.ChunkedArray) -> pa.Array:
    """A column of any number of chunks as one array; copied only if there are several."""
    if isinstance(column, pa.Array):
        return column
    if column.num_chunks == 1:
        return column.chunk(0)
    return pa.concat_arrays(column.chunks) if column.num_chunks else pa.array([], column.type)


def type_of_arrow(arrow_type: pa.DataType) -> FieldType:
    """The field type that a column of `arrow_type` has here; TypeError where there is none."""
    if pa.types.is_decimal(arrow_type):
        return FieldType.DECIMAL
    for field_type, held in ARROW_TYPES.items():
        if arrow_type == held:
            return field_type
    raise TypeError(f"no field type is held as {arrow_type}")


def comparable(left: FieldType, right: FieldType) -> bool:
    """Whether values of the two types can be equal at all: both numbers, both moments, or the same."""
    return left == right or (left.is_number and right.is_number) or (left.is_moment and right.is_moment)


def common_exact_type(left: pa.DataType, right: pa.DataType) -> pa.DataType | None:
    """The type that holds every value of both exactly, or None (integer with real has none)."""
    if left == right:
        return left
    kinds = {type_of_arrow(left), type_of_arrow(right)}
    if kinds == {FieldType.DATE, FieldType.TIMESTAMP}:
        return ARROW_TYPES[FieldType.TIMESTAMP]
    if kinds <= {FieldType.INTEGER, FieldType.DECIMAL}:
        whole = max(_whole_digits(left), _whole_digits(right))
        scale = max(_scale(left), _scale(right))
        return pa.decimal128(whole + scale, scale) if whole + scale <= 38 else None
    return None


def _scale(arrow_type: pa.DataType) -> int:
    return arrow_type.scale if pa.types.is_decimal(arrow_type) else 0


def _whole_digits(arrow_type: pa.DataType) -> int:
    return arrow_type.precision - arrow_type.scale if pa.types.is_decimal(arrow_type) else 19


def held_as(values: pa.Array, arrow_type: pa.DataType) -> pa.Array:
    """The same values held as another type that has them; pa.ArrowInvalid where one has no room there.

    Arrow multiplies 128-bit decimals by powers of ten without a look at what leaves 128 bits.
    """
    if values.type == arrow_type:
        return values
    if values.null_count == len(values):
        return pa.nulls(len(values), arrow_type)
    if pa.types.is_decimal(arrow_type) and pa.types.is_decimal(values.type):
        whole = _whole_digits(values.type)
        if whole + arrow_type.scale > 38 and arrow_type.scale > values.type.scale:
            return values.cast(pa.decimal256(76, arrow_type.scale)).cast(arrow_type)
    return values.cast(arrow_type)


def unscaled(decimals: pa.Array) -> tuple[np.ndarray[Any, Any], bool]:
    """The integers behind a decimal128 array without blanks, and whether all of them fit 64 bits.

    Where one does not fit, the array holds only the low 64 bits of each.
    """
    words = np.frombuffer(decimals.buffers()[1], dtype=np.int64)
    words = words[2 * decimals.offset : 2 * (decimals.offset + len(decimals))]
    low, high = words[0::2], words[1::2]
    return low, bool(np.array_equal(high, low >> 63))


def whole_units(values: pa.Array) -> tuple[np.ndarray[Any, Any], bool]:
    """Whole numbers, or decimals in units of their last place, as n of int64 with 0 for blanks; and whether
    all of them fit 64 bits.
    """
    filled = values.fill_null(0) if values.null_count else values
    if pa.types.is_integer(values.type):
        return filled.to_numpy(zero_copy_only=False), True
    return unscaled(filled)


def as_text(values: pa.Array) -> pa.Array:
    """`values` written out, blanks kept: shortest form that reads back, ISO dates, 7 and not 7.0."""
    field_type = type_of_arrow(values.type)
    if field_type is FieldType.TEXT:
        return values
    if field_type is FieldType.REAL:
        text = pc.cast(values, pa.large_string())
        if pc.any(pc.ends_with(text, ".0")).as_py():
            text = pc.replace_substring_regex(text, r"^(-?\d+)\.0$", r"\1")
        return pc.if_else(pc.equal(text, "-0"), "0", text)
    if field_type in (FieldType.TIMESTAMP, FieldType.TIME):
        return _moments(values)
    if field_type is FieldType.DECIMAL:
        return _plain_digits(values)
    made = dates_as_text(values) if field_type is FieldType.DATE else None
    return pc.cast(values, pa.large_string()) if made is None else made


def shown_text(values: pa.Array) -> pa.Array:
    """`as_text` for reading: a decimal of many places without the zeros that it has only for a neighbour with
    more of them. Amounts, of a few places, keep all.
    """
    text = as_text(values)
    if not pa.types.is_decimal(values.type) or values.type.scale <= _USUAL_PLACES:
        return text
    return pc.utf8_rtrim(pc.replace_substring_regex(text, r"(\.\d*?)0+$", r"\1"), characters=".")


def _moments(values: pa.Array) -> pa.Array:
    """Moments with parts of a second only where one has such, as all of its digits."""
    made = moments_as_text(values) if values.type == ARROW_TYPES[FieldType.TIMESTAMP] else None
    if made is not None:
        return made
    whole = pa.timestamp("s") if pa.types.is_timestamp(values.type) else pa.time32("s")
    try:
        return pc.cast(pc.cast(values, whole), pa.large_string())
    except pa.ArrowInvalid:  # some would be cut
        return pc.replace_substring_regex(pc.cast(values, pa.large_string()), r"\.0+$", "")


def _plain_digits(decimals: pa.Array) -> pa.Array:
    """Decimals with all of their places and no exponent, which Arrow's own cast gives small ones."""
    scale = decimals.type.scale
    if pa.types.is_decimal128(decimals.type):
        units, fit = whole_units(decimals)
        blank = np.asarray(decimals.is_null()) if decimals.null_count else None
        made = units_as_text(units, scale, blank) if fit else None
        if made is not None:
            return made
    text = pc.cast(decimals, pa.large_string())
    if scale <= 0 or not pc.any(pc.match_substring(text, "E")).as_py():
        return text
    kind = pa.decimal128 if pa.types.is_decimal128(decimals.type) else pa.decimal256
    whole = pa.Array.from_buffers(
        kind(decimals.type.precision, 0), len(decimals), decimals.buffers(), offset=decimals.offset
    )
    digits = pc.cast(whole, pa.large_string())
    sign = pc.replace_substring_regex(digits, r"\d+", "")
    padded = pc.utf8_lpad(pc.replace_substring(digits, "-", ""), scale + 1, padding="0")
    before, after = pc.utf8_slice_codeunits(padded, 0, -scale), pc.utf8_slice_codeunits(padded, -scale)
    nothing, point = pa.scalar("", text.type), pa.scalar(".", text.type)
    return pc.binary_join_element_wise(sign, before, point, after, nothing)


def shortest_number(value: float | int | Decimal) -> str:
    """A number as a person writes it: 7 rather than 7.0, no exponent for decimals."""
    if isinstance(value, float):
        return str(int(value)) if value.is_integer() and abs(value) < 1e16 else repr(value)
    return f"{value:f}" if isinstance(value, Decimal) else str(value)
