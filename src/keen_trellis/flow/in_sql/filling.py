"""Gaps that are filled, as SQL."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import sqlglot.expressions as exp

from keen_trellis.core.conversion import read_as
from keen_trellis.core.filling import Fill, FillWith, Gaps
from keen_trellis.core.table import Field
from keen_trellis.flow.in_sql.rows import NotInSql, Said, SqlRows, kept
from keen_trellis.flow.in_sql.scalars import Scalars, converted
from keen_trellis.flow.in_sql.target import SqlTarget


def said_filled(rows: SqlRows, fills: Sequence[Fill], made: Sequence[Field], target: SqlTarget) -> Said:
    """The rows with their gaps filled by values and other fields, and without those left out. NotInSql."""
    first = [fill for fill in fills if fill.how is FillWith.LEAVE_OUT]
    if first and list(fills[: len(first)]) != first:
        # Which gaps a later one leaves out is asked of the rows before any is filled.
        raise NotInSql(
            "Rows that are left out after others are filled have no SQL.", remedy="Leave out first."
        )
    said = kept(rows, _without_gaps(rows, first))
    columns = dict(said.columns)
    fields = {entry.name: entry for entry in rows.fields}
    is_open = set(rows.open)
    for fill in fills[len(first) :]:
        for name in fill.fields:
            columns[name] = _filled(rows, fill, fields[name], columns[name], target)
            if fill.how is FillWith.VALUE and fill.gaps is not Gaps.BLANK:
                is_open.discard(name)
    for entry in made:
        own = fields[entry.name]
        if own.arrow_type != entry.arrow_type:
            if own.type is not entry.type:
                raise NotInSql(f"{entry.name} becomes {entry.type.value} by what it is filled with.")
            columns[entry.name] = converted(target, columns[entry.name], own.type, entry.arrow_type)
    return replace(said, columns=columns, open=frozenset(is_open))


def _without_gaps(rows: SqlRows, fills: Sequence[Fill]) -> exp.Expr | None:
    tests = []
    for fill in fills:
        for name in fill.fields:
            _check_gaps(rows, fill, name)
            tests.append(exp.Not(this=exp.Is(this=rows.column(name), expression=exp.Null())))
    return exp.and_(*tests) if tests else None


def _check_gaps(rows: SqlRows, fill: Fill, name: str) -> None:
    if (fill.gaps is Gaps.NO_PARTNER) or (fill.gaps is Gaps.BLANK and name in rows.open):
        raise NotInSql(
            f"Filling {name} tells a blank from a cell without partner, which are both NULL in a database.",
            remedy="Fill both.",
        )


def _filled(rows: SqlRows, fill: Fill, field: Field, value: exp.Expr, target: SqlTarget) -> exp.Expr:
    _check_gaps(rows, fill, field.name)
    scalars = Scalars(rows, target)
    if field.untyped:
        raise NotInSql(f"{field.name} has no value at all, and no type yet.")
    if fill.how is FillWith.VALUE:
        (found,) = read_as([fill.of], field.type, field.name).to_pylist()
        other = scalars.literal(found, field.type)
    elif fill.how is FillWith.FIELD:
        own = next(entry for entry in rows.fields if entry.name == fill.of)
        if own.type is not field.type or own.untyped:
            raise NotInSql(f"{field.name} is filled from {own.name}, which is {own.type.value}.")
        other = scalars.column(own.name)
    else:
        raise NotInSql(f"{field.name} is filled from another row, which has no SQL yet.")
    return exp.Coalesce(this=value, expressions=[other])
