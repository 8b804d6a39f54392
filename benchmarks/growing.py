"""How matching grows: tables of text keys, and tables of ten times as many rows."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from rich.console import Console
from rich.table import Table as Grid

from benchmarks.matching import titled
from benchmarks.measures import peak_above, seconds
from keen_trellis.core.link import LinkField
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable

ROWS = 50_000_000  # of the largest table; the other has a tenth of them
_HITS = 0.71
_SEED = 23
_STRETCH = 1_000_000  # texts that are made at a time
_STEPS = (100, 10, 1)  # by which the rows are divided
_TEXT = pa.large_string()


def _numbered(before: str, behind: str, digits: int) -> Callable[[np.ndarray], pa.Array]:
    """Makes keys of numbers, with something before and behind, and so many digits at least."""
    first, last, between = (pa.scalar(text, _TEXT) for text in (before, behind, ""))

    def made(numbers: np.ndarray) -> pa.Array:
        written = pc.utf8_lpad(pa.array(numbers).cast(_TEXT), digits, "0")
        return pc.binary_join_element_wise(first, written, last, between)

    return made


_KEYS = {
    "codes of as many digits: LCM.00000615": _numbered("LCM.", "", 8),
    "codes of any length: L-615": _numbered("L-", "", 1),
    "long codes: Harbour view no 615 at dusk": _numbered("Harbour view no ", " at dusk", 1),
    "other texts: Lamp storm of the quay, 615/3": titled,
}


def report(rows: int) -> None:
    """Print the seconds of a match with all its counts, and how much longer ten times the rows take."""
    console = Console(width=130, highlight=False)
    grid = Grid(title="a match with all its counts, as tables grow", title_justify="left")
    for column in ("keys", "rows", "s", "times as long", "peak MB", "bytes a row"):
        grid.add_column(column, justify="left" if column == "keys" else "right")
    for name, key in _KEYS.items():
        before = 0.0
        for step in _STEPS:
            count = rows // step
            left, right = _tables(count, key)
            work = partial(_matched, left, right)
            took = min(seconds(work) for _ in range(2))
            peak = peak_above(work)
            more = f"{took / before:.1f}" if before else ""
            said = f"{count:,} x {count // 10:,}"
            grid.add_row(name, said, f"{took:.2f}", more, f"{peak / 1e6:,.0f}", f"{peak / count:.1f}")
            before = took
    console.print(grid)


def _matched(left: ArrowTable, right: ArrowTable) -> int:
    return match(left, right, [LinkField("key", "key")]).counts.pairs


def _tables(rows: int, key: Callable[[np.ndarray], pa.Array]) -> tuple[ArrowTable, ArrowTable]:
    chance = np.random.default_rng(_SEED)
    others = rows // 10
    distinct = int(others / _HITS)

    def keys(numbers: np.ndarray) -> ArrowTable:
        parts = [key(numbers[first : first + _STRETCH]) for first in range(0, len(numbers), _STRETCH)]
        return ArrowTable(pa.table({"key": pa.concat_arrays(parts)}))

    return keys(chance.integers(0, distinct, rows)), keys(chance.permutation(distinct)[:others])
