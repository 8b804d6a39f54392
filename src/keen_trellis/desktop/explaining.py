"""Finds the reasons of the selected knot, off the interface's thread, and keeps those of the last few."""

from __future__ import annotations

from collections import OrderedDict

from PySide6.QtCore import QObject, Signal

from keen_trellis.core.join_type import JoinType
from keen_trellis.core.table import Table
from keen_trellis.desktop.document import Document, Outcome
from keen_trellis.desktop.jobs import Job
from keen_trellis.flow.mending import Explained, explained
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings

_MOST_KEPT = 8
Key = tuple[object, ...]


class Explanations(QObject):
    """found: a knot's reasons are known, or others than before."""

    found = Signal()

    def __init__(self, document: Document, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._document = document
        self._known: OrderedDict[Key, Explained] = OrderedDict()
        self._job: tuple[Key, Job] | None = None

    def of(self, outcome: Outcome) -> Explained | None:
        """What is known of a knot; if nothing is yet, it is looked for."""
        if outcome.result is None or outcome.result.match is None or outcome.step is None or outcome.partial:
            return None
        settings: JoinSettings = KINDS.settings(outcome.step)
        if settings.join_type is JoinType.CROSS or len(outcome.tables) < 2:
            return None
        # Matches and tables are kept by what they were computed from, so that they are known by themselves.
        match = outcome.result.match
        key = (match, outcome.tables, settings.links, settings.take, settings.accepted, settings.rejected)
        if key not in self._known:
            self._look_for(key, settings, outcome.tables, outcome)
            return None
        self._known.move_to_end(key)
        return self._known[key]

    def _look_for(
        self, key: Key, settings: JoinSettings, tables: tuple[Table, ...], outcome: Outcome
    ) -> None:
        if self._job is not None:
            if self._job[0] == key:
                return
            self._job[1].cancel()
        match = outcome.result.match if outcome.result else None
        assert match is not None and outcome.step is not None

        def done(found: Explained) -> None:
            self._job = None
            self._known[key] = found
            while len(self._known) > _MOST_KEPT:
                self._known.popitem(last=False)
            self.found.emit()

        def failed(_: object) -> None:
            # What keeps it from being explained is said where the match is; the bands stay whole.
            self._job = None
            self._known[key] = Explained((), ())

        def cancelled(job: Job) -> None:
            # Whoever asks the next time has it looked for again.
            if self._job is not None and self._job[1] is job:
                self._job = None

        job = self._document.jobs.start(
            f"looking why rows of {outcome.step.name} did not match",
            lambda task: explained(settings, tables[0], tables[1], match, task),
            done,
            failed,
            cancelled,
        )
        self._job = (key, job)
