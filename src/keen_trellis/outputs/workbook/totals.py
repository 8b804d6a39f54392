"""The row of totals below the rows of a sheet: a formula for each number, with what it comes to now."""

from __future__ import annotations

import re
from collections.abc import Sequence
from decimal import Decimal

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
    sums = _sums(table, [field.name for field in table.fields if field.type.is_number], task)
    cells = []
    for place, column in enumerate(columns):
        field = column.field
        if field is None:
            continue
        if field.type.is_number:
            letters = column_letters(column.number)
            summed = f"{named}[{_quoted(field.name)}]" if named else f"{letters}{first}:{letters}{last}"
            formula = f"SUBTOTAL({_SUM_OF_SHOWN},{escaped_text(summed)})"
            value = f"<{prefix}v>{sums[field.name]}</{prefix}v>"
            style = f' s="{column.style}"' if column.style else ""
            where = cell_name(last + 1, column.number)
            cells.append(f'<{prefix}c r="{where}"{style}><{prefix}f>{formula}</{prefix}f>{value}</{prefix}c>')
        elif place == 0:
            cells.append(text_cell(last + 1, column.number, TOTAL, 0, prefix))
    return "".join(cells)


def _sums(table: Table, names: Sequence[str], task: Task) -> dict[str, str]:
    """What fields come to, as a cell holds it, by name."""
    parts: dict[str, list[Decimal | float]] = {name: [] for name in names}
    for batch in table.batches(names) if names else ():
        task.checkpoint(0, 0, "adding up")
        for name, cells in zip(names, batch, strict=True):
            total = _sum(cells.values)
            if total is not None:
                parts[name].append(total)
    totals = pa.array([float(sum(found[1:], found[0])) if found else 0.0 for found in parts.values()])
    return dict(zip(names, as_text(totals).to_pylist(), strict=True))


def _sum(values: pa.Array) -> Decimal | float | None:
    kind = pa.float64() if pa.types.is_floating(values.type) else pa.decimal256(70, _scale(values.type))
    found: Decimal | float | None = pc.sum(values.cast(kind)).as_py()
    return found


def _scale(kind: pa.DataType) -> int:
    return kind.scale if pa.types.is_decimal(kind) else 0


def _quoted(name: str) -> str:
    """The name of a column as a formula has it."""
    return re.sub(r"([\[\]#'])", r"'\1", name)
