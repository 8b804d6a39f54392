"""SQLite files, opened so that nothing is written, neither to them nor beside them, and only read from."""

from __future__ import annotations

import shutil
import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from keen_trellis.core.errors import SourceError
from keen_trellis.flow.environment import query_seconds
from keen_trellis.flow.temporary import temporary_folder
from keen_trellis.sources.content import being_changed, stamp_of

if TYPE_CHECKING:
    from sqlalchemy import Connection, Engine

_WAIT_SECONDS = 3.0
_MEMORY = 2**30  # bytes that SQLite may use of this machine's
_LOOK_EVERY = 100_000  # steps of SQLite's own machine
_LONGEST_CELL = 2**28  # bytes: a damaged row may say that it has any number of them
_FORMAT_BYTES = slice(18, 20)  # of the header: both are 2 where changes go to a log beside the file
_WITH_LOG = b"\2\2"
# What reading needs; SQLite asks for leave of each while it prepares a statement.
_ALLOWED = {
    sqlite3.SQLITE_SELECT,
    sqlite3.SQLITE_READ,
    sqlite3.SQLITE_FUNCTION,
    sqlite3.SQLITE_RECURSIVE,
    sqlite3.SQLITE_TRANSACTION,
}
_ALLOWED_PRAGMAS = {
    *("foreign_key_list", "index_info", "index_list", "index_xinfo", "read_uncommitted"),
    *("quick_check", "table_info", "table_list", "table_xinfo"),
}
_REFUSED_FUNCTIONS = {"load_extension", "fts3_tokenizer", "writefile", "readfile", "edit"}


class WatchedConnection(sqlite3.Connection):
    """A connection that ends a statement which gives no row for too long, as a view of a hostile file may."""

    def __init__(self, *words: Any, **more: Any) -> None:
        super().__init__(*words, **more)
        self.seconds = query_seconds()
        self.restart()
        self.set_progress_handler(self._look, _LOOK_EVERY)

    def restart(self) -> None:
        """Rows came: the time begins anew."""
        self._since = time.monotonic()

    def _look(self) -> bool:
        return time.monotonic() - self._since > self.seconds


@contextmanager
def sqlite_engine(path: Path) -> Iterator[Engine]:
    """An engine whose connections can only read the database file at `path`.

    A database with a log is opened where SQLite would make files beside it in a way that makes none: as one
    that nobody changes, which is looked at again at the end, or as a copy. SourceError if it was changed.
    """
    from sqlalchemy import create_engine
    from sqlalchemy.pool import NullPool

    if not path.is_file():
        raise SourceError("There is no such file.", where=str(path), remedy="Choose another.")
    with _without_traces(path) as address:
        engine = create_engine("sqlite://", creator=lambda: _connection(address), poolclass=NullPool)
        try:
            yield engine
        finally:
            engine.dispose()


def _connection(address: str) -> sqlite3.Connection:
    made = sqlite3.connect(
        address, uri=True, timeout=_WAIT_SECONDS, check_same_thread=False, factory=WatchedConnection
    )
    made.execute(f"PRAGMA hard_heap_limit = {_MEMORY}")
    made.set_authorizer(_authorized)
    made.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, _LONGEST_CELL)
    return made


def _authorized(action: int, first: str | None, second: str | None, *_: str | None) -> int:
    if action == sqlite3.SQLITE_PRAGMA:
        fine = str(first).lower() in _ALLOWED_PRAGMAS
    else:
        is_call = action == sqlite3.SQLITE_FUNCTION
        fine = action in _ALLOWED and not (is_call and str(second).lower() in _REFUSED_FUNCTIONS)
    return sqlite3.SQLITE_OK if fine else sqlite3.SQLITE_DENY


def check_whole_table(connection: Connection, table: str, path: str) -> None:
    """SourceError if pages of a table are damaged, which could hide rows; what constraints say does not
    matter.
    """
    quoted = connection.dialect.identifier_preparer.quote(table)
    said = connection.exec_driver_sql(f"PRAGMA quick_check({quoted})").scalars().all()
    if any("***" in str(line) or "malformed" in str(line) for line in said):
        raise SourceError(
            "The database is damaged: pages of this table are not as they were written.",
            where=path,
            remedy="Copy it again, or let its owner recover it.",
        )


@contextmanager
def _without_traces(path: Path) -> Iterator[str]:
    """What to open so that nothing appears beside `path`."""
    whole = path.absolute()
    log, index = (whole.with_name(f"{whole.name}{end}") for end in ("-wal", "-shm"))
    with whole.open("rb") as file:
        has_log = file.read(_FORMAT_BYTES.stop)[_FORMAT_BYTES] == _WITH_LOG
    if not has_log or index.exists():
        yield _address(whole, "mode=ro")
        return
    before = _stamps(whole, log)
    if log.exists() and log.stat().st_size:
        with temporary_folder() as folder:
            copy = folder / "copy"
            shutil.copyfile(whole, copy)
            shutil.copyfile(log, folder / "copy-wal")
            _check_unchanged(before, whole, log)
            yield _address(copy, "mode=ro")
        return
    yield _address(whole, "mode=ro&immutable=1")
    _check_unchanged(before, whole, log)


def _address(path: Path, how: str) -> str:
    return f"file:{quote(bytes(path))}?{how}"


def _stamps(*paths: Path) -> list[tuple[int, ...]]:
    return [stamp_of(path) for path in paths if path.exists()]


def _check_unchanged(before: list[tuple[int, ...]], *paths: Path) -> None:
    if _stamps(*paths) != before:
        raise being_changed(paths[0])
