"""Makes an analysis of a flow from the results of a runner."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import msgspec

from keen_trellis import __version__
from keen_trellis.core.errors import UsageError
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.analysis.ends import blend_told, gaps_of, output_told
from keen_trellis.flow.analysis.history import MOST_RUNS, compared
from keen_trellis.flow.analysis.knots import join_told
from keen_trellis.flow.analysis.rows import ReasonRows
from keen_trellis.flow.analysis.sources import source_told
from keen_trellis.flow.analysis.value import Analysis, GapTold, GuardTold, OutputTold, SourceTold, StepTold
from keen_trellis.flow.analysis.withheld import Withheld, confidential
from keen_trellis.flow.comparison import run_as_it_is
from keen_trellis.flow.graph import Flow, Step
from keen_trellis.flow.guarding import Checked, checked
from keen_trellis.flow.last_run import LastRun
from keen_trellis.flow.origins import origins_of
from keen_trellis.flow.report import change_lines
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.runs import Run
from keen_trellis.flow.snapshot import Earlier
from keen_trellis.flow.unread import unread

SHOWN_ROWS = 40


def _nothing_earlier(_: LastRun) -> Earlier:
    return Earlier({})


class Circumstances(msgspec.Struct, frozen=True):
    """What an analysis says besides what the flow came to.

    name: of the flow.  folder: where it lies.  taken: when it ran, in UTC.  runs: earlier ones, the oldest
    first.  before: the snapshots that an earlier run had.  without: names of fields whose values are left
    out besides those that are confidential.  most_rows: so many rows of each reason are told.
    """

    name: str
    folder: Path
    taken: str
    runs: Sequence[Run] = ()
    before: Callable[[LastRun], Earlier] = msgspec.field(default=_nothing_earlier)
    without: Sequence[str] = ()
    most_rows: int = SHOWN_ROWS


class Analysed(msgspec.Struct, frozen=True):
    """An analysis, and all rows that it says have no partner."""

    analysis: Analysis
    rows: tuple[ReasonRows, ...]


def analysed(
    flow: Flow,
    runner: Runner,
    circumstances: Circumstances,
    step_id: str = "",
    task: Task | None = None,
) -> Analysed:
    """What a flow came to, or one step and all before it.

    Raises what computing a step raises; UsageError where a field that is to be left out is none; Cancelled.
    """
    task = task or Task()
    kinds = runner.kinds
    wanted = flow.upstream(step_id) if step_id else {step.id for step in flow.steps}
    steps = [step for step in flow.in_order() if step.id in wanted]
    tables = {step.id: runner.result(flow, step.id, task).rows for step in steps}
    names = tuple(dict.fromkeys([*confidential(flow, kinds), *circumstances.without]))
    if not step_id or circumstances.without:
        _check_names(flow, runner, names, task)
    withheld = _withheld(flow, runner, names, task)
    checks = [entry for step in steps for entry in checked(runner, flow, step, task)]
    told = _Told(flow, runner, circumstances, withheld, tables, checks, task)
    matched = [step for step in steps if kinds.matches(step) and not step.skipped]
    joins = [join_told(runner, flow, step, withheld, circumstances.most_rows, task) for step in matched]
    blended = [step for step in steps if runner.result(flow, step.id, task).blended is not None]
    now = run_as_it_is(flow, kinds, runner, runner.snapshots, task)
    comparison = compared(flow, runner, circumstances.runs, now, circumstances.before, task)
    changes = tuple(change_lines(comparison)) if comparison is not None else ()
    steps_told = tuple(told.step(step) for step in steps)
    analysis = Analysis(
        name=circumstances.name,
        about=told.step(flow.step(step_id)).name if step_id else "",
        version=__version__,
        taken=circumstances.taken,
        flow=now.flow,
        sources=tuple(told.source(step) for step in steps if kinds.begins_rail(step)),
        steps=steps_told,
        joins=tuple(join for join, _ in joins),
        blends=tuple(blend_told(runner, flow, step, withheld, task) for step in blended if not step.skipped),
        guards=tuple(told.guard(entry) for entry in checks),
        gaps=tuple(_gaps(flow, runner, steps, task)),
        outputs=told.outputs([step for step in steps if kinds.ends_rail(step) and not step.skipped]),
        since=comparison.since if comparison is not None else "",
        changes=changes,
        runs=tuple(circumstances.runs[-MOST_RUNS:]),
        withheld=tuple(dict.fromkeys([*names, *sorted(withheld.names)])),
        not_read=tuple(map(str, unread(flow, kinds))),
    )
    return Analysed(analysis, tuple(entry for _, rows in joins for entry in rows))


def _gaps(flow: Flow, runner: Runner, steps: Sequence[Step], task: Task) -> Iterator[GapTold]:
    """The gaps of each step, but for those that an output behind it has as well."""
    found = {step.id: list(gaps_of(runner, flow, step, task)) for step in steps}
    for step in steps:
        behind = flow.downstream([step.id]) - {step.id}
        again = {
            (gap.field, gap.cells)
            for other in steps
            if other.id in behind and runner.kinds.ends_rail(other)
            for gap in found[other.id]
        }
        yield from (gap for gap in found[step.id] if (gap.field, gap.cells) not in again)


def _check_names(flow: Flow, runner: Runner, names: Sequence[str], task: Task) -> None:
    """UsageError for a name that is no field of the flow: what it was meant for would not be left out."""
    known = {field.name for step in flow.steps for field in runner.result(flow, step.id, task).rows.fields}
    for name in names:
        if name not in known:
            raise UsageError(
                f"“{name}” is to be left out of reports, and no step has such a field.",
                remedy="Write the field's name as it is in the flow, upper and lower case too.",
            )


def _withheld(flow: Flow, runner: Runner, names: Sequence[str], task: Task) -> Withheld:
    """What is withheld: fields that are linked with one that is have the same values, and are, too."""
    withheld = Withheld(frozenset(names))
    while withheld:
        more = {
            name
            for step in flow.in_order()
            for sides in _linked_sides(flow, runner, step, task)
            if any(withheld.hides(table, name) for table, own in sides for name in own)
            for table, own in sides
            for name in own
        }
        if more <= withheld.names:
            break
        withheld = Withheld(withheld.names | more)
    return withheld


_Side = tuple[Table, Sequence[str]]


def _linked_sides(flow: Flow, runner: Runner, step: Step, task: Task) -> Iterator[tuple[_Side, _Side]]:
    """Both sides of each link of a step: the table, and the fields of it that are compared."""
    links = runner.kinds.of(step).links(runner.settings(flow, step))
    before = [runner.table(flow, entry, task) for entry in step.inputs] if links else []
    for link, number in links:
        if number < len(before):
            one, other = link.sides(before[0].fields, before[number].fields)
            yield (before[0], one.names), (before[number], other.names)


class _Told(msgspec.Struct, frozen=True):
    """Tells the steps of a flow one by one. tables: the rows of each."""

    flow: Flow
    runner: Runner
    circumstances: Circumstances
    withheld: Withheld
    tables: dict[str, Table]
    checks: list[Checked]
    task: Task

    def source(self, step: Step) -> SourceTold:
        snapshot = self.runner.snapshot(self.flow, step, self.task)
        settings = self.runner.settings(self.flow, step)
        return source_told(
            step,
            settings,
            snapshot,
            self.runner.snapshots,
            self.circumstances.folder,
            self.withheld,
            self.task,
        )

    def step(self, step: Step) -> StepTold:
        kind = self.runner.kinds.of(step)
        shapes = self.runner.input_shapes(self.flow, step, self.task)
        before = [self.runner.table(self.flow, entry, self.task) for entry in step.inputs]
        own = self.tables[step.id]
        plain = kind.sentence(self.runner.settings(self.flow, step), shapes)
        said = self.withheld.sentence(step, plain, [*before, own])
        # A step on a rail may be called by what it asks of values, and its id be made of that.
        is_telling = said != plain and self.runner.kinds.on_rail(step)
        return StepTold(
            step="" if is_telling else step.id,
            name=f"a {step.kind} step" if is_telling else step.name,
            kind=step.kind,
            sentence=said,
            note=step.note,
            rows_before=tuple(table.rows for table in before),
            rows=own.rows,
            skipped=step.skipped,
        )

    def guard(self, entry: Checked) -> GuardTold:
        table = self.tables[entry.step]
        guard, said = entry.verdict.guard, entry.verdict.said
        hidden = [name for name in self.withheld.of(table) if name in guard]
        said = "its figures are left out" if hidden else said
        return GuardTold(entry.step, entry.name, guard, entry.statement, entry.holds, said)

    def outputs(self, steps: Sequence[Step]) -> tuple[OutputTold, ...]:
        held = self.flow.downstream({entry.step for entry in self.checks if not entry.holds})
        linked = frozenset(self._linked())
        return tuple(
            output_told(
                self.runner,
                self.flow,
                step,
                linked,
                self.withheld,
                self.task,
                held_back=step.id in held,
            )
            for step in steps
        )

    def _linked(self) -> Iterator[tuple[str, str]]:
        """The fields of sources by which rows are linked."""
        for step in self.flow.steps:
            if step.id not in self.tables:
                continue
            for sides in _linked_sides(self.flow, self.runner, step, self.task):
                for table, names in sides:
                    for name in names:
                        yield from origins_of(table, name)
