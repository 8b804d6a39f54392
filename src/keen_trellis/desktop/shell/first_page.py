"""What a window without a flow shows: flows used lately, the demo's flows, and where files can be dropped."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from pathlib import Path

import msgspec
from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFontMetrics, QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from keen_trellis.desktop.plain import PlainLabel, elided
from keen_trellis.desktop.theme import font, theme
from keen_trellis.flow.plain_text import visible

_CARD = QSize(270, 150)
_PICTURE = 92
_MOST_CARDS = 6
_LINE = 46


class Lately(msgspec.Struct, frozen=True):
    """A flow that was used lately. picture: of its trellis, where there is one."""

    path: Path
    when: datetime
    picture: Path | None


class _Card(QPushButton):
    """A flow with its picture, to be opened."""

    def __init__(self, shown: Lately, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.shown = shown
        self._picture = QPixmap(str(shown.picture)) if shown.picture is not None else QPixmap()
        self.setFixedSize(_CARD)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        when = f"{shown.when:%Y-%m-%d}"
        self.setAccessibleName(f"Open {shown.path.stem}, of {when}, in {shown.path.parent}")
        self.setToolTip(visible(str(shown.path)))

    def paintEvent(self, event: QPaintEvent) -> None:
        chosen, painter = theme(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        frame = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        is_hot = self.hasFocus() or self.underMouse()
        painter.setPen(QPen(chosen.accent if is_hot else chosen.line, 2 if self.hasFocus() else 1.2))
        painter.setBrush(chosen.paper)
        painter.drawRoundedRect(frame, 5, 5)
        place = QRectF(frame.left() + 6, frame.top() + 6, frame.width() - 12, _PICTURE)
        painter.fillRect(place, chosen.ground)
        if not self._picture.isNull():
            size = self._picture.deviceIndependentSize()
            scale = min(place.width() / size.width(), place.height() / size.height())
            width, height = size.width() * scale, size.height() * scale
            top = place.top() + (place.height() - height) / 2
            painter.drawPixmap(QRectF(place.left(), top, width, height).toRect(), self._picture)
        self._words(painter, place.bottom() + 6, frame)

    def _words(self, painter: QPainter, top: float, frame: QRectF) -> None:
        shown, room = self.shown, int(frame.width()) - 24
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        for text, letters, colour, y in (
            (shown.path.stem, font(12.5, bold=True), theme().ink, top),
            (
                f"{shown.when:%Y-%m-%d} · {shown.path.parent.name or shown.path.parent}",
                font(11),
                theme().soft,
                top + 20,
            ),
        ):
            painter.setFont(letters)
            painter.setPen(colour)
            said = elided(QFontMetrics(letters), text, Qt.TextElideMode.ElideMiddle, room)
            painter.drawText(QRectF(frame.left() + 12, y, room + 2, 20), left, said)


class _Line(QPushButton):
    """A flow of the demo with what it shows, to be opened."""

    def __init__(self, name: str, said: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.name, self._said = name, said
        self.setMinimumHeight(_LINE)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName(f"Open {name}: {said}")

    def paintEvent(self, event: QPaintEvent) -> None:
        chosen, painter = theme(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.hasFocus() or self.underMouse():
            painter.setPen(QPen(chosen.accent, 2 if self.hasFocus() else 1.2))
            painter.setBrush(chosen.paper)
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 5, 5)
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        for text, letters, colour, y in (
            (self.name, font(12.5, bold=True), chosen.accent, 4),
            (self._said, font(12), chosen.soft, 23),
        ):
            painter.setFont(letters)
            painter.setPen(colour)
            said = elided(QFontMetrics(letters), text, Qt.TextElideMode.ElideRight, self.width() - 24)
            painter.drawText(QRectF(12, y, self.width() - 20, 20), left, said)


class _DropPlace(QWidget):
    """Where files can be dropped, with the other ways to begin as buttons."""

    def __init__(self, begins: Mapping[str, Callable[[], None]]) -> None:
        super().__init__()
        self.is_hot = False
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 16, 24, 16)
        column.setSpacing(4)
        self.title = PlainLabel("Drop a workbook, a text file, a folder or a database here")
        self.title.setFont(font(16, bold=True))
        self.then = PlainLabel("Then drag one table onto another to join the two. Your files are only read.")
        self.then.setFont(font(12.5))
        row = QHBoxLayout()
        self.buttons: list[QPushButton] = []
        for text, begin in begins.items():
            button = QPushButton(text)
            button.setFont(font(12.5))
            button.clicked.connect(lambda _=False, run=begin: run())
            self.buttons.append(button)
            row.addWidget(button)
        row.addStretch(1)
        column.addWidget(self.title)
        column.addWidget(self.then)
        column.addSpacing(6)
        column.addLayout(row)

    def paintEvent(self, event: QPaintEvent) -> None:
        chosen, painter = theme(), QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(chosen.selected if self.is_hot else chosen.paper)
        pen = QPen(chosen.accent if self.is_hot else chosen.hatch, 1.6)
        pen.setDashPattern([4, 3])
        painter.setPen(pen)
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 6, 6)


class FirstPage(QScrollArea):
    """flow_wanted: a flow used lately is to be opened.  demo_wanted: one of the demo's, by its file."""

    flow_wanted = Signal(object)
    demo_wanted = Signal(str)

    def __init__(self, begins: Mapping[str, Callable[[], None]], demo: Mapping[str, str]) -> None:
        """begins: other ways to begin, by the text of their button.  demo: what each demo flow shows."""
        super().__init__()
        self.setWidgetResizable(True)
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setAccessibleName("First page")
        whole = QWidget()
        self.setWidget(whole)
        column = QVBoxLayout(whole)
        column.setContentsMargins(32, 22, 32, 16)
        column.setSpacing(12)
        self.drop_place = _DropPlace(begins)
        column.addWidget(self.drop_place)
        halves = QHBoxLayout()
        halves.setSpacing(36)
        self._grid = QGridLayout()
        self._grid.setSpacing(12)
        self._grid.setColumnStretch(2, 1)
        self.cards: list[_Card] = []
        self.none_yet = _soft("Flows that you save or open are listed here, each with a picture.")
        lately = QVBoxLayout()
        lately.setSpacing(10)
        for part in (_heading("Used lately"), self.none_yet):
            lately.addWidget(part)
        lately.addLayout(self._grid)
        lately.addStretch(1)
        self.lines = [_Line(Path(name).stem, said, whole) for name, said in demo.items()]
        shown = QVBoxLayout()
        shown.setSpacing(4)
        shown.addWidget(_heading("How it is done: the demo's flows"))
        for name, line in zip(demo, self.lines, strict=True):
            line.clicked.connect(lambda _=False, file=name: self.demo_wanted.emit(file))
            shown.addWidget(line)
        shown.addStretch(1)
        halves.addLayout(lately, 1)
        halves.addLayout(shown, 1)
        column.addLayout(halves, 1)

    def show_lately(self, flows: Sequence[Lately]) -> None:
        """Show these flows as used lately, the latest first."""
        for card in self.cards:
            self._grid.removeWidget(card)
            card.deleteLater()
        self.cards = [_Card(shown, self.widget()) for shown in flows[:_MOST_CARDS]]
        for number, card in enumerate(self.cards):
            card.clicked.connect(lambda _=False, path=card.shown.path: self.flow_wanted.emit(path))
            self._grid.addWidget(card, number // 2, number % 2, Qt.AlignmentFlag.AlignLeft)
            card.show()
        self.none_yet.setVisible(not self.cards)

    def set_hot(self, *, hot: bool) -> None:
        """Show that what is dragged over the window can be dropped."""
        self.drop_place.is_hot = hot
        self.drop_place.update()

    def use_theme(self) -> None:
        """Be shown in the theme in use."""
        for label in self.findChildren(PlainLabel):
            soft = label.property("soft") or label is self.drop_place.then
            label.setStyleSheet(f"color: {(theme().soft if soft else theme().ink).name()};")
        self.viewport().update()


def _heading(text: str) -> PlainLabel:
    label = PlainLabel(text)
    label.setFont(font(13, bold=True))
    label.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
    return label


def _soft(text: str) -> PlainLabel:
    label = PlainLabel(text)
    label.setFont(font(12.5))
    label.setWordWrap(True)
    label.setProperty("soft", True)
    return label
