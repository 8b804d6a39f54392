"""What a parsed expression is: a type, the fields that it reads, and a column for the rows of a table."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.table import BATCH_ROWS, Cells, Field, Mask, Rows, Table
from keen_trellis.core.values import FieldType, held_as, type_of_arrow

_BLOCK_ROWS = 16 * BATCH_ROWS


class Notes(msgspec.Struct):
    """What gave blank on the way and wants to be said."""

    divisions_by_zero: int = 0
    failed_casts: int = 0
    out_of_range: int = 0


class RowCells(msgspec.Struct, frozen=True):
    """The rows that an expression is evaluated on: cells by field name, and where to note what failed."""

    count: int
    cells: Mapping[str, Cells]
    notes: Notes

    def values(self, name: str) -> pa.Array:
        return self.cells[name].values

    def absent(self, name: str) -> Mask:
        """Which rows have no partner in the field."""
        mask = self.cells[name].absent
        return np.zeros(self.count, dtype=bool) if mask is None else mask

    def only(self, mask: pa.Array) -> RowCells:
        """The rows for which `mask` is true."""
        chosen = mask.to_numpy(zero_copy_only=False)
        cells = {
            name: Cells(cell.values.filter(mask), None if cell.absent is None else cell.absent[chosen])
            for name, cell in self.cells.items()
        }
        return msgspec.structs.replace(self, count=int(np.count_nonzero(chosen)), cells=cells)


Evaluate = Callable[[RowCells], pa.Array]


@dataclass(frozen=True)
class Node:
    """A part of an expression.

    evaluate: rows to a column of as many values, of just this Arrow type.  literal: its text if it is one.
    """

    arrow_type: pa.DataType
    evaluate: Evaluate = field(compare=False)
    literal: str | None = None

    @property
    def type(self) -> FieldType | None:
        """The field type; None for NULL, which is of any type."""
        return None if pa.types.is_null(self.arrow_type) else type_of_arrow(self.arrow_type)


@dataclass(frozen=True)
class Expression:
    """A parsed expression.

    text: as it was written.  names: the fields that it reads.  is_field: whether it is just one field.
    untyped: it gives blanks only, of whichever type is wanted.
    """

    text: str
    names: tuple[str, ...]
    node: Node = field(compare=False)
    is_field: bool = False
    untyped: bool = False

    @staticmethod
    def of_field(field: Field) -> Expression:
        """The expression that is nothing but a field."""
        node = Node(field.arrow_type, lambda rows: rows.values(field.name))
        return Expression(field.name, (field.name,), node, is_field=True, untyped=field.untyped)

    def held_as(self, arrow_type: pa.DataType) -> Expression:
        """One that gives blanks only, as blanks of another type."""
        return replace(self, node=Node(arrow_type, lambda rows: pa.nulls(rows.count, arrow_type)))

    @property
    def arrow_type(self) -> pa.DataType:
        return self.node.arrow_type

    @property
    def type(self) -> FieldType:
        """The type of its values."""
        return type_of_arrow(self.arrow_type)

    def column(self, table: Table, rows: Rows | None = None, notes: Notes | None = None) -> pa.Array:
        """Its values for `rows` of a table (None: all), blank where it gives none.

        DataError where whole numbers leave 64 bits or decimals 38 digits.
        """
        notes = notes or Notes()
        if rows is None and table.rows > _BLOCK_ROWS:
            starts = range(0, table.rows, _BLOCK_ROWS)
            parts = [range(start, min(start + _BLOCK_ROWS, table.rows)) for start in starts]
            return pa.concat_arrays([self._column(table, part, notes) for part in parts])
        return self._column(table, rows, notes)

    def cells(self, table: Table, notes: Notes | None = None) -> Cells:
        """Its cells in all rows; only a plain field has any without partner."""
        if not self.is_field:
            return Cells(self.column(table, None, notes))
        cells = table.column(self.names[0])
        return msgspec.structs.replace(cells, values=held_as(cells.values, self.arrow_type))

    def of_cells(self, count: int, cells: Sequence[Cells]) -> pa.Array:
        """Its values for `count` rows. cells: those of its fields, in the order of `names`."""
        return self.node.evaluate(RowCells(count, dict(zip(self.names, cells, strict=True)), Notes()))

    def _column(self, table: Table, rows: Rows | None, notes: Notes) -> pa.Array:
        count = table.rows if rows is None else len(rows)
        cells: Sequence[Cells] = table.take(rows, self.names) if self.names else []
        return self.node.evaluate(RowCells(count, dict(zip(self.names, cells, strict=True)), notes))

    def holds(self, table: Table, notes: Notes | None = None) -> Mask:
        """For each row whether the expression, which must be a condition, is true."""
        if self.untyped:
            return np.zeros(table.rows, dtype=bool)
        found = pc.fill_null(self.column(table, None, notes), False)
        return np.asarray(found.to_numpy(zero_copy_only=False), dtype=bool)
