"""The sign of a join type: the knot's bar, small, with the kept parts filled."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from keen_trellis.core.join_type import JoinType
from keen_trellis.desktop.theme import hatching, theme

SIGN_WIDTH, SIGN_HEIGHT = 13, 27


def draw_part(painter: QPainter, rect: QRectF, colour: QColor | None, *, kept: bool) -> None:
    """One part of a knot's bar: hatched in a hue if unmatched, ink if matched, empty if left out."""
    chosen = theme()
    painter.setPen(QPen(colour or chosen.ink, 1.2))
    if not kept:
        painter.setBrush(chosen.paper)
        painter.drawRect(rect)
        return
    painter.setBrush(chosen.ink if colour is None else hatching(colour))
    painter.drawRect(rect)


def draw_sign(painter: QPainter, rect: QRectF, kind: JoinType, left: QColor, right: QColor) -> None:
    """The sign of `kind` in `rect`, unmatched rows in the hues of their tables."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    height = rect.height() / 4
    upper = QRectF(rect.left(), rect.top(), rect.width(), height)
    middle = QRectF(rect.left(), rect.top() + height + 1, rect.width(), 2 * height - 2)
    lower = QRectF(rect.left(), rect.bottom() - height, rect.width(), height)
    draw_part(painter, upper, left, kept=kind.keeps_unmatched_left)
    draw_part(painter, lower, right, kept=kind.keeps_unmatched_right)
    draw_part(painter, middle, None, kept=kind.keeps_pairs)
    if kind in (JoinType.LEFT_SEMI, JoinType.RIGHT_SEMI):
        half = QRectF(middle)
        if kind is JoinType.LEFT_SEMI:
            half.setRight(middle.center().x())
        else:
            half.setLeft(middle.center().x())
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().ink)
        painter.drawRect(half)
    painter.restore()
