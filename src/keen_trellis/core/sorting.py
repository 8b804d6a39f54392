"""The order of a table's rows by several keys."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from keen_trellis.core.comparing import ordered_as
from keen_trellis.core.link import value_of
from keen_trellis.core.table import Field, IndexVector, Table
from keen_trellis.core.task import Task


@dataclass(frozen=True)
class SortKey:
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
    columns = []
    for done, key in enumerate(keys):
        task.checkpoint(done, len(keys), f"sorting by {key.of}")
        values = value_of(key.of, table.fields).cells(table).values
        _, rank = np.unique(ordered_as(values), return_inverse=True)
        rank = -rank if key.descending else rank
        blank = values.is_null().to_numpy(zero_copy_only=False)
        # What stands in place of a blank has no meaning: all blanks are equal.
        rank = np.where(blank, 0, rank)
        columns += [rank, blank != key.blanks_first]
    if not columns:
        return np.arange(table.rows)
    task.checkpoint(len(keys), len(keys), "sorting")
    # lexsort goes by its last key first; whether a cell is blank counts before its value.
    order = []
    for place in range(0, len(columns), 2):
        order += [columns[place + 1], columns[place]]
    found: IndexVector = np.lexsort(order[::-1])
    return found
