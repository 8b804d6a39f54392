"""Columns to rows: of each row one for each of some fields, with the field's name and its cell."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.derived import Derived, DerivedTable
from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.joining import check_rows
from keen_trellis.core.stacking import StackedField, StackedTable, plan_stack
from keen_trellis.core.table import Cells, ChosenRows, Field, Table, find_field
from keen_trellis.core.task import Task
from keen_trellis.core.text_actions import check_new
from keen_trellis.core.values import ARROW_TYPES, FieldType

_TEXT = ARROW_TYPES[FieldType.TEXT]


def unpivoted_fields(fields: Sequence[Field], of: Sequence[str], name: str, value: str) -> tuple[Field, ...]:
    """The fields of `unpivoted`: in place of the first of those that become rows the two new ones.

    UsageError where that cannot be; DataError where the cells have no common type.
    """
    return tuple(entry.field for entry in unpivoted_plan(fields, of, name, value))


def unpivoted_plan(
    fields: Sequence[Field], of: Sequence[str], name: str, value: str
) -> tuple[StackedField, ...]:
    """The fields of `unpivoted`, and how cells of those that become rows get one type. Errors as there."""
    return _planned(fields, of, name, value)[1]


_Parts = dict[str, tuple[Field, ...]]


def _planned(
    fields: Sequence[Field], of: Sequence[str], name: str, value: str
) -> tuple[_Parts, tuple[StackedField, ...]]:
    """By each field that makes rows the fields of these, and how they become one table."""
    if not of:
        raise UsageError("It is not said which fields become rows.", remedy="Choose them.")
    chosen = [find_field(fields, entry) for entry in of]
    gone = {field.name for field in chosen}
    if len(gone) < len(of):
        raise UsageError("A field would become rows twice.", remedy="Name each field once.")
    others = [field for field in fields if field.name not in gone]
    check_new(others, [name, value])
    first = next(place for place, field in enumerate(fields) if field.name in gone)
    parts = {
        field.name: (
            *others[:first],
            Field(name, _TEXT),
            msgspec.structs.replace(field, name=value),
            *others[first:],
        )
        for field in chosen
    }
    try:
        return parts, plan_stack(list(parts.values()))
    except DataError as error:
        types = dict.fromkeys(field.type.value for field in chosen if not field.untyped)
        raise DataError(
            f"The fields that become rows are {' and '.join(types)}: they cannot be one field.",
            remedy="Give them one type before, or choose others.",
        ) from error


def unpivoted(
    table: Table, of: Sequence[str], name: str, value: str, task: Task, *, blanks: bool = True
) -> ChosenRows:
    """Of each row one for each of some fields, one after the other, in the order in which these are named.

    name, value: the new fields, for what the field was called and for its cell; all others are repeated.
    blanks: whether a cell that is blank makes a row, too. The types are those that a union would have.
    """
    parts, plan = _planned(table.fields, of, name, value)
    check_rows("It", table.rows * len(parts), "Let fewer fields become rows, or filter before it.")
    # A union of the same rows, once with each of the fields, knows the cell that each of its rows is from.
    made = [
        DerivedTable(table, fields, {value: Derived.renamed(own), name: _called(own)})
        for own, fields in parts.items()
    ]
    stacked = StackedTable(made, plan)
    task.checkpoint(0, 2, "columns to rows")
    order = np.arange(stacked.rows).reshape(len(parts), table.rows).T.ravel()
    if not blanks:
        is_there = stacked.column(value).values.is_valid().to_numpy(zero_copy_only=False)
        task.checkpoint(1, 2, "columns to rows")
        order = order[is_there[order]]
    return ChosenRows(stacked, order)


def _called(name: str) -> Derived:
    """A field that says the same in each row."""
    return Derived((), lambda count, _: Cells(pa.repeat(pa.scalar(name, _TEXT), count)))
