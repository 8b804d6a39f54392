"""What the window does with a query that is pasted: it says what has no counterpart, and builds the rest."""

from __future__ import annotations

from PySide6.QtCore import QObject, QPoint, Qt
from PySide6.QtWidgets import QMessageBox

from keen_trellis.desktop.plain import PlainBox
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.flow.from_sql import FromSql
from keen_trellis.session import from_sql

_MOST_SAID = 12


class StepsFromSql(QObject):
    """The command that makes steps of a query."""

    def __init__(self, frame: Frame) -> None:
        super().__init__(frame)
        self._frame = frame

    def ask(self) -> None:
        """Ask for the query."""
        title = "A SELECT on tables in the margin; its joins, conditions and sums become steps"
        entry = Entry(title, "", self._frame, check=from_sql.check_query, several_lines=True)
        entry.entered.connect(self.read)
        entry.open_under(self._frame.sentence.view, at=QPoint(240, 4))

    def read(self, text: str) -> None:
        """Find out what the query becomes, and build it; what has no counterpart is said before."""

        def done(made: FromSql) -> None:
            if made.lacking:
                self._ask_partly(text, made)
            else:
                self._build(text, made)

        from_sql.read_query(self._frame.session, text, done)

    def _build(self, text: str, made: FromSql) -> None:
        if from_sql.put_query(self._frame.session, text):
            notes = f" {made.notes[0]}." if made.notes else ""
            self._frame.status.say(f"The query stands in the flow.{notes} Ctrl+Z takes it back.")
            self._frame.trellis.setFocus()

    def _ask_partly(self, text: str, made: FromSql) -> None:
        box = PlainBox(
            QMessageBox.Icon.Question,
            "Steps from SQL",
            "Some of the query has no counterpart here. Build the rest?",
            parent=self._frame,
        )
        said = [f"• {line}" for line in (*made.lacking, *made.notes)]
        more = [f"and {len(said) - _MOST_SAID:,} more"] if len(said) > _MOST_SAID else []
        box.setInformativeText("\n".join([*said[:_MOST_SAID], *more]))
        build = box.addButton("Build the rest", QMessageBox.ButtonRole.AcceptRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        build.clicked.connect(lambda: self._build(text, made))
        box.open()
