"""Cells that stand in many rows are written once, as text: those that a join takes from a smaller table."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.table import Cells, Field, Gathered, Table
from keen_trellis.core.task import Task
from keen_trellis.outputs.lines import TEXT, batches, together

_OFTEN = 2  # times that each row of the smaller table stands there, at the least
_MOST_BYTES = 2**28  # that are kept as text

# The cells of a field as they are written; None where there is something to be counted for each row.
Make = Callable[[Field, Cells], pa.Array | None]


class WrittenOnce(msgspec.Struct, frozen=True):
    """Fields beside each other whose cells come from the same row of another table.

    texts: for each of its rows what stands in theirs.  nowhere: what does where there is no such row.
    """

    fields: tuple[Field, ...]
    texts: pa.Array
    nowhere: pa.Scalar
    gathered: Gathered

    def column(self, rows: range) -> pa.Array:
        """What is written in some rows."""
        at = self.gathered.rows(rows)
        missing = at < 0
        if not missing.any():
            return self.texts.take(pa.array(at))
        return pc.fill_null(self.texts.take(pa.array(at, mask=missing)), self.nowhere)


class Parts(msgspec.Struct, frozen=True):
    """The fields of a table in their order; those that are worth it as they are written."""

    parts: tuple[Field | WrittenOnce, ...]

    @property
    def plain(self) -> list[str]:
        """The fields that are to be written row by row."""
        return [part.name for part in self.parts if isinstance(part, Field)]

    def columns(
        self, rows: range, cells: Sequence[Cells], make: Callable[[Field, Cells], pa.Array]
    ) -> list[pa.Array]:
        """What is written in some rows, one column for fields that were written together. cells: of the
        plain fields; make: what writes one of these.
        """
        given = iter(cells)
        return [
            part.column(rows) if isinstance(part, WrittenOnce) else make(part, next(given))
            for part in self.parts
        ]


def in_parts(table: Table, make: Make, between: str, what: str, task: Task) -> Parts:
    """The fields of a table, those of smaller ones written. between: what stands between cells. Cancelled."""
    owner = {
        name: entry
        for entry in table.gathered()
        if _OFTEN * entry.table.rows <= table.rows
        for name in entry.names
    }
    parts: list[Field | WrittenOnce] = []
    for _, group in itertools.groupby(table.fields, lambda field: id(owner.get(field.name))):
        fields = tuple(group)
        gathered = owner.get(fields[0].name)
        once = _written(gathered, fields, make, between, what, task) if gathered is not None else None
        parts += fields if once is None else [once]
    return Parts(tuple(parts))


def _written(
    gathered: Gathered, fields: Sequence[Field], make: Make, between: str, what: str, task: Task
) -> WrittenOnce | None:
    """The fields of all rows of the other table; None if that is too much, or something is to be counted."""

    def text(cells: Sequence[Cells]) -> pa.Array | None:
        columns = [make(field, entry) for field, entry in zip(fields, cells, strict=True)]
        return None if any(column is None for column in columns) else together(columns, between)

    made, size = [pa.array([], TEXT)], 0
    own = [gathered.names[field.name] for field in fields]
    for part in batches(gathered.table, lambda _, cells: text(cells), what, task, names=own):
        size += part.nbytes if part is not None else 0
        if part is None or size > _MOST_BYTES:
            return None
        made.append(part)
    nowhere = text([Cells(pa.nulls(1, field.arrow_type), np.ones(1, dtype=bool)) for field in fields])
    if nowhere is None:
        return None
    return WrittenOnce(tuple(fields), pa.concat_arrays(made), nowhere[0], gathered)
