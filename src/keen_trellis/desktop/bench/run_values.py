"""The run values of a flow on the bench: what each is, what it means, and what uses it."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.graph import Flow, RunValue
from keen_trellis.flow.wording import listed
from keen_trellis.handbook import Chapter
from keen_trellis.session import run_values
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.selection import Selection


class RunValuesView(Panel):
    """wanted: the name of a value that is to be changed.  new_wanted: another one is to be added.
    gone_wanted: the name of one that is to be removed.
    """

    wanted = Signal(str)
    new_wanted = Signal()
    gone_wanted = Signal(str)
    own_keys = (Qt.Key.Key_Insert,)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Run values", parent)
        self.values: tuple[RunValue, ...] = ()
        self.head.add_action("Change its value", "Enter", self.open_current)
        self.head.add_action("Add a run value", "", self.new_wanted.emit)
        self.head.add_action("Remove it", "", self._remove)
        self.opened.connect(self._open)

    def show_values(self, flow: Flow, selected: str) -> None:
        """Show the run values of a flow."""
        self.values = flow.values
        said = "Each run may set them anew: run --set NAME=VALUE, or --values FILE for a run a row."
        empty = "None yet. A run value, as :month, is one that each run may set anew."
        self.begin(
            said if self.values else empty, ("Name", "Value", "Type", "Meaning", "Used by"), len(self.values)
        )
        for row, value in enumerate(self.values):
            used = run_values.users(flow, value.name)
            self.put(row, 0, f":{value.name}", bold=True)
            self.put(row, 1, value.value or "not set", colour=None if value.value else theme().alarm)
            self.put(row, 2, value.type)
            self.put(row, 3, value.said)
            self.put(
                row, 4, listed(used, 3) if used else "nothing yet", colour=None if used else theme().soft
            )
        names = [value.name for value in self.values]
        self.finish(names.index(selected) if selected in names else 0)

    def _current(self) -> str:
        row = self.table.currentRow()
        return self.values[row].name if 0 <= row < len(self.values) else ""

    def _open(self, row: int) -> None:
        if 0 <= row < len(self.values):
            self.wanted.emit(self.values[row].name)
        else:
            self.new_wanted.emit()

    def _remove(self) -> None:
        if self._current():
            self.gone_wanted.emit(self._current())


class RunValuesOpener(Opener[RunValuesView]):
    """Shows the run values. wanted: one is to be changed.  new_wanted: another one is to be added."""

    chapter = Chapter.AGAIN

    wanted = Signal(str)
    new_wanted = Signal()

    def made(self) -> RunValuesView:
        view = RunValuesView()
        view.wanted.connect(self.wanted)
        view.new_wanted.connect(self.new_wanted)
        view.gone_wanted.connect(lambda name: run_values.remove(self._session, name))
        return view

    def show(self) -> None:
        """Show the run values of the flow; where none is selected, the first."""
        session = self._session
        if session.flow.values and not session.selection.value:
            session.select(Selection(value=session.flow.values[0].name))
        self.fill()
        self._panels.open(self)

    def fill(self) -> None:
        """Bring the page up to date."""
        self.view.show_values(self._session.flow, self._session.selection.value)

    def open_beside(self) -> None:
        """Open the page for the selected value, and leave the keyboard where it is."""
        self.fill()
        self._panels.open(self, focus=False)

    def stays(self, outcome: Outcome | None) -> bool:
        del outcome
        self.fill()
        return True
