"""The sentence: words and chips in two lines, whatever the step."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import msgspec
from PySide6.QtCore import QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QFocusEvent,
    QFontMetrics,
    QKeyEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
)
from PySide6.QtWidgets import QAbstractButton, QWidget

from keen_trellis.desktop.plain import elided, tip
from keen_trellis.desktop.theme import font, theme

HEIGHT = 72
_LINE = 30
_CHIP = 25
_GAP = 7
_SIDE = 14
_LIMITS = (420, 300, 220, 170, 130, 100, 76)


class Word(msgspec.Struct, frozen=True):
    """Plain text in the sentence. alarm: it tells of something wrong."""

    text: str
    alarm: bool = False


@dataclass(frozen=True)
class Chip:
    """A part that can be changed. action: what opens or happens.  hue: of the source it belongs to."""

    text: str
    action: Callable[[QWidget], None] = field(compare=False)
    label: str
    hue: int | None = None
    strong: bool = False
    doing: bool = False  # it does something at once, instead of opening a choice


Item = Word | Chip


class ChipButton(QAbstractButton):
    """A chip on the screen."""

    def __init__(self, chip: Chip, parent: QWidget) -> None:
        super().__init__(parent)
        self.chip = chip
        self.setText(chip.text)
        self.setAccessibleName(f"{chip.label}: {chip.text}")
        self.setToolTip(tip(f"{chip.label}: {chip.text}"))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.clicked.connect(lambda: self.chip.action(self))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Down):
            self.click()
        elif event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.focusNextPrevChild(event.key() == Qt.Key.Key_Right)
        else:
            super().keyPressEvent(event)

    def width_for(self, most: int) -> int:
        """How wide the chip is when it may be `most` wide."""
        metrics = QFontMetrics(font(12, bold=True))
        return min(metrics.horizontalAdvance(self.chip.text) + 20, most)

    def paintEvent(self, event: QPaintEvent) -> None:
        chosen = theme()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        edge, ground, ink = chosen.line, chosen.paper, chosen.ink
        if self.chip.hue is not None:
            hue = chosen.hue(self.chip.hue)
            edge, ground = hue.rail, hue.chip
        if self.chip.strong:
            edge = chosen.ink
        if self.chip.doing:
            edge, ink = chosen.accent, chosen.accent
        active = self.hasFocus() or self.underMouse()
        painter.setPen(QPen(chosen.accent if active else edge, 2 if self.hasFocus() else 1.2))
        painter.setBrush(ground)
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 5, 5)
        painter.setPen(QColor(ink))
        painter.setFont(font(12, bold=True))
        inner = self.rect().adjusted(9, 0, -9, 0)
        metrics = QFontMetrics(painter.font())
        text = elided(metrics, self.chip.text, Qt.TextElideMode.ElideMiddle, inner.width() + 2)
        painter.drawText(inner.adjusted(0, 0, 4, 0), Qt.AlignmentFlag.AlignVCenter, text)


class SentenceView(QWidget):
    """Two lines of words and chips. Long chips are shortened so that the lines never grow in number.

    menu_wanted: the chip that is pointed at, None for the words, and where on the screen that is.
    """

    menu_wanted = Signal(object, object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._items: list[Item] = []
        self._chips: list[ChipButton] = []
        self._words: list[tuple[QRect, Word, str]] = []
        self.setFixedHeight(HEIGHT)
        self.setAccessibleName("Sentence")

    def sizeHint(self) -> QSize:
        return QSize(1000, HEIGHT)

    @property
    def chips(self) -> list[ChipButton]:
        """The chips, in reading order."""
        return self._chips

    @property
    def text(self) -> str:
        """The whole sentence as it is read."""
        return " ".join(item.text for item in self._items)

    def show_items(self, items: Sequence[Item]) -> None:
        """Show another sentence; the keyboard stays at the chip in the same place."""
        if list(items) == self._items:
            # The same words; but what a chip does may depend on settings that no word shows.
            newer = (item for item in items if isinstance(item, Chip))
            for shown, latest in zip(self._chips, newer, strict=True):
                shown.chip = latest
            return
        focused = next((n for n, chip in enumerate(self._chips) if chip.hasFocus()), None)
        labels = [chip.chip.label for chip in self._chips]
        self._items = list(items)
        for chip in self._chips:
            chip.hide()
            chip.deleteLater()
        self._chips = [ChipButton(item, self) for item in self._items if isinstance(item, Chip)]
        for chip in self._chips:
            chip.show()
        if focused is not None and self._chips:
            same = next((chip for chip in self._chips if chip.chip.label == labels[focused]), None)
            (same or self._chips[min(focused, len(self._chips) - 1)]).setFocus()
        self.setAccessibleDescription(self.text)
        self.setToolTip(tip(self.text))
        self._arrange()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._arrange()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        chip = next((chip for chip in self._chips if chip.hasFocus()), None)
        place = event.globalPos()
        if event.reason() == QContextMenuEvent.Reason.Mouse:
            under = self.childAt(self.mapFromGlobal(place))
            chip = under if isinstance(under, ChipButton) else None
        elif chip is not None:
            place = chip.mapToGlobal(chip.rect().bottomLeft())
        self.menu_wanted.emit(chip, place)

    def focusInEvent(self, event: QFocusEvent) -> None:
        if self._chips:
            self._chips[0].setFocus()

    def _arrange(self) -> None:
        for limit in _LIMITS:
            if self._placed(limit):
                break
        self.update()

    def _placed(self, limit: int) -> bool:
        """Place everything with chips at most `limit` wide; whether two lines were enough."""
        metrics = QFontMetrics(font(12))
        right = self.width() - _SIDE
        x, line = _SIDE, 0
        self._words = []
        chips = iter(self._chips)
        for item in self._items:
            if isinstance(item, Chip):
                chip = next(chips)
                width = chip.width_for(limit)
                if x + width > right and x > _SIDE:
                    x, line = _SIDE, line + 1
                chip.setGeometry(x, 5 + line * _LINE + 2, width, _CHIP)
                x += width + _GAP
                continue
            pieces = _pieces(item.text)
            for number, text in enumerate(pieces):
                width = metrics.horizontalAdvance(text)
                if text in (",", ".", ";"):
                    x -= _GAP - 1
                elif x + width > right and x > _SIDE:
                    x, line = _SIDE, line + 1
                self._words.append((QRect(x, 5 + line * _LINE, width + 2, _LINE), item, text))
                x += width + (_GAP if number == len(pieces) - 1 else metrics.horizontalAdvance(" "))
        return line < 2

    def paintEvent(self, event: QPaintEvent) -> None:
        chosen = theme()
        painter = QPainter(self)
        painter.fillRect(self.rect(), chosen.ground)
        painter.setPen(QPen(chosen.line, 1))
        painter.drawLine(0, 0, self.width(), 0)
        painter.drawLine(0, self.height() - 1, self.width(), self.height() - 1)
        painter.setFont(font(12))
        for rect, word, text in self._words:
            painter.setPen(chosen.alarm if word.alarm else chosen.soft)
            painter.drawText(rect, Qt.AlignmentFlag.AlignVCenter, text)


def _pieces(text: str) -> list[str]:
    """A word's text in the pieces that a line may be broken between; the last ends the item."""
    return text.split(" ") if len(text) > 24 else [text]
