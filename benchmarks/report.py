"""Speed and memory, as ratios in one run: the command `speed`. Nothing here passes or fails.

Each ratio is the median of five pairs, measured in turns so that both sides meet the same machine.
"""

from __future__ import annotations

import statistics
import tempfile
from functools import partial
from pathlib import Path

import pyarrow as pa
import pyarrow.csv as pa_csv
from rich.console import Console
from rich.table import Table as Grid

from benchmarks import measures
from benchmarks.answering import answering_grid, scrolling_grid
from benchmarks.asking import asking_grid
from benchmarks.insight import insight_grid
from benchmarks.likeness import likeness_grid
from benchmarks.matching import cases, match_grid, other_grid, page_grid
from benchmarks.measures import seconds
from benchmarks.planning import planning_grid
from benchmarks.reading import reading_grid
from benchmarks.real_lists import real_grid
from benchmarks.scaling import scaling_grid
from benchmarks.starting import starting_grid
from benchmarks.steps import steps_grid
from benchmarks.writing import writing_grid

USUAL_ROWS, QUICK_ROWS = 5_000_000, 200_000


def report(rows: int) -> None:
    """Print everything that is measured."""
    console = Console(width=150, highlight=False)
    console.print(
        f"{rows:,} x {rows // 10:,} rows; ratios are medians of {measures.PAIRS} alternated pairs.\n"
    )
    made = cases(rows)
    console.print(match_grid(made))
    console.print(other_grid(rows))
    console.print(page_grid(made[0]))
    del made
    console.print(steps_grid(rows))
    console.print(scaling_grid(rows))
    console.print(insight_grid(rows // 25, rows // 5))
    console.print(real_grid(quick=rows < USUAL_ROWS))
    console.print(likeness_grid(rows // 5, quick=rows < USUAL_ROWS))
    console.print(reading_grid(rows // 5))
    console.print(writing_grid(rows // 5))
    console.print(starting_grid())
    console.print(_window_grid(rows // 5))
    console.print(answering_grid(rows))
    console.print(scrolling_grid(10 * rows))
    console.print(asking_grid(rows))
    console.print(planning_grid())


# --- the window ---


def _window_grid(rows: int) -> Grid:
    grid = Grid(title="In the window", title_justify="left")
    for column in ("case", "s", "aim s"):
        grid.add_column(column, justify="left" if column == "case" else "right")
    for name, taken, aim in _window_times(rows):
        grid.add_row(name, f"{taken:.3f}", aim)
    return grid


def _window_times(rows: int) -> list[tuple[str, float, str]]:
    """A join on text keys made in the real window, from the edit to the painted bench."""
    from keen_trellis.desktop.pictures import new_window, picture, settle
    from keen_trellis.desktop.shell.turns import pause
    from keen_trellis.flow import edits
    from keen_trellis.flow.graph import Flow, Input
    from keen_trellis.flow.source_settings import SourceSettings
    from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
    from keen_trellis.session.selection import Selection

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
            window.session.apply("open", lambda _: flow)
            settle(window)

        read = seconds(read_both)
        links = (LinkSettings("key", "key"),)
        joined, knot = edits.add_join(
            flow, Input(ids[0]), Input(ids[1]), JoinSettings(links=links, type="left-outer")
        )

        def shown() -> bool:
            content = window.bench.content
            return content is not None and content.is_knot

        def join() -> None:
            window.session.apply("join", lambda _: joined, Selection(knot))
            while not shown():
                pause(1)
            picture(window)

        def has_reasons() -> bool:
            content = window.bench.content
            return content is not None and any(part.reason is not None for part in content.parts)

        def change(name: str) -> None:
            before = window.session.outcome(knot)
            window.commands[name].trigger()
            while window.session.outcome(knot) is before:
                pause(1)
            window.bench.grid.viewport().repaint()

        first = seconds(join)
        explained = seconds(lambda: settle(window, has_reasons))
        changes = [seconds(partial(change, name)) for name in ("type_2", "type_5", "type_3", "type_1")]
    window.jobs.close()
    window.hide()
    return [
        (f"both text files read ({rows:,} and {rows // 10:,} rows)", read, ""),
        ("the join with its counts, once they are read", first, "2"),
        ("the reasons in its bands, after that", explained, ""),
        ("another join type, bench painted again (median)", statistics.median(changes), "0.050"),
    ]
