"""Lists of different lengths, laid out one after the other."""

from __future__ import annotations

from typing import Any

import numpy as np

Vector = np.ndarray[Any, Any]


def unrolled(counts: Vector) -> tuple[Vector, Vector]:
    """Of each entry of lists with so many entries the number of its list and its place in it, both from 0."""
    owner = np.repeat(np.arange(len(counts)), counts)
    return owner, np.arange(len(owner)) - np.repeat(np.cumsum(counts) - counts, counts)
