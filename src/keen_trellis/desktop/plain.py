"""Labels, tooltips and boxes whose text is text: Qt would take what looks like markup for markup."""

from __future__ import annotations

from html import escape

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QFontMetrics, QPainter, QPen, QPixmap
from PySide6.QtWidgets import QLabel, QMessageBox

from keen_trellis.desktop.theme import font, theme
from keen_trellis.flow.plain_text import cut, visible

_LONGEST_TIP = 2_000


def visible_lines(text: str) -> str:
    """A text of one or several lines in which other control characters are made visible."""
    return "\n".join(map(visible, text.split("\n")))


class PlainLabel(QLabel):
    """A label that shows its text as it is."""

    def __init__(self, text: str = "") -> None:
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)

    def setText(self, text: str) -> None:
        """Show a text."""
        super().setText(visible_lines(text))


def tip(text: str) -> str:
    """A text as a tooltip that shows it as it is, its beginning where it is long."""
    shown = visible_lines(cut(text, _LONGEST_TIP))
    if "<" not in shown and "&" not in shown:
        return shown
    return f'<span style="white-space: pre-wrap">{escape(shown)}</span>'


def menu_text(text: str) -> str:
    """A text as a menu shows it as it is: “&” would name a key."""
    return visible(text).replace("&", "&&")


def without_keys(text: str) -> str:
    """A menu's text as it is read: without the marks of its keys."""
    return text.replace("&&", "\0").replace("&", "").replace("\0", "&")


def elided(metrics: QFontMetrics, text: str, mode: Qt.TextElideMode, width: int) -> str:
    """A text that fits into a width, on one line. No more of it is measured than could be shown."""
    return metrics.elidedText(visible(cut(text)), mode, width)


_LETTERS = {
    QMessageBox.Icon.Warning: "!",
    QMessageBox.Icon.Critical: "!",
    QMessageBox.Icon.Question: "?",
    QMessageBox.Icon.Information: "i",
}
_SIGN = 36


def signed(letter: str, *, alarm: bool) -> QPixmap:
    """A letter in a ring: what a box is about."""
    picture = QPixmap(_SIGN * 2, _SIGN * 2)
    picture.setDevicePixelRatio(2)
    picture.fill(Qt.GlobalColor.transparent)
    painter = QPainter(picture)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(theme().alarm if alarm else theme().ink, 2))
    painter.drawEllipse(QRectF(2, 2, _SIGN - 4, _SIGN - 4))
    painter.setFont(font(18, bold=True))
    painter.drawText(QRectF(0, 0, _SIGN, _SIGN), Qt.AlignmentFlag.AlignCenter, letter)
    painter.end()
    return picture


class PlainBox(QMessageBox):
    """A box with a question or an error, that shows its text as it is."""

    def setInformativeText(self, text: str) -> None:
        """Show a text below the first one."""
        super().setInformativeText(visible_lines(text))

    def set_text_width(self, width: int) -> None:
        """Give long lines more room than such a box usually has."""
        for label in self.findChildren(QLabel):
            if label.text():
                label.setMinimumWidth(width)

    def showEvent(self, event: object) -> None:
        """As it is shown: whatever text was set until now, and a sign in ink for the style's picture."""
        letter = _LETTERS.get(self.icon())
        if letter is not None:
            self.setIconPixmap(signed(letter, alarm=self.icon() is QMessageBox.Icon.Warning))
        for label in self.findChildren(QLabel):
            label.setTextFormat(Qt.TextFormat.PlainText)
        super().showEvent(event)  # type: ignore[arg-type]
