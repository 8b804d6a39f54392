"""The line that finds text in the rows of the bench."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QWidget

from keen_trellis.desktop.bench.grid import BenchGrid
from keen_trellis.desktop.plain import PlainLabel
from keen_trellis.desktop.theme import font
from keen_trellis.session.session import Session


class FindBar(QWidget):
    """Hidden until it is opened; Esc hides it. Enter and *Next* go on from the row that was found."""

    def __init__(self, session: Session, grid: BenchGrid) -> None:
        super().__init__()
        self._session, self._grid = session, grid
        self.line = QLineEdit()
        self.line.setPlaceholderText("find in the rows of this step")
        self.line.setAccessibleName("Find in rows")
        self.line.setFont(font(12))
        self.line.setMaximumWidth(360)
        self.line.returnPressed.connect(lambda: self.go_on())
        self.line.installEventFilter(self)
        self.said = PlainLabel()
        label = PlainLabel("Find")
        label.setFont(font(12))
        following = QPushButton("Next")
        following.clicked.connect(lambda: self.go_on())
        layout = QHBoxLayout(self)
        layout.setContentsMargins(12, 4, 12, 4)
        layout.addWidget(label)
        layout.addWidget(self.line)
        layout.addWidget(following)
        layout.addWidget(self.said, 1)
        self.hide()

    def open(self) -> None:
        """Show the line, to type another text over the one before."""
        self.show()
        self.line.setFocus()
        self.line.selectAll()

    def go_on(self, *, backwards: bool = False) -> None:
        """Go to the next row with the text looked for."""
        content, text = self._grid.content, self.line.text()
        if content is None or not text:
            return
        start = self._grid.place_for_search()
        self.said.setText("looking …")
        self._session.jobs.start(
            f"looking for “{text}”",
            lambda task: content.find(text, start, task, backwards=backwards),
            lambda found: self._found(text, found),
            self._session.failed.emit,
        )

    def _found(self, text: str, place: tuple[int, int] | None) -> None:
        self.said.setText("" if place else f"“{text}” is in none of these rows")
        if place is not None:
            self._grid.show_row(*place)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if (
            watched is self.line
            and isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.key() == Qt.Key.Key_Escape
        ):
            self.hide()
            self._grid.setFocus()
            return True
        return super().eventFilter(watched, event)
