"""Something of the trellis that is being dragged: what letting go of it would do, and how that is shown."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from keen_trellis.desktop.theme import font, theme
from keen_trellis.desktop.trellis.items import Item
from keen_trellis.desktop.trellis.painting import curve
from keen_trellis.flow.edits import move_along
from keen_trellis.flow.graph import ROWS, Flow


class Drag(msgspec.Struct, frozen=True):
    """item: what is dragged.  begun, place: where it was taken and is now, in the widget."""

    flow: Flow
    item: Item
    begun: QPointF
    place: QPointF

    def target(self, items: Sequence[Item], zoom: float) -> Item | None:
        """What it would be dropped on; None where that is nothing."""
        place = self.place / zoom
        near = [
            item
            for item in items
            if item.target
            and item.selection != self.item.selection
            and item.rect.adjusted(-4, -8, 4, 8).contains(place)
        ]
        return near[0] if near else None

    def along(self, target: Item) -> tuple[str, bool] | None:
        """The step beside which a bead is put that was led along its own rail, and whether after that.

        None where it was led to other rows.
        """
        step, other = self.item.selection.step, target.selection.step
        if self.item.role != "step" or not other or other == step or target.selection.port != ROWS:
            return None
        # Dropped on the rail it comes after what is before that; on a bead it takes its place.
        onto_rail = target.role == "rail"
        for after in (True,) if onto_rail else (False, True):
            moved = move_along(self.flow, step, other, after=after)
            if moved is not None and (onto_rail or (other in self.flow.upstream(step)) is not after):
                return other, after
        return None

    def why_not(self, under: Item | None) -> str:
        """Why it cannot be dropped on what is under the pointer, and where it can."""
        if under is not None and under.selection == self.item.selection:
            return "These are its own rows: drop it on another rail"
        if under is not None and under.role == "output":
            return "An output ends its rail: drop it on the rail before it"
        if under is not None and under.role in ("file", "shared filter", "open ring"):
            return f"A {under.role} has no rows of its own: drop it on a rail or a table"
        return "Drop it on a rail or a table: it asks whether to join, blend or stack them"

    def said(self, target: Item | None, under: Item | None) -> str:
        """What letting go would do, or why it would do nothing."""
        if target is None:
            return self.why_not(under)
        if (way := self.along(target)) is not None:
            return f"move it {'after' if way[1] else 'before'} {self.flow.step(way[0]).name}"
        return f"join, blend or stack with {target.text}"


def paint_drag(painter: QPainter, drag: Drag, frame: QRectF | None, said: str, seen: QRectF) -> None:
    """Paint the way from where it was taken, and beside the pointer what letting go would do.

    frame: around what it would be dropped on.  seen: what of the widget is seen.
    """
    chosen = theme()
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if frame is not None:
        painter.setPen(QPen(chosen.accent, 2))
        painter.drawRoundedRect(frame.adjusted(-3, -4, 3, 4), 5, 5)
    pen = QPen(chosen.accent, 2)
    pen.setDashPattern([3, 2])
    painter.setPen(pen)
    painter.drawPath(curve((drag.begun.x(), drag.begun.y()), (drag.place.x(), drag.place.y())))
    painter.setFont(font(12, bold=True))
    room = QRectF(painter.fontMetrics().boundingRect(said)).adjusted(-8, -4, 8, 4)
    place = drag.place + QPointF(14, 10)
    left = min(place.x(), seen.right() - room.width() - 4)
    room.moveTopLeft(QPointF(left, min(place.y(), seen.bottom() - room.height() - 4)))
    painter.setPen(QPen(chosen.accent, 1))
    painter.setBrush(chosen.paper)
    painter.drawRoundedRect(room, 4, 4)
    painter.drawText(room, Qt.AlignmentFlag.AlignCenter, said)
