"""A hand-off, part by part: the demo's flow and one of many rows, here, on PostgreSQL and on Spark."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator
from contextlib import AbstractContextManager
from pathlib import Path

import psycopg
import pyarrow as pa
import pyarrow.csv as pa_csv
from pyarrow import parquet
from rich.console import Console
from rich.filesize import decimal as size_said
from rich.table import Table as Grid

from benchmarks.answering import write_tables
from keen_trellis.core.task import Task
from keen_trellis.databases import secrets
from keen_trellis.demo.flow_names import WINTER_LOANS
from keen_trellis.flow import edits
from keen_trellis.flow.file_format import load
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.summarise import MeasureSettings, SummariseSettings
from keen_trellis.flow.to_sql import ends_of
from keen_trellis.handoff.places import session_at, target_at
from keen_trellis.handoff.proving import prove
from keen_trellis.handoff.running import HandOff, Ran
from keen_trellis.handoff.there import There
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library
from tests import demo_data, postgres, spark

_PARTS = {
    "looking": "looking",
    "sources": "taking sources",
    "preparing": "preparing values",
    "steps": "computing",
    "counting": "counting",
}
_BUCKETS = 16  # of a proof, of 4,096


def report(rows: int) -> None:
    """Print what each part of a hand-off takes."""
    console = Console(width=150, highlight=False)
    grid = Grid(
        title=f"A hand-off of {rows:,} rows read in place; seconds, bytes that are stored there and fetched",
        title_justify="left",
    )
    heads = ("flow", "where", "rows out", *_PARTS.values(), "together", "sent", "fetched")
    for column in heads:
        grid.add_column(column, justify="left" if column in heads[:2] else "right")
    with tempfile.TemporaryDirectory(prefix="keen-trellis-speed-") as name:
        folder = Path(name)
        library = Library(Cache(folder / "cache"))
        demo = load(demo_data.folder() / WINTER_LOANS, KINDS)
        for said, flows in (("the demo's", [demo] * 3), (f"{rows:,} rows", _large(folder, rows))):
            for line in _measured(said, flows, library, folder):
                grid.add_row(*line)
    console.print(grid)


def _large(folder: Path, rows: int) -> list[Flow]:
    """The same flow on files, on tables of the server, and on files that the cluster sees."""
    server = postgres.server()
    paths = write_tables(folder, rows)
    files = [SourceSettings("columns", str(path)) for path in paths]
    on_server = [_put(server, path.stem, parquet.read_table(path)) for path in paths]
    return [_flow(*files), _flow(*on_server), _flow(*files)]


def _put(server: postgres.Server, name: str, table: pa.Table) -> SourceSettings:
    """A table on the server, with a key by which it is in order."""
    kinds = {pa.string(): "text", pa.int64(): "bigint", pa.date32(): "date"}
    columns = ", ".join(f'"{field.name}" {kinds[field.type]}' for field in table.schema)
    with psycopg.connect(server.owner) as connection, connection.cursor() as cursor:
        cursor.execute(f'CREATE TABLE "{name}" (id bigserial PRIMARY KEY, {columns})'.encode())
        names = ", ".join(f'"{field}"' for field in table.column_names)
        with cursor.copy(f'COPY "{name}" ({names}) FROM STDIN (FORMAT csv)'.encode()) as copy:
            for batch in table.to_batches(max_chunksize=100_000):
                text = pa.BufferOutputStream()
                pa_csv.write_csv(batch, text, pa_csv.WriteOptions(include_header=False))
                copy.write(text.getvalue().to_pybytes())
    return SourceSettings("database", server.address(), f"public.{name}")


def _flow(loans: SourceSettings, objects: SourceSettings) -> Flow:
    flow, left = edits.add_source(Flow(), loans, "Loans")
    flow, right = edits.add_source(flow, objects, "Objects")
    link = LinkSettings("key", "key", ("case", "outer-spaces"))
    join = JoinSettings(links=(link,), type="left-outer", bring=("crates",))
    flow, knot = edits.add_join(flow, Input(left), Input(right), join)
    measures = (MeasureSettings("loans", "count"), MeasureSettings("worth", "sum", "value"))
    summary = SummariseSettings(keys=("crates",), measures=measures)
    return edits.insert_after(flow, Input(knot), "summarise", summary)[0]


def _measured(said: str, flows: list[Flow], library: Library, folder: Path) -> Iterator[tuple[str, ...]]:
    """A line for each place: here, PostgreSQL, Spark, and for a proof on each of these."""
    here, on_server, on_cluster = flows
    started = time.perf_counter()
    runner = Runner(KINDS, library)
    out = sum(runner.result(here, end).rows.rows for end in ends_of(here, KINDS))
    seconds = time.perf_counter() - started
    yield (said, "here, reading included", f"{out:,}", *[""] * len(_PARTS), f"{seconds:.2f}", "", "")
    server = postgres.server()
    secrets.remember(server.address(), postgres.PASSWORD)
    for name, flow, address, seen in (
        ("PostgreSQL", on_server, server.address(), []),
        ("Spark", on_cluster, spark.address(compiled=True), [folder]),
    ):
        handoff = HandOff(flow, Runner(KINDS, library), target_at(address), task=Task())
        yield _line(said, name, handoff, session_at(address, Task(), seen), proof=False)
        yield _line(said, f"{name}, proof", handoff, session_at(address, Task(), seen), proof=True)


def _line(
    said: str, name: str, handoff: HandOff, session: AbstractContextManager[There], *, proof: bool
) -> tuple[str, ...]:
    started = time.perf_counter()
    with session as there:
        ran = prove(handoff, there, _BUCKETS, Task()).ran if proof else handoff.run(there, Task())[0]
        sizes = size_said(there.sent), size_said(there.fetched)
    seconds = time.perf_counter() - started
    parts = (f"{ran.seconds.get(part, 0.0):.2f}" for part in _PARTS)
    return (said, name, f"{_rows(ran, handoff):,}", *parts, f"{seconds:.2f}", *sizes)


def _rows(ran: Ran, handoff: HandOff) -> int:
    return sum(ran.outputs[end] for end in handoff.ends)
