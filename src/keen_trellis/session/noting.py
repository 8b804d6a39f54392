"""Notes what a flow came to in the log beside it: after a run, a refresh, and what was written."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from pathlib import Path

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.task import Task
from keen_trellis.flow import run_log
from keen_trellis.flow.comparison import run_as_it_is
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.guarding import Checked, checked
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.runs import RUN, Occasion, Run, run_noted
from keen_trellis.flow.snapshot import Snapshots
from keen_trellis.flow.steps import KINDS
from keen_trellis.outputs.files import check_path
from keen_trellis.session.running import Outcome, files_read
from keen_trellis.session.state import State

# Finding reasons takes several times as long as matching: of larger tables a command looks for none unasked.
_MOST_EXPLAINED = 1_000_000  # rows of both sides of a knot


def note_outcome(
    flow: Flow,
    path: Path,
    outcome: Outcome,
    snapshots: Snapshots,
    *,
    seconds: float,
    all_reasons: bool = False,
    row: str = "",
) -> None:
    """Add what running the flow in `path` came to to its log; FlowFileError if it cannot be added.

    all_reasons: look for the reasons of large tables, too.  row: of a table of values, for which it was run.
    """
    if not flow.keeps_log or outcome.runner is None:
        return
    held_back = [
        step.id
        for step in flow.steps
        if KINDS.ends_rail(step) and not step.skipped and step.id not in outcome.targets
    ]
    run = run_noted(
        Occasion(RUN, seconds, list(outcome.targets), held_back, row),
        flow,
        outcome.runner,
        outcome.now,
        outcome.guards,
        most_rows=None if all_reasons else _MOST_EXPLAINED,
    )
    _add(run, flow, path, snapshots)


def _add(run: Run, flow: Flow, path: Path, snapshots: Snapshots) -> None:
    """Add a run to the log, unless the log is read by the flow or would be from then on."""
    read = files_read(flow, KINDS, snapshots)
    run_log.note(run, path, check=lambda log: check_path(log, read))


class Noting:
    """Notes what the open flow came to, once that is known, behind everything else that is worked out.

    path: where the flow lies, None while it has no file; then there is nothing to note beside.
    """

    def __init__(self, state: State, path: Callable[[], Path | None]) -> None:
        self._state, self._path = state, path

    def note(
        self,
        by: str,
        *,
        since: float,
        written: Sequence[str] = (),
        held_back: Sequence[str] = (),
    ) -> None:
        """Note it. since: when that began which is noted, as `time.monotonic` tells it."""
        flow, path, seconds = self._state.flow, self._path(), time.monotonic() - since
        if path is None or not flow.keeps_log or not flow.steps:
            return
        runner, library = self._state.runner, self._state.library

        def work(task: Task) -> None:
            counts = run_as_it_is(flow, KINDS, runner, library, task)
            checks = _checks(flow, runner, task)
            noted = Occasion(by, seconds, written, held_back)
            made = run_noted(noted, flow, runner, counts, checks, task=task)
            _add(made, flow, path, library)

        def failed(error: TrellisError) -> None:
            self._state.said.emit(f"Not noted in the log of runs: {error}")

        self._state.jobs.start("noting the run", work, lambda _: None, failed)


def _checks(flow: Flow, runner: Runner, task: Task) -> list[Checked]:
    """All guards of the flow that can be looked at."""
    found: list[Checked] = []
    for step in flow.in_order():
        try:
            found += checked(runner, flow, step, task)
        except TrellisError:
            continue  # the step says itself what is wrong
    return found
