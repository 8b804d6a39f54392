"""Ragged arrays: lists of different lengths, one a row, laid out one after the other as plain columns."""

from __future__ import annotations

from typing import Any

import numpy as np

Vector = np.ndarray[Any, Any]


def laid_out(counts: Vector) -> tuple[Vector, Vector]:
    """Of each entry of lists with so many entries the number of its list and its place in it, both from 0.

    Three rows with 2, 0 and 3 partners make five pairs: laid_out([2, 0, 3]) gives the rows [0, 0, 2, 2, 2],
    and which of its partners each is, [0, 1, 0, 1, 2].
    """
    owner = np.repeat(np.arange(len(counts)), counts)
    return owner, np.arange(len(owner)) - np.repeat(np.cumsum(counts) - counts, counts)
