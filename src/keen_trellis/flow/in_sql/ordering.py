"""Steps that speak of the order of rows, as SQL: sort, first rows, distinct."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import sqlglot.expressions as exp

from keen_trellis.core.link import Take, Taken
from keen_trellis.core.sorting import SortKey
from keen_trellis.core.summarising import Key
from keen_trellis.flow.in_sql.rows import (
    Said,
    SqlRows,
    free_column,
    is_null,
    kept,
    numbered,
    ordered,
    passed_on,
    with_columns,
)
from keen_trellis.flow.in_sql.scalars import Scalars
from keen_trellis.flow.in_sql.summaries import said_key
from keen_trellis.flow.in_sql.target import SqlTarget


def said_order(rows: SqlRows, keys: Sequence[SortKey], target: SqlTarget) -> list[exp.Expr]:
    """The keys of an order, the first of which counts most; equal rows as they stood. NotInSql."""
    return [*_said_keys(rows, keys, target), ordered(rows.column(rows.place))]


def _said_keys(rows: SqlRows, keys: Sequence[SortKey], target: SqlTarget) -> list[exp.Expr]:
    scalars = Scalars(rows, target)
    return [
        ordered(scalars.in_order(key.of), descending=key.descending, blanks_first=key.blanks_first)
        for key in keys
    ]


def said_first(
    rows: SqlRows,
    count: int,
    by: Sequence[SortKey],
    each: Sequence[Key],
    target: SqlTarget,
    *,
    with_ties: bool,
) -> Said:
    """The first rows in an order, of all or of each group, groups as they appear. NotInSql."""
    scalars = Scalars(rows, target)
    groups = [said_key(scalars, key) for key in each]
    order = said_order(rows, by, target)
    nth = numbered(_said_keys(rows, by, target), groups, exp.Rank) if with_ties else numbered(order, groups)
    names = passed_on(rows)
    number, appears = free_column("nth", names), free_column("appears", names)
    more: dict[str, exp.Expr] = {number: nth}
    place = order
    if groups:
        least = exp.Min(this=rows.column(rows.place))
        more[appears] = exp.Window(this=least, partition_by=[entry.copy() for entry in groups])
        place = [ordered(rows.column(appears)), *order]
    few = exp.LTE(this=rows.column(number), expression=exp.Literal.number(count))
    return replace(kept(rows), place=numbered(place), rest=with_columns(rows, more).where(few))


def said_distinct(
    rows: SqlRows, keys: Sequence[Key], take: Take, target: SqlTarget, *, blanks_stay: bool
) -> Said:
    """One row of those with the same key. NotInSql."""
    scalars = Scalars(rows, target)
    groups = [said_key(scalars, key) for key in keys]
    order = [ordered(rows.column(rows.place), descending=take.kind is Taken.LAST)]
    if take.expression:
        value = scalars.in_order(take.expression)
        order.insert(0, ordered(value, descending=take.kind is Taken.GREATEST))
    number = free_column("nth", passed_on(rows))
    stays: exp.Expr = exp.EQ(this=rows.column(number), expression=exp.Literal.number(1))
    if blanks_stay:
        stays = exp.or_(stays, *(is_null(group.copy()) for group in groups))
    rest = with_columns(rows, {number: numbered(order, groups)}).where(stays)
    return replace(kept(rows), rest=rest)
