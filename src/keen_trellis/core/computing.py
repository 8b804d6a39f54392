"""A field that an expression over the other fields of its row makes."""

from __future__ import annotations

from collections.abc import Sequence

from keen_trellis.core.derived import Derived, DerivedTable, row_batches
from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions.expression import Notes
from keen_trellis.core.link import parsed
from keen_trellis.core.table import Cells, Field, Table
from keen_trellis.core.task import Task

# What there is to count of a computed field.
BLANK, BY_ZERO, NOT_CAST = "blank", "divisions by zero", "failed casts"
OUT_OF_RANGE = "results that are not there, as 30 February"


def computed_fields(fields: Sequence[Field], name: str, expression: str) -> tuple[Field, ...]:
    """The fields with the computed one at the end. UsageError for a name that is taken, or no expression."""
    if not name.strip():
        raise UsageError("The computed field has no name.", remedy="Give it one.")
    if any(field.name == name for field in fields):
        raise UsageError(
            f"There is a field “{name}” already.", remedy="Give the computed field another name."
        )
    found = parsed(expression, fields)
    return (*fields, Field(name, found.arrow_type, untyped=found.untyped))


def computed(table: Table, name: str, expression: str, task: Task) -> DerivedTable:
    """The table with a computed field; counted in all rows are its blanks, and what gave blank on the way."""
    fields = computed_fields(table.fields, name, expression)
    found = parsed(expression, table.fields)
    blanks, notes = 0, Notes()
    for part in row_batches(table, task, f"computing {name}"):
        blanks += found.column(table, part, notes).null_count
    counts = {BLANK: blanks, BY_ZERO: notes.divisions_by_zero, NOT_CAST: notes.failed_casts}
    counts[OUT_OF_RANGE] = notes.out_of_range

    def make(count: int, cells: Sequence[Cells]) -> Cells:
        return Cells(found.of_cells(count, cells))

    made = {name: Derived(found.names, make)}
    return DerivedTable(table, fields, made, {what: number for what, number in counts.items() if number})
