"""Text files larger than the memory that a process may hold: each step in a process under a limit."""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv as pa_csv
from rich.console import Console
from rich.table import Table as Grid

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.task import Task
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.runner import Kept, Runner
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.distinct import DistinctSettings, KeySettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.steps.sort import SortKeySettings, SortSettings
from keen_trellis.flow.steps.summarise import MeasureSettings, SummariseSettings
from keen_trellis.outputs import write
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library

ROWS, LIMIT = 60_000_000, 4.0  # of the larger file, and GB of memory
_BATCH = 1_000_000
_SEED = 12
_OTHERS = 6  # fields of short texts beside the loan, its entry, the key and the venue
_SPREAD = 7_919  # entries that follow each other are not ordered so
_STEPS = (
    "looked at",
    "matched",
    "filtered",
    "sorted by two texts that repeat",
    "sorted by a code that is unique",
    "sorted by a long text that is unique",
    "the first of each long text",
    "latest of each key",
    "summed up",
    "written",
)


def report(rows: int, limit: float) -> None:
    """Print what each step takes, and how much memory of its own the process held at most."""
    console = Console(width=130, highlight=False)
    with tempfile.TemporaryDirectory(prefix="keen-trellis-large-", dir=os.environ.get("TMPDIR")) as name:
        folder = Path(name)
        sizes = _write(folder, rows)
        title = (
            f"{rows:,} x 10 texts ({sizes[0] / 1e9:.1f} GB) with {rows // 12:,} x 2, each step in a process "
            f"that may hold {limit:g} GB of its own"
        )
        grid = Grid(title=title, title_justify="left")
        for column in ("step", "s", "rows", "peak GB", "came of it"):
            grid.add_column(column, justify="left" if column in ("step", "came of it") else "right")
        for step in _STEPS:
            grid.add_row(step, *_in_process(step, folder, limit))
        console.print(grid)


def _write(folder: Path, rows: int) -> list[int]:
    """Loans and objects as text files; their sizes."""
    chance = np.random.default_rng(_SEED)
    keys = rows // 12
    names = pa.array([f"LCM.{number:07d}" for number in range(keys)])
    venues = pa.array([f"Venue {number:03d}" for number in range(400)])
    words = pa.array([f"w{number:05d}x" for number in range(50_000)])

    def batch(first: int, size: int) -> pa.Table:
        columns = {
            "loan": pa.array(np.char.add("L", np.arange(first, first + size).astype("U9"))),
            "key": names.take(pa.array(chance.integers(0, keys, size))),
            "venue": venues.take(pa.array(chance.integers(0, len(venues), size))),
        }
        entries = (np.arange(first, first + size) * _SPREAD % 10**9).astype("U9")
        columns["entry"] = pa.array(np.char.add(np.char.add("Entry no ", entries), " of 2026"))
        for number in range(_OTHERS):
            columns[f"note {number}"] = words.take(pa.array(chance.integers(0, len(words), size)))
        return pa.table(columns)

    loans, objects = folder / "loans.csv", folder / "objects.csv"
    first = batch(0, 1)
    with pa_csv.CSVWriter(
        loans, first.schema, write_options=pa_csv.WriteOptions(quoting_style="none")
    ) as out:
        for start in range(0, rows, _BATCH):
            out.write_table(batch(start, min(_BATCH, rows - start)))
    pa_csv.write_csv(
        pa.table({"key": names, "title": words.take(pa.array(np.arange(keys) % len(words)))}), objects
    )
    return [path.stat().st_size for path in (loans, objects)]


def _in_process(step: str, folder: Path, limit: float) -> tuple[str, ...]:
    done = subprocess.run(
        [sys.executable, "-m", "benchmarks.large_files", step, str(folder), str(limit)],
        capture_output=True,
        text=True,
        check=False,
    )
    try:
        told = json.loads(done.stdout.strip().splitlines()[-1])
    except (IndexError, ValueError):
        return "", "", "", f"ended with {done.returncode}: {done.stderr.strip()[-200:]}"
    return f"{told['seconds']:.1f}", f"{told['rows']:,}", f"{told['peak']:.2f}", told["said"]


# --- in the process ---


def _flow(folder: Path) -> tuple[Flow, str, str]:
    flow, loans = edits.add_source(Flow(), SourceSettings("text", str(folder / "loans.csv")), "Loans")
    flow, objects = edits.add_source(flow, SourceSettings("text", str(folder / "objects.csv")), "Objects")
    return flow, loans, objects


def _work(step: str, folder: Path) -> Callable[[], int]:
    """What a step does; it says how many rows came of it."""
    flow, loans, objects = _flow(folder)
    runner = Runner(KINDS, Library(Cache(folder / "cache")), Kept(2**30))
    last = loans
    if step in ("matched", "written"):
        join = JoinSettings(links=(LinkSettings("key", "key"),), type="left-outer", bring=("title",))
        flow, last = edits.add_join(flow, Input(loans), Input(objects), join)
    settings: dict[str, tuple[str, Any]] = {
        "filtered": (
            "filter",
            FilterSettings(conditions=(ConditionSettings("venue", "one-of", ("Venue 007", "Venue 123")),)),
        ),
        "sorted by two texts that repeat": (
            "sort",
            SortSettings((SortKeySettings("venue"), SortKeySettings("note 0", descending=True))),
        ),
        "sorted by a code that is unique": (
            "sort",
            SortSettings((SortKeySettings("loan", descending=True),)),
        ),
        "sorted by a long text that is unique": ("sort", SortSettings((SortKeySettings("entry"),))),
        "the first of each long text": ("distinct", DistinctSettings(keys=(KeySettings("entry"),))),
        "latest of each key": ("distinct", DistinctSettings(keys=(KeySettings("key"),), keep="last")),
        "summed up": (
            "summarise",
            SummariseSettings(
                keys=("venue",),
                measures=(MeasureSettings("n", "count"), MeasureSettings("last", "greatest", "note 1")),
            ),
        ),
    }
    if step in settings:
        flow, last = edits.insert_after(flow, Input(loans), *settings[step])

    def work() -> int:
        rows = runner.result(flow, last, Task()).rows
        if step == "written":
            write(rows, OutputSettings("text", str(folder / "out.csv")))
        else:
            # The first and the last page, as the bench shows them.
            for page in (range(min(100, rows.rows)), range(max(rows.rows - 100, 0), rows.rows)):
                rows.take(page, rows.names)
        return rows.rows

    return work


def _own_memory() -> int:
    """The bytes of this process that are no file's."""
    status = Path("/proc/self/status").read_text("ascii").splitlines()
    return next(int(line.split()[1]) * 1024 for line in status if line.startswith("RssAnon"))


def _main(step: str, folder: str, limit: str) -> None:
    most = int(float(limit) * 2**30)
    resource.setrlimit(resource.RLIMIT_DATA, (most, most))
    peak, done = 0, threading.Event()

    def watch() -> None:
        nonlocal peak
        while not done.wait(0.01):
            peak = max(peak, _own_memory())

    watcher = threading.Thread(target=watch)
    watcher.start()
    started, rows, said = time.perf_counter(), 0, ""
    try:
        rows = _work(step, Path(folder))()
    except MemoryError:
        said = "not enough memory"
    except (TrellisError, pa.ArrowException) as error:
        said = f"{type(error).__name__}: {str(error)[:120]}"
    finally:
        done.set()
        watcher.join()
    seconds = time.perf_counter() - started
    print(json.dumps({"seconds": seconds, "rows": rows, "peak": peak / 2**30, "said": said}))


if __name__ == "__main__":
    _main(*sys.argv[1:])
