"""Asks the user about what a flow from elsewhere reaches: servers, queries, and files outside its folder."""

from __future__ import annotations

from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QMessageBox

from keen_trellis.desktop.plain import PlainBox
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.trust import output_reach
from keen_trellis.sources.queries import NotHarmless, reach_said

_MOST_SHOWN = 12
_WIDTH = 560  # pixels


class Reaching(QObject):
    """What the window asks before an opened flow reaches anything."""

    def __init__(self, frame: Frame) -> None:
        super().__init__(frame)
        self._frame = frame
        self._session = frame.session
        frame.sentence.accepting_wanted.connect(self.ask)

    def ask_if_waiting(self) -> None:
        """Ask if the flow that was opened reaches what nobody accepted."""
        if self._session.library.waiting:
            self.ask()

    def ask(self) -> None:
        """Show all that the flow reaches, and let it be accepted if it is not."""
        entries = self._session.reach()
        errors = [outcome.error for outcome in self._session.results.by_step.values()]
        refused = any(isinstance(error, NotHarmless) for error in errors)
        waits = bool(self._session.library.waiting or refused)
        lines = sorted(map(reach_said, entries))
        what = "Connections and outputs of this flow"
        if self._session.library.waiting:
            what = "This flow was not made by you here."
        elif refused:
            what = "A query of this flow calls functions that may do more than read rows."
        elif not entries:
            what = "This flow connects to no server, and writes only into its own folder."
        box = PlainBox(QMessageBox.Icon.Question, "Connections and outputs", what, parent=self._frame)
        shown = "\n".join(f"• {line}" for line in lines[:_MOST_SHOWN])
        if len(lines) > _MOST_SHOWN:
            shown += f"\n… and {len(lines) - _MOST_SHOWN:,} more; see the details."
            box.setDetailedText("\n".join(lines))
        if waits:
            shown = f"If you accept it, it can:\n{shown}\n\nUntil then, only its local files are read."
            accept = box.addButton("Accept", QMessageBox.ButtonRole.AcceptRole)
            later = box.addButton("Not now", QMessageBox.ButtonRole.RejectRole)
            box.setDefaultButton(later)
            accept.clicked.connect(self._session.accept_reach)
        elif entries:
            shown = f"It can:\n{shown}"
        box.setInformativeText(shown)
        box.set_text_width(_WIDTH)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    def may_write(self, settings: OutputSettings) -> bool:
        """Whether an output may be written; if not, the user is asked about what the flow reaches."""
        if output_reach(settings) not in self._session.library.waiting:
            return True
        self.ask()
        return False
