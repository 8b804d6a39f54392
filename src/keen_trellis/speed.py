"""Speed and memory, as ratios in one run: the command `speed`. Nothing here passes or fails.

Each ratio is the median of five pairs, measured in turns so that both sides meet the same machine. The
floor is one Arrow `dictionary_encode` pass over the link fields of both sides: no engine that looks at
every key once can do much better. SQLite works in memory on the same rows.
"""

from __future__ import annotations

import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv as pa_csv
from rich.console import Console
from rich.table import Table as Grid

from keen_trellis.core.join_type import JoinType
from keen_trellis.core.joining import FieldChoice, JoinedTable, plan_fields
from keen_trellis.core.link import LinkField, Preparation
from keen_trellis.core.match import Match
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable
from keen_trellis.speed_measures import PAIRS, alternated, peak_above, seconds
from keen_trellis.speed_of_reading import reading_grid

_HITS = 0.71
_PAGE = 60
_SEED = 17


@dataclass(frozen=True)
class Case:
    """Two tables and the links to match them by."""

    name: str
    left: ArrowTable
    right: ArrowTable
    links: tuple[LinkField, ...]
    aim: float  # in floors


def cases(rows: int) -> list[Case]:
    """Tables of `rows` and a tenth as many rows, about 71 % of whose keys find a partner."""
    chance = np.random.default_rng(_SEED)
    others = rows // 10
    distinct = int(others / _HITS)
    numbers = pa.array(chance.integers(0, distinct, rows))
    text = pa.array([f"LCM.{number:08d}" for number in range(distinct)], pa.large_string())
    messy = pa.array([f" lcm.{number:08d}" for number in range(distinct)], pa.large_string())
    sparse = pa.array(chance.choice(2**62, distinct, replace=False))
    days = pa.array(chance.integers(18_000, 20_000, distinct).astype(np.int32)).cast(pa.date32())

    def sides(**columns: pa.Array) -> tuple[ArrowTable, ArrowTable]:
        left = {name: column.take(numbers) for name, column in columns.items()}
        right = {name: column.slice(0, others) for name, column in columns.items()}
        value = pa.array(np.arange(rows))
        left_table = ArrowTable(pa.table({**left, "value": value}))
        return left_table, ArrowTable(pa.table({**right, "title": value.slice(0, others)}))

    folded = Preparation(case=True, outer_spaces=True)
    prepared = ArrowTable(pa.table({"key": messy.take(numbers), "value": pa.array(np.arange(rows))}))
    return [
        Case("text key", *sides(key=text), (LinkField("key", "key"),), 0.75),
        Case(
            "text key, ignoring case and outer spaces",
            prepared,
            sides(key=text)[1],
            (LinkField("key", "key", folded),),
            0.9,
        ),
        Case(
            "integer key, narrow", *sides(key=pa.array(np.arange(distinct))), (LinkField("key", "key"),), 0.3
        ),
        Case("integer key, sparse", *sides(key=sparse), (LinkField("key", "key"),), 1.4),
        Case(
            "text and date",
            *sides(key=text, day=days),
            (LinkField("key", "key"), LinkField("day", "day")),
            2.0,
        ),
    ]


def _matched(case: Case) -> Match:
    """What the window needs before it shows the counts and the pairs."""
    found = match(case.left, case.right, case.links)
    assert found.counts.left_rows == case.left.rows
    found.pair_rows(np.arange(found.pairs))
    return found


def _floor(case: Case) -> None:
    for link in case.links:
        case.left.column(link.left).values.dictionary_encode()
        case.right.column(link.right).values.dictionary_encode()


def _in_sqlite(case: Case, *, index: bool) -> tuple[sqlite3.Connection, str]:
    base = sqlite3.connect(":memory:", check_same_thread=False)
    for name, table in (("l", case.left), ("r", case.right)):
        columns = [table.column(field.name).values.to_pylist() for field in table.fields]
        texts = [
            [str(cell) if not isinstance(cell, int | str) else cell for cell in column] for column in columns
        ]
        base.execute(f"CREATE TABLE {name} ({', '.join(table.names)})")
        marks = ", ".join("?" * len(texts))
        base.executemany(f"INSERT INTO {name} VALUES ({marks})", zip(*texts, strict=True))

    def prepared(name: str, field: str, link: LinkField) -> str:
        return f"lower(trim({name}.{field}))" if link.preparation else f"{name}.{field}"

    if index:
        base.execute(f"CREATE INDEX key ON r ({', '.join(_key(link, link.right) for link in case.links)})")
        on = " AND ".join(f"{prepared('l', k.left, k)} = {prepared('r', k.right, k)}" for k in case.links)
        return base, f"{_ASKED} FROM l LEFT JOIN r ON {on}"
    # Without an index SQLite makes one for the query, but not on an expression: so it prepares first.
    keys = [(f"k{n}", link) for n, link in enumerate(case.links)]
    left = ", ".join(f"{_key(link, link.left)} AS {name}" for name, link in keys)
    right = ", ".join(f"{_key(link, link.right)} AS {name}" for name, link in keys)
    on = " AND ".join(f"l.{name} = r.{name}" for name, _ in keys)
    parts = (
        f"a AS MATERIALIZED (SELECT {left}, value FROM l), b AS MATERIALIZED (SELECT {right}, title FROM r)"
    )
    return base, f"WITH {parts} {_ASKED} FROM a AS l LEFT JOIN b AS r ON {on}"


_ASKED = "SELECT count(*), sum(l.value), sum(r.title)"


def _key(link: LinkField, field: str) -> str:
    return f"lower(trim({field}))" if link.preparation else field


def report(rows: int) -> None:
    """Print everything that is measured."""
    console = Console(width=150, highlight=False)
    console.print(f"{rows:,} x {rows // 10:,} rows; ratios are medians of {PAIRS} alternated pairs.\n")
    made = cases(rows)
    console.print(_match_grid(made))
    console.print(_page_grid(made[0]))
    console.print(reading_grid(rows))
    console.print(_window_grid(rows))


def _answered(base: sqlite3.Connection, query: str) -> None:
    base.execute(query).fetchall()


def _match_grid(made: list[Case]) -> Grid:
    grid = Grid(title="Match and pairs", title_justify="left")
    for column in (
        "case",
        "ours s",
        "floor s",
        "in floors",
        "aim",
        "SQLite s",
        "times as fast",
        "with index",
        "peak MB",
    ):
        grid.add_column(column, justify="left" if column == "case" else "right")
    for case in made:
        ours, floor, ratio = alternated(partial(_matched, case), partial(_floor, case))
        against = []
        for index in (False, True):
            base, query = _in_sqlite(case, index=index)
            against.append(seconds(partial(_answered, base, query)))
            base.close()
        peak = peak_above(partial(_matched, case))
        grid.add_row(
            case.name,
            f"{ours:.3f}",
            f"{floor:.3f}",
            f"{ratio:.2f}",
            f"{case.aim:.2f}",
            f"{against[0]:.2f}",
            f"{against[0] / ours:.1f}",
            f"{against[1] / ours:.1f}",
            f"{peak / 2**20:.0f}",
        )
    return grid


def _page_grid(case: Case) -> Grid:
    grid = Grid(title="Pages and types, text key", title_justify="left")
    for column in ("case", "ms", "aim ms"):
        grid.add_column(column, justify="left" if column == "case" else "right")
    found = _matched(case)

    def page(kind: JoinType, share: float) -> None:
        plan = plan_fields(case.left.fields, case.right.fields, case.links, kind, FieldChoice(), "Right")
        table = JoinedTable(case.left, case.right, found, kind, plan)
        start = int(table.rows * share)
        table.take(range(start, min(start + _PAGE, table.rows)), table.names)

    for name, kind, share, aim in (
        ("first page of the full outer join", JoinType.FULL_OUTER, 0.0, 20),
        ("a page from its middle", JoinType.FULL_OUTER, 0.5, 20),
        ("another join type, counts and first page", JoinType.INNER, 0.0, 5),
    ):
        taken = statistics.median(seconds(partial(page, kind, share)) for _ in range(PAIRS))
        grid.add_row(name, f"{1000 * taken:.1f}", str(aim))
    return grid


# --- the window ---

_STARTING = """
import sys, time
started = time.perf_counter()
from keen_trellis.desktop.pictures import new_window, picture
picture(new_window())
print(time.perf_counter() - started)
"""


def _window_grid(rows: int) -> Grid:
    grid = Grid(title="In the window", title_justify="left")
    for column in ("case", "s", "aim s"):
        grid.add_column(column, justify="left" if column == "case" else "right")
    starts = [_start_seconds() for _ in range(3)]
    grid.add_row("a window on the screen, from a new process", f"{statistics.median(starts):.2f}", "2")
    for name, taken, aim in _window_times(rows):
        grid.add_row(name, f"{taken:.3f}", aim)
    return grid


def _start_seconds() -> float:
    started = time.perf_counter()
    subprocess.run([sys.executable, "-c", _STARTING], check=True, capture_output=True)
    return time.perf_counter() - started


def _window_times(rows: int) -> list[tuple[str, float, str]]:
    """A join on text keys made in the real window, from the edit to the painted bench."""
    from PySide6.QtCore import QCoreApplication

    from keen_trellis.desktop.document import Selection
    from keen_trellis.desktop.pictures import new_window, picture, settle
    from keen_trellis.flow import edits
    from keen_trellis.flow.graph import Flow, Input
    from keen_trellis.flow.source_settings import SourceSettings
    from keen_trellis.flow.steps.join import JoinSettings, LinkSettings

    case = cases(rows)[0]
    window = new_window()
    with tempfile.TemporaryDirectory(prefix="keen-trellis-speed-") as place:
        flow, ids = Flow(), []
        for name, table in (("Loans", case.left), ("Objects", case.right)):
            path = Path(place) / f"{name}.csv"
            columns = {
                field.name: table.column(field.name).values.cast(
                    pa.string() if field.name == "key" else pa.int64()
                )
                for field in table.fields
            }
            pa_csv.write_csv(pa.table(columns), path)
            flow, step = edits.add_source(flow, SourceSettings("text", str(path)), name)
            ids.append(step)

        def read_both() -> None:
            window.document.edit(flow, "open")
            settle(window)

        read = seconds(read_both)
        links = (LinkSettings("key", "key"),)
        joined, knot = edits.add_join(
            flow, Input(ids[0]), Input(ids[1]), JoinSettings(links=links, type="left-outer")
        )

        def shown() -> bool:
            outcome = window.document.outcome(knot)
            return outcome is not None and outcome.result is not None

        def join() -> None:
            window.document.edit(joined, "join", Selection(knot))
            settle(window, shown)
            picture(window)

        def change(name: str) -> None:
            before = window.document.outcome(knot)
            window.commands[name].trigger()
            while window.document.outcome(knot) is before:
                QCoreApplication.processEvents()
            window.bench.grid.viewport().repaint()

        first = seconds(join)
        changes = [seconds(partial(change, name)) for name in ("type_2", "type_5", "type_3", "type_1")]
    window.jobs.close()
    window.hide()
    return [
        (f"both text files read ({rows:,} and {rows // 10:,} rows)", read, ""),
        ("the join with its counts, once they are read", first, "2"),
        ("another join type, bench painted again (median)", statistics.median(changes), "0.050"),
    ]
