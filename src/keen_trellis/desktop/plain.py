"""Labels, tooltips and boxes whose text is text: Qt would take what looks like markup for markup."""

from __future__ import annotations

from html import escape

from PySide6.QtCore import Qt
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import QLabel, QMessageBox

from keen_trellis.flow.plain_text import cut

_LONGEST_TIP = 2_000


def plain_label(text: str = "") -> QLabel:
    """A label that shows its text as it is."""
    label = QLabel()
    label.setTextFormat(Qt.TextFormat.PlainText)
    label.setText(text)
    return label


def tip(text: str) -> str:
    """A text as a tooltip that shows it as it is, its beginning where it is long."""
    shown = cut(text, _LONGEST_TIP)
    if "<" not in shown and "&" not in shown:
        return shown
    return f'<span style="white-space: pre-wrap">{escape(shown)}</span>'


def menu_text(text: str) -> str:
    """A text as a menu shows it as it is: “&” would name a key."""
    return text.replace("&", "&&")


def elided(metrics: QFontMetrics, text: str, mode: Qt.TextElideMode, width: int) -> str:
    """A text that fits into a width. No more of it is measured than could be shown."""
    return metrics.elidedText(cut(text), mode, width)


class PlainBox(QMessageBox):
    """A box with a question or an error, that shows its text as it is."""

    def setInformativeText(self, text: str) -> None:
        """Show a text below the first one."""
        super().setInformativeText(text)
        for label in self.findChildren(QLabel):
            label.setTextFormat(Qt.TextFormat.PlainText)

    def set_text_width(self, width: int) -> None:
        """Give long lines more room than such a box usually has."""
        for label in self.findChildren(QLabel):
            if label.text():
                label.setMinimumWidth(width)

    def showEvent(self, event: object) -> None:
        """As it is shown: whatever text was set until now."""
        for label in self.findChildren(QLabel):
            label.setTextFormat(Qt.TextFormat.PlainText)
        super().showEvent(event)  # type: ignore[arg-type]
