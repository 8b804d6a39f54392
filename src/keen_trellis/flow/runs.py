"""What a flow came to each time it ran: counts only, never a value of a cell."""

from __future__ import annotations

import secrets
import time
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence

import msgspec

from keen_trellis import __version__
from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.guards import Past
from keen_trellis.core.insight.reasons import explain
from keen_trellis.core.task import Task
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.guarding import Checked
from keen_trellis.flow.last_run import KnotCounts, LastRun
from keen_trellis.flow.runner import Runner

# What made the program note a run.
RUN, WRITTEN, REFRESH = "run", "output", "refresh"


class GuardSeen(msgspec.Struct, frozen=True):
    """A guard of a step as it is written in the flow, and whether it held."""

    step: str
    guard: str
    holds: bool


class SourceSeen(msgspec.Struct, frozen=True, omit_defaults=True):
    """How many rows a source had, and the fingerprint of its content."""

    rows: int
    content: str = ""


class Run(msgspec.Struct, frozen=True, omit_defaults=True):
    """One run. id: no other has it.  taken: when, in UTC.  by: what made the program note it.

    flow: a fingerprint of what the flow said then.  names: of the steps that are spoken of, by their ids, as
    all others are.  reasons: of a knot for which they were looked for, rows by side and kind of reason, as
    “left absent”.  outputs: the rows of each.  written, held_back: the outputs that were written, and those
    that a guard kept back.  values: the flow's run values.  row: of a run for one row of a table of values,
    the first of these, by which later runs for it are known.
    """

    id: str
    taken: str
    by: str
    seconds: float = 0.0
    version: str = ""
    flow: str = ""
    names: dict[str, str] = {}
    sources: dict[str, SourceSeen] = {}
    knots: dict[str, KnotCounts] = {}
    reasons: dict[str, dict[str, int]] = {}
    outputs: dict[str, int] = {}
    written: tuple[str, ...] = ()
    held_back: tuple[str, ...] = ()
    guards: tuple[GuardSeen, ...] = ()
    values: dict[str, str] = {}
    row: str = ""

    @property
    def when(self) -> str:
        """The moment in UTC, as people write it."""
        return self.taken.replace("T", " ").removesuffix("Z")

    @property
    def broken(self) -> int:
        """How many guards did not hold."""
        return sum(not entry.holds for entry in self.guards)


class Occasion(msgspec.Struct, frozen=True):
    """What a run is noted for: as in `Run`."""

    by: str
    seconds: float = 0.0
    written: Sequence[str] = ()
    held_back: Sequence[str] = ()
    row: str = ""


def run_noted(
    occasion: Occasion,
    flow: Flow,
    runner: Runner,
    counts: LastRun,
    checks: Sequence[Checked] = (),
    *,
    most_rows: int | None = None,
    task: Task | None = None,
) -> Run:
    """A run as it is kept: what the flow came to (`counts`), and why rows of its knots found no partner.

    most_rows: up to how many rows of both sides together reasons are looked for; without it they always are.
    Cancelled.
    """
    task = task or Task()
    spoken_of = {*counts.sources, *counts.knots, *counts.outputs, *(entry.step for entry in checks)}
    return Run(
        # Several in one second are told apart by what their ids begin with.
        f"{time.time_ns():016x}{secrets.token_hex(4)}",
        counts.taken,
        occasion.by,
        round(occasion.seconds, 3),
        __version__,
        counts.flow,
        {step.id: step.name for step in flow.steps if step.id in spoken_of},
        {step: SourceSeen(seen.rows, seen.content) for step, seen in counts.sources.items()},
        dict(counts.knots),
        {
            step: found
            for step, knot in counts.knots.items()
            if (most_rows is None or knot.left_rows + knot.right_rows <= most_rows)
            and (found := _reasons(flow, runner, step, task)) is not None
        },
        dict(counts.outputs),
        tuple(occasion.written),
        tuple(occasion.held_back),
        tuple(GuardSeen(entry.step, entry.verdict.guard, entry.holds) for entry in checks),
        {value.name: value.value for value in flow.values},
        occasion.row,
    )


def _reasons(flow: Flow, runner: Runner, step_id: str, task: Task) -> dict[str, int] | None:
    """The unmatched rows of a knot by side and kind of reason; None where it cannot be told."""
    step = flow.step(step_id)
    try:
        found = runner.result(flow, step_id, task).match
        left, right = (runner.table(flow, entry, task) for entry in step.inputs)
    except TrellisError:
        return None
    if found is None:
        return None
    told: Counter[str] = Counter()
    for reason in explain(runner.settings(flow, step).asked(left, right), found, task):
        if reason.kind.is_of_unmatched:
            told[f"{reason.side} {reason.kind.value}"] += reason.rows
    return dict(told)


def past_of(runs: Sequence[Run], step: str, count: int, row: str = "") -> list[Past]:
    """What a step came to in the latest `count` runs that have it and in which all of its guards held.

    row: of runs for one row of a table of values, which are compared among themselves.
    """
    found = []
    for run in reversed(runs):
        if run.row != row:
            continue
        if any(seen.step == step and not seen.holds for seen in run.guards):
            continue
        knot, rows = run.knots.get(step), run.outputs.get(step)
        if knot is not None:
            found.append(Past(knot.result_rows, knot.left_unmatched, knot.right_unmatched))
        elif rows is not None:
            found.append(Past(rows))
        if len(found) == count:
            break
    return found


def share_of(run: Run, step: str, side: str = "left") -> float | None:
    """The share of one side's rows of a knot that found a partner in a run; None where it had no rows."""
    counts = run.knots.get(step)
    if counts is None:
        return None
    rows, matched = _of_side(counts, side)
    return matched / rows if rows else None


def rates(runs: Sequence[Run], step: str, side: str = "left") -> list[float]:
    """The share of one side's rows that found a partner in each run that had rows there, oldest first."""
    shares = (share_of(run, step, side) for run in runs)
    return [share for share in shares if share is not None]


def _of_side(counts: KnotCounts, side: str) -> tuple[int, int]:
    if side == "left":
        return counts.left_rows, counts.left_matched
    return counts.right_rows, counts.right_matched


def in_flow_order(steps: Iterable[str], flow: Flow) -> list[str]:
    """Steps of some runs in the order of the flow; those that it has no more come behind."""
    places = {step.id: place for place, step in enumerate(flow.steps)}
    return sorted(steps, key=lambda step: (places.get(step, len(places)), step))


def names_of(runs: Sequence[Run], flow: Flow | None = None) -> Mapping[str, str]:
    """What the steps of some runs are called: as the flow calls them now, else as the latest run did."""
    named = {step: name for run in runs for step, name in run.names.items()}
    return named | ({step.id: step.name for step in flow.steps} if flow is not None else {})
