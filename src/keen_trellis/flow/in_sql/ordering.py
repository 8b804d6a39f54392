"""Steps that speak of the order of rows, as SQL: sort, first rows, distinct."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import sqlglot.expressions as exp

from keen_trellis.core.link import Take, Taken
from keen_trellis.core.sorting import SortKey
from keen_trellis.core.summarising import Key
from keen_trellis.flow.in_sql.measures import said_key
from keen_trellis.flow.in_sql.rows import (
    Said,
    SqlRows,
    is_null,
    kept,
    numbered,
    ordered,
)
from keen_trellis.flow.in_sql.scalars import Scalars
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.flow.in_sql.widening import Widened


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
    wide = Widened(rows, target)
    groups = [said_key(wide, key) for key in each]
    order = said_order(rows, by, target)
    nth = numbered(_said_keys(rows, by, target), groups, exp.Rank) if with_ties else numbered(order, groups)
    number, place = wide.with_column("nth", nth), order
    if groups:
        least = exp.Min(this=rows.column(rows.place))
        appears = exp.Window(this=least, partition_by=[entry.copy() for entry in groups])
        place = [ordered(wide.with_column("appears", appears)), *order]
    rest = wide.select().where(exp.LTE(this=number, expression=exp.Literal.number(count)))
    return msgspec.structs.replace(kept(rows), place=numbered(place), rest=rest, prepared=wide.prepared)


def said_distinct(
    rows: SqlRows, keys: Sequence[Key], take: Take, target: SqlTarget, *, blanks_stay: bool
) -> Said:
    """One row of those with the same key. NotInSql."""
    wide = Widened(rows, target)
    groups = [said_key(wide, key) for key in keys]
    order = [ordered(rows.column(rows.place), descending=take.kind is Taken.LAST)]
    if take.expression:
        value = wide.scalars.in_order(take.expression)
        order.insert(0, ordered(value, descending=take.kind is Taken.GREATEST))
    number = wide.with_column("nth", numbered(order, groups))
    stays: exp.Expr = exp.EQ(this=number, expression=exp.Literal.number(1))
    if blanks_stay:
        stays = exp.or_(stays, *(is_null(group.copy()) for group in groups))
    return msgspec.structs.replace(kept(rows), rest=wide.select().where(stays), prepared=wide.prepared)
