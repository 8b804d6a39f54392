"""How much memory results hold: each buffer that they reach counted once, however many of them share it."""

from __future__ import annotations

import os
from collections.abc import Iterable
from typing import Any

import numpy as np
import pyarrow as pa

from keen_trellis.core.table import ArrowTable

Buffers = dict[int, int]  # the size in bytes of each buffer by its address


def buffers_of(held: object) -> Buffers:
    """The buffers that an object reaches, through tables, matches and whatever else it is made of.

    A source's own cells are not among them: they are mapped from files, and kept by the sources.
    """
    found: Buffers = {}
    seen: set[int] = set()
    waiting: list[Any] = [held]
    while waiting:
        current = waiting.pop()
        if id(current) in seen or isinstance(current, (str, bytes, int, float, bool, type, ArrowTable)):
            continue
        seen.add(id(current))
        if isinstance(current, np.ndarray):
            base = current
            while isinstance(base.base, np.ndarray):
                base = base.base
            found[base.__array_interface__["data"][0]] = base.nbytes
        elif isinstance(current, (pa.Array, pa.ChunkedArray)):
            for chunk in current.chunks if isinstance(current, pa.ChunkedArray) else (current,):
                found.update((entry.address, entry.size) for entry in chunk.buffers() if entry is not None)
        elif isinstance(current, dict):
            waiting.extend(current.values())
        elif isinstance(current, (list, tuple, set, frozenset)):
            waiting.extend(current)
        elif type(current).__module__.startswith("keen_trellis."):
            waiting.extend(_members(current))
    return found


def _members(held: object) -> Iterable[Any]:
    names: Iterable[str] = getattr(held, "__struct_fields__", getattr(type(held), "__slots__", ()))
    kept = [getattr(held, name) for name in names if hasattr(held, name)]
    return [*kept, *getattr(held, "__dict__", {}).values()]


def machine_memory() -> int:
    """The memory of this machine in bytes."""
    return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
