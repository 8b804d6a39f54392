"""What a table of a database must be to hold the rows of an output: its columns and their types."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import msgspec
import pyarrow as pa

from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.flow.steps.output import APPEND, UPDATE, OutputSettings
from keen_trellis.flow.wording import listed

if TYPE_CHECKING:
    from sqlalchemy import Connection


class Named(msgspec.Struct, frozen=True):
    """A table by its schema, None where none is named, and its own name."""

    schema: str | None
    table: str

    @classmethod
    def read(cls, text: str, dialect: str) -> Named:
        """The table that settings name, with a schema before a point where the database has schemas."""
        if dialect == "sqlite":
            return cls(None, text)
        if text.startswith('"') and '".' in text:
            schema, _, table = text[1:].partition('".')
            return cls(schema, table.strip('"'))
        schema, point, table = text.partition(".")
        return cls(schema, table) if point else cls(None, text)

    def quoted(self, connection: Connection) -> str:
        """As it stands in SQL."""
        quote = connection.dialect.identifier_preparer.quote_identifier
        return f"{quote(self.schema)}.{quote(self.table)}" if self.schema else quote(self.table)


class Column(msgspec.Struct, frozen=True):
    """A column that is there. type: None where it takes any.  must: whether it must be given a value."""

    name: str
    type: FieldType | None
    said: str
    scale: int | None
    must: bool
    computed: bool


def columns_of(connection: Connection, named: Named) -> list[Column] | None:
    """The columns of a table; None if there is none. OutputError for a view."""
    from sqlalchemy import inspect
    from sqlalchemy.exc import NoSuchTableError

    inspector = inspect(connection)
    if named.table in inspector.get_view_names(named.schema):
        raise OutputError(
            f"{named.table} is a view, which holds no rows of its own.", remedy="Write to a table."
        )
    try:
        if not inspector.has_table(named.table, named.schema):
            return None
        found = inspector.get_columns(named.table, named.schema)
        keys = inspector.get_pk_constraint(named.table, named.schema)["constrained_columns"]
    except NoSuchTableError:
        return None
    # A whole number that is SQLite's key numbers itself.
    numbered = keys[0] if connection.dialect.name == "sqlite" and len(keys) == 1 else None
    return [_column(entry, numbers_itself=entry["name"] == numbered) for entry in found]


def _column(entry: Any, *, numbers_itself: bool) -> Column:
    kind = _kind(entry["type"])
    computed = bool(entry.get("computed"))
    given = entry.get("default") is not None or entry.get("identity") or entry.get("autoincrement") is True
    numbers_itself = numbers_itself and kind is FieldType.INTEGER
    must = not (entry.get("nullable", True) or given or computed or numbers_itself)
    said = "any type" if kind is None else str(entry["type"]).lower()
    return Column(entry["name"], kind, said, getattr(entry["type"], "scale", None), must, computed)


def _kind(given: Any) -> FieldType | None:
    """The type of values that a column holds; None if it holds any."""
    from sqlalchemy import types

    if isinstance(given, types.NullType):
        return None
    for kind, held in (
        (types.Boolean, FieldType.BOOLEAN),
        (types.Integer, FieldType.INTEGER),
        (types.Float, FieldType.REAL),
        (types.Numeric, FieldType.DECIMAL),
        (types.DateTime, FieldType.TIMESTAMP),
        (types.Date, FieldType.DATE),
        (types.Time, FieldType.TIME),
        (types.String, FieldType.TEXT),
    ):
        if isinstance(given, kind):
            return held
    raise OutputError(
        f"It has a column of the type {given}, which this program does not write.",
        remedy="Write to a table without one.",
    )


def check_shape(fields: Sequence[Field], columns: Sequence[Column], settings: OutputSettings) -> None:
    """OutputError, saying what differs, unless a table that is there takes the rows of these fields."""
    by_name = {column.name: column for column in columns}
    wrong = []
    for field in fields:
        column = by_name.get(field.name)
        if column is None:
            wrong.append(f"it has no column “{field.name}”")
        elif column.computed:
            wrong.append(f"“{field.name}” is computed there")
        elif not field.untyped and not _takes(column, field):
            wrong.append(f"“{field.name}” is {column.said} there and {_said(field)} here")
    names = {field.name for field in fields}
    left = [column for column in columns if column.name not in names and not column.computed]
    # Of rows that stay, what other columns hold stays as well; those that are replaced would lose it.
    missing = [column for column in left if column.must or settings.mode not in (APPEND, UPDATE)]
    wrong += [f"these rows have no “{column.name}”" for column in missing]
    if wrong:
        raise OutputError(
            f"The table {settings.table} is of another shape: {listed(wrong, 6)}.",
            remedy="Choose, name and type the fields so that they fit, or write to another table.",
        )


def _takes(column: Column, field: Field) -> bool:
    if column.type in (None, field.type):
        places = field.arrow_type.scale if pa.types.is_decimal(field.arrow_type) else 0
        return column.type is None or column.scale is None or places <= column.scale
    return column.type is FieldType.DECIMAL and field.type is FieldType.INTEGER


def _said(field: Field) -> str:
    if pa.types.is_decimal(field.arrow_type):
        return f"decimal with {field.arrow_type.scale} places"
    return field.type.value


def made_column(field: Field, dialect: str) -> Any:
    """The column of a table that is made for a field."""
    from sqlalchemy import Column as Made
    from sqlalchemy import types

    kinds: dict[FieldType, Any] = {
        FieldType.TEXT: types.Text(),
        FieldType.INTEGER: types.BigInteger(),
        FieldType.REAL: types.Double(),
        FieldType.BOOLEAN: types.Boolean(),
        FieldType.DATE: types.Date(),
        FieldType.TIME: types.Time(),
        FieldType.TIMESTAMP: types.DateTime(),
    }
    if field.type is FieldType.DECIMAL:
        return Made(field.name, types.Numeric(field.arrow_type.precision, field.arrow_type.scale))
    if dialect == "sqlite" and field.type is FieldType.INTEGER:
        return Made(field.name, types.Integer())
    return Made(field.name, kinds[field.type])
