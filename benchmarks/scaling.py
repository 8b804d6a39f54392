"""What a second core is worth: the same work with one thread and with all that are used."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from unittest import mock

import pyarrow as pa
from rich.table import Table as Grid

from benchmarks.matching import blend_tables, cases, matched
from benchmarks.measures import alternated
from benchmarks.steps import loans, works
from keen_trellis.core import parallel
from keen_trellis.core.blending import Keep, blend

_STEPS = (
    "mend text",
    "sort by two fields",
    "distinct, the latest of each key",
    "summarise with two measures",
)


def scaling_grid(rows: int) -> Grid:
    """Seconds with one thread and with several, and how many times as fast these are."""
    threads = parallel.THREADS
    grid = Grid(title=f"On one core and on {threads}, {rows:,} rows", title_justify="left")
    for column in ("case", "one thread s", f"{threads} threads s", "times as fast"):
        grid.add_column(column, justify="left" if column == "case" else "right")
    for name, work in _works(rows).items():
        one, all_of_them, ratio = alternated(partial(_on, 1, work), partial(_on, threads, work))
        grid.add_row(name, f"{one:.2f}", f"{all_of_them:.2f}", f"{ratio:.2f}")
    return grid


def _works(rows: int) -> dict[str, Callable[[], object]]:
    found: dict[str, Callable[[], object]] = {
        f"match by {case.name}": partial(matched, case) for case in cases(rows)[:5]
    }
    steps = works(loans(rows))
    found |= {name: steps[name] for name in _STEPS}
    main, other, how = blend_tables(rows)
    found[f"blend to {main.rows:,} groups, five measures"] = partial(blend, main, [other], [how], Keep.EVERY)
    return found


def _on(threads: int, work: Callable[[], object]) -> None:
    """Work with so many threads of our own code and of Arrow's."""
    before = pa.cpu_count()
    pa.set_cpu_count(threads)
    try:
        with mock.patch.object(parallel, "THREADS", threads):
            work()
    finally:
        pa.set_cpu_count(before)
