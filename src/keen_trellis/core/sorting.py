"""The order of a table's rows by several keys."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.comparing import ordered_as
from keen_trellis.core.link import value_of
from keen_trellis.core.ordering import dense_ranks, in_order
from keen_trellis.core.table import Field, IndexVector, Table
from keen_trellis.core.task import Task

Vector = np.ndarray[Any, Any]

# Ranks stay below this.
_WIDEST = 2**62
_NARROW = 2**31


class SortKey(msgspec.Struct, frozen=True):
    """of: a field or expression.  descending: the greatest first.  blanks_first: otherwise they come last."""

    of: str
    descending: bool = False
    blanks_first: bool = False


def check_keys(keys: Sequence[SortKey], fields: Sequence[Field]) -> None:
    """Raise UsageError unless the fields have all keys."""
    for key in keys:
        value_of(key.of, fields)


def sorted_rows(table: Table, keys: Sequence[SortKey], task: Task) -> IndexVector:
    """The numbers of the rows in the order of the keys, the first of which counts most.

    Equal rows stay as they stood. Values are ordered as links compare them; a cell without partner is blank.
    """
    ranks = ranks_of(table, keys, task)
    task.checkpoint(len(keys), len(keys), "sorting")
    return ordered(ranks, table.rows)


def ranks_of(table: Table, keys: Sequence[SortKey], task: Task) -> list[Vector]:
    """For each key whole numbers from 0, one a row, that stand in the order that it asks for."""
    ranks = []
    for done, key in enumerate(keys):
        task.checkpoint(done, len(keys), f"sorting by {key.of}")
        ranks.append(_ranked(value_of(key.of, table.fields).cells(table).values, key))
    return ranks


def ordered(ranks: Sequence[Vector], rows: int) -> IndexVector:
    """The numbers of so many rows in the order of their ranks, the first of which counts most."""
    if not ranks or not rows:
        return np.arange(rows)
    return in_order(*ranks)


def _ranked(values: pa.Array, key: SortKey) -> Vector:
    """Whole numbers from 0 in the order that a key asks for, blanks before or behind all others."""
    blank = values.is_null().to_numpy(zero_copy_only=False)
    worth = ordered_as(values)
    if worth.dtype.kind not in "iu" or not len(worth):
        worth = dense_ranks(worth)
    # What stands in place of a blank has no meaning: it must not widen the range.
    filled = worth[~blank] if blank.any() else worth
    least, most = (int(filled.min()), int(filled.max())) if len(filled) else (0, 0)
    if most - least >= _WIDEST:
        worth = dense_ranks(worth)
        least, most = 0, int(worth.max())
    # As narrow as they fit, and nothing of their size besides: a column may have many millions of rows.
    rank: Vector = np.empty(len(worth), np.int32 if most - least + 2 < _NARROW else np.int64)
    np.subtract(worth, least, out=rank, casting="unsafe")
    if key.descending:
        np.subtract(most - least, rank, out=rank, casting="unsafe")
    rank += 1
    if blank.any():
        rank[blank] = 0 if key.blanks_first else most - least + 2
    return rank
