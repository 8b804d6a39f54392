"""Counts the distinct values of fields once, so that whether they are unique is known from then on."""

from __future__ import annotations

import pyarrow.compute as pc

from keen_trellis.core.parallel import each
from keen_trellis.core.table import ArrowTable, Field
from keen_trellis.core.task import Task


def profile(table: ArrowTable, task: Task) -> None:
    """Count the distinct values of all fields, blanks aside, and keep the counts. Cancelled."""

    def count(field: Field) -> None:
        task.checkpoint(0, len(table.fields), f"counting the values of {field.name}")
        if table.known_distinct(field.name) is None:
            values = table.column(field.name).values
            table.know_distinct(field.name, pc.count_distinct(values).as_py())

    each(count, table.fields)
