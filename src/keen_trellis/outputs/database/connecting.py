"""Connections that may write: each to one database, in one transaction, with errors in a user's words."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from keen_trellis.core.errors import OutputError, SourceError
from keen_trellis.core.task import Task
from keen_trellis.databases.engines import (
    LOCK_SECONDS,
    PasswordNeeded,
    server_engine,
    stopped_with,
    translated,
)
from keen_trellis.flow.addresses import file_of, shown_place

if TYPE_CHECKING:
    from sqlalchemy import Connection, Engine

_LOCK_SECONDS = 5.0


@contextmanager
def connected(place: str, task: Task, *, reads: bool = False) -> Iterator[Connection]:
    """A connection in a transaction, which is kept if the block ends without error, and undone otherwise.

    reads: whether nothing will be written. OutputError if there is none to be had, or if it is lost.
    """
    from sqlalchemy.exc import DBAPIError, SQLAlchemyError

    shown = shown_place(place)
    try:
        with _engine(place).connect() as connection, stopped_with(task, connection):
            _begin(connection, reads=reads)
            yield connection
            if reads:
                connection.rollback()
            else:
                connection.commit()
    except DBAPIError as error:
        task.checkpoint()  # stopped on purpose: then it is no error
        raise _said(translated(error.orig, place, "written")) from error.orig
    except _driver_errors(place) as error:  # of statements that go past SQLAlchemy
        task.checkpoint()
        raise _said(translated(error, place, "written")) from error
    except SQLAlchemyError as error:
        said = " ".join(str(error).split())
        raise OutputError(f"The database cannot be written: {said}.", where=shown) from error
    except SourceError as error:
        if isinstance(error, PasswordNeeded):
            raise
        raise _said(error) from error


def _driver_errors(place: str) -> tuple[type[Exception], ...]:
    if file_of(place) is not None:
        return (sqlite3.Error,)
    import psycopg

    return (psycopg.Error,)


def _said(error: SourceError) -> SourceError | OutputError:
    """An error of a database as one of an output; that a password is needed stays what it is."""
    if isinstance(error, PasswordNeeded):
        return error
    return OutputError(error.what, where=error.where, remedy=error.remedy)


def _engine(place: str) -> Engine:
    from sqlalchemy import create_engine
    from sqlalchemy.pool import NullPool

    file = file_of(place)
    if file is None:
        with server_engine(place) as engine:
            return engine

    def connect() -> sqlite3.Connection:
        # Transactions are begun here, not by the module, which would leave statements that make tables out.
        return sqlite3.connect(file, timeout=_LOCK_SECONDS, isolation_level=None, check_same_thread=False)

    return create_engine("sqlite://", creator=connect, poolclass=NullPool)


def _begin(connection: Connection, *, reads: bool) -> None:
    if connection.dialect.name == "sqlite":
        connection.exec_driver_sql("BEGIN" if reads else "BEGIN IMMEDIATE")
    elif connection.dialect.name == "postgresql":
        connection.exec_driver_sql(f"SET LOCAL lock_timeout = '{LOCK_SECONDS}s'")
