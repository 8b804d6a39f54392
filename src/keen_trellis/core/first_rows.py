"""The first rows of a table, or of each group: so many of them, in an order."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from keen_trellis.core.errors import UsageError
from keen_trellis.core.link import value_of
from keen_trellis.core.ordering import in_order
from keen_trellis.core.sorting import SortKey, check_keys, ordered, ranks_of
from keen_trellis.core.summarising import Key, grouped
from keen_trellis.core.table import Field, IndexVector, Table
from keen_trellis.core.task import Task


def first_rows(
    table: Table,
    count: int,
    by: Sequence[SortKey],
    each: Sequence[Key],
    task: Task,
    *,
    with_ties: bool = False,
) -> IndexVector:
    """The rows that stay, in the order in which they come first, one group after the other as they appear.

    count: how many of each group.  by: the order; none is the table's own.  each: what makes a group; none
    puts all rows into one.  with_ties: rows that are equal to the last one that stays, in all of `by`, stay,
    too. UsageError for no rows, and for ties without an order.
    """
    check_first(count, by, each, table.fields, with_ties=with_ties)
    ranks = ranks_of(table, by, task)
    order = ordered(ranks, table.rows)
    task.checkpoint(0, 0, "looking for the first rows")
    groups = grouped(table, each)
    order = order[in_order(groups.codes[order])]
    codes = groups.codes[order]
    begins = np.diff(codes, prepend=-1) != 0  # whether a row is the first of its group
    # A row's place in its group, or that of the first of the rows that are equal to it.
    apart = begins.copy() if with_ties else np.ones(len(order), dtype=bool)
    for rank in ranks if with_ties else ():
        apart[1:] |= np.diff(rank[order]) != 0
    place = np.arange(len(order))
    start = np.maximum.accumulate(np.where(begins, place, 0))
    run = np.maximum.accumulate(np.where(apart, place, 0))
    found: IndexVector = order[run - start < count]
    return found


def check_first(
    count: int, by: Sequence[SortKey], each: Sequence[Key], fields: Sequence[Field], *, with_ties: bool
) -> None:
    """Raise UsageError unless the fields have all keys, and some rows are asked for."""
    if count < 1:
        raise UsageError(f"{count:,} rows cannot be kept.", remedy="Keep one at least.")
    if with_ties and not by:
        raise UsageError("Without an order no rows are equal.", remedy="Choose what they are ordered by.")
    check_keys(by, fields)
    for key in each:
        value_of(key.text, fields)
