"""Texts that are made longer, within limits that are looked at before: doubled often, they would fill any
memory.
"""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import DataError

LONGEST_TEXT = 2**24  # bytes of one text that is made
MOST_BYTES = 2**32  # of all texts that are made at once


def joined(one: pa.Array, other: pa.Array, between: str = "") -> pa.Array:
    """Two columns of text, one after the other with `between` in the middle; blank where one is.

    DataError where a text, or all together, would be too long.
    """
    space = len(between.encode())
    _check(pc.add(pc.add(pc.binary_length(one), pc.binary_length(other)), pa.scalar(space, pa.int64())))
    return pc.binary_join_element_wise(one, other, pa.scalar(between, one.type))


def replaced(values: pa.Array, old: str, new: str) -> pa.Array:
    """Texts with each `old`, which is not empty, replaced by `new`. Errors as those of `joined`."""
    growth = len(new.encode()) - len(old.encode())
    if growth > 0:
        added = pc.multiply(pc.count_substring(values, old).cast(pa.int64()), growth)
        _check(pc.add(pc.binary_length(values), added))
    return pc.replace_substring(values, old, new)


def _check(lengths: pa.Array) -> None:
    longest, total = pc.max(lengths).as_py() or 0, pc.sum(lengths).as_py() or 0
    if longest > LONGEST_TEXT:
        raise DataError(
            f"A text would have {longest:,} bytes; the limit is {LONGEST_TEXT:,}.",
            remedy="Make it of fewer parts.",
        )
    if total > MOST_BYTES:
        raise DataError(
            f"The texts would have {total:,} bytes; the limit is {MOST_BYTES:,}.",
            remedy="Make them of fewer parts, or keep fewer rows.",
        )
