"""A line to type into, opened under a chip: a row number, a name, an address, a password."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QCheckBox, QFrame, QLineEdit, QPlainTextEdit, QVBoxLayout, QWidget

from keen_trellis.core.errors import TrellisError
from keen_trellis.desktop.plain import PlainLabel
from keen_trellis.desktop.theme import font, theme

_WIDTH, _WIDE = 360, 640


class Entry(QFrame):
    """entered: what was typed, once `check` has nothing against it. check raises an error of ours."""

    entered = Signal(str)

    def __init__(
        self,
        title: str,
        text: str,
        parent: QWidget,
        *,
        check: Callable[[str], object] | None = None,
        secret: bool = False,
        tick: str = "",
        several_lines: bool = False,
        hint: str = "",
    ) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._check = check
        self._entered = False
        label = PlainLabel(title)
        label.setWordWrap(True)
        label.setFont(font(12, bold=True))
        self.line = QLineEdit(text)
        self.lines = QPlainTextEdit(text)
        self._several = several_lines
        self.line.setFont(font(12))
        self.lines.setFont(font(12))
        self.lines.setTabChangesFocus(True)
        self.line.setAccessibleName(title)
        self.lines.setAccessibleName(title)
        if secret:
            self.line.setEchoMode(QLineEdit.EchoMode.Password)
        self.tick = QCheckBox(tick)
        self.tick.setFont(font(12))
        self.tick.setChecked(True)
        self.said = PlainLabel()
        self.said.setWordWrap(True)
        self.said.setFont(font(11))
        self._hint = (
            hint or ("Ctrl+Enter to apply" if several_lines else "Enter to apply") + ", Esc to cancel"
        )
        # Their parent first: a widget that is shown without one is a window of its own.
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 8, 10, 8)
        layout.setSpacing(6)
        for widget, shown in (
            (label, True),
            (self.line, not several_lines),
            (self.lines, several_lines),
            (self.tick, bool(tick)),
            (self.said, True),
        ):
            layout.addWidget(widget)
            widget.setVisible(shown)
        chosen = theme()
        self.setStyleSheet(
            f"Entry {{ background: {chosen.paper.name()}; border: 1px solid {chosen.accent.name()}; }}"
        )
        self._say(self._hint)
        self.line.returnPressed.connect(self._enter)
        self.setFixedWidth(_WIDE if several_lines else _WIDTH)

    @property
    def text(self) -> str:
        return self.lines.toPlainText() if self._several else self.line.text()

    def open_under(self, anchor: QWidget, *, at: QPoint | None = None) -> None:
        """Show it under a widget, inside the window."""
        self.adjustSize()
        place = anchor.mapToGlobal(at if at is not None else QPoint(0, anchor.height() + 2))
        screen = anchor.window().geometry()
        place.setX(max(min(place.x(), screen.right() - self.width()), screen.left()))
        place.setY(max(min(place.y(), screen.bottom() - self.height()), screen.top()))
        self.move(place)
        self.show()
        field = self.lines if self._several else self.line
        field.setFocus()
        field.selectAll()

    def _enter(self) -> None:
        if self._entered:
            return  # the line hands Return on once it has told of it
        try:
            if self._check is not None:
                self._check(self.text)
        except TrellisError as error:
            self._refused(error)
            return
        self._entered = True
        text = self.text
        self.close()
        self.entered.emit(text)

    def _refused(self, error: TrellisError) -> None:
        self._say(f"{error.what} {error.remedy}".strip(), alarm=True)

    def _say(self, text: str, *, alarm: bool = False) -> None:
        self.said.setText(text)
        self.said.setStyleSheet(f"color: {(theme().alarm if alarm else theme().soft).name()};")
        self.adjustSize()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and (
            not self._several or event.modifiers() & Qt.KeyboardModifier.ControlModifier
        ):
            self._enter()
        else:
            super().keyPressEvent(event)
