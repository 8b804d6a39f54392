"""A table that points to itself, walked from the part to the top, as SQL: by a query that reads itself."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import sqlglot
import sqlglot.expressions as exp

from keen_trellis.core.table import Field
from keen_trellis.core.values import ARROW_TYPES, FieldType
from keen_trellis.core.walking import BETWEEN, DEEPEST_PATH, Walk
from keen_trellis.flow.in_sql.casts import failing
from keen_trellis.flow.in_sql.fields import as_written
from keen_trellis.flow.in_sql.rows import (
    NotInSql,
    Said,
    SqlRows,
    at,
    below,
    has_value,
    kept,
    named,
    numbered,
    ordered,
    passed_on,
    quoted,
)
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.flow.in_sql.widening import Widened

_WALKED, _TOPS, _WHOLE, _PART = "walked", "tops", "whole", "part"
_PLACE, _PARENT, _OWN, _KEY = "place", "parent", "own", "key"
_LEVEL, _TOP, _PATH, _NTH = "level", "top", "path", "nth"
# From each top down: what is in a circle is never come to.
_UP = """
WITH RECURSIVE up AS (
  SELECT p.place, CAST(0 AS BIGINT) AS level, p.place AS top, p.own AS path, ARRAY[p.place] AS nth
  FROM parents AS p WHERE p.parent IS NULL
  UNION ALL
  SELECT p.place, u.level + 1, u.top, u.path || 'between' || p.own, u.nth || p.place
  FROM parents AS p JOIN up AS u ON p.parent = u.place
)
SELECT u.place, u.level, u.top, u.path, u.nth FROM up AS u
"""


def said_walk(rows: SqlRows, walk: Walk, made: Sequence[Field], target: SqlTarget) -> Said:
    """The same rows, each with what is above it. NotInSql."""
    if not target.recurses:
        raise NotInSql(f"{target.name} has no queries that read what they make.")
    said, walked = kept(rows), at(_WALKED, _PLACE)
    columns, empty = dict(passed_on(rows)), rows.empty
    known = {entry.name: entry for entry in rows.fields}
    if walk.level:
        columns[walk.level] = at(_WALKED, _LEVEL)
    if walk.path:
        columns[walk.path] = at(_WALKED, _PATH)
        empty |= {walk.path}
    of_the_top = [(walk.top, walk.whole)] if walk.top else []
    for name, of in [*of_the_top, *((walk.brought(name), name) for name in walk.bring)]:
        columns[name] = rows.column(of, _TOPS)
        if known[of].untyped:
            columns[name] = exp.Cast(this=exp.Null(), to=target.type_of(FieldType.TEXT))
        empty |= {name} if of in rows.empty else frozenset()
    place = rows.column(rows.place)
    rest = exp.Select().from_(rows.relation())
    rest = rest.join(
        below(_climbed(rows, walk, target), _WALKED),
        on=exp.EQ(this=walked, expression=place.copy()),
        join_type="left",
    )
    on = exp.EQ(this=rows.column(rows.place, _TOPS), expression=at(_WALKED, _TOP))
    rest = rest.join(rows.relation(_TOPS), on=on, join_type="left")
    order = [ordered(place)]
    if walk.top_down:
        order.insert(0, ordered(at(_WALKED, _NTH)))  # those of circles last
    columns = {name: columns[name] for name in (*(entry.name for entry in made), *rows.tellers)}
    nth = numbered(order) if walk.top_down else place.copy()
    return msgspec.structs.replace(said, columns=columns, place=nth, rest=rest, empty=empty)


def _climbed(rows: SqlRows, walk: Walk, target: SqlTarget) -> exp.Expr:
    """Of each row that leads into no circle its level, top, path, and where it stands from the top down."""
    tree = sqlglot.parse_one(_UP, read="postgres")
    for literal in list(tree.find_all(exp.Literal)):
        if literal.name == "between":
            literal.replace(exp.Literal.string(BETWEEN))
    names = {"up": "walked up", "parents": "walked from"}
    for relation in tree.find_all(exp.Table):
        relation.set("this", quoted(names[relation.name]))
    recursive = tree.args["with_"]
    recursive.expressions[0].set("alias", exp.TableAlias(this=quoted(names["up"])))
    parents = exp.CTE(this=_parents(rows, walk, target), alias=exp.TableAlias(this=quoted(names["parents"])))
    recursive.set("expressions", [parents, *recursive.expressions])
    if walk.path:
        further = recursive.expressions[1].this.expression
        most = exp.Literal.number(DEEPEST_PATH - 1)
        too_deep = exp.GTE(this=exp.column(_LEVEL, table="u"), expression=most)
        said = f"A path would lead through more than {DEEPEST_PATH:,} rows, down to row "
        text = exp.Cast(this=exp.column(_PLACE, table="p"), to=target.type_of(FieldType.TEXT))
        further.where(failing(target, too_deep, said, text), copy=False)
    return tree


def _parents(rows: SqlRows, walk: Walk, target: SqlTarget) -> exp.Select:
    """Each row with the first row of the whole that it is part of, if that is there."""
    parts, wholes = Widened(rows, target, _PART), Widened(rows, target)
    scalars, key = parts.scalars, wholes.scalars.key(walk.whole)
    kinds = [side.scalars.value(text)[1] for side, text in ((parts, walk.part), (wholes, walk.whole))]
    scalars.check_compared(kinds[0], kinds[1], f"{walk.part} = {walk.whole}")
    if None in kinds:
        raise NotInSql(f"{walk.part} or {walk.whole} has no value at all, and no type yet.")
    first = exp.Min(this=wholes.place)
    whole = exp.Select().select(named(key, _KEY), named(first, _PLACE)).from_(rows.relation())
    whole = whole.where(has_value(key.copy())).group_by(key.copy())
    own: exp.Expr = exp.Literal.string("")
    if walk.path:
        field = next(entry for entry in rows.fields if entry.name == walk.whole)
        text = as_written(msgspec.structs.replace(rows, table=_PART), field.name, target)
        own = exp.Coalesce(this=text, expressions=[own])
    own = exp.Cast(this=own, to=target.holding(ARROW_TYPES[FieldType.TEXT]))
    on = exp.EQ(this=at(_WHOLE, _KEY), expression=scalars.key(walk.part))
    made = [named(parts.place, _PLACE), named(at(_WHOLE, _PLACE), _PARENT), named(own, _OWN)]
    return (
        exp.Select()
        .select(*made)
        .from_(rows.relation(_PART))
        .join(below(whole, _WHOLE), on=on, join_type="left")
    )
