"""What each row is among others, and columns that become rows, as SQL."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import sqlglot.expressions as exp

from keen_trellis.core.sorting import SortKey
from keen_trellis.core.stacking import StackedField
from keen_trellis.core.summarising import Key
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.core.windowing import Window, Windowed
from keen_trellis.flow.in_sql.fields import as_written, of_type
from keen_trellis.flow.in_sql.measures import said_key
from keen_trellis.flow.in_sql.ordering import said_order
from keen_trellis.flow.in_sql.rows import (
    NotInSql,
    Said,
    SqlRows,
    Stacked,
    has_value,
    kept,
    numbered,
    passed_on,
)
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.flow.in_sql.widening import Widened

_RANKS = {Window.RANK: exp.Rank, Window.DENSE_RANK: exp.DenseRank}
_NEIGHBOURS = {Window.BEFORE: exp.Lag, Window.AFTER: exp.Lead}
_EXACT = (FieldType.INTEGER, FieldType.DECIMAL)


def said_windows(
    rows: SqlRows,
    within: Sequence[str],
    by: Sequence[SortKey],
    added: Sequence[Windowed],
    made: Sequence[Field],
    target: SqlTarget,
) -> Said:
    """The same rows with what each of them is among those of its group. NotInSql."""
    wide = Widened(rows, target)
    groups = [said_key(wide, Key(text)) for text in within]
    order = said_order(rows, by, target)
    fields = {entry.name: entry for entry in made}
    columns, is_open, empty = dict(passed_on(rows)), dict(rows.open), rows.empty
    for entry in added:
        columns[entry.name] = _told(wide, entry, groups, order, fields[entry.name])
        if entry.window in _NEIGHBOURS:
            # The row beside may have no partner in it, and no column says so of that one.
            is_open |= {entry.name: ""} if entry.of in rows.open else {}
            empty |= {entry.name} if wide.scalars.may_be_empty(entry.of) else frozenset()
    order_of_fields = [*(entry.name for entry in made), *rows.tellers]
    said = msgspec.structs.replace(kept(rows), rest=wide.select(), open=is_open, empty=empty)
    return msgspec.structs.replace(said, columns={name: columns[name] for name in order_of_fields})


def _told(
    wide: Widened, entry: Windowed, groups: Sequence[exp.Expr], order: Sequence[exp.Expr], field: Field
) -> exp.Expr:
    partition = [group.copy() for group in groups]
    own_order = [key.copy() for key in order]
    integer = wide.target.type_of(FieldType.INTEGER)
    if entry.window is Window.ROW_NUMBER:
        return exp.Cast(this=numbered(own_order, partition), to=integer)
    if entry.window in _RANKS:
        # Equal rows have the same: the order in which they stand does not count.
        return exp.Cast(this=numbered(own_order[:-1], partition, _RANKS[entry.window]), to=integer)
    value, kind = wide.scalars.value(entry.of)
    if kind is None:
        raise NotInSql(f"“{entry.of}” has no value at all, and no type yet.")
    if entry.window in _NEIGHBOURS:
        return exp.Window(
            this=_NEIGHBOURS[entry.window](this=value),
            partition_by=partition or None,
            order=exp.Order(expressions=own_order),
        )
    if kind not in _EXACT:
        raise NotInSql(
            f"“{entry.name}” depends on the order in which reals are added.", remedy="CAST them to decimals."
        )
    total = exp.Window(this=exp.Sum(this=value), partition_by=partition or None)
    if entry.window is Window.RUNNING_TOTAL:
        total.set("order", exp.Order(expressions=own_order))
        return exp.Cast(this=total, to=wide.target.holding(field.arrow_type))
    real = wide.target.type_of(FieldType.REAL)
    part, whole = exp.Cast(this=value.copy(), to=real), exp.Cast(this=total, to=real.copy())
    divisor = exp.Nullif(this=whole, expression=exp.Literal.number(0))
    return exp.Div(this=part, expression=divisor, typed=True, safe=False)


def said_unpivoted(
    rows: SqlRows,
    of: Sequence[str],
    names: tuple[str, str],
    plan: Sequence[StackedField],
    target: SqlTarget,
    *,
    blanks: bool,
) -> Stacked:
    """Of each row one for each of some fields. names: of the new fields, for name and cell. NotInSql."""
    name_field, value_field = names
    known = {entry.name: entry for entry in rows.fields}
    parts = []
    for own in of:
        columns: dict[str, exp.Expr] = {}
        for entry in plan:
            name = entry.field.name
            if name == name_field:
                text = target.type_of(FieldType.TEXT)
                columns[name] = exp.Cast(this=exp.Literal.string(own), to=text)
            else:
                field = known[own if name == value_field else name]
                columns[name] = of_type(rows, field, entry.field, target)
        columns |= {teller: rows.column(teller) for teller in rows.tellers}
        is_there = None if blanks else has_value(rows.column(own))
        empty = rows.empty - {value_field} | ({value_field} if own in rows.empty else frozenset())
        parts.append(msgspec.structs.replace(kept(rows, is_there), columns=columns, empty=empty))
    is_open = {
        entry.field.name: rows.open[entry.field.name] for entry in plan if entry.field.name in rows.open
    }
    is_open.pop(name_field, None)
    is_open.pop(value_field, None)
    if any(own in rows.open for own in of):
        is_open[value_field] = ""
    return Stacked(tuple(parts), is_open, row_by_row=True)


def said_combined(rows: SqlRows, of: Sequence[str], between: str, into: str, target: SqlTarget) -> Said:
    """The same rows with several fields written one after the other. NotInSql."""
    said = kept(rows)
    first, *others = (as_written(rows, name, target) for name in of)
    for text in others:
        # What is blank is left out, with what stands between.
        both = exp.DPipe(this=first.copy(), expression=exp.Literal.string(between), safe=True)
        both = exp.DPipe(this=both, expression=text.copy(), safe=True)
        first = exp.Coalesce(this=both, expressions=[first, text])
    columns = dict(said.columns)
    columns[into] = exp.Nullif(this=first, expression=exp.Literal.string(""))
    order = [*(entry.name for entry in rows.fields), into, *rows.tellers]
    return msgspec.structs.replace(said, columns={name: columns[name] for name in order})
