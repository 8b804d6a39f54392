"""A flow, as far as a port, as one query: a common table expression for each step, under its name."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

import msgspec
import pyarrow as pa
import sqlglot.expressions as exp

from keen_trellis.core.link import value_of
from keen_trellis.flow.graph import ROWS, Flow, RunValue
from keen_trellis.flow.in_sql.made_here import Compared
from keen_trellis.flow.in_sql.rows import (
    NotInSql,
    Prepared,
    SqlRows,
    free_column,
    has_value,
    ordered,
    quoted,
)
from keen_trellis.flow.in_sql.scalars import Scalars
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.flow.kinds import Kinds, Standing
from keen_trellis.flow.naming import free_name
from keen_trellis.flow.plan import Planned
from keen_trellis.flow.source_settings import SourceSettings

_PLACE = "place"


class SentSource(msgspec.Struct, frozen=True):
    """A source as the query has it: a table of this name, with its fields and the column `place`."""

    step: str
    rows: SqlRows
    settings: SourceSettings


class Part(msgspec.Struct, frozen=True, eq=False):
    """A step at a port as a part of a query. planned, port: which.  rows: what it makes.  inputs,
    select: of which sources and parts before it, and how.  prepared: the tables of prepared values that it
    is the first to read.
    """

    planned: Planned
    port: str
    rows: SqlRows
    inputs: tuple[SqlRows, ...]
    select: exp.Expr
    prepared: tuple[Prepared, ...]


class Query(msgspec.Struct, frozen=True):
    """The rows at some ports in SQL, or what keeps them from being said.

    sources: the tables that are read.  parts: the steps after them, each after those that it reads.
    refused: the errors of the steps that no SQL says.  ends: the rows that were asked for, in that order.
    given: the run values that are its parameters.  written: those that are written into it.
    """

    target: SqlTarget
    sources: tuple[SentSource, ...]
    parts: tuple[Part, ...]
    refused: tuple[NotInSql, ...]
    ends: tuple[SqlRows, ...]
    given: tuple[RunValue, ...] = ()
    written: tuple[RunValue, ...] = ()

    @property
    def prepared(self) -> tuple[Prepared, ...]:
        """The tables of prepared values that are read, each made of sources, parts and those before it."""
        return tuple(entry for part in self.parts for entry in part.prepared)

    @property
    def text(self) -> str:
        """The SQL of the first end, with its tables and what they stand for said above it. NotInSql if there
        is none.
        """
        if self.refused:
            raise self.refused[0]
        heads = [
            f"-- {_plain(entry.rows.table)}: {_plain(entry.settings.where)}, "
            f"with its rows numbered in the column {_plain(entry.rows.place)}"
            for entry in self.sources
        ]
        heads += [f"-- {_plain(entry.table)}: {_plain(prepared_said(entry))}" for entry in self.prepared]
        heads += [f"-- :{value.name}: a run value, here {_plain(value.value)}" for value in self.given]
        for value in self.written:
            heads.append(f"-- The run value {value.name} is written into it: {_plain(value.value)}")
        end = self.ends[0]
        return "\n".join((*heads, self.target.written(self.with_parts(selected(end), end.table))))

    def with_parts(self, tree: exp.Select, last: str) -> exp.Select:
        """A query that reads a part, with that one and all parts before it as common table expressions."""
        names = [part.rows.table for part in self.parts]
        if last in names:
            parts = self.parts[: names.index(last) + 1]
            made = [exp.CTE(this=part.select, alias=_as_table(part.rows.table)) for part in parts]
            tree.set("with_", exp.With(expressions=made))
        return tree

    def rows_called(self, table: str) -> SqlRows:
        """Those of a source or part."""
        made = (*(source.rows for source in self.sources), *(part.rows for part in self.parts))
        return next(rows for rows in made if rows.table == table)

    def values_of(self, entry: Prepared) -> tuple[exp.Select, pa.DataType]:
        """The query for the values that a table of prepared ones is made of, and their type. It reads the
        rows that they stand in.
        """
        rows = self.rows_called(entry.of)
        value, _ = Scalars(rows, self.target).value(entry.text)
        tree = exp.Select().select(value).distinct().from_(rows.relation()).where(has_value(value.copy()))
        return tree, value_of(entry.text, rows.fields).arrow_type


def selected(rows: SqlRows) -> exp.Select:
    """The query for all fields of some rows, in their order."""
    columns = [rows.column(entry.name) for entry in rows.fields]
    return exp.Select().select(*columns).from_(rows.relation()).order_by(ordered(rows.column(rows.place)))


def _as_table(name: str) -> exp.TableAlias:
    return exp.TableAlias(this=quoted(name))


def prepared_said(entry: Prepared) -> str:
    """What a table of prepared values holds."""
    is_compared = isinstance(entry.making, Compared)
    made = "what it is compared as" if is_compared else f"what is made of it, {entry.making},"
    return f"each {entry.text} of {entry.of} (value), and {made} (prepared)"


def ends_of(flow: Flow, kinds: Kinds) -> list[str]:
    """The outputs that are not skipped, or the steps that no other takes rows from where there are none."""
    outputs = [step.id for step in flow.steps if kinds.ends_rail(step) and not step.skipped]
    used = {entry.step for step in flow.steps for entry in step.inputs}
    return outputs or [step.id for step in flow.steps if step.id not in used]


def query_of(last: Planned, port: str, target: SqlTarget) -> Query:
    """The rows at a port in SQL. TrellisError if the step or one before it cannot be computed at all."""
    return queries_of([(last, port)], target)


def queries_of(ends: Sequence[tuple[Planned, str]], target: SqlTarget) -> Query:
    """The rows at some ports of one plan in SQL, what they share said once. TrellisError as `query_of`."""
    for last, _ in ends:
        if last.blocked is not None:
            raise last.blocked
    return _Writer(ends, target).query()


class _Writer:
    """Writes the steps before some ports, each after those that it takes rows from."""

    def __init__(self, ends: Sequence[tuple[Planned, str]], target: SqlTarget) -> None:
        self._ends, self._target = ends, target
        self._steps = list(dict.fromkeys(planned for last, _ in ends for planned in last.upstream()))
        fields = {entry.name for planned in self._steps for shape in planned.inputs for entry in shape.fields}
        # The rows at the port that is asked for may have new names, too.
        for planned in self._steps:
            fields |= {entry.name for entry in planned.shape(ROWS).fields}
        self._place = free_column(_PLACE, fields)
        self._tables: set[str] = set()
        self._made: dict[tuple[Planned, str], SqlRows] = {}
        self._parts: list[Part] = []
        self._sources: list[SentSource] = []
        self._prepared: list[Prepared] = []
        self._refused: list[NotInSql] = []

    def query(self) -> Query:
        """The whole query."""
        wanted: dict[Planned, dict[str, None]] = {planned: {} for planned in self._steps}
        for planned in self._steps:
            for before, taken in planned.before:
                wanted[before][taken] = None
        for last, port in self._ends:
            wanted[last][port] = None
        for planned in self._steps:
            for at_port in wanted[planned]:
                self._made[planned, at_port] = self._written(planned, at_port)
        ends = tuple(self._made[end] for end in self._ends)
        return Query(self._target, tuple(self._sources), tuple(self._parts), tuple(self._refused), ends)

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
        select = said.select(self._place)
        self._check_computed(planned, select)
        rows = msgspec.structs.replace(rows, open=said.open, empty=said.empty)
        prepared = self._new_prepared(planned, said.prepared)
        self._parts.append(Part(planned, port, rows, tuple(inputs), select, prepared))
        return rows

    def _named(self, name: str, port: str) -> str:
        said = name if port == ROWS else f"{name}, {port.replace('_', ' ')}"
        if self._target.longest_name is not None:
            said = said.encode()[: self._target.longest_name - 4].decode(errors="ignore")
        found = free_name(said, self._tables, folded=True)
        self._tables.add(found.casefold())
        return found

    def _new_prepared(self, planned: Planned, prepared: Sequence[Prepared]) -> tuple[Prepared, ...]:
        """The tables of prepared values that are new in the query. No step may be called as one of them."""
        new = [entry for entry in dict.fromkeys(prepared) if entry not in self._prepared]
        for entry in new:
            if entry.table.casefold() in self._tables:
                said = f"A step is called “{entry.table}”, as the values that are prepared for this one are."
                self._refused.append(NotInSql(said, where=planned.step.name, remedy="Rename that step."))
            self._tables.add(entry.table.casefold())
        self._prepared += new
        return tuple(new)

    def _check_tellers(self, planned: Planned, rows: SqlRows, is_open: Mapping[str, str]) -> None:
        """Refuse a field that is called as a column which says what cells have a partner."""
        taken = {name.casefold() for name in is_open.values() if name}
        both = [entry.name for entry in rows.fields if entry.name.casefold() in taken]
        if both:
            said = f"The field “{both[0]}” is called as the column that says which cells have a partner."
            self._refused.append(NotInSql(said, where=planned.step.name, remedy="Rename it."))

    def _check_computed(self, planned: Planned, select: exp.Select) -> None:
        """Refuse what the target computes otherwise."""
        others = self._target.others
        found = next((node for node in select.walk() if isinstance(node, others)), None) if others else None
        if found is not None:
            said = f"“{found.sql()}” is computed otherwise by {self._target.name}."
            self._refused.append(NotInSql(said, where=planned.step.name))

    def _check_names(self, planned: Planned, rows: SqlRows) -> None:
        """Refuse names that a database would make one of: those that it cuts off, or folds."""
        names, most = [entry.name for entry in rows.fields], self._target.longest_name
        long = [name for name in names if most is not None and len(name.encode()) > most]
        folded = Counter(name.casefold() for name in names)
        alike = [name for name in names if self._target.folds_names and folded[name.casefold()] > 1]
        lacking = [entry for entry in rows.fields if not self._target.has_type(entry.type)]
        for entry in lacking[:1]:
            said = f"The field “{entry.name}” holds a {entry.type.value}, which {self._target.name} has not."
            self._refused.append(NotInSql(said, where=planned.step.name, remedy="Make it text before."))
        for name, why in (
            *((name, f"has a name of more than {most} bytes") for name in long[:1]),
            *((name, "is told from another one by case only") for name in alike[:1]),
        ):
            said = f"The field “{name}” {why}."
            self._refused.append(NotInSql(said, where=planned.step.name, remedy="Rename it."))


def _plain(text: str) -> str:
    """A text on one line of a comment."""
    return " ".join(text.split())
