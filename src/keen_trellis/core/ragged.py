"""Ragged arrays: lists of different lengths, one a row, laid out one after the other as plain columns."""

from __future__ import annotations

from typing import Any

import numpy as np

Vector = np.ndarray[Any, Any]

_PIECE = 1 << 16  # entries


def laid_out(counts: Vector) -> tuple[Vector, Vector]:
    """Of each entry of lists with so many entries the number of its list and its place in it, both from 0.

    Three rows with 2, 0 and 3 partners make five pairs: laid_out([2, 0, 3]) gives the rows [0, 0, 2, 2, 2],
    and which of its partners each is, [0, 1, 0, 1, 2].
    """
    owner = repeated(np.arange(len(counts)), counts)
    return owner, np.arange(len(owner)) - repeated(running_total(counts)[:-1], counts)


def repeated(values: Vector, counts: Vector) -> Vector:
    """Each value so many times, as `np.repeat`; in pieces, since that one holds the interpreter meanwhile."""
    if len(counts) <= _PIECE:
        return np.repeat(values, counts)
    found = np.empty(int(counts.sum()), values.dtype)
    done = 0
    for first in range(0, len(counts), _PIECE):
        part = np.repeat(values[first : first + _PIECE], counts[first : first + _PIECE])
        found[done : done + len(part)] = part
        done += len(part)
    return found


def running_total(counts: Vector) -> Vector:
    """Sums of all entries before each, and the whole sum at the end: length n + 1, int64."""
    totals = np.zeros(len(counts) + 1, dtype=np.int64)
    # In its place: another type in than out holds the interpreter.
    totals[1:] = counts
    np.cumsum(totals[1:], out=totals[1:])
    return totals
