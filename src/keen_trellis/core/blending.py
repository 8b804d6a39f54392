"""Tables of different grain around a main one: each other is filtered and summarised to its link fields, then
matched; its measures stand on the main table's rows, or beside its groups.
"""

from __future__ import annotations

import enum
from collections.abc import Sequence
from functools import cached_property
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.conversion import rescaled
from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.filtering import Comparison, Condition, check_conditions, fulfilled
from keen_trellis.core.link import LinkField, Operator, check_links, value_of
from keen_trellis.core.match import Match, index_type
from keen_trellis.core.matching import match
from keen_trellis.core.measures import Measure
from keen_trellis.core.ordering import in_order
from keen_trellis.core.summarising import Key, SummaryTable, each_once, summary_fields
from keen_trellis.core.table import (
    ArrowTable,
    Cells,
    ChosenRows,
    Field,
    IndexVector,
    Mask,
    OverlaidTable,
    Table,
    holding_both,
    taken,
)
from keen_trellis.core.task import Task
from keen_trellis.core.values import ARROW_TYPES, FieldType, held_as, whole_units

Vector = np.ndarray[Any, Any]


class Keep(enum.Enum):
    """What becomes of the main table's rows; its value is its name on the command line."""

    EVERY = "every"  # every row
    FOUND = "found"  # rows that found a group in some other table
    GROUPS = "groups"  # one row a group
    ALL_GROUPS = "all-groups"  # and one a group that only others have


class Stands(enum.Enum):
    """Where a group's measure stands among the main table's rows of the group."""

    EVERY = "every"
    FIRST = "first"
    SPREAD = "spread"


class Placed(msgspec.Struct, frozen=True):
    """A measure and where it stands. by: the field or expression of the main table that it is spread by, ""
    for equal shares.
    """

    measure: Measure
    stands: Stands = Stands.EVERY
    by: str = ""


class Other(msgspec.Struct, frozen=True):
    """One of the other tables of a blend.

    links: the main table's sides on the left, its own on the right; all compared with =.  where: a condition
    that its rows must fulfil, "" for none.
    """

    name: str
    links: tuple[LinkField, ...]
    measures: tuple[Placed, ...]
    where: str = ""


class Found(msgspec.Struct, frozen=True, dict=True):
    """What came of one of the other tables.

    summary: its groups.  partner: for each row of `Blended.whole` the group, -1 for none.  used: which groups
    have one.  rows: of the table as it came.  left_out: rows that the condition took away.
    """

    summary: SummaryTable
    partner: IndexVector
    used: Mask
    rows: int
    left_out: int
    match: Match

    @cached_property
    def unused(self) -> ChosenRows:
        """The groups that stand on no row."""
        return ChosenRows(self.summary, self.unused_rows)

    @cached_property
    def unused_rows(self) -> IndexVector:
        """The numbers of the groups that stand on no row."""
        return np.flatnonzero(~self.used)

    @cached_property
    def rows_found(self) -> int:
        """How many rows of the blend found a group."""
        return int(np.count_nonzero(self.partner >= 0))

    @cached_property
    def groups_used(self) -> int:
        """How many groups stand on some row."""
        return int(np.count_nonzero(self.used))

    @property
    def times(self) -> float:
        """How often a group that is used stands on a row, on average; 1.0 where none is used."""
        return self.rows_found / self.groups_used if self.groups_used else 1.0


class BlendedTable(OverlaidTable):
    """The main table's fields, or its link fields where it becomes one row a group, then all measures."""

    def __init__(self, rows: Table, measures: Sequence[tuple[Field, Cells]]) -> None:
        made = {field.name: cells for field, cells in measures}
        super().__init__(rows, (*rows.fields, *(field for field, _ in measures)), made)
        # The groups of the other tables, and for each row the one that stands on it, -1 for none.
        self.groups: tuple[tuple[Table, IndexVector], ...] = ()
        self.own: SummaryTable | None = None  # the main table's groups, where these are measured

    def parents(self, row: int) -> list[tuple[Table, IndexVector]]:
        groups = [(table, partner[row : row + 1]) for table, partner in self.groups if partner[row] >= 0]
        return [*super().parents(row), *groups]

    def read_from(self, name: str) -> list[tuple[Table, str]]:
        groups = [(table, name) for table, _ in self.groups if name in table.names]
        if self.own is not None and name in self.own.no_partner:
            groups.append((self.own, name))
        return [*super().read_from(name), *groups]

    def rows_from(self, source: Table, rows: IndexVector) -> IndexVector:
        if self is source:
            return rows
        found = np.zeros(self.rows, dtype=bool)
        found[self._base.rows_from(source, rows)] = True
        for table, partner in self.groups:
            found |= np.isin(partner, table.rows_from(source, rows))
        return np.flatnonzero(found)


class Blended(msgspec.Struct, frozen=True, dict=True):
    """A blend: its rows, and what came of each other table.

    whole: the rows before those that found nothing are left out; `table` itself if none is.  main_rows: of
    the main table as it came.
    """

    table: BlendedTable
    whole: BlendedTable
    others: tuple[Found, ...]
    main_rows: int

    @cached_property
    def combinations(self) -> Vector:
        """For each row of `whole` which of the others it found: bit number k is set for other number k."""
        found = np.zeros(self.whole.rows, np.int64)
        for number, entry in enumerate(self.others):
            found |= (entry.partner >= 0).astype(np.int64) << number
        return found

    @cached_property
    def rows_by_combination(self) -> dict[int, IndexVector]:
        """The rows of `whole` of each combination that there is, in order."""
        codes = self.combinations
        kinds = np.flatnonzero(np.bincount(codes, minlength=1)).tolist()
        small = index_type(len(codes))
        return {kind: np.flatnonzero(codes == kind).astype(small) for kind in kinds}

    @property
    def own_times(self) -> float:
        """On how many rows a group of the main table stands, on average; 1.0 where it is not measured."""
        own = self.whole.own
        return self.whole.rows / own.rows if own is not None and own.rows else 1.0

    @property
    def found_nothing(self) -> int:
        """How many rows of `whole` found no group at all."""
        return len(self.rows_by_combination.get(0, ()))


def check_blend(
    main: Sequence[Field],
    tables: Sequence[Sequence[Field]],
    others: Sequence[Other],
    keep: Keep,
    own: Sequence[Placed] = (),
) -> None:
    """Raise an error of ours unless the blend can be made of tables with these fields. own: measures of the
    main table, within its groups.
    """
    if not others:
        raise UsageError("The blend has no other table yet.", remedy="Drag a second rail onto it.")
    for other, fields in zip(others, tables, strict=True):
        for link in other.links:
            if link.operator is not Operator.EQUAL:
                raise UsageError(f"A blend links with =, not with {link.operator.value}.")
        check_links(other.links, main, fields)
        if other.where:
            check_conditions(_conditions(other), fields)
        for placed in other.measures:
            made = placed.measure.field(fields)
            if placed.stands is not Stands.EVERY and keep not in (Keep.EVERY, Keep.FOUND):
                raise UsageError("Where each group is one row, its measures need not be spread.")
            if placed.stands is Stands.SPREAD:
                _check_spread(placed, made, main)
        keys = [Key(link.right, link.preparation) for link in other.links]
        summary_fields(fields, keys, [placed.measure for placed in other.measures])
    for placed in own:
        if placed.stands is not Stands.EVERY and keep not in (Keep.EVERY, Keep.FOUND):
            raise UsageError("Where each group is one row, its measures need not be spread.")
        if placed.stands is Stands.SPREAD:
            raise UsageError(
                f"{placed.measure.name} is of the main table itself: spread, each row gets its share back.",
                remedy="Show it on each row or on the first.",
            )
    blend_fields(main, tables, others, keep, own)


def _conditions(other: Other) -> list[Condition]:
    return [Condition(other.where, Comparison.TRUE)] if other.where else []


def _check_spread(placed: Placed, made: Field, main: Sequence[Field]) -> None:
    if made.type not in (FieldType.INTEGER, FieldType.DECIMAL):
        raise DataError(
            f"{made.name} is {made.type.value}; only whole numbers and decimals are spread.",
            remedy="Sum decimals, or show it on each row or on the first.",
        )
    if placed.by:
        weight = value_of(placed.by, main)
        if not weight.untyped and weight.type not in (FieldType.INTEGER, FieldType.DECIMAL):
            raise DataError(f"{placed.by} is {weight.type.value}; shares are whole numbers or decimals.")


def main_keys(others: Sequence[Other]) -> list[Key]:
    """What the main table's rows are grouped by: all that the other tables link to."""
    return list(
        {link.left: Key(link.left, link.preparation) for other in others for link in other.links}.values()
    )


def blend_fields(
    main: Sequence[Field],
    tables: Sequence[Sequence[Field]],
    others: Sequence[Other],
    keep: Keep,
    own: Sequence[Placed] = (),
) -> tuple[Field, ...]:
    """The fields of the blend, without looking at a row."""
    base = tuple(main) if keep in (Keep.EVERY, Keep.FOUND) else _group_fields(main, tables, others, keep)
    measures = [placed.measure.field(main) for placed in own]
    measures += [
        placed.measure.field(fields)
        for other, fields in zip(others, tables, strict=True)
        for placed in other.measures
    ]
    return each_once((*base, *measures))


def _group_fields(
    main: Sequence[Field], tables: Sequence[Sequence[Field]], others: Sequence[Other], keep: Keep
) -> tuple[Field, ...]:
    made = list(summary_fields(main, main_keys(others), ()))
    if keep is Keep.GROUPS:
        return tuple(made)
    places = {field.name: number for number, field in enumerate(made)}
    for other, fields in zip(others, tables, strict=True):
        for link in other.links:
            number = places[link.left]
            theirs = value_of(link.right, fields)
            their = Field(link.right, theirs.arrow_type, untyped=theirs.untyped)
            both = holding_both(made[number], their)
            if both is None:
                raise DataError(
                    f"{link.left} and {link.right} of {other.name} have no type in common, "
                    "so that groups of both cannot be in one field.",
                    remedy="Keep the main table's groups only, or give both one type.",
                )
            made[number] = both
    return tuple(made)


def blend(
    main: Table,
    tables: Sequence[Table],
    others: Sequence[Other],
    keep: Keep,
    task: Task | None = None,
    own: Sequence[Placed] = (),
) -> Blended:
    """Filter and summarise each of `tables` to its links, and match its groups with the main table.

    own: measures of the main table itself, within the groups of all its link values; blanks are one group.

    Errors as those of `check_blend`; DataError, too, where a sum overflows or nothing can be spread by.
    """
    task = task or Task()
    check_blend(main.fields, [table.fields for table in tables], others, keep, own)
    groups = [_summarised(table, other, task) for table, other in zip(tables, others, strict=True)]
    base: Table = main
    of_main: SummaryTable | None = None
    if own or keep in (Keep.GROUPS, Keep.ALL_GROUPS):
        of_main = SummaryTable(main, main_keys(others), [placed.measure for placed in own], task)
    if of_main is not None and keep in (Keep.GROUPS, Keep.ALL_GROUPS):
        base = of_main.keys_only() if own else of_main
    if keep is Keep.ALL_GROUPS:
        fields = _group_fields(main.fields, [table.fields for table in tables], others, keep)
        base = _with_their_groups(base, fields, [summary for summary, _ in groups], others, task)
    matches = [
        match(base, summary, _group_links(other, base), task)
        for (summary, _), other in zip(groups, others, strict=True)
    ]
    all_rows = np.arange(base.rows)
    partners = [found.nth_partner(all_rows, np.zeros_like(all_rows)) for found in matches]
    made: list[tuple[Field, Cells]] = []
    if of_main is not None:
        group = _group_of_rows(of_main, base, keep)
        for placed in own:
            cells = _stood(placed, of_main.column(placed.measure.name), group, base)
            made.append((of_main.field(placed.measure.name), cells))
    for (summary, _), partner, other in zip(groups, partners, others, strict=True):
        for placed in other.measures:
            cells = _stood(placed, summary.column(placed.measure.name), partner, base)
            made.append((summary.field(placed.measure.name), cells))
    whole = table = BlendedTable(base, made)
    whole.groups = tuple((summary, partner) for (summary, _), partner in zip(groups, partners, strict=True))
    whole.own = of_main if own else None
    if keep is Keep.FOUND:
        rows = np.flatnonzero(np.logical_or.reduce([partner >= 0 for partner in partners]))
        if len(rows) < base.rows:
            table = BlendedTable(
                ChosenRows(base, rows), [(field, taken(cells, rows)) for field, cells in made]
            )
            table.groups = tuple((summary, partner[rows]) for summary, partner in whole.groups)
            table.own = whole.own
    found = [
        Found(summary, partner, found.partners_of_right > 0, theirs.rows, left_out, found)
        for theirs, (summary, left_out), partner, found in zip(tables, groups, partners, matches, strict=True)
    ]
    return Blended(table, whole, tuple(found), main.rows)


def _group_of_rows(of_main: SummaryTable, base: Table, keep: Keep) -> IndexVector:
    """For each row of the blend the group of the main table's rows that it is of, -1 for none."""
    if keep in (Keep.EVERY, Keep.FOUND):
        return of_main.groups.codes
    rows = np.arange(base.rows)
    return np.where(rows < of_main.rows, rows, -1)  # below them stand groups that only others have


def _summarised(table: Table, other: Other, task: Task) -> tuple[SummaryTable, int]:
    """The groups of one other table, and how many rows its condition took away."""
    left_out = 0
    if other.where:
        kept = np.flatnonzero(fulfilled(table, _conditions(other), task))
        left_out = table.rows - len(kept)
        table = ChosenRows(table, kept)
    keys = [Key(link.right, link.preparation) for link in other.links]
    return SummaryTable(table, keys, [placed.measure for placed in other.measures], task), left_out


def _group_links(other: Other, base: Table) -> list[LinkField]:
    """The links with what the groups are called: fields, even where they are made by expressions."""
    names = set(base.names)
    return [
        msgspec.structs.replace(
            link,
            left_is_expression=link.left_is_expression and link.left not in names,
            right_is_expression=False,
        )
        for link in other.links
    ]


def _with_their_groups(
    base: Table, fields: Sequence[Field], groups: Sequence[SummaryTable], others: Sequence[Other], task: Task
) -> Table:
    """The main table's groups and, below them, those that only other tables have, each once."""
    columns = {field.name: held_as(base.column(field.name).values, field.arrow_type) for field in fields}
    whole = ArrowTable(pa.table(columns))
    whole.fields = tuple(fields)
    for summary, other in zip(groups, others, strict=True):
        found = match(whole, summary, _group_links(other, whole), task)
        rows = found.right_unmatched_rows
        theirs = {link.left: summary.take(rows, [link.right])[0].values for link in other.links}
        more = {
            field.name: held_as(theirs[field.name], field.arrow_type)
            if field.name in theirs
            else pa.nulls(len(rows), field.arrow_type)
            for field in fields
        }
        parts = [pa.table({f.name: whole.column(f.name).values for f in fields}), pa.table(more)]
        whole = ArrowTable(pa.concat_tables(parts))
        whole.fields = tuple(fields)
    return whole


# --- where a measure stands ---


def _stood(placed: Placed, groups: Cells, partner: IndexVector, main: Table) -> Cells:
    """The measure for each row of the main table; a count is 0 where no group was found."""
    cells = _placed(placed, groups, partner, main)
    if not placed.measure.function.counts:
        return cells
    none = pa.array(partner < 0)
    return Cells(pc.if_else(none, pa.scalar(0, cells.values.type), cells.values))


def _placed(placed: Placed, groups: Cells, partner: IndexVector, main: Table) -> Cells:
    cells = taken(groups, partner)
    if placed.stands is Stands.EVERY:
        return cells
    held = np.flatnonzero(partner >= 0)
    if placed.stands is Stands.FIRST:
        first = np.zeros(len(partner), dtype=bool)
        first[held[np.unique(partner[held], return_index=True)[1]]] = True
        blank = pa.array(first | (partner < 0))
        return Cells(pc.if_else(blank, cells.values, pa.scalar(None, cells.values.type)), cells.absent)
    shares = _shares(placed, groups.values, partner, main)
    return Cells(shares, cells.absent)


def _shares(placed: Placed, totals: pa.Array, partner: IndexVector, main: Table) -> pa.Array:
    """Each row's share of its group's total, such that the shares of a group are exactly the total."""
    name = placed.measure.name
    units = _units(totals, name)
    known = totals.is_valid().to_numpy(zero_copy_only=False)
    shared = np.append(known, False)[partner]
    rows = np.flatnonzero(shared)
    group = partner[rows]
    weights = np.ones(len(rows), np.int64)
    if placed.by:
        values = value_of(placed.by, main.fields).column(main).take(pa.array(rows))
        values = held_as(values, ARROW_TYPES[FieldType.INTEGER]) if not len(values.drop_null()) else values
        weights = _units(values, placed.by)
        if (weights < 0).any():
            raise DataError(f"{name} cannot be spread by {placed.by}: a share is below zero.")
    weight_of_group = np.zeros(len(units), np.int64)
    np.add.at(weight_of_group, group, weights)
    if (np.bincount(group, weights=weights.astype(np.float64), minlength=len(units)) >= 2.0**62).any():
        raise DataError(f"{name} cannot be spread by {placed.by}: its sum does not fit into 62 bits.")
    if (weight_of_group[group] == 0).any():
        raise DataError(
            f"{name} cannot be spread by {placed.by}: in some group all shares are zero.",
            remedy="Spread it by another field, or in equal shares.",
        )
    made = np.zeros(len(partner), np.int64)
    made[rows] = _apportioned(np.abs(units), weights, weight_of_group, group) * np.sign(units)[group]
    found = pa.array(made, mask=~shared)
    if pa.types.is_integer(totals.type):
        return found
    return rescaled(found.cast(pa.decimal128(19, 0)), totals.type)


def _units(values: pa.Array, name: str) -> Vector:
    units, fits = whole_units(values)
    if not fits:
        raise DataError(f"{name} has more digits than can be spread.")
    return units


def _apportioned(totals: Vector, weights: Vector, weight_of_group: Vector, group: Vector) -> Vector:
    """Whole shares of whole totals by largest remainder (Hamilton's method), the first row of equals first.

    total * weight may leave 64 bits: the quotient is guessed in extended precision, and its remainder, which
    is small, is exact in arithmetic modulo 2 ** 64 and says by how much the guess was off.
    """
    total, whole = totals[group], weight_of_group[group]
    guess = np.floor(total.astype(np.longdouble) * weights / whole).astype(np.int64)
    with np.errstate(over="ignore"):
        rest = total * weights - guess * whole
    for _ in range(4):
        low, high = rest < 0, rest >= whole
        guess += high.astype(np.int64) - low
        rest = rest + np.where(low, whole, 0) - np.where(high, whole, 0)
    left = totals.copy()
    np.subtract.at(left, group, guess)
    order = in_order(group, -rest)
    sorted_groups = group[order]
    starts = np.searchsorted(sorted_groups, sorted_groups, side="left")
    gets_one = np.arange(len(order)) - starts < left[sorted_groups]
    guess[order] += gets_one
    shares: Vector = guess
    return shares
