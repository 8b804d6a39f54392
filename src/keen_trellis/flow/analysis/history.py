"""What is different from an earlier run, and what earlier runs came to."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.changes import TableChanges, changes
from keen_trellis.core.task import Task
from keen_trellis.flow.comparison import (
    Comparison,
    KnotChange,
    OutputChange,
    SourceChange,
    compare,
)
from keen_trellis.flow.edits import rail_name
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.last_run import LastRun, SourceCounts, last_run
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.runs import Run, names_of
from keen_trellis.flow.snapshot import Earlier
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.source import sources_of

MOST_RUNS = 36


def counts_of_run(run: Run) -> LastRun:
    """A run as the flow's file would remember it; its fields are not known any more."""
    sources = {step: SourceCounts(seen.rows, (), seen.content) for step, seen in run.sources.items()}
    return LastRun(run.taken, sources, dict(run.knots), dict(run.outputs), run.flow)


def earlier_run(flow: Flow, runs: Sequence[Run], now: LastRun) -> LastRun | None:
    """The latest run that read other rows or ran another flow; where none did, the last one.

    A report is often made after a run that it would otherwise compare with itself.
    """

    def differs(run: LastRun) -> bool:
        contents = {step: seen.content for step, seen in run.sources.items()}
        return contents != {step: seen.content for step, seen in now.sources.items()} or (
            bool(run.flow) and run.flow != now.flow
        )

    remembered = [entry for entry in (last_run(flow),) if entry is not None]
    known = [*remembered, *(counts_of_run(run) for run in reversed(runs))]
    return next((run for run in known if differs(run)), known[0] if known else None)


def compared(
    flow: Flow,
    runner: Runner,
    runs: Sequence[Run],
    now: LastRun,
    before: Callable[[LastRun], Earlier],
    task: Task,
) -> Comparison | None:
    """What changed since an earlier run; None if none is known. before: the snapshots of a run."""
    earlier = earlier_run(flow, runs, now)
    if earlier is None:
        return None
    try:
        return compare(flow, runner, before(earlier), earlier, task)
    except TrellisError:
        return None


def between(
    flow: Flow, one: Run, other: Run, before: Callable[[LastRun], Earlier], task: Task | None = None
) -> Comparison:
    """What changed from one run to a later one: by their counts, and row by row where the cache has the rows.

    before: the snapshots of a run.
    """
    task = task or Task()
    names = names_of([one, other], flow)
    earlier, later = (before(counts_of_run(run)) for run in (one, other))
    tables = {
        step: tuple(snapshots.snapshots.get(settings) for snapshots in (earlier, later))
        for step, settings in sources_of(flow, KINDS).items()
    }
    sources = []
    for step in {**one.sources, **other.sources}:
        task.checkpoint(0, 0, f"comparing {names.get(step, step)}")
        seen = (one.sources.get(step), other.sources.get(step))
        rows = [entry.rows if entry is not None else None for entry in seen]
        change = SourceChange(step, names.get(step, step), rows[0], rows[1])
        was, now = tables.get(step, (None, None))
        if seen[0] is not None and seen[1] is not None and seen[0].content == seen[1].content:
            change = replace(change, changes=TableChanges(seen[0].rows, seen[1].rows))
        elif was is not None and now is not None:
            found = changes(was.table, now.table, [now.key] if now.key else [], task)
            change = replace(change, fields=found.fields, changes=found, before=was.table, after=now.table)
        sources.append(change)
    knots = [
        KnotChange(step, names.get(step, step), sides_of(flow, step), one.knots.get(step), other.knots[step])
        for step in other.knots
    ]
    outputs = [
        OutputChange(step, names.get(step, step), one.outputs.get(step), other.outputs[step])
        for step in other.outputs
    ]
    edited = one.flow != other.flow
    return Comparison(one.taken, tuple(sources), tuple(knots), tuple(outputs), edited)


def sides_of(flow: Flow, step_id: str) -> tuple[str, str]:
    """What the rails are called that meet in a knot; in one that the flow has no more: left and right."""
    step = flow.find(step_id)
    if step is None or len(step.inputs) < 2:
        return "left rows", "right rows"
    left, right = (
        rail_name(flow, entry.step) if flow.find(entry.step) is not None else "" for entry in step.inputs[:2]
    )
    return left or "left rows", right or "right rows"
