"""A blend as SQL: each other table is summarised by its links, and its groups are joined to the main rows, or
to the groups of these.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import sqlglot.expressions as exp

from keen_trellis.core.blending import Keep, Other, Placed, Stands, main_keys
from keen_trellis.core.link import LinkField, Operator
from keen_trellis.core.summarising import Key
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.measures import Measuring, said_key
from keen_trellis.flow.in_sql.rows import (
    NotInSql,
    Prepared,
    Said,
    SqlRows,
    at,
    below,
    free_column,
    has_value,
    named,
    numbered,
    ordered,
    passed_on,
)
from keen_trellis.flow.in_sql.scalars import Scalars
from keen_trellis.flow.in_sql.shares import Spread, with_shares
from keen_trellis.flow.in_sql.summaries import said_summary
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.flow.in_sql.widening import Widened

# What the parts of the query call their columns.
_MAIN, _GROUPS, _KEY, _MEASURE, _FIRST = "main", "groups", "key", "measure", "first row"


@dataclass(frozen=True)
class _Joined:
    """A table whose groups are joined to the main rows. other: how; its measures are of `rows`.  own: whether
    it is the main table itself, each row of which has a group.
    """

    alias: str
    rows: SqlRows
    other: Other
    fields: tuple[Field, ...]
    own: bool

    def measures(self) -> Iterator[tuple[Placed, Field, exp.Column]]:
        """Each measure with its field and its column in the groups."""
        for place, (placed, entry) in enumerate(zip(self.other.measures, self.fields, strict=True), 1):
            yield placed, entry, at(self.alias, f"{_MEASURE} {place}")

    @property
    def group(self) -> exp.Column:
        """What tells its groups apart: where the first row of each stands."""
        return at(self.alias, _FIRST)


def said_blend(
    inputs: Sequence[SqlRows],
    others: Sequence[Other],
    keep: Keep,
    own: Sequence[Placed],
    made: Sequence[Field],
    target: SqlTarget,
) -> Said:
    """The main rows, or their groups, with the measures of the groups that they find. NotInSql."""
    if keep is Keep.ALL_GROUPS:
        raise NotInSql("A blend that keeps groups which only other tables have is not said in SQL yet.")
    main, *tables = inputs
    prepared: list[Prepared] = []
    source, base, keys = None, main, main_keys(others)
    first = len(main.fields)
    if keep is Keep.GROUPS:
        # Each group with what is measured of it is a row, which the others are joined to.
        first = len(keys) + len(own)
        groups = said_summary(main, keys, [placed.measure for placed in own], made[:first], target)
        base = replace(main, fields=tuple(made[:first]), open=groups.open, empty=groups.empty)
        source = groups.select(main.place)
        prepared += groups.prepared
    fields = iter(made[first:])
    joined = []
    if own and keep is not Keep.GROUPS:
        itself = Other(main.name, tuple(map(_to_itself, keys)), tuple(own))
        joined.append(_Joined(f"{_GROUPS} 0", main, itself, tuple(next(fields) for _ in own), own=True))
    for number, (other, rows) in enumerate(zip(others, tables, strict=True), 1):
        theirs = tuple(next(fields) for _ in other.measures)
        joined.append(_Joined(f"{_GROUPS} {number}", rows, other, theirs, own=False))
    wide = Widened(base, target, _MAIN, source)
    tests = [_on(wide, entry) for entry in joined]
    rest = wide.select()
    for entry, on in zip(joined, tests, strict=True):
        inner, more = _groups(entry, target)
        prepared += more
        rest = rest.join(below(inner, entry.alias), on=on, join_type="left")
    if keep is Keep.FOUND:
        rest = rest.where(exp.or_(*(has_value(entry.group) for entry in joined if not entry.own)))
    said = _with_measures(base, joined, rest, target)
    return replace(said, prepared=tuple(dict.fromkeys((*wide.prepared, *prepared))))


def _to_itself(key: Key) -> LinkField:
    """The link of the main table's rows to their own groups; blanks are one of them."""
    return LinkField(key.text, key.text, key.preparation, Operator.EQUAL, True)


def _with_measures(base: SqlRows, joined: Sequence[_Joined], rest: exp.Select, target: SqlTarget) -> Said:
    """The columns of the blend over its joined tables."""
    columns: dict[str, exp.Expr] = {name: base.column(name, _MAIN) for name in passed_on(base)}
    is_open, empty = dict(base.open), base.empty
    place = base.column(base.place, _MAIN)
    spread: list[Spread] = []
    for entry in joined:
        teller = ""
        if not entry.own:
            teller = free_column(f"{entry.rows.name} found", columns)
            columns[teller] = has_value(entry.group)
        for placed, field, column in entry.measures():
            value: exp.Expr = column
            if placed.stands is Stands.SPREAD:
                by = Scalars(base, target, _MAIN).value(placed.by)[0] if placed.by else None
                spread.append(Spread(field, entry.group, by))
            elif placed.stands is Stands.FIRST:
                value = _on_first(entry, column, place)
            if placed.measure.function.counts and not entry.own:
                none = exp.If(this=exp.Not(this=has_value(entry.group)), true=exp.Literal.number(0))
                value = exp.Case(ifs=[none], default=value)
            elif not entry.own:
                is_open[field.name] = teller
            if field.type is FieldType.TEXT:
                empty |= {field.name}
            columns[field.name] = value
    said = Said(columns, place, rest, is_open, empty)
    return with_shares(said, base.place, spread, target) if spread else said


def _on_first(entry: _Joined, column: exp.Expr, place: exp.Expr) -> exp.Expr:
    """A measure on the first row of its group only."""
    nth = numbered([ordered(place.copy())], [entry.group])
    is_first = exp.EQ(this=nth, expression=exp.Literal.number(1))
    return exp.Case(ifs=[exp.If(this=is_first, true=column)])


def _groups(entry: _Joined, target: SqlTarget) -> tuple[exp.Select, tuple[Prepared, ...]]:
    """The groups of a table: its keys and measures under names of their own."""
    rows, other = entry.rows, entry.other
    wide = Widened(rows, target)
    keys = [said_key(wide, Key(link.right, link.preparation)) for link in other.links]
    measuring = Measuring(wide, keys)
    made = [named(key.copy(), f"{_KEY} {place}") for place, key in enumerate(keys, 1)]
    for place, (placed, field) in enumerate(zip(other.measures, entry.fields, strict=True), 1):
        made.append(named(measuring.said(placed.measure, field), f"{_MEASURE} {place}"))
    first: exp.Expr = exp.Min(this=wide.place)
    if not keys:
        # All rows together are a group, also where there are none.
        first = exp.Coalesce(this=first, expressions=[exp.Literal.number(0)])
    made.append(named(first, _FIRST))
    where = wide.scalars.value(other.where)[0] if other.where else None
    groups = wide.select(where).select(*made)
    return (groups.group_by(*(key.copy() for key in keys)) if keys else groups), wide.prepared


def _on(main: Widened, entry: _Joined) -> exp.Expr:
    tests = []
    for place, link in enumerate(entry.other.links, 1):
        if link.likeness is not None:
            raise NotInSql(f"“{link.left} = {link.right}” compares how alike values are, which no SQL says.")
        one, kind = main.compared(link.left, link.preparation)
        other_kind = Widened(entry.rows, main.target).compared(link.right, link.preparation)[1]
        main.scalars.check_compared(kind, other_kind, f"{link.left} = {link.right}")
        sign = exp.NullSafeEQ if link.blanks else exp.EQ
        tests.append(sign(this=one, expression=at(entry.alias, f"{_KEY} {place}")))
    return exp.and_(*tests, wrap=False) if tests else exp.true()
