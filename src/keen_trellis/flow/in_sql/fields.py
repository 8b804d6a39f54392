"""Steps that leave the rows and change the fields, and those that put rows below each other, as SQL."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec
import sqlglot.expressions as exp

from keen_trellis.core.choosing import Chosen
from keen_trellis.core.expressions.held import scale_of
from keen_trellis.core.stacking import StackedField
from keen_trellis.core.table import Field
from keen_trellis.core.values import ARROW_TYPES, FieldType
from keen_trellis.flow.in_sql.casts import CASTS, converted
from keen_trellis.flow.in_sql.made_here import Making
from keen_trellis.flow.in_sql.rows import NotInSql, Said, SqlRows, Stacked, kept
from keen_trellis.flow.in_sql.scalars import Scalars
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.flow.in_sql.widening import Widened


def said_computed(
    rows: SqlRows, made: Sequence[Field], name: str, expression: str, target: SqlTarget
) -> Said:
    """A field more, or another one in its place. NotInSql."""
    said = kept(rows)
    scalars = Scalars(rows, target)
    value, kind = scalars.value(expression)
    columns = dict(said.columns)
    field = next(entry for entry in made if entry.name == name)
    to = target.holding(field.arrow_type)
    # What is no column of a known type would be as narrow as the numbers that it is written with.
    columns[name] = (
        value if isinstance(value, exp.Column) and kind is field.type else exp.Cast(this=value, to=to)
    )
    empty = rows.empty - {name} | ({name} if scalars.may_be_empty(expression) else set())
    order = [*(entry.name for entry in made), *rows.tellers]
    is_open = {own: teller for own, teller in rows.open.items() if own != name}
    return msgspec.structs.replace(
        said, columns={own: columns[own] for own in order}, open=is_open, empty=empty
    )


def said_chosen(rows: SqlRows, plan: Sequence[tuple[Field, Chosen]], target: SqlTarget) -> Said:
    """The fields that stay, under their names and of their types. NotInSql."""
    known = {entry.name: entry for entry in rows.fields}
    columns = {field.name: of_type(rows, known[chosen.of], field, target) for field, chosen in plan}
    columns |= {teller: rows.column(teller) for teller in rows.tellers}
    is_open = {field.name: rows.open[chosen.of] for field, chosen in plan if chosen.of in rows.open}
    empty = frozenset(field.name for field, chosen in plan if chosen.of in rows.empty)
    return msgspec.structs.replace(kept(rows), columns=columns, open=is_open, empty=empty)


def of_type(rows: SqlRows, field: Field, wanted: Field, target: SqlTarget, alias: str = "") -> exp.Expr:
    """A field as the type of another one. alias: what the rows are called. NotInSql where some values have no
    place in it.
    """
    if field.untyped:
        return exp.Cast(this=exp.Null(), to=target.holding(wanted.arrow_type))
    column = rows.column(field.name, alias)
    if field.arrow_type == wanted.arrow_type or (field.type is wanted.type is not FieldType.DECIMAL):
        return column
    decimal = field.type is wanted.type and scale_of(field.arrow_type) <= scale_of(wanted.arrow_type)
    if not (decimal or (field.type, wanted.type) in CASTS):
        raise NotInSql(
            f"{field.name} as {wanted.type.value}: what cannot be converted is blank here, an error there.",
            remedy="Keep its type.",
        )
    return converted(target, column, field.type, wanted.arrow_type)


def as_written(rows: SqlRows, name: str, target: SqlTarget) -> exp.Expr:
    """A field as text, as it is written. NotInSql for a type whose values databases write otherwise."""
    field = next(entry for entry in rows.fields if entry.name == name)
    if field.untyped:
        return exp.Cast(this=exp.Null(), to=target.type_of(FieldType.TEXT))
    column = rows.column(name)
    if field.type is FieldType.TEXT:
        return column
    if (field.type, FieldType.TEXT) not in CASTS:
        raise NotInSql(f"{name} is {field.type.value}, which databases write otherwise.")
    return converted(target, column, field.type, ARROW_TYPES[FieldType.TEXT])


def said_made_here(
    rows: SqlRows, fields: Sequence[Field], made: Mapping[str, tuple[str, Making]], target: SqlTarget
) -> Said:
    """The same rows with these fields, some of them made of texts. made: of which, and how, by the field. A
    field in which there is no value stays so.
    """
    wide = Widened(rows, target)
    said = kept(rows)
    known = {entry.name: entry for entry in rows.fields}
    columns, is_open, empty = dict(said.columns), dict(rows.open), rows.empty
    for name, (of, making) in made.items():
        is_blank = known[of].untyped
        blank = exp.Cast(this=exp.Null(), to=target.type_of(FieldType.TEXT))
        columns[name] = blank if is_blank else wide.made_here(of, making)
        is_open |= {name: rows.open[of]} if of in rows.open else {}
        # A part of a text may be empty, and so may what is left of one.
        empty |= frozenset() if is_blank else {name}
    columns = {name: columns[name] for name in (*(entry.name for entry in fields), *rows.tellers)}
    return msgspec.structs.replace(
        said, columns=columns, rest=wide.select(), open=is_open, empty=empty, prepared=wide.prepared
    )


def said_union(
    inputs: Sequence[SqlRows], plan: Sequence[StackedField], rail_field: str, target: SqlTarget
) -> Stacked:
    """The rows of all inputs, one after the other. NotInSql."""
    parts = []
    for number, rows in enumerate(inputs):
        known = {entry.name: entry for entry in rows.fields}
        columns: dict[str, exp.Expr] = {}
        for entry in plan:
            own = known.get(entry.of[number])
            to = target.holding(entry.field.arrow_type)
            columns[entry.field.name] = (
                exp.Cast(this=exp.Null(), to=to) if own is None else of_type(rows, own, entry.field, target)
            )
        if rail_field:
            text = Scalars(rows, target).literal(rows.name, FieldType.TEXT)
            columns[rail_field] = exp.Cast(this=text, to=target.type_of(FieldType.TEXT))
        empty = frozenset(entry.field.name for entry in plan if entry.of[number] in rows.empty)
        parts.append(msgspec.structs.replace(kept(rows), columns=columns, empty=empty))
    of_open = {
        entry.field.name: ""
        for entry in plan
        for name, rows in zip(entry.of, inputs, strict=True)
        if name in rows.open
    }
    return Stacked(tuple(parts), of_open)
