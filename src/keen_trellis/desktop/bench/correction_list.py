"""A list of corrections on the bench: its pairs, who said each and when, to be pruned and added to."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import SourceError
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.corrections import Correction, called, corrections_in
from keen_trellis.flow.wording import counted, listed
from keen_trellis.handbook import Chapter
from keen_trellis.session.correction_lists import users
from keen_trellis.session.outcome import Outcome


class CorrectionListView(Panel):
    """switched: a pair that is to be taken out, or put back.  new_wanted: another one is to be added."""

    switched = Signal(object)
    new_wanted = Signal()
    own_keys = (Qt.Key.Key_Delete, Qt.Key.Key_Insert)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("List of corrections", parent)
        self.entries: list[Correction] = []
        self._gone: set[Correction] = set()
        self.switch = self.head.add_action("Take it out", "Del", self._switch)
        self.head.add_action("Add a pair", "Ins", self.new_wanted.emit)
        self.opened.connect(lambda _: self._switch())
        self.table.currentCellChanged.connect(lambda *_: self._name_switch())

    def show_list(self, said: str, entries: list[Correction], gone: set[Correction]) -> None:
        """Show the pairs of a list. gone: those that were taken out of it since it is shown."""
        stands = self.table.currentRow()
        self.entries, self._gone = entries, gone
        self.begin(said, ("Written", "Read as", "Said by", "When, in UTC", ""), len(entries))
        for row, entry in enumerate(entries):
            out = entry in gone
            colour = theme().soft if out else None
            self.put(row, 0, entry.read, bold=not out, colour=colour)
            self.put(row, 1, entry.meant, colour=colour)
            self.put(row, 2, entry.by, colour=theme().soft)
            self.put(row, 3, entry.on.replace("T", " ").removesuffix("Z"), colour=theme().soft)
            self.put(row, 4, "taken out" if out else "", colour=theme().alarm)
        self.finish(max(stands, 0))
        self._name_switch()

    def _current(self) -> Correction | None:
        row = self.table.currentRow()
        return self.entries[row] if 0 <= row < len(self.entries) else None

    def _name_switch(self) -> None:
        said = "Put it back" if self._current() in self._gone else "Take it out"
        self.switch.setText(f"{said}  Del")
        self.switch.setAccessibleName(said)

    def _switch(self) -> None:
        entry = self._current()
        if entry is not None:
            self.switched.emit(entry)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Delete:
            self._switch()
        elif event.key() == Qt.Key.Key_Insert:
            self.new_wanted.emit()
        else:
            super().keyPressEvent(event)


class CorrectionListOpener(Opener[CorrectionListView]):
    """Shows one list. new_wanted: another pair is to be added to the list with this path."""

    chapter = Chapter.AGAIN

    new_wanted = Signal(str)
    path = ""

    def made(self) -> CorrectionListView:
        self._gone: list[Correction] = []
        view = CorrectionListView()
        view.switched.connect(self._switch)
        view.new_wanted.connect(lambda: self.new_wanted.emit(self.path))
        return view

    def show_list(self, path: str) -> None:
        """Open the list with a path."""
        _ = self.view
        self.path, self._gone = path, []
        self.show()

    def show(self) -> None:
        """Open the list that was shown last."""
        if self.fill():
            self._panels.open(self)

    def fill(self) -> bool:
        """Bring the page up to date; whether the list can be read."""
        try:
            there = list(corrections_in(self.path))
        except SourceError as error:
            self._session.failed.emit(error)
            return False
        said_again = {entry.read for entry in there}
        self._gone = [entry for entry in self._gone if entry.read not in said_again]
        flow = self._session.flow
        used = [name for entry in flow.lists if entry.path == self.path for name in users(flow, entry.id)]
        whose = f"used by {listed(used, 3)}" if used else "not used in this flow"
        pairs = counted(len(there), "pairs")
        shown = sorted([*there, *self._gone], key=lambda entry: entry.read.casefold())
        self.view.show_list(f"{called(self.path)}: {pairs}, {whose}. {self.path}", shown, set(self._gone))
        return True

    def _switch(self, entry: Correction) -> None:
        lists = self._session.lists
        if entry in self._gone:
            if lists.put_back(self.path, entry):
                self._gone.remove(entry)
        elif lists.prune(self.path, entry):
            self._gone.append(entry)
        self.fill()

    def stays(self, outcome: Outcome | None) -> bool:
        del outcome
        return True
