"""Tables and views of an SQLite file, read in one transaction of a read-only connection."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

import pyarrow as pa

from keen_trellis.core.errors import SourceError
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.core.values import ARROW_TYPES, FieldType
from keen_trellis.flow.snapshot import Remark
from keen_trellis.sources.inference import column_of_cells, moments_in_text
from keen_trellis.sources.reading import Listing, ReadTable, unknown_table
from keen_trellis.sources.recognise import SQLITE

if TYPE_CHECKING:
    from sqlalchemy import Connection, Inspector

_BATCH_ROWS = 20_000
_WAIT_SECONDS = 3.0
_LOCK_REMEDY = "Close the program that is changing it, or try again in a moment."


class SqliteReader:
    """Reads every table and view of an SQLite database."""

    name = SQLITE

    def tables(self, path: Path, task: Task) -> Sequence[Listing]:
        with _connected(path) as (_, inspector):
            return _listings(inspector)

    def read(self, path: Path, table: str, task: Task) -> ReadTable:
        with _connected(path) as (connection, inspector):
            known = _listings(inspector)
            if not known:
                raise SourceError("The database has no tables.", where=str(path))
            table = table or known[0].name
            sort = next((entry.sort for entry in known if entry.name == table), None)
            if sort is None:
                raise unknown_table(path, table, known)
            return _read(connection, inspector, path, table, sort, task)


def _listings(inspector: Inspector) -> list[Listing]:
    tables = [Listing(name, "table") for name in inspector.get_table_names()]
    return tables + [Listing(name, "view") for name in inspector.get_view_names()]


@contextmanager
def _connected(path: Path) -> Iterator[tuple[Connection, Inspector]]:
    """A connection that cannot write, inside a transaction, so that all that is read is of one moment."""
    from sqlalchemy import create_engine, inspect
    from sqlalchemy.exc import DatabaseError
    from sqlalchemy.pool import NullPool

    address = f"file:{quote(str(path.absolute()))}?mode=ro"
    engine = create_engine(
        "sqlite://",
        creator=lambda: sqlite3.connect(address, uri=True, timeout=_WAIT_SECONDS),
        poolclass=NullPool,
    )
    try:
        with engine.connect() as connection:
            connection.exec_driver_sql("BEGIN")
            yield connection, inspect(connection)
    except DatabaseError as error:
        raise _translated(error.orig, path) from error
    except sqlite3.Error as error:
        raise _translated(error, path) from error
    finally:
        engine.dispose()


def _translated(error: BaseException | None, path: Path) -> SourceError:
    said = str(error)
    if "locked" in said:
        return SourceError("Another program has locked the database.", where=str(path), remedy=_LOCK_REMEDY)
    if "malformed" in said or "not a database" in said or "disk I/O" in said:
        return SourceError(
            "The database is damaged or cut off.", where=str(path), remedy="Copy or export it again."
        )
    return SourceError(f"The database cannot be read: {said}.", where=str(path))


def _read(
    connection: Connection, inspector: Inspector, path: Path, table: str, sort: str, task: Task
) -> ReadTable:
    import sqlalchemy as sql

    columns = inspector.get_columns(table)
    names = [column["name"] for column in columns]
    source = sql.table(table, *(sql.column(name) for name in names))
    query = sql.select(*source.c)
    remarks = []
    if sort == "table":
        key = inspector.get_pk_constraint(table)["constrained_columns"]
        query = query.order_by(*(source.c[name] for name in key)) if key else query
    else:
        remarks.append(Remark("a view has no order of its own: “first” and “last” may change"))
    total = connection.execute(sql.select(sql.func.count()).select_from(source)).scalar_one()
    cells: list[list[Any]] = [[] for _ in names]
    rows = connection.execution_options(stream_results=True).execute(query)
    while batch := rows.fetchmany(_BATCH_ROWS):
        for column, more in zip(cells, zip(*batch, strict=True), strict=True):
            column.extend(more)
        task.checkpoint(len(cells[0]), total, f"reading {table}")
    data: dict[str, pa.Array] = {}
    for name, declared, values in zip(names, (str(column["type"]) for column in columns), cells, strict=True):
        if bytes in set(map(type, values)):
            remarks.append(Remark("holds binary data and is left out", field=name, doubtful=True))
            continue
        data[name], doubts = _typed(values, name, declared.upper())
        remarks += doubts
    if not data:
        raise SourceError(f"“{table}” has no field that can be read.", where=str(path))
    return ReadTable(ArrowTable(pa.table(data), file=path.name, table=table), tuple(remarks))


def _typed(values: list[Any], name: str, declared: str) -> tuple[pa.Array, list[Remark]]:
    """SQLite types cells, not columns: the cells decide, the declared type where they leave it open."""
    array, remarks = column_of_cells(values, name)
    if array.type == pa.int64() and declared.startswith("BOOL") and set(values) <= {0, 1, None}:
        return array.cast(ARROW_TYPES[FieldType.BOOLEAN]), remarks
    if array.type == pa.int64() and float in set(map(type, values)):
        return array.cast(pa.float64()), remarks
    if array.type == ARROW_TYPES[FieldType.TEXT] and not remarks:
        return moments_in_text(array), remarks
    return array, remarks
