"""What needs attention, as a list on the bench; each line leads to its place."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener
from keen_trellis.desktop.theme import theme
from keen_trellis.handbook import Chapter
from keen_trellis.session.attention import Need, needs
from keen_trellis.session.outcome import Outcome


class AttentionView(Panel):
    """wanted: what is to be gone to, a selection."""

    wanted = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("What needs attention", parent)
        self.lines: list[Need] = []
        self.head.add_action("Go there", "Enter", self.open_current)
        self.opened.connect(self._open)

    def show_needs(self, found: Sequence[Need]) -> None:
        """Show everything that needs attention."""
        stood = self.table.currentRow()
        self.lines = list(found)
        wrong = sum(need.alarm for need in found)
        said = "Nothing needs attention."
        if found:
            count = "1 thing is" if wrong == 1 else f"{wrong:,} things are"
            said = f"{count} wrong, {len(found) - wrong:,} doubtful."
        self.begin(said, ("Step", "What", ""), len(found))
        for row, need in enumerate(found):
            colour = theme().alarm if need.alarm else theme().ink
            self.put(row, 0, need.name, bold=True)
            self.put(row, 1, need.what, colour=colour)
            self.put(row, 2, need.text, colour=colour)
        self.finish(max(min(stood, len(found) - 1), 0))

    def _open(self, row: int) -> None:
        if 0 <= row < len(self.lines):
            self.wanted.emit(self.lines[row].selection)


class AttentionOpener(Opener[AttentionView]):
    """Lists what needs attention anywhere in the flow."""

    chapter = Chapter.WRONG

    def made(self) -> AttentionView:
        view = AttentionView()
        view.wanted.connect(self._panels.leave_for)
        return view

    def show(self) -> None:
        """Show everything that needs attention."""
        self.view.show_needs(needs(self._session))
        self._panels.open(self)

    def stays(self, outcome: Outcome | None) -> bool:
        del outcome
        self.view.show_needs(needs(self._session))
        return True
