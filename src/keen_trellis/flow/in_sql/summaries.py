"""A summary as SQL: its groups in the order in which they first appear."""

from __future__ import annotations

from collections.abc import Sequence

import sqlglot.expressions as exp

from keen_trellis.core.measures import Measure
from keen_trellis.core.summarising import Key
from keen_trellis.core.table import Field
from keen_trellis.flow.in_sql.measures import Measuring, said_key
from keen_trellis.flow.in_sql.rows import Said, SqlRows, is_null, numbered, ordered
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.flow.in_sql.widening import Widened


def said_summary(
    rows: SqlRows,
    keys: Sequence[Key],
    measures: Sequence[Measure],
    made: Sequence[Field],
    target: SqlTarget,
    tests: Sequence[exp.Expr] = (),
    *,
    where: str = "",
) -> Said:
    """One row a group with its measures; `made` are the fields of both. tests: for each measure which rows of
    the group it is made of, none for all.  where: an expression that holds for the rows of all groups, "" for
    all rows.  NotInSql.
    """
    wide = Widened(rows, target)
    groups = [said_key(wide, key) for key in keys]
    columns: dict[str, exp.Expr] = {}
    for entry, key, group in zip(made, keys, groups, strict=False):
        if key.preparation:
            columns[entry.name] = _written_first(wide, key, groups)
        elif wide.scalars.may_be_empty(key.text):
            columns[entry.name] = _first_of_group(rows, group)
        else:
            columns[entry.name] = group.copy()
    measuring = Measuring(wide, groups)
    of_rows: list[exp.Expr | None] = [*tests] if tests else [None] * len(measures)
    for entry, measure, test in zip(made[len(keys) :], measures, of_rows, strict=True):
        columns[entry.name] = measuring.said(measure, entry, test)
    rest = wide.select(wide.scalars.value(where)[0] if where else None)
    if groups:
        rest = rest.group_by(*(group.copy() for group in groups))
    texts = [key.text for key in keys] + [measure.expression for measure in measures]
    is_open = {entry.name: "" for entry, text in zip(made, texts, strict=True) if text in rows.open}
    empty = frozenset(
        entry.name
        for entry, text in zip(made, texts, strict=True)
        if text and wide.scalars.may_be_empty(text)
    )
    place = exp.Min(this=rows.column(rows.place))
    return Said(columns, place, rest, is_open, empty, wide.prepared)


def _written_first(wide: Widened, key: Key, groups: Sequence[exp.Expr]) -> exp.Expr:
    """What a group is called whose key is prepared: as its first row has it, blank or not."""
    value, kind = wide.scalars.value(key.text)
    nth = numbered([ordered(wide.place)], [group.copy() for group in groups])
    is_first = exp.EQ(this=nth, expression=exp.Literal.number(1))
    column = wide.with_column("written", exp.Case(ifs=[exp.If(this=is_first, true=value)]))
    return exp.Max(this=wide.target.in_order(column, kind))


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
