"""How long the steps on a rail take on many rows, each with a page of its result from the middle."""

from __future__ import annotations

import statistics
from collections.abc import Callable
from functools import partial

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from rich.table import Table as Grid

from benchmarks import measures
from benchmarks.measures import alternated, seconds
from keen_trellis.core.computing import computed
from keen_trellis.core.distinct import distinct_rows
from keen_trellis.core.filling import Fill, FilledTable, FillWith
from keen_trellis.core.filtering import Comparison, Condition, fulfilled
from keen_trellis.core.link import Take
from keen_trellis.core.measures import Function, Measure
from keen_trellis.core.sorting import SortKey, sorted_rows
from keen_trellis.core.summarising import Key, SummaryTable
from keen_trellis.core.table import ArrowTable, ChosenRows, Table
from keen_trellis.core.task import Task
from keen_trellis.core.text_actions import Action, How, mended

_SEED = 2026
_PAGE = 64


def steps_grid(rows: int) -> Grid:
    """Seconds of each kind of step, and how they compare with one pass over the table in Arrow."""
    grid = Grid(title=f"Steps on {rows:,} rows", title_justify="left")
    for column in ("step", "s", "in passes", "a page ms"):
        grid.add_column(column, justify="left" if column == "step" else "right")
    table = loans(rows)
    for name, work in works(table).items():
        ours, _, ratio = alternated(work, partial(_one_pass, table))
        made = work()
        middle = range(made.rows // 2, min(made.rows // 2 + _PAGE, made.rows))
        one_page = partial(made.take, middle, made.names)
        page = statistics.median(seconds(one_page) for _ in range(measures.PAIRS))
        grid.add_row(name, f"{ours:.2f}", f"{ratio:.1f}", f"{1000 * page:.1f}")
    return grid


def loans(rows: int) -> ArrowTable:
    """A table of a text, a number with gaps and a date; two fifths as many texts as rows."""
    chance = np.random.default_rng(_SEED)
    names = pa.array([f"LCM.{number:07d}" for number in range(max(rows * 2 // 5, 1))], pa.large_string())
    value = pa.array(chance.integers(0, 10_000, rows), mask=chance.random(rows) < 0.1)
    days = pa.array(chance.integers(20_000, 20_700, rows).astype(np.int32)).cast(pa.date32())
    key = names.take(pa.array(chance.integers(0, len(names), rows)))
    return ArrowTable(pa.table({"key": key, "value": value, "day": days}))


def works(table: Table) -> dict[str, Callable[[], Table]]:
    """Each step by its name, ready to be made anew."""
    task = Task()
    conditions = [
        Condition("value", Comparison.AT_LEAST, ("5000",)),
        Condition("day", Comparison.FILLED),
    ]
    latest = Take.named("greatest:day")

    def filtered() -> Table:
        return ChosenRows(table, np.flatnonzero(fulfilled(table, conditions, task)))

    def ordered() -> Table:
        return ChosenRows(
            table, sorted_rows(table, [SortKey("day"), SortKey("value", descending=True)], task)
        )

    return {
        "filter by two conditions": filtered,
        "compute a field": lambda: computed(table, "double", "value * 2", task),
        "mend text": lambda: mended(table, ["key"], [Action(How.UPPER)], task),
        "fill from the row before": lambda: FilledTable(table, [Fill(("value",), FillWith.BEFORE)], task),
        "sort by two fields": ordered,
        "distinct, the latest of each key": lambda: ChosenRows(
            table, distinct_rows(table, [Key("key")], latest, task)
        ),
        "summarise with two measures": lambda: SummaryTable(
            table,
            [Key("day")],
            [Measure(Function.SUM, "value", "sum"), Measure(Function.COUNT, "", "rows")],
            task,
        ),
    }


def _one_pass(table: Table) -> None:
    """What any look at the whole table costs at least: its texts and numbers told apart once."""
    for name in table.names:
        pc.count_distinct(table.column(name).values)
