"""The first rows of an output on the bench, as whoever opens it will find them."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import TrellisError
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.steps import KINDS
from keen_trellis.handbook import Chapter
from keen_trellis.outputs.preview import FEW, Preview, preview
from keen_trellis.session.outcome import Outcome


class PreviewView(Panel):
    """Lines of text, or cells of a sheet."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("What is written", parent)

    def show_preview(self, found: Preview, what: str, rows: int) -> None:
        """Show the first rows of `what`, which has so many."""
        first = f"the first {FEW} of {rows:,} rows" if rows > FEW else f"{rows:,} rows"
        numbers = (*((0,) if found.numbered else ()), *found.numbers)
        self.begin(
            f"What is written to {what}: {first}, as whoever opens it finds them.",
            found.headings,
            len(found.rows),
            numbers=numbers,
        )
        soft, ground = theme().soft, theme().ground
        for number, row in enumerate(found.rows):
            for column, text in enumerate(row):
                if found.numbered and column == 0:
                    self.put(number, column, text, number=True, colour=soft, ground=ground)
                else:
                    is_number = column in found.numbers
                    self.put(number, column, text, bold=found.header and number == 0, number=is_number)
        self.finish()


class PreviewOpener(Opener[PreviewView]):
    """Shows what the selected output writes."""

    chapter = Chapter.REPORT

    def made(self) -> PreviewView:
        return PreviewView()

    @property
    def is_wanted(self) -> bool:
        """Whether an output is selected."""
        step = self._session.flow.find(self._session.selection.step)
        return step is not None and KINDS.ends_rail(step)

    def show(self) -> None:
        try:
            filled = self._fill()
        except TrellisError as error:
            self._session.said.emit(str(error))
            return
        if filled:
            self._panels.open(self)
        else:
            self._session.said.emit("Select an output whose rows are there.")

    def _fill(self) -> bool:
        step = self._session.flow.find(self._session.selection.step)
        outcome = self._session.outcome(step.id) if step is not None else None
        if step is None or not self.is_wanted or outcome is None or outcome.result is None:
            return False
        settings, table = KINDS.settled(self._session.flow, step), outcome.result.rows
        self.view.show_preview(preview(table, settings), settings.where, table.rows)
        return True

    def stays(self, outcome: Outcome | None) -> bool:
        try:
            self._fill()
        except TrellisError:
            return False
        return outcome is None or outcome.error is None
