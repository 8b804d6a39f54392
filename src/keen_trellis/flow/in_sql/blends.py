"""A blend as SQL: each other table is summarised by its links, and its groups are joined to the main rows, or
to the groups of these.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec
import sqlglot.expressions as exp

from keen_trellis.core.blending import Keep, Other, Placed, Stands, blend_fields, main_keys
from keen_trellis.core.expressions.held import scale_of
from keen_trellis.core.link import LinkField, Operator, value_of
from keen_trellis.core.summarising import Key, summary_fields
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.fields import of_type
from keen_trellis.flow.in_sql.measures import Measuring, said_key
from keen_trellis.flow.in_sql.rows import (
    NotInSql,
    Prepared,
    Said,
    SqlRows,
    Stacked,
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


class _Joined(msgspec.Struct, frozen=True):
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
    main, *tables = inputs
    prepared: list[Prepared] = []
    source, base, keys = None, main, main_keys(others)
    first = len(main.fields)
    if keep in (Keep.GROUPS, Keep.ALL_GROUPS):
        # Each group with what is measured of it is a row, which the others are joined to.
        first = len(keys) + len(own)
        groups = _main_groups(main, others, own, made[:first], target)
        if keep is Keep.ALL_GROUPS:
            groups = _with_their_groups(groups, inputs, others, own, target)
        base, source = groups.rows, groups.select
        prepared += groups.prepared
    fields = iter(made[first:])
    joined = []
    if own and base is main:
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
    return msgspec.structs.replace(said, prepared=tuple(dict.fromkeys((*wide.prepared, *prepared))))


class _Groups(msgspec.Struct, frozen=True):
    """Groups as rows: what they are, and the query for them."""

    rows: SqlRows
    select: exp.Select
    prepared: tuple[Prepared, ...]

    def under(self, alias: str, target: SqlTarget) -> Widened:
        """They themselves, under a name in a part of the query."""
        return Widened(self.rows, target, alias, self.select.copy())


def _as_groups(rows: SqlRows, said: Said | Stacked, made: Sequence[Field]) -> _Groups:
    """What was said of some rows as rows with these fields."""
    base = msgspec.structs.replace(rows, fields=tuple(made), open=said.open, empty=said.empty)
    return _Groups(base, said.select(rows.place), said.prepared)


def _main_groups(
    main: SqlRows, others: Sequence[Other], own: Sequence[Placed], made: Sequence[Field], target: SqlTarget
) -> _Groups:
    """The groups of the main table, with these fields."""
    keys = main_keys(others)
    plain = summary_fields(main.fields, keys, [placed.measure for placed in own])
    said = said_summary(main, keys, [placed.measure for placed in own], plain, target)
    groups = _as_groups(main, said, plain)
    if tuple(made) == plain:
        return groups
    # Groups that only others have may need other types.
    wide = groups.under(_MAIN, target)
    cast = dict(passed_on(groups.rows, _MAIN))
    for field, wanted in zip(plain, made, strict=True):
        cast[field.name] = of_type(groups.rows, field, wanted, target, _MAIN)
    rest = wide.select()
    return _as_groups(main, Said(cast, wide.place, rest, said.open, said.empty, said.prepared), made)


def _their_groups(
    rows: SqlRows, other: Other, measures: Sequence[Placed], made: Sequence[Field], target: SqlTarget
) -> _Groups:
    """The groups of one of the other tables."""
    keys = [Key(link.right, link.preparation) for link in other.links]
    of_rows = [placed.measure for placed in measures]
    return _as_groups(rows, said_summary(rows, keys, of_rows, made, target, where=other.where), made)


def _unmatched(theirs: Widened, by: Widened, other: Other) -> exp.Select:
    """The groups of another table that no row has a link to."""
    tests = [_test(by, link, *theirs.compared(link.right, link.preparation)) for link in other.links]
    found = exp.Select().select(exp.Literal.number(1)).from_(by.relation())
    if tests:
        found = found.where(exp.and_(*tests, wrap=False))
    return theirs.select().where(exp.Not(this=exp.Exists(this=found)))


def said_unused(
    inputs: Sequence[SqlRows],
    others: Sequence[Other],
    number: int,
    keep: Keep,
    made: Sequence[Field],
    target: SqlTarget,
) -> Said:
    """The groups of one of the other tables that stand on no row of the blend. NotInSql."""
    main, rows, other = inputs[0], inputs[number + 1], others[number]
    groups = _their_groups(rows, other, other.measures, made, target)
    theirs, by, prepared = groups.under(_GROUPS, target), Widened(main, target, _MAIN), groups.prepared
    if keep is Keep.ALL_GROUPS:
        fields = blend_fields(main.fields, [entry.fields for entry in inputs[1:]], others, keep)
        count = len(main_keys(others))
        base = _main_groups(main, others, (), fields[:count], target)
        base = _with_their_groups(base, inputs, others, (), target)
        by, prepared = base.under(_MAIN, target), (*prepared, *base.prepared)
    rest = _unmatched(theirs, by, other)
    prepared = tuple(dict.fromkeys((*prepared, *theirs.prepared, *by.prepared)))
    columns = passed_on(groups.rows, _GROUPS)
    return Said(columns, theirs.place, rest, groups.rows.open, groups.rows.empty, prepared)


def _with_their_groups(
    groups: _Groups,
    inputs: Sequence[SqlRows],
    others: Sequence[Other],
    own: Sequence[Placed],
    target: SqlTarget,
) -> _Groups:
    """The main table's groups and, below them, those that only others have, each once."""
    if any(link.preparation for other in others for link in other.links):
        raise NotInSql(
            "Groups that only other tables have are not found by prepared values in SQL.",
            remedy="Prepare them in a step before, or keep the main table's groups only.",
        )
    for rows, other in zip(inputs[1:], others, strict=True):
        keys = [Key(link.right) for link in other.links]
        theirs = _their_groups(rows, other, (), summary_fields(rows.fields, keys, ()), target)
        wide, by = theirs.under(_GROUPS, target), groups.under(_MAIN, target)
        rest = _unmatched(wide, by, other)
        at_link = {link.left: link.right for link in other.links}
        known = {field.name: field for field in theirs.rows.fields}
        measured = {placed.measure.name for placed in own}
        counts = {placed.measure.name for placed in own if placed.measure.function.counts}
        columns: dict[str, exp.Expr] = {}
        for field in groups.rows.fields:
            if field.name in at_link:
                their = known[at_link[field.name]]
                columns[field.name] = of_type(theirs.rows, their, field, target, _GROUPS)
            else:
                none = exp.Literal.number(0) if field.name in counts else exp.Null()
                columns[field.name] = exp.Cast(this=none, to=target.holding(field.arrow_type))
        theirs_open = [own for own, their in at_link.items() if their in theirs.rows.open]
        is_open = dict.fromkeys((*groups.rows.open, *theirs_open, *measured - counts), "")
        empty = groups.rows.empty | {own for own, their in at_link.items() if their in theirs.rows.empty}
        ours = Said(passed_on(groups.rows, _MAIN), by.place, by.select(), empty=empty)
        made = Stacked((ours, Said(columns, wide.place, rest, empty=empty)), is_open)
        groups = _as_groups(groups.rows, made, groups.rows.fields)
    return groups


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
                by, scale = None, 0
                if placed.by:
                    by = Scalars(base, target, _MAIN).value(placed.by)[0]
                    scale = scale_of(value_of(placed.by, base.fields).arrow_type)
                spread.append(Spread(field, entry.group, by, scale))
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
        kind = Widened(entry.rows, main.target).compared(link.right, link.preparation)[1]
        tests.append(_test(main, link, at(entry.alias, f"{_KEY} {place}"), kind))
    return exp.and_(*tests, wrap=False) if tests else exp.true()


def _test(main: Widened, link: LinkField, theirs: exp.Expr, kind: FieldType | None) -> exp.Expr:
    """Whether a value of another table is that of a row of the main one."""
    if link.likeness is not None:
        raise NotInSql(f"“{link.left} = {link.right}” compares how alike values are, which no SQL says.")
    ours, own_kind = main.compared(link.left, link.preparation)
    main.scalars.check_compared(own_kind, kind, f"{link.left} = {link.right}")
    sign = exp.NullSafeEQ if link.blanks else exp.EQ
    return sign(this=ours, expression=theirs)
