"""A flow, as far as a port, as one query: a common table expression for each step, under its name."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import pyarrow as pa
import sqlglot.expressions as exp

from keen_trellis.core.link import value_of
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.in_sql.rows import (
    NotInSql,
    Prepared,
    Said,
    SqlRows,
    Stacked,
    at,
    below,
    free_column,
    has_value,
    named,
    numbered,
    ordered,
    quoted,
)
from keen_trellis.flow.in_sql.scalars import Scalars
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.flow.kinds import Standing
from keen_trellis.flow.naming import free_name
from keen_trellis.flow.plan import Planned
from keen_trellis.flow.source_settings import SourceSettings

_PLACE, _PART, _PARTS = "place", "part", "parts"


@dataclass(frozen=True)
class SentSource:
    """A source as the query has it: a table of this name, with its fields and the column `place`."""

    step: str
    rows: SqlRows
    settings: SourceSettings


@dataclass(frozen=True)
class Query:
    """A query, or what keeps it from being one.

    tree: sqlglot's.  sources: the tables that it reads.  prepared: those of prepared values that it reads.
    refused: the errors of the steps that no SQL says.  rows: those of its parts, by what they are called.
    """

    tree: exp.Expr
    target: SqlTarget
    sources: tuple[SentSource, ...]
    prepared: tuple[Prepared, ...]
    refused: tuple[NotInSql, ...]
    rows: Mapping[str, SqlRows]

    @property
    def text(self) -> str:
        """The SQL, with its tables and what they stand for said above it. NotInSql if there is none."""
        if self.refused:
            raise self.refused[0]
        heads = [
            f"-- {_plain(entry.rows.table)}: {_plain(entry.settings.where)}, "
            f"with its rows numbered in the column {_plain(entry.rows.place)}"
            for entry in self.sources
        ]
        heads += [f"-- {_plain(entry.table)}: {_plain(prepared_said(entry))}" for entry in self.prepared]
        return "\n".join((*heads, self.target.written(self.tree)))

    def values_of(self, entry: Prepared) -> tuple[str, pa.DataType]:
        """The query for the values that a table of prepared ones is made of, and their type. It reads tables
        of prepared values that stand before it only.
        """
        rows = self.rows[entry.of]
        scalars = Scalars(rows, self.target)
        value, _ = scalars.value(entry.text)
        some = has_value(value.copy())
        tree = exp.Select().select(value).distinct().from_(rows.relation()).where(some)
        made = list(self.tree.find_all(exp.CTE))
        names = [cte.alias for cte in made]
        if entry.of in names:
            before = [cte.copy() for cte in made[: names.index(entry.of) + 1]]
            tree.set("with_", exp.With(expressions=before))
        return self.target.written(tree), value_of(entry.text, rows.fields).arrow_type


def prepared_said(entry: Prepared) -> str:
    """What a table of prepared values holds."""
    return f"each {entry.text} of {entry.of} (value), and what it is compared as (prepared)"


def query_of(last: Planned, port: str, target: SqlTarget) -> Query:
    """The rows at a port in SQL. TrellisError if the step or one before it cannot be computed at all."""
    if last.blocked is not None:
        raise last.blocked
    return _Writer(last, target).query(port)


class _Writer:
    """Writes the steps before one, each after those that it takes rows from."""

    def __init__(self, last: Planned, target: SqlTarget) -> None:
        self._last, self._target = last, target
        self._steps = list(last.upstream())
        fields = {entry.name for planned in self._steps for shape in planned.inputs for entry in shape.fields}
        # The rows at the port that is asked for may have new names, too.
        for planned in self._steps:
            fields |= {entry.name for entry in planned.shape(ROWS).fields}
        self._place = free_column(_PLACE, fields)
        self._tables: set[str] = set()
        self._made: dict[tuple[Planned, str], SqlRows] = {}
        self._with: list[exp.CTE] = []
        self._sources: list[SentSource] = []
        self._prepared: list[Prepared] = []
        self._refused: list[NotInSql] = []

    def query(self, port: str) -> Query:
        """The whole query."""
        wanted: dict[Planned, dict[str, None]] = {planned: {} for planned in self._steps}
        for planned in self._steps:
            for before, taken in planned.before:
                wanted[before][taken] = None
        wanted[self._last][port] = None
        for planned in self._steps:
            for at_port in wanted[planned]:
                self._made[planned, at_port] = self._written(planned, at_port)
        rows = self._made[self._last, port]
        columns = [rows.column(entry.name) for entry in rows.fields]
        order = ordered(rows.column(rows.place))
        tree = exp.Select().select(*columns).from_(rows.relation()).order_by(order)
        if self._with:
            tree.set("with_", exp.With(expressions=self._with))
        made = {rows.table: rows for rows in self._made.values()}
        return Query(
            tree, self._target, tuple(self._sources), tuple(self._prepared), tuple(self._refused), made
        )

    def _written(self, planned: Planned, port: str) -> SqlRows:
        inputs = [self._made[entry] for entry in planned.before]
        if planned.step.skipped:
            return inputs[0]
        shape = planned.shape(port)
        rows = SqlRows(self._named(planned.step.name, port), shape.name, shape.fields, self._place)
        self._check_names(planned, rows)
        if planned.kind.standing is Standing.BEGINS:
            self._sources.append(SentSource(planned.step.id, rows, planned.settings))
            return rows
        try:
            said = planned.kind.sql(planned.settings, inputs, port, self._target)
        except NotInSql as error:
            error.where = error.where or planned.step.name
            self._refused.append(error)
            return rows
        self._check_tellers(planned, rows, said.open)
        select = said.select(self._place) if isinstance(said, Said) else self._stacked(said)
        self._with.append(exp.CTE(this=select, alias=exp.TableAlias(this=quoted(rows.table))))
        self._send_prepared(planned, said.prepared)
        return replace(rows, open=said.open, empty=said.empty)

    def _stacked(self, said: Stacked) -> exp.Select:
        """Parts one below the other, numbered through."""
        which = free_column(_PART, said.parts[0].columns)
        selects = []
        for number, part in enumerate(said.parts, 1):
            select = part.select(self._place)
            selects.append(select.select(named(exp.Literal.number(number), which)))
        union: exp.Expr = selects[0]
        for select in selects[1:]:
            union = exp.Union(this=union, expression=select, distinct=False)
        order = [at(_PARTS, name) for name in (which, self._place)]
        columns = [at(_PARTS, name) for name in said.parts[0].columns]
        place = named(numbered([ordered(entry) for entry in order]), self._place)
        return exp.Select().select(*columns, place).from_(below(union, _PARTS))

    def _named(self, name: str, port: str) -> str:
        said = name if port == ROWS else f"{name}, {port.replace('_', ' ')}"
        if self._target.longest_name is not None:
            said = said.encode()[: self._target.longest_name - 4].decode(errors="ignore")
        found = free_name(said, self._tables, folded=True)
        self._tables.add(found.casefold())
        return found

    def _send_prepared(self, planned: Planned, prepared: Sequence[Prepared]) -> None:
        """Have tables of prepared values in the query, whose names no step has."""
        for entry in prepared:
            if entry in self._prepared:
                continue
            if entry.table.casefold() in self._tables:
                said = f"A step is called “{entry.table}”, as the values that are prepared for this one are."
                self._refused.append(NotInSql(said, where=planned.step.name, remedy="Rename that step."))
            self._tables.add(entry.table.casefold())
            self._prepared.append(entry)

    def _check_tellers(self, planned: Planned, rows: SqlRows, is_open: Mapping[str, str]) -> None:
        """Refuse a field that is called as a column which says what cells have a partner."""
        taken = {name.casefold() for name in is_open.values() if name}
        both = [entry.name for entry in rows.fields if entry.name.casefold() in taken]
        if both:
            said = f"The field “{both[0]}” is called as the column that says which cells have a partner."
            self._refused.append(NotInSql(said, where=planned.step.name, remedy="Rename it."))

    def _check_names(self, planned: Planned, rows: SqlRows) -> None:
        """Refuse names that a database would make one of: those that it cuts off, or folds."""
        names, most = [entry.name for entry in rows.fields], self._target.longest_name
        long = [name for name in names if most is not None and len(name.encode()) > most]
        folded = Counter(name.casefold() for name in names)
        alike = [name for name in names if self._target.folds_names and folded[name.casefold()] > 1]
        for name, why in (
            *((name, f"has a name of more than {most} bytes") for name in long[:1]),
            *((name, "is told from another one by case only") for name in alike[:1]),
        ):
            said = f"The field “{name}” {why}."
            self._refused.append(NotInSql(said, where=planned.step.name, remedy="Rename it."))


def _plain(text: str) -> str:
    """A text on one line of a comment."""
    return " ".join(text.split())
