"""Puts something where a cell is blank or without partner: a value, another field, or a neighbour's value."""

from __future__ import annotations

import enum
from collections.abc import Sequence

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.conversion import read_as, type_of_text
from keen_trellis.core.derived import row_batches
from keen_trellis.core.errors import UsageError
from keen_trellis.core.match import index_type
from keen_trellis.core.table import (
    Cells,
    ChosenRows,
    Field,
    Gathered,
    IndexVector,
    Mask,
    Rows,
    SameRows,
    Table,
    find_field,
    holding_both,
    looked_up,
    row_numbers,
)
from keen_trellis.core.task import Task
from keen_trellis.core.values import held_as


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


class Fill(msgspec.Struct, frozen=True):
    """How the gaps of some fields are filled.

    fields: their names.  of: the value as text, or the name of the other field.
    """

    fields: tuple[str, ...]
    how: FillWith = FillWith.VALUE
    of: str = ""
    gaps: Gaps = Gaps.BOTH


class FilledTable(SameRows):
    """The same rows with gaps filled, those left out that are to be.

    Several fills may name one field: a later one finds the gaps that are left. Cells are filled when they are
    asked for; what is kept is which row's value stands in a gap that a neighbour fills.
    counts: by field how many cells are filled.  still_open: by field how many gaps are left: of what is
    filled those of either kind, of the others the cells without partner, which a knot has made.
    """

    def __init__(self, table: Table, fills: Sequence[Fill], task: Task | None = None) -> None:
        task = task or Task()
        fields = filled_fields(table.fields, fills)
        for done, fill in enumerate(fills):
            if fill.how is FillWith.LEAVE_OUT:
                task.checkpoint(done, len(fills), "leaving out rows with gaps")
                table = without_gaps(table, fill)
        super().__init__(table, fields)
        self._fills = {
            field.name: own
            for field in self.fields
            if (own := [f for f in fills if field.name in f.fields and f.how is not FillWith.LEAVE_OUT])
        }
        self._nearest: dict[tuple[str, int], IndexVector] = {}
        self.counts = dict.fromkeys(self._fills, 0)
        self.still_open = dict.fromkeys(self._fills, 0)
        for done, (name, own) in enumerate(self._fills.items()):
            task.checkpoint(done, len(self._fills), f"filling {name}")
            for number, fill in enumerate(own):
                if fill.how in (FillWith.BEFORE, FillWith.AFTER):
                    self._nearest[name, number] = self._nearest_filled(name, number, fill, task)
            self._count(name, task)
        others = [name for name in self.names if name not in self._fills]
        self.still_open |= cells_without_partner(self, others, task)

    def take(self, rows: Rows | None, names: Sequence[str]) -> list[Cells]:
        found = [self.field(name).name for name in names]
        plain = [name for name in found if name not in self._fills]
        read = dict(zip(plain, self._base.take(rows, plain), strict=True)) if plain else {}
        chosen = row_numbers(rows, self.rows)
        return [
            read[name] if name in read else self._filled(name, len(self._fills[name]), chosen)
            for name in found
        ]

    def absent(self, rows: Rows, names: Sequence[str]) -> list[Mask | None]:
        return self._absent_in_base(rows, names, lambda name: name not in self._fills)

    def read_from(self, name: str) -> list[tuple[Table, str]]:
        others = [fill.of for fill in self._fills.get(name, ()) if fill.how is FillWith.FIELD]
        return [(self._base, own) for own in (name, *others)]

    def gathered(self) -> list[Gathered]:
        return self._gathered_in_base({name: name for name in self.names if name not in self._fills})

    def _filled(self, name: str, stage: int, rows: IndexVector) -> Cells:
        """Cells of a field after the first `stage` of its fills."""
        field = self.field(name)
        if stage == 0:
            cells = self._base.take(rows, [name])[0]
            return Cells(
                held_as(cells.values, field.arrow_type), cells.absent, np.zeros(len(rows), dtype=bool)
            )
        cells = self._filled(name, stage - 1, rows)
        fill = self._fills[name][stage - 1]
        others = self._others(field, stage, fill, rows)
        now = gaps_in(cells, fill.gaps) & (rows >= 0) & others.is_valid().to_numpy(zero_copy_only=False)
        absent = None if cells.absent is None else cells.absent & ~now
        assert cells.filled is not None
        return Cells(
            pc.if_else(pa.array(now), others, cells.values),
            absent if absent is not None and absent.any() else None,
            cells.filled | now,
        )

    def _others(self, field: Field, stage: int, fill: Fill, rows: IndexVector) -> pa.Array:
        """What stands in each row for a gap."""
        if fill.how is FillWith.VALUE:
            value = held_as(read_as([fill.of], field.type, field.name), field.arrow_type)[0]
            return pa.repeat(value, len(rows))
        if fill.how is FillWith.FIELD:
            return held_as(self._base.take(rows, [fill.of])[0].values, field.arrow_type)
        near = looked_up(self._nearest[field.name, stage - 1], rows)
        return self._filled(field.name, stage - 1, near).values

    def _nearest_filled(self, name: str, number: int, fill: Fill, task: Task) -> IndexVector:
        """For each row the nearest one before or after it, itself included, that has a value; -1 for none."""
        rows = np.arange(self.rows, dtype=index_type(self.rows))
        usable = [
            self._filled(name, number, rows[part.start : part.stop])
            .values.is_valid()
            .to_numpy(zero_copy_only=False)
            for part in row_batches(self, task, f"filling {name}")
        ]
        held = np.concatenate([np.zeros(0, dtype=bool), *usable])
        if fill.how is FillWith.BEFORE:
            return np.maximum.accumulate(np.where(held, rows, -1)) if self.rows else rows
        after = np.minimum.accumulate(np.where(held, rows, self.rows)[::-1])[::-1] if self.rows else rows
        return np.where(after < self.rows, after, -1)

    def _count(self, name: str, task: Task) -> None:
        for part in row_batches(self, task, f"filling {name}"):
            cells = self._filled(name, len(self._fills[name]), np.arange(part.start, part.stop))
            self.counts[name] += int(np.count_nonzero(cells.filled)) if cells.filled is not None else 0
            self.still_open[name] += int(np.count_nonzero(gaps_in(cells, Gaps.BOTH)))


def cells_without_partner(table: Table, names: Sequence[str], task: Task) -> dict[str, int]:
    """How many cells have no partner, by field, of those that have such cells."""
    counts = dict.fromkeys(names, 0)
    for part in row_batches(table, task, "counting open cells") if names else ():
        for name, mask in zip(names, table.absent(part, names), strict=True):
            counts[name] += 0 if mask is None else int(np.count_nonzero(mask))
    return {name: count for name, count in counts.items() if count}


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
            if fill.how is FillWith.VALUE and not fill.of:
                raise UsageError(
                    f"There is no value to fill {name} with.", remedy="Say which one, or fill it otherwise."
                )
            if fill.how is FillWith.VALUE:
                kind = type_of_text(fill.of) if made[name].untyped else field.type
                other = Field(fill.of, read_as([fill.of], kind, name).type)
            elif fill.how is FillWith.FIELD:
                other = find_field(fields, fill.of)
            else:
                continue
            both = holding_both(made[name], other)
            if both is None:
                raise UsageError(
                    f"{fill.of} is {other.type.value} and {name} is {field.type.value}.",
                    remedy="Fill it with a field of the same type.",
                )
            made[name] = both
    return tuple(made.values())


def without_gaps(table: Table, fill: Fill) -> ChosenRows:
    """The rows of a table in which none of a fill's fields has a gap."""
    whole = np.ones(table.rows, dtype=bool)
    for cells in table.take(None, fill.fields):
        whole &= ~gaps_in(cells, fill.gaps)
    return ChosenRows(table, np.flatnonzero(whole))
