"""Tables: named, typed columns over Arrow arrays, read by `take` and by batches, with row origins."""

from __future__ import annotations

import bisect
import difflib
from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.errors import UnknownFieldError
from keen_trellis.core.ordering import among
from keen_trellis.core.values import FieldType, common_exact_type, one_array, type_of_arrow

# A vector of row numbers, int32 or int64, from 0; -1 stands for "no row".
IndexVector = np.ndarray[Any, np.dtype[Any]]
Rows = IndexVector | range
Mask = np.ndarray[Any, np.dtype[np.bool_]]

BATCH_ROWS = 65_536
_FEW_ROWS = 8_192
_SHARE = 8  # of the rows: with fewer, chunks are looked up one by one
_STRETCH = 2  # times as many rows at most in a stretch that is copied for those wanted


class Field(msgspec.Struct, frozen=True):
    """A column's name and type.

    origin: the id of the source step it came from, "" if none.  table: the name of the table from which a
    join took it, "" before the first.  untyped: no row has a value, so that it has no type yet: it is held as
    `arrow_type`, and takes the type of whatever it meets.
    """

    name: str
    arrow_type: pa.DataType
    origin: str = ""
    table: str = ""
    untyped: bool = False

    @property
    def type(self) -> FieldType:
        return type_of_arrow(self.arrow_type)


class Cells(msgspec.Struct, frozen=True):
    """Cells of one column: values (null is blank) and, where a join found no partner, a mask.

    values: Arrow array of n cells.  absent, filled: bool vectors of length n, or None if no cell is; filled
    ones were blank or without partner before a fill step.
    """

    values: pa.Array
    absent: Mask | None = None
    filled: Mask | None = None


class RowOrigin(msgspec.Struct, frozen=True):
    """Where one row stands: the file, the sheet or table in it, and its row number there, from 1."""

    file: str
    table: str
    row: int

    def __str__(self) -> str:
        parts = [self.file] + ([self.table] if self.table else []) + [f"row {self.row:,}"]
        return ", ".join(parts)


class Gathered(msgspec.Struct, frozen=True, eq=False):
    """Fields whose cells are just those of another table, as often as its rows stand here.

    table: that table.  names: what each of the fields is called in it.  rows: its row for each of some rows
    here, -1 for none.
    """

    table: Table
    names: Mapping[str, str]
    rows: Callable[[Rows], IndexVector]

    def within(self, names: Mapping[str, str], rows: Callable[[Rows], IndexVector]) -> Gathered:
        """The same of a table made of the one here. names: what the fields of that one are called here;
        rows: the row here for each of some of its rows.
        """
        known = {name: self.names[own] for name, own in names.items() if own in self.names}
        return Gathered(self.table, known, lambda wanted: self.rows(rows(wanted)))


def row_numbers(rows: Rows | None, count: int) -> IndexVector:
    """The numbers of the rows that are asked for; None: all `count` of them."""
    if rows is None:
        return np.arange(count)
    return np.arange(rows.start, rows.stop) if isinstance(rows, range) else rows


def looked_up(numbers: IndexVector, rows: IndexVector) -> IndexVector:
    """The numbers that stand at `rows`, -1 where a row is -1; costs what is looked up, not what there is."""
    if not len(numbers):
        return np.full(len(rows), -1)
    return np.where(rows < 0, -1, numbers[np.maximum(rows, 0)])


def spread_rows(rows: int, most: int) -> IndexVector:
    """The numbers of up to `most` rows, spread from the first to the last."""
    return np.unique(np.linspace(0, max(rows - 1, 0), min(most, rows)).astype(np.int64))


def holding_both(field: Field, other: Field) -> Field | None:
    """`field` with the type that holds its values and those of `other` exactly, None if there is none.

    One without a type yet takes the other's.
    """
    if field.untyped or other.untyped:
        typed = other if field.untyped and not other.untyped else field
        return msgspec.structs.replace(field, arrow_type=typed.arrow_type, untyped=typed.untyped)
    common = common_exact_type(field.arrow_type, other.arrow_type)
    return None if common is None else msgspec.structs.replace(field, arrow_type=common)


class Table(ABC):
    """Rows of named, typed fields. Cells are handed out only by `take` and by batches."""

    fields: tuple[Field, ...]
    rows: int

    @abstractmethod
    def take(self, rows: Rows | None, names: Sequence[str]) -> list[Cells]:
        """The cells of `names` at `rows` (all rows: None). A row of -1 gives cells without partner."""

    def absent(self, rows: Rows, names: Sequence[str]) -> list[Mask | None]:
        """For each of `names` which of `rows` have no partner in it; None if none has. No value is gathered
        where the table can tell without.
        """
        return [cells.absent for cells in self.take(rows, names)]

    @abstractmethod
    def origins(self, row: int) -> tuple[RowOrigin, ...]:
        """Where row `row` came from, one origin for each source that gave it a part."""

    def parents(self, row: int) -> list[tuple[Table, IndexVector]]:
        """The tables that row `row` is made of, and their rows that made it; none for a table of its own."""
        return []

    @property
    def identity(self) -> int:
        """What tells the values of this table from those of others in memory; twins have the same."""
        return id(self)

    def read_from(self, name: str) -> list[tuple[Table, str]]:
        """The fields of the tables that this one is made of from which a field is read."""
        return []

    def gathered(self) -> list[Gathered]:
        """The tables with rows of their own number whose cells stand here as they are, each field in one."""
        return []

    def rows_from(self, source: Table, rows: IndexVector) -> IndexVector:
        """The rows here that some rows of `source`, directly or through other tables, are part of, in
        order.
        """
        return rows if self is source else np.zeros(0, np.int64)

    def known_distinct(self, name: str) -> int | None:
        """How many distinct values a field has, blanks aside, where that was counted before."""
        return None

    @property
    def names(self) -> tuple[str, ...]:
        return self._by_name[0]

    @property
    def _by_name(self) -> tuple[tuple[str, ...], dict[str, Field]]:
        """The names in order, and the fields by them: made once, since a table may have thousands."""
        known = self.__dict__.get("_named")
        if known is None or known[0] is not self.fields:
            by_name = {field.name: field for field in self.fields}
            known = self.__dict__["_named"] = (
                self.fields,
                (tuple(field.name for field in self.fields), by_name),
            )
        found: tuple[tuple[str, ...], dict[str, Field]] = known[1]
        return found

    def column(self, name: str) -> Cells:
        """All cells of one field."""
        return self.take(None, [name])[0]

    def field(self, name: str) -> Field:
        """The field called `name`; UnknownFieldError, naming its nearest neighbours, if there is none."""
        found = self._by_name[1].get(name)
        return find_field(self.fields, name) if found is None else found

    def batches(self, names: Sequence[str], size: int = BATCH_ROWS) -> Iterator[list[Cells]]:
        """The cells of `names`, `size` rows at a time, from the first row to the last."""
        for start in range(0, self.rows, size):
            yield self.take(range(start, min(start + size, self.rows)), names)


def fields_behind(table: Table, name: str) -> Iterator[tuple[Table, str, bool]]:
    """A field and all that it is read from, each with its table, once, and whether it is read from none."""
    waiting, seen = [(table, name)], set()
    while waiting:
        node = waiting.pop()
        if node not in seen:
            seen.add(node)
            before = node[0].read_from(node[1])
            waiting += before
            yield *node, not before


def find_field(fields: Sequence[Field], name: str, table: str = "the table") -> Field:
    """The field of `fields` called `name`; UnknownFieldError with its nearest neighbours if there is none."""
    for field in fields:
        if field.name == name:
            return field
    known = [field.name for field in fields]
    near = difflib.get_close_matches(name, known, n=3, cutoff=0.5)
    hint = f"Did you mean {' or '.join(near)}?" if near else f"It has: {', '.join(known[:12])}."
    raise UnknownFieldError(name, table, near=tuple(near), remedy=hint)


class ArrowTable(Table):
    """A table held in Arrow arrays, in memory or memory-mapped.

    data: the columns; several chunks stay apart, so that mapped ones are not copied.  file, table: where its
    rows stand.  untyped: fields without a value whose type nobody has said.

    row_numbers: for each row its number there, or the number of the first row where they follow
    each other without a gap.  stretches: where its rows come from several files, the first row and the
    file of each.
    """

    def __init__(
        self,
        data: pa.Table,
        *,
        file: str = "",
        table: str = "",
        row_numbers: IndexVector | int = 1,
        stretches: Sequence[tuple[int, str]] = (),
        origin: str = "",
        untyped: Collection[str] = (),
    ) -> None:
        self._columns = {name: _unwrapped(data.column(name)) for name in data.column_names}
        self._file, self._table, self._row_numbers = file, table, row_numbers
        self._distinct: dict[str, int] = {}
        self._stretches = tuple(stretches)
        self.fields = tuple(
            Field(name, column.type, origin, untyped=name in untyped)
            for name, column in self._columns.items()
        )
        self.rows = data.num_rows

    @staticmethod
    def without_values(data: pa.Table) -> list[str]:
        """The names of the columns that are blank throughout, or have no rows."""
        return [name for name in data.column_names if data.column(name).null_count == data.num_rows]

    def with_origin(self, origin: str) -> ArrowTable:
        """The same table, its fields said to come from the source step `origin`; nothing is copied."""
        twin = object.__new__(ArrowTable)
        twin.__dict__.update(self.__dict__)
        twin.fields = tuple(msgspec.structs.replace(field, origin=origin) for field in self.fields)
        return twin

    @property
    def identity(self) -> int:
        return id(self._columns)

    def known_distinct(self, name: str) -> int | None:
        return self._distinct.get(name)

    def know_distinct(self, name: str, count: int) -> None:
        """Keep how many distinct values a field has, for all twins of this table."""
        self._distinct[name] = count

    def take(self, rows: Rows | None, names: Sequence[str]) -> list[Cells]:
        columns = [self._columns[self.field(name).name] for name in names]
        if rows is None:
            return [Cells(one_array(column)) for column in columns]
        if isinstance(rows, range):
            return [Cells(one_array(column.slice(rows.start, len(rows)))) for column in columns]
        nowhere = rows < 0
        absent = nowhere if nowhere.any() else None
        near = _stretch_of(rows, absent)
        if near is not None:
            # Rows that lie close together are gathered from their stretch alone, which may be what is wanted.
            within = rows - near.start
            alone = absent is None and len(near) == len(rows) and bool((np.diff(rows) == 1).all())
            stretches = (one_array(column.slice(near.start, len(near))) for column in columns)
            if alone:
                return [Cells(stretch) for stretch in stretches]
            return [Cells(stretch.take(pa.array(within, mask=absent)), absent) for stretch in stretches]
        return [Cells(_taken_from(column, rows, absent), absent) for column in columns]

    def absent(self, rows: Rows, names: Sequence[str]) -> list[Mask | None]:
        nowhere = None if isinstance(rows, range) or not (rows < 0).any() else rows < 0
        return [nowhere] * len(names)

    def origins(self, row: int) -> tuple[RowOrigin, ...]:
        if isinstance(self._row_numbers, int):
            number = self._row_numbers + row
        else:
            number = int(self._row_numbers[row])
        file = self._file
        if self._stretches:
            file = self._stretches[bisect.bisect_right(self._stretches, row, key=lambda entry: entry[0]) - 1][
                1
            ]
        return (RowOrigin(file, self._table, number),)


def _stretch_of(rows: IndexVector, absent: Mask | None) -> range | None:
    """The stretch of rows in which all of these lie, if that has not many more."""
    present = rows if absent is None else rows[~absent]
    if not len(present):
        return None
    first, last = int(present.min()), int(present.max())
    return range(first, last + 1) if last - first < _STRETCH * len(rows) else None


def _taken_from(
    column: pa.Array | pa.ChunkedArray, rows: IndexVector, absent: IndexVector | None
) -> pa.Array:
    """The cells at `rows`, null where absent."""
    if not isinstance(column, pa.ChunkedArray) or len(rows) > max(_FEW_ROWS, len(column) // _SHARE):
        return one_array(column.take(pa.array(rows, mask=absent)))
    if not column.num_chunks:
        return pa.nulls(len(rows), column.type)
    # Arrow's own take would first make one array of all chunks: for a few of the rows that is far too much.
    ends = np.cumsum([len(chunk) for chunk in column.chunks])
    # Where no row is asked for, any chunk will do; there may be no row at all.
    chunk_of = np.minimum(np.searchsorted(ends, np.maximum(rows, 0), side="right"), len(ends) - 1)
    parts, places = [], []
    for number in np.unique(chunk_of).tolist():
        here = np.flatnonzero(chunk_of == number)
        first = int(ends[number]) - len(column.chunk(number))
        mask = None if absent is None else absent[here]
        parts.append(column.chunk(number).take(pa.array(np.maximum(rows[here], 0) - first, mask=mask)))
        places.append(here)
    if not parts:
        return pa.nulls(0, column.type)
    back = np.empty(len(rows), np.int64)
    back[np.concatenate(places)] = np.arange(len(rows))
    return pa.concat_arrays(parts).take(pa.array(back))


def _unwrapped(column: pa.ChunkedArray) -> pa.Array | pa.ChunkedArray:
    return column.chunk(0) if column.num_chunks == 1 else column


class ChosenRows(Table):
    """Some rows of a table, in the order in which they are named; nothing is copied."""

    def __init__(self, table: Table, rows: IndexVector) -> None:
        self._table, self._rows = table, rows
        self.fields, self.rows = table.fields, len(rows)

    @property
    def chosen(self) -> IndexVector:
        """The rows of the other table, in their order here."""
        return self._rows

    def take(self, rows: Rows | None, names: Sequence[str]) -> list[Cells]:
        return self._table.take(self._rows if rows is None else self._rows_of(rows), names)

    def absent(self, rows: Rows, names: Sequence[str]) -> list[Mask | None]:
        return self._table.absent(self._rows_of(rows), names)

    def origins(self, row: int) -> tuple[RowOrigin, ...]:
        return self._table.origins(int(self._rows[row]))

    def parents(self, row: int) -> list[tuple[Table, IndexVector]]:
        return [(self._table, self._rows[row : row + 1])]

    def read_from(self, name: str) -> list[tuple[Table, str]]:
        return [(self._table, name)]

    def gathered(self) -> list[Gathered]:
        same = {name: name for name in self.names}
        return [entry.within(same, self._rows_of) for entry in self._table.gathered()]

    def _rows_of(self, rows: Rows) -> IndexVector:
        """The row of the other table for each of some rows."""
        return self._rows[rows.start : rows.stop] if isinstance(rows, range) else looked_up(self._rows, rows)

    def rows_from(self, source: Table, rows: IndexVector) -> IndexVector:
        if self is source:
            return rows
        return np.flatnonzero(among(self._rows, self._table.rows_from(source, rows)))


class SameRows(Table):
    """A table each row of which is the same row of another one; what its fields are is its own affair."""

    def __init__(self, base: Table, fields: Sequence[Field]) -> None:
        self._base, self.fields, self.rows = base, tuple(fields), base.rows

    def _absent_in_base(
        self, rows: Rows, names: Sequence[str], plain: Callable[[str], bool]
    ) -> list[Mask | None]:
        """As `absent`, asked of the base table for the fields that are its own."""
        own, others = [name for name in names if plain(name)], [name for name in names if not plain(name)]
        told = dict(zip(own, self._base.absent(rows, own), strict=True)) if own else {}
        made = dict(zip(others, self.take(rows, others), strict=True)) if others else {}
        return [told[name] if name in told else made[name].absent for name in names]

    def _gathered_in_base(self, names: Mapping[str, str]) -> list[Gathered]:
        """As `gathered`, of fields that are the base table's. names: what they are called there."""
        return [
            entry.within(names, lambda rows: row_numbers(rows, self.rows)) for entry in self._base.gathered()
        ]

    def origins(self, row: int) -> tuple[RowOrigin, ...]:
        return self._base.origins(row)

    def parents(self, row: int) -> list[tuple[Table, IndexVector]]:
        return [(self._base, np.array([row]))]

    def rows_from(self, source: Table, rows: IndexVector) -> IndexVector:
        return rows if self is source else self._base.rows_from(source, rows)


class OverlaidTable(SameRows):
    """A table with columns of its own beside or in place of those of another one.

    reads: by the name of such a column the fields of the other table that it is made of, where these are
    others than that of its name.
    """

    def __init__(
        self,
        base: Table,
        fields: Sequence[Field],
        made: Mapping[str, Cells],
        reads: Mapping[str, tuple[str, ...]] | None = None,
    ) -> None:
        super().__init__(base, fields)
        self._made, self._reads = dict(made), dict(reads or {})

    def take(self, rows: Rows | None, names: Sequence[str]) -> list[Cells]:
        found = [self.field(name).name for name in names]
        plain = [name for name in found if name not in self._made]
        read = dict(zip(plain, self._base.take(rows, plain), strict=True)) if plain else {}
        chosen = row_numbers(rows, self.rows)
        return [read[name] if name in read else taken(self._made[name], chosen) for name in found]

    def absent(self, rows: Rows, names: Sequence[str]) -> list[Mask | None]:
        return self._absent_in_base(rows, names, lambda name: name not in self._made)

    def read_from(self, name: str) -> list[tuple[Table, str]]:
        own = (name,) if name in self._base.names else ()
        return [(self._base, read) for read in self._reads.get(name, own)]

    def gathered(self) -> list[Gathered]:
        return self._gathered_in_base({name: name for name in self.names if name not in self._made})


def taken(cells: Cells, rows: IndexVector) -> Cells:
    """The cells at `rows`, without partner at -1."""
    nowhere = rows < 0
    if not len(cells.values):
        return Cells(pa.nulls(len(rows), cells.values.type), np.ones(len(rows), dtype=bool))
    values = cells.values.take(pa.array(rows, mask=nowhere))
    absent = nowhere if cells.absent is None else nowhere | cells.absent[np.maximum(rows, 0)]
    filled = None if cells.filled is None else cells.filled[np.maximum(rows, 0)] & ~nowhere
    return Cells(values, absent if absent.any() else None, filled)
