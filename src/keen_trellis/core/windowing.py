"""Numbers that a row has among others: row number, rank, running total, share, the value before and after.

These are SQL's window functions (ISO/IEC 9075-2, 6.10): the rows of a group, in an order, seen from each of
them. The rows themselves stay as they are, and where they are.
"""

from __future__ import annotations

import enum
from collections.abc import Callable, Sequence

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.comparing import reals
from keen_trellis.core.errors import UsageError
from keen_trellis.core.exact_sums import exact, running, words
from keen_trellis.core.link import value_of
from keen_trellis.core.measures import Function, Groups, Measure, Vector, measured
from keen_trellis.core.sorting import SortKey, check_keys, ordered, ranks_of
from keen_trellis.core.summarising import Key, grouped
from keen_trellis.core.table import Cells, Field, IndexVector, OverlaidTable, Table, taken
from keen_trellis.core.task import Task
from keen_trellis.core.text_actions import check_new
from keen_trellis.core.values import ARROW_TYPES, FieldType

_INTEGER, _REAL = ARROW_TYPES[FieldType.INTEGER], ARROW_TYPES[FieldType.REAL]


class Window(enum.Enum):
    """What a row is told; its value is its name in flow files."""

    ROW_NUMBER = "row-number"
    RANK = "rank"
    DENSE_RANK = "dense-rank"
    RUNNING_TOTAL = "running-total"
    SHARE = "share"
    BEFORE = "before"
    AFTER = "after"

    @property
    def needs_value(self) -> bool:
        """Whether it is made of a field or an expression."""
        return self not in (Window.ROW_NUMBER, Window.RANK, Window.DENSE_RANK)

    @property
    def needs_order(self) -> bool:
        """Whether it says nothing without an order."""
        return self in (Window.RANK, Window.DENSE_RANK)


class Windowed(msgspec.Struct, frozen=True):
    """One field more. of: a field or expression, "" where it is made of none.  name: of the new field."""

    window: Window
    of: str
    name: str

    def field(self, fields: Sequence[Field]) -> Field:
        """The field that it gives, without looking at a row. UsageError or DataError if it gives none."""
        if self.window.needs_value != bool(self.of):
            said = "needs something to work on" if self.window.needs_value else "is made of no field"
            raise UsageError(f"{self.name}: {_said(self.window)} {said}.")
        if not self.of:
            return Field(self.name, _INTEGER)
        found = value_of(self.of, fields)
        if self.window in (Window.BEFORE, Window.AFTER):
            return Field(self.name, found.arrow_type, untyped=found.untyped)
        total = Measure(Function.SUM, self.of, self.name).field(fields)
        return (
            total if self.window is Window.RUNNING_TOTAL else Field(self.name, _REAL, untyped=total.untyped)
        )


def _said(window: Window) -> str:
    return window.value.replace("-", " ")


def windowed_fields(
    fields: Sequence[Field], within: Sequence[str], order: Sequence[SortKey], added: Sequence[Windowed]
) -> tuple[Field, ...]:
    """The fields of `windowed`: those of the table, and the new ones behind them.

    UsageError where a name is taken, or a rank has no order.
    """
    for text in within:
        value_of(text, fields)
    check_keys(order, fields)
    made = list(fields)
    for entry in added:
        check_new(made, [entry.name])
        if entry.window.needs_order and not order:
            raise UsageError(
                f"{entry.name}: without an order all rows have the same rank.",
                remedy="Say in which order the rows are ranked.",
            )
        made.append(entry.field(fields))
    return tuple(made)


def windowed(
    table: Table, within: Sequence[str], order: Sequence[SortKey], added: Sequence[Windowed], task: Task
) -> OverlaidTable:
    """The rows of a table with what each of them is among those of its group, seen in an order.

    within: fields or expressions, rows with the same of which are a group; none: all rows are one.  order:
    none: as the rows stand, which is also the order of those that are equal in it. A sum leaves blanks out,
    and is blank as long as there was none but these. Before the first row and after the last there is a
    blank. A share is blank of a blank, and where the total is zero. Cancelled; DataError where a total is too
    large.
    """
    fields = windowed_fields(table.fields, within, order, added)
    task.checkpoint(0, len(added) + 1, "grouping rows")
    rows = _Seen(table, grouped(table, [Key(text) for text in within]), ranks_of(table, order, task))
    made = {}
    for done, entry in enumerate(added, 1):
        task.checkpoint(done, len(added) + 1, entry.name)
        made[entry.name] = _WAYS[entry.window](rows, entry)
    reads = {entry.name: value_of(entry.of, table.fields).names for entry in added if entry.of}
    return OverlaidTable(table, fields, made, reads)


class _Seen:
    """The rows of a table by group, and in their order within it.

    sequence: their numbers so.  starts: for each place in it that at which its group begins.  ties: places
    whose row is not equal, in the order, to the one before.
    """

    def __init__(self, table: Table, groups: Groups, ranks: Sequence[Vector]) -> None:
        self.table, self.groups = table, groups
        self.sequence = ordered([groups.codes.astype(np.int64), *ranks], table.rows)
        codes = groups.codes[self.sequence]
        self.begins = np.ones(table.rows, dtype=bool)
        self.begins[1:] = codes[1:] != codes[:-1]
        places = np.arange(table.rows)
        self.starts: IndexVector = np.maximum.accumulate(np.where(self.begins, places, 0))
        self.differs = self.begins.copy()
        for rank in ranks:
            there = rank[self.sequence]
            self.differs[1:] |= there[1:] != there[:-1]

    def of_rows(self, numbers: Vector) -> Vector:
        """Numbers that stand in the sequence, as the rows stand in the table."""
        found = np.empty_like(numbers)
        found[self.sequence] = numbers
        return found

    def cells(self, text: str) -> Cells:
        return value_of(text, self.table.fields).cells(self.table)


def _row_number(rows: _Seen, entry: Windowed) -> Cells:
    return Cells(pa.array(rows.of_rows(np.arange(rows.table.rows) - rows.starts + 1), _INTEGER))


def _rank(rows: _Seen, entry: Windowed) -> Cells:
    first = np.maximum.accumulate(np.where(rows.differs, np.arange(rows.table.rows), 0))
    return Cells(pa.array(rows.of_rows(first - rows.starts + 1), _INTEGER))


def _dense_rank(rows: _Seen, entry: Windowed) -> Cells:
    count = np.cumsum(rows.differs)
    return Cells(pa.array(rows.of_rows(count - count[rows.starts] + 1), _INTEGER))


def _running_total(rows: _Seen, entry: Windowed) -> Cells:
    field = entry.field(rows.table.fields)
    if field.untyped:
        return Cells(pa.nulls(rows.table.rows, field.arrow_type))
    values = rows.cells(entry.of).values
    is_there = values.is_valid().to_numpy(zero_copy_only=False)
    there = is_there[rows.sequence]
    count = np.cumsum(there)
    some = rows.of_rows(count > (count - there)[rows.starts])
    if field.type is FieldType.REAL:
        numbers = np.where(is_there, reals(values), 0.0)[rows.sequence]
        return Cells(pa.array(rows.of_rows(_running_reals(numbers, rows.starts)), mask=~some))
    high, low = (np.where(is_there, half, 0)[rows.sequence] for half in words(values))
    high, low = running(high, low, rows.starts)
    return Cells(exact(rows.of_rows(high), rows.of_rows(low), field.arrow_type, some, entry.name))


def _running_reals(numbers: Vector, starts: IndexVector) -> Vector:
    """Running totals of doubles within stretches, which do not touch each other: no infinity, and no loss of
    digits, goes from one to the next. In doubling steps (Hillis and Steele 1986, "Data parallel algorithms").
    """
    total = numbers.copy()
    place = np.arange(len(total)) - starts
    longest = int(place.max(initial=0))
    step = 1
    while step <= longest:
        inside = np.flatnonzero(place >= step)
        total[inside] += total[inside - step]
        step *= 2
    return total


def _share(rows: _Seen, entry: Windowed) -> Cells:
    if entry.field(rows.table.fields).untyped:
        return Cells(pa.nulls(rows.table.rows, _REAL))
    sums, _ = measured(rows.table, rows.groups, Measure(Function.SUM, entry.of, entry.name))
    values = rows.cells(entry.of).values
    totals = reals(sums.values)[rows.groups.codes]
    blank = values.is_null().to_numpy(zero_copy_only=False) | (totals == 0)
    with np.errstate(all="ignore"):
        return Cells(pa.array(reals(values) / totals, mask=blank))


def _neighbour(by: int) -> Callable[[_Seen, Windowed], Cells]:
    def made(rows: _Seen, entry: Windowed) -> Cells:
        count = rows.table.rows
        there = np.arange(count) + by
        inside = (there >= 0) & (there < count)
        there = np.where(inside, there, 0)
        inside &= rows.starts[there] == rows.starts
        number = rows.of_rows(np.where(inside, rows.sequence[there], -1))
        found = taken(rows.cells(entry.of), number)
        # No row is there to be without partner: it is blank.
        absent = None if found.absent is None else found.absent & (number >= 0)
        return Cells(found.values, absent if absent is not None and absent.any() else None)

    return made


_WAYS: dict[Window, Callable[[_Seen, Windowed], Cells]] = {
    Window.ROW_NUMBER: _row_number,
    Window.RANK: _rank,
    Window.DENSE_RANK: _dense_rank,
    Window.RUNNING_TOTAL: _running_total,
    Window.SHARE: _share,
    Window.BEFORE: _neighbour(-1),
    Window.AFTER: _neighbour(1),
}
