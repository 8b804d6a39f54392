"""The head of what takes the place of the rows on the bench: its name, what is said of it, its actions as
buttons with their keys, and the way back.
"""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QWidget

from keen_trellis.desktop.plain import PlainLabel
from keen_trellis.desktop.theme import font, theme


class Head(QWidget):
    """back: the way back was clicked."""

    back = Signal()

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._name = PlainLabel(name)
        self.said = PlainLabel()
        self.said.setWordWrap(True)
        self.said.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(8)
        self._row.addWidget(self._name)
        self._row.addWidget(self.said, 1)
        self._buttons: list[QPushButton] = []
        self.add_action("Back to the rows", "Esc", self.back.emit)
        self.use_theme()

    def name_it(self, name: str) -> None:
        """Show another name."""
        self._name.setText(name)

    def add_action(self, text: str, keys: str, run: Callable[[], object]) -> QPushButton:
        """Put a button before the way back. keys: what does the same by keyboard."""
        button = QPushButton(f"{text}  {keys}".strip())
        button.setAccessibleName(text)
        # The keyboard stays with the rows, where the keys do the same.
        button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        button.setCursor(Qt.CursorShape.PointingHandCursor)
        button.clicked.connect(lambda: run())
        self._row.insertWidget(self._row.count() - bool(self._buttons), button)
        self._buttons.append(button)
        return button

    def use_theme(self) -> None:
        """Be coloured as the window is."""
        chosen = theme()
        self._name.setFont(font(12.5, bold=True))
        self._name.setStyleSheet(f"color: {chosen.ink.name()};")
        self.said.setFont(font(12))
        self.said.setStyleSheet(f"color: {chosen.soft.name()};")
        for button in self._buttons:
            button.setFont(font(11.5))
