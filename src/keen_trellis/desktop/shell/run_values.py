"""What the window does about run values: their page, adding one, and asking about them before a run."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, QPoint, Qt
from PySide6.QtWidgets import QMessageBox

from keen_trellis.desktop.plain import PlainBox
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.flow.graph import RunValue
from keen_trellis.flow.run_values import is_used
from keen_trellis.session import run_values
from keen_trellis.session.selection import Selection


class RunValues(QObject):
    """agreed: the run values with which the user let outputs be written."""

    def __init__(self, frame: Frame) -> None:
        super().__init__(frame)
        self._frame = frame
        self._agreed: tuple[RunValue, ...] = ()
        frame.bench.run_values.wanted.connect(self.change)
        frame.bench.run_values.new_wanted.connect(self.add)

    def show(self) -> None:
        """Open the page of run values; of a flow that has none, ask for a first one."""
        if self._frame.session.flow.values:
            self._frame.bench.run_values.show_or_close()
        else:
            self.add()

    def add(self) -> None:
        """Ask what another run value is called."""
        session = self._frame.session
        entry = Entry(
            "A new run value, one that each run may set anew, is called (as month)",
            "",
            self._frame,
            check=lambda text: run_values.check_name(session, text.strip()),
        )
        entry.entered.connect(lambda text: run_values.add(session, text.strip()))
        entry.open_under(self._frame.sentence.view, at=QPoint(240, 4))

    def change(self, name: str) -> None:
        """Ask what a run value is."""
        self._frame.session.select(Selection(value=name))
        self._frame.sentence.run_value.choose_value(name, self._frame.sentence.view)

    def agree(self, go_on: Callable[[], None]) -> None:
        """Ask with which run values outputs are written, and go on; not again as long as they stay so."""
        flow = self._frame.session.flow
        used = tuple(value for value in flow.values if is_used(flow, value))
        if used == self._agreed or not used:
            go_on()
            return

        def agreed() -> None:
            self._agreed = used
            go_on()

        box = PlainBox(
            QMessageBox.Icon.Question,
            "Run values",
            "Write the outputs with these values?",
            parent=self._frame,
        )
        lines = [f"{value.name} = {value.value or 'not set'}{_meaning(value)}" for value in used]
        box.setInformativeText("\n".join(lines))
        write = box.addButton("Write with these", QMessageBox.ButtonRole.AcceptRole)
        change = box.addButton("Change them…", QMessageBox.ButtonRole.ActionRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.setDefaultButton(write)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        write.clicked.connect(agreed)
        change.clicked.connect(self._frame.bench.run_values.show)
        box.open()


def _meaning(value: RunValue) -> str:
    return f"  ({value.said})" if value.said else ""
