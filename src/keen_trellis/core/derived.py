"""Tables some fields of which are made of another table's, row by row, when they are asked for."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from keen_trellis.core.table import (
    BATCH_ROWS,
    Cells,
    Field,
    Gathered,
    IndexVector,
    Mask,
    Rows,
    SameRows,
    Table,
    row_numbers,
)
from keen_trellis.core.task import Task


@dataclass(frozen=True)
class Derived:
    """How a field is made. of: the fields that it is read from.  as_it_is: whether it is the one of these.

    make: from the number of rows and the cells of these fields, in their order, to cells of the field's type.
    """

    of: tuple[str, ...]
    make: Callable[[int, Sequence[Cells]], Cells] = field(compare=False)
    as_it_is: bool = False

    @staticmethod
    def renamed(name: str) -> Derived:
        """A field as it is, under another name."""
        return Derived((name,), lambda _, cells: cells[0], as_it_is=True)

    @staticmethod
    def from_values(name: str, work: Callable[[pa.Array], pa.Array]) -> Derived:
        """A field whose values are changed; where it has no partner, it has none."""

        def make(_: int, cells: Sequence[Cells]) -> Cells:
            own = cells[0]
            return Cells(work(own.values), own.absent, own.filled)

        return Derived((name,), make)


class DerivedTable(SameRows):
    """The same rows; fields that `made` does not name are those of the base table.

    counts: what there is to say of how they were made, by what it is.
    """

    def __init__(
        self,
        base: Table,
        fields: Sequence[Field],
        made: Mapping[str, Derived],
        counts: Mapping[str, int] | None = None,
    ) -> None:
        super().__init__(base, fields)
        self._made = dict(made)
        self.counts = dict(counts or {})

    def take(self, rows: Rows | None, names: Sequence[str]) -> list[Cells]:
        found = [self.field(name).name for name in names]
        wanted = dict.fromkeys(own for name in found for own in self._read_by(name))
        read = dict(zip(wanted, self._base.take(rows, list(wanted)), strict=True)) if wanted else {}
        chosen = row_numbers(rows, self.rows)
        nowhere = chosen < 0
        return [self._cells(name, read, len(chosen), nowhere) for name in found]

    def absent(self, rows: Rows, names: Sequence[str]) -> list[Mask | None]:
        return self._absent_in_base(rows, names, lambda name: name not in self._made)

    def read_from(self, name: str) -> list[tuple[Table, str]]:
        return [(self._base, own) for own in self._read_by(name)]

    def gathered(self) -> list[Gathered]:
        plain = {name: name for name in self.names if name not in self._made}
        renamed = {name: entry.of[0] for name, entry in self._made.items() if entry.as_it_is}
        return self._gathered_in_base({**plain, **renamed})

    def _read_by(self, name: str) -> tuple[str, ...]:
        return self._made[name].of if name in self._made else (name,)

    def _cells(self, name: str, read: Mapping[str, Cells], count: int, nowhere: IndexVector) -> Cells:
        if name not in self._made:
            return read[name]
        entry = self._made[name]
        made = entry.make(count, [read[own] for own in entry.of])
        if not nowhere.any():
            return made
        # A row that is asked for as “no row” has no partner, whatever is made of nothing.
        values = made.values.take(pa.array(np.arange(count), mask=nowhere))
        return Cells(values, nowhere if made.absent is None else made.absent | nowhere, made.filled)


def row_batches(table: Table, task: Task, what: str) -> Iterator[range]:
    """All rows of a table, some at a time, with progress."""
    for start in range(0, table.rows, BATCH_ROWS):
        task.checkpoint(start, table.rows, what)
        yield range(start, min(start + BATCH_ROWS, table.rows))
