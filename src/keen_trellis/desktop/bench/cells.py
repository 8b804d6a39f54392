"""Paints single cells: values, filled ones, blanks, cells without partner, and raw link values."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFontMetrics, QPainter, QPen, QPolygonF

from keen_trellis.desktop.bench.content import ABSENT, BLANK, FILLED, Cell, Column
from keen_trellis.desktop.plain import elided
from keen_trellis.desktop.theme import font, hatching, theme
from keen_trellis.flow.plain_text import cut

PAD = 8


def paint_absent(painter: QPainter, span: QRectF) -> None:
    painter.setPen(QPen(theme().hatch, 1))
    painter.setBrush(hatching(theme().hatch))
    painter.drawRect(span)


def paint_blank(painter: QPainter, box: QRectF, align: Qt.AlignmentFlag) -> None:
    painter.save()
    painter.setFont(font(10.5))
    painter.setPen(theme().soft)
    painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | align, "blank")
    painter.restore()


def paint_cell(painter: QPainter, box: QRectF, cell: Cell, column: Column) -> None:
    inner = box.adjusted(PAD, 0, -PAD, 0)
    align = Qt.AlignmentFlag.AlignRight if column.is_number else Qt.AlignmentFlag.AlignLeft
    if cell.state == ABSENT:
        paint_absent(painter, QRectF(box.left() + 4, box.top() + 4, box.width() - 8, box.height() - 8))
        return
    if cell.state == BLANK:
        paint_blank(painter, inner, align)
        return
    painter.setPen(theme().ink)
    text = " ".join(cut(cell.text).splitlines())
    shown = elided(QFontMetrics(painter.font()), text, Qt.TextElideMode.ElideRight, int(inner.width()))
    painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter | align | Qt.TextFlag.TextSingleLine, shown)
    if cell.state == FILLED:
        wide = QFontMetrics(painter.font()).horizontalAdvance(shown)
        left = inner.right() - wide if align == Qt.AlignmentFlag.AlignRight else inner.left()
        _dotted(painter, left, inner.center().y() + 8, wide)


def _dotted(painter: QPainter, left: float, y: float, wide: float) -> None:
    """The line under a value that a fill step put there."""
    pen = QPen(theme().soft, 1.6)
    pen.setDashPattern([1.0, 1.6])
    painter.setPen(pen)
    painter.drawLine(QPointF(left, y), QPointF(left + wide, y))


def paint_raw(painter: QPainter, box: QRectF, cell: Cell, align: Qt.AlignmentFlag) -> None:
    """A link value as it is written; each outer space is a dot."""
    if cell.state in (BLANK, ABSENT):
        if cell.state == BLANK:
            paint_blank(painter, box, align)
        else:
            paint_absent(painter, box.adjusted(0, 4, 0, -4))
        return
    core = cell.text.strip()
    before = len(cell.text) - len(cell.text.lstrip()) if core else len(cell.text)
    after = len(cell.text) - len(cell.text.rstrip()) if core else 0
    metrics = QFontMetrics(painter.font())
    dot = metrics.horizontalAdvance("·")
    core = elided(metrics, core, Qt.TextElideMode.ElideMiddle, int(box.width() - dot * (before + after)))
    wide = metrics.horizontalAdvance(core)
    x = box.right() - wide - dot * (before + after) if align == Qt.AlignmentFlag.AlignRight else box.left()
    # In the middle of the line as other cells are, whose text is put there by the same flag.
    flags = Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextSingleLine | Qt.TextFlag.TextDontClip

    def write(left: float, text: str) -> None:
        painter.drawText(QRectF(left, box.top(), box.width(), box.height()), flags, text)

    if before or after:
        painter.setPen(theme().alarm)
        write(x, "·" * before)
        write(x + dot * before + wide, "·" * after)
    painter.setPen(theme().ink)
    write(x + dot * before, core)


def paint_arrow(painter: QPainter, x: float, y: float, *, is_open: bool) -> None:
    """A small triangle: downwards where something is open, to the right where it is closed."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme().soft)
    points = [(-4, -2), (4, -2), (0, 3)] if is_open else [(-2, -4), (-2, 4), (3, 0)]
    painter.drawPolygon(QPolygonF([QPointF(x + dx, y + dy) for dx, dy in points]))
    painter.restore()
