"""Engines for databases, and their errors in a user's words."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext, suppress
from typing import TYPE_CHECKING, Any

from keen_trellis.core.errors import Cancelled, SourceError
from keen_trellis.core.task import Task
from keen_trellis.databases import secrets
from keen_trellis.flow.addresses import (
    ACCEPTED,
    CLEAR_PASSWORD,
    POSTGRESQL,
    Address,
    is_address,
    parse,
    shown_address,
)
from keen_trellis.flow.environment import QUERY_SECONDS, query_seconds

if TYPE_CHECKING:
    from sqlalchemy import Connection, Engine

CONNECT_SECONDS = 10
_LOOK_EVERY = 0.1
LOCK_SECONDS = 10
# Of PostgreSQL, whatever a server, database or user has set: how literals are read, and how values come back.
PLAIN_SETTINGS = {
    "standard_conforming_strings": "on",
    "datestyle": "ISO, YMD",
    "timezone": "UTC",
    "extra_float_digits": "1",
}
# With these the connection is encrypted or there is none.
_ENCRYPTED = ("require", "verify-ca", "verify-full")
_LOCK_REMEDY = "Close the program that is changing it, or try again in a moment."
_VERBS = {"read": "read", "written": "write to"}
# SQLSTATE: not allowed, password wrong or lacking, table or field gone.
_NOT_ALLOWED = ("42501",)
_PASSWORD = ("28P01", "28000")
_TOOK_TOO_LONG, _LOCKED = "57014", "55P03"
_GONE = ("42P01", "3F000", "42703", "3D000")


class PasswordNeeded(SourceError):
    """A database asks for a password that is not known. address: which, as the flow has it."""

    def __init__(self, address: str, what: str) -> None:
        super().__init__(what, where=shown_address(address), remedy=secrets.remedy(address))
        self.address = address


def server_engine(place: str) -> AbstractContextManager[Engine]:
    """An engine for the server at an address. SourceError if its driver is not there."""
    from sqlalchemy import URL, create_engine
    from sqlalchemy.exc import ArgumentError, NoSuchModuleError
    from sqlalchemy.pool import NullPool

    address = parse(place)[0]
    password = secrets.find(place)
    scheme = f"{address.backend}+{address.driver}" if address.driver else address.backend
    options = dict(address.options)
    arguments: dict[str, Any] = {}
    if address.backend == POSTGRESQL:
        scheme = "postgresql+psycopg"
        arguments = _postgresql_arguments(address, options, password)
        password = None
    url = URL.create(
        scheme, address.user or None, password, address.host or None, address.port, address.database or None
    )
    try:
        engine = create_engine(url.set(query=options), poolclass=NullPool, connect_args=arguments)
        return nullcontext(engine)  # it keeps no connection that would have to be closed
    except (NoSuchModuleError, ModuleNotFoundError, ArgumentError) as error:
        raise SourceError(
            f"The driver for {address.backend} databases is not installed.",
            where=shown_address(place),
            remedy="Install it into the environment of this program, or export the table to a file.",
        ) from error


def _postgresql_arguments(address: Address, options: dict[str, str], password: str | None) -> dict[str, Any]:
    """What libpq is told besides the address. What is ours alone is taken out of `options`.

    A password that is not there is said to be empty: libpq would take one from its own environment variable
    and send it to whatever server a flow names. Its password file goes by servers, and is used.
    """
    arguments: dict[str, Any] = {"connect_timeout": CONNECT_SECONDS, "password": password or ""}
    accepted = options.pop(CLEAR_PASSWORD, "") == ACCEPTED
    if not (accepted or options.get("sslmode") in _ENCRYPTED or address.server.startswith("/")):
        arguments["require_auth"] = "!password"
    return arguments


def translated(error: BaseException | None, place: str, doing: str = "read") -> SourceError:
    """What a driver's error means, in words. doing: what the database was to be: read, or written."""
    said = " ".join(str(error).split())
    if not is_address(place):
        return _sqlite_error(said, place, doing)
    where = shown_address(place)
    state = getattr(error, "sqlstate", None) or ""
    lower = said.lower()
    if "cleartext" in lower:
        return SourceError(
            "The server asks for the password in clear, without encryption, and it was not sent.",
            where=where,
            remedy="Add ?sslmode=verify-full to the address, or, where nobody can listen in, "
            f"?{CLEAR_PASSWORD}={ACCEPTED}.",
        )
    if state in _PASSWORD or "password" in lower:
        known = secrets.find(place) is not None
        return PasswordNeeded(
            place, "The database refuses the password." if known else "The database asks for a password."
        )
    if state in _NOT_ALLOWED:
        return SourceError(
            f"This user may not {_VERBS[doing]} it.",
            where=where,
            remedy=f"Ask the database's keeper for the right to {_VERBS[doing]} it.",
        )
    if state in _GONE:
        return SourceError(
            f"The table was not found: {first_line(said)}.", where=where, remedy="Choose another table."
        )
    if state == _TOOK_TOO_LONG:
        return _too_slow(where)
    if state == _LOCKED:
        return SourceError("Another session has locked it.", where=where, remedy=_LOCK_REMEDY)
    if (
        state.startswith("57")
        or "closed the connection" in lower
        or "connection is lost" in lower
        or "terminat" in lower
    ):
        return SourceError(
            f"The connection was lost while it was {doing}.",
            where=where,
            remedy="Nothing of it was kept. Try again.",
        )
    if not state or state.startswith("08"):
        return SourceError(
            f"No connection to the database: {first_line(said)}.",
            where=where,
            remedy="Is the server running, and are its name and port right?",
        )
    return SourceError(f"The database cannot be {doing}: {first_line(said)}.", where=where)


def _too_slow(where: str) -> SourceError:
    return SourceError(
        f"It took longer than {query_seconds():,} seconds.",
        where=where,
        remedy=f"Read less of it, or set {QUERY_SECONDS} to more seconds.",
    )


def first_line(said: str) -> str:
    return said.partition(" LINE ")[0].removeprefix("(psycopg.OperationalError) ").rstrip(".")


def _sqlite_error(said: str, place: str, doing: str) -> SourceError:
    if "interrupted" in said:
        return _too_slow(place)
    if "locked" in said:
        return SourceError("Another program has locked the database.", where=place, remedy=_LOCK_REMEDY)
    if "malformed" in said or "not a database" in said or "disk I/O" in said:
        return SourceError(
            "The database is damaged or cut off.", where=place, remedy="Copy or export it again."
        )
    return SourceError(f"The database cannot be {doing}: {said}.", where=place)


@contextmanager
def stopped_with(task: Task, connection: Connection) -> Iterator[None]:
    """Interrupt the database's work when the task is cancelled, also amid a long query."""
    driver: Any = connection.connection.dbapi_connection
    stop = getattr(driver, "interrupt", None) or getattr(driver, "cancel_safe", None)
    with when_cancelled(task, stop or (lambda: None)):
        yield


@contextmanager
def when_cancelled(task: Task, stop: Callable[[], object]) -> Iterator[None]:
    """Call `stop`, from another thread, when the task is cancelled."""
    done = threading.Event()

    def watch() -> None:
        while not done.wait(_LOOK_EVERY):
            if task.cancelled:
                with suppress(Exception):
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
