"""Finds the reasons of the selected knot on a thread; they are kept with the results, as far as these are."""

from __future__ import annotations

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.match import Match
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.kinds import digest
from keen_trellis.flow.mending import Explained, explained
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings
from keen_trellis.session.jobs import Job
from keen_trellis.session.notice import Notice
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.state import State


class Explanations:
    """found: a knot's reasons are known, or others than before."""

    def __init__(self, state: State) -> None:
        self.found: Notice[[]] = Notice()
        self._state = state
        self._job: tuple[str, Job] | None = None
        # What keeps these from being explained is said where the match is; their bands stay whole.
        self._failed: set[str] = set()

    def of(self, outcome: Outcome) -> Explained | None:
        """What is known of a knot; if nothing is yet, it is looked for."""
        match = outcome.result.match if outcome.result is not None else None
        if match is None or outcome.step is None or outcome.partial or len(outcome.tables) < 2:
            return None
        settings: JoinSettings
        try:
            settings = KINDS.settled(self._state.flow, outcome.step)
        except TrellisError:
            return None  # the step says itself what is wrong by now
        if settings.join_type is JoinType.CROSS:
            return None
        asked = settings.links, settings.take, settings.accepted, settings.rejected
        key = digest("explained", outcome.inputs_told, *asked)
        if key in self._failed:
            return Explained((), ())
        found: Explained | None = self._state.runner.kept.find(key)
        if found is None:
            self._look_for(key, settings, outcome.tables, match, outcome.step.name)
        return found

    def _look_for(
        self, key: str, settings: JoinSettings, tables: tuple[Table, ...], match: Match, name: str
    ) -> None:
        if self._job is not None:
            if self._job[0] == key:
                return
            self._job[1].cancel()

        def work(task: Task) -> Explained:
            make = lambda: explained(settings, tables[0], tables[1], match, task)  # noqa: E731
            return self._state.runner.kept.made(key, make, task)

        def over() -> None:
            # Whoever asks the next time has it looked for again, unless it is there.
            if self._job is not None and self._job[1] is job:
                self._job = None

        def done(_: Explained) -> None:
            over()
            self.found.emit()

        def failed(_: object) -> None:
            over()
            self._failed.add(key)

        job = self._state.jobs.start(
            f"looking why rows of {name} did not match", work, done, failed, lambda _: over()
        )
        self._job = (key, job)
