"""The trellis as a widget: rails, knots, stubs and slats are picked, dragged, walked to, and zoomed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PySide6.QtCore import QCoreApplication, QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QMoveEvent,
    QNativeGestureEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.accessible import Part, tell_current
from keen_trellis.desktop.plain import tip
from keen_trellis.desktop.theme import theme
from keen_trellis.desktop.trellis.captions import Caption, captions_of
from keen_trellis.desktop.trellis.dragging import Drag, paint_drag
from keen_trellis.desktop.trellis.extents import Look, changed
from keen_trellis.desktop.trellis.items import TABLES, Item, items_of
from keen_trellis.desktop.trellis.knots import Cutting
from keen_trellis.desktop.trellis.layout import plan
from keen_trellis.desktop.trellis.painting import TrellisPainter
from keen_trellis.desktop.trellis.shapes import MARGIN_WIDTH, Layout
from keen_trellis.flow.history import History
from keen_trellis.session.session import Session

_DRAG_BEGINS = 8
_PINCH = 0.12
# At most so small a flow gets by itself; smaller only when asked for.
_READABLE = 0.7
_WORTH_GROWING = 1.12
ZOOMS = (0.4, 0.5, 0.6, 0.75, 0.9, 1.0, 1.25, 1.5, 2.0)


class TrellisView(QWidget):
    """The upper pane.

    join_wanted: dragged selection, and the one it was dropped on.  part_clicked: knot's step id, part.
    opened: a selection that was double-clicked or entered.
    tie_wanted: a slat's id, and the source whose rail it is to be tied to.  menu_wanted: what is pointed at,
    None for the ground, and where on the screen that is.  move_wanted: a bead's step, the one that it was
    dropped beside on its own rail, and whether after that.  led: how far the middle button led what is seen.
    """

    join_wanted = Signal(object, object)
    part_clicked = Signal(str, str)
    opened = Signal(object)
    tie_wanted = Signal(str, str)
    menu_wanted = Signal(object, object)
    move_wanted = Signal(str, str, bool)
    led = Signal(object)

    def __init__(
        self, session: Session, cuttings: Mapping[str, Cutting], parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self._session = session
        self._cuttings = cuttings
        self._layout = Layout()
        self._history: History | None = None  # of the flow that is laid out
        self._items: list[Item] = []
        self._captions: list[Caption] = []
        self._is_stale = False
        self._laid_out_in = QSize()
        self.zoom = 1.0
        self._drawn: Look | None = None  # as it was drawn last; None: nothing of that holds
        self._tether = QRectF()
        self._smallest: float | None = _READABLE  # that it may get to fit by itself; None: it does not
        self._pinch = 0.0  # how far two fingers went since the last size
        self._held_at: QPointF | None = None  # by the middle button
        self._pressed: Item | None = None
        self._press_at = QPointF()
        self._drag: Drag | None = None
        self._hovered: Item | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Trellis")
        session.changed.connect(self.refresh)
        session.outcomes_changed.connect(self._outcomes_changed)
        session.selected.connect(self._selection_moved)
        session.lit_up.connect(self.update)
        session.results.progressed.connect(self._draw_changed)
        self.refresh()

    def sizeHint(self) -> QSize:
        return QSize(1000, 300)

    @property
    def shown(self) -> Layout:
        """What is laid out now."""
        self._lay_out()
        return self._layout

    @property
    def items(self) -> list[Item]:
        """What can be pointed at, and where it is."""
        self._lay_out()
        return self._items

    def refresh(self) -> None:
        """Lay everything out anew: with the next turn, or as soon as somebody looks at it. What changes comes
        in several notices at once.
        """
        if not self._is_stale:
            self._is_stale = True
            QCoreApplication.postEvent(self, QEvent(QEvent.Type.User))

    def draw_anew(self) -> None:
        """Draw all of it again, as in another theme."""
        self._drawn = None
        self.refresh()

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.User:
            self._lay_out()
            return True
        if isinstance(event, QNativeGestureEvent):
            return self._pinched(event)
        return super().event(event)

    def _pinched(self, event: QNativeGestureEvent) -> bool:
        """Two fingers that move apart on a touchpad zoom in, one size for each stretch of their way."""
        if event.gestureType() != Qt.NativeGestureType.ZoomNativeGesture:
            return False
        self._pinch += event.value()
        if abs(self._pinch) >= _PINCH:
            self.zoom_by(1 if self._pinch > 0 else -1)
            self._pinch = 0.0
        return True

    def _lay_out(self) -> None:
        if not self._is_stale:
            return
        self._is_stale = False
        before = self._layout.arrangement if self._history is self._session.history else None
        self._history, self._laid_out_in = self._session.history, self._pane()
        room = self._laid_out_in
        self._layout = plan(self._session, room.width() / self.zoom, self._cuttings, before)
        fitting = self._fitting()
        if fitting != self.zoom:
            self.zoom, before, self._drawn = fitting, self._layout.arrangement, None
            self._layout = plan(self._session, room.width() / self.zoom, self._cuttings, before)
        self._items = items_of(self._layout)
        self._captions = captions_of(self._layout)
        self.setMinimumSize(int(self._layout.least_width * self.zoom), int(self._layout.height * self.zoom))
        item = self.selected_item()
        self.setAccessibleDescription(f"{item.role} {item.text}" if item else "nothing selected")
        tell_current(self)
        self._draw_changed()

    def _pane(self) -> QSize:
        """How large the pane is that it stands in."""
        parent = self.parentWidget()
        return parent.size() if parent is not None else self.size()

    def _fitting(self) -> float:
        """The zoom at which the whole flow is seen, at most its own size; or the one that the user set."""
        if self._smallest is None:
            return self.zoom
        pane, layout = self._laid_out_in, self._layout
        fitting = min(pane.width() / layout.least_width, pane.height() / layout.height, 1.0)
        fitting = max(fitting, self._smallest)
        # A count or a stub more or less does not make it breathe.
        grows_little = self.zoom < fitting < self.zoom * _WORTH_GROWING and fitting < 1.0
        return self.zoom if grows_little else fitting

    def _outcomes_changed(self, _: frozenset[str]) -> None:
        self.refresh()  # a count may make its lane wider: all is laid out

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self._pane() != self._laid_out_in:  # and not for being as high as what is laid out
            self.refresh()

    def moveEvent(self, event: QMoveEvent) -> None:
        super().moveEvent(event)
        self.update()  # the tether ends where the pane does

    def _selection_moved(self) -> None:
        self.refresh()  # low lanes open where the selection is

    def selected_item(self) -> Item | None:
        """The item that stands for the selection, the largest part of it if there are several."""
        chosen = [item for item in self.items if item.selection == self._session.selection]
        return max(chosen, key=lambda item: (bool(item.part), item.rect.height()), default=None)

    def accessible_parts(self) -> Sequence[Part]:
        """Each rail, knot, step, stub, output, table and file, for assistive tools."""
        chosen, lit = self.selected_item(), self._session.lit

        def told(item: Item) -> str:
            said = lit.get(item.selection.step)
            return f"{item.role} {item.text}{f', followed: {said}' if said is not None else ''}"

        return [Part(told(item), self.on_screen(item.rect).toRect(), item is chosen) for item in self.items]

    # --- zoom ---

    def set_zoom(self, zoom: float) -> None:
        """Show everything larger or smaller, from 0.4 to 2 times its size, until it is to fit again."""
        self._smallest = None
        self.zoom = min(max(zoom, ZOOMS[0]), ZOOMS[-1])
        self.draw_anew()

    def zoom_by(self, step: int) -> None:
        """Go so many sizes up or down."""
        nearest = min(range(len(ZOOMS)), key=lambda n: abs(ZOOMS[n] - self.zoom))
        self.set_zoom(ZOOMS[min(max(nearest + step, 0), len(ZOOMS) - 1)])

    def fit(self) -> None:
        """Let the whole flow fit into the pane from now on, at most at its own size, small as it may get."""
        self._smallest = ZOOMS[0]
        self.refresh()

    def fit_by_itself(self) -> None:
        """Let the flow fit into the pane from now on as long as it can be read."""
        self._smallest = _READABLE
        self.refresh()

    def wheelEvent(self, event: QWheelEvent) -> None:
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom_by(1 if event.angleDelta().y() > 0 else -1)
            event.accept()
        else:
            super().wheelEvent(event)

    def on_screen(self, rect: QRectF) -> QRectF:
        """Where a place of the layout is in the widget."""
        return QRectF(rect.topLeft() * self.zoom, rect.size() * self.zoom)

    # --- mouse ---

    def item_at(self, point: QPointF) -> Item | None:
        """The item under a point of the widget; the smallest where several lie on each other."""
        place = point / self.zoom
        under = [item for item in self.items if item.rect.contains(place)]
        return min(
            under, key=lambda item: (not item.part, item.rect.width() * item.rect.height()), default=None
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus(Qt.FocusReason.MouseFocusReason)
        if event.button() == Qt.MouseButton.MiddleButton:
            self._held_at = event.globalPosition()
            self.setCursor(Qt.CursorShape.ClosedHandCursor)
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self._pressed = self.item_at(event.position())
        self._press_at = event.position()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._held_at is not None:
            moved, self._held_at = event.globalPosition() - self._held_at, event.globalPosition()
            self.led.emit(moved)
            return
        held = event.buttons() & Qt.MouseButton.LeftButton
        if held and self._pressed is not None and self._pressed.draggable:
            far = (event.position() - self._press_at).manhattanLength() > _DRAG_BEGINS
            if far or self._drag is not None:
                self._drag = Drag(self._session.flow, self._pressed, self._press_at, event.position())
                self.setCursor(Qt.CursorShape.ClosedHandCursor)
        hovered = self.item_at(event.position())
        if hovered != self._hovered:
            self._hovered = hovered
            self.setToolTip(tip(hovered.tip if hovered else ""))
        if self._drag is None:
            hand = hovered is not None
            self.setCursor(Qt.CursorShape.PointingHandCursor if hand else Qt.CursorShape.ArrowCursor)
        else:
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._held_at = None
        pressed, dragged = self._pressed, self._drag
        self._pressed, self._drag = None, None
        self.setCursor(Qt.CursorShape.ArrowCursor)
        self.update()
        if pressed is None:
            return
        if dragged is not None:
            self._drop(Drag(self._session.flow, pressed, self._press_at, event.position()))
            return
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier and pressed.selection.step:
            self._session.choose_too(pressed.selection.step)
            return
        if pressed.role == "open ring":
            self._session.select(pressed.selection)
            self.tie_wanted.emit(pressed.selection.slat, pressed.part)
            return
        if pressed.role == TABLES:
            self._session.margin.list_or_fold(pressed.selection.path)
            return
        if pressed.part and self._session.selection == pressed.selection:
            self.part_clicked.emit(pressed.selection.step, pressed.part)
        self._session.select(pressed.selection)

    def _drop(self, drag: Drag) -> None:
        """Do what letting go there means, or say why that cannot be."""
        target = drag.target(self.items, self.zoom)
        if target is None:
            self._session.said.emit(f"{drag.why_not(self.item_at(drag.place))}.")
        elif (way := drag.along(target)) is not None:
            self.move_wanted.emit(drag.item.selection.step, *way)
        else:
            self.join_wanted.emit(drag.item.selection, target.selection)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if event.reason() == QContextMenuEvent.Reason.Mouse:
            self.menu_wanted.emit(self.item_at(QPointF(event.pos())), event.globalPos())
            return
        item = self.selected_item()
        place = self.on_screen(item.rect).bottomLeft().toPoint() if item is not None else self.rect().center()
        self.menu_wanted.emit(item, self.mapToGlobal(place))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        item = self.item_at(event.position())
        if item is not None and not item.part:
            self.opened.emit(item.selection)

    # --- keyboard ---

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps: dict[int, tuple[int, int]] = {
            Qt.Key.Key_Left: (-1, 0),
            Qt.Key.Key_Right: (1, 0),
            Qt.Key.Key_Up: (0, -1),
            Qt.Key.Key_Down: (0, 1),
        }
        plain = not event.modifiers() & Qt.KeyboardModifier.ControlModifier
        if event.key() in steps and plain:
            too = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self._walk(*steps[event.key()], too=too)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and plain:
            if self._session.selection:
                self.opened.emit(self._session.selection)
        elif event.key() == Qt.Key.Key_Escape and self._session.chosen:
            self._session.choose_only()
        else:
            super().keyPressEvent(event)

    def _walk(self, across: int, down: int, *, too: bool) -> None:
        """Select the nearest item in a direction; along a lane before from lane to lane.

        too: what was selected stays so.
        """
        here = self.selected_item()
        if here is None:
            if self.items:
                self._session.select(self.items[0].selection)
            return
        found = self.neighbour(here, across, down)
        if found is None:
            return
        if too:
            self._session.choose_on(found.selection)
        else:
            self._session.select(found.selection)

    def neighbour(self, here: Item, across: int, down: int) -> Item | None:
        """The nearest item in a direction, None if there is none."""
        origin = here.place
        best: tuple[float, Item] | None = None
        for item in self.items:
            if item.selection == here.selection:
                continue
            way = item.place - origin
            along = way.x() * across + way.y() * down
            aside = abs(way.x() * down) + abs(way.y() * across)
            if along < 4:
                continue
            cost = along + 9 * aside if across else along + 0.2 * aside
            if best is None or cost < best[0]:
                best = cost, item
        return best[1] if best is not None else None

    # --- painting ---

    def paintEvent(self, event: QPaintEvent) -> None:
        self._lay_out()
        painter = QPainter(self)
        painter.scale(self.zoom, self.zoom)
        within = QRectF(event.rect())
        within = QRectF(within.topLeft() / self.zoom, within.size() / self.zoom)
        drawn = TrellisPainter(painter, self._seen())
        drawn.paint(QRectF(0, 0, self.width() / self.zoom, self.height() / self.zoom), within)
        self._paint_tether(painter)
        painter.resetTransform()
        if self._drag is not None:
            target = self._drag.target(self.items, self.zoom)
            under = self.item_at(self._drag.place)
            frame = self.on_screen(target.rect) if target is not None else None
            seen = QRectF(self.visibleRegion().boundingRect())
            paint_drag(painter, self._drag, frame, self._drag.said(target, under), seen)

    def draw_whole(self, painter: QPainter) -> None:
        """Draw the whole flow, nothing of it selected, for a picture or for paper."""
        area = QRectF(0, 0, self.shown.width, self.shown.height)
        TrellisPainter(painter, Look(self.shown, self._captions)).paint(area, area)

    def draw_small(self, painter: QPainter, width: float, height: float) -> None:
        """Draw the rails, knots and steps of the whole flow into so much room, without their words."""
        shown = self.shown
        left = MARGIN_WIDTH - 4.0
        across = width / (shown.width - left)
        # Rails would be hairs: it is made higher than wide, as far as there is room.
        down = min(height / shown.height, 2 * across)
        painter.scale(across, down)
        painter.translate(-left, (height / down - shown.height) / 2)
        area = QRectF(left, 0, shown.width - left, shown.height)
        TrellisPainter(painter, Look(shown)).paint(area, area)

    def _seen(self) -> Look:
        """What can be seen now."""
        session = self._session
        under_way = dict(session.results.under_way)
        return Look(self._layout, self._captions, session.selection, session.chosen, under_way, session.lit)

    def _draw_changed(self) -> None:
        """Draw again what looks different from what was drawn."""
        before, self._drawn = self._drawn, self._seen()
        tether, self._tether = self._tether, self._tether_rect()
        if before is None or before.layout.width != self._layout.width:
            self.update()
            return
        for rect in (*changed(before, self._drawn), tether, self._tether):
            self.update(self.on_screen(rect).toAlignedRect().adjusted(-1, -1, 1, 1))

    def _tether_rect(self) -> QRectF:
        """What the line from the selected step to the sentence covers; nothing if there is none."""
        item = self.selected_item()
        if item is None:
            return QRectF()
        bottom = self.visibleRegion().boundingRect().bottom() / self.zoom - 1
        x = item.rect.center().x()
        if item.rect.right() <= MARGIN_WIDTH:
            x = item.rect.right() - 2
        elif item.rect.width() > 120 and item.role != "shared filter":
            x = item.rect.left() + 60
        knot = next((knot for knot in self.shown.knots if knot.step == item.selection.step), None)
        slat = next((slat for slat in self.shown.slats if slat.selection == item.selection), None)
        top = knot.bottom + 2 if knot is not None and item.part else item.rect.bottom()
        top = slat.bottom if slat is not None else top
        return QRectF(x - 7, top, 14, bottom - top) if top <= bottom - 7 else QRectF()

    def _paint_tether(self, painter: QPainter) -> None:
        """A dotted line from the selected step to the sentence below."""
        rect = self._tether_rect()
        if rect.isEmpty():
            return
        chosen, x, top, bottom = theme(), rect.center().x(), rect.top(), rect.bottom()
        painter.setPen(QPen(chosen.accent, 1.4, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(x, top), QPointF(x, bottom - 7))
        painter.setPen(QPen(chosen.accent, 1.2))
        painter.setBrush(chosen.ground)
        painter.drawPolygon(
            QPolygonF([QPointF(x - 6, bottom), QPointF(x + 6, bottom), QPointF(x, bottom - 7)])
        )
