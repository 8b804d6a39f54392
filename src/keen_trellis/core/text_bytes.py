"""Columns of text as Arrow holds them: all bytes one text behind the other, and where each of them begins."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa

Vector = np.ndarray[Any, Any]


def bytes_of(values: pa.Array) -> tuple[Vector, Vector]:
    """The bytes of all texts one after the other, and where each begins; one entry more, the end."""
    if not len(values):
        return np.zeros(0, np.uint8), np.zeros(1, np.int64)
    _, offsets, data = values.buffers()
    starts = np.frombuffer(offsets, np.int64)[values.offset : values.offset + len(values) + 1]
    codes = np.frombuffer(data, np.uint8) if data is not None else np.zeros(0, np.uint8)
    return codes[starts[0] : starts[-1]], starts - starts[0]


def text_of(codes: Vector, starts: Vector) -> pa.Array:
    """The texts that have these bytes, none of them blank; the inverse of `bytes_of`."""
    buffers = [None, *(pa.py_buffer(np.ascontiguousarray(part)) for part in (starts, codes))]
    return pa.Array.from_buffers(pa.large_string(), len(starts) - 1, buffers)


def with_blanks(made: pa.Array, is_filled: Vector | None) -> pa.Array:
    """What was made of the m values that are filled, as n with blanks among them.

    is_filled: bool mask of the n, with m of them true; None if all are.
    """
    if is_filled is None:
        return made
    return made.take(pa.array(np.cumsum(is_filled) - 1, mask=~is_filled))
