"""A shared filter on the bench: every rail, by which field it is reached, and how many rows that leaves."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.graph import SharedFilter
from keen_trellis.flow.shared_filters import filter_said
from keen_trellis.handbook import Chapter
from keen_trellis.session.filters import Reach, reaches, selected_filter, why_rows_stay
from keen_trellis.session.outcome import Outcome


class SlatView(Panel):
    """wanted: the rail's source, and the tie's step or "", of the line that was entered."""

    wanted = Signal(str, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Rails that the shared filter reaches", parent)
        self.lines: list[Reach] = []
        self.head.add_action("Choose the rail’s field", "Enter", self.open_current)
        self.opened.connect(self._open)

    def show_reaches(self, shared: SharedFilter, found: Sequence[Reach], why: Sequence[str]) -> None:
        """Show what a filter does to every rail, and why rows stay where it does not reach them."""
        stood = self.table.currentRow()
        self.lines = list(found)
        title = f"{filter_said(shared)}."
        headings = ("Rail", "Field", "Rows", "Stay", "")
        self.begin(title, headings, len(self.lines) + len(why), numbers=(2, 3))
        for row, entry in enumerate(self.lines):
            said, colour = "", theme().ink
            if not entry.tie:
                said = "need not be reached" if entry.apart else "not reached: choose a field for it"
                colour = theme().soft if entry.apart else theme().alarm
            elif entry.left == 0:
                said, colour = "emptied by this filter", theme().alarm
            self.put(row, 0, entry.rail, bold=True)
            self.put(row, 1, entry.field or "none", colour=theme().ink if entry.field else theme().soft)
            self.put(row, 2, f"{entry.rows:,}" if entry.rows >= 0 else "", number=True)
            self.put(row, 3, f"{entry.left:,}" if entry.left >= 0 else "", number=True)
            self.put(row, 4, said, colour=colour)
        for row, text in enumerate(why, len(self.lines)):
            self.put(row, 0, "Blend", bold=True)
            for column in (1, 2, 3):
                self.put(row, column, "")
            self.put(row, 4, text, colour=theme().alarm)
        self.finish(max(min(stood, len(self.lines) - 1), 0))

    def _open(self, row: int) -> None:
        if 0 <= row < len(self.lines):
            self.wanted.emit(self.lines[row].source, self.lines[row].tie)


class SlatOpener(Opener[SlatView]):
    """Shows the selected shared filter. tie_wanted: the source of a rail that is to be tied, and its tie."""

    chapter = Chapter.SHARE

    tie_wanted = Signal(str, str)

    def made(self) -> SlatView:
        view = SlatView()
        view.wanted.connect(self.tie_wanted)
        return view

    def show(self) -> None:
        """Show what the selected filter does to every rail."""
        if self._fill():
            self._panels.open(self, focus=False)

    def _fill(self) -> bool:
        session = self._session
        shared = selected_filter(session)
        if shared is None:
            return False
        why = [f"{session.flow.step(step).name}: {said}" for step, said in why_rows_stay(session, shared)]
        self.view.show_reaches(shared, reaches(session, shared), why)
        return True

    def stays(self, outcome: Outcome | None) -> bool:
        del outcome
        return self._fill()
