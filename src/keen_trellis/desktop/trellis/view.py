"""The trellis: paints the layout, and lets rails, knots and stubs be picked, dragged and walked by keys."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QFontMetrics,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
)
from PySide6.QtWidgets import QPushButton, QWidget

from keen_trellis.desktop.document import Document, Selection
from keen_trellis.desktop.theme import draw_mark, font, theme
from keen_trellis.desktop.trellis.layout import (
    BEAD,
    KNOT_HEIGHT,
    KNOT_WIDTH,
    LANE,
    LINE,
    MARGIN_WIDTH,
    MATCHED_PART,
    OF_RAIL,
    Bead,
    End,
    Head,
    Knot,
    Layout,
    Rail,
    Stub,
    Words,
    plan,
)
from keen_trellis.desktop.trellis.signs import draw_part
from keen_trellis.flow.steps.join import UNMATCHED_LEFT, UNMATCHED_RIGHT

_DRAG_BEGINS = 8


@dataclass(frozen=True)
class Item:
    """Something in the trellis that can be picked."""

    rect: QRectF
    selection: Selection
    text: str
    part: str = ""  # of a knot
    draggable: bool = False
    target: bool = False  # another rail can be dropped on it


class TrellisView(QWidget):
    """The upper pane.

    join_wanted: dragged selection, and the one it was dropped on.  part_clicked: knot's step id, part.
    opened: a selection that was double-clicked or entered.  demo_wanted: the demo is to be opened.
    """

    join_wanted = Signal(object, object)
    part_clicked = Signal(str, str)
    opened = Signal(object)
    demo_wanted = Signal()

    def __init__(self, document: Document, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._document = document
        self._layout = Layout()
        self.items: list[Item] = []
        self._pressed: Item | None = None
        self._press_at = QPointF()
        self._drag_to: QPointF | None = None
        self._hovered: Item | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Trellis")
        self.demo_button = QPushButton("Open the demo", self)
        self.demo_button.setFont(font(12.5, bold=True))
        self.demo_button.clicked.connect(self.demo_wanted)
        document.changed.connect(self.refresh)
        document.outcomes_changed.connect(self.refresh)
        document.selected.connect(self._selection_moved)
        self.refresh()

    def sizeHint(self) -> QSize:
        return QSize(1000, 300)

    def refresh(self) -> None:
        """Lay everything out anew and paint it."""
        parent = self.parentWidget()
        width = parent.width() if parent is not None else self.width()
        self._layout = plan(self._document, width)
        self.setMinimumSize(int(self._layout.least_width), int(self._layout.height))
        self.items = _items(self._layout)
        self.demo_button.setVisible(not self._layout.files and not self._layout.stumps)
        self.demo_button.adjustSize()
        middle = QPointF((MARGIN_WIDTH + self.width()) / 2, self.height() / 2)
        self.demo_button.move(int(middle.x() - self.demo_button.width() / 2), int(middle.y() + 50))
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.refresh()

    def _selection_moved(self) -> None:
        item = self.selected_item()
        self.setAccessibleDescription(item.text if item else "nothing selected")
        self.update()

    def selected_item(self) -> Item | None:
        """The item that stands for the selection, the largest part of it if there are several."""
        chosen = [item for item in self.items if item.selection == self._document.selection]
        return max(chosen, key=lambda item: (bool(item.part), item.rect.height()), default=None)

    # --- mouse ---

    def item_at(self, point: QPointF) -> Item | None:
        """The item under a point; the smallest where several lie on each other."""
        under = [item for item in self.items if item.rect.contains(point)]
        return min(
            under, key=lambda item: (not item.part, item.rect.width() * item.rect.height()), default=None
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus(Qt.FocusReason.MouseFocusReason)
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self._pressed = self.item_at(event.position())
        self._press_at = event.position()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        held = event.buttons() & Qt.MouseButton.LeftButton
        if held and self._pressed is not None and self._pressed.draggable:
            far = (event.position() - self._press_at).manhattanLength() > _DRAG_BEGINS
            if far or self._drag_to is not None:
                self._drag_to = event.position()
                self.setCursor(Qt.CursorShape.ClosedHandCursor)
        hovered = self.item_at(event.position())
        if hovered != self._hovered:
            self._hovered = hovered
            self.setToolTip(hovered.text if hovered else "")
        if self._drag_to is None:
            hand = hovered is not None
            self.setCursor(Qt.CursorShape.PointingHandCursor if hand else Qt.CursorShape.ArrowCursor)
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        pressed, dragged = self._pressed, self._drag_to
        self._pressed, self._drag_to = None, None
        self.setCursor(Qt.CursorShape.ArrowCursor)
        self.update()
        if pressed is None:
            return
        if dragged is not None:
            target = self._drop_target(event.position(), pressed)
            if target is not None:
                self.join_wanted.emit(pressed.selection, target.selection)
            else:
                self._document.said.emit("Drop it on a rail to join the two.")
            return
        if pressed.part and self._document.selection == pressed.selection:
            self.part_clicked.emit(pressed.selection.step, pressed.part)
        self._document.select(pressed.selection)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        item = self.item_at(event.position())
        if item is not None and not item.part:
            self.opened.emit(item.selection)

    def _drop_target(self, point: QPointF, dragged: Item) -> Item | None:
        near = [
            item
            for item in self.items
            if item.target
            and item.selection != dragged.selection
            and item.rect.adjusted(-4, -8, 4, 8).contains(point)
        ]
        return near[0] if near else None

    # --- keyboard ---

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps: dict[int, tuple[int, int]] = {
            Qt.Key.Key_Left: (-1, 0),
            Qt.Key.Key_Right: (1, 0),
            Qt.Key.Key_Up: (0, -1),
            Qt.Key.Key_Down: (0, 1),
        }
        if event.key() in steps and not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._walk(*steps[event.key()])
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            if self._document.selection:
                self.opened.emit(self._document.selection)
        else:
            super().keyPressEvent(event)

    def _walk(self, across: int, down: int) -> None:
        """Select the nearest item in a direction; along a lane before from lane to lane."""
        here = self.selected_item()
        if here is None:
            if self.items:
                self._document.select(self.items[0].selection)
            return
        origin = here.rect.center()
        best: tuple[float, Item] | None = None
        for item in self.items:
            if item.selection == here.selection:
                continue
            way = item.rect.center() - origin
            along = way.x() * across + way.y() * down
            aside = abs(way.x() * down) + abs(way.y() * across)
            if along < 4:
                continue
            cost = along + 4 * aside if across else along + 0.2 * aside
            if best is None or cost < best[0]:
                best = cost, item
        if best is not None:
            self._document.select(best[1].selection)

    # --- painting ---

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        chosen = theme()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), chosen.ground)
        painter.fillRect(QRectF(0, 0, MARGIN_WIDTH, self.height()), chosen.margin)
        painter.setPen(QPen(chosen.line, 1))
        painter.drawLine(QPointF(MARGIN_WIDTH, 0), QPointF(MARGIN_WIDTH, self.height()))
        if not self._layout.files and not self._layout.stumps:
            self._paint_empty(painter)
            return
        self._paint_margin(painter)
        joined_last = sorted(self._layout.rails, key=lambda rail: rail.hue is None)
        for rail in joined_last:
            self._paint_rail(painter, rail)
        self._paint_tether(painter)
        for stub in self._layout.stubs:
            self._paint_stub(painter, stub)
        for knot in self._layout.knots:
            self._paint_knot(painter, knot)
        for bead in self._layout.beads:
            self._paint_bead(painter, bead)
        for end in self._layout.ends:
            self._paint_end(painter, end)
        for words in self._layout.words:
            if words.notch:
                self._notch(painter, words)
            painter.setPen(chosen.alarm if words.alarm else chosen.soft)
            painter.setFont(font(11, bold=words.alarm))
            _centred(
                painter, words.x, words.y, _fitting(painter, words.text, words.short, words.room), words.room
            )
        self._paint_drag(painter)

    def _notch(self, painter: QPainter, words: Words) -> None:
        """A guard's sign above the rail, to the left of its words."""
        painter.setFont(font(11, bold=words.alarm))
        text = _fitting(painter, words.text, words.short, words.room)
        left = words.x - min(painter.fontMetrics().horizontalAdvance(text), words.room) / 2 - 14
        sign = QPolygonF(
            [QPointF(left, words.y + 1), QPointF(left + 9, words.y + 1), QPointF(left + 4.5, words.y - 7)]
        )
        painter.setPen(QPen(theme().alarm if words.alarm else theme().soft, 1.3))
        painter.setBrush(theme().alarm if words.alarm else theme().paper)
        painter.drawPolygon(sign)

    def _paint_empty(self, painter: QPainter) -> None:
        chosen = theme()
        middle = QRectF(MARGIN_WIDTH, 0, self.width() - MARGIN_WIDTH, self.height())
        lines = (
            ("Nothing is opened yet", 17.0, True, chosen.ink),
            ("Drop a workbook, a text file or a database here, or press Ctrl+O.", 12.5, False, chosen.ink),
            ("Then drag one table onto another to join the two.", 12.5, False, chosen.soft),
        )
        y = middle.center().y() - 66
        for text, size, bold, colour in lines:
            painter.setFont(font(size, bold=bold))
            painter.setPen(colour)
            painter.drawText(QRectF(middle.left(), y, middle.width(), 26), Qt.AlignmentFlag.AlignCenter, text)
            y += 28
        painter.setFont(font(12))
        painter.setPen(chosen.soft)
        painter.drawText(QRectF(14, 14, MARGIN_WIDTH - 28, 40), Qt.AlignmentFlag.AlignLeft, "no files yet")

    def _paint_margin(self, painter: QPainter) -> None:
        chosen = theme()
        for line in self._layout.files:
            painter.setFont(font(11.5, bold=True))
            painter.setPen(chosen.alarm if line.alarm else chosen.soft)
            _left(painter, 14, line.y + LINE / 2, line.text, MARGIN_WIDTH - 28)
        for stump in self._layout.stumps:
            selected = self._document.selection == stump.selection
            if selected:
                painter.fillRect(QRectF(4, stump.y - 10, MARGIN_WIDTH - 8, 20), chosen.selected)
            painter.fillRect(QRectF(14, stump.y - 2.5, 14, 5), chosen.hatch)
            painter.setFont(font(12))
            painter.setPen(chosen.soft if not selected else chosen.ink)
            _left(painter, 42, stump.y, stump.name, _room_beside(stump.count))
            _right(painter, MARGIN_WIDTH - 16, stump.y, stump.count)
        for head in self._layout.heads:
            if self._document.selection == head.selection:
                painter.fillRect(QRectF(4, head.y - 14, MARGIN_WIDTH - 8, 28), chosen.selected)
            draw_mark(painter, QRectF(14, head.y - 8, 21, 16), head.mark.letters, chosen.hue(head.mark.hue))
            painter.setFont(font(12, bold=True))
            painter.setPen(chosen.alarm if head.alarm else chosen.ink)
            _left(painter, 42, head.y, head.name, _room_beside(head.count or "error"))
            painter.setFont(font(12))
            painter.setPen(chosen.alarm if head.alarm else chosen.soft)
            _right(painter, MARGIN_WIDTH - 16, head.y, head.count or ("error" if head.alarm else ""))
        bottom = max(
            [line.y for line in self._layout.files]
            + [s.y for s in self._layout.stumps]
            + [h.y for h in self._layout.heads]
        )
        painter.setFont(font(11.5))
        painter.setPen(chosen.soft)
        _left(painter, 14, bottom + 28, "drop files here, or Ctrl+O", MARGIN_WIDTH - 28)

    def _paint_rail(self, painter: QPainter, rail: Rail) -> None:
        chosen = theme()
        path = _rail_path(rail)
        width = rail.thickness
        painter.setBrush(Qt.BrushStyle.NoBrush)
        selected = self._document.selection == rail.selection and not self._is_knot(rail.selection)
        if rail.rows < 0:  # not known, or not to be had
            painter.setPen(QPen(chosen.accent if selected else chosen.soft, 1.6, Qt.PenStyle.DotLine))
            painter.drawPath(path)
            return
        if selected:
            painter.setPen(QPen(chosen.accent, width + 5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap))
            painter.drawPath(path)
            painter.setPen(QPen(chosen.ground, width + 2, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap))
            painter.drawPath(path)
        colour = chosen.ink if rail.hue is None else chosen.hue(rail.hue).rail
        if not selected:
            # A gap where rails cross tells which is which.
            painter.setPen(QPen(chosen.ground, width + 5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap))
            painter.drawPath(path)
        painter.setPen(QPen(colour, width, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap))
        painter.drawPath(path)
        if rail.hue is None or rail.rows == 0:
            inside = max(width - 3.0, 1.0)
            painter.setPen(QPen(chosen.paper, inside, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap))
            painter.drawPath(path)
        if rail.open_end:
            x, y = rail.end
            painter.setPen(QPen(colour, 1.4))
            for gap in (4, 8):
                painter.drawLine(QPointF(x + gap, y - width / 2), QPointF(x + gap, y + width / 2))

    def _is_knot(self, selection: Selection) -> bool:
        steps = {knot.step for knot in self._layout.knots} | {bead.step for bead in self._layout.beads}
        return selection.step in steps and selection.port == "rows"

    def _paint_stub(self, painter: QPainter, stub: Stub) -> None:
        chosen = theme()
        selected = stub.selection is not None and stub.selection == self._document.selection
        colour = chosen.soft if stub.hue is None else chosen.hue(stub.hue).mark
        pen = QPen(chosen.accent if selected else colour, 3.4)
        pen.setDashPattern([1.0, 0.8])
        pen.setCapStyle(Qt.PenCapStyle.FlatCap)
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(_curve(stub.start, stub.end))
        painter.setPen(chosen.accent if selected else chosen.ink)
        painter.setFont(font(11.5, bold=selected))
        text = _fitting(painter, stub.text, stub.short, stub.room)
        # The tether goes behind the words.
        width = painter.fontMetrics().horizontalAdvance(text)
        painter.fillRect(QRectF(stub.end[0] + 6, stub.end[1] - 8, width + 4, 16), chosen.ground)
        _left(painter, stub.end[0] + 8, stub.end[1], text, 250)

    def _paint_knot(self, painter: QPainter, knot: Knot) -> None:
        chosen = theme()
        selected = self._document.selection == Selection(knot.step)
        frame = QRectF(knot.x - KNOT_WIDTH / 2, knot.top, KNOT_WIDTH, KNOT_HEIGHT)
        painter.setPen(
            QPen(
                chosen.accent if selected else chosen.alarm if knot.alarm else chosen.line,
                2 if selected else 1.2,
            )
        )
        painter.setBrush(chosen.paper)
        painter.drawRoundedRect(frame, 5, 5)
        hues = {f"{OF_RAIL}{number}": hue for number, hue in enumerate(knot.hues)}
        hues |= dict(zip((UNMATCHED_LEFT, UNMATCHED_RIGHT), knot.hues, strict=False))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for part in knot.parts:
            rect = QRectF(frame.left() + 3, part.top, KNOT_WIDTH - 6, part.bottom - part.top)
            if part.rows == 0:
                painter.setPen(QPen(chosen.line, 1))
                middle = round(rect.center().y())
                painter.drawLine(QPointF(rect.left(), middle), QPointF(rect.right(), middle))
                continue
            if part.name.startswith(OF_RAIL):
                hue = hues[part.name]
                painter.fillRect(rect, chosen.ink if hue is None else chosen.hue(hue).rail)
                continue
            colour = None if part.name == MATCHED_PART else _part_colour(hues[part.name])
            draw_part(painter, rect, colour, kept=part.kept)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(12, bold=True))
        painter.setPen(chosen.ink)
        _centred(painter, knot.x, knot.top - 24, knot.caption, knot.room)
        painter.setFont(font(11))
        painter.setPen(chosen.alarm if knot.alarm else chosen.soft)
        detail = _fitting(painter, knot.detail, knot.short, knot.room)
        _centred(painter, knot.x, knot.top - 9, detail, knot.room)

    def _paint_bead(self, painter: QPainter, bead: Bead) -> None:
        chosen = theme()
        selected = self._document.selection == Selection(bead.step)
        edge = chosen.accent if selected else chosen.alarm if bead.alarm else chosen.ink
        pen = QPen(edge, 2.4 if selected else 1.6)
        if bead.skipped:
            pen = QPen(chosen.accent if selected else chosen.soft, 1.6, Qt.PenStyle.DotLine)
        painter.setPen(pen)
        painter.setBrush(chosen.paper)
        painter.drawEllipse(QPointF(bead.x, bead.y), BEAD, BEAD)
        painter.setFont(font(11, bold=not bead.skipped))
        painter.setPen(chosen.accent if selected else chosen.soft if bead.skipped else chosen.ink)
        name = f"skipped: {bead.name}" if bead.skipped else bead.name
        _centred(painter, bead.x, bead.y - 19, name, bead.room)

    def _paint_end(self, painter: QPainter, end: End) -> None:
        chosen = theme()
        selected = self._document.selection == end.selection
        painter.setPen(QPen(chosen.accent if selected else chosen.ink, 4))
        painter.drawLine(QPointF(end.x, end.y - 12), QPointF(end.x, end.y + 12))
        painter.setFont(font(12, bold=True))
        painter.setPen(chosen.accent if selected else chosen.alarm if end.alarm else chosen.ink)
        _left(painter, end.x + 10, end.y - 7, end.name, 146)
        painter.setFont(font(11))
        painter.setPen(chosen.soft)
        _left(painter, end.x + 10, end.y + 9, end.detail, 146)

    def _paint_tether(self, painter: QPainter) -> None:
        """A dotted line from the selected step to the sentence below."""
        item = self.selected_item()
        if item is None:
            return
        chosen = theme()
        bottom = self.visibleRegion().boundingRect().bottom() - 1
        x = item.rect.center().x()
        if item.rect.right() <= MARGIN_WIDTH:
            x = item.rect.right() - 2
        elif item.rect.width() > 120:
            x = item.rect.left() + 60
        knot = next((knot for knot in self._layout.knots if knot.step == item.selection.step), None)
        top = knot.top + KNOT_HEIGHT + 2 if knot is not None and item.part else item.rect.bottom()
        pen = QPen(chosen.accent, 1.4, Qt.PenStyle.DotLine)
        painter.setPen(pen)
        painter.drawLine(QPointF(x, top), QPointF(x, bottom - 7))
        painter.setPen(QPen(chosen.accent, 1.2))
        painter.setBrush(chosen.ground)
        painter.drawPolygon(
            QPolygonF([QPointF(x - 6, bottom), QPointF(x + 6, bottom), QPointF(x, bottom - 7)])
        )

    def _paint_drag(self, painter: QPainter) -> None:
        if self._drag_to is None or self._pressed is None:
            return
        chosen = theme()
        target = self._drop_target(self._drag_to, self._pressed)
        if target is not None:
            painter.setPen(QPen(chosen.accent, 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(target.rect.adjusted(-3, -4, 3, 4), 5, 5)
        pen = QPen(chosen.accent, 2)
        pen.setDashPattern([3, 2])
        painter.setPen(pen)
        painter.drawPath(
            _curve((self._press_at.x(), self._press_at.y()), (self._drag_to.x(), self._drag_to.y()))
        )
        painter.setFont(font(12, bold=True))
        said = f"join with {target.text}" if target else "drop it on a rail"
        painter.setPen(chosen.accent)
        painter.drawText(self._drag_to + QPointF(14, 22), said)


def _fitting(painter: QPainter, text: str, short: str, room: float) -> str:
    """The text, or its short form where there is no room for it."""
    return text if QFontMetrics(painter.font()).horizontalAdvance(text) <= room else short


def _room_beside(count: str) -> float:
    """How wide a name in the margin may be beside its count."""
    return MARGIN_WIDTH - 42 - 24 - QFontMetrics(font(12)).horizontalAdvance(count)


def _part_colour(hue: int | None) -> QColor:
    return theme().soft if hue is None else theme().hue(hue).mark


def _curve(start: tuple[float, float], end: tuple[float, float], bend: float = 0.5) -> QPainterPath:
    path = QPainterPath(QPointF(*start))
    reach = max(abs(end[0] - start[0]) * bend, 12)
    path.cubicTo(QPointF(start[0] + reach, start[1]), QPointF(end[0] - reach, end[1]), QPointF(*end))
    return path


def _rail_path(rail: Rail) -> QPainterPath:
    """Straight along its lane, then over to the lane where it ends."""
    (x0, y0), (x1, y1) = rail.start, rail.end
    if abs(y1 - y0) < 1:
        path = QPainterPath(QPointF(x0, y0))
        path.lineTo(x1, y1)
        return path
    turn = max(x0, x1 - max(72.0, min(abs(y1 - y0), 130.0)))
    path = QPainterPath(QPointF(x0, y0))
    path.lineTo(turn, y0)
    middle = (turn + x1) / 2
    path.cubicTo(QPointF(middle, y0), QPointF(middle, y1), QPointF(x1, y1))
    return path


def _items(layout: Layout) -> list[Item]:
    """Everything that can be picked, in reading order."""
    found: list[Item] = []
    for head in layout.heads:
        rect = QRectF(4, head.y - LANE / 2 + 2, MARGIN_WIDTH - 8, LANE - 4)
        found.append(Item(rect, head.selection, _said(head), draggable=True, target=True))
    for line in layout.files:
        if line.alarm:
            rect = QRectF(4, line.y, MARGIN_WIDTH - 8, LINE)
            found.append(Item(rect, Selection(path=line.path), f"{line.text}: {line.alarm}"))
    for stump in layout.stumps:
        rect = QRectF(4, stump.y - LINE / 2, MARGIN_WIDTH - 8, LINE)
        found.append(Item(rect, stump.selection, stump.name, draggable=True, target=True))
    names = {head.selection.step: head.name for head in layout.heads}
    names |= {knot.step: knot.caption for knot in layout.knots}
    names |= {bead.step: bead.name for bead in layout.beads}
    for rail in layout.rails:
        grip = max(rail.thickness / 2, 8)
        right = (
            rail.end[0] if abs(rail.end[1] - rail.start[1]) < 1 else max(rail.start[0] + 10, rail.end[0] - 84)
        )
        rect = QRectF(rail.start[0] + 2, rail.start[1] - grip, right - rail.start[0] - 4, 2 * grip)
        text = names.get(rail.selection.step, rail.selection.step)
        found.append(Item(rect, rail.selection, text, draggable=True, target=True))
    for knot in layout.knots:
        found.extend(_knot_items(knot))
    for bead in layout.beads:
        rect = QRectF(bead.x - 13, bead.y - 13, 26, 26)
        found.append(Item(rect, Selection(bead.step), bead.name, draggable=True, target=True))
    for stub in layout.stubs:
        if stub.selection is not None:
            rect = QRectF(stub.start[0] + 4, stub.end[1] - 10, 240, 20)
            found.append(Item(rect, stub.selection, stub.text, draggable=True, target=True))
    for end in layout.ends:
        rect = QRectF(end.x - 6, end.y - 18, 160, 36)
        found.append(Item(rect, end.selection, end.name))
    return found


def _knot_items(knot: Knot) -> list[Item]:
    selection = Selection(knot.step)
    if not knot.parts or knot.parts[0].name.startswith(OF_RAIL):
        rect = QRectF(knot.x - KNOT_WIDTH / 2, knot.top, KNOT_WIDTH, KNOT_HEIGHT)
        return [Item(rect, selection, knot.caption, part="whole")]
    texts = {UNMATCHED_LEFT: "unmatched left", MATCHED_PART: "matched", UNMATCHED_RIGHT: "unmatched right"}
    items = []
    for part in knot.parts:
        rect = QRectF(knot.x - KNOT_WIDTH / 2, part.top - 1, KNOT_WIDTH, part.bottom - part.top + 2)
        kept = "kept; click again to leave it out" if part.kept else "left out; click again to keep it"
        items.append(Item(rect, selection, f"{texts[part.name]}: {part.rows:,} rows, {kept}", part=part.name))
    return items


def _said(head: Head) -> str:
    return head.name


def _left(painter: QPainter, x: float, y: float, text: str, room: float) -> None:
    shown = QFontMetrics(painter.font()).elidedText(text, Qt.TextElideMode.ElideMiddle, int(room))
    painter.drawText(
        QRectF(x, y - 10, room + 2, 20), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, shown
    )


def _right(painter: QPainter, x: float, y: float, text: str) -> None:
    painter.drawText(
        QRectF(x - 90, y - 10, 90, 20), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, text
    )


def _centred(painter: QPainter, x: float, y: float, text: str, room: float) -> None:
    shown = QFontMetrics(painter.font()).elidedText(text, Qt.TextElideMode.ElideMiddle, int(max(room, 60)))
    painter.drawText(QRectF(x - 300, y - 10, 600, 20), Qt.AlignmentFlag.AlignCenter, shown)
