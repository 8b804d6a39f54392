"""A flow that is run where its tables are: sent, computed step by step, and counted."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence

import msgspec
import numpy as np
import pyarrow as pa
import sqlglot.expressions as exp

from keen_trellis.core.errors import UsageError
from keen_trellis.core.match import MatchCounts
from keen_trellis.core.table import ArrowTable, Field, Table
from keen_trellis.core.task import Task
from keen_trellis.flow.graph import ROWS, Flow
from keen_trellis.flow.guarding import has_guards
from keen_trellis.flow.in_sql.rows import PREPARED, VALUE, NotInSql, Prepared, SqlRows, below, has_value
from keen_trellis.flow.in_sql.scalars import Scalars
from keen_trellis.flow.in_sql.target import SqlTarget
from keen_trellis.flow.last_run import KnotCounts
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.to_sql import Part, Query, SentSource, ends_of, queries_of
from keen_trellis.flow.wording import counted
from keen_trellis.handoff.restricting import Key, Restricted, restricted
from keen_trellis.handoff.there import InPlace, Made, There

MOST_SENT = 1_000_000  # rows of a source that is here, unless it is set


class NotHandedOff(UsageError):
    """A flow of which some steps cannot be run elsewhere. refused: why, each with its step."""

    def __init__(self, refused: Sequence[NotInSql]) -> None:
        self.refused = tuple({str(error): error for error in refused}.values())
        said = " ".join(map(str, self.refused))
        super().__init__(f"Not in SQL: {said}", remedy="Run it here, or change these steps.")


class SourceThere(msgspec.Struct, frozen=True):
    """A source as it was there. how: "in place", or "sent" for one that is not a table there."""

    step: str
    name: str
    rows: int
    how: str
    remarks: tuple[str, ...]
    seconds: float


class StepThere(msgspec.Struct, frozen=True):
    """A step that was computed there, at a port."""

    step: str
    name: str
    port: str
    rows: int
    seconds: float


class KnotThere(msgspec.Struct, frozen=True):
    """What the match of a knot came to there, and here where that is known. left, right: what its sides are
    called.
    """

    step: str
    name: str
    left: str
    right: str
    there: KnotCounts
    here: KnotCounts | None

    @property
    def differs(self) -> bool:
        """Whether it came to something else here."""
        return self.here is not None and self.here != self.there


class Ran(msgspec.Struct):
    """A flow that was run there. sent, fetched: bytes.  seconds: of each part of the work."""

    place: str
    sources: list[SourceThere] = msgspec.field(default_factory=list)
    steps: list[StepThere] = msgspec.field(default_factory=list)
    knots: list[KnotThere] = msgspec.field(default_factory=list)
    sent: int = 0
    fetched: int = 0
    seconds: dict[str, float] = msgspec.field(default_factory=dict)

    @property
    def outputs(self) -> dict[str, int]:
        """The rows of each step, by the step."""
        return {entry.step: entry.rows for entry in self.steps if entry.port == ROWS}

    def took(self, part: str, started: float) -> float:
        """Note the seconds since a moment under a part of the work."""
        seconds = time.perf_counter() - started
        self.seconds[part] = self.seconds.get(part, 0.0) + seconds
        return seconds


class HandOff:
    """A flow to be run elsewhere: its outputs, or the steps that no other takes rows from.

    most_sent: rows that a source may have which is not there.  NotHandedOff, before anything is run.
    """

    def __init__(
        self, flow: Flow, runner: Runner, target: SqlTarget, *, most_sent: int = MOST_SENT, task: Task
    ) -> None:
        self.flow, self.runner = flow, runner
        self.ends = ends_of(flow, runner.kinds)
        if not self.ends:
            raise UsageError("The flow has no step that could be run.", remedy="Add a source.")
        plan = runner.plan(flow)
        self.query: Query = queries_of([(plan.planned(step, task), ROWS) for step in self.ends], target)
        if self.query.refused:
            raise NotHandedOff(self.query.refused)
        counts = {part.planned.step.id: _counts_of(part, target) for part in self.query.parts}
        self._counts = {step: select for step, select in counts.items() if select is not None}
        self._most_sent = most_sent
        self.guarded = [
            step.name for step in flow.steps if has_guards(step) and runner.settings(flow, step).guards
        ]

    @property
    def rows_of_ends(self) -> dict[str, SqlRows]:
        """The rows of each end there, by its step."""
        return dict(zip(self.ends, self.query.ends, strict=True))

    def placed(self, there: There, task: Task) -> dict[str, Table | None]:
        """The rows of each source that is not there, by its table; None for one that is. UsageError for one
        that is too large to be sent.
        """
        found: dict[str, Table | None] = {}
        for source in self.query.sources:
            if there.holds(source.settings):
                found[source.rows.table] = None
                continue
            table = self.runner.result(self.flow, source.step, task).rows
            if table.rows > self._most_sent:
                raise UsageError(
                    f"It has {counted(table.rows, 'rows')} and is not there; "
                    f"{counted(self._most_sent, 'rows')} at most are sent.",
                    where=source.rows.table,
                    remedy="Put it there as a table and read that, or let more rows be sent.",
                )
            found[source.rows.table] = table
        return found

    def run(
        self,
        there: There,
        task: Task,
        *,
        buckets: int | None = None,
        here: Mapping[str, KnotCounts] | None = None,
    ) -> tuple[Ran, Restricted]:
        """Compute all steps there; `buckets`: of part of the rows only. here: what knots came to here.

        TrellisError, with the step at which it failed; Cancelled.
        """
        ran, started = Ran(there.place), time.perf_counter()
        tables = self.placed(there, task)
        large = [name for name, table in tables.items() if table is None]
        chosen = restricted(self.query, large) if buckets is not None else Restricted()
        known = {source.rows.table: source for source in self.query.sources}
        in_place = {name: there.in_place(known[name], task) for name in large}
        there.make(self._made(chosen), task)
        ran.took("looking", started)
        for source in sorted(self.query.sources, key=lambda entry: _nth(chosen, entry)):
            self._send(there, ran, source, (tables, in_place), chosen, buckets, task)
        for number, part in enumerate(self.query.parts):
            self._compute(there, ran, number, part, task)
        self._count(there, ran, here or {}, task)
        ran.sent, ran.fetched = there.sent, there.fetched
        return ran, chosen

    def _made(self, chosen: Restricted) -> list[Made]:
        """The temporary tables of a run."""
        made = [Made.of(source.rows) for source in self.query.sources]
        made += [Made.of(part.rows) for part in self.query.parts]
        made += [_made_of(entry, self.query.rows_called(entry.of)) for entry in self.query.prepared]
        for key, rows in _keys(chosen):
            entry = key.prepared(self.query.target, rows.table)
            made += [_made_of(entry, rows)] if entry is not None else []
        return list({entry.name: entry for entry in made}.values())

    def _send(
        self,
        there: There,
        ran: Ran,
        source: SentSource,
        tables: tuple[Mapping[str, Table | None], Mapping[str, InPlace]],
        chosen: Restricted,
        buckets: int | None,
        task: Task,
    ) -> None:
        """Put the rows of a source into its temporary table."""
        started, name = time.perf_counter(), source.rows.table
        table, in_place = tables[0][name], tables[1].get(name)
        task.checkpoint(0, 0, f"taking {name}")
        if table is not None:
            there.send(name, _numbered(table, source.rows.place), f"sending {name}", task)
            rows, how = table.rows, "sent"
        else:
            assert in_place is not None
            select, how = in_place.select, "in place"
            restriction = chosen.by.get(name)
            if restriction is not None:
                assert buckets is not None
                everything = restriction.all_rows
                self._prepare_key(there, restriction.key, everything, below(select, everything.table), task)
                for key in restriction.of:
                    self._prepare_key(there, key, key.rows, key.rows.relation(), task)
                select = restriction.select(select, self.query.target, buckets)
            rows = there.fill(Made.of(source.rows), select, f"reading {name}", task)
        seconds = ran.took("sources", started)
        remarks = in_place.remarks if in_place is not None else ()
        ran.sources.append(SourceThere(source.step, name, rows, how, remarks, seconds))

    def _prepare_key(self, there: There, key: Key, rows: SqlRows, relation: exp.Expr, task: Task) -> None:
        """Send what a key is compared as, where it is prepared."""
        entry = key.prepared(self.query.target, rows.table)
        if entry is None:
            return
        value, _ = Scalars(rows, self.query.target).value(key.field)
        tree = exp.Select().select(value).distinct().from_(relation.copy()).where(has_value(value.copy()))
        kind = next(column.arrow_type for column in rows.fields if column.name == key.field)
        _send_prepared(there, entry, tree, kind, task)

    def _compute(self, there: There, ran: Ran, number: int, part: Part, task: Task) -> None:
        """Fill the table of a step."""
        for entry in part.prepared:
            started = time.perf_counter()
            _send_prepared(there, entry, *self.query.values_of(entry), task)
            ran.took("preparing", started)
        started, name = time.perf_counter(), part.rows.table
        task.checkpoint(number, len(self.query.parts), f"computing {name} there")
        rows = there.fill(Made.of(part.rows), part.select, f"computing {name}", task)
        seconds = ran.took("steps", started)
        ran.steps.append(StepThere(part.planned.step.id, name, part.port, rows, seconds))

    def _count(self, there: There, ran: Ran, here: Mapping[str, KnotCounts], task: Task) -> None:
        """Count what the matches came to."""
        started = time.perf_counter()
        for part in self.query.parts:
            step = part.planned.step
            select = self._counts.get(step.id)
            if select is None or any(knot.step == step.id for knot in ran.knots):
                continue
            fields = [Field(entry.alias, pa.int64()) for entry in select.expressions]
            (counts,) = there.rows(select, fields, f"counting {step.name}", task).to_pylist()
            known = _known_counts(part, counts, ran.outputs.get(step.id))
            left, right = (rows.name for rows in part.inputs)
            ran.knots.append(KnotThere(step.id, step.name, left, right, known, here.get(step.id)))
        ran.took("counting", started)


def _known_counts(part: Part, counts: Mapping[str, int], result: int | None) -> KnotCounts:
    """What a match came to. result: the rows of it, where they were computed."""
    found = MatchCounts(**{name: counts.get(name, 0) for name in MatchCounts.__struct_fields__})
    known = KnotCounts.of(found, part.planned.settings.join_type)
    return known if result is None else msgspec.structs.replace(known, result_rows=result)


def _counts_of(part: Part, target: SqlTarget) -> exp.Select | None:
    if part.planned.step.skipped:
        return None
    return part.planned.kind.sql_counts(part.planned.settings, part.inputs, target)


def _nth(chosen: Restricted, source: SentSource) -> int:
    """Where a source stands in the order in which they are taken: what others are chosen by goes first."""
    order = list(chosen.by)
    return order.index(source.rows.table) if source.rows.table in order else len(order)


def _keys(chosen: Restricted) -> list[tuple[Key, SqlRows]]:
    """All keys by which rows are chosen, each with the rows that it is read from."""
    found = []
    for restriction in chosen.by.values():
        found.append((restriction.key, restriction.all_rows))
        found += [(key, key.rows) for key in restriction.of]
    return found


def _made_of(entry: Prepared, rows: SqlRows) -> Made:
    """The table of prepared values of some rows."""
    from keen_trellis.core.link import value_of

    return _made_as(entry, value_of(entry.text, rows.fields).arrow_type)


def _made_as(entry: Prepared, kind: pa.DataType) -> Made:
    made = entry.making.made(pa.array([], kind))
    return Made(entry.table, (Field(VALUE, kind), Field(PREPARED, made.type)))


def _send_prepared(there: There, entry: Prepared, tree: exp.Select, kind: pa.DataType, task: Task) -> None:
    """Fetch the distinct values of a link, prepare them here, and send both back; or have that done there."""
    what = f"values of {entry.text}"
    if there.prepare_there(_made_as(entry, kind), tree, entry.making, what, task):
        return
    values = there.rows(tree, [Field(VALUE, kind)], what, task).column(0).combine_chunks()
    task.checkpoint(0, 0, f"preparing {what}")
    made = entry.making.made(values)
    table = ArrowTable(pa.table({VALUE: values, PREPARED: made}))
    there.send(entry.table, table, f"sending {what}", task)


def _numbered(table: Table, place: str) -> Table:
    """A table with its rows numbered."""
    numbers = pa.array(np.arange(1, table.rows + 1))
    return ArrowTable(whole_columns(table).append_column(place, numbers))


def whole_columns(table: Table) -> pa.Table:
    """All cells of a table as Arrow has them."""
    return pa.table({name: table.column(name).values for name in table.names})
