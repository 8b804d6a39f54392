"""A blend as SQL: each other table is summarised by its links, and its groups are joined to the main rows."""

from __future__ import annotations

from collections.abc import Sequence

import sqlglot.expressions as exp

from keen_trellis.core.blending import Keep, Other, Stands
from keen_trellis.core.link import LinkField
from keen_trellis.core.summarising import Key
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.rows import (
    NotInSql,
    Said,
    SqlRows,
    at,
    below,
    free_column,
    has_value,
    named,
    passed_on,
)
from keen_trellis.flow.in_sql.scalars import Scalars
from keen_trellis.flow.in_sql.summaries import said_key, said_measure
from keen_trellis.flow.in_sql.target import SqlTarget

# What the parts of the query call their columns.
_MAIN, _GROUPS, _KEY, _MEASURE, _ROWS = "main", "groups", "key", "measure", "rows"


def said_blend(
    inputs: Sequence[SqlRows], others: Sequence[Other], keep: Keep, made: Sequence[Field], target: SqlTarget
) -> Said:
    """The main rows with the measures of the groups that they find. NotInSql."""
    if keep not in (Keep.EVERY, Keep.FOUND):
        raise NotInSql("A blend that becomes one row a group has no SQL yet.")
    main, *tables = inputs
    fields = iter(made[len(main.fields) :])
    columns: dict[str, exp.Expr] = {name: main.column(name, _MAIN) for name in passed_on(main)}
    rest = exp.Select().from_(main.relation(_MAIN))
    is_open, empty, found = dict(main.open), main.empty, []
    for number, (other, rows) in enumerate(zip(others, tables, strict=True), 1):
        alias = f"{_GROUPS} {number}"
        own = [next(fields) for _ in other.measures]
        groups = _groups(rows, other, own, target)
        rest = rest.join(below(groups, alias), on=_on(main, other, alias, target), join_type="left")
        found.append(_has_group(alias))
        teller = free_column(f"{rows.name} found", columns)
        columns[teller] = _has_group(alias)
        for place, (placed, entry) in enumerate(zip(other.measures, own, strict=True), 1):
            if placed.stands is not Stands.EVERY:
                raise NotInSql(f"{entry.name} stands on the first row, or is spread, which has no SQL yet.")
            value: exp.Expr = at(alias, f"{_MEASURE} {place}")
            if placed.measure.function.counts:
                value = exp.Coalesce(this=value, expressions=[exp.Literal.number(0)])
            else:
                is_open[entry.name] = teller
            if entry.type is FieldType.TEXT:
                empty |= {entry.name}
            columns[entry.name] = value
    if keep is Keep.FOUND:
        rest = rest.where(exp.or_(*found))
    return Said(columns, main.column(main.place, _MAIN), rest, is_open, empty)


def _groups(rows: SqlRows, other: Other, own: Sequence[Field], target: SqlTarget) -> exp.Select:
    """The groups of another table: its keys and measures under names of their own."""
    scalars = Scalars(rows, target)
    keys = [said_key(scalars, Key(link.right, link.preparation)) for link in other.links]
    made = [named(key.copy(), f"{_KEY} {place}") for place, key in enumerate(keys, 1)]
    for place, (placed, entry) in enumerate(zip(other.measures, own, strict=True), 1):
        made.append(named(said_measure(scalars, placed.measure, entry), f"{_MEASURE} {place}"))
    made.append(named(exp.Count(this=exp.Star()), _ROWS))
    groups = exp.Select().select(*made).from_(rows.relation())
    if other.where:
        groups = groups.where(scalars.value(other.where)[0])
    return groups.group_by(*keys) if keys else groups


def _has_group(alias: str) -> exp.Expr:
    """Whether a row found a group. A count of its rows is there whatever its keys are."""
    return has_value(at(alias, _ROWS))


def _on(main: SqlRows, other: Other, alias: str, target: SqlTarget) -> exp.Expr:
    tests = [_link(main, link, place, alias, target) for place, link in enumerate(other.links, 1)]
    return exp.and_(*tests, wrap=False) if tests else exp.true()


def _link(main: SqlRows, link: LinkField, place: int, alias: str, target: SqlTarget) -> exp.Expr:
    if link.likeness is not None:
        raise NotInSql(f"“{link.left} = {link.right}” compares how alike values are, which no SQL says.")
    one = Scalars(main, target, _MAIN).key(link.left)
    sign = exp.NullSafeEQ if link.blanks else exp.EQ
    return sign(this=one, expression=at(alias, f"{_KEY} {place}"))
