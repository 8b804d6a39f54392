"""What the bench does about reasons: makes mends, opens reviews, writes them out and reads the answers
back.
"""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Signal

from keen_trellis.core.errors import TrellisError, UsageError
from keen_trellis.core.insight.reason import Mend, Reason, Way
from keen_trellis.core.task import Task
from keen_trellis.desktop.bench.grid import BenchGrid
from keen_trellis.desktop.bench.mend_text import mend_text
from keen_trellis.desktop.bench.panels import Opener, Panels
from keen_trellis.desktop.bench.review import ReviewView
from keen_trellis.desktop.dialogs import ask_to_open, ask_to_save, file_name
from keen_trellis.flow.edits import change_settings
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.mending import flow_after, values_of
from keen_trellis.flow.reviewing import Review, said_of
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings
from keen_trellis.outputs import write
from keen_trellis.outputs.targets import settings_for
from keen_trellis.session.explaining import Explanations
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session
from keen_trellis.sources.library import resolve

_TABLES = ("Workbook (*.xlsx)", "Delimited text (*.csv)")


class MendCommands(Opener[ReviewView]):
    """Makes mends, and opens the review. accepted: a knot's id, whose values were accepted as absent."""

    accepted = Signal(str)

    def __init__(self, session: Session, panels: Panels, explanations: Explanations, grid: BenchGrid) -> None:
        super().__init__(session, panels)
        self._explanations, self._grid = explanations, grid
        # The parts that there were before a mend, until the rows that it gained are known and shown.
        self.known_parts: set[str] | None = None
        self._reviewed = ""  # the knot whose values are looked at

    def made(self) -> ReviewView:
        view = ReviewView()
        view.settled.connect(self._apply)
        view.export_wanted.connect(self._ask_where)
        view.answers_wanted.connect(self._ask_which)
        return view

    def _knot(self) -> tuple[Outcome, JoinSettings] | None:
        """What the selected knot came to, and its settings."""
        outcome = self._session.selected_outcome()
        if outcome is None or outcome.step is None or not KINDS.matches(outcome.step):
            return None
        return (outcome, KINDS.settings(outcome.step)) if len(outcome.tables) == 2 else None

    def mend(self, reason: Reason, mend: Mend) -> None:
        """Make a mend, as an edit of the flow; pairs of values are reviewed first."""
        found = self._knot()
        if found is None:
            return
        outcome, settings = found
        assert outcome.step is not None
        if mend.way in (Way.CORRECTIONS, Way.REVIEW):
            self.show()
            return
        values: tuple[str, ...] = ()
        if mend.way is Way.ACCEPT:
            values = values_of(settings.asked(outcome.tables[0], outcome.tables[1]), reason)
        if mend.way is Way.LINKS:
            self._expect_gains()
        knot = outcome.step.id

        def edit(flow: Flow) -> tuple[Flow, str]:
            if flow.step(knot) != outcome.step:
                raise UsageError("The knot was changed meanwhile.", remedy="Wait for its new reasons.")
            return flow_after(flow, knot, mend, reason, outcome.inputs, values)

        if self._session.apply(f"Mend: {mend.said}", edit):
            self._session.said.emit(f"{mend_text(mend)}. Ctrl+Z takes it back.")
            if mend.way is Way.ACCEPT:
                self.accepted.emit(knot)

    # --- review ---

    def show(self) -> None:
        """Show what the selected knot's values probably mean, and what was decided of them before."""
        knot = self._knot()
        if knot is None:
            self._session.said.emit("Select a knot first: its values are reviewed.")
            return
        explained = self._explanations.of(knot[0])
        if explained is None:
            self._session.said.emit("It is not known yet why rows did not match.")
            return
        review, self._reviewed = Review.of(knot[1], explained.reasons), self._session.selection.step
        if not review.pairs:
            self._session.said.emit("No value without partner is like another: there is nothing to review.")
            return
        self.view.show_review(review)
        self._panels.open(self)

    def _apply(self, review: Review) -> None:
        knot = self._reviewed

        def edit(flow: Flow) -> Flow:
            step = flow.find(knot)
            if step is None:
                raise UsageError("The knot was removed meanwhile.", remedy="Undo its removal, or go back.")
            return change_settings(flow, knot, review.settings_after(KINDS.settings(step)))

        self._expect_gains()
        if self._session.apply("Review values", edit):
            self._session.said.emit(f"Reviewed: {said_of(review)}. Ctrl+Z takes it back.")
        self._panels.close()

    def _expect_gains(self) -> None:
        content = self._grid.content
        self.known_parts = {part.key for part in content.parts} if content is not None else set()

    def _ask_where(self) -> None:
        step = self._session.flow.find(self._reviewed)
        name = f"{file_name(step.name)}, values to review" if step is not None else "Values to review"
        place = self._session.place / f"{name}.xlsx"
        ask_to_save(self.view, "Export the review", place, _TABLES, self.export)

    def export(self, path: Path) -> None:
        """Write the review to a file, with a column for answers; the dialog has asked about replacing it."""
        sources = [settings.path for settings in self._session.sources().values()]
        try:
            written = write(self.view.review.as_table(), settings_for(path), kept=sources, replace=True)
        except TrellisError as error:
            self._session.failed.emit(error)
            return
        self._session.said.emit(
            f"Wrote {written.rows:,} pairs to {path.name}; into “answer” belongs yes, no or the value meant."
        )

    def _ask_which(self) -> None:
        kinds = [*_TABLES, "All files (*)"]
        folder = self._session.place
        ask_to_open(self.view, "Read answers", folder, kinds, lambda paths: self.read_answers(paths[0]))

    def read_answers(self, path: Path) -> None:
        """Take over the answers of a file that was exported."""
        library = self._session.library

        def work(task: Task) -> Review:
            return self.view.review.answered(library.get(resolve(str(path), library).settings, task).table)

        self._session.jobs.start(
            f"reading answers from {path.name}", work, self.view.show_review, self._session.failed.emit
        )
