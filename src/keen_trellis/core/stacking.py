"""Tables one below the other: a union of all their rows, by name or by position of their fields."""

from __future__ import annotations

import bisect
from collections.abc import Sequence
from functools import reduce

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.joining import check_rows
from keen_trellis.core.table import Cells, Field, IndexVector, Mask, RowOrigin, Rows, Table, row_numbers
from keen_trellis.core.values import (
    ARROW_TYPES,
    FieldType,
    as_text,
    common_exact_type,
    held_as,
    type_of_arrow,
)


class StackedField(msgspec.Struct, frozen=True):
    """A field of a union. of: the field of each table that goes into it, "" where a table lacks it."""

    field: Field
    of: tuple[str, ...]

    @property
    def lacking(self) -> tuple[int, ...]:
        """The numbers of the tables that lack it."""
        return tuple(number for number, name in enumerate(self.of) if not name)


def plan_stack(
    tables: Sequence[Sequence[Field]],
    *,
    by_position: bool = False,
    mixed_as_text: bool = False,
    rail_field: str = "",
) -> tuple[StackedField, ...]:
    """The fields of a union, without looking at a row, in the order in which they first appear.

    mixed_as_text: what has no common type becomes text; otherwise it is a DataError.  rail_field: a field of
    this name says from which table a row is; it is not among those handed back.
    """
    if by_position:
        width = max((len(fields) for fields in tables), default=0)
        columns = [
            tuple(fields[place].name if place < len(fields) else "" for fields in tables)
            for place in range(width)
        ]
    else:
        names = dict.fromkeys(field.name for fields in tables for field in fields)
        known = [{field.name for field in fields} for fields in tables]
        columns = [tuple(name if name in own else "" for own in known) for name in names]
    plan = [_stacked(tables, column, mixed_as_text=mixed_as_text) for column in columns]
    if rail_field and any(entry.field.name == rail_field for entry in plan):
        raise UsageError(
            f"There is a field “{rail_field}” already.",
            remedy="Give the field that names the rail another name.",
        )
    return tuple(plan)


def _stacked(tables: Sequence[Sequence[Field]], of: tuple[str, ...], *, mixed_as_text: bool) -> StackedField:
    own = [
        next(field for field in fields if field.name == name)
        for fields, name in zip(tables, of, strict=True)
        if name
    ]
    first = own[0]
    origin = first.origin if all(field.origin == first.origin for field in own) else ""
    # What has no type yet takes that of the others.
    typed = [field for field in own if not field.untyped]
    kind = reduce(_common, (field.arrow_type for field in typed or own))
    if kind is None:
        if not mixed_as_text:
            said = " and ".join(dict.fromkeys(field.type.value for field in typed))
            raise DataError(
                f"{first.name} is {said}: they cannot be one field.",
                remedy="Give them one type before the union, or let what differs become text.",
            )
        kind = ARROW_TYPES[FieldType.TEXT]
    return StackedField(msgspec.structs.replace(first, arrow_type=kind, origin=origin, untyped=not typed), of)


def _common(one: pa.DataType | None, other: pa.DataType) -> pa.DataType | None:
    if one is None or one == other:
        return one
    found = common_exact_type(one, other)
    kinds = {type_of_arrow(one), type_of_arrow(other)}
    if found is None and FieldType.REAL in kinds and all(kind.is_number for kind in kinds):
        return ARROW_TYPES[FieldType.REAL]  # a sheet's numbers are integer or real, as they happen to be
    return found


class StackedTable(Table):
    """The rows of all tables, those of the first one first."""

    def __init__(
        self,
        tables: Sequence[Table],
        plan: Sequence[StackedField],
        *,
        rail_field: str = "",
        names: Sequence[str] = (),
    ) -> None:
        self._tables, self._rail_field, self._names = tuple(tables), rail_field, tuple(names)
        self._plan = {entry.field.name: entry for entry in plan}
        rail = (Field(rail_field, ARROW_TYPES[FieldType.TEXT]),) if rail_field else ()
        self.fields = (*(entry.field for entry in plan), *rail)
        self._starts: IndexVector = np.concatenate(([0], np.cumsum([table.rows for table in tables]))).astype(
            np.int64
        )
        self.rows = sum(table.rows for table in tables)
        check_rows("The union", self.rows, "Leave a rail out, or filter the rails before it.")

    def take(self, rows: Rows | None, names: Sequence[str]) -> list[Cells]:
        found = [self.field(name).name for name in names]
        chosen = row_numbers(rows, self.rows)
        # Of each row the table it is in, and where it stands once the rows are gathered table by table.
        owner = np.searchsorted(self._starts, chosen, side="right") - 1
        parts = [np.flatnonzero((owner == number) & (chosen >= 0)) for number in range(len(self._tables))]
        nowhere = chosen < 0
        places = np.concatenate([*parts, np.flatnonzero(nowhere)])
        back = np.empty(len(places), np.int64)
        back[places] = np.arange(len(places))
        # Not into tables of which no row is asked for: of one stacked on itself often there are very many.
        taken = [self._part(number, chosen[part], found) for number, part in enumerate(parts) if len(part)]
        absent_rows = int(np.count_nonzero(nowhere))
        made = []
        for column, name in enumerate(found):
            kind = self.field(name).arrow_type
            values = [entry[column].values for entry in taken] + [pa.nulls(absent_rows, kind)]
            masks = [_mask(entry[column]) for entry in taken] + [np.ones(absent_rows, dtype=bool)]
            absent = np.concatenate(masks)[back]
            filled = [_filled(entry[column]) for entry in taken] + [np.zeros(absent_rows, dtype=bool)]
            made.append(
                Cells(
                    pa.concat_arrays(values).take(pa.array(back)),
                    absent if absent.any() else None,
                    np.concatenate(filled)[back] if any(mask.any() for mask in filled) else None,
                )
            )
        return made

    def absent(self, rows: Rows, names: Sequence[str]) -> list[Mask | None]:
        chosen = row_numbers(rows, self.rows)
        made: list[Mask] = [np.array(chosen < 0) for _ in names]
        for number, table in enumerate(self._tables):
            here = np.flatnonzero((chosen >= self._starts[number]) & (chosen < self._starts[number + 1]))
            own = [self._plan[name].of[number] if name in self._plan else "" for name in names]
            wanted = [name for name in dict.fromkeys(own) if name]
            told = table.absent(chosen[here] - self._starts[number], wanted) if wanted and len(here) else []
            masks = dict(zip(wanted, told, strict=False))
            for mask, name in zip(made, own, strict=True):
                found = masks.get(name)
                if found is not None:
                    mask[here] = found
        return [mask if mask.any() else None for mask in made]

    def origins(self, row: int) -> tuple[RowOrigin, ...]:
        number, own = self._at(row)
        return self._tables[number].origins(own)

    def parents(self, row: int) -> list[tuple[Table, IndexVector]]:
        number, own = self._at(row)
        return [(self._tables[number], np.array([own]))]

    def read_from(self, name: str) -> list[tuple[Table, str]]:
        if name not in self._plan:
            return []
        return [(table, own) for table, own in zip(self._tables, self._plan[name].of, strict=True) if own]

    def rows_from(self, source: Table, rows: IndexVector) -> IndexVector:
        if self is source:
            return rows
        known = {id(table): table for table in self._tables}
        own = {key: table.rows_from(source, rows) for key, table in known.items()}
        found = [own[id(table)] + start for table, start in zip(self._tables, self._starts, strict=False)]
        return np.concatenate(found) if found else np.zeros(0, np.int64)

    def _at(self, row: int) -> tuple[int, int]:
        number = bisect.bisect_right(self._starts.tolist(), row) - 1
        return number, row - int(self._starts[number])

    def _part(self, number: int, rows: IndexVector, names: Sequence[str]) -> list[Cells]:
        """Cells of one table's rows, of the union's types."""
        table = self._tables[number]
        own = {name: self._plan[name].of[number] for name in names if name in self._plan}
        wanted = [name for name in dict.fromkeys(own.values()) if name]
        read = (
            dict(zip(wanted, table.take(rows - self._starts[number], wanted), strict=True)) if wanted else {}
        )
        made = []
        for name in names:
            kind = self.field(name).arrow_type
            if name == self._rail_field:
                made.append(Cells(pa.repeat(pa.scalar(self._names[number], kind), len(rows))))
            elif not own[name]:
                made.append(Cells(pa.nulls(len(rows), kind)))
            else:
                cells = read[own[name]]
                made.append(Cells(_held_as(cells.values, kind, name), cells.absent, cells.filled))
        return made


def _held_as(values: pa.Array, kind: pa.DataType, name: str) -> pa.Array:
    if values.type == kind or values.null_count == len(values):
        return held_as(values, kind)
    if kind == ARROW_TYPES[FieldType.TEXT]:
        return as_text(values)
    if type_of_arrow(values.type) is FieldType.DECIMAL and kind == ARROW_TYPES[FieldType.REAL]:
        return values.cast(pa.large_string()).cast(kind)  # Arrow's own cast misrounds
    try:
        return held_as(values, kind)
    except pa.ArrowInvalid as error:
        raise DataError(
            f"{name} has whole numbers that a real cannot hold exactly.",
            remedy="Give it one type before the union, or let what differs become text.",
        ) from error


def _filled(cells: Cells) -> IndexVector:
    return np.zeros(len(cells.values), dtype=bool) if cells.filled is None else cells.filled


def _mask(cells: Cells) -> IndexVector:
    return np.zeros(len(cells.values), dtype=bool) if cells.absent is None else cells.absent
