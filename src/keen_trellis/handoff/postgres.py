"""A PostgreSQL server as the place where a flow is run."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress
from typing import TYPE_CHECKING, Any

import msgspec
import pyarrow as pa
import sqlglot.expressions as exp

from keen_trellis.core.errors import OutputError, SourceError, TrellisError
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.databases.engines import (
    LOCK_SECONDS,
    PLAIN_SETTINGS,
    first_line,
    server_engine,
    stopped_with,
    translated,
)
from keen_trellis.flow.addresses import is_address, parse, shown_address
from keen_trellis.flow.in_sql.rows import SqlRows, below, named, ordered, quoted
from keen_trellis.flow.in_sql.target import POSTGRESQL, SqlTarget
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.to_sql import SentSource, selected
from keen_trellis.handoff.fetched import columns_of_text
from keen_trellis.handoff.there import InPlace, Made, There, names_there, no_field, stopped_by
from keen_trellis.outputs.database.filling import fill
from keen_trellis.outputs.database.shape import Named
from keen_trellis.sources.queries import check_functions, checked_query

if TYPE_CHECKING:
    from sqlalchemy import Connection

_MEMORY = 64 * 2**20  # of rows that come back are held before they go to a file
_DATA = "22"  # SQLSTATE: a value that a computation or type does not take
_SOURCE = "source"
_SETTINGS = {
    "default_transaction_read_only": "on",
    "default_transaction_isolation": "repeatable read",
    **PLAIN_SETTINGS,
}
_DAYS = ("0001-01-01", "9999-12-31")
_AS_IT_IS = {
    "int2": FieldType.INTEGER,
    "int4": FieldType.INTEGER,
    "int8": FieldType.INTEGER,
    "float8": FieldType.REAL,
    "bool": FieldType.BOOLEAN,
    "numeric": FieldType.DECIMAL,
}
_TEXTS = ("text", "varchar", "name", "uuid")
_MOMENTS = {"date": FieldType.DATE, "timestamp": FieldType.TIMESTAMP, "timestamptz": FieldType.TIMESTAMP}


@contextmanager
def postgres(address: str, task: Task, lock_seconds: int = LOCK_SECONDS) -> Iterator[There]:
    """A session on the server at an address. lock_seconds: how long it waits for tables that are locked.

    SourceError if there is none to be had or it is lost, OutputError where a table cannot be made; Cancelled.
    """
    with ExitStack() as stack:
        yield _Postgres(address, stack, task, lock_seconds)


class _Postgres(There):
    """Temporary tables are made first; all else is done in one transaction that writes to them only."""

    target: SqlTarget = POSTGRESQL

    def __init__(self, address: str, stack: ExitStack, task: Task, lock_seconds: int) -> None:
        self._address = address
        self.place = shown_address(address)
        with self._said("read", task):
            engine = stack.enter_context(server_engine(address))
            self._connection: Connection = engine.connect()
            stack.callback(_close, self._connection)
            stack.enter_context(stopped_with(task, self._connection))
            self._driver: Any = self._connection.connection.dbapi_connection
            for name, value in {**_SETTINGS, "lock_timeout": f"{lock_seconds}s"}.items():
                self._run(f"SET {name} = '{value}'")
            self._connection.commit()

    def holds(self, settings: SourceSettings) -> bool:
        own = parse(self._address)[0]
        return is_address(settings.path) and own.is_same_database(parse(settings.path)[0])

    def make(self, tables: Sequence[Made], task: Task) -> None:
        with self._said("written", task):
            self._connection.commit()
            self._run("SET TRANSACTION READ WRITE")
            for made in tables:
                task.checkpoint()
                columns = ", ".join(self._column(field) for field in made.columns)
                self._run(f"CREATE TEMPORARY TABLE {_name(made.name)} ({columns})")
            self._connection.commit()

    def _column(self, field: Field) -> str:
        collate = ' COLLATE "C"' if field.type is FieldType.TEXT else ""
        kind = self.target.holding(field.arrow_type).sql(dialect=self.target.dialect)
        return f"{_name(field.name)} {kind}{collate}"

    def in_place(self, source: SentSource, task: Task) -> InPlace:
        settings, rows = source.settings, source.rows
        with self._said("read", task, rows.table):
            relation, key = self._relation(settings, rows.table)
            types = self._types(exp.Select().select(exp.Star()).from_(relation.copy()))
            renamed = names_there(settings, rows.table)
            own = {field.name: renamed.get(field.name, field.name) for field in rows.fields}
            held = [msgspec.structs.replace(field, name=own[field.name]) for field in rows.fields]
            columns = [
                named(_held(there, types, rows.table), field.name)
                for there, field in zip(held, rows.fields, strict=True)
            ]
            _check_decimals(self, rows.table, held, relation, types, task)
        order = [ordered(exp.column(quoted(name), table=quoted(_SOURCE))) for name in key]
        place = exp.Window(this=exp.RowNumber(), order=exp.Order(expressions=order) if order else None)
        made = exp.Select().select(*columns, named(place, rows.place)).from_(relation)
        said = () if key or settings.query else ("it has no primary key: its rows stand as they come",)
        return InPlace(made, said)

    def _relation(self, settings: SourceSettings, step: str) -> tuple[exp.Expr, list[str]]:
        """A table or query there, and the fields of its key, by which it is in order."""
        import sqlglot
        from sqlalchemy import inspect

        if settings.query:
            if settings.given:
                raise SourceError(
                    "Its query takes run values, which are not handed off.",
                    where=step,
                    remedy="Filter by them in a step behind it.",
                )
            check_functions(self._connection, settings.query, settings.path)
            query = sqlglot.parse_one(checked_query(settings.query, settings.path), dialect="postgres")
            return below(query, _SOURCE), []
        table = Named.read(settings.table, "postgresql")
        inspector = inspect(self._connection)
        key = inspector.get_pk_constraint(table.table, table.schema)["constrained_columns"]
        schema = quoted(table.schema) if table.schema else None
        alias = exp.TableAlias(this=quoted(_SOURCE))
        return exp.Table(this=quoted(table.table), db=schema, alias=alias), list(key)

    def _types(self, select: exp.Select) -> dict[str, str]:
        """What the columns of a query hold there, as PostgreSQL calls it."""
        with self._driver.cursor() as cursor:
            cursor.execute(self.target.written(select.limit(0)).encode())
            known = self._driver.adapters.types
            found = [(entry.name, known.get(entry.type_code)) for entry in cursor.description]
            return {name: kind.name if kind is not None else "" for name, kind in found}

    def send(self, name: str, table: Table, what: str, task: Task) -> None:
        with self._said("written", task, name):
            fill(self._connection, Named(None, name), table, what, task)
            self._run(f"ANALYZE {_name(name)}")
            self.sent += self._size(name)

    def _size(self, name: str) -> int:
        """The bytes that a temporary table takes."""
        with self._driver.cursor() as cursor:
            cursor.execute("SELECT pg_relation_size(%s::regclass)", (_name(name),))
            return int(cursor.fetchone()[0])

    def fill(self, made: Made, select: exp.Expr, what: str, task: Task) -> int:
        with self._said("read", task, made.name):
            task.checkpoint(0, 0, what)
            # The columns of a query stand in another order, and are more, where those that tell of partners
            # are handed on.
            columns = [quoted(name) for name in made.names]
            into = exp.Schema(this=exp.Table(this=quoted(made.name)), expressions=columns)
            ordered_so = exp.Select().select(*map(exp.column, columns)).from_(below(select, "made"))
            count = self._run(self.target.written(exp.Insert(this=into, expression=ordered_so)))
            self._run(f"ANALYZE {_name(made.name)}")
        return count

    def rows(self, select: exp.Expr, fields: Sequence[Field], what: str, task: Task) -> pa.Table:
        statement = f"COPY ({self.target.written(select)}) TO STDOUT (FORMAT csv)"
        with self._said("read", task, what), tempfile.SpooledTemporaryFile(_MEMORY) as text:
            task.checkpoint(0, 0, f"fetching {what}")
            with self._driver.cursor() as cursor, cursor.copy(statement.encode()) as copy:
                for part in copy:
                    text.write(part)
                    self.fetched += len(part)
                    task.checkpoint(0, 0, f"fetching {what}")
            text.seek(0)
            try:
                return columns_of_text(text, fields)  # type: ignore[arg-type]
            except ValueError as error:
                raise SourceError(
                    f"A value of {what} has no place here: {first_line(str(error))}.", where=self.place
                ) from error

    def check_free(self, names: Sequence[str], task: Task) -> None:
        from sqlalchemy import inspect

        with self._said("written", task):
            inspector = inspect(self._connection)
            for name in names:
                table = Named.read(name, "postgresql")
                if inspector.has_table(table.table, table.schema):  # or a view
                    raise OutputError(
                        f"There is a table “{name}” already.", where=self.place, remedy="Name another one."
                    )

    def keep(self, named: Sequence[tuple[str, SqlRows]], task: Task) -> None:
        with self._said("written", task):
            self._connection.commit()
            self._run("SET TRANSACTION READ WRITE")
            for name, rows in named:
                task.checkpoint(0, 0, f"writing {name}")
                table = Named.read(name, "postgresql").quoted(self._connection).replace("%%", "%")
                self._run(f"CREATE TABLE {table} AS {self.target.written(selected(rows))}")
            task.checkpoint()
            self._connection.commit()

    def _run(self, statement: str) -> int:
        """Run a statement, in the transaction that SQLAlchemy knows of."""
        if not self._connection.in_transaction():
            self._connection.begin()
        with self._driver.cursor() as cursor:
            cursor.execute(statement.encode())
            return int(cursor.rowcount)

    @contextmanager
    def _said(self, doing: str, task: Task, step: str = "") -> Iterator[None]:
        """Errors of the server in a user's words, with the step at which they came."""
        import psycopg
        from sqlalchemy.exc import DBAPIError

        try:
            yield
        except (psycopg.Error, DBAPIError) as error:
            task.checkpoint()  # stopped on purpose: then it is no error
            own = error.orig if isinstance(error, DBAPIError) else error
            raise self._translated(own, doing, step) from own

    def _translated(self, error: BaseException | None, doing: str, step: str) -> TrellisError:
        state = getattr(error, "sqlstate", None) or ""
        if state.startswith(_DATA):
            said = first_line(" ".join(str(error).split()))
            stopped = stopped_by(said)
            if stopped:
                return SourceError(f"{stopped}.", where=step or self.place)
            return SourceError(
                f"It cannot be computed there: {said}.",
                where=step or self.place,
                remedy="Run it here, where such values are blank or the error names the row.",
            )
        found = translated(error, self._address, doing)
        found.where = f"{step}, {found.where}" if step and found.where else found.where
        return (
            OutputError(found.what, where=found.where, remedy=found.remedy) if doing == "written" else found
        )


def _close(connection: Connection) -> None:
    """End a session, lost or not; with it go its temporary tables."""
    from sqlalchemy.exc import DBAPIError

    with suppress(DBAPIError):
        connection.close()


def _name(name: str) -> str:
    return quoted(name).sql(dialect="postgres")


def _held(field: Field, types: dict[str, str], step: str) -> exp.Expr:
    """A column of a table there as the flow has it. SourceError if that is not the same."""
    kind = types.get(field.name)
    if kind is None:
        raise no_field(field, step)
    column: exp.Expr = exp.column(quoted(field.name), table=quoted(_SOURCE))
    to = POSTGRESQL.holding(field.arrow_type)
    if field.untyped:
        return exp.Cast(this=exp.Null(), to=to)
    held = _AS_IT_IS.get(kind) or _MOMENTS.get(kind)
    if kind in _TEXTS and field.type is FieldType.TEXT:
        # An empty text is blank in a source.
        return exp.Nullif(this=exp.Cast(this=column, to=to), expression=exp.Literal.string(""))
    if kind == "float4" and field.type is FieldType.REAL:
        text = exp.Cast(this=column, to=POSTGRESQL.type_of(FieldType.TEXT))
        return exp.Cast(this=text, to=to)  # as it is written, not as it is widened
    if kind == "time" and field.type is FieldType.TIME:
        return exp.Case(ifs=[exp.If(this=exp.LT(this=column, expression=_time("24:00")), true=column.copy())])
    if held is not field.type:
        raise SourceError(
            f"“{field.name}” is {kind or 'of a type of its own'} there, and {field.type.value} here.",
            where=step,
            remedy="Take the source anew, or read it by a query that casts it.",
        )
    if kind not in _MOMENTS:
        return exp.Cast(this=column, to=to)
    if kind == "timestamptz":
        column = exp.AtTimeZone(this=column, zone=exp.Literal.string("UTC"))
    # What this program has no day for is blank in a source.
    least, greatest = (exp.Cast(this=exp.Literal.string(day), to=to.copy()) for day in _DAYS)
    if kind != "date":
        greatest = exp.Cast(this=exp.Literal.string(f"{_DAYS[1]} 23:59:59.999999"), to=to.copy())
    return exp.Case(ifs=[exp.If(this=exp.Between(this=column, low=least, high=greatest), true=column.copy())])


def _time(text: str) -> exp.Expr:
    return exp.Cast(this=exp.Literal.string(text), to=POSTGRESQL.type_of(FieldType.TIME))


def _check_decimals(
    there: _Postgres,
    step: str,
    fields: Sequence[Field],
    relation: exp.Expr,
    types: dict[str, str],
    task: Task,
) -> None:
    """SourceError if a decimal there has more places than it has in the flow, or is no number."""
    counts = []
    for field in fields:
        if types[field.name] != "numeric" or field.untyped:
            continue
        column = exp.column(quoted(field.name), table=quoted(_SOURCE))
        held = exp.Cast(this=column.copy(), to=POSTGRESQL.holding(field.arrow_type))
        nan = exp.Cast(this=exp.Literal.string("NaN"), to=exp.DataType.build("DECIMAL"))
        odd = exp.or_(exp.NEQ(this=held, expression=column), exp.EQ(this=column.copy(), expression=nan))
        is_odd = exp.Case(ifs=[exp.If(this=odd, true=exp.Literal.number(1))])
        counts.append(named(exp.Count(this=is_odd), field.name))
    if not counts:
        return
    told = [Field(entry.alias, pa.int64()) for entry in counts]
    (found,) = there.rows(exp.Select().select(*counts).from_(relation.copy()), told, step, task).to_pylist()
    for name, count in found.items():
        if count:
            raise SourceError(
                f"{count:,} values of “{name}” have more places there than when it was last read, or are no "
                "numbers.",
                where=step,
                remedy="Take the source anew.",
            )
