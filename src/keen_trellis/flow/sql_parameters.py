"""Run values as parameters of a query: the same text says the rows for other values of them, too."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping
from decimal import Decimal

import msgspec
import sqlglot.expressions as exp

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.task import Task
from keen_trellis.flow.graph import RunValue
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.flow.plan import Plan
from keen_trellis.flow.run_values import DATE, FILE, NUMBER, is_used
from keen_trellis.flow.to_sql import Query, query_of

# How other values differ from the one that a run value has, in digits, days and characters.
_OTHERS = (3, 5)


def parametrised(plan: Plan, step: str, port: str, target: SqlTarget, task: Task) -> Query:
    """The rows at a port in SQL, in which run values are parameters.

    A run value is one if the query for other values differs in nothing but these values, where it stands as
    it is; what is made of one, as the bounds of a period, is not. TrellisError as `query_of`; Cancelled.
    """
    query = query_of(plan.planned(step, task), port, target)
    places: dict[int, str] = {}
    written = []
    for value in plan.flow.values:
        if query.refused or not value.value or not is_used(plan.flow, value):
            continue
        found = _places(plan, query, value, (step, port, target), task)
        if found is None:
            written.append(value)
        else:
            places |= dict.fromkeys(found, value.name)
    taken = set(places.values())
    parts = query.parts
    if places:
        parts = tuple(
            msgspec.structs.replace(part, select=_with_signs(part.select, places)) for part in parts
        )
    given = tuple(value for value in plan.flow.values if value.name in taken)
    return msgspec.structs.replace(query, parts=parts, given=given, written=tuple(written))


def _places(
    plan: Plan, query: Query, value: RunValue, asked: tuple[str, str, SqlTarget], task: Task
) -> set[int] | None:
    """The ids of the literals that are a run value; None where more than these depend on it."""
    if value.type == FILE:
        return None
    step, port, target = asked
    found: set[int] | None = None
    for by in _OTHERS:
        other = _other(value, by)
        if other == value:
            return None  # nothing is known of it
        values = tuple(other if entry.name == value.name else entry for entry in plan.flow.values)
        try:
            again = query_of(plan.with_values(values).planned(step, task), port, target)
        except TrellisError:
            return None  # it is not of a type that any value of this one has
        places = _differing(query, again, _said(value), _said(other))
        if places is None or (found is not None and places != found):
            return None
        found = places
    return found


def _other(value: RunValue, by: int) -> RunValue:
    """The run value with another value that has as many digits."""
    text = value.value
    if value.type == DATE:
        day = dt.date.fromisoformat(text)
        # There is no day behind the year 9999.
        text = (day + dt.timedelta(days=by if day.year < dt.MAXYEAR else -by)).isoformat()
    elif value.type == NUMBER:
        first = next((place for place, sign in enumerate(text) if sign in "123456789"), None)
        text = "".join(
            str((int(sign) - 1 + by) % 9 + 1) if place == first else sign for place, sign in enumerate(text)
        )
    else:
        text += "\\'%_"[: by - 1]
    return msgspec.structs.replace(value, value=text)


def _said(value: RunValue) -> str:
    """How a literal says a run value."""
    return f"{Decimal(value.value):f}" if value.type == NUMBER else value.value


def _differing(one: Query, other: Query, said: str, said_other: str) -> set[int] | None:
    """The ids of the literals of one query that differ in another one, where they are these texts; None if
    anything else differs.
    """
    if other.refused or len(one.parts) != len(other.parts) or one.ends != other.ends:
        return None
    found: set[int] = set()
    for part, again in zip(one.parts, other.parts, strict=True):
        if (part.rows, part.prepared) != (again.rows, again.prepared):
            return None
        nodes, others = list(part.select.walk()), list(again.select.walk())
        if len(nodes) != len(others):
            return None
        for node, its in zip(nodes, others, strict=True):
            if type(node) is not type(its):
                return None
            if dict(_own(node)) == dict(_own(its)):
                continue
            if not isinstance(node, exp.Literal) or (node.name, its.name) != (said, said_other):
                return None
            found.add(id(node))
    return found


def _own(node: exp.Expr) -> Iterator[tuple[str, object]]:
    """What a node says that is no node itself."""
    for name, value in node.args.items():
        if isinstance(value, list):
            yield name, [entry for entry in value if not isinstance(entry, exp.Expr)]
        elif not isinstance(value, exp.Expr):
            yield name, value


def _with_signs(select: exp.Expr, places: Mapping[int, str]) -> exp.Expr:
    """A query with signs of parameters where these literals stand."""
    copied = select.copy()
    for node, its in zip(list(select.walk()), list(copied.walk()), strict=True):
        if id(node) in places:
            its.replace(exp.var(f":{places[id(node)]}"))
    return copied
