"""How speed and memory are measured: seconds, ratios of alternated pairs, and the peak of what is held."""

from __future__ import annotations

import statistics
import threading
import time
import tracemalloc
from collections.abc import Callable

import pyarrow as pa

PAIRS = 5


def seconds(work: Callable[[], object]) -> float:
    """How long `work` takes once."""
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def alternated(one: Callable[[], object], other: Callable[[], object]) -> tuple[float, float, float]:
    """Median seconds of both, and the median of their ratios, from pairs measured in turns."""
    pairs = [(seconds(one), seconds(other)) for _ in range(PAIRS)]
    ratios = [ours / theirs for ours, theirs in pairs]
    return (
        statistics.median(p[0] for p in pairs),
        statistics.median(p[1] for p in pairs),
        statistics.median(ratios),
    )


def beside(ours: Callable[[], object], theirs: Callable[[], object], aim: str) -> tuple[str, ...]:
    """The cells of a row: seconds of both, their ratio, the aim, and the peak of ours in MB."""
    mine, other, ratio = alternated(ours, theirs)
    return f"{mine:.2f}", f"{other:.2f}", f"{ratio:.2f}", aim, f"{peak_above(ours) / 2**20:.0f}"


def peak_above(work: Callable[[], object]) -> int:
    """How many bytes of NumPy's and Arrow's `work` held at most at a time, sampled every 2 ms."""

    def held() -> int:
        return tracemalloc.get_traced_memory()[0] + int(pa.total_allocated_bytes())

    tracemalloc.start()
    before, peak, done = held(), 0, threading.Event()

    def watch() -> None:
        nonlocal peak
        while not done.is_set():
            peak = max(peak, held())
            time.sleep(0.002)

    watcher = threading.Thread(target=watch)
    watcher.start()
    try:
        work()
    finally:
        done.set()
        watcher.join()
        tracemalloc.stop()
    return max(peak - before, 0)
