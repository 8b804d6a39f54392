"""A part of the sources that holds all partners: rows whose link values fall into a few hash buckets, and
along a chain of knots the rows that those lead to.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping

import msgspec
import sqlglot.expressions as exp

from keen_trellis.core.link import LinkField, Operator, Preparation
from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.made_here import Compared
from keen_trellis.flow.in_sql.rows import (
    PREPARED,
    VALUE,
    Prepared,
    SqlRows,
    at,
    below,
    has_value,
    is_null,
    name_apart,
    named,
    quoted,
)
from keen_trellis.flow.in_sql.scalars import Scalars
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.flow.source_settings import HASH_DIGITS, PARTS, hash_below
from keen_trellis.flow.to_sql import Part, Query
from keen_trellis.flow.wording import ignoring, listed

BUCKETS = PARTS
_ALL = "all rows"
_KEYS = "keys"
# Types whose values are one text each, wherever they stand.
_HASHED = (FieldType.TEXT, FieldType.INTEGER, FieldType.DATE)
Fields = frozenset[tuple[str, str]]


class Key(msgspec.Struct, frozen=True):
    """A field of a source by which its rows are chosen, as it is compared."""

    rows: SqlRows
    field: str
    preparation: Preparation

    def prepared(self, target: SqlTarget, of: str) -> Prepared | None:
        """The table of its prepared values in the rows called `of`; None where it is compared as it is."""
        if not self.preparation:
            return None
        said = f"{self.field} of {of}, {ignoring(self.preparation)}"
        table = name_apart(said, ("chosen", self.field, of, self.preparation), target.longest_name)
        return Prepared(table, of, self.field, Compared(self.preparation))

    def values(self, rows: SqlRows, target: SqlTarget) -> tuple[exp.Select, exp.Expr]:
        """Some rows of the source with what it is compared as, and that."""
        select = exp.Select().from_(rows.relation())
        table = self.prepared(target, rows.table)
        if table is None:
            return select, Scalars(rows, target).key(self.field)
        same = exp.EQ(this=at(table.table, VALUE), expression=rows.column(self.field))
        relation = exp.Table(this=quoted(table.table))
        return select.join(relation, on=same, join_type="left"), at(table.table, PREPARED)


class Restriction(msgspec.Struct, frozen=True):
    """Which rows of a source are taken. of: those whose value one of these keys has in rows that are taken;
    by hash buckets where there are none.  blanks_too: all that are blank, which match each other.
    """

    key: Key
    of: tuple[Key, ...] = ()
    blanks_too: bool = False

    def select(self, made: exp.Select, target: SqlTarget, taken: int) -> exp.Select:
        """The rows of a query for all of them that are taken: of so many buckets."""
        rows = self.all_rows
        select, key = self.key.values(rows, target)
        select.set("from_", exp.From(this=below(made, rows.table)))
        columns = [*(rows.column(entry.name) for entry in rows.fields), rows.column(rows.place)]
        return select.select(*columns).where(self._holds(rows, key, target, taken))

    @property
    def all_rows(self) -> SqlRows:
        """All rows of its source, under a name of their own."""
        return msgspec.structs.replace(self.key.rows, table=f"{_ALL} of {self.key.rows.table}"[:50])

    def _holds(self, rows: SqlRows, key: exp.Expr, target: SqlTarget, taken: int) -> exp.Expr:
        if self.of:
            tests = [
                exp.In(this=key.copy(), query=exp.Subquery(this=_had(entry, target))) for entry in self.of
            ]
            return exp.or_(*tests)
        if taken >= BUCKETS:
            return exp.true()
        text = exp.Cast(this=key.copy(), to=target.type_of(FieldType.TEXT))
        digits = exp.Substring(
            this=exp.MD5(this=text), start=exp.Literal.number(1), length=exp.Literal.number(HASH_DIGITS)
        )
        most = exp.Literal.string(hash_below(taken))
        some = exp.LT(this=target.in_order(digits, FieldType.TEXT), expression=most)
        # Blanks match nothing: of them, too, as many as of the others.
        every = exp.Mod(this=rows.column(rows.place), expression=exp.Literal.number(BUCKETS))
        blanks = exp.true() if self.blanks_too else exp.LT(this=every, expression=exp.Literal.number(taken))
        return exp.Case(ifs=[exp.If(this=is_null(key.copy()), true=blanks)], default=some)


def _had(key: Key, target: SqlTarget) -> exp.Select:
    select, value = key.values(key.rows, target)
    return select.select(named(value, _KEYS)).where(has_value(value.copy()))


class Restricted(msgspec.Struct):
    """The sources that are taken in part, in the order in which they are chosen, and where that is not
    complete.
    """

    by: dict[str, Restriction] = msgspec.field(default_factory=dict)
    remarks: list[str] = msgspec.field(default_factory=list)


def restricted(query: Query, large: Collection[str]) -> Restricted:
    """How the sources of a query are taken in part; `large` are the tables of those that can be."""
    sources = {source.rows.table: source.rows for source in query.sources}
    parts = {part.rows.table: part for part in query.parts}
    made = Restricted()
    for part in query.parts:
        if part.planned.kind.met_by_all(part.planned.settings) and not part.planned.step.skipped:
            _follow(part, sources, parts, large, made)
    whole = [name for name in sources if name in large and name not in made.by]
    if whole:
        made.remarks.append(f"All rows of {listed(whole, 6)} are taken: no link leads to them from others.")
    return made


def _follow(
    part: Part,
    sources: Mapping[str, SqlRows],
    parts: Mapping[str, Part],
    large: Collection[str],
    made: Restricted,
) -> None:
    """Take along what the links of a knot lead to."""
    step, left = part.planned.step.name, part.inputs[0]
    links: dict[int, list[LinkField]] = {}
    for link, number in part.planned.kind.met_by_all(part.planned.settings):
        links.setdefault(number, []).append(link)
    for number, all_of in links.items():
        right = part.inputs[number]
        found = [entry for link in all_of if (entry := _keys(link, left, right, sources, parts)) is not None]
        if not found:
            made.remarks.append(
                f"At {step} no link compares fields of sources as they are: of its rows, partners may be "
                "outside the part that is taken."
            )
            continue
        if not any(_lead(*entry, large, made) for entry in found):
            made.remarks.append(
                f"At {step} rows were chosen by other values than those that it compares: partners may be "
                "outside the part that is taken."
            )


def _lead(
    link: LinkField, left: list[Key], right: list[Key], large: Collection[str], made: Restricted
) -> bool:
    """Choose the rows of one side of a link by those of the other; whether all partners are in."""
    keys = [key for key in (*left, *right) if key.rows.table in large]
    chosen = [key for key in keys if key.rows.table in made.by]
    new = [key for key in keys if key.rows.table not in made.by]
    for key in new:
        # Of two fields of one table the first leads.
        if key.rows.table not in made.by:
            by = tuple(entry for entry in chosen if entry.rows.table != key.rows.table)
            made.by[key.rows.table] = Restriction(key, by, link.blanks)
    of_side = [{key.rows.table for key in side} & set(large) for side in (left, right)]
    if new or not all(of_side):
        return True  # what is taken as a whole has all partners
    by_this = [made.by[key.rows.table] for key in chosen if made.by[key.rows.table].key == key]
    return len(by_this) == len(chosen) and (
        not any(entry.of for entry in by_this) or len({key.rows.table for key in chosen}) == 1
    )


def _keys(
    link: LinkField,
    left: SqlRows,
    right: SqlRows,
    sources: Mapping[str, SqlRows],
    parts: Mapping[str, Part],
) -> tuple[LinkField, list[Key], list[Key]] | None:
    """A link with the fields of sources that stand behind its sides; None where values are not as they are
    there, or not one text each.
    """
    if link.operator is not Operator.EQUAL or link.likeness is not None:
        return None
    sides: list[list[Key]] = []
    types: set[FieldType] = set()
    for text, rows in ((link.left, left), (link.right, right)):
        known = {entry.name: entry for entry in rows.fields}
        behind = _behind(rows.table, text, sources, parts) if text in known else None
        if behind is None or known[text].untyped:
            return None
        types.add(known[text].type)
        sides.append([Key(sources[table], name, link.preparation) for table, name in sorted(behind)])
    if len(types) > 1 or not types <= set(_HASHED):
        return None
    return link, sides[0], sides[1]


def _behind(
    table: str, name: str, sources: Mapping[str, SqlRows], parts: Mapping[str, Part]
) -> Fields | None:
    """The fields of sources whose values stand in a field as they are; None if others stand in it, too."""
    if table in sources:
        return frozenset({(table, name)})
    found: set[tuple[str, str]] = set()
    for select in _selects(parts[table].select):
        of = _read(select, _projected(select, name), sources, parts)
        if of is None:
            return None
        found |= of
    return frozenset(found)


def _selects(tree: exp.Expr) -> Iterator[exp.Select]:
    if isinstance(tree, exp.Union):
        yield from _selects(tree.this)
        yield from _selects(tree.expression)
    else:
        assert isinstance(tree, exp.Select)
        yield tree


def _projected(select: exp.Select, name: str) -> exp.Expr:
    found: exp.Expr = next(entry for entry in select.expressions if entry.alias_or_name == name)
    return found.unalias()


def _read(
    select: exp.Select, value: exp.Expr, sources: Mapping[str, SqlRows], parts: Mapping[str, Part]
) -> Fields | None:
    """The fields of sources that a value is, as it is."""
    if isinstance(value, exp.Coalesce):
        of = [_read(select, entry, sources, parts) for entry in (value.this, *value.expressions)]
        return None if None in of else frozenset().union(*(entry for entry in of if entry is not None))
    if isinstance(value, exp.Nullif) and isinstance(value.expression, exp.Literal):
        return _read(select, value.this, sources, parts)
    if not isinstance(value, exp.Column):
        return None
    for relation in _relations(select):
        if relation.alias_or_name != value.table:
            continue
        if isinstance(relation, exp.Lateral):
            return None  # it is made of a field
        if isinstance(relation, exp.Table):
            is_known = relation.name in sources or relation.name in parts
            return _behind(relation.name, value.name, sources, parts) if is_known else None
        found: set[tuple[str, str]] = set()
        for inner in _selects(relation.this):
            of_inner = _read(inner, _projected(inner, value.name), sources, parts)
            if of_inner is None:
                return None
            found |= of_inner
        return frozenset(found)
    return None


def _relations(select: exp.Select) -> Iterator[exp.Expr]:
    yield select.args["from_"].this
    yield from (join.this for join in select.args.get("joins") or ())
