"""An Apache Spark cluster, through Spark Connect, as the place where a flow is run."""

from __future__ import annotations

import logging
import re
import socket
import tempfile
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import partial
from pathlib import Path
from typing import Any

import msgspec
import pyarrow as pa
import sqlglot.expressions as exp

from keen_trellis.core.errors import OutputError, SourceError, TrellisError
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.databases import secrets
from keen_trellis.databases.engines import CONNECT_SECONDS, when_cancelled
from keen_trellis.flow.addresses import parse, shown_address
from keen_trellis.flow.in_sql.made_here import Making
from keen_trellis.flow.in_sql.rows import PREPARED, VALUE, SqlRows, at, below, named, ordered, quoted
from keen_trellis.flow.in_sql.target import SPARK, SqlTarget
from keen_trellis.flow.patterns import has_signs
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.to_sql import SentSource, selected
from keen_trellis.handoff.there import InPlace, Made, There, names_there, no_field, stopped_by
from keen_trellis.sources.recognise import COLUMNS, LINES, TEXT

_PORT = 15002
_MOST_FETCHED = 1_000_000  # distinct values of a link
_TRIES, _MOST_BETWEEN = 5, 2_000  # after a call that the server did not answer, and milliseconds between
_LOGS = ("DataFrameQueryContextLogger", "SQLQueryContextLogger")
_LOST = ("UNAVAILABLE", "Connection refused", "failed to connect", "RETRIES_EXCEEDED")
# So that it computes as the flow does: no digit of a decimal is rounded off, what does not fit is an error,
# names are told apart by case, and moments have no zone.
_SETTINGS = {
    "spark.sql.decimalOperations.allowPrecisionLoss": "false",
    "spark.sql.ansi.enabled": "true",
    "spark.sql.caseSensitive": "true",
    "spark.sql.session.timeZone": "UTC",
    "spark.sql.timestampType": "TIMESTAMP_NTZ",
}
_SSL = ";use_ssl=true"
_FILE, _INDEX, _SOURCE = "file of row", "row of file", "source"
_NO_REASON, _CAUSE = (
    "Exception thrown in awaitResult",
    re.compile(r"^Caused by: [\w.$]+: (.+)$", re.MULTILINE),
)
# What this program says when it fails at a worker.
_OF_A_WORKER = re.compile(r"keen_trellis\.core\.errors\.\w+: (.+)")
_BATCH = 65_536  # rows that a worker hands over at once
# Readers of files that a cluster may see, too: tables of columns and texts.
_SEEN_FILES = (COLUMNS, TEXT, LINES)
_AS_IT_IS = {
    "tinyint": FieldType.INTEGER,
    "smallint": FieldType.INTEGER,
    "int": FieldType.INTEGER,
    "bigint": FieldType.INTEGER,
    "double": FieldType.REAL,
    "boolean": FieldType.BOOLEAN,
    "date": FieldType.DATE,
    "timestamp_ntz": FieldType.TIMESTAMP,
    "timestamp": FieldType.TIMESTAMP,
    "string": FieldType.TEXT,
}


@contextmanager
def spark(
    address: str, task: Task, seen: Sequence[Path] = (), most_fetched: int = _MOST_FETCHED
) -> Iterator[There]:
    """A session on the cluster at an address. seen: folders that it sees under the same paths as they have
    here, so that files in them are read there: Parquet by itself, others by one of its workers.
    most_fetched: how many distinct values of a link are prepared here; more are prepared by its workers. For
    both, these need this program.

    SourceError if there is none to be had or it is lost; OutputError where a table cannot be made; Cancelled.
    """
    there = _Spark(address, task, seen, most_fetched)
    try:
        with when_cancelled(task, there.interrupt):
            yield there
    finally:
        there.close()


class _Spark(There):
    """What is computed is kept on the cluster, under names that only this session sees."""

    target: SqlTarget = SPARK

    def __init__(self, address: str, task: Task, seen: Sequence[Path], most_fetched: int) -> None:
        self._most_fetched = most_fetched
        self.place = shown_address(address)
        self._seen = [folder.resolve() for folder in seen]
        self._kept: list[Any] = []  # frames of its client
        self._is_lost = False
        self._session = self._connected(address, task)

    def _connected(self, address: str, task: Task) -> Any:
        try:
            from pyspark.logger import PySparkLogger
            from pyspark.sql.connect.client.retries import DefaultPolicy
            from pyspark.sql.connect.session import SparkSession
        except ImportError as error:
            raise SourceError(
                "The client for Spark is not installed.",
                where=self.place,
                remedy="Install pyspark-client into the environment of this program.",
            ) from error
        # What it says of a server that is not there, or of a query that failed, comes as an error, too.
        logging.getLogger("pyspark").setLevel(logging.CRITICAL)
        for name in _LOGS:
            PySparkLogger.getLogger(name).setLevel(logging.CRITICAL)
        channel, (host, port) = _channel(address), _server(address)
        try:
            # Its client goes on trying for ten minutes.
            socket.create_connection((host, port), CONNECT_SECONDS).close()
        except OSError as error:
            raise self._lost(self.place) from error
        with self._said("No connection to Spark", task):
            session = SparkSession.builder.remote(channel).create()
            session.client.set_retry_policies([DefaultPolicy(max_retries=_TRIES, max_backoff=_MOST_BETWEEN)])
            # With it, all sessions release what they read through one pool, which each closes when it is
            # found to be garbage: within a call of another one, that waits for itself, for ever.
            session.client.disable_reattachable_execute()
            for name, value in _SETTINGS.items():
                session.conf.set(name, value)
        return session

    def interrupt(self) -> None:
        """Stop what it is doing there."""
        self._session.interruptAll()

    def close(self) -> None:
        """End the session, lost or not; what it kept goes with it."""
        with suppress(Exception):
            if self._is_lost:
                # Each call would be tried again and again. The server ends sessions that nobody is in.
                self._session.client.close()
                return
            for frame in self._kept:
                frame.unpersist()
        with suppress(Exception):
            self._session.stop()

    def holds(self, settings: SourceSettings) -> bool:
        if settings.reader not in _SEEN_FILES or has_signs(settings.path):
            return False
        return any(Path(settings.path).resolve().is_relative_to(folder) for folder in self._seen)

    def in_place(self, source: SentSource, task: Task) -> InPlace:
        settings = source.settings
        if settings.reader != COLUMNS or Path(settings.path).suffix != ".parquet":
            return self._read_by_worker(source, task)
        rows, path = source.rows, str(Path(settings.path).resolve())
        with self._said("It cannot be read there", task, rows.table):
            # Where a row stands in its file, so that rows are in the order in which they are read here.
            frame = self._session.read.parquet(path)
            types = dict(frame.dtypes)
            placed = frame.selectExpr(
                "*", f"_metadata.file_path AS `{_FILE}`", f"_metadata.row_index AS `{_INDEX}`"
            )
            view = f"{rows.table} as it is"
            placed.createOrReplaceTempView(_name(view))
        renamed = names_there(source.settings, rows.table)
        columns = [
            named(
                _held(
                    msgspec.structs.replace(field, name=renamed.get(field.name, field.name)),
                    types,
                    rows.table,
                ),
                field.name,
            )
            for field in rows.fields
        ]
        order = exp.Order(expressions=[ordered(at(_SOURCE, name)) for name in (_FILE, _INDEX)])
        place = exp.Window(this=exp.RowNumber(), order=order)
        return InPlace(exp.Select().select(*columns, named(place, rows.place)).from_(_as_source(view)))

    def _read_by_worker(self, source: SentSource, task: Task) -> InPlace:
        """A file that the cluster itself would read otherwise than it is read here."""
        rows = source.rows
        columns = (*rows.fields, Field(rows.place, pa.int64()))
        read = partial(_read_batches, source.settings, rows.fields)
        view = f"{rows.table} as it is"
        with self._said("It cannot be read there", task, rows.table):
            # It is read once, by one worker, and kept.
            one = self._session.range(1, numPartitions=1)
            self._cached(one.mapInArrow(read, self._schema(columns))).createOrReplaceTempView(_name(view))
        own = [at(_SOURCE, column.name) for column in columns]
        select = exp.Select().select(*own).from_(_as_source(view))
        return InPlace(select, ("read by a worker, by this program",))

    def _schema(self, columns: Sequence[Field]) -> str:
        """Columns as the cluster is told of them."""
        kinds = [self.target.holding(column.arrow_type).sql("spark") for column in columns]
        return ", ".join(f"{_name(column.name)} {kind}" for column, kind in zip(columns, kinds, strict=True))

    def _cached(self, frame: Any) -> Any:
        """A frame whose rows are kept there until the session ends."""
        self._kept.append(frame.cache())
        return self._kept[-1]

    def make(self, tables: Sequence[Made], task: Task) -> None:
        """Nothing: a name there is given to what is computed."""

    def send(self, name: str, table: Table, what: str, task: Task) -> None:
        task.checkpoint(0, 0, what)
        columns = [_sent(field, table.column(field.name).values) for field in table.fields]
        sent = pa.table(columns, [field.name for field in table.fields])
        self.sent += sent.nbytes
        with self._said("It cannot be sent there", task, name):
            frame = self._session.createDataFrame(sent) if sent.num_rows else self._empty(table.fields)
            frame.createOrReplaceTempView(_name(name))

    def _empty(self, fields: Sequence[Field]) -> Any:
        """No rows of some fields; no types are told by none that are sent."""
        blank = [exp.Cast(this=exp.Null(), to=self.target.holding(field.arrow_type)) for field in fields]
        columns = [named(value, field.name) for value, field in zip(blank, fields, strict=True)]
        return self._session.sql(self.target.written(exp.Select().select(*columns).limit(0)))

    def fill(self, made: Made, select: exp.Expr, what: str, task: Task) -> int:
        task.checkpoint(0, 0, what)
        columns = [
            named(exp.Cast(this=at("made", field.name), to=self.target.holding(field.arrow_type)), field.name)
            for field in made.columns
        ]
        typed = exp.Select().select(*columns).from_(below(select, "made"))
        with self._said("It cannot be computed there", task, made.name):
            frame = self._cached(self._session.sql(self.target.written(typed)))
            count = frame.count()
            frame.createOrReplaceTempView(_name(made.name))
        return int(count)

    def prepare_there(self, made: Made, select: exp.Expr, making: Making, what: str, task: Task) -> bool:
        task.checkpoint(0, 0, f"counting {what}")
        value, _ = made.columns
        with self._said("They cannot be prepared there", task, made.name):
            frame = self._session.sql(self.target.written(select)).toDF(value.name)
            if frame.count() <= self._most_fetched:
                return False
            task.checkpoint(0, 0, f"preparing {what} there")
            prepare = partial(_prepared_batches, making, value.arrow_type)
            done = self._cached(frame.mapInArrow(prepare, self._schema(made.columns)))
            done.count()
            done.createOrReplaceTempView(_name(made.name))
        return True

    def rows(self, select: exp.Expr, fields: Sequence[Field], what: str, task: Task) -> pa.Table:
        task.checkpoint(0, 0, f"fetching {what}")
        with self._said("It cannot be fetched", task, what):
            found = self._session.sql(self.target.written(select)).toArrow()
        self.fetched += found.nbytes
        columns = [column.cast(field.arrow_type) for column, field in zip(found.columns, fields, strict=True)]
        return pa.table(columns, [field.name for field in fields])

    def check_free(self, names: Sequence[str], task: Task) -> None:
        with self._said("It cannot be looked at", task):
            for name in names:
                if self._session.catalog.tableExists(_table(name)):
                    raise OutputError(
                        f"There is a table “{name}” already.", where=self.place, remedy="Name another one."
                    )

    def keep(self, named: Sequence[tuple[str, SqlRows]], task: Task) -> None:
        done: list[str] = []
        try:
            for name, rows in named:
                task.checkpoint(0, 0, f"writing {name}")
                self.check_free([name], task)
                done.append(name)
                with self._said("It cannot be written there", task, name):
                    frame = self._session.sql(self.target.written(selected(rows)))
                    frame.write.mode("error").saveAsTable(_table(name))
        except BaseException:
            # There is no transaction there: what was made before goes, and what was begun; nothing else.
            with suppress(Exception):
                for name in done:
                    self._session.sql(f"DROP TABLE IF EXISTS {_table(name)}")
            raise

    @contextmanager
    def _said(self, what: str, task: Task, step: str = "") -> Iterator[None]:
        """Errors of the cluster in a user's words, with the step at which they came."""
        import grpc
        from pyspark.errors import PySparkException

        try:
            yield
        except (PySparkException, grpc.RpcError) as error:
            task.checkpoint()  # stopped on purpose: then it is no error
            raise self._translated(what, error, step) from None

    def _translated(self, what: str, error: Any, step: str) -> TrellisError:
        told = error.details() if hasattr(error, "details") else str(error)
        whole = str(told or error)
        said = " ".join(whole.partition("JVM stacktrace")[0].split()).rstrip(".")
        where = f"{step}, {self.place}" if step else self.place
        ours = _OF_A_WORKER.search(said)
        if ours is not None:
            return SourceError(f"{what}: {ours[1]}", where=where)
        # What went wrong in a query within a query stands behind what it is the cause of.
        stopped = stopped_by(whole)
        if stopped:
            return SourceError(f"{stopped}.", where=where)
        cause = _CAUSE.findall(whole)
        if said.startswith(_NO_REASON) and cause:
            said = cause[-1]
        if any(sign in said for sign in _LOST):
            self._is_lost = True
            return self._lost(where)
        if "heap space" in said or "OutOfMemory" in said:
            return SourceError(
                "Spark has not enough memory for it.",
                where=where,
                remedy="Give its driver and executors more, or hand off fewer rows or fields.",
            )
        return SourceError(f"{what}: {said[:300]}.", where=where)

    @staticmethod
    def _lost(where: str) -> SourceError:
        return SourceError(
            "No connection to Spark, or it was lost.",
            where=where,
            remedy="Is its Connect server running, and are its name and port right? Nothing was kept.",
        )


def _prepared_batches(
    making: Making, kind: pa.DataType, batches: Iterable[pa.RecordBatch]
) -> Iterator[pa.RecordBatch]:
    """Values, and beside them what is made of them: what a worker does with its share of them."""
    for batch in batches:
        values = batch.column(0)
        made = making.made(values.cast(kind))
        made = made.cast(pa.string()) if pa.types.is_large_string(made.type) else made
        yield pa.RecordBatch.from_arrays([values, made], [VALUE, PREPARED])


def _read_batches(
    settings: SourceSettings, fields: Sequence[Field], _: Iterable[pa.RecordBatch]
) -> Iterator[pa.RecordBatch]:
    """The rows of a file, numbered, as this program reads it: what a worker does that sees the file.

    SourceError if it has other fields there.
    """
    from keen_trellis.sources.cache import Cache
    from keen_trellis.sources.library import Library

    with tempfile.TemporaryDirectory(prefix="keen-trellis-") as folder:
        table = Library(Cache(Path(folder))).get(settings, Task()).table
        known = {field.name: field.arrow_type for field in table.fields}
        for field in fields:
            if known.get(field.name) != field.arrow_type:
                raise no_field(field, settings.file_name)
        for first in range(0, table.rows, _BATCH):
            chosen = range(first, min(first + _BATCH, table.rows))
            columns = [
                _sent(field, cells.values)
                for field, cells in zip(
                    fields, table.take(chosen, [field.name for field in fields]), strict=True
                )
            ]
            numbers = pa.array(range(first + 1, chosen.stop + 1), pa.int64())
            names = [str(number) for number in range(len(fields) + 1)]
            yield pa.RecordBatch.from_arrays([*columns, numbers], names)


def _channel(address: str) -> str:
    """The address as Spark's client takes it, with the token that is known for it."""
    found = parse(address)[0]
    if found.database not in ("", _SSL):
        raise SourceError(
            "The address of a Spark server is like sc://host:15002.",
            where=shown_address(address),
            remedy=f"Only {_SSL} may follow. A token is a password: give it as one.",
        )
    token = secrets.find(address)
    if token is not None and found.database != _SSL:
        raise SourceError(
            "A token is not sent without encryption.",
            where=shown_address(address),
            remedy=f"Add /{_SSL} to the address.",
        )
    more = f"{found.database};token={token}" if token is not None else found.database
    user = f";user_id={found.user}" if found.user else ""
    host, port = _server(address)
    return f"sc://{host}:{port}/{more}{user}"


def _server(address: str) -> tuple[str, int]:
    found = parse(address)[0]
    return found.server, found.port or _PORT


def _as_source(view: str) -> exp.Table:
    """What a source is as it stands there."""
    return exp.Table(this=quoted(view), alias=exp.TableAlias(this=quoted(_SOURCE)))


def _name(name: str) -> str:
    return quoted(name).sql(dialect="spark")


def _table(name: str) -> str:
    """A table as a user names it, with a schema before a point."""
    return ".".join(map(_name, name.split(".")))


def _sent(field: Field, values: pa.Array) -> pa.Array:
    return values.cast(pa.string()) if field.type is FieldType.TEXT else values


def _held(field: Field, types: dict[str, str], step: str) -> exp.Expr:
    """A column of a file there as the flow has it. SourceError if that is not the same."""
    kind = types.get(field.name)
    if kind is None:
        raise no_field(field, step)
    column: exp.Expr = at(_SOURCE, field.name)
    to = SPARK.holding(field.arrow_type)
    if field.untyped:
        return exp.Cast(this=exp.Null(), to=to)
    if kind == "float" and field.type is FieldType.REAL:
        text = exp.Cast(this=column, to=SPARK.type_of(FieldType.TEXT))
        return exp.Cast(this=text, to=to)  # as it is written, not as it is widened
    is_decimal = field.type is FieldType.DECIMAL and kind == f"decimal({kind[8:-1]})"
    fits = is_decimal and int(kind[8:-1].split(",")[1]) <= field.arrow_type.scale
    if not fits and _AS_IT_IS.get(kind) is not field.type:
        raise SourceError(
            f"“{field.name}” is {kind} there, and {field.type.value} here.",
            where=step,
            remedy="Take the source anew, or let the file be sent.",
        )
    held = exp.Cast(this=column, to=to)
    # An empty text is blank in a source.
    return exp.Nullif(this=held, expression=exp.Literal.string("")) if kind == "string" else held
