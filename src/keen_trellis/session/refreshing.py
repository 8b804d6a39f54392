"""Takes the sources of the open flow anew, and finds out what has changed since before."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import suppress

import msgspec

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.flow.comparison import Comparison, compare, counts_of
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.last_run import LastRun, now
from keen_trellis.flow.snapshot import Earlier
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.jobs import Job
from keen_trellis.session.margin import Margin
from keen_trellis.session.notice import Notice
from keen_trellis.session.results import Results
from keen_trellis.session.state import State


class Refreshing:
    """comparison: what changed, once it is known.  last: what the flow came to when it was saved last.

    began: when the last refresh began, as `time.monotonic` tells it.  compared: it is known what it changed.
    """

    def __init__(self, state: State, margin: Margin, results: Results) -> None:
        self._state, self._margin, self._results = state, margin, results
        self.comparison: Comparison | None = None
        self.last: LastRun | None = None
        self.began = 0.0
        self.compared: Notice[[]] = Notice()
        self._job: Job | None = None

    def begin_anew(self, last: LastRun | None) -> None:
        """Another flow is open, which came to `last` when it was saved."""
        self.last, self.comparison = last, None
        if last is not None:
            flow, library = self._state.flow, self._state.library
            self._compare_with(lambda: library.before(flow, KINDS, last), last)

    def forget_gone(self) -> None:
        """Let go of a comparison of sources that are no longer in the flow."""
        compared = {change.step for change in self.comparison.sources} if self.comparison else set()
        if not compared <= {step.id for step in self._state.flow.steps}:
            self.comparison = None

    def counts_now(self) -> LastRun | None:
        """What the flow comes to, to be remembered; None while some of it is not known."""
        results = {}
        for step in self._state.flow.steps:
            outcome = self._results.by_step.get(step.id)
            if outcome is None or (outcome.figures is not None and outcome.step != step):
                return None
            if outcome.figures is not None:
                results[step.id] = outcome.figures.rows[ROWS], outcome.figures.counts
        snapshots = {
            step: snapshot
            for step, settings in self._state.sources().items()
            if (snapshot := self._state.library.known(settings)) is not None
        }
        return counts_of(self._state.flow, KINDS, results, snapshots)

    def refresh(self, step_id: str = "") -> None:
        """Take the snapshots of all sources anew, or only that of one step, and say what changed."""
        library, sources = self._state.library, self._state.sources()
        chosen = {sources[step_id]} if step_id in sources else set(sources.values())
        known = {settings: library.known(settings) for settings in sources.values()}
        before = {settings: snapshot for settings, snapshot in known.items() if snapshot is not None}
        last, moment = self.counts_now(), now()
        self.began = time.monotonic()

        def work(task: Task) -> None:
            for number, settings in enumerate(sorted(chosen, key=lambda entry: entry.path)):
                task.checkpoint(number, len(chosen), f"refreshing {settings.file_name}")
                with suppress(SourceError):
                    # A source that cannot be read says so at its own step.
                    library.refresh(settings, task)

        def done(_: object) -> None:
            self._margin.look_again()
            self._results.compute()
            since = msgspec.structs.replace(last, taken=moment) if last is not None else LastRun(moment)
            self._compare_with(lambda: Earlier(before), since, show=True)

        self._begin("refreshing the sources", work, done)

    def _compare_with(self, before: Callable[[], Earlier], last: LastRun, *, show: bool = False) -> None:
        """Find out what changed since `last`; a refresh shows it, opening a flow only says so."""
        flow = self._state.flow

        def work(task: Task) -> Comparison:
            return compare(flow, self._state.runner, before(), last, task)

        def done(comparison: Comparison) -> None:
            if flow is not self._state.flow:
                return
            self.comparison = comparison
            if show:
                self.compared.emit()
                nothing = "; nothing has changed" if comparison.is_unchanged else ""
                self._state.said.emit(f"Refreshed{nothing}.")
            elif not comparison.is_unchanged:
                same = all(source.is_unchanged for source in comparison.sources)
                what = "The flow has" if same else "The sources have"
                self._state.said.emit(f"{what} changed since this flow was saved: Shift+F5 shows what.")

        self._begin("comparing with before", work, done)

    def _begin(self, what: str, work: Callable[[Task], object], done: Callable[..., None]) -> None:
        """Begin work that takes the place of what was under way: only the latest refresh counts."""
        if self._job is not None:
            self._job.cancel()
        self._job = self._state.jobs.start(what, work, done, self._state.failed.emit)
