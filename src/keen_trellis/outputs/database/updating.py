"""Rows of a table of a database brought up to date: by key they are new, changed, unchanged, or gone."""

from __future__ import annotations

from typing import TYPE_CHECKING

from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.steps.output import DELETE, OutputSettings
from keen_trellis.outputs.database.filling import fill
from keen_trellis.outputs.database.shape import Named

if TYPE_CHECKING:
    from sqlalchemy import Connection

_STAGED = "keen_trellis_rows"
_DIFFERS = {"sqlite": "IS NOT", "postgresql": "IS DISTINCT FROM"}


def update(
    connection: Connection, named: Named, table: Table, settings: OutputSettings, what: str, task: Task
) -> list[str]:
    """Bring the rows of a table that is there up to date; how many were new, changed, unchanged and gone.

    They are put beside it first, and the database compares. OutputError for keys that are blank or stand
    twice, on either side.
    """
    dialect = connection.dialect.name
    if dialect not in _DIFFERS:
        raise OutputError(
            f"Rows of a database of the kind {dialect} cannot be updated by this program.",
            remedy="Replace them, or add to them.",
        )
    quote = connection.dialect.identifier_preparer.quote_identifier
    into, staged = named.quoted(connection), quote(_STAGED)
    names = [quote(name) for name in table.names]
    keys = [quote(name) for name in settings.key]
    connection.exec_driver_sql(
        f"CREATE TEMPORARY TABLE {staged} AS SELECT {', '.join(names)} FROM {into} WHERE 1 = 0"
    )
    said = fill(connection, Named(None, _STAGED), table, what, task)
    connection.exec_driver_sql(f"CREATE INDEX {quote(f'{_STAGED}_key')} ON {staged} ({', '.join(keys)})")
    if dialect == "postgresql":
        connection.exec_driver_sql(f"ANALYZE {staged}")
    _check_keys(connection, staged, keys, settings, "these rows")
    _check_keys(connection, into, keys, settings, f"the rows of {settings.table}")
    same = " AND ".join(f"{into}.{key} = {staged}.{key}" for key in keys)
    others = [name for name in names if name not in keys]
    differs = " OR ".join(f"{into}.{name} {_DIFFERS[dialect]} {staged}.{name}" for name in others) or "1 = 0"

    def run(statement: str) -> int:
        task.checkpoint(0, 0, what)
        return connection.exec_driver_sql(statement).rowcount

    changed = 0
    if others:
        sets = ", ".join(f"{name} = {staged}.{name}" for name in others)
        changed = run(f"UPDATE {into} SET {sets} FROM {staged} WHERE {same} AND ({differs})")
    gone_rows = f"FROM {into} WHERE NOT EXISTS (SELECT 1 FROM {staged} WHERE {same})"
    if settings.gone == DELETE:
        gone = run(f"DELETE {gone_rows}")
    else:
        gone = int(connection.exec_driver_sql(f"SELECT count(*) {gone_rows}").scalar_one())
    columns = ", ".join(names)
    new = run(
        f"INSERT INTO {into} ({columns}) SELECT {columns} FROM {staged} "
        f"WHERE NOT EXISTS (SELECT 1 FROM {into} WHERE {same})"
    )
    connection.exec_driver_sql(f"DROP TABLE {staged}")
    left = "deleted" if settings.gone == DELETE else "left that these rows do not have"
    unchanged = table.rows - changed - new
    return [f"{new:,} new, {changed:,} changed, {unchanged:,} unchanged, {gone:,} {left}", *said]


def _check_keys(
    connection: Connection, table: str, keys: list[str], settings: OutputSettings, called: str
) -> None:
    """OutputError for a key that is blank, or that several rows have."""
    columns = ", ".join(keys)
    blank = " OR ".join(f"{key} IS NULL" for key in keys)
    key = ", ".join(settings.key)
    if connection.exec_driver_sql(f"SELECT 1 FROM {table} WHERE {blank} LIMIT 1").first():
        raise OutputError(
            f"The key ({key}) is blank in some of {called}, so its rows cannot be identified.",
            remedy="Choose another key, or leave these rows out.",
        )
    twice = connection.exec_driver_sql(
        f"SELECT {columns} FROM {table} GROUP BY {columns} HAVING count(*) > 1 LIMIT 1"
    ).first()
    if twice:
        value = ", ".join(str(part) for part in twice)
        raise OutputError(
            f"Several of {called} have the key {value} ({key}), and nothing says which is meant.",
            remedy="Choose another key, or keep one row of each.",
        )
