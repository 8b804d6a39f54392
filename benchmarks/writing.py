"""Outputs, each beside the bare library on the same rows, which it has finished in memory."""

from __future__ import annotations

import datetime as dt
import os
import subprocess
import sys
import tempfile
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from pathlib import Path
from unittest import SkipTest

import numpy as np
import pyarrow as pa
import pyarrow.csv as pa_csv
from pyarrow import feather, parquet
from rich.table import Table as Grid

from benchmarks.measures import alternated, beside
from keen_trellis.core.choosing import chosen_fields, with_fields
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.joining import FieldChoice, JoinedTable, plan_fields
from keen_trellis.core.link import LinkField
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable, Table
from keen_trellis.core.task import Task
from keen_trellis.databases import secrets
from keen_trellis.flow.steps.choose import ChosenSettings
from keen_trellis.outputs import write
from keen_trellis.outputs.targets import read_target, settings_for
from tests.postgres import PASSWORD, server

_SEED = 29
_XLSX_SHARE = 25  # of the rows
_MORE_ROWS = 5  # times as many are matched and written by the command: what starting takes says little there
_COPIED_BYTES = 2**20


def writing_grid(rows: int) -> Grid:
    """What is measured: a left outer join of `rows` and a tenth as many rows, 13 fields."""
    grid = Grid(title="Writing", title_justify="left")
    for column in ("case", "ours s", "library s", "times its time", "aim", "peak MB"):
        grid.add_column(column, justify="left" if column == "case" else "right")
    sides = _sides(rows)
    joined = _joined(*sides)
    with tempfile.TemporaryDirectory(prefix="keen-trellis-speed-") as place:
        folder = Path(place)
        finished = _finished(joined)
        for ending, library, bare, aim in (
            ("csv", "pyarrow", pa_csv.write_csv, "1.30"),
            ("parquet", "pyarrow", partial(parquet.write_table, compression="zstd"), "1.30"),
            ("arrow", "pyarrow", partial(feather.write_feather, compression="uncompressed"), ""),
            ("jsonl", "csv of pyarrow", pa_csv.write_csv, ""),
        ):
            name = f"{rows:,} x {len(joined.fields)} as {ending}, beside {library}"
            grid.add_row(name, *_beside(joined, finished, folder, ending, bare, aim))
        del sides, joined, finished
        many = _MORE_ROWS * rows
        grid.add_row(
            f"match {many:,} x {many // 10:,} rows of text and write them, cold, beside pyarrow",
            *_end_to_end(_sides(many), folder),
        )
        few = _joined(*_sides(max(rows // _XLSX_SHARE, 1)))
        grid.add_row(
            f"{few.rows:,} x {len(few.fields)} as xlsx, beside a loop over XlsxWriter",
            *_beside(few, _finished(few), folder, "xlsx", _xlsx, "1.25"),
        )
        # The workbook of the row before is there: its sheet is written anew.
        grid.add_row(
            f"{few.rows:,} x {len(few.fields)} into a workbook that exists, beside that loop",
            *_beside(few, _finished(few), folder, "xlsx", _xlsx, "1.25"),
        )
        with suppress(SkipTest):
            grid.add_row(*_copied(few))
    return grid


def _end_to_end(sides: tuple[Table, Table], folder: Path) -> tuple[str, ...]:
    """The command that matches two files of text and writes a third, its cache empty, beside pyarrow that
    reads both and writes the same rows.
    """
    paths, finished = [folder / "left.csv", folder / "right.csv"], _finished(_joined(*sides))
    for path, table in zip(paths, sides, strict=True):
        pa_csv.write_csv(_finished(table), path)

    def ours() -> None:
        with tempfile.TemporaryDirectory(dir=folder) as cache:
            words = [sys.executable, "-m", "keen_trellis.cli", "match", f"L={paths[0]}", f"R={paths[1]}"]
            words += ["--link", "object=accession", "--write", str(folder / "ours-whole.csv"), "--replace"]
            environment = {**os.environ, "XDG_CACHE_HOME": cache}
            subprocess.run([*words, "--keep-formulas"], env=environment, check=True, capture_output=True)

    def bare() -> None:
        for path in paths:
            pa_csv.read_csv(path)
        pa_csv.write_csv(finished, folder / "bare-whole.csv")

    mine, theirs, ratio = alternated(ours, bare)
    return f"{mine:.2f}", f"{theirs:.2f}", f"{ratio:.2f}", "1.30", ""


def _copied(table: Table) -> tuple[str, ...]:
    """Rows into a table of PostgreSQL, beside a bare COPY of the same text; SkipTest where no server is."""
    import psycopg

    running = server()
    secrets.remember(running.address(), PASSWORD, lasting=False)
    ten = tuple(ChosenSettings(name) for name in table.names[:10])
    chosen = with_fields(table, chosen_fields(table.fields, [entry.chosen for entry in ten]), Task())
    target = read_target(f"{running.address()}#public.speed")
    ours = partial(write, chosen, target, replace=True)
    ours()
    with (
        psycopg.connect(running.owner) as connection,
        connection.cursor() as cursor,
        cursor.copy("COPY public.speed TO STDOUT WITH (FORMAT csv)") as copy,
    ):
        text = b"".join(bytes(block) for block in copy)

    def bare() -> None:
        with psycopg.connect(running.owner) as connection, connection.cursor() as cursor:
            cursor.execute("DELETE FROM public.speed")
            with cursor.copy("COPY public.speed FROM STDIN WITH (FORMAT csv)") as copy:
                for start in range(0, len(text), _COPIED_BYTES):
                    copy.write(text[start : start + _COPIED_BYTES])

    name = f"{chosen.rows:,} x {len(chosen.fields)} into PostgreSQL, beside a bare COPY"
    return name, *beside(ours, bare, "2.00")


def _beside(
    table: Table,
    finished: pa.Table,
    folder: Path,
    ending: str,
    bare: Callable[[pa.Table, str], object],
    aim: str,
) -> tuple[str, ...]:
    own = settings_for(folder / f"ours.{ending}", harmless=False)
    ours = partial(write, table, own, replace=True)
    return beside(ours, partial(bare, finished, str(folder / f"bare.{ending}")), aim)


def _finished(table: Table) -> pa.Table:
    columns = [cells.values for cells in table.take(None, table.names)]
    return pa.table(columns, names=list(table.names))


def _joined(one: Table, other: Table) -> JoinedTable:
    """Every row of the one with its partner in the other."""
    links, kind, choice = (
        [LinkField("object", "accession")],
        JoinType.LEFT_OUTER,
        FieldChoice(both_links=True),
    )
    plan = plan_fields(one.fields, other.fields, links, kind, choice, "Objects")
    return JoinedTable(one, other, match(one, other, links), kind, plan)


def _sides(rows: int) -> tuple[Table, Table]:
    """Two tables as an analyst joins them: text, numbers, amounts, dates and a moment."""
    chance = np.random.default_rng(_SEED)
    others = max(rows // 10, 1)
    names = pa.array([f"LCM.{number:08d}" for number in range(int(others * 1.4) + 1)], pa.large_string())
    keys = pa.array(chance.integers(0, len(names), rows))
    places = pa.array(["Pier", "Quay, north", "Harbour Hall", 'the "Mill"'], pa.large_string())
    left = pa.table(
        {
            "loan": pa.array(np.arange(rows)),
            "object": names.take(keys),
            "venue": places.take(pa.array(chance.integers(0, len(places), rows))),
            "crates": pa.array(chance.integers(0, 40, rows)),
            "value": _amounts(chance, rows),
            "out": pa.array(chance.integers(19_000, 20_700, rows).astype(np.int32)).cast(pa.date32()),
            "back": pa.array(chance.integers(19_000, 20_700, rows).astype(np.int32)).cast(pa.date32()),
        }
    )
    moment = int(dt.datetime(2026, 1, 1, tzinfo=dt.UTC).timestamp()) * 1_000_000
    right = pa.table(
        {
            "accession": names.slice(0, others),
            "title": pa.array([f"A lantern, number {number}" for number in range(others)], pa.large_string()),
            "maker": names.slice(0, others),
            "weight": pa.array(chance.random(others) * 100),
            "insured": _amounts(chance, others),
            "seen": pa.array(moment + chance.integers(0, 10**6, others) * 1_000_000, pa.timestamp("us")),
        }
    )
    return ArrowTable(left), ArrowTable(right)


def _amounts(chance: np.random.Generator, rows: int) -> pa.Array:
    return pa.array(chance.integers(0, 10**8, rows)).cast(pa.decimal128(21, 2))


def _xlsx(finished: pa.Table, path: str) -> None:
    import xlsxwriter

    with xlsxwriter.Workbook(path, {"constant_memory": True}) as book:
        sheet = book.add_worksheet("Data")
        day = book.add_format({"num_format": "yyyy-mm-dd"})
        sheet.write_row(0, 0, finished.column_names)
        at = 0
        for batch in finished.to_batches(10_000):
            for row in zip(*(column.to_pylist() for column in batch.columns), strict=True):
                at += 1
                for place, value in enumerate(row):
                    if isinstance(value, dt.date):
                        sheet.write_datetime(at, place, value, day)
                    elif isinstance(value, str):
                        sheet.write_string(at, place, value)
                    elif value is not None:
                        sheet.write_number(at, place, value)
