"""One row a group: rows of equal keys become one, with measures of them."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np

from keen_trellis.core.encoding import numbered
from keen_trellis.core.errors import UsageError
from keen_trellis.core.hashing import own_codes
from keen_trellis.core.link import Preparation, value_of
from keen_trellis.core.match import first_of_codes, index_type
from keen_trellis.core.measures import Groups, Measure, measured
from keen_trellis.core.ordering import in_order
from keen_trellis.core.parallel import gathered
from keen_trellis.core.preparing import prepare
from keen_trellis.core.table import (
    Cells,
    Field,
    IndexVector,
    OverlaidTable,
    RowOrigin,
    Rows,
    Table,
    looked_up,
    row_numbers,
    taken,
)
from keen_trellis.core.task import Task


class Key(msgspec.Struct, frozen=True):
    """What rows are grouped by: a field's name or an expression, prepared as links are."""

    text: str
    preparation: Preparation = msgspec.field(default_factory=Preparation)


class SummaryTable(Table):
    """Groups in order of first appearance: the raw key values of their first rows, and measures.

    no_partner: by measure, how many rows had none in what was measured.
    """

    def __init__(
        self,
        table: Table,
        keys: Sequence[Key],
        measures: Sequence[Measure],
        task: Task | None = None,
    ) -> None:
        task = task or Task()
        task.checkpoint(0, 0, "grouping rows")
        self.groups = grouped(table, keys)
        self._table = table
        self.fields = summary_fields(table.fields, keys, measures)
        self.rows = self.groups.size
        self.first_rows: IndexVector = first_of_codes(self.groups.codes, self.rows)
        # Of all rows together there may be none.
        self.first_rows[self.first_rows == table.rows] = -1
        self._made: dict[str, Cells] = {}
        texts = [key.text for key in keys] + [measure.expression for measure in measures]
        self._reads = {
            entry.name: value_of(text, table.fields).names
            for entry, text in zip(self.fields, texts, strict=True)
            if text
        }
        for entry, key in zip(self.fields, keys, strict=False):
            found = value_of(key.text, table.fields)
            if not found.is_field:
                self._made[entry.name] = Cells(found.column(table, self.first_rows))
        self.no_partner: dict[str, int] = {}
        for done, measure in enumerate(measures):
            task.checkpoint(done, len(measures), measure.name)
            self._made[measure.name], self.no_partner[measure.name] = measured(table, self.groups, measure)

    def keys_only(self) -> Table:
        """The groups without their measures."""
        return OverlaidTable(self, [entry for entry in self.fields if entry.name not in self.no_partner], {})

    def take(self, rows: Rows | None, names: Sequence[str]) -> list[Cells]:
        found = [self.field(name).name for name in names]
        chosen = row_numbers(rows, self.rows)
        plain = [name for name in found if name not in self._made]
        at = looked_up(self.first_rows, chosen)
        from_table = dict(zip(plain, self._table.take(at, plain), strict=True)) if plain else {}
        return [from_table[name] if name in from_table else taken(self._made[name], chosen) for name in found]

    def origins(self, row: int) -> tuple[RowOrigin, ...]:
        first = int(self.first_rows[row])
        return self._table.origins(first) if first >= 0 else ()

    def parents(self, row: int) -> list[tuple[Table, IndexVector]]:
        return [(self._table, np.flatnonzero(self.groups.codes == row))]

    def read_from(self, name: str) -> list[tuple[Table, str]]:
        return [(self._table, own) for own in self._reads.get(name, ())]

    def rows_from(self, source: Table, rows: IndexVector) -> IndexVector:
        if self is source:
            return rows
        return np.unique(self.groups.codes[self._table.rows_from(source, rows)])


def summary_fields(
    fields: Sequence[Field], keys: Sequence[Key], measures: Sequence[Measure]
) -> tuple[Field, ...]:
    """The fields that a summary has, without looking at a row."""
    made = []
    for key in keys:
        found = value_of(key.text, fields)
        own = next((entry for entry in fields if entry.name == key.text), None)
        made.append(own or Field(key.text, found.arrow_type, untyped=found.untyped))
    return each_once((*made, *(measure.field(fields) for measure in measures)))


def each_once(fields: Sequence[Field]) -> tuple[Field, ...]:
    """The fields; UsageError if two of them are called the same."""
    seen: set[str] = set()
    for entry in fields:
        if entry.name in seen:
            raise UsageError(f"There are two fields “{entry.name}”.", remedy="Give the measure another name.")
        seen.add(entry.name)
    return tuple(fields)


def grouped(table: Table, keys: Sequence[Key]) -> Groups:
    """The group of each row, numbered in order of first appearance; a blank and no partner are one value."""
    if not keys:
        return Groups(np.zeros(table.rows, np.int32), 1)  # all rows together, also where there are none
    return _by_first_appearance(*coded_by(table, keys))


def coded_by(table: Table, keys: Sequence[Key]) -> tuple[IndexVector, int]:
    """Codes of the rows by one key at least, the same for the same values, below a size; not all are used."""
    codes: IndexVector = np.zeros(table.rows, np.int32)
    size = 1
    for key in keys:
        prepared = prepare(value_of(key.text, table.fields).cells(table), key.preparation)
        more, count = numbered(prepared)
        if size == 1:
            codes, size = more, count
        else:
            # Numbered anew, so that the next combination finds small numbers again.
            codes, size = own_codes(codes.astype(np.int64) * count + more)
    return codes, size


def _by_first_appearance(codes: IndexVector, size: int) -> Groups:
    first = first_of_codes(codes, size)
    used = np.flatnonzero(first < len(codes))
    number = np.zeros(size, dtype=index_type(size))
    number[used[in_order(first[used])]] = np.arange(len(used))
    return Groups(gathered(number, codes), len(used))
