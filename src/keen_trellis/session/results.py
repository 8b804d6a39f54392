"""Computes the steps of the open flow off its thread, and knows what each has come to."""

from __future__ import annotations

import time
import weakref
from collections.abc import Callable
from contextlib import suppress
from functools import partial

from keen_trellis.core.blending import Blended
from keen_trellis.core.day import this_day
from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.profile import profile
from keen_trellis.core.joining import MOST_RESULT_ROWS
from keen_trellis.core.match import ListedMatch, Match
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.graph import Flow, Step
from keen_trellis.flow.guarding import checked
from keen_trellis.flow.kinds import Figures
from keen_trellis.flow.plan import used_inputs
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.session.jobs import Job
from keen_trellis.session.notice import Notice
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.state import State

Held = tuple[object, ...]

_SHOWN_AFTER = 0.3  # seconds; what is computed sooner needs no sign of progress


class Results:
    """by_step: what each step came to, as far as it is known: figures, whose rows are held elsewhere as long
    as memory allows.  leased: those of the selected step, which stay.  under_way: the share that is done of
    steps that take long.

    progressed: the computing of some step came on.
    """

    def __init__(self, state: State) -> None:
        self._state = state
        self.by_step: dict[str, Outcome] = {}
        self.under_way: dict[str, float] = {}
        self.progressed: Notice[[]] = Notice()
        self._begun: tuple[str, float] = ("", 0.0)
        self._computing: Job | None = None
        # Counts the askings: what a worker brings that was asked before comes too late.
        self._generation = 0
        self._reading: dict[SourceSettings, Job] = {}
        self._profiled: set[str] = set()
        self.leased: Held = ()
        state.selected.connect(self._lease_selected)
        state.jobs.ended.connect(self._job_ended)
        state.jobs.progressed.connect(self._job_progressed)

    @property
    def stopped(self) -> bool:
        """Whether the user stopped the computing of the flow before its end."""
        return self._computing is not None and self._computing.task.cancelled

    def compute(self) -> None:
        """Find out what all steps come to: what is looked at first, then what else the trellis shows."""
        if self._computing is not None:
            self._computing.cancel()
        self._read_ahead()
        self._state.runner.day = this_day()
        flow = self._state.flow
        looked_at = flow.upstream(self._state.selection.step)
        self._generation += 1
        soon = partial(self._soon, self._generation)

        def work(task: Task) -> None:
            for step in sorted(flow.in_order(), key=lambda step: step.id not in looked_at):
                soon(partial(self._begin_step, step.id))
                outcome, held = self._outcome_of(flow, step, task)
                soon(partial(self._keep, step, outcome, held))

        def done(_: object) -> None:
            self._computing = None
            self._begin_step("")
            known = {step.id: self.by_step[step.id] for step in flow.steps}
            gone = self.by_step.keys() - known.keys()
            self.by_step = known
            if gone:
                self._state.tell(gone)
            self._profile_sources()

        self._computing = self._state.jobs.start("computing the flow", work, done, self._state.failed.emit)

    def _soon(self, generation: int, tell: Callable[[], None]) -> None:
        """Tell on the session's thread, unless something else has been asked for since."""

        def tell_now() -> None:
            if generation == self._generation:
                tell()

        self._state.jobs.turns.soon(tell_now)

    def _read_ahead(self) -> None:
        """Read all sources at the same time, and on while the flow is edited."""
        for settings in set(self._state.sources().values()) - set(self._reading):
            if self._state.library.known(settings) is None:
                work = partial(self._state.library.get, settings)
                # Its outcome is that of the source's step, which waits for it.
                self._reading[settings] = self._state.jobs.start(
                    f"reading {settings.file_name}", work, lambda _: None, lambda _: None
                )

    def _job_ended(self, job: Job) -> None:
        was_reading = job in self._reading.values()
        self._reading = {settings: other for settings, other in self._reading.items() if other is not job}
        if was_reading:
            self._nothing_under_way()
        if job is self._computing and job.task.cancelled:
            self._begin_step("")
            self._state.said.emit("Stopped. Press F5 to continue.")
            self._state.tell([step.id for step in self._state.flow.steps])

    # --- progress ---

    def _begin_step(self, step_id: str) -> None:
        self._begun = (step_id, time.monotonic())
        self._nothing_under_way()

    def _nothing_under_way(self) -> None:
        """Begin anew to tell what takes long; what still does so tells of itself again."""
        if self.under_way:
            self.under_way = {}
            self.progressed.emit()

    def _job_progressed(self, job: Job, done: int, total: int, _: str) -> None:
        read = {settings for settings, reading in self._reading.items() if reading is job}
        steps = [step for step, settings in self._state.sources().items() if settings in read] if read else []
        since = job.started
        if job is self._computing and self._begun[0]:
            steps, since = [self._begun[0]], self._begun[1]
        if steps and time.monotonic() - since > _SHOWN_AFTER:
            self.under_way |= dict.fromkeys(steps, done / total if total > 1 else 0.0)
            self.progressed.emit()

    def _profile_sources(self) -> None:
        """Count the values of sources that were read, for link proposals to come."""
        for settings in set(self._state.sources().values()):
            snapshot = self._state.library.known(settings)
            if snapshot is not None and snapshot.identity not in self._profiled:
                self._profiled.add(snapshot.identity)
                work = partial(profile, snapshot.table)
                # Without it proposals only take longer.
                self._state.jobs.start(
                    f"counting the values of {settings.file_name}", work, lambda _: None, lambda _: None
                )

    # --- outcomes ---

    def _keep(self, step: Step, outcome: Outcome, held: Held) -> None:
        if outcome != self.by_step.get(step.id):
            self.by_step[step.id] = outcome
            self._state.tell([step.id])
        if step.id == self._state.selection.step and held:
            self.leased = held

    def _lease_selected(self) -> None:
        """Hold on to what is looked at; if it was let go of, it is computed again."""
        outcome = self.by_step.get(self._state.selection.step)
        self.leased = (outcome.result, *outcome.tables) if outcome is not None else ()
        if outcome is not None and not outcome.is_held:
            self.compute()

    def _outcome_of(self, flow: Flow, step: Step, task: Task) -> tuple[Outcome, Held]:
        """What a step came to, and what of it is to be held as long as it is looked at."""
        runner, known = self._state.runner, self.by_step.get(step.id)
        try:
            shapes = tuple(runner.input_shapes(flow, step, task))
            planned = runner.plan(flow).planned(step.id, task)
        except TrellisError as error:
            return Outcome(error=error, step=step), ()
        wanted = step.id == self._state.selection.step
        if known is not None and known.figures is not None and planned.snapshot is None:
            same = (known.step, known.fingerprint) == (step, planned.fingerprint) and known.inputs == shapes
            if same and (known.is_held or not wanted):
                return known, ()
        tables: tuple[Table, ...] = ()
        with suppress(TrellisError):
            tables = tuple(runner.table(flow, entry, task) for entry in used_inputs(step))
        # A source's seconds are those of reading it; other steps' begin once their inputs are there.
        started = time.perf_counter()
        try:
            result = runner.result(flow, step.id, task)
            if result.match is not None:
                _warm(result.match, task)
            if result.blended is not None:
                _warm_blend(result.blended)
        except TrellisError as error:
            found = tuple(map(weakref.ref, tables))
            return Outcome(error=error, step=step, inputs=shapes, _tables=found), tables
        seconds = time.perf_counter() - started
        outcome = Outcome(
            figures=Figures.of(result, tables),
            step=step,
            fingerprint=planned.fingerprint,
            inputs_told=planned.input_fingerprints,
            inputs=shapes,
            remarks=planned.snapshot.remarks if planned.snapshot is not None else (),
            seconds=planned.snapshot.seconds if planned.snapshot is not None else seconds,
            guards=tuple(checked(runner, flow, step, task)),
            _result=weakref.ref(result),
            _tables=tuple(map(weakref.ref, tables)),
        )
        return outcome, (result, *tables)


def _warm_blend(blended: Blended) -> None:
    """Count here, off the session's thread, what bench and trellis are going to ask of a blend."""
    _ = blended.rows_by_combination
    for found in blended.others:
        _ = found.unused_rows, found.rows_found, found.groups_used


def _warm(match: Match, task: Task) -> None:
    """Compute here, off the session's thread, what the bench is going to ask of the match."""
    for part in (
        "counts",
        "left_unmatched_rows",
        "right_unmatched_rows",
        "left_passed_over_rows",
        "right_passed_over_rows",
        "first_pair_of_left",
        "pair_numbers_only_prepared",
    ):
        task.checkpoint()
        if part != "pair_numbers_only_prepared" or match.counts.pairs_as_written < match.counts.pairs:
            getattr(match, part)
    if match.counts.pairs_as_written < match.counts.pairs:
        _ = match.pair_numbers_as_written
    if isinstance(match, ListedMatch) and match.pairs <= MOST_RESULT_ROWS:
        _ = match.right_of_pair
