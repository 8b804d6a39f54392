"""Runs a whole flow: every knot counted, every output written."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import partial
from pathlib import Path

import msgspec

from keen_trellis.core.errors import DataError, OutputError, UsageError
from keen_trellis.core.insight.guards import check_text
from keen_trellis.core.match import MatchCounts
from keen_trellis.core.task import Task
from keen_trellis.flow import run_log
from keen_trellis.flow.addresses import is_address
from keen_trellis.flow.comparison import Comparison, compare, run_as_it_is
from keen_trellis.flow.edits import change_settings
from keen_trellis.flow.graph import Flow, Step
from keen_trellis.flow.guarding import Checked, checked
from keen_trellis.flow.kinds import Kinds, StepResult
from keen_trellis.flow.last_run import LastRun, last_run
from keen_trellis.flow.run_values import files_of
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.snapshot import Earlier, Snapshots
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.steps.source import sources_of
from keen_trellis.outputs import WRITERS, Written, staged, writer_of
from keen_trellis.outputs.database.writer import source_of
from keen_trellis.outputs.writing import Part


class KnotOutcome(msgspec.Struct, frozen=True):
    """A knot of a flow that was run: the names of its sides, its type and its counts."""

    step: str
    name: str
    left: str
    right: str
    type: str
    counts: MatchCounts


class Outcome(msgspec.Struct, frozen=True):
    """What running a flow came to. held_back: outputs that were not written since a guard is broken.

    comparison: with its last run, if that is remembered.  now: for the next one.  targets: of what
    was written, by step.  runner: with the results.
    """

    knots: list[KnotOutcome]
    written: list[Written]
    guards: list[Checked]
    held_back: list[str]
    now: LastRun
    comparison: Comparison | None = None
    targets: Mapping[str, OutputSettings] = msgspec.field(default_factory=dict)
    runner: Runner | None = None


def files_read(flow: Flow, kinds: Kinds, snapshots: Snapshots) -> list[str | Path]:
    """Every file and table of a server that the sources of a flow are read from; none may be written to."""
    used = [path for settings in sources_of(flow, kinds).values() for path in snapshots.files(settings)]
    # What lies in the margin and is not used is no table: a file may be put into such a folder.
    tables = [
        source_of(settings.path, settings.table)
        for settings in sources_of(flow, kinds).values()
        if is_address(settings.path)
    ]
    lists = [entry.path for entry in flow.lists]
    return [*used, *tables, *lists, *(file for file in files_of(flow) if not Path(file).is_dir())]


def never_written(flow: Flow, kinds: Kinds, snapshots: Snapshots, path: Path | None) -> list[str | Path]:
    """What nothing that a flow comes to is written to: all that it reads, its own file and the log beside it.

    path: of the flow, None where it has no file yet.
    """
    own = [] if path is None else [path, run_log.log_path(path)]
    return [*files_read(flow, kinds, snapshots), *own]


def run_flow(
    flow: Flow,
    kinds: Kinds,
    snapshots: Snapshots,
    *,
    before: Earlier | None = None,
    folder: Path | None = None,
    replace: bool = False,
    despite_guards: bool = False,
    path: Path | None = None,
    row: str = "",
) -> Outcome:
    """Compute every knot, check every guard and write every output, into `folder` if one is given.

    An output behind a broken guard is not written, unless `despite_guards`.

    Nothing is written unless every step can be computed and every target may be written.  before: the
    snapshots of its last run, to compare with.  path: the flow's own file, which is not written to, and whose
    log has the runs that guards compare with: those for the same `row` of a table of values.
    """
    task, runner = Task(), Runner(kinds, snapshots)
    if path is not None:
        runner.past = partial(run_log.past, path, row=row)
    sources = never_written(flow, kinds, snapshots, path)
    targets = output_targets(flow, kinds, folder)
    _check_targets(targets, sources, replace=replace)
    results: dict[str, StepResult] = {}
    knots, checks = [], []
    for step in flow.in_order():
        try:
            results[step.id] = runner.result(flow, step.id, task)
        except UsageError as error:
            # It is the flow that asks for what the data has not, not who runs it.
            raise DataError(error.what, where=error.where, remedy=error.remedy) from error
        checks += list(checked(runner, flow, step, task))
        if results[step.id].match is not None and not step.skipped:
            knots.append(_knot(runner, flow, step, results[step.id]))
    written, held_back = write_outputs(
        runner, flow, targets, [] if despite_guards else checks, sources=sources, replace=replace, task=task
    )
    last = last_run(flow)
    is_known = last is not None and bool(last.taken)
    comparison = compare(flow, runner, before or Earlier({}), last, task) if is_known else None
    now = run_as_it_is(flow, kinds, runner, snapshots, task)
    places = [writer_of(targets[name]).place(targets[name]) for name in held_back]
    done = {step: settings for step, settings in targets.items() if step not in held_back}
    return Outcome(knots, written, checks, places, now, comparison, done, runner)


def write_outputs(
    runner: Runner,
    flow: Flow,
    targets: Mapping[str, OutputSettings],
    checks: Sequence[Checked],
    *,
    sources: Collection[str | Path],
    replace: bool,
    task: Task | None = None,
) -> tuple[list[Written], list[str]]:
    """Write outputs, by step, but not those at or behind a guard that does not hold.

    What was written, and the steps of those that were held back. sources: what must not be written to.
    OutputError, and nothing written, if one of them cannot be; Cancelled.
    """
    behind = flow.downstream({entry.step for entry in checks if not entry.holds})
    held_back = [step_id for step_id in targets if step_id in behind]
    to_write = {step_id: settings for step_id, settings in targets.items() if step_id not in held_back}
    _check_targets(to_write, sources, replace=replace)
    results = [runner.result(flow, step_id, task) for step_id in to_write]
    parts = [Part(found.rows, settings) for found, settings in zip(results, to_write.values(), strict=True)]
    # All are put in place together: what one of them cannot do leaves the others as they were, too.
    with staged(parts, kept=sources, replace=replace, task=task) as done:
        written = [
            msgspec.structs.replace(entry, open_cells=found.open_cells)
            for entry, found in zip(done, results, strict=True)
        ]
    return written, held_back


def _check_targets(
    targets: Mapping[str, OutputSettings], sources: Collection[str | Path], *, replace: bool
) -> None:
    for settings in targets.values():
        writer_of(settings).check(settings, sources, replace=replace)


def with_guards(flow: Flow, kinds: Kinds, guards: Sequence[str]) -> Flow:
    """The flow with more guards on every output."""
    texts = tuple(check_text(guard) for guard in guards)
    for step in flow.steps if texts else ():
        if kinds.ends_rail(step):
            settings: OutputSettings = kinds.settings(step)
            more = msgspec.structs.replace(settings, guards=(*settings.guards, *texts))
            flow = change_settings(flow, step.id, more)
    return flow


def output_targets(flow: Flow, kinds: Kinds, folder: Path | None) -> dict[str, OutputSettings]:
    """The settings of every output by its step, no two of them to one place."""
    targets: dict[str, OutputSettings] = {}
    places: set[tuple[str, str]] = set()
    for step in flow.steps:
        if not kinds.ends_rail(step) or step.skipped:
            continue
        settings: OutputSettings = kinds.settled(flow, step)
        writer = WRITERS.get(settings.writer)
        if writer is None:  # refused when it is written, without keeping others from being
            targets[step.id] = settings
            continue
        if folder is not None:
            settings = writer.inside(settings, folder)
        place = writer.place(settings)
        # Sheets are the same in any case, other than files.
        within = (settings.path, place.removeprefix(settings.path).casefold())
        if within in places:
            raise OutputError(
                "Two outputs write to it.", where=place, remedy="Give one of them another file."
            )
        places.add(within)
        targets[step.id] = settings
    return targets


def _knot(runner: Runner, flow: Flow, step: Step, result: StepResult) -> KnotOutcome:
    left, right = runner.input_shapes(flow, step)
    assert result.match is not None
    settings = runner.kinds.settings(step)
    return KnotOutcome(step.id, step.name, left.name, right.name, settings.type, result.match.counts)
