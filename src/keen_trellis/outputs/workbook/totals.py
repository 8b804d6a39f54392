"""The row of totals below the rows of a sheet: a formula for each number, with what it comes to now."""

from __future__ import annotations

import re
from collections.abc import Sequence

import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import as_text
from keen_trellis.flow.cell_names import cell_name, column_letters
from keen_trellis.outputs.workbook.book import TOTAL
from keen_trellis.outputs.workbook.cells import Column, escaped_text, text_cell

_SUM_OF_SHOWN = 109  # of SUBTOTAL: a sum that leaves out rows which a filter hides


def totals_cells(
    table: Table, columns: Sequence[Column], first: int, last: int, *, named: str, prefix: str, task: Task
) -> str:
    """The cells of a row of totals below the rows from `first` to `last`.

    named: what their table is called, "" if they are none.
    """
    cells = []
    for place, column in enumerate(columns):
        field = column.field
        if field is None:
            continue
        if field.type.is_number:
            letters = column_letters(column.number)
            summed = f"{named}[{_quoted(field.name)}]" if named else f"{letters}{first}:{letters}{last}"
            formula = f"SUBTOTAL({_SUM_OF_SHOWN},{escaped_text(summed)})"
            value = f"<{prefix}v>{_sum(table, field.name, task)}</{prefix}v>"
            style = f' s="{column.style}"' if column.style else ""
            where = cell_name(last + 1, column.number)
            cells.append(f'<{prefix}c r="{where}"{style}><{prefix}f>{formula}</{prefix}f>{value}</{prefix}c>')
        elif place == 0:
            cells.append(text_cell(last + 1, column.number, TOTAL, 0, prefix))
    return "".join(cells)


def _sum(table: Table, name: str, task: Task) -> str:
    sums = []
    for batch in table.batches([name]):
        task.checkpoint(0, 0, "adding up")
        values = batch[0].values
        kind = pa.float64() if pa.types.is_floating(values.type) else pa.decimal256(70, _scale(values.type))
        sums.append(pc.sum(values.cast(kind)))
    found = [entry.as_py() for entry in sums if entry.is_valid]
    total = sum(found[1:], found[0]) if found else 0
    return str(as_text(pa.array([float(total)]))[0].as_py())


def _scale(kind: pa.DataType) -> int:
    return kind.scale if pa.types.is_decimal(kind) else 0


def _quoted(name: str) -> str:
    """The name of a column as a formula has it."""
    return re.sub(r"([\[\]#'])", r"'\1", name)
