"""Read-only connections to databases, and their errors in a user's words."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from typing import TYPE_CHECKING, Any

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.databases.engines import (
    LOCK_SECONDS,
    PLAIN_SETTINGS,
    first_line,
    server_engine,
    stopped_with,
    translated,
)
from keen_trellis.flow.addresses import file_of, is_address, parse, shown_address
from keen_trellis.flow.environment import query_seconds
from keen_trellis.sources.cell_columns import UNFIT
from keen_trellis.sources.content import reading
from keen_trellis.sources.sqlite_files import sqlite_engine

if TYPE_CHECKING:
    from sqlalchemy import Connection, Engine


@contextmanager
def connected(place: str, task: Task) -> Iterator[Connection]:
    """A connection to a database file or address that cannot write, inside one transaction.

    SourceError if there is none to be had or it is lost. Stops what it is doing soon after `task` is
    cancelled.
    """
    from sqlalchemy.exc import DBAPIError, SQLAlchemyError

    try:
        with reading(shown_address(place)), _engine(place) as engine, engine.connect() as plain:
            connection = _read_only(plain)
            with stopped_with(task, connection):
                yield connection
    except DBAPIError as error:
        task.checkpoint()  # stopped on purpose: then it is no error
        raise translated(error.orig, place) from _without_secrets(error)
    except SQLAlchemyError as error:
        said = f"The database cannot be read: {first_line(' '.join(str(error).split()))}."
        raise SourceError(said, where=shown_address(place)) from error
    except (UnicodeDecodeError, OverflowError) as error:
        raise SourceError(
            "The database holds names or text that are not valid; it is damaged.",
            where=shown_address(place),
            remedy="Copy or export it again.",
        ) from error
    except MemoryError as error:
        raise SourceError(
            "A cell or row in it is larger than this machine's memory; it may be damaged.",
            where=shown_address(place),
            remedy="Copy or export it again, or leave that field out with a query.",
        ) from error
    except sqlite3.Error as error:
        task.checkpoint()
        raise translated(error, place) from error


def dialect_of(place: str) -> str:
    """The SQL dialect spoken at a place, as sqlglot calls it."""
    if not is_address(place):
        return "sqlite"
    name = parse(place)[0].backend
    return {"postgresql": "postgres", "mssql": "tsql", "mariadb": "mysql"}.get(name, name)


def _without_secrets(error: Any) -> Any:
    # The chained error is only for a developer's eyes, and holds no address; still, never its parameters.
    return error.orig if error.orig is not None else error


def _engine(place: str) -> AbstractContextManager[Engine]:
    file = file_of(place)
    return server_engine(place) if file is None else sqlite_engine(file)


def _read_only(connection: Connection) -> Connection:
    if connection.dialect.name == "sqlite":
        connection.exec_driver_sql("BEGIN")
        return connection
    if connection.dialect.name == "postgresql":
        reader = connection.execution_options(isolation_level="REPEATABLE READ", postgresql_readonly=True)
        limits = {"statement_timeout": f"{query_seconds()}s", "lock_timeout": f"{LOCK_SECONDS}s"}
        for setting, value in {**PLAIN_SETTINGS, **limits}.items():
            reader.exec_driver_sql(f"SET LOCAL {setting} = '{value}'")
        _hand_out_unfit(connection)
        return reader
    return connection


def _hand_out_unfit(connection: Connection) -> None:
    """Let dates and times that Python has no values for be handed out as that, and not end the reading."""
    import psycopg
    from psycopg.types import datetime as types

    driver: Any = connection.connection.dbapi_connection

    def lenient(loader: Any) -> Any:
        class Lenient(loader):  # type: ignore[misc]
            def load(self, data: Any) -> Any:
                try:
                    return super().load(data)
                except psycopg.DataError:
                    return UNFIT

        return Lenient

    for kind in ("date", "time", "timetz", "timestamp", "timestamptz"):
        name = kind.capitalize()
        for loader in (getattr(types, f"{name}Loader"), getattr(types, f"{name}BinaryLoader")):
            driver.adapters.register_loader(kind, lenient(loader))
