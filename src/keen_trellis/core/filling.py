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
from keen_trellis.core.table import Cells, ChosenRows, Field, IndexVector, OverlaidTable, Table, find_field
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


class FilledTable(OverlaidTable):
    """The same rows with gaps filled, those left out that are to be.

    Several fills may name one field: a later one finds the gaps that are left.
    """

    def __init__(self, table: Table, fills: Sequence[Fill], task: Task | None = None) -> None:
        task = task or Task()
        fields = filled_fields(table.fields, fills)
        for done, fill in enumerate(fills):
            if fill.how is FillWith.LEAVE_OUT:
                task.checkpoint(done, len(fills), "leaving out rows with gaps")
                table = _without_gaps(table, fill)
        made: dict[str, Cells] = {}
        self._filled_from: dict[str, list[str]] = {}
        for done, field in enumerate(fields):
            own = [fill for fill in fills if field.name in fill.fields and fill.how is not FillWith.LEAVE_OUT]
            if own:
                task.checkpoint(done, len(fields), f"filling {field.name}")
                made[field.name] = _filled(table, field, own)
                self._filled_from[field.name] = [fill.of for fill in own if fill.how is FillWith.FIELD]
        super().__init__(table, fields, made)

    @property
    def counts(self) -> dict[str, int]:
        """How many cells of each field were filled."""
        masks = {name: cells.filled for name, cells in self._made.items()}
        return {name: int(np.count_nonzero(mask)) for name, mask in masks.items() if mask is not None}

    def read_from(self, name: str) -> list[tuple[Table, str]]:
        others = self._filled_from.get(name, [])
        return [*super().read_from(name), *((self._base, other) for other in others)]


def _filled(table: Table, field: Field, fills: Sequence[Fill]) -> Cells:
    """The cells of a field, filled by one after the other."""
    cells = table.column(field.name)
    cells = Cells(cells.values.cast(field.arrow_type), cells.absent)
    done = np.zeros(table.rows, dtype=bool)
    for fill in fills:
        gaps = gaps_in(cells, fill.gaps)
        others = _others(table, fill, field, cells, gaps)
        now = gaps & others.is_valid().to_numpy(zero_copy_only=False)
        absent = None if cells.absent is None else cells.absent & ~now
        cells = Cells(pc.if_else(pa.array(now), others, cells.values), absent)
        done |= now
    return Cells(cells.values, cells.absent, done)


def _others(table: Table, fill: Fill, field: Field, cells: Cells, gaps: IndexVector) -> pa.Array:
    """What stands in each row for a gap."""
    if fill.how is FillWith.VALUE:
        value = read_as([fill.of], field.type, field.name).cast(field.arrow_type)[0]
        return pa.repeat(value, table.rows)
    if fill.how is FillWith.FIELD:
        return table.column(fill.of).values.cast(field.arrow_type)
    rows = np.arange(table.rows)
    usable = ~gaps & cells.values.is_valid().to_numpy(zero_copy_only=False)
    if fill.how is FillWith.BEFORE:
        nearest = np.maximum.accumulate(np.where(usable, rows, -1))
    else:
        nearest = np.minimum.accumulate(np.where(usable, rows, table.rows)[::-1])[::-1]
    known = (nearest >= 0) & (nearest < table.rows)
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
