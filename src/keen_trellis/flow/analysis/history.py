"""What is different from an earlier run, and what earlier runs came to."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.task import Task
from keen_trellis.flow.comparison import Comparison, Earlier, compare
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.last_run import LastRun, SourceCounts, last_run
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.runs import Run

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
