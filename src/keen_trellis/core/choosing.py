"""Which fields a table has, what they are called, in which order and of which type."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

import msgspec
import pyarrow as pa

from keen_trellis.core.conversion import converted, refitted
from keen_trellis.core.derived import Derived, DerivedTable, row_batches
from keen_trellis.core.errors import UsageError
from keen_trellis.core.table import Field, Table, find_field
from keen_trellis.core.task import Task
from keen_trellis.core.values import ARROW_TYPES, FieldType, held_as

# A decimal that is made of something else has so many places, whatever its values are.
_PLACES = 9
_DECIMAL = pa.decimal128(38, _PLACES)


class Chosen(msgspec.Struct, frozen=True):
    """A field that stays. of: its name before.  name: its new one, or "".  type: its new one, or None."""

    of: str
    name: str = ""
    type: FieldType | None = None

    @property
    def called(self) -> str:
        return self.name or self.of


def chosen_fields(
    fields: Sequence[Field], chosen: Sequence[Chosen], *, others: bool = False, dropped: Sequence[str] = ()
) -> tuple[tuple[Field, Chosen], ...]:
    """The fields that stay, with how each comes from one that there was.

    others: fields that are not named follow behind, except those that are dropped.  UsageError for a field
    that is not there or two of one name.
    """
    made = []
    for entry in chosen:
        field = find_field(fields, entry.of)
        kind = field.arrow_type
        if entry.type is not None and entry.type is not field.type:
            kind = _DECIMAL if entry.type is FieldType.DECIMAL else ARROW_TYPES[entry.type]
        untyped = field.untyped and entry.type is None
        made.append(
            (msgspec.structs.replace(field, name=entry.called, arrow_type=kind, untyped=untyped), entry)
        )
    if others:
        named = {entry.of for entry in chosen} | set(dropped)
        made += [(field, Chosen(field.name)) for field in fields if field.name not in named]
    seen: set[str] = set()
    for field, _ in made:
        if field.name in seen:
            raise UsageError(f"There are two fields “{field.name}”.", remedy="Give one of them another name.")
        seen.add(field.name)
    return tuple(made)


def with_fields(table: Table, plan: Sequence[tuple[Field, Chosen]], task: Task) -> DerivedTable:
    """The table with these fields; counted by field is what could not be converted and is blank now."""
    made: dict[str, Derived] = {}
    lost: dict[str, int] = {}
    for field, entry in plan:
        if field.arrow_type == table.field(entry.of).arrow_type:
            made[field.name] = Derived.renamed(entry.of)
        else:
            made[field.name] = Derived.from_values(entry.of, partial(_converted, field=field))
            count = 0
            for part in row_batches(table, task, f"converting {entry.of}"):
                values = table.take(part, [entry.of])[0].values
                count += _converted(values, field).null_count - values.null_count
            if count:
                lost[field.name] = count
    return DerivedTable(table, [field for field, _ in plan], made, lost)


def _converted(values: pa.Array, field: Field) -> pa.Array:
    if values.null_count == len(values):
        return held_as(values, field.arrow_type)
    found = converted(values, field.type).values
    # What would have to be rounded is lost, as everywhere.
    return (
        found.cast(field.arrow_type)
        if field.type is not FieldType.DECIMAL
        else refitted(found, field.arrow_type)
    )
