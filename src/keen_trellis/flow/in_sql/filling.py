"""Gaps that are filled, as SQL."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import sqlglot.expressions as exp

from keen_trellis.core.conversion import read_as
from keen_trellis.core.filling import Fill, FillWith, Gaps
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.flow.in_sql.casts import converted
from keen_trellis.flow.in_sql.rows import (
    NotInSql,
    Said,
    SqlRows,
    below,
    free_column,
    is_null,
    kept,
    named,
    ordered,
)
from keen_trellis.flow.in_sql.scalars import Scalars
from keen_trellis.flow.in_sql.target import SqlTarget

_NEAR = (FillWith.BEFORE, FillWith.AFTER)


def said_filled(rows: SqlRows, fills: Sequence[Fill], made: Sequence[Field], target: SqlTarget) -> Said:
    """The rows with their gaps filled by values and other fields, and without those left out. NotInSql."""
    first = [fill for fill in fills if fill.how is FillWith.LEAVE_OUT]
    if first and list(fills[: len(first)]) != first:
        # Which gaps a later one leaves out is asked of the rows before any is filled.
        raise NotInSql(
            "Rows that are left out after others are filled have no SQL.", remedy="Leave out first."
        )
    near = [fill for fill in fills if fill.how in _NEAR]
    if near and any(fill.how is FillWith.FIELD for fill in fills):
        raise NotInSql(
            "Gaps that are filled from other rows and from other fields, together, have no SQL.",
            remedy="Fill them in two steps.",
        )
    said = kept(rows, _without_gaps(rows, first))
    columns = dict(said.columns)
    fields = {entry.name: entry for entry in rows.fields}
    is_open, empty = dict(rows.open), rows.empty
    for fill in fills[len(first) :]:
        for name in fill.fields:
            if fill.how is FillWith.FIELD and fill.of in rows.empty:
                empty |= {name}
            now = msgspec.structs.replace(rows, open=is_open)
            if fill.how in _NEAR:
                said, columns = _beside(
                    now, msgspec.structs.replace(said, columns=columns), fill, fields[name], target
                )
            else:
                columns[name] = _filled(now, fill, fields[name], columns[name], target)
            if name in is_open and fill.gaps is not Gaps.BLANK:
                # What another field fills may be left open, and no column says where.
                is_open = {own: teller for own, teller in is_open.items() if own != name}
                is_open |= {} if fill.how is FillWith.VALUE else {name: ""}
    for entry in made:
        own = fields[entry.name]
        if own.arrow_type != entry.arrow_type:
            if own.type is not entry.type:
                raise NotInSql(f"{entry.name} becomes {entry.type.value} by what it is filled with.")
            columns[entry.name] = converted(target, columns[entry.name], own.type, entry.arrow_type)
    return msgspec.structs.replace(said, columns=columns, open=is_open, empty=empty)


def _beside(
    rows: SqlRows, said: Said, fill: Fill, field: Field, target: SqlTarget
) -> tuple[Said, dict[str, exp.Expr]]:
    """The same with the gaps of a field filled by the nearest row before or after that has a value: such rows
    begin a stretch, each of which has one value.
    """
    if field.untyped or field.type is FieldType.BOOLEAN:
        kind = "blank in every row" if field.untyped else "a boolean"
        raise NotInSql(f"{field.name} is {kind}, and is filled from another row.")
    names = [*said.columns, rows.place]
    value, place = rows.column(field.name), rows.column(rows.place)
    order = exp.Order(expressions=[ordered(place, descending=fill.how is FillWith.AFTER)])
    stretch = free_column("stretch", names)
    counted = exp.Window(this=exp.Count(this=value), order=order)
    inner = exp.Select().select(*(rows.column(name) for name in names), named(counted, stretch))
    inner = inner.from_(below(said.select(rows.place), rows.table))
    nearest = exp.Window(
        this=exp.Max(this=target.in_order(value.copy(), field.type)),
        partition_by=[rows.column(stretch)],
    )
    columns: dict[str, exp.Expr] = {name: rows.column(name) for name in said.columns}
    gap = _gap(rows, fill, field.name, value)
    columns[field.name] = exp.Case(ifs=[exp.If(this=gap, true=nearest)], default=value.copy())
    rest = exp.Select().from_(below(inner, rows.table))
    return msgspec.structs.replace(said, rest=rest, place=place.copy()), columns


def _without_gaps(rows: SqlRows, fills: Sequence[Fill]) -> exp.Expr | None:
    tests = [
        exp.Not(this=_gap(rows, fill, name, rows.column(name))) for fill in fills for name in fill.fields
    ]
    return exp.and_(*tests) if tests else None


def _gap(rows: SqlRows, fill: Fill, name: str, value: exp.Expr) -> exp.Expr:
    """Whether the cell of a field, whose value that is by now, is a gap that is filled. NotInSql."""
    null = is_null(value.copy())
    found = rows.has_partner(name)
    if fill.gaps is Gaps.BOTH or (fill.gaps is Gaps.BLANK and name not in rows.open):
        return null
    if found is None:
        raise NotInSql(
            f"Filling {name} tells a blank from a cell without partner, which are both NULL in a database.",
            remedy="Fill both.",
        )
    return exp.Paren(this=exp.and_(null, found)) if fill.gaps is Gaps.BLANK else exp.Not(this=found)


def _filled(rows: SqlRows, fill: Fill, field: Field, value: exp.Expr, target: SqlTarget) -> exp.Expr:
    scalars = Scalars(rows, target)
    if field.untyped:
        raise NotInSql(f"{field.name} has no value at all, and no type yet.")
    if fill.how is FillWith.VALUE:
        (found,) = read_as([fill.of], field.type, field.name).to_pylist()
        other = scalars.literal(found, field.type)
    else:
        own = next(entry for entry in rows.fields if entry.name == fill.of)
        if own.type is not field.type or own.untyped:
            raise NotInSql(f"{field.name} is filled from {own.name}, which is {own.type.value}.")
        other = scalars.column(own.name)
    gap = _gap(rows, fill, field.name, value)
    if isinstance(gap, exp.Is):
        return exp.Coalesce(this=value, expressions=[other])
    return exp.Case(ifs=[exp.If(this=gap, true=other)], default=value)
