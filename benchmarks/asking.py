"""How quickly a question about a large flow is answered: where a value is, and what an edit changed."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from pathlib import Path

import msgspec
import pyarrow.parquet as pq
from rich.table import Table as Grid

from benchmarks.answering import large_flow, write_tables
from benchmarks.measures import seconds
from keen_trellis.core.table import Table
from keen_trellis.flow.edits import change_settings
from keen_trellis.flow.following import follow
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.versions import Version, differences
from keen_trellis.sources.library import Library


def asking_grid(rows: int) -> Grid:
    """What is measured: seconds until an answer, with all results at hand."""
    grid = Grid(title="Questions about a flow", title_justify="left")
    for column in ("question", "s", "aim s"):
        grid.add_column(column, justify="left" if column == "question" else "right")
    with tempfile.TemporaryDirectory(prefix="keen-trellis-") as place:
        loans, objects = write_tables(Path(place), rows)
        table = pq.read_table(objects)
        pq.write_table(table.slice(0, table.num_rows * 9 // 10), objects)
        flow = large_flow(loans, objects)
        runner = Runner(KINDS, Library())
        for step in flow.steps:
            runner.result(flow, step.id)
        for what, ask, aim in _questions(flow, runner, Path(place), rows):
            ask()
            grid.add_row(what, f"{seconds(ask):.2f}", aim)
    return grid


def _questions(
    flow: Flow, runner: Runner, folder: Path, rows: int
) -> list[tuple[str, Callable[[], object], str]]:
    knot = next(step for step in flow.steps if KINDS.matches(step))
    left, right = (runner.table(flow, entry) for entry in knot.inputs)
    link = KINDS.settings(knot).link_fields[0]
    matched, lonely = _values(runner, flow, knot.id, left, link.left)
    inner = change_settings(flow, knot.id, msgspec.structs.replace(KINDS.settings(knot), type="inner"))
    before, after = (Version(entry, runner, folder) for entry in (flow, inner))
    size = f"{left.rows:,} x {right.rows:,} rows"
    return [
        (f"where is a value that matches: {size}", lambda: follow(runner, flow, matched), "1"),
        (f"where is one that does not: {size}", lambda: follow(runner, flow, lonely), "1"),
        (f"what did another join type change: {size}", lambda: differences(before, after), ""),
    ]


def _values(runner: Runner, flow: Flow, knot: str, table: Table, name: str) -> tuple[str, str]:
    """A value of a field that has a partner, and one that has none."""
    found = runner.result(flow, knot).match
    assert found is not None
    first = (rows[:1] for rows in (found.left_matched_rows, found.left_unmatched_rows))
    matched, lonely = (str(table.take(row, [name])[0].values[0].as_py()) for row in first)
    return matched, lonely
