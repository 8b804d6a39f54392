"""Conversions that are the same everywhere, and the error that one can be."""

from __future__ import annotations

import pyarrow as pa
import sqlglot.expressions as exp

from keen_trellis.core.values import FieldType, type_of_arrow
from keen_trellis.flow.in_sql.rows import NotInSql
from keen_trellis.flow.in_sql.target import SqlTarget

_DIGITS_OF_INTEGERS = 19
# From what to what.
CASTS = {
    (FieldType.INTEGER, FieldType.TEXT),
    (FieldType.INTEGER, FieldType.DECIMAL),
    (FieldType.INTEGER, FieldType.REAL),
    (FieldType.DECIMAL, FieldType.REAL),
    (FieldType.DATE, FieldType.TIMESTAMP),
    (FieldType.DATE, FieldType.TEXT),
}


def converted(target: SqlTarget, value: exp.Expr, kind: FieldType | None, wanted: pa.DataType) -> exp.Expr:
    """A value of one type as another, one of CASTS; whole numbers too long for a decimal are blank."""
    to = type_of_arrow(wanted)
    if (kind, to) == (FieldType.DATE, FieldType.TEXT):
        return target.day_as_text(value)
    made = exp.Cast(this=value, to=target.holding(wanted))
    if (kind, to) != (FieldType.INTEGER, FieldType.DECIMAL):
        return made
    digits = wanted.precision - wanted.scale
    if digits >= _DIGITS_OF_INTEGERS:
        return made
    most = exp.Literal.number(str(10**digits - 1))
    fits = exp.Between(this=value.copy(), low=exp.Neg(this=most.copy()), high=most)
    return exp.Case(ifs=[exp.If(this=fits, true=made)])


def failing(target: SqlTarget, when: exp.Expr, said: str, of: exp.Expr) -> exp.Expr:
    """A condition that holds, or is an error that says so: no other statement of SQL raises one. of: a text
    of the row, which is said, too; what is the same in all rows would be computed before any row is.
    """
    if not target.casts_strictly:
        raise NotInSql(f"{target.name} has no error where “{said.strip()}”.")
    text = exp.Coalesce(this=of, expressions=[exp.Literal.string("")])
    error = exp.DPipe(this=exp.Literal.string(said), expression=text, safe=True)
    number = exp.Cast(this=error, to=target.type_of(FieldType.INTEGER))
    one = exp.Literal.number(1)
    return exp.EQ(this=exp.Case(ifs=[exp.If(this=when, true=number)], default=one), expression=one.copy())
