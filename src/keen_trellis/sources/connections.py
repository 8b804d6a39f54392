"""Read-only connections to databases, and their errors in a user's words."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from keen_trellis.core.errors import Cancelled, SourceError
from keen_trellis.core.task import Task
from keen_trellis.sources import secrets
from keen_trellis.sources.locations import is_address

if TYPE_CHECKING:
    from sqlalchemy import URL, Connection, Engine

_WAIT_SECONDS = 3.0
_CONNECT_SECONDS = 10
_LOOK_EVERY = 0.1
_LOCK_REMEDY = "Close the program that is changing it, or try again in a moment."
# SQLSTATE: not allowed, password wrong or lacking, table or field gone.
_NOT_ALLOWED = ("42501",)
_PASSWORD = ("28P01", "28000")
_GONE = ("42P01", "3F000", "42703", "3D000")


class PasswordNeeded(SourceError):
    """A database asks for a password that is not known. address: which, as the flow has it."""

    def __init__(self, address: str, what: str) -> None:
        super().__init__(
            what,
            where=address,
            remedy=f"Give the password when asked, or set {secrets.ENVIRONMENT} in the environment.",
        )
        self.address = address


def split_password(address: str) -> tuple[str, str | None]:
    """An address without its password, and the password in it. SourceError if it is no address."""
    url = _url(address)
    if url.password is None:
        return address, None
    return url._replace(password=None).render_as_string(hide_password=False), url.password


def shown_address(address: str) -> str:
    """An address as it may be shown: never with a password."""
    with suppress(SourceError):
        return split_password(address)[0]
    return address.partition("@")[2] or address


@contextmanager
def connected(place: str, task: Task) -> Iterator[Connection]:
    """A connection to a database file or address that cannot write, inside one transaction.

    SourceError if there is none to be had or it is lost. Stops what it is doing soon after `task` is
    cancelled.
    """
    from sqlalchemy.exc import DBAPIError

    engine = _engine(place)
    try:
        with engine.connect() as plain:
            connection = _read_only(plain)
            with _stopped_with(task, connection):
                yield connection
    except DBAPIError as error:
        task.checkpoint()  # stopped on purpose: then it is no error
        raise _translated(error.orig, place) from _without_secrets(error)
    except (UnicodeDecodeError, OverflowError) as error:
        raise SourceError(
            "The database holds names or text that are none; it is damaged.",
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
        raise _translated(error, place) from error
    finally:
        engine.dispose()


def dialect_of(place: str) -> str:
    """The SQL dialect spoken at a place, as sqlglot calls it."""
    if not is_address(place):
        return "sqlite"
    name = _url(place).get_backend_name()
    return {"postgresql": "postgres", "mssql": "tsql", "mariadb": "mysql"}.get(name, name)


def _without_secrets(error: Any) -> Any:
    # The chained error is only for a developer's eyes, and holds no address; still, never its parameters.
    return error.orig if error.orig is not None else error


def _url(address: str) -> URL:
    from sqlalchemy import make_url
    from sqlalchemy.exc import ArgumentError

    try:
        return make_url(address)
    except ArgumentError as error:
        raise SourceError(
            "It is no address of a database.",
            where=address.partition("://")[0] + "://…",
            remedy="Write it like postgresql://user@host/database.",
        ) from error


def _engine(place: str) -> Engine:
    from sqlalchemy import create_engine
    from sqlalchemy.exc import NoSuchModuleError
    from sqlalchemy.pool import NullPool

    if not is_address(place):
        address = f"file:{quote(str(Path(place).absolute()))}?mode=ro"
        return create_engine(
            "sqlite://",
            creator=lambda: sqlite3.connect(
                address, uri=True, timeout=_WAIT_SECONDS, check_same_thread=False
            ),
            poolclass=NullPool,
        )
    url = _url(place)
    password = secrets.find(place) if url.password is None else url.password
    url = url.set(password=password)
    arguments: dict[str, Any] = {}
    if url.get_backend_name() == "postgresql":
        url = url.set(drivername="postgresql+psycopg")
        arguments = {"connect_timeout": _CONNECT_SECONDS}
    try:
        return create_engine(url, poolclass=NullPool, connect_args=arguments)
    except (NoSuchModuleError, ModuleNotFoundError) as error:
        raise SourceError(
            f"The driver for {url.get_backend_name()} databases is not installed.",
            where=shown_address(place),
            remedy="Install it into the environment of this program, or export the table to a file.",
        ) from error


def _read_only(connection: Connection) -> Connection:
    if connection.dialect.name == "sqlite":
        connection.exec_driver_sql("BEGIN")
        return connection
    if connection.dialect.name == "postgresql":
        return connection.execution_options(isolation_level="REPEATABLE READ", postgresql_readonly=True)
    return connection


@contextmanager
def _stopped_with(task: Task, connection: Connection) -> Iterator[None]:
    """Interrupt the database's work when the task is cancelled, also amid a long query."""
    done = threading.Event()
    driver: Any = connection.connection.dbapi_connection

    def watch() -> None:
        while not done.wait(_LOOK_EVERY):
            if task.cancelled:
                stop = getattr(driver, "interrupt", None) or getattr(driver, "cancel_safe", None)
                with suppress(Exception):
                    if stop is not None:
                        stop()
                return

    watcher = threading.Thread(target=watch, daemon=True)
    watcher.start()
    try:
        yield
    except Cancelled:
        raise
    finally:
        done.set()
        watcher.join()


def _translated(error: BaseException | None, place: str) -> SourceError:
    said = " ".join(str(error).split())
    if not is_address(place):
        return _sqlite_error(said, place)
    where = shown_address(place)
    state = getattr(error, "sqlstate", None) or ""
    lower = said.lower()
    if state in _PASSWORD or "password" in lower:
        known = secrets.find(place) is not None
        return PasswordNeeded(
            place, "The database refuses the password." if known else "The database asks for a password."
        )
    if state in _NOT_ALLOWED:
        return SourceError(
            "This user may not read it.",
            where=where,
            remedy="Ask the database's keeper for the right to read it.",
        )
    if state in _GONE:
        return SourceError(
            f"It is not there (any more): {_first_line(said)}.", where=where, remedy="Choose another table."
        )
    if (
        state.startswith("57")
        or "closed the connection" in lower
        or "connection is lost" in lower
        or "terminat" in lower
    ):
        return SourceError(
            "The connection was lost while it was read.",
            where=where,
            remedy="Nothing of it was kept. Try again.",
        )
    if not state or state.startswith("08"):
        return SourceError(
            f"No connection to the database: {_first_line(said)}.",
            where=where,
            remedy="Is the server running, and are its name and port right?",
        )
    return SourceError(f"The database cannot be read: {_first_line(said)}.", where=where)


def _first_line(said: str) -> str:
    return said.partition(" LINE ")[0].removeprefix("(psycopg.OperationalError) ").rstrip(".")


def _sqlite_error(said: str, place: str) -> SourceError:
    if "locked" in said:
        return SourceError("Another program has locked the database.", where=place, remedy=_LOCK_REMEDY)
    if "malformed" in said or "not a database" in said or "disk I/O" in said:
        return SourceError(
            "The database is damaged or cut off.", where=place, remedy="Copy or export it again."
        )
    return SourceError(f"The database cannot be read: {said}.", where=place)
