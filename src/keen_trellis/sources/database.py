"""Tables, views and queries of databases: SQLite files, and servers by their address."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
import pyarrow as pa

from keen_trellis.core.errors import SourceError
from keen_trellis.core.exact_sums import MOST_DIGITS
from keen_trellis.core.task import Task
from keen_trellis.core.values import ARROW_TYPES, FieldType
from keen_trellis.flow.addresses import shown_address
from keen_trellis.flow.remark import ForeignKey, Remark
from keen_trellis.flow.run_values import DATE, IN_QUERY, NUMBER
from keen_trellis.flow.source_settings import HASH_DIGITS, PARTS, Given, SourceSettings, hash_below
from keen_trellis.sources.about import About, Listing
from keen_trellis.sources.cell_columns import CellColumn, spill
from keen_trellis.sources.connections import connected
from keen_trellis.sources.headers import OwnNames
from keen_trellis.sources.locations import DATABASE
from keen_trellis.sources.queries import check_functions, checked_query, is_ordered
from keen_trellis.sources.reading import QUERY, SAMPLE, Reader, ReadTable, unknown_table
from keen_trellis.sources.recognise import SQLITE
from keen_trellis.sources.sqlite_files import WatchedConnection, check_whole_table
from keen_trellis.sources.text_types import moments_in_text, text_doubts

if TYPE_CHECKING:
    from sqlalchemy import Connection, Inspector

_BATCH_ROWS = 20_000
_FIRST_ROWS = 200
_SYSTEM_SCHEMAS = ("information_schema", "pg_catalog", "pg_toast", "sys")


class DatabaseReader(Reader):
    """Reads every table and view of a database that SQLAlchemy can reach, in one transaction that cannot
    write.
    """

    name = DATABASE
    said = "a database"
    uses = QUERY | SAMPLE
    of_file = False
    at_one_moment = True

    def tables(self, path: str, task: Task) -> Sequence[Listing]:
        from sqlalchemy import inspect

        with connected(path, task) as connection:
            return [place.listing for place in _places(inspect(connection))]

    def files(self, settings: SourceSettings) -> list[Path] | None:
        return None

    def read(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable:
        from sqlalchemy import inspect

        with connected(settings.path, task) as connection:
            if settings.query and settings.sample.parts:
                raise SourceError(
                    "A sample is taken of a table, and it is read by a query.",
                    where=shown_address(settings.path),
                    remedy="Let the query choose the rows, or read the table.",
                )
            if settings.query:
                return _read_query(connection, settings, room, task)
            return _read_table(connection, inspect(connection), settings, room, task)

    def first_rows(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable | None:
        from sqlalchemy import inspect

        if settings.query:
            return None  # it may take as long as all of its rows
        with connected(settings.path, task) as connection:
            return _read_table(connection, inspect(connection), settings, room, task, most=_FIRST_ROWS)


class SqliteReader(DatabaseReader):
    """Reads an SQLite file; its content, and that of the log beside it, tells whether it has changed."""

    name = SQLITE
    uses = QUERY
    of_file = True
    # Who replaces these destroys the database.
    beside = ("-wal", "-shm", "-journal")

    def files(self, settings: SourceSettings) -> list[Path] | None:
        path = Path(settings.path)
        log = path.with_name(f"{path.name}-wal")
        return [path, log] if log.exists() and log.stat().st_size else [path]


class _Place(msgspec.Struct, frozen=True):
    """A table or view by its schema, None where the database has none, and its own name."""

    schema: str | None
    table: str
    sort: str

    @property
    def name(self) -> str:
        """As a source's settings name it; a schema with a point in its name stands in quotation marks."""
        if self.schema is None:
            return self.table
        return f"{_named(self.schema)}.{self.table}"

    @property
    def listing(self) -> Listing:
        return Listing(self.name, self.sort)


def _named(schema: str) -> str:
    return f'"{schema}"' if "." in schema else schema


def _places(inspector: Inspector) -> list[_Place]:
    """Tables, then views; with their schema where the database has schemas."""
    if inspector.dialect.name == "sqlite":
        tables = [_Place(None, name, "table") for name in inspector.get_table_names()]
        return tables + [_Place(None, name, "view") for name in inspector.get_view_names()]
    found = []
    for schema in inspector.get_schema_names():
        if schema in _SYSTEM_SCHEMAS or schema.startswith("pg_"):
            continue
        found += [_Place(schema, name, "table") for name in sorted(inspector.get_table_names(schema))]
        found += [_Place(schema, name, "view") for name in sorted(inspector.get_view_names(schema))]
    return found


def _read_table(
    connection: Connection,
    inspector: Inspector,
    settings: SourceSettings,
    room: Path,
    task: Task,
    *,
    most: int | None = None,
) -> ReadTable:
    import sqlalchemy as sql

    known = _places(inspector)
    where = shown_address(settings.path)
    if not known:
        raise SourceError("The database has no tables that this user may see.", where=where)
    wanted = settings.table or known[0].name
    default = inspector.default_schema_name
    # Without a schema, the default one is meant.
    meant = (wanted, f"{_named(default)}.{wanted}") if default else (wanted,)
    place = next((entry for text in meant for entry in known if entry.name == text), None)
    if place is None:
        raise unknown_table(where, wanted, [entry.listing for entry in known])
    schema, name = place.schema, place.table
    if most is None and inspector.dialect.name == "sqlite" and place.sort == "table":
        check_whole_table(connection, name, settings.path)
    columns = inspector.get_columns(name, schema)
    names = [column["name"] for column in columns]
    source = sql.table(name, *(sql.column(column) for column in names), schema=schema)
    query = sql.select(*source.c)
    remarks: list[Remark] = []
    key: list[str] = []
    if place.sort == "table":
        key = list(inspector.get_pk_constraint(name, schema)["constrained_columns"])
        query = query.order_by(*(source.c[column] for column in key)) if key else query
        if not key and inspector.dialect.name != "sqlite":
            remarks.append(
                Remark("it has no primary key, so its rows have no order: “first” and “last” may change")
            )
    else:
        remarks.append(Remark("a view has no order of its own: “first” and “last” may change"))
    total = taken = 0
    if most is None:
        total = taken = connection.execute(sql.select(sql.func.count()).select_from(source)).scalar_one()
    if settings.sample.parts:
        query = query.where(_in_sample(connection, settings, source))
        if most is None:
            count = sql.select(sql.func.count()).select_from(source)
            taken = connection.execute(count.where(query.whereclause)).scalar_one()  # type: ignore[arg-type]
        remarks.append(_sample_said(settings, taken, total))
    declared = [str(column["type"]).upper() for column in columns]
    data, said = _rows(
        connection, query.limit(most), names, declared, taken, settings=settings, room=room, task=task
    )
    if settings.sample.parts:
        data = _with_places(data, {column["name"]: column["type"] for column in columns})
    about = About(
        file=_file_name(settings),
        table=place.name,
        remarks=(*remarks, *said),
        key=tuple(name for name in key if name in data.column_names),
        foreign_keys=_foreign_keys(inspector, name, schema) if place.sort == "table" else (),
    )
    return ReadTable(data, about)


def _in_sample(connection: Connection, settings: SourceSettings, source: Any) -> Any:
    """The condition that a row is one of a sample: by a hash of what the field says, in any case and without
    outer spaces, so that samples of two tables have the same values. SourceError where that cannot be said.
    """
    import sqlalchemy as sql

    where = shown_address(settings.path)
    if connection.dialect.name != "postgresql":
        raise SourceError(
            "Only tables of PostgreSQL can be looked at by a sample.", where=where, remedy="Read all rows."
        )
    by = settings.sample.by
    if by not in source.c:
        raise SourceError(f"It has no field “{by}” to take a sample by.", where=where, remedy="Name another.")
    text = sql.func.lower(sql.func.btrim(sql.cast(source.c[by], sql.Text)))
    digits = sql.func.left(sql.func.md5(text), HASH_DIGITS).collate("C")
    return sql.true() if settings.sample.parts >= PARTS else digits < hash_below(settings.sample.parts)


def _sample_said(settings: SourceSettings, taken: int, total: int) -> Remark:
    sample = settings.sample
    rows = f"{taken:,} of {total:,} rows" if total else "some rows"
    said = f"a sample: {rows}, {sample.parts:,} of {PARTS:,} parts by {sample.by}"
    return Remark(said, doubtful=True, is_sample=True)


def _with_places(data: pa.Table, types: dict[str, Any]) -> pa.Table:
    """A sample with the decimals that its fields are declared to have: other rows may have more."""
    from sqlalchemy import types as known

    for place, field in enumerate(data.schema):
        kind = types.get(field.name)
        is_decimal = pa.types.is_decimal(field.type) or pa.types.is_integer(field.type)
        if not (is_decimal and isinstance(kind, known.Numeric) and kind.scale):
            continue
        digits = MOST_DIGITS if kind.precision is None else max(kind.precision, kind.scale)
        wide = pa.decimal128(min(max(digits, _digits_of(field.type, kind.scale)), MOST_DIGITS), kind.scale)
        data = data.set_column(place, field.name, data.column(place).cast(wide))
    return data


def _digits_of(kind: pa.DataType, scale: int) -> int:
    """How many digits values of a type need with so many places."""
    return 19 + scale if pa.types.is_integer(kind) else kind.precision - kind.scale + scale


def _read_query(connection: Connection, settings: SourceSettings, room: Path, task: Task) -> ReadTable:

    text = checked_query(settings.query, settings.path)
    check_functions(connection, settings.query, settings.path)
    remarks = []
    if not is_ordered(settings.query, settings.path):
        remarks.append(Remark("the query says no order (ORDER BY): “first” and “last” may change"))
    query = _with_given(text, settings.given, connection.dialect.name)
    data, said = _rows(connection, query, None, None, 0, settings=settings, room=room, task=task)
    return ReadTable(data, About(file=_file_name(settings), table="query", remarks=(*remarks, *said)))


def _file_name(settings: SourceSettings) -> str:
    return settings.file_name if settings.reader == SQLITE else shown_address(settings.path)


def _foreign_keys(inspector: Inspector, name: str, schema: str | None) -> tuple[ForeignKey, ...]:
    found = []
    for entry in inspector.get_foreign_keys(name, schema):
        theirs = entry["referred_table"]
        if schema is not None:
            theirs = f"{_named(entry.get('referred_schema') or schema)}.{theirs}"
        found.append(
            ForeignKey(tuple(entry["constrained_columns"]), theirs, tuple(entry["referred_columns"]))
        )
    return tuple(found)


def _with_given(text: str, given: Sequence[Given], dialect: str) -> Any:
    """The query with its run values handed to the database beside it, as values and never as text of it."""
    import sqlalchemy as sql

    names = {value.name for value in given}
    escaped = IN_QUERY.sub(
        lambda found: found[0] if found[1] in names else found[0].replace(":", "\\:"), text
    )
    binds: list[Any] = [sql.bindparam(value.name, _bound_value(value, dialect)) for value in given]
    return sql.text(escaped).bindparams(*binds)


def _bound_value(value: Given, dialect: str) -> Any:
    """A run value as the database's driver takes it."""
    if value.type == NUMBER:
        number = Decimal(value.text)
        if number == number.to_integral_value():
            return int(number)
        return float(number) if dialect == "sqlite" else number
    # SQLite has no dates: they are texts there, as they are written.
    return dt.date.fromisoformat(value.text) if value.type == DATE and dialect != "sqlite" else value.text


def _rows(
    connection: Connection,
    query: Any,
    names: Sequence[str] | None,
    declared: Sequence[str] | None,
    total: int,
    *,
    settings: SourceSettings,
    room: Path,
    task: Task,
) -> tuple[pa.Table, list[Remark]]:
    """All rows of a query as typed columns, fetched in batches."""
    what = f"reading {settings.table or settings.file_name}"
    streaming = connection.execution_options(stream_results=True, max_row_buffer=_BATCH_ROWS)
    with streaming.execute(query) as rows:
        names = _own_names(names or list(rows.keys()))
        columns = [CellColumn(name) for name in names]
        done = 0
        while batch := rows.fetchmany(_BATCH_ROWS):
            for column, cells in zip(columns, zip(*batch, strict=True), strict=True):
                column.add(cells)
            spill(columns, room)
            _rows_came(connection)
            done += len(batch)
            task.checkpoint(done, max(total, done) if total else 0, what)
    data: dict[str, pa.ChunkedArray] = {}
    remarks: list[Remark] = []
    for place, column in enumerate(columns):
        if column.binary:
            remarks.append(Remark("holds binary data and is left out", field=column.name, doubtful=True))
            continue
        made, said = column.finished()
        if connection.dialect.name == "sqlite":
            made, more = _as_declared(made, column.name, declared[place] if declared else "", said)
            said = said + more
        data[column.name] = made
        remarks += said
    if not data:
        raise SourceError(
            f"“{settings.table or settings.query}” has no field that can be read.",
            where=shown_address(settings.path),
        )
    return pa.table(data), remarks


def _rows_came(connection: Connection) -> None:
    driver = connection.connection.dbapi_connection
    if isinstance(driver, WatchedConnection):
        driver.restart()


def _own_names(names: Sequence[str]) -> list[str]:
    """A name of its own for each field of a query."""
    given = OwnNames()
    return [given.give(name or f"field {number}") for number, name in enumerate(names, 1)]


def _as_declared(
    column: pa.ChunkedArray, name: str, declared: str, said: Sequence[Remark]
) -> tuple[pa.ChunkedArray, list[Remark]]:
    """SQLite types cells, not columns: the cells decide, the declared type where they leave it open."""
    if (
        column.type == pa.int64()
        and declared.startswith("BOOL")
        and not set(column.unique().to_pylist()) - {0, 1, None}
    ):
        return column.cast(ARROW_TYPES[FieldType.BOOLEAN]), []
    if column.type == ARROW_TYPES[FieldType.TEXT] and not said:
        moments = moments_in_text(column)
        return moments, text_doubts(column, name) if moments is column else []
    return column, []
