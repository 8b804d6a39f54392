"""Rows into a table of a database: by COPY where that is spoken, and in batches of statements elsewhere."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import Cells, Field, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.wording import counted
from keen_trellis.outputs.database.shape import Named
from keen_trellis.outputs.delimited import Form, Found
from keen_trellis.outputs.lines import TEXT, batches, holds
from keen_trellis.outputs.repeated import in_parts

if TYPE_CHECKING:
    from sqlalchemy import Connection

_EXACT_DIGITS = 15  # of a decimal that SQLite keeps as it is
_COPIED = OutputSettings("text", "", harmless=False, quotation="text", line_end="lf")


def fill(connection: Connection, into: Named, table: Table, what: str, task: Task) -> list[str]:
    """Put all rows of a table into one of the database; what is not there as it was, in words.

    OutputError for a value that it cannot hold; Cancelled.
    """
    if connection.dialect.name == "postgresql":
        return _copied(connection, into, table, what, task)
    return _inserted(connection, into, table, what, task)


def _names(connection: Connection, fields: Sequence[Field]) -> str:
    quote = connection.dialect.identifier_preparer.quote_identifier
    return ", ".join(quote(field.name) for field in fields)


def _copied(connection: Connection, into: Named, table: Table, what: str, task: Task) -> list[str]:
    form = Form(_COPIED)

    def alone(field: Field, cells: Cells) -> pa.Array | None:
        # Where a sign cannot be written, it is the row that has to be named.
        is_held = field.type is not FieldType.TEXT or not holds(cells.values, "\0")
        return form.column(field, cells, Found()) if is_held else None

    parts = in_parts(table, alone, _COPIED.delimiter, what, task)

    def lines(rows: range, batch: list[Cells]) -> memoryview:
        def column(field: Field, cells: Cells) -> pa.Array:
            if field.type is FieldType.TEXT:
                _check_no_zero(field, cells.values, rows.start)
            return form.column(field, cells, Found())

        return form.rows(parts.columns(rows, batch, column), blank_lines=True)

    driver: Any = connection.connection.dbapi_connection
    statement = (
        f"COPY {into.quoted(connection)} ({_names(connection, table.fields)}) FROM STDIN WITH (FORMAT csv)"
    )
    # Nothing is put into this one, so that a sign of a per cent in a name stands alone.
    statement = statement.replace("%%", "%")
    with driver.cursor() as cursor, cursor.copy(statement) as copy:
        for made in batches(table, lines, what, task, names=parts.plain):
            copy.write(made)
    return []


def _check_no_zero(field: Field, values: pa.Array, start: int) -> None:
    """OutputError for a text with the sign of number zero, which PostgreSQL has not."""
    text = values.cast(TEXT)
    if holds(text, "\0"):
        place = pc.index(pc.match_substring(text, "\0"), True).as_py()
        raise OutputError(
            f"Row {start + place + 1:,} of {field.name} has the sign of number zero, which PostgreSQL does "
            "not hold.",
            remedy="Take it out with a mend of the text.",
        )


def _inserted(connection: Connection, into: Named, table: Table, what: str, task: Task) -> list[str]:
    lite = connection.dialect.name == "sqlite"
    put = _put_into_sqlite if lite else _put
    held = _for_sqlite if lite else _plain
    lost: dict[str, int] = {}

    def values_of(rows: range, batch: list[Cells]) -> tuple[list[Any], dict[str, int]]:
        made = [
            held(field, cells.values, rows.start) for field, cells in zip(table.fields, batch, strict=True)
        ]
        found = {field.name: count for field, (_, count) in zip(table.fields, made, strict=True) if count}
        return [values.to_pylist() if isinstance(values, pa.Array) else values for values, _ in made], found

    for columns, found in batches(table, values_of, what, task):
        for name, count in found.items():
            lost[name] = lost.get(name, 0) + count
        values = list(zip(*columns, strict=True))
        if values:
            put(connection, into, table.fields, values)
    return [
        f"{counted(count, 'cells')} of {name} left blank: no number (NaN), which SQLite does not hold"
        for name, count in lost.items()
    ]


def _put_into_sqlite(connection: Connection, into: Named, fields: Sequence[Field], rows: list[Any]) -> None:
    marks = ", ".join("?" * len(fields))
    statement = f"INSERT INTO {into.quoted(connection)} ({_names(connection, fields)}) VALUES ({marks})"
    driver: Any = connection.connection.dbapi_connection
    driver.executemany(statement, rows)


def _put(connection: Connection, into: Named, fields: Sequence[Field], rows: list[Any]) -> None:
    from sqlalchemy import column, insert, table

    columns: list[Any] = [column(field.name) for field in fields]
    made = table(into.table, *columns, schema=into.schema)
    names = [field.name for field in fields]
    connection.execute(insert(made), [dict(zip(names, row, strict=True)) for row in rows])


def _plain(field: Field, values: pa.Array, start: int) -> tuple[Any, int]:
    return values, 0


def _for_sqlite(field: Field, values: pa.Array, start: int) -> tuple[Any, int]:
    """Values as SQLite holds them, and how many of them it does not hold."""
    if field.type in (FieldType.DATE, FieldType.TIME, FieldType.TIMESTAMP):
        return as_text(values), 0
    if field.type is FieldType.DECIMAL:
        _check_digits(field, values, start)
        return as_text(values), 0
    if field.type is FieldType.REAL:
        return values, pc.sum(pc.is_nan(values)).as_py() or 0
    return values, 0


def _check_digits(field: Field, values: pa.Array, start: int) -> None:
    """OutputError for a decimal with more digits than SQLite keeps."""
    text = as_text(values).cast(TEXT)
    digits = pc.utf8_trim(pc.replace_substring_regex(text, r"\D", ""), "0")
    long = pc.fill_null(pc.greater(pc.binary_length(digits), _EXACT_DIGITS), False)
    if pc.any(long).as_py():
        place = pc.index(long, True).as_py()
        raise OutputError(
            f"Row {start + place + 1:,} of {field.name} is {text[place].as_py()}, which has more than "
            f"{_EXACT_DIGITS} digits; SQLite keeps no more of a decimal.",
            remedy="Make it text in a step before, or round it.",
        )
