"""Rows as a query has them: a table or common table expression, its columns, and what puts them in order."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping, Sequence

import msgspec
import sqlglot.expressions as exp

from keen_trellis.core.errors import UsageError
from keen_trellis.core.table import Field
from keen_trellis.flow.in_sql.made_here import Making
from keen_trellis.flow.naming import free_name

_PART, _PARTS = "part", "parts"


class NotInSql(UsageError):
    """A step, or a part of one, that no SQL says exactly."""


class SqlRows(msgspec.Struct, frozen=True):
    """The rows at a port.

    table: what they are called in the query.  name: what they are called in the flow.  place: the column by
    whose numbers they stand in order; no two rows have the same.  open: by field in which a cell may be
    without partner, which is null as a blank is, the column that says whether it has one; "" where none does.
    empty: those in which a text may be empty: no source has such texts, and where rows are put together by
    them they are blanks.
    """

    table: str
    name: str
    fields: tuple[Field, ...]
    place: str
    open: Mapping[str, str] = msgspec.field(default_factory=dict)
    empty: frozenset[str] = frozenset()

    @property
    def tellers(self) -> tuple[str, ...]:
        """The columns that say which cells have a partner."""
        return tuple(dict.fromkeys(name for name in self.open.values() if name))

    def has_partner(self, name: str, alias: str = "") -> exp.Expr | None:
        """Whether the cell of a field has a partner; None where that is not known."""
        teller = self.open.get(name)
        if teller is None:
            return exp.true()
        return self.column(teller, alias) if teller else None

    def column(self, name: str, alias: str = "") -> exp.Column:
        """A column of them, under the name that they have in a part of the query."""
        return at(alias or self.table, name)

    def relation(self, alias: str = "") -> exp.Table:
        """They themselves, behind FROM."""
        return exp.Table(this=quoted(self.table), alias=exp.TableAlias(this=quoted(alias)) if alias else None)


class Prepared(msgspec.Struct, frozen=True):
    """A table of two columns: each value of `text`, a field or expression, in the rows of `of`, and what is
    made of it here.
    """

    table: str
    of: str
    text: str
    making: Making


VALUE, PREPARED = "value", "prepared"


class Said(msgspec.Struct, frozen=True):
    """A step in SQL. columns: what gives each field, in order.  place: what gives the order.  rest: the
    query without them.  open, empty: as in SqlRows.  prepared: tables that it reads besides.
    """

    columns: Mapping[str, exp.Expr]
    place: exp.Expr
    rest: exp.Select
    open: Mapping[str, str] = msgspec.field(default_factory=dict)
    empty: frozenset[str] = frozenset()
    prepared: tuple[Prepared, ...] = ()

    def select(self, place: str) -> exp.Select:
        """The query, with the order in a column of this name."""
        made = [named(value, name) for name, value in self.columns.items()]
        return self.rest.select(*made, named(self.place, place), append=False, copy=True)


class Stacked(msgspec.Struct, frozen=True):
    """A step in SQL that puts rows below each other, in the order of its parts; row_by_row: in the order of
    the rows that they are made of, of each row those of all parts.
    """

    parts: tuple[Said, ...]
    open: Mapping[str, str] = msgspec.field(default_factory=dict)
    row_by_row: bool = False

    @property
    def empty(self) -> frozenset[str]:
        return frozenset().union(*(part.empty for part in self.parts))

    @property
    def prepared(self) -> tuple[Prepared, ...]:
        return tuple(dict.fromkeys(entry for part in self.parts for entry in part.prepared))

    def select(self, place: str) -> exp.Select:
        """The query, numbered through in a column of this name."""
        which = free_column(_PART, self.parts[0].columns)
        selects = [
            part.select(place).select(named(exp.Literal.number(number), which))
            for number, part in enumerate(self.parts, 1)
        ]
        union: exp.Expr = selects[0]
        for select in selects[1:]:
            union = exp.Union(this=union, expression=select, distinct=False)
        order = (place, which) if self.row_by_row else (which, place)
        columns = [at(_PARTS, name) for name in self.parts[0].columns]
        nth = named(numbered([ordered(at(_PARTS, name)) for name in order]), place)
        return exp.Select().select(*columns, nth).from_(below(union, _PARTS))


def quoted(name: str) -> exp.Identifier:
    """A name, never folded."""
    return exp.to_identifier(name, quoted=True)


def at(table: str, name: str) -> exp.Column:
    """A column of a part of the query."""
    return exp.column(quoted(name), table=quoted(table))


def below(query: exp.Expr, name: str) -> exp.Subquery:
    """A query as a part of another one, under a name."""
    return exp.Subquery(this=query, alias=exp.TableAlias(this=quoted(name)))


def is_null(value: exp.Expr) -> exp.Is:
    """That there is no value."""
    return exp.Is(this=value, expression=exp.Null())


def has_value(value: exp.Expr) -> exp.Not:
    """That there is a value."""
    return exp.Not(this=is_null(value))


def named(value: exp.Expr, name: str) -> exp.Expr:
    """A value under a name in a list of columns."""
    if isinstance(value, exp.Column) and value.name == name:
        return value
    return exp.Alias(this=value, alias=quoted(name))


def numbered(
    order: Sequence[exp.Expr],
    groups: Iterable[exp.Expr] = (),
    function: type[exp.Func] = exp.RowNumber,
) -> exp.Window:
    """The number of each row in an order, from 1, within groups."""
    return exp.Window(
        this=function(), partition_by=list(groups) or None, order=exp.Order(expressions=list(order))
    )


def ordered(value: exp.Expr, *, descending: bool = False, blanks_first: bool = False) -> exp.Ordered:
    """A key of an order. Where blanks stand is always said: databases do not agree."""
    return exp.Ordered(this=value, desc=descending, nulls_first=blanks_first)


def passed_on(rows: SqlRows, alias: str = "") -> dict[str, exp.Expr]:
    """All columns as they are, those that say which cells have a partner among them."""
    names = (*(entry.name for entry in rows.fields), *rows.tellers)
    return {name: rows.column(name, alias) for name in names}


def kept(rows: SqlRows, holds: exp.Expr | None = None) -> Said:
    """The rows for which something holds, as they are and in their order."""
    rest = exp.Select().from_(rows.relation())
    rest = rest if holds is None else rest.where(holds)
    return Said(passed_on(rows), rows.column(rows.place), rest, rows.open, rows.empty)


def free_column(name: str, taken: Iterable[str]) -> str:
    """The name, or with a number behind it if one of those taken is the same but for case."""
    return free_name(name, {entry.casefold() for entry in taken}, folded=True)


def name_apart(name: str, parts: object, longest: int | None) -> str:
    """A name with some letters behind it that tell apart what is made of other parts, of so many bytes."""
    behind = f" {hashlib.blake2b(repr(parts).encode(), digest_size=3).hexdigest()}"
    if longest is not None:
        name = name.encode()[: longest - len(behind)].decode(errors="ignore")
    return name + behind
