"""Arithmetic of expressions, each operator on whole columns."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.conversion import convertible, rescaled
from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions.expression import Node, RowCells
from keen_trellis.core.expressions.held import (
    INTEGER,
    MOST_DIGITS,
    REAL,
    Compute,
    as_type,
    common_type,
    decimal,
    held_as_type,
    overflow,
    scale_of,
    valid,
)
from keen_trellis.core.values import (
    FieldType,
    whole_units,
)

_EXACT = {"+": pc.add_checked, "-": pc.subtract_checked, "*": pc.multiply_checked}
_REAL = {"+": pc.add, "-": pc.subtract, "*": pc.multiply}


def arithmetic(sign: str, left: Node, right: Node) -> Node:
    """Sum, difference, product or quotient of numbers; the remainder for MOD."""
    left, right = of_number(left, f"“{sign}”"), of_number(right, f"“{sign}”")
    kinds = {node.type for node in (left, right)}
    if sign == "/":
        return _quotient(as_type(left, REAL), as_type(right, REAL))
    if sign == "MOD":
        return _remainder(left, right)
    if FieldType.REAL in kinds:
        one, other = as_type(left, REAL), as_type(right, REAL)
        return Node(REAL, lambda rows: _REAL[sign](one.evaluate(rows), other.evaluate(rows)))
    if FieldType.DECIMAL in kinds:
        return _decimal_arithmetic(sign, left, right)
    one, other = as_type(left, INTEGER), as_type(right, INTEGER)

    def compute(rows: RowCells) -> pa.Array:
        try:
            return _EXACT[sign](one.evaluate(rows), other.evaluate(rows))
        except pa.ArrowInvalid as error:
            raise overflow(INTEGER) from error

    return Node(INTEGER, compute)


def _decimal_arithmetic(sign: str, left: Node, right: Node) -> Node:
    scales = [scale_of(node.arrow_type) for node in (left, right)]
    kind = decimal(sum(scales) if sign == "*" else max(scales))
    one, other = (as_type(node, decimal(scale)) for node, scale in zip((left, right), scales, strict=True))

    # A product has the digits of both sides and one more: 76 are enough with one digit fewer on one side.
    digits = (MOST_DIGITS, MOST_DIGITS - 1 if sign == "*" else MOST_DIGITS)

    def compute(rows: RowCells) -> pa.Array:
        try:
            sides = [
                node.evaluate(rows).cast(pa.decimal256(most, node.arrow_type.scale))
                for node, most in zip((one, other), digits, strict=True)
            ]
            return _EXACT[sign](*sides).cast(kind)
        except pa.ArrowInvalid as error:
            raise overflow(kind) from error

    return Node(kind, compute)


def _quotient(left: Node, right: Node) -> Node:
    def compute(rows: RowCells) -> pa.Array:
        one, other = left.evaluate(rows), right.evaluate(rows)
        zero = pc.fill_null(pc.equal(other, 0.0), False)
        failed = int(pc.sum(pc.and_(zero, pc.is_valid(one))).as_py() or 0)
        if failed:
            rows.notes.divisions_by_zero += failed
            other = pc.if_else(zero, pa.scalar(None, REAL), other)
        return pc.divide(one, other)

    return Node(REAL, compute)


def _remainder(left: Node, right: Node) -> Node:
    if FieldType.REAL in (left.type, right.type):
        raise UsageError("MOD needs whole numbers or decimals.", remedy="CAST its sides first.")
    kind = common_type([left, right], "MOD")
    one, other = as_type(left, kind), as_type(right, kind)

    def compute(rows: RowCells) -> pa.Array:
        values, by = one.evaluate(rows), other.evaluate(rows)
        known = valid(values) & valid(by)
        whole, divisors = _units(values), _units(by)
        rows.notes.divisions_by_zero += int(np.count_nonzero(known & (divisors == 0)))
        known &= divisors != 0
        # The remainder has the sign of the dividend, as SQL has it.
        made = pa.array(np.fmod(whole, np.where(known, divisors, 1)), mask=~known)
        if kind == INTEGER:
            return made
        return rescaled(made.cast(pa.decimal128(19, 0)), kind)

    return Node(kind, compute)


def _units(values: pa.Array) -> Any:
    """Whole numbers, or decimals in units of their last place; DataError where these leave 64 bits."""
    units, fits = whole_units(values)
    if not fits:
        raise overflow(INTEGER)
    return units


def of_number(node: Node, what: str) -> Node:
    """The node if it is a number; UsageError if it is not."""
    if node.type is None:
        return as_type(node, INTEGER)
    if not node.type.is_number:
        remedy = "CAST it to one."
        if not convertible(node.type, FieldType.INTEGER):
            remedy = f"EXTRACT makes numbers of the parts of a {node.type.value}."
        raise UsageError(f"{what} needs a number, not {node.type.value}.", remedy=remedy)
    return node


def negated(node: Node) -> Node:
    """The number with the other sign."""
    return _of_one_number(of_number(node, "A minus"), pc.negate, pc.negate_checked)


def absolute(node: Node) -> Node:
    """ABS."""
    return _of_one_number(of_number(node, "ABS"), pc.abs, pc.abs_checked)


def _of_one_number(node: Node, plain: Compute, checked: Compute) -> Node:
    """A function of one number; the least integer has no counterpart, decimals always have one."""

    def compute(rows: RowCells) -> pa.Array:
        values = node.evaluate(rows)
        try:
            return (plain if pa.types.is_decimal(values.type) else checked)(values)
        except pa.ArrowInvalid as error:
            raise overflow(INTEGER) from error

    return Node(node.arrow_type, compute)


def rounded(node: Node, places: int, how: str) -> Node:
    """ROUND (half away from zero) to so many places, FLOOR or CEILING."""
    node = of_number(node, how)
    kind = node.arrow_type
    if kind == INTEGER and places >= 0:
        return node
    if kind == INTEGER:
        return as_integer(rounded(as_type(node, decimal(0)), places, how))
    modes = {"ROUND": "half_towards_infinity", "FLOOR": "down", "CEILING": "up"}

    def compute(rows: RowCells) -> pa.Array:
        values = node.evaluate(rows)
        try:
            return pc.round(values, places, modes[how])
        except pa.ArrowInvalid as error:
            raise overflow(kind) from error

    made = Node(kind, compute)
    return made if kind == REAL else as_type(made, decimal(min(max(places, 0), kind.scale)))


def as_integer(node: Node) -> Node:
    """Whole decimals as integers; DataError if one leaves 64 bits."""
    return Node(INTEGER, lambda rows: held_as_type(node.evaluate(rows), INTEGER))
