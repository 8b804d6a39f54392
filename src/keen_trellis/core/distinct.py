"""Rows of which each key stands once: the first, the last, or the one with the least or greatest value."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from keen_trellis.core.comparing import best_keys
from keen_trellis.core.errors import UsageError
from keen_trellis.core.link import Take, Taken, value_of
from keen_trellis.core.match import first_of_codes, how_often, last_of_codes
from keen_trellis.core.ordering import in_order
from keen_trellis.core.preparing import prepare
from keen_trellis.core.ragged import running_total
from keen_trellis.core.summarising import Key, coded_by
from keen_trellis.core.table import Field, IndexVector, Table
from keen_trellis.core.task import Task

WAYS = (Taken.FIRST, Taken.LAST, Taken.LEAST, Taken.GREATEST)


def distinct_rows(
    table: Table, keys: Sequence[Key], take: Take, task: Task, *, blanks_stay: bool = False
) -> IndexVector:
    """The rows that stay, in the table's order: one a group of equal keys.

    keys: none means all fields.  take: which row of a group stays; of equal values the first, a blank only
    where there is nothing else.  blanks_stay: rows in which a key is blank are no group, and all stay.
    UsageError for another way to take a row.
    """
    check_distinct(keys, take, table.fields)
    keys = keys or [Key(name) for name in table.names]
    task.checkpoint(0, 0, "looking for rows of the same key")
    best = np.zeros(table.rows, dtype=bool)
    best[_best_of_groups(table, *coded_by(table, keys), take)] = True
    if blanks_stay:
        for key in keys:
            prepared = prepare(value_of(key.text, table.fields).cells(table), key.preparation)
            for missing in (prepared.blank, prepared.lost, prepared.absent):
                if missing is not None:
                    best |= missing
    return np.flatnonzero(best)


def check_distinct(keys: Sequence[Key], take: Take, fields: Sequence[Field]) -> None:
    """Raise UsageError unless the fields have the keys, and one row of a group can be taken so."""
    for key in keys:
        value_of(key.text, fields)
    if take.kind not in WAYS:
        known = ", ".join(way.value for way in WAYS)
        raise UsageError(
            f"Of rows with the same key, “{take.name}” is none that could stay.",
            remedy=f"It can be: {known}.",
        )
    if take.expression:
        value_of(take.expression, fields)


def _best_of_groups(table: Table, codes: IndexVector, size: int, take: Take) -> IndexVector:
    often = how_often(codes, size)
    used = often > 0
    if take.kind is Taken.FIRST:
        return first_of_codes(codes, size)[used]
    if take.kind is Taken.LAST:
        return last_of_codes(codes, size)[used]
    values = value_of(take.expression, table.fields).cells(table).values
    order = in_order(codes, *best_keys(values, greatest=take.kind is Taken.GREATEST))
    found: IndexVector = order[running_total(often)[:-1][used]]
    return found
