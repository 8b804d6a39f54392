"""Rows that hold a value: as it is written, or as a number or a day that is written so."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.conversion import read_as
from keen_trellis.core.errors import TrellisError
from keen_trellis.core.table import IndexVector, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, held_as


def rows_holding(
    table: Table, value: str, names: Sequence[str], task: Task, *, loosely: bool = False
) -> Iterator[tuple[str, IndexVector]]:
    """Those of some fields that hold a value, each with its rows, in order. Cancelled.

    loosely: texts that are the value but for upper and lower case and for spaces around them are it, too.
    """
    for done, name in enumerate(names):
        task.checkpoint(done, len(names), f"looking for the value in {name}")
        field = table.field(name)
        if field.untyped:
            continue
        values = table.column(name).values
        if field.type is FieldType.TEXT:
            mask = _plain(values, value) if loosely else pc.equal(values, pa.scalar(value, values.type))
        elif loosely:
            continue
        else:
            try:
                wanted = held_as(read_as([value], field.type, name), values.type)
            except (TrellisError, pa.ArrowInvalid):
                continue  # no value of this type is written so
            mask = pc.equal(values, wanted[0])
        rows = np.flatnonzero(mask.fill_null(False).to_numpy(zero_copy_only=False))
        if len(rows):
            yield name, rows


def _plain(values: pa.Array, value: str) -> pa.Array:
    if value.isascii():  # three times as quick
        plain = pc.ascii_lower(pc.ascii_trim_whitespace(values))
    else:
        plain = pc.utf8_lower(pc.utf8_trim_whitespace(values))
    return pc.equal(plain, pa.scalar(value.strip().lower(), plain.type))
