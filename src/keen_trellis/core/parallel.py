"""Work on the two halves of long columns side by side, where NumPy and Arrow let go of the interpreter."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextvars import copy_context
from itertools import pairwise
from typing import Any, TypeVar

import numpy as np
import pyarrow as pa

THREADS = min(os.cpu_count() or 1, 4)
_WORTH_IT = 100_000  # rows; with fewer, starting a thread costs more than it saves
BLOCK = 1 << 15  # rows at a time, so that what is made of them stays in the processor's cache
Vector = np.ndarray[Any, Any]
Made = TypeVar("Made")
Given = TypeVar("Given")


def parts(rows: int) -> list[slice]:
    """Rows cut into as many stretches as are worked on side by side."""
    count = THREADS if rows >= _WORTH_IT else 1
    bounds = [rows * number // count for number in range(count + 1)]
    return [slice(start, stop) for start, stop in pairwise(bounds)]


def side_by_side(work: Callable[[slice], Made], rows: int) -> list[Made]:
    """What `work` makes of each stretch of rows, in their order."""
    return each(work, parts(rows))


def block_by_block(work: Callable[[slice], None], rows: int) -> None:
    """Do `work` on all rows, a block of them at a time, on stretches side by side."""

    def through(part: slice) -> None:
        for first in range(part.start, part.stop, BLOCK):
            work(slice(first, min(first + BLOCK, part.stop)))

    side_by_side(through, rows)


def each(work: Callable[[Given], Made], given: Sequence[Given]) -> list[Made]:
    """What `work` makes of each of some things, worked on side by side, in their order."""
    if len(given) == 1:
        return [work(given[0])]
    contexts = [copy_context() for _ in given]
    with ThreadPoolExecutor(THREADS) as pool:
        return list(pool.map(lambda context, entry: context.run(work, entry), contexts, given))


def gathered(values: Vector, places: Vector) -> Vector:
    """`values[places]`: what stands at N places of a vector, in halves side by side; -1 is the last one.

    In blocks that the processor's cache holds, `take` needs half the time of an index that is a vector.
    """
    found = np.empty(len(places), values.dtype)

    def fill(rows: slice) -> None:
        np.take(values, places[rows], out=found[rows], mode="wrap")

    block_by_block(fill, len(places))
    return found


def ahead(work: Callable[[Given], Made], given: Iterable[Given], most: int) -> Iterator[tuple[Given, Made]]:
    """Each of some things with what `work` makes of it, in their order; up to `most` more are worked on
    meanwhile, in the context that this is called in.
    """
    waiting: deque[tuple[Given, Future[Made]]] = deque()
    with ThreadPoolExecutor(most) as pool:
        try:
            for entry in given:
                waiting.append((entry, pool.submit(copy_context().run, work, entry)))
                if len(waiting) > most:
                    first, made = waiting.popleft()
                    yield first, made.result()
            while waiting:
                first, made = waiting.popleft()
                yield first, made.result()
        finally:
            for _, made in waiting:
                made.cancel()


def mapped(work: Callable[[pa.Array], Made], values: pa.Array) -> list[Made]:
    """What `work` makes of each stretch of an array, in their order."""
    return side_by_side(lambda part: work(values.slice(part.start, part.stop - part.start)), len(values))
