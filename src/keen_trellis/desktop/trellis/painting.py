"""Paints a laid out trellis, on the screen, to a picture or on paper."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TypeVar

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetrics, QPainter, QPainterPath, QPen, QPolygonF

from keen_trellis.desktop.plain import elided
from keen_trellis.desktop.signs import draw_part
from keen_trellis.desktop.theme import draw_mark, font, theme
from keen_trellis.desktop.trellis.captions import NOTCH, Caption, Role
from keen_trellis.desktop.trellis.extents import Drawn, Look, extent, owner_of
from keen_trellis.desktop.trellis.shapes import (
    BEAD,
    KNOT_WIDTH,
    LINE,
    MARGIN_WIDTH,
    MATCHED_PART,
    OF_RAIL,
    Bead,
    End,
    Head,
    Knot,
    Point,
    Rail,
    Slat,
    Stub,
    Tie,
    Words,
)
from keen_trellis.session.selection import Selection

_Any = TypeVar("_Any", bound=Drawn)
_FAINT = 0.3
LOST = "lost"


class TrellisPainter:
    """Paints one look of the trellis, once."""

    def __init__(
        self,
        painter: QPainter,
        look: Look,
    ) -> None:
        self.painter = painter
        self.layout = look.layout
        self._captions = look.captions
        self._selection = look.selection
        self._chosen = frozenset(look.chosen)
        self._under_way = dict(look.under_way)
        self._lit = look.lit

    def paint(self, area: QRectF, within: QRectF) -> None:
        """Paint the ground of `area` and what stands on it, but for what only a mouse leaves.

        within: what of it is wanted; what lies outside may be left out.
        """
        painter, chosen = self.painter, theme()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(area, chosen.ground)
        painter.fillRect(QRectF(0, area.top(), MARGIN_WIDTH, area.height()), chosen.margin)
        painter.setPen(QPen(chosen.line, 1))
        painter.drawLine(QPointF(MARGIN_WIDTH, area.top()), QPointF(MARGIN_WIDTH, area.bottom()))
        if not self.layout.files and not self.layout.stumps:
            return
        self._margin(area)
        layout = self.layout
        rails = sorted(layout.rails, key=lambda rail: rail.hue is None)

        def each(shapes: Iterable[_Any], draw: Callable[[_Any], None]) -> None:
            for shape in shapes:
                if extent(shape).intersects(within):
                    painter.setOpacity(self._strength(shape))
                    draw(shape)

        each(layout.slats, self._slat_line)
        each(rails, self._rail)
        each(layout.stubs, self._stub)
        each(layout.knots, self._knot)
        each(layout.beads, self._bead)
        each(layout.ties, self._tie)
        each(layout.ends, self._end)
        each(self._captions, self._caption)
        painter.setOpacity(1.0)
        steps: list[Drawn] = [*layout.heads, *layout.knots, *layout.beads, *layout.ties, *layout.ends]
        for shape in steps:
            said = self._lit.get(owner_of(shape).step)
            if said is not None:
                self._badge(shape, said)

    def _strength(self, shape: Drawn) -> float:
        """How strongly a shape is drawn: faint where a way is followed that does not lead there."""
        return 1.0 if not self._lit or owner_of(shape).step in self._lit else _FAINT

    def _badge(self, shape: Drawn, said: str) -> None:
        """What is said of the rows that are followed, at a step of their way."""
        painter, chosen = self.painter, theme()
        painter.setFont(font(11, bold=True))
        width = max(painter.fontMetrics().horizontalAdvance(said) + 12.0, 20.0)
        middle = extent(shape).center()
        if isinstance(shape, Head):
            middle = QPointF(MARGIN_WIDTH + 8 + width / 2, shape.y)
        elif isinstance(shape, (Bead, Tie, End)):
            middle = QPointF(shape.x, shape.y)
        box = QRectF(middle.x() - width / 2, middle.y() - 9, width, 18)
        painter.setPen(QPen(chosen.paper, 1.5))
        painter.setBrush(chosen.alarm if said == LOST else chosen.accent)
        painter.drawRoundedRect(box, 9, 9)
        painter.setPen(chosen.paper)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, said)

    def _is_selected(self, step: str) -> bool:
        return self._selection == Selection(step) or step in self._chosen

    def _edge(self, step: str, alarm: bool) -> QColor:
        chosen = theme()
        return chosen.accent if self._is_selected(step) else chosen.alarm if alarm else chosen.ink

    # --- the margin ---

    def _margin(self, area: QRectF) -> None:
        painter, chosen, layout = self.painter, theme(), self.layout
        for value in layout.values:
            if self._selection == value.selection:
                painter.fillRect(QRectF(4, value.y, MARGIN_WIDTH - 8, LINE - 2), chosen.selected)
            middle = value.y + LINE / 2 - 1
            painter.setFont(font(11.5))
            painter.setPen(chosen.soft)
            _left(painter, 14, middle, value.name, MARGIN_WIDTH / 2 - 22)
            painter.setFont(font(11.5, bold=True))
            painter.setPen(chosen.alarm if value.alarm else chosen.ink)
            _right(painter, MARGIN_WIDTH - 16, middle, _fitting(painter, value.text, 90))
        for line in layout.files:
            if line.path and self._selection == Selection(path=line.path):
                painter.fillRect(QRectF(4, line.y, MARGIN_WIDTH - 8, LINE - 2), chosen.selected)
            painter.setFont(font(11.5))
            painter.setPen(chosen.accent)
            middle = line.y + LINE / 2 - 1
            _right(painter, MARGIN_WIDTH - 16, middle, line.more)
            taken = painter.fontMetrics().horizontalAdvance(line.more)
            painter.setFont(font(11.5, bold=True))
            painter.setPen(chosen.alarm if line.alarm else chosen.soft)
            _left(painter, 14, middle, line.text, MARGIN_WIDTH - 34 - taken)
        for stump in layout.stumps:
            selected = self._selection == stump.selection
            if selected:
                painter.fillRect(QRectF(4, stump.y - 10, MARGIN_WIDTH - 8, 20), chosen.selected)
            painter.fillRect(QRectF(14, stump.y - 2.5, 14, 5), chosen.hatch)
            painter.setFont(font(12))
            painter.setPen(chosen.soft if not selected else chosen.ink)
            _left(painter, 42, stump.y, stump.name, _room_beside(stump.count))
            _right(painter, MARGIN_WIDTH - 16, stump.y, stump.count)
        for head in layout.heads:
            if self._is_selected(head.selection.step):
                painter.fillRect(QRectF(4, head.y - 13, MARGIN_WIDTH - 8, 26), chosen.selected)
            draw_mark(painter, QRectF(14, head.y - 8, 21, 16), head.mark.letters, chosen.hue(head.mark.hue))
            painter.setFont(font(12, bold=True))
            painter.setPen(chosen.alarm if head.alarm else chosen.ink)
            _left(painter, 42, head.y, head.name, _room_beside(head.count or "error"))
            painter.setFont(font(12))
            painter.setPen(chosen.alarm if head.alarm else chosen.soft)
            _right(painter, MARGIN_WIDTH - 16, head.y, head.count or ("error" if head.alarm else ""))
            self._progress(head.selection.step, MARGIN_WIDTH - 30, head.y)
        bottom = max(
            [line.y for line in layout.files]
            + [value.y for value in layout.values]
            + [s.y for s in layout.stumps]
            + [h.y for h in layout.heads]
        )
        if bottom + 40 < area.bottom():
            painter.setFont(font(11.5))
            painter.setPen(chosen.soft)
            _left(painter, 14, bottom + 30, "drop files here, or Ctrl+O", MARGIN_WIDTH - 28)

    # --- rails and stubs ---

    def _rail(self, rail: Rail) -> None:
        painter, chosen = self.painter, theme()
        path = rail_path(rail)
        width = rail.thickness
        painter.setBrush(Qt.BrushStyle.NoBrush)
        selected = self._selection == rail.selection and not self._is_step(rail.selection)
        if rail.rows < 0:  # not known, or not to be had
            painter.setPen(QPen(chosen.accent if selected else chosen.soft, 1.6, Qt.PenStyle.DotLine))
            painter.drawPath(path)
            return
        flat = Qt.PenCapStyle.FlatCap
        if selected:
            painter.setPen(QPen(chosen.accent, width + 5, Qt.PenStyle.SolidLine, flat))
            painter.drawPath(path)
            painter.setPen(QPen(chosen.ground, width + 2, Qt.PenStyle.SolidLine, flat))
            painter.drawPath(path)
        colour = chosen.ink if rail.hue is None else chosen.hue(rail.hue).rail
        if not selected and not rail.is_level:
            # A gap where rails cross tells which is which.
            painter.setPen(QPen(chosen.ground, width + 5, Qt.PenStyle.SolidLine, flat))
            painter.drawPath(path)
        painter.setPen(QPen(colour, width, Qt.PenStyle.SolidLine, flat))
        painter.drawPath(path)
        if rail.hue is None or rail.rows == 0:
            painter.setPen(QPen(chosen.paper, max(width - 3.0, 1.0), Qt.PenStyle.SolidLine, flat))
            painter.drawPath(path)
        if rail.open_end:
            x, y = rail.end
            painter.setPen(QPen(colour, 1.4))
            for gap in (4, 8):
                painter.drawLine(QPointF(x + gap, y - width / 2), QPointF(x + gap, y + width / 2))

    def _is_step(self, selection: Selection) -> bool:
        layout = self.layout
        steps = {knot.step for knot in layout.knots} | {bead.step for bead in layout.beads}
        return selection.port == "rows" and selection.step in steps | {tie.step for tie in layout.ties}

    def _stub(self, stub: Stub) -> None:
        painter, chosen = self.painter, theme()
        selected = stub.selection is not None and stub.selection == self._selection
        colour = chosen.soft if stub.hue is None else chosen.hue(stub.hue).mark
        pen = QPen(chosen.accent if selected else colour, 3.4 if stub.captioned else 2.4)
        pen.setDashPattern([1.0, 0.8])
        pen.setCapStyle(Qt.PenCapStyle.FlatCap)
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(curve(stub.start, stub.end))

    # --- words ---

    def _caption(self, caption: Caption) -> None:
        """Words over what else is there: rails and the tether go behind them."""
        painter, rect = self.painter, caption.rect
        painter.setFont(caption.role.font)
        if isinstance(caption.of, Slat):
            self._slat_box(caption.of, rect.adjusted(-9, 0, 9, 0))
        else:
            painter.fillRect(rect.adjusted(-2, 0, 2, 0), theme().ground)
        if isinstance(caption.of, Words) and caption.of.notch:
            self._notch(caption.of, rect)
            rect = rect.adjusted(NOTCH, 0, 0, 0)
        painter.setPen(self._colour(caption))
        painter.drawText(rect, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextDontClip, caption.text)

    def _colour(self, caption: Caption) -> QColor:
        chosen, of, role = theme(), caption.of, caption.role
        if isinstance(of, Slat):
            return chosen.accent if self._is_slat(of.selection.slat) else chosen.ink
        if isinstance(of, Stub) and of.selection == self._selection:
            return chosen.accent
        if isinstance(of, Bead) and self._is_selected(of.step):
            return chosen.accent
        if isinstance(of, End) and role is Role.NAME and self._is_selected(of.selection.step):
            return chosen.accent
        if role is Role.ALARM or (isinstance(of, Knot) and of.alarm and role is Role.DETAIL):
            return chosen.alarm
        if isinstance(of, End) and of.alarm and role is Role.NAME:
            return chosen.alarm
        return chosen.soft if role in (Role.DETAIL, Role.COUNT, Role.SKIPPED) else chosen.ink

    def _notch(self, words: Words, rect: QRectF) -> None:
        """A guard's sign above the rail, to the left of its words."""
        painter, left, y = self.painter, rect.left(), rect.center().y()
        sign = QPolygonF([QPointF(left, y + 1), QPointF(left + 9, y + 1), QPointF(left + 4.5, y - 7)])
        painter.setPen(QPen(theme().alarm if words.alarm else theme().soft, 1.3))
        painter.setBrush(theme().alarm if words.alarm else theme().paper)
        painter.drawPolygon(sign)

    # --- steps ---

    def _knot(self, knot: Knot) -> None:
        painter, chosen = self.painter, theme()
        selected = self._is_selected(knot.step)
        frame = QRectF(knot.x - KNOT_WIDTH / 2, knot.top, KNOT_WIDTH, knot.height)
        edge = chosen.accent if selected else chosen.alarm if knot.alarm else chosen.line
        painter.setPen(QPen(edge, 2 if selected else 1.2))
        painter.setBrush(chosen.paper)
        painter.drawRoundedRect(frame, 5, 5)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for part in knot.parts:
            rect = QRectF(frame.left() + 3, part.top, KNOT_WIDTH - 6, part.bottom - part.top)
            hue = dict(knot.hues).get(part.name)
            if part.rows == 0:
                painter.setPen(QPen(chosen.line, 1))
                middle = round(rect.center().y())
                painter.drawLine(QPointF(rect.left(), middle), QPointF(rect.right(), middle))
            elif part.name.startswith(OF_RAIL):
                painter.fillRect(rect, chosen.ink if hue is None else chosen.hue(hue).rail)
            else:
                colour = None if part.name == MATCHED_PART else _part_colour(hue)
                draw_part(painter, rect, colour, kept=part.kept)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._progress(knot.step, knot.x, knot.bottom + 5)

    def _bead(self, bead: Bead) -> None:
        painter, chosen = self.painter, theme()
        selected = self._is_selected(bead.step)
        pen = QPen(self._edge(bead.step, bead.alarm), 2.4 if selected else 1.6)
        if bead.skipped:
            pen = QPen(chosen.accent if selected else chosen.soft, 1.6, Qt.PenStyle.DotLine)
        painter.setPen(pen)
        painter.setBrush(chosen.paper)
        painter.drawEllipse(QPointF(bead.x, bead.y), BEAD, BEAD)
        if bead.alarm:
            painter.setPen(QPen(chosen.alarm, 2))
            painter.drawLine(QPointF(bead.x, bead.y - 3.5), QPointF(bead.x, bead.y + 0.5))
            painter.drawPoint(QPointF(bead.x, bead.y + 3.5))
        self._progress(bead.step, bead.x, bead.y + BEAD + 4)

    def _progress(self, step: str, x: float, y: float) -> None:
        """How far the computing of a step is, as a short line under it."""
        share = self._under_way.get(step)
        if share is None:
            return
        painter, chosen = self.painter, theme()
        painter.setPen(QPen(chosen.line, 3))
        painter.drawLine(QPointF(x - 14, y), QPointF(x + 14, y))
        painter.setPen(QPen(chosen.ink, 3))
        painter.drawLine(QPointF(x - 14, y), QPointF(x - 14 + 28 * max(share, 0.08), y))

    def _end(self, end: End) -> None:
        painter, chosen = self.painter, theme()
        selected = self._is_selected(end.selection.step)
        painter.setPen(QPen(chosen.accent if selected else chosen.ink, 4))
        painter.drawLine(QPointF(end.x, end.y - 12), QPointF(end.x, end.y + 12))

    # --- slats ---

    def _is_slat(self, slat: str) -> bool:
        return self._selection == Selection(slat=slat)

    def _slat_colour(self, slat: str) -> QColor:
        return theme().accent if self._is_slat(slat) else theme().soft

    def _slat_line(self, slat: Slat) -> None:
        colour = self._slat_colour(slat.selection.slat)
        self.painter.setPen(QPen(colour, 2.4 if self._is_slat(slat.selection.slat) else 1.6))
        self.painter.drawLine(QPointF(slat.x, slat.top + 11), QPointF(slat.x, slat.bottom))

    def _slat_box(self, slat: Slat, box: QRectF) -> None:
        chosen, selected = theme(), self._is_slat(slat.selection.slat)
        self.painter.setPen(QPen(self._slat_colour(slat.selection.slat), 1.6 if selected else 1.2))
        self.painter.setBrush(chosen.selected if selected else chosen.paper)
        self.painter.drawRoundedRect(box, 4, 4)

    def _tie(self, tie: Tie) -> None:
        """A filled square on its corner where a slat is tied to a rail, an open ring where it is not."""
        painter, chosen = self.painter, theme()
        selected = bool(tie.step) and self._is_selected(tie.step)
        colour = chosen.accent if selected or self._is_slat(tie.slat) else chosen.ink
        colour = chosen.alarm if tie.alarm else colour
        at = QPointF(tie.x, tie.y)
        if tie.step:
            painter.setPen(QPen(chosen.paper, 1.4))
            painter.setBrush(chosen.paper if tie.hollow else colour)
            reach = 9.0 if selected else 7.5
            corners = [QPointF(0, -reach), QPointF(reach, 0), QPointF(0, reach), QPointF(-reach, 0)]
            if tie.hollow:
                painter.setPen(QPen(colour, 1.6, Qt.PenStyle.DotLine))
            painter.drawPolygon(QPolygonF([at + corner for corner in corners]))
            self._progress(tie.step, tie.x, tie.y + 14)
            return
        painter.setPen(QPen(colour, 1.8))
        painter.setBrush(chosen.ground)
        painter.drawEllipse(at, 7.5, 7.5)


def _room_beside(count: str) -> float:
    """How wide a name in the margin may be beside its count."""
    return MARGIN_WIDTH - 42 - 24 - QFontMetrics(font(12)).horizontalAdvance(count)


def _part_colour(hue: int | None) -> QColor:
    return theme().soft if hue is None else theme().hue(hue).mark


def curve(start: Point, end: Point) -> QPainterPath:
    """A bent line that leaves and arrives level."""
    path = QPainterPath(QPointF(*start))
    reach = max(abs(end[0] - start[0]) * 0.5, 12)
    path.cubicTo(QPointF(start[0] + reach, start[1]), QPointF(end[0] - reach, end[1]), QPointF(*end))
    return path


def rail_path(rail: Rail) -> QPainterPath:
    """Straight along a lane, and over to the other lane before its end, or, as a branch, at once."""
    start, end = QPointF(*rail.start), QPointF(*rail.end)
    path = QPainterPath(start)
    if not rail.is_level:
        left, right, _ = rail.level_part
        turn = (start.x(), left) if rail.turns_early else (right, end.x())
        middle = (turn[0] + turn[1]) / 2
        path.lineTo(turn[0], start.y())
        path.cubicTo(QPointF(middle, start.y()), QPointF(middle, end.y()), QPointF(turn[1], end.y()))
    path.lineTo(end)
    return path


def _left(painter: QPainter, x: float, y: float, text: str, room: float) -> None:
    shown = _fitting(painter, text, room)
    align = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft
    painter.drawText(QRectF(x, y - 10, room + 2, 20), align, shown)


def _fitting(painter: QPainter, text: str, room: float) -> str:
    return elided(QFontMetrics(painter.font()), text, Qt.TextElideMode.ElideMiddle, int(room))


def _right(painter: QPainter, x: float, y: float, text: str) -> None:
    align = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
    painter.drawText(QRectF(x - 90, y - 10, 90, 20), align, text)
