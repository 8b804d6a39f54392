"""A picture of how values spread: a bar for each value or range, painted in ink and hatching.

It has the keyboard like a list: arrows go from bar to bar, Enter picks, Ctrl+C copies the numbers. A mouse
picks with a click, and with a drag several that follow each other.
"""

from __future__ import annotations

import enum
from collections.abc import Collection, Sequence

from PySide6.QtCore import QEvent, QMimeData, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QFontMetrics,
    QGuiApplication,
    QKeyEvent,
    QKeySequence,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
)
from PySide6.QtWidgets import QMenu, QWidget

from keen_trellis.core.insight.distribution import Bar, Distribution
from keen_trellis.core.insight.proposal import percent
from keen_trellis.desktop.plain import elided, tip
from keen_trellis.desktop.theme import font, hatching, theme
from keen_trellis.flow.plain_text import visible

HEIGHT = 168
_SIDE, _TOP, _CAPTION, _LABELS = 14, 24, 22, 18
_WIDEST_BAR, _FEW_BARS = 84, 6
_GAP = 2
_LEAST_BAR = 1.5
_SKETCH_HEIGHT, _SKETCH_WIDTH = 62, 260


class Style(enum.Enum):
    """How two series stand: the second below the line, on one scale; or only its share in both, hatched."""

    PLAIN = "plain"
    MIRRORED = "mirrored"
    SHARE = "share"


class Bars(QWidget):
    """picked: the number of a bar.  ranged: the first and the last number of several."""

    picked = Signal(int)
    ranged = Signal(int, int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.shown = Distribution("", (), (), False, (), ())
        self._style, self._title, self._does = Style.PLAIN, "", ""
        self._hues: tuple[QColor, ...] = ()
        self._chosen: Collection[int] = ()
        self.current = -1
        self._press: int | None = None
        self._dragged = False
        self._led = range(0)  # the bars that the mouse is being led over
        self.setFixedHeight(HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)

    def sizeHint(self) -> QSize:
        return QSize(600, HEIGHT)

    def show_spread(
        self,
        shown: Distribution,
        title: str,
        *,
        style: Style = Style.PLAIN,
        hues: Sequence[QColor] = (),
        does: str = "",
        chosen: Collection[int] = (),
    ) -> None:
        """Show a distribution. hues: of the series; ink without any.  does: what picking a bar does.

        chosen: the bars that are in force now.
        """
        self.shown, self._title, self._style, self._does = shown, title, style, does
        self._hues, self._chosen = tuple(hues), chosen
        self.current = min(self.current, len(shown.bars) - 1)
        self.setAccessibleName(title)
        told = "; ".join(f"{said}: {self._counts_said(counts)}" for said, counts in shown.lines())
        self.setAccessibleDescription(visible(told[:2_000]))
        self.setVisible(bool(shown.bars))
        self.update()

    # --- words ---

    def _counts_said(self, counts: Sequence[int]) -> str:
        said = [f"{count:,} {name}" for count, name in zip(counts, self.shown.series, strict=True)]
        together: int = sum(counts)
        if len(counts) == 2 and self._style is Style.SHARE and together:
            said[-1] += f" ({percent(counts[1] / together)})"
        return ", ".join(said)

    def said_of(self, number: int) -> str:
        """A bar in words: 2026-03: 812 matched, 6 unmatched (0.7 %)."""
        bar = self.shown.bars[number]
        return f"{bar.said}: {self._counts_said(bar.counts)}"

    @property
    def caption(self) -> str:
        """What stands above the bars: the one stood on, or what all of them are."""
        if 0 <= self.current < len(self.shown.bars):
            return self.said_of(self.current)
        return self._title

    # --- places ---

    def _bar_width(self) -> float:
        count = max(len(self.shown.bars), 1)
        widest = _WIDEST_BAR * 2 if count <= _FEW_BARS else _WIDEST_BAR
        return min((self.width() - 2 * _SIDE) / count, widest)

    def bar_at(self, x: float) -> int | None:
        """The bar whose column is at x."""
        number = int((x - _SIDE) // self._bar_width())
        return number if 0 <= number < len(self.shown.bars) else None

    def column(self, number: int) -> QRectF:
        """The column in which a bar stands."""
        width = self._bar_width()
        return QRectF(_SIDE + number * width, _CAPTION, width, self.height() - _CAPTION)

    # --- painting ---

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, chosen = QPainter(self), theme()
        painter.fillRect(self.rect(), chosen.paper)
        painter.setFont(font(12, bold=True))
        painter.setPen(chosen.ink)
        room = self.width() - 2 * _SIDE
        does = f"  ·  {self._does}" if self._does and 0 <= self.current < len(self.shown.bars) else ""
        text = elided(painter.fontMetrics(), self.caption + does, Qt.TextElideMode.ElideRight, room)
        painter.drawText(QRectF(_SIDE, 0, room, _CAPTION), Qt.AlignmentFlag.AlignVCenter, text)
        if not self.shown.bars:
            return
        mirrored = self._style is Style.MIRRORED and len(self.shown.series) == 2
        top, bottom = _CAPTION + _TOP - 6.0, float(self.height() - _LABELS)
        bottom -= _TOP - 8 if mirrored else 0  # for the numbers below
        heights = [self._heights(bar) for bar in self.shown.bars]
        most = [max(of) for of in zip(*heights, strict=True)]
        scale = (bottom - top) / (sum(most) or 1)
        line = top + most[0] * scale if mirrored else bottom
        for number in range(len(self.shown.bars)):
            self._ground(painter, number)
            self._bar(painter, number, line, [height * scale for height in heights[number]])
        painter.setPen(QPen(chosen.ink, 1))
        painter.drawLine(QPointF(_SIDE, line), QPointF(self.column(len(self.shown.bars) - 1).right(), line))
        self._labels(painter)

    def _ground(self, painter: QPainter, number: int) -> None:
        column, chosen = self.column(number), theme()
        if number in (self._led if self._dragged else self._chosen):
            painter.fillRect(column.adjusted(0, 0, 0, -_LABELS), chosen.selected)
        if number == self.current:
            painter.setPen(QPen(chosen.accent, 2 if self.hasFocus() else 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(column.adjusted(1, 1, -1, -_LABELS - 1), 3, 3)

    def _heights(self, bar: Bar) -> list[float]:
        """How high a bar is in each direction, up first."""
        if self._style is Style.SHARE:
            return [bar.counts[1] / max(sum(bar.counts), 1)]
        return [float(count) for count in bar.counts]

    def _bar(self, painter: QPainter, number: int, line: float, heights: Sequence[float]) -> None:
        column, counts = self.column(number), self.shown.bars[number].counts
        left, width = column.left() + _GAP, max(column.width() - 2 * _GAP, 1.0)
        above = 0.0
        for way, wanted in enumerate(heights):
            high = max(wanted, _LEAST_BAR) if wanted else 0.0
            above = high if way == 0 else above
            rect = QRectF(left, line - high if way == 0 else line, width, high)
            self._fill(painter, rect, way, hatched=self._style is Style.SHARE, kept=self._is_kept(number))
        painter.setFont(font(11))
        painter.setPen(theme().soft)
        said = percent(counts[1] / max(sum(counts), 1)) if self._style is Style.SHARE else f"{counts[0]:,}"
        if QFontMetrics(painter.font()).horizontalAdvance(said) <= width:
            painter.drawText(QRectF(left, line - above - 15, width, 14), Qt.AlignmentFlag.AlignCenter, said)
        below = f"{counts[1]:,}" if len(heights) == 2 else ""
        if below and QFontMetrics(painter.font()).horizontalAdvance(below) <= width:
            place = QRectF(left, line + max(heights[1], 0) + 1, width, 14)
            painter.drawText(place, Qt.AlignmentFlag.AlignCenter, below)

    def _is_kept(self, number: int) -> bool:
        """Whether a bar's rows stay: all do where none is in force."""
        return not self._chosen or number in self._chosen

    def _fill(self, painter: QPainter, rect: QRectF, series: int, *, hatched: bool, kept: bool) -> None:
        colour = self._hues[series] if series < len(self._hues) else theme().ink
        if rect.height() <= 0:
            return
        if hatched or not kept:
            painter.fillRect(rect, hatching(colour) if hatched else theme().paper)
            painter.setPen(QPen(colour, 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(rect.adjusted(0.5, 0.5, -0.5, -0.5))
        else:
            painter.fillRect(rect, colour)

    def _labels(self, painter: QPainter) -> None:
        """Below each bar what it is, as far as there is room; of narrow ones every so many."""
        painter.setFont(font(11))
        painter.setPen(theme().soft)
        metrics, width = QFontMetrics(painter.font()), self._bar_width()
        ordered = self.shown.ordered
        texts = [bar.said.partition(" to ")[0] if ordered else bar.said for bar in self.shown.bars]
        wanted = max((metrics.horizontalAdvance(text) for text in texts), default=0) + 8
        every = max(int(-(-wanted // width)), 1) if ordered else 1
        for number, text in enumerate(texts):
            if number % every:
                continue
            column = self.column(number)
            rect = QRectF(column.left(), self.height() - _LABELS, width * every, _LABELS)
            said = elided(metrics, text, Qt.TextElideMode.ElideMiddle, int(width * every) - 4)
            align = Qt.AlignmentFlag.AlignLeft if every > 1 else Qt.AlignmentFlag.AlignHCenter
            painter.drawText(rect.adjusted(2, 0, 0, 0), align | Qt.AlignmentFlag.AlignVCenter, said)

    # --- mouse and keyboard ---

    def stand_on(self, number: int) -> None:
        """Go to a bar."""
        if self.shown.bars:
            self.current = min(max(number, 0), len(self.shown.bars) - 1)
            self.setAccessibleDescription(visible(self.said_of(self.current)))
            self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        number = self.bar_at(event.position().x())
        if self._press is not None and number is not None and number != self._press:
            self._dragged = True
            self._led = range(min(self._press, number), max(self._press, number) + 1)
        self.current = -1 if number is None else number
        self.setToolTip(tip(self.said_of(number)) if number is not None else "")
        self.update()

    def leaveEvent(self, event: QEvent) -> None:
        if not self.hasFocus():
            self.current = -1
            self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._press, self._dragged = self.bar_at(event.position().x()), False

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        pressed, self._press = self._press, None
        dragged, self._dragged = self._dragged, False
        if pressed is None or event.button() != Qt.MouseButton.LeftButton:
            return
        if dragged and self.shown.ordered:
            self.ranged.emit(self._led.start, self._led.stop - 1)
        elif self.bar_at(event.position().x()) == pressed:
            self.stand_on(pressed)
            self.picked.emit(pressed)

    def event(self, event: QEvent) -> bool:
        overrides = isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride
        if overrides and event.matches(QKeySequence.StandardKey.Copy):  # type: ignore[attr-defined]
            event.accept()  # copying means the numbers here, and rows elsewhere
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if event.matches(QKeySequence.StandardKey.Copy):
            self.copy_table()
        elif event.key() in steps:
            self.stand_on(self.current + steps[Qt.Key(event.key())])
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and 0 <= self.current < len(
            self.shown.bars
        ):
            self.picked.emit(self.current)
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        menu = QMenu(self)
        if 0 <= self.current < len(self.shown.bars) and self._does:
            number = self.current
            menu.addAction(self._does).triggered.connect(lambda: self.picked.emit(number))
            menu.addSeparator()
        menu.addAction("Copy the numbers").triggered.connect(lambda: self.copy_table())
        menu.addAction("Copy as a picture").triggered.connect(lambda: self.copy_picture())
        menu.aboutToHide.connect(menu.deleteLater)
        menu.popup(event.globalPos())

    # --- the clipboard ---

    def as_text(self) -> str:
        """The numbers as tab-separated text, with a header."""
        lines = [(self.shown.field, *self.shown.series)]
        lines += [(said, *map(str, counts)) for said, counts in self.shown.lines()]
        return "\n".join("\t".join(" ".join(cell.split()) for cell in line) for line in lines) + "\n"

    def copy_table(self) -> None:
        """Put the numbers on the clipboard."""
        QGuiApplication.clipboard().setText(self.as_text())

    def copy_picture(self) -> None:
        """Put the picture on the clipboard, and beside it the numbers."""
        self.current = -1
        picture = QPixmap(self.size() * 2)
        picture.setDevicePixelRatio(2)
        self.render(picture)
        data = QMimeData()
        data.setImageData(picture.toImage())
        data.setText(self.as_text())
        QGuiApplication.clipboard().setMimeData(data)


def draw_small(painter: QPainter, rect: QRectF, shown: Distribution, colour: QColor) -> None:
    """A distribution of one series so small that it fits into a line of text."""
    most = max((bar.counts[0] for bar in shown.bars), default=0)
    if not most or (most == 1 and any(shown.others)):
        return  # each row has a value of its own
    width = rect.width() / len(shown.bars)
    gap = 1.0 if width > 3 else 0.0
    for number, bar in enumerate(shown.bars):
        high = max(rect.height() * bar.counts[0] / most, 1.0) if bar.counts[0] else 0.0
        painter.fillRect(
            QRectF(rect.left() + number * width, rect.bottom() - high, width - gap, high), colour
        )


class Sketch(QWidget):
    """A distribution as a small picture, with its ends and its blanks in words."""

    def __init__(self, shown: Distribution, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._shown = shown
        bars = shown.bars
        ends = f"{bars[0].said} … {bars[-1].said}" if shown.ordered else ", ".join(b.said for b in bars[:3])
        blank = f" · {shown.blanks[0]:,} blank" if shown.blanks and shown.blanks[0] else ""
        self._said = f"{ends or 'no values'}{blank}"
        self.setAccessibleName(f"How {shown.field} spreads: {self._said}")
        self.setFixedHeight(_SKETCH_HEIGHT)
        self.setMinimumWidth(_SKETCH_WIDTH)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        room = QRectF(self.rect()).adjusted(24, 4, -24, -4)
        draw_small(painter, room.adjusted(0, 0, 0, -_LABELS), self._shown, theme().ink)
        painter.setFont(font(11))
        painter.setPen(theme().soft)
        said = elided(painter.fontMetrics(), self._said, Qt.TextElideMode.ElideRight, int(room.width()))
        painter.drawText(room, Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft, said)
