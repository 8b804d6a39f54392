"""The bench's grid: lines in bands, in three zones, that can be walked, opened, sorted and copied."""

from __future__ import annotations

import enum
from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPoint, QPointF, QRect, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QMenu, QWidget

from keen_trellis.core.blending import Stands
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.bench import copying, spoken
from keen_trellis.desktop.bench.content import LEFT, Content
from keen_trellis.desktop.bench.grid_view import HEADER_HEIGHT, LINE_HEIGHT, GridView
from keen_trellis.desktop.bench.lines import BAND, MORE, PART, ROW, Line, OpenStates
from keen_trellis.desktop.bench.mend_text import mend_text
from keen_trellis.desktop.bench.painting import GridPainter
from keen_trellis.desktop.marks import Mark
from keen_trellis.desktop.plain import menu_text
from keen_trellis.flow.wording import times_said


class Spot(enum.Enum):
    """What on the bench is pointed at."""

    FIELD = "field"
    ROW = "row"
    REASON = "reason"
    BAND = "band"


class BenchGrid(GridView):
    """current_changed: the current line or column moved.  destination_chosen: a join type, or a way to
    keep rows.

    sort_wanted: column number, descending.  record_wanted: show all fields of the current row.
    menu_wanted: a Spot, which is the current one now, and where on the screen it is.
    mend_wanted: a reason, and the mend of it to be made.  remedy_wanted: a measure, "" if the current field
    needs none, and where it is to stand.
    """

    current_changed = Signal()
    destination_chosen = Signal(object)
    sort_wanted = Signal(int, bool)
    record_wanted = Signal()
    mend_wanted = Signal(object, object)
    remedy_wanted = Signal(str, object)
    menu_wanted = Signal(object, object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._resizing: tuple[int, int, int] | None = None

    def show_content(self, content: Content | None, marks: dict[str, Mark], *, afresh: bool) -> None:
        """Show other content. afresh: another step's, so that place and selection begin anew."""
        kept = None if afresh else self.current_sides()
        self.content, self.marks = content, marks
        if afresh:
            self.states = OpenStates()
            self.current = self.anchor = self.column = 0
        self.lay_lines()
        if kept is not None:
            self._return_to(*kept)
        if afresh:
            self.verticalScrollBar().setValue(0)
            self.current = self._first_row()
            self.anchor = self.current
        self.current_changed.emit()

    def current_sides(self) -> tuple[int, int] | None:
        """The left and right row under the cursor, None on a head."""
        row = self.current_row()
        return self.content.row_sides(*row) if row is not None and self.content is not None else None

    def _return_to(self, left: int, right: int) -> None:
        """Stand on the same row again, now that it may belong to another part; it is not scrolled to."""
        assert self.content is not None
        for number, part in enumerate(self.content.parts):
            place = part.rows.place_of(left, right) if part.order is None else None
            line = self.lines.row(number, place) if place is not None else None
            if line is not None:
                self.current = self.anchor = line
                return
            if place is not None:
                self.current = self.anchor = self.lines.part_head(number) or self.current
                return

    def show_type(self, kind: JoinType) -> None:
        """Show where the bands go under another join type; nothing else moves."""
        self.join_type = kind
        self.viewport().update()

    def _first_row(self) -> int:
        return next((n for n in range(min(self.lines.count, 50)) if self.lines.at(n).kind == ROW), 0)

    def move_to(self, number: int, *, extend: bool = False) -> None:
        """Make another line the current one and bring it into view."""
        before = {self.current, self.anchor}
        self.current = min(max(number, 0), max(self.lines.count - 1, 0))
        if not extend:
            self.anchor = self.current
        bar = self.verticalScrollBar()
        covered = 1 if self.content is not None and self.content.is_knot else 0
        if self.current < bar.value() + covered:
            bar.setValue(self.current - covered)
        elif self.current >= bar.value() + bar.pageStep():
            bar.setValue(self.current - bar.pageStep() + 1)
        self._draw_lines(before | {self.current, self.anchor})
        self.current_changed.emit()

    def _draw_lines(self, numbers: set[int]) -> None:
        """Draw the lines again from the first of these to the last, and the head that stays above them."""
        width, first, last = self.viewport().width(), min(numbers), max(numbers)
        height = (last - first + 1) * LINE_HEIGHT
        self.viewport().update(QRect(0, int(self.line_top(first)), width, height))
        self.viewport().update(QRect(0, self.header_height, width, LINE_HEIGHT))

    def show_row(self, part: int, place: int) -> None:
        """Go to a row, opening what hides it."""
        assert self.content is not None
        line = self.lines.row(part, place)
        if line is None:
            chosen = self.content.parts[part]
            band = next(band for band in self.content.bands if chosen in band.parts)
            self.states.closed -= {band.key, chosen.key}
            self.states.opened |= {chosen.key}
            self.states.whole.add(chosen.key)
            self.lay_lines()
            line = self.lines.row(part, place)
        if line is not None:
            self.move_to(line)

    def show_sides(self, left: int, right: int) -> None:
        """Go to the row of a left and a right row, -1 for none, opening what hides it."""
        for number, part in enumerate(self.content.parts if self.content is not None else ()):
            place = part.rows.place_of(left, right)
            if place is not None:
                if part.order is not None:
                    place = int(np.flatnonzero(part.order == place)[0])
                self.show_row(number, place)
                return

    def place_for_search(self) -> tuple[int, int]:
        """Where a search begins: the current row, or before the first of the current part."""
        line = self.current_line
        if line is None or line.part < 0:
            return 0, -1
        return line.part, line.place if line.kind == ROW else -1

    def toggle(self, number: int) -> None:
        """Open or close what a line heads, or show all rows of its part, or fewer again."""
        line = self.lines.at(number)
        if self.content is None:
            return
        if line.kind == BAND:
            self.states.closed ^= {self.content.bands[line.band].key}
        elif line.kind == PART:
            self.states.toggle(self.content.parts[line.part])
        elif line.kind == MORE:
            self.states.whole ^= {self.content.parts[line.part].key}
        self.lay_lines()
        self.current_changed.emit()

    def jump_band(self, step: int) -> None:
        """Go to the next or previous head of a band or part."""
        found = self.lines.next_head(self.current, step)
        if found is not None:
            self.move_to(found)
            bar = self.verticalScrollBar()
            if step > 0 and self.current > bar.value() + bar.pageStep() - 6:
                bar.setValue(self.current - 2)

    def sort_current(self) -> None:
        """Sort by the current column: ascending, descending, then as the rows stood."""
        self._sort(self.column)

    def _sort(self, number: int) -> None:
        if self.content is None or not self.content.columns:
            return
        now = self.content.sorted_by
        descending = now == (number, False)
        self.sort_wanted.emit(-1 if now == (number, True) else number, descending)

    def open_destinations(self, band_number: int) -> None:
        """Let the user choose where a band's rows go."""
        if self.content is None or not self.content.is_knot:
            return
        band = self.content.bands[band_number]
        menu = QMenu(self)
        current = self.content.destination_text(band, self.join_type)
        for destination in self.content.destinations(band, self.join_type):
            action = menu.addAction(menu_text(destination.text))
            action.setCheckable(True)
            action.setChecked(destination.text == current)
            action.triggered.connect(
                lambda _=False, goes=destination.goes: self.destination_chosen.emit(goes)
            )
        rect = self.chooser_rect(self.line_top(self._head_line(band_number)))
        menu.popup(self.viewport().mapToGlobal(rect.bottomLeft().toPoint() + QPoint(0, 2)))

    def _head_line(self, band_number: int) -> int:
        return self.lines.head(Line(BAND, band_number)) or 0

    def mend(self, number: int, choice: int = 0) -> bool:
        """Ask for a mend of the reason that a line heads; False if it has none."""
        line = self.lines.at(number)
        if self.content is None or line.kind != PART:
            return False
        part = self.content.parts[line.part]
        if choice >= len(part.mends):
            return False
        self.mend_wanted.emit(part.reason, part.mends[choice])
        return True

    def mend_current(self) -> None:
        """Make the first mend of the reason that the current line heads."""
        self.mend(self.current)

    def open_current_mends(self) -> None:
        """Let the user choose a mend of the reason that the current line heads."""
        self.open_mends(self.current)

    def open_mends(self, number: int) -> None:
        """Let the user choose a mend of the reason that a line heads."""
        line = self.lines.at(number)
        if self.content is None or line.kind != PART or not self.content.parts[line.part].mends:
            return
        part = self.content.parts[line.part]
        menu = QMenu(self)
        for choice, mend in enumerate(part.mends):
            action = menu.addAction(menu_text(mend_text(mend)))
            action.triggered.connect(lambda _=False, chosen=choice: self.mend(number, chosen))
        rect = self.mend_rect(self.line_top(number), part)
        menu.popup(self.viewport().mapToGlobal(rect.bottomLeft().toPoint() + QPoint(0, 2)))

    def show_part(self, prefix: str) -> None:
        """Go to the head of the first part whose key begins so, and open it."""
        if self.content is None:
            return
        for number, part in enumerate(self.content.parts):
            if part.key.startswith(prefix) and part.text:
                if not self.states.shows(part):
                    self.states.toggle(part)
                    self.lay_lines()
                head = self.lines.part_head(number)
                if head is not None:
                    self.move_to(head)
                return

    def choose_all(self) -> int:
        """Choose every row that is open, without scrolling; how many lines there are."""
        self.anchor, self.current = 0, max(self.lines.count - 1, 0)
        self.viewport().update()
        self.current_changed.emit()
        return self.lines.count

    def copy(self) -> str:
        """Put the chosen rows, with the fields' names above, on the clipboard; a sentence about it."""
        if self.content is None:
            return ""
        return copying.rows(self.content, self.lines, *sorted((self.anchor, self.current)))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        alternate = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        line = self.current_line
        page = self.verticalScrollBar().pageStep()
        ways = {
            Qt.Key.Key_Up: -1,
            Qt.Key.Key_Down: 1,
            Qt.Key.Key_PageUp: -page,
            Qt.Key.Key_PageDown: page,
        }
        key = event.key()
        if alternate and key == Qt.Key.Key_Down and line is not None:
            if line.kind == PART:
                self.open_mends(self.current)
            else:
                self.open_destinations(line.band)
        elif control and key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.jump_band(-1 if key == Qt.Key.Key_Up else 1)
        elif key in ways:
            self.move_to(self.current + ways[Qt.Key(key)], extend=shift)
        elif key == Qt.Key.Key_Home and control:
            self.move_to(0, extend=shift)
        elif key == Qt.Key.Key_End and control:
            self.move_to(self.lines.count - 1, extend=shift)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._move_column(-1 if key == Qt.Key.Key_Left else 1)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and line is not None:
            if line.kind == ROW:
                self.record_wanted.emit()
            elif key == Qt.Key.Key_Space or not self.mend(self.current):
                self.toggle(self.current)
        else:
            super().keyPressEvent(event)

    def _move_column(self, step: int) -> None:
        if self.content is None or not self.content.columns:
            return
        self.column = min(max(self.column + step, 0), len(self.content.columns) - 1)
        for zone in self.columns.zones:
            for number, left, width in self.column_lefts(zone):
                if number == self.column and zone.name in self.bars:
                    bar = self.bars[zone.name]
                    if left < zone.left:
                        bar.setValue(bar.value() - (zone.left - left))
                    elif left + width > zone.right:
                        bar.setValue(bar.value() + left + width - zone.right)
        self.viewport().update()
        self.current_changed.emit()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        point = event.position().toPoint()
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if point.y() < self.header_height:
            self._press_header(point)
            return
        number = self.line_at(point.y())
        if number is None:
            return
        line = self.lines.at(number)
        self._choose_column(point.x())
        extend = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self.move_to(number, extend=extend)
        if line.kind == BAND and self.chooser_rect(self.line_top(number)).contains(event.position()):
            self.open_destinations(line.band)
        elif line.kind == PART and self._press_mend(number, event.position()):
            pass
        elif line.kind in (BAND, PART, MORE):
            self.toggle(number)

    def _press_mend(self, number: int, point: QPointF) -> bool:
        assert self.content is not None
        part = self.content.parts[self.lines.at(number).part]
        if not self.mend_rect(self.line_top(number), part).contains(point):
            return False
        if len(part.mends) > 1:
            self.open_mends(number)
        else:
            self.mend(number)
        return True

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if self.content is None:
            return
        if event.reason() == QContextMenuEvent.Reason.Mouse:
            point, place = event.pos(), event.globalPos()
            self._choose_column(point.x())
            if point.y() < self.header_height:
                self.current_changed.emit()
                self.menu_wanted.emit(Spot.FIELD, place)
                return
            number = self.line_at(point.y())
            if number is None:
                return
            low, high = sorted((self.anchor, self.current))
            # Rows that are chosen stay chosen: the menu is about them.
            self.move_to(number, extend=low <= number <= high and low < high)
        else:
            left = self.column_left(self.column)
            place = self.viewport().mapToGlobal(QPoint(left, int(self.line_top(self.current)) + LINE_HEIGHT))
        line = self.current_line
        if line is not None:
            spots = {ROW: Spot.ROW, MORE: Spot.REASON, PART: Spot.REASON, BAND: Spot.BAND}
            self.menu_wanted.emit(spots[line.kind], place)

    def column_left(self, number: int) -> int:
        """Where a column begins, in pixels from the viewport's left."""
        places = [(n, left) for zone in self.columns.zones for n, left, _ in self.column_lefts(zone)]
        return next((left for n, left in places if n == number), 0)

    def accessible_parts(self) -> Sequence[spoken.Part]:
        """Each line that is seen, read from left to right, for assistive tools."""
        return spoken.lines_of(self)

    def copy_value(self) -> str:
        """Put the value of the current cell on the clipboard as it is; a sentence about it."""
        row = self.current_row()
        if row is None or self.content is None:
            return "Move to a row first."
        return copying.value(self.content.cell_at(*row, self.column)[2])

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        point = event.position().toPoint()
        edge = self.edge_at(point.x()) if point.y() < self.header_height else None
        if edge is not None and self.content is not None:
            self.columns.fit(edge)
            self.lay_zones()
            return
        number = self.line_at(event.position().toPoint().y())
        if number is not None and self.lines.at(number).kind == ROW:
            self.record_wanted.emit()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        point = event.position().toPoint()
        if self._resizing is not None and self.content is not None:
            number, start, width = self._resizing
            self.columns.resize(number, width + point.x() - start)
            self.lay_zones()
            return
        on_edge = point.y() < self.header_height and self.edge_at(point.x()) is not None
        self.viewport().setCursor(Qt.CursorShape.SplitHCursor if on_edge else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._resizing = None

    def wheelEvent(self, event: QWheelEvent) -> None:
        sideways = event.angleDelta().x() or (
            event.angleDelta().y() if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0
        )
        if sideways:
            zone = next((z for z in self.columns.zones if z.left <= event.position().x() < z.right), None)
            if zone is not None and zone.name in self.bars:
                bar = self.bars[zone.name]
                bar.setValue(bar.value() - sideways // 2)
            return
        super().wheelEvent(event)

    def _press_header(self, point: QPoint) -> None:
        edge = self.edge_at(point.x())
        if edge is not None:
            self._resizing = (edge, point.x(), self.columns.width(edge))
            return
        number = self.column_at(point.x())
        if number is not None:
            self.column = number
            if self.is_warned(number) and point.y() > self.header_height - HEADER_HEIGHT:
                self.open_remedies()
            else:
                self._sort(number)

    def open_remedies(self) -> None:
        """Let the user choose what is done about a measure that would be counted many times."""
        content = self.content
        if content is None or not content.columns or not self.is_warned(self.column):
            self.remedy_wanted.emit("", None)
            return
        column = content.columns[self.column]
        field = column.field
        # A measure of the main table itself would be spread to what each row has.
        can_spread = column.zone != LEFT and field.type in (FieldType.INTEGER, FieldType.DECIMAL)
        menu = QMenu(self)
        times = times_said(content.warnings[field.name])
        title = menu.addAction(menu_text(f"Adding up {field.name} counts it {times}"))
        title.setEnabled(False)
        for stands, said in (
            (Stands.SPREAD, "Spread it over the rows of its group"),
            (Stands.FIRST, "Show it once"),
        ):
            if stands is Stands.SPREAD and not can_spread:
                continue
            action = menu.addAction(menu_text(said))
            action.triggered.connect(lambda _=False, place=stands: self.remedy_wanted.emit(field.name, place))
        sort = menu.addAction("Sort by it")
        sort.triggered.connect(lambda: self._sort(self.column))
        menu.popup(self.viewport().mapToGlobal(QPoint(self.column_left(self.column), self.header_height)))

    def _choose_column(self, x: int) -> None:
        number = self.column_at(x)
        if number is not None:
            self.column = number

    def paintEvent(self, event: QPaintEvent) -> None:
        if self.content is not None:
            GridPainter(QPainter(self.viewport()), self, self.content).paint(event.rect())
