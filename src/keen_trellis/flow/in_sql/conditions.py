"""The conditions of a filter as SQL."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

import sqlglot.expressions as exp

from keen_trellis.core.conversion import read_as
from keen_trellis.core.day import today
from keen_trellis.core.filtering import Comparison, Condition
from keen_trellis.core.relative_periods import first_and_last
from keen_trellis.core.table import Field, find_field
from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.rows import NotInSql, SqlRows, has_value, is_null
from keen_trellis.flow.in_sql.saying import with_escape
from keen_trellis.flow.in_sql.scalars import Scalars
from keen_trellis.flow.in_sql.target import SqlTarget

_SIGNS = {
    Comparison.LESS: exp.LT,
    Comparison.AT_MOST: exp.LTE,
    Comparison.GREATER: exp.GT,
    Comparison.AT_LEAST: exp.GTE,
}
_IN_TEXT = {Comparison.CONTAINS: "%{}%", Comparison.BEGINS: "{}%", Comparison.ENDS: "%{}"}
_ESCAPE = "!"


def said_conditions(
    rows: SqlRows, conditions: Sequence[Condition], target: SqlTarget, *, any_of: bool
) -> exp.Expr | None:
    """The conditions, all or any of which must hold; None where there are none. NotInSql."""
    made = [_said(rows, entry, target) for entry in conditions]
    if not made:
        return None
    return exp.or_(*made) if any_of else exp.and_(*made)


def _said(rows: SqlRows, entry: Condition, target: SqlTarget) -> exp.Expr:
    scalars = Scalars(rows, target)
    if entry.how is Comparison.TRUE:
        return scalars.value(entry.of)[0]
    field, column = find_field(rows.fields, entry.of), scalars.column(entry.of)
    if entry.how in (Comparison.PARTNER, Comparison.NO_PARTNER, Comparison.BLANK):
        found = rows.has_partner(field.name)
        if found is None:
            raise NotInSql(
                f"“{entry}” tells a blank from a cell without partner, which are both NULL in a database.",
                remedy="Ask for those that are not blank, or take the rows of a part of the knot.",
            )
        if entry.how is Comparison.BLANK:
            blank = is_null(column)
            return exp.and_(blank, found) if field.name in rows.open else blank
        return found if entry.how is Comparison.PARTNER else exp.Not(this=found)
    if entry.how is Comparison.FILLED:
        return has_value(column)
    if field.untyped:
        return exp.Boolean(this=False)
    if entry.how in _IN_TEXT:
        return _in_text(column, field, entry)
    return _compared(scalars, column, field, entry)


def _in_text(column: exp.Expr, field: Field, entry: Condition) -> exp.Expr:
    if field.type is not FieldType.TEXT:
        raise NotInSql(f"“{entry}” looks into a {field.type.value} as text.")
    sought = entry.values[0]
    bare = sought
    for sign in (_ESCAPE, "%", "_"):
        bare = bare.replace(sign, _ESCAPE + sign)
    like = exp.Like(this=column, expression=exp.Literal.string(_IN_TEXT[entry.how].format(bare)))
    if bare == sought:
        return with_escape(like)
    return exp.Escape(this=like, expression=exp.Literal.string(_ESCAPE))


def _compared(scalars: Scalars, column: exp.Expr, field: Field, entry: Condition) -> exp.Expr:
    values = entry.values
    if entry.how is Comparison.PERIOD:
        first, last = first_and_last(entry.values[0], today())
        values = (str(first), str(last + dt.timedelta(days=1)))
    read = read_as(values, field.type, field.name).to_pylist()
    written = [scalars.literal(value, field.type) for value in read]
    if entry.how in (Comparison.ONE_OF, Comparison.NONE_OF):
        one_of = exp.In(this=column, expressions=written)
        return one_of if entry.how is Comparison.ONE_OF else exp.Not(this=one_of)
    value = scalars.target.in_order(column, field.type)
    if entry.how is Comparison.BETWEEN:
        return exp.Between(this=value, low=written[0], high=written[1])
    if entry.how is Comparison.PERIOD:
        return exp.and_(
            exp.GTE(this=value, expression=written[0]), exp.LT(this=value.copy(), expression=written[1])
        )
    return _SIGNS[entry.how](this=value, expression=written[0])
