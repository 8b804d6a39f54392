"""The types of the values of expressions: which have a value in common, and how one is held as another."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.conversion import converted, convertible, refitted, rescaled
from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.expressions.expression import Node, RowCells
from keen_trellis.core.values import (
    ARROW_TYPES,
    FieldType,
    as_text,
    held_as,
    type_of_arrow,
)

INTEGER, REAL, TEXT, BOOLEAN, DATE = (
    ARROW_TYPES[kind]
    for kind in (FieldType.INTEGER, FieldType.REAL, FieldType.TEXT, FieldType.BOOLEAN, FieldType.DATE)
)
MOST_DIGITS = 38
LONGEST_VARCHAR = 2**31 - 1  # characters that a VARCHAR may be cut to
LARGEST = np.iinfo(np.int64).max
Compute = Callable[[pa.Array], pa.Array]
Vector = np.ndarray[Any, Any]


def decimal(scale: int) -> pa.DataType:
    """The type of decimals with `scale` places; UsageError if there are more than 38."""
    if not 0 <= scale <= MOST_DIGITS:
        raise UsageError(f"A decimal has at most {MOST_DIGITS} digits.")
    return pa.decimal128(MOST_DIGITS, scale)


def scale_of(kind: pa.DataType) -> int:
    """How many decimal places values of the type have."""
    return kind.scale if pa.types.is_decimal(kind) else 0


def constant(value: Any, kind: pa.DataType) -> Node:
    """A literal."""
    scalar = pa.scalar(value, kind)
    return Node(kind, lambda rows: pa.repeat(scalar, rows.count), value if isinstance(value, str) else None)


def common_type(nodes: Sequence[Node], what: str) -> pa.DataType:
    """The type that all of some values have; UsageError if they have none in common."""
    kinds = [node.arrow_type for node in nodes if node.type is not None]
    if not kinds:
        return pa.null()
    types = {type_of_arrow(kind) for kind in kinds}
    if len(types) == 1:
        scales = max(map(scale_of, kinds))
        return decimal(scales) if FieldType.DECIMAL in types else kinds[0]
    if all(kind.is_number for kind in types):
        return REAL if FieldType.REAL in types else decimal(max(map(scale_of, kinds)))
    if all(kind.is_moment for kind in types):
        return ARROW_TYPES[FieldType.TIMESTAMP]
    found = " and ".join(sorted(kind.value for kind in types))
    raise UsageError(f"{what} meets {found}.", remedy=cast_remedy(types))


def cast_remedy(types: Collection[FieldType]) -> str:
    """Which CAST brings values of some types together: one that gives more than blanks."""
    if any(all(convertible(have, to) for have in types) for to in types if to is not FieldType.TEXT):
        return "CAST one of them to the type of the other."
    return "Make numbers of dates with EXTRACT, or CAST all of them to VARCHAR."


def as_type(node: Node, kind: pa.DataType) -> Node:
    """The same values held as another type that has them all (decimals may leave 38 digits: an error)."""
    if node.arrow_type == kind:
        return node
    return Node(kind, lambda rows: held_as_type(node.evaluate(rows), kind))


def held_as_type(values: pa.Array, kind: pa.DataType) -> pa.Array:
    """The same values as another type that has them all; integers as reals are rounded to the nearest.

    DataError if a decimal leaves 38 digits, or an integer 64 bits.
    """
    if kind == REAL and pa.types.is_decimal(values.type):
        return values.cast(pa.large_string()).cast(REAL)  # Arrow's own cast misrounds
    if kind == REAL and pa.types.is_integer(values.type):
        return values.cast(REAL, safe=False)  # rounded to the nearest
    try:
        if pa.types.is_decimal(kind) and pa.types.is_integer(values.type):
            return values.cast(pa.decimal256(76, scale_of(kind))).cast(kind)
        return held_as(values, kind)
    except pa.ArrowInvalid as error:
        raise overflow(kind) from error


def overflow(kind: pa.DataType) -> DataError:
    """The error for a result that the type has no room for."""
    room = "64 bits" if kind == INTEGER else f"{MOST_DIGITS} digits"
    return DataError(
        f"A result does not fit into {room}.", remedy="CAST to REAL or to DECIMAL, or ROUND on the way."
    )


def cast(node: Node, kind: pa.DataType, length: int | None = None) -> Node:
    """CAST: what has no counterpart gives blank and is noted; a timestamp loses its time, a number its
    places behind those of the type (half away from zero).
    """
    to = type_of_arrow(kind)
    if node.type is None:
        return as_type(node, kind)
    if not (convertible(node.type, to) or (node.type, to) == (FieldType.TIMESTAMP, FieldType.TIME)):
        raise UsageError(
            f"No {node.type.value} can be CAST to {to.value}.", remedy=cast_remedy((node.type, to))
        )

    def compute(rows: RowCells) -> pa.Array:
        values = node.evaluate(rows)
        made = _cast(values, to, kind)
        rows.notes.failed_casts += made.null_count - values.null_count
        return pc.utf8_slice_codeunits(made, 0, length) if length is not None else made

    return Node(kind, compute)


def _cast(values: pa.Array, to: FieldType, kind: pa.DataType) -> pa.Array:
    have = type_of_arrow(values.type)
    if to is FieldType.TEXT:
        return as_text(values)
    if to is FieldType.REAL and have.is_number:
        return held_as_type(values, REAL)
    if have is FieldType.TIMESTAMP and to is FieldType.DATE:
        return values.cast(DATE, safe=False)
    if have is FieldType.TIMESTAMP and to is FieldType.TIME:
        return values.cast(kind)
    if have.is_number and to is FieldType.INTEGER and have is not FieldType.INTEGER:
        values = pc.round(values, 0, "half_towards_infinity")
    made = converted(values, to).values
    if to is not FieldType.DECIMAL or made.type == kind:
        return made
    if pa.types.is_null(made.type):
        return pa.nulls(len(made), kind)
    wide = made.cast(pa.decimal256(76, min(max(made.type.scale, 0), 38)))
    if made.type.scale > kind.scale:
        wide = pc.round(wide, kind.scale, "half_towards_infinity")
    return refitted(wide, kind)


def extract(part: str, node: Node) -> Node:
    """EXTRACT: a part of a date, time or timestamp as a whole number; seconds with their fractions."""
    if node.type is None:
        return constant(None, decimal(6) if part == "SECOND" else INTEGER)
    of_date: dict[str, Callable[[pa.Array], pa.Array]] = {
        "YEAR": pc.year,
        "MONTH": pc.month,
        "DAY": pc.day,
        # Of the calendar of ISO 8601, as most databases have them beside those of the standard.
        "QUARTER": pc.quarter,
        "WEEK": pc.iso_week,
        "ISOYEAR": pc.iso_year,
        "ISODOW": lambda values: pc.day_of_week(values, count_from_zero=False, week_start=1),
    }
    of_time: dict[str, Callable[[pa.Array], pa.Array]] = {
        "HOUR": pc.hour,
        "MINUTE": pc.minute,
        "SECOND": pc.second,
    }
    known = {
        FieldType.DATE: of_date,
        FieldType.TIME: of_time,
        FieldType.TIMESTAMP: of_date | of_time,
    }.get(node.type)
    if known is None or part not in known:
        raise UsageError(
            f"There is no {part} in {node.type.value}.",
            remedy=f"EXTRACT takes {', '.join(of_date | of_time)}.",
        )
    if part != "SECOND":
        return Node(INTEGER, lambda rows: known[part](node.evaluate(rows)).cast(INTEGER))

    def seconds(rows: RowCells) -> pa.Array:
        values = node.evaluate(rows)
        whole, fraction = pc.second(values).cast(INTEGER), pc.microsecond(values).cast(INTEGER)
        fraction = pc.add(pc.multiply(pc.millisecond(values).cast(INTEGER), 1000), fraction)
        units = pc.add(pc.multiply(whole, 1_000_000), fraction)
        return rescaled(units.cast(pa.decimal128(19, 0)), decimal(6))

    return Node(decimal(6), seconds)


def valid(values: pa.Array) -> Any:
    """Which of the values are not null, as a bool vector."""
    return values.is_valid().to_numpy(zero_copy_only=False)
