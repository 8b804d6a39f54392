"""A summary as SQL: its groups in the order in which they first appear."""

from __future__ import annotations

from collections.abc import Sequence

import sqlglot.expressions as exp

from keen_trellis.core.measures import Function, Measure
from keen_trellis.core.summarising import Key
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.rows import NotInSql, Said, SqlRows, is_null
from keen_trellis.flow.in_sql.scalars import Scalars
from keen_trellis.flow.in_sql.target import SqlTarget

_ENDS = {Function.LEAST: exp.Min, Function.GREATEST: exp.Max}


def said_summary(
    rows: SqlRows, keys: Sequence[Key], measures: Sequence[Measure], made: Sequence[Field], target: SqlTarget
) -> Said:
    """One row a group with its measures; `made` are the fields of both. NotInSql."""
    scalars = Scalars(rows, target)
    columns: dict[str, exp.Expr] = {}
    groups = []
    for entry, key in zip(made, keys, strict=False):
        group = said_key(scalars, key)
        groups.append(group.copy())
        columns[entry.name] = _first_of_group(rows, group) if scalars.may_be_empty(key.text) else group
    for entry, measure in zip(made[len(keys) :], measures, strict=True):
        columns[entry.name] = said_measure(scalars, measure, entry)
    rest = exp.Select().from_(rows.relation())
    if groups:
        rest = rest.group_by(*groups)
    texts = [key.text for key in keys] + [measure.expression for measure in measures]
    is_open = {entry.name: "" for entry, text in zip(made, texts, strict=True) if text in rows.open}
    empty = frozenset(
        entry.name for entry, text in zip(made, texts, strict=True) if text and scalars.may_be_empty(text)
    )
    return Said(columns, exp.Min(this=rows.column(rows.place)), rest, is_open, empty)


def _first_of_group(rows: SqlRows, group: exp.Expr) -> exp.Expr:
    """What a group is called: blanks and empty texts are one, and it is called as the first of them."""
    value, place = group.this, rows.column(rows.place)
    firsts = [
        exp.Min(this=exp.Case(ifs=[exp.If(this=holds, true=place.copy())]))
        for holds in (
            exp.EQ(this=value.copy(), expression=exp.Literal.string("")),
            is_null(value.copy()),
        )
    ]
    some = exp.GT(this=exp.Count(this=value.copy()), expression=exp.Literal.number(0))
    sooner = exp.Coalesce(this=exp.LT(this=firsts[0], expression=firsts[1]), expressions=[some])
    is_empty = exp.Case(ifs=[exp.If(this=sooner, true=exp.Literal.string(""))])
    return exp.Coalesce(this=group.copy(), expressions=[is_empty])


def said_key(scalars: Scalars, key: Key) -> exp.Expr:
    """What rows are put together by. NotInSql."""
    if key.preparation:
        raise NotInSql(f"“{key.text}” is a prepared key, which no database prepares just so.")
    value, kind = scalars.value(key.text)
    if not isinstance(value, exp.Column) and not value.find(exp.Column):
        raise NotInSql(
            f"“{key.text}” is the same in all rows: databases take that for the number of a column."
        )
    if kind is None:
        raise NotInSql(f"“{key.text}” has no value at all, and no type yet.")
    return scalars.key(key.text)


def said_measure(scalars: Scalars, measure: Measure, made: Field) -> exp.Expr:
    """What the rows of a group come to. NotInSql."""
    to = scalars.target.type_of
    if not measure.expression:
        return exp.Cast(this=exp.Count(this=exp.Star()), to=to(FieldType.INTEGER))
    value, kind = scalars.value(measure.expression)
    said = f"{measure.function.value} of {measure.expression}"
    if kind is None:
        raise NotInSql(f"“{said}” is of a field without any value, which has no type yet.")
    if measure.function is Function.COUNT:
        return exp.Cast(this=exp.Count(this=value), to=to(FieldType.INTEGER))
    if measure.function is Function.COUNT_DISTINCT:
        distinct = exp.Distinct(expressions=[value])
        return exp.Cast(this=exp.Count(this=distinct), to=to(FieldType.INTEGER))
    if measure.function in _ENDS and kind is not FieldType.BOOLEAN:
        return _ENDS[measure.function](this=scalars.target.in_order(value, kind))
    if measure.function is Function.SUM and kind in (FieldType.INTEGER, FieldType.DECIMAL):
        return exp.Cast(this=exp.Sum(this=value), to=scalars.target.holding(made.arrow_type))
    if measure.function in (Function.SUM, Function.MEAN) and kind is FieldType.REAL:
        raise NotInSql(
            f"“{said}” depends on the order in which reals are added.", remedy="CAST them to decimals."
        )
    if measure.function is Function.MEAN:
        real = to(FieldType.REAL)
        total = exp.Cast(this=exp.Sum(this=value), to=real)
        count = exp.Nullif(this=exp.Count(this=value.copy()), expression=exp.Literal.number(0))
        return exp.Div(this=total, expression=exp.Cast(this=count, to=real.copy()), typed=True, safe=False)
    raise NotInSql(f"“{said}” has no SQL that means the same everywhere.")
