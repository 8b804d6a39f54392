"""Tables of databases as outputs."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.addresses import file_of, shown_place
from keen_trellis.flow.steps.output import APPEND, DELETE, NEW, REPLACE, UPDATE, OutputSettings
from keen_trellis.flow.whole_file import whole_file
from keen_trellis.flow.wording import counted
from keen_trellis.outputs.database.connecting import connected
from keen_trellis.outputs.database.filling import fill
from keen_trellis.outputs.database.shape import Named, check_shape, columns_of, made_column
from keen_trellis.outputs.database.updating import update
from keen_trellis.outputs.files import check_path
from keen_trellis.outputs.writing import Part

if TYPE_CHECKING:
    from sqlalchemy import Connection


class DatabaseWriter:
    """Writes into a table, which is made where there is none; the types of all fields stay as they are."""

    name = "database"

    def place(self, settings: OutputSettings) -> str:
        return f"{_shown(settings)}, table {settings.table}"

    def inside(self, settings: OutputSettings, folder: Path) -> OutputSettings:
        if file_of(settings.path) is None:
            raise OutputError(
                "It is a table of a server, not a file in a folder.",
                where=self.place(settings),
                remedy="Run the flow without another folder, or skip this output.",
            )
        return msgspec.structs.replace(settings, path=str(folder.absolute() / settings.file_name))

    def would_replace(self, settings: OutputSettings, kept: Collection[str | Path]) -> bool:
        if settings.mode not in (REPLACE, UPDATE) or not _may_be_there(settings):
            return False
        with suppress(OutputError):
            self._check_kept(settings, kept)
            return _rows(settings) is not None
        return False

    def goes_with(self, settings: OutputSettings) -> str:
        rows = _rows(settings)
        if rows is None:
            return ""
        has = f" The table {settings.table} has {counted(rows, 'rows')}"
        if settings.mode == UPDATE:
            gone = "; those that are gone are deleted" if settings.gone == DELETE else ""
            return f"{has}: those with the same {', '.join(settings.key)} are updated{gone}."
        return f"{has}, deleted before the new ones come."

    def check(self, settings: OutputSettings, kept: Collection[str | Path], *, replace: bool) -> None:
        self._check_kept(settings, kept)
        if settings.mode in (APPEND, NEW) or replace or not _may_be_there(settings):
            return
        goes = self.goes_with(settings)
        if goes:
            raise OutputError(
                "The table exists already.",
                where=self.place(settings),
                remedy=f"Choose another one, or say that it may be written over.{goes}",
            )

    def _check_kept(self, settings: OutputSettings, kept: Collection[str | Path]) -> None:
        file = file_of(settings.path)
        if file is not None:
            check_path(file, kept)
        elif any(str(entry) == source_of(settings.path, settings.table) for entry in kept):
            raise OutputError(
                "It is a source of this flow, and sources are never changed.",
                where=self.place(settings),
                remedy="Write to another table.",
            )

    @contextmanager
    def staged(self, parts: Sequence[Part], task: Task) -> Iterator[list[list[str]]]:
        path = parts[0].settings.path
        file = file_of(path)
        try:
            if file is not None and not file.exists():
                # A new one is a file like any other until it is whole.
                with whole_file(file, synced=True) as draft:
                    draft.unlink()
                    with connected(str(draft), task) as connection:
                        said = [_write(connection, part, task) for part in parts]
                    yield said
                return
            with connected(path, task) as connection:
                said = [_write(connection, part, task) for part in parts]
                if connection.dialect.name == "postgresql":
                    connection.exec_driver_sql("SET CONSTRAINTS ALL IMMEDIATE")
                yield said
        except OSError as error:
            raise OutputError(
                f"It cannot be written: {error.strerror}.", where=path, remedy="Choose another folder."
            ) from error


def source_of(path: str, table: str) -> str:
    """What tells the table of a server that a source reads."""
    return f"{shown_place(path)}#{table}"


def _shown(settings: OutputSettings) -> str:
    return shown_place(settings.path)


def _may_be_there(settings: OutputSettings) -> bool:
    """Whether the database may be there, as a server or as a file."""
    file = file_of(settings.path)
    return file is None or file.is_file()


def _rows(settings: OutputSettings) -> int | None:
    """How many rows a table has; None where there is no such table."""
    if not _may_be_there(settings):
        return None
    with connected(settings.path, Task(), reads=True) as connection:
        named = Named.read(settings.table, connection.dialect.name)
        if columns_of(connection, named) is None:
            return None
        quoted = named.quoted(connection)
        return int(connection.exec_driver_sql(f"SELECT count(*) FROM {quoted}").scalar_one())


def _write(connection: Connection, part: Part, task: Task) -> list[str]:
    """Write one output within a transaction; what is to be said of it."""
    settings, table = part.settings, part.table
    try:
        return _written(connection, settings, table, task)
    except OutputError as error:
        error.where = error.where or f"{_shown(settings)}, table {settings.table}"
        raise


def _written(connection: Connection, settings: OutputSettings, table: Table, task: Task) -> list[str]:
    if not table.fields:
        raise OutputError("The rows have no field.", remedy="Keep or bring a field of the tables.")
    for name in (*settings.key, *settings.index):
        table.field(name)
    named = Named.read(settings.table, connection.dialect.name)
    into = named.quoted(connection)
    what = f"rows of {settings.table}"
    columns = columns_of(connection, named)
    if columns is None:
        _make(connection, named, table, settings)
        return fill(connection, named, table, what, task)
    if settings.mode == NEW:
        raise OutputError(
            f"It has a table {settings.table} already.",
            remedy="Choose another name, or say that it is replaced, added to or updated.",
        )
    check_shape(table.fields, columns, settings)
    if settings.mode == UPDATE:
        return update(connection, named, table, settings, what, task)
    said = []
    if settings.mode == REPLACE:
        gone = connection.exec_driver_sql(f"DELETE FROM {into}").rowcount
        said = [f"{counted(gone, 'rows')} deleted before"] if gone else []
    return [*said, *fill(connection, named, table, what, task)]


def _make(connection: Connection, named: Named, table: Table, settings: OutputSettings) -> None:
    """Make the table, with its key and index."""
    from sqlalchemy import Index, MetaData, PrimaryKeyConstraint
    from sqlalchemy import Table as Made

    columns = [made_column(field, connection.dialect.name) for field in table.fields]
    key = [PrimaryKeyConstraint(*settings.key)] if settings.key else []
    made = Made(named.table, MetaData(), *columns, *key, schema=named.schema)
    if settings.index:
        fields = (made.c[name] for name in settings.index)
        Index(f"{named.table}_{'_'.join(settings.index)}"[:60], *fields)
    made.create(connection)
