"""Puts something where a cell is blank or without partner: a value, another field, or a neighbour's value."""

from __future__ import annotations

import enum
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.conversion import read_as
from keen_trellis.core.errors import UsageError
from keen_trellis.core.summarising import taken
from keen_trellis.core.table import (
    Cells,
    ChosenRows,
    Field,
    IndexVector,
    RowOrigin,
    Rows,
    Table,
    find_field,
    row_numbers,
)
from keen_trellis.core.task import Task
from keen_trellis.core.values import common_exact_type, type_of_arrow


class Gaps(enum.Enum):
    """Which cells are filled."""

    BLANK = "blank"
    NO_PARTNER = "no-partner"
    BOTH = "both"


class FillWith(enum.Enum):
    """What a gap is filled with; leaving out takes its row away."""

    VALUE = "value"
    FIELD = "field"
    BEFORE = "before"
    AFTER = "after"
    LEAVE_OUT = "leave-out"


@dataclass(frozen=True)
class Fill:
    """How the gaps of some fields are filled.

    fields: their names.  of: the value as text, or the name of the other field.
    """

    fields: tuple[str, ...]
    how: FillWith = FillWith.VALUE
    of: str = ""
    gaps: Gaps = Gaps.BOTH


class FilledTable(Table):
    """The same rows with gaps filled, those left out that are to be.

    Several fills may name one field: a later one finds the gaps that are left.
    """

    def __init__(self, table: Table, fills: Sequence[Fill], task: Task | None = None) -> None:
        task = task or Task()
        self.fields = filled_fields(table.fields, fills)
        for done, fill in enumerate(fills):
            if fill.how is FillWith.LEAVE_OUT:
                task.checkpoint(done, len(fills), "leaving out rows with gaps")
                table = _without_gaps(table, fill)
        self._table = table
        self.rows = table.rows
        self._made: dict[str, Cells] = {}
        self._filled_from = {
            field.name: [
                fill.of for fill in fills if field.name in fill.fields and fill.how is FillWith.FIELD
            ]
            for field in self.fields
        }
        for done, field in enumerate(self.fields):
            own = [fill for fill in fills if field.name in fill.fields and fill.how is not FillWith.LEAVE_OUT]
            if own:
                task.checkpoint(done, len(self.fields), f"filling {field.name}")
                self._made[field.name] = self._filled(field, own)

    @property
    def counts(self) -> dict[str, int]:
        """How many cells of each field were filled."""
        masks = {name: cells.filled for name, cells in self._made.items()}
        return {name: int(np.count_nonzero(mask)) for name, mask in masks.items() if mask is not None}

    def take(self, rows: Rows | None, names: Sequence[str]) -> list[Cells]:
        found = [self.field(name).name for name in names]
        plain = [name for name in found if name not in self._made]
        read = dict(zip(plain, self._table.take(rows, plain), strict=True)) if plain else {}
        chosen = row_numbers(rows, self.rows)
        return [read[name] if name in read else taken(self._made[name], chosen) for name in found]

    def origins(self, row: int) -> tuple[RowOrigin, ...]:
        return self._table.origins(row)

    def parents(self, row: int) -> list[tuple[Table, IndexVector]]:
        return [(self._table, np.array([row]))]

    def read_from(self, name: str) -> list[tuple[Table, str]]:
        return [(self._table, name), *((self._table, other) for other in self._filled_from.get(name, ()))]

    def rows_from(self, source: Table, rows: IndexVector) -> IndexVector:
        return rows if self is source else self._table.rows_from(source, rows)

    def _filled(self, field: Field, fills: Sequence[Fill]) -> Cells:
        cells = self._table.column(field.name)
        cells = Cells(cells.values.cast(field.arrow_type), cells.absent)
        done = np.zeros(self.rows, dtype=bool)
        for fill in fills:
            gaps = gaps_in(cells, fill.gaps)
            others = self._others(fill, field, cells, gaps)
            now = gaps & others.is_valid().to_numpy(zero_copy_only=False)
            absent = None if cells.absent is None else cells.absent & ~now
            cells = Cells(pc.if_else(pa.array(now), others, cells.values), absent)
            done |= now
        return Cells(cells.values, cells.absent, done)

    def _others(self, fill: Fill, field: Field, cells: Cells, gaps: IndexVector) -> pa.Array:
        """What stands in each row for a gap."""
        if fill.how is FillWith.VALUE:
            return pa.repeat(read_as([fill.of], field.type, field.name).cast(field.arrow_type)[0], self.rows)
        if fill.how is FillWith.FIELD:
            return self._table.column(fill.of).values.cast(field.arrow_type)
        rows = np.arange(self.rows)
        usable = ~gaps & cells.values.is_valid().to_numpy(zero_copy_only=False)
        if fill.how is FillWith.BEFORE:
            nearest = np.maximum.accumulate(np.where(usable, rows, -1))
        else:
            nearest = np.minimum.accumulate(np.where(usable, rows, self.rows)[::-1])[::-1]
        known = (nearest >= 0) & (nearest < self.rows)
        return cells.values.take(pa.array(np.where(known, nearest, 0), mask=~known))


def gaps_in(cells: Cells, gaps: Gaps) -> IndexVector:
    """Which of the cells are gaps of this kind: a mask."""
    absent: IndexVector = np.zeros(len(cells.values), dtype=bool) if cells.absent is None else cells.absent
    if gaps is Gaps.NO_PARTNER:
        return absent
    missing: IndexVector = cells.values.is_null().to_numpy(zero_copy_only=False)
    return missing & ~absent if gaps is Gaps.BLANK else missing | absent


def filled_fields(fields: Sequence[Field], fills: Sequence[Fill]) -> tuple[Field, ...]:
    """The fields, of types that hold what they are filled with as well.

    UsageError where a field is not there or cannot hold it.
    """
    made = {field.name: field for field in fields}
    for fill in fills:
        for name in fill.fields:
            field = find_field(fields, name)
            if fill.how is FillWith.VALUE:
                other = read_as([fill.of], field.type, name).type
            elif fill.how is FillWith.FIELD:
                other = find_field(fields, fill.of).arrow_type
            else:
                continue
            common = common_exact_type(made[name].arrow_type, other)
            if common is None:
                raise UsageError(
                    f"{fill.of} is {type_of_arrow(other).value} and {name} is {field.type.value}.",
                    remedy="Fill it with a field of the same type.",
                )
            made[name] = replace(made[name], arrow_type=common)
    return tuple(made.values())


def _without_gaps(table: Table, fill: Fill) -> Table:
    whole = np.ones(table.rows, dtype=bool)
    for cells in table.take(None, fill.fields):
        whole &= ~gaps_in(cells, fill.gaps)
    return ChosenRows(table, np.flatnonzero(whole))
