"""The bench's grid: paints bands and rows in three zones, and lets them be walked, opened and sorted."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPoint, QPointF, QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QFontMetrics,
    QGuiApplication,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QAbstractScrollArea, QMenu, QScrollBar, QWidget

from keen_trellis.core.join_type import JoinType
from keen_trellis.desktop.bench.content import (
    ABSENT,
    BLANK,
    BLOCK,
    LEFT,
    LINK,
    RIGHT,
    Band,
    Cell,
    Column,
    Content,
    Part,
    destination_text,
    destinations,
)
from keen_trellis.desktop.bench.lines import BAND, MORE, PART, ROW, Line, Lines, OpenStates
from keen_trellis.desktop.marks import Mark
from keen_trellis.desktop.theme import draw_mark, font, hatching, theme
from keen_trellis.desktop.trellis.signs import draw_part

LINE_HEIGHT = 24
HEADER_HEIGHT = 30
GUTTER = 50
_PAD = 8
_NARROWEST, _WIDEST = 46, 260
_LINK_LEAST, _LINK_MOST = 190, 420
_MARK = 24
_GRIP = 4


@dataclass(frozen=True)
class Zone:
    """A stretch of the grid that scrolls by itself: its columns, and where it stands."""

    name: str
    columns: tuple[int, ...]
    left: int
    width: int
    content: int

    @property
    def right(self) -> int:
        return self.left + self.width


class BenchGrid(QAbstractScrollArea):
    """current_changed: the current line or column moved.  destination_chosen: a join type.

    sort_wanted: column number, descending.  record_wanted: show all fields of the current row.
    """

    current_changed = Signal()
    destination_chosen = Signal(object)
    sort_wanted = Signal(int, bool)
    record_wanted = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.content: Content | None = None
        self.states = OpenStates()
        self.lines = Lines(Content([], [], None), self.states)  # type: ignore[arg-type]
        self.current = 0
        self.column = 0
        self._anchor = 0
        self._marks: dict[str, Mark] = {}
        self._type = JoinType.LEFT_OUTER
        self._widths: dict[tuple[str, str], int] = {}
        self._zones: list[Zone] = []
        self._resizing: tuple[int, int, int] | None = None
        self._bars = {name: QScrollBar(Qt.Orientation.Horizontal, self) for name in (LEFT, RIGHT)}
        for bar in self._bars.values():
            bar.valueChanged.connect(self.viewport().update)
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Bench")
        self.viewport().setMouseTracking(True)
        self.verticalScrollBar().setSingleStep(1)
        self.verticalScrollBar().valueChanged.connect(self.viewport().update)

    def sizeHint(self) -> QSize:
        return QSize(1000, 380)

    # --- content ---

    def show_content(self, content: Content | None, marks: dict[str, Mark], *, afresh: bool) -> None:
        """Show other content. afresh: another step's, so that place and selection begin anew."""
        self.content, self._marks = content, marks
        if afresh:
            self.states = OpenStates()
            self.current = self._anchor = self.column = 0
        self._lay_lines()
        if afresh:
            self.verticalScrollBar().setValue(0)
            self.current = self._first_row()
            self._anchor = self.current
        self.current_changed.emit()

    def show_type(self, kind: JoinType) -> None:
        """Show where the bands go under another join type; nothing else moves."""
        self._type = kind
        self.viewport().update()

    def _first_row(self) -> int:
        return next((n for n in range(min(self.lines.count, 50)) if self.lines.at(n).kind == ROW), 0)

    def _lay_lines(self) -> None:
        content = self.content
        self.lines = Lines(content if content is not None else Content([], [], None), self.states)  # type: ignore[arg-type]
        self.current = min(self.current, max(self.lines.count - 1, 0))
        self._lay_zones()

    @property
    def current_line(self) -> Line | None:
        """The line under the cursor."""
        return self.lines.at(self.current) if self.lines.count else None

    def current_row(self) -> tuple[Part, int] | None:
        """The part and place of the row under the cursor, None on a head."""
        line = self.current_line
        if line is None or line.kind != ROW or self.content is None:
            return None
        return self.content.parts[line.part], line.place

    # --- geometry ---

    def _lay_zones(self) -> None:
        content, room = self.content, self.viewport().width() - GUTTER
        self._zones = []
        if content is None or room <= 0:
            return
        by_zone = {
            name: tuple(n for n, column in enumerate(content.columns) if column.zone == name)
            for name in (LEFT, LINK, RIGHT)
        }
        wide = {name: sum(self._width(n) for n in columns) for name, columns in by_zone.items()}
        if not content.is_knot:
            self._zones = [Zone(LEFT, by_zone[LEFT], GUTTER, room, wide[LEFT])]
        else:
            link = min(wide[LINK], max(room // 2, 200))
            rest = room - link
            left = min(wide[LEFT], max(rest - wide[RIGHT], int(rest * 0.55)))
            self._zones = [
                Zone(LEFT, by_zone[LEFT], GUTTER, left, wide[LEFT]),
                Zone(LINK, by_zone[LINK], GUTTER + left, link, wide[LINK]),
                Zone(RIGHT, by_zone[RIGHT], GUTTER + left + link, rest - left, wide[RIGHT]),
            ]
        self._lay_bars()
        page = max((self.viewport().height() - HEADER_HEIGHT) // LINE_HEIGHT, 1)
        self.verticalScrollBar().setPageStep(page)
        self.verticalScrollBar().setRange(0, max(self.lines.count - page, 0))
        self.viewport().update()

    def _lay_bars(self) -> None:
        needed = False
        shown = {zone.name: zone for zone in self._zones}
        for name, bar in self._bars.items():
            zone = shown.get(name)
            scrolls = zone is not None and zone.content > zone.width
            bar.setVisible(scrolls)
            if zone is None:
                continue
            bar.setRange(0, max(zone.content - zone.width, 0))
            bar.setPageStep(max(zone.width, 1))
            bar.setSingleStep(40)
            bar.setGeometry(zone.left, self.height() - 12, zone.width, 12)
            needed = needed or scrolls
        bottom = 12 if needed else 0
        if self.viewportMargins().bottom() != bottom:
            self.setViewportMargins(0, 0, 0, bottom)

    def _width(self, number: int) -> int:
        """How wide a column is: as it was dragged, or by its head and its first rows."""
        assert self.content is not None
        column = self.content.columns[number]
        key = (column.zone, column.field.name)
        if key not in self._widths:
            self._widths[key] = self._fitting_width(number, column)
        return self._widths[key]

    def _fitting_width(self, number: int, column: Column) -> int:
        assert self.content is not None
        metrics, head = QFontMetrics(font(12)), QFontMetrics(font(12, bold=True))
        widest = head.horizontalAdvance(column.field.name) + 14
        if column.other is None and self._begins_source(number):
            widest += _MARK
        if column.other is not None:
            widest = max(widest, head.horizontalAdvance(column.other.name) + 14) + _MARK
        for part in self.content.parts:
            if part.rows.count:
                cells = self.content.cells(part, 0)[number]
                texts = {cell.text for cell in cells} | {cell.other.text for cell in cells if cell.other}
                widest = max(widest, *(metrics.horizontalAdvance(text) for text in texts))
        if column.other is not None:
            return min(max(2 * (widest + _PAD) + 24, _LINK_LEAST), _LINK_MOST)
        return min(max(widest + 2 * _PAD + 2, _NARROWEST), _WIDEST)

    def _begins_source(self, number: int) -> bool:
        """Whether a column's head carries its source's mark: its neighbour to the left is another's."""
        assert self.content is not None
        column, before = self.content.columns[number], self.content.columns[number - 1] if number else None
        if before is None:
            return False
        return before.zone != column.zone or before.field.origin != column.field.origin

    def _offset(self, zone: Zone) -> int:
        return self._bars[zone.name].value() if zone.name in self._bars and zone.content > zone.width else 0

    def _column_lefts(self, zone: Zone) -> list[tuple[int, int, int]]:
        """Of each column of a zone its number, left edge and width, as it is scrolled now."""
        found = []
        x = zone.left - self._offset(zone)
        spare = zone.width - zone.content if zone.name == LINK else 0
        for number in zone.columns:
            width = self._width(number) + max(spare, 0) // max(len(zone.columns), 1)
            found.append((number, x, width))
            x += width
        return found

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._lay_zones()

    # --- moving about ---

    def move_to(self, number: int, *, extend: bool = False) -> None:
        """Make another line the current one and bring it into view."""
        self.current = min(max(number, 0), max(self.lines.count - 1, 0))
        if not extend:
            self._anchor = self.current
        bar = self.verticalScrollBar()
        covered = 1 if self.content is not None and self.content.is_knot else 0
        if self.current < bar.value() + covered:
            bar.setValue(self.current - covered)
        elif self.current >= bar.value() + bar.pageStep():
            bar.setValue(self.current - bar.pageStep() + 1)
        self.viewport().update()
        self.current_changed.emit()

    def show_row(self, part: int, place: int) -> None:
        """Go to a row, opening what hides it."""
        assert self.content is not None
        line = self.lines.row(part, place)
        if line is None:
            chosen = self.content.parts[part]
            band = next(band for band in self.content.bands if chosen in band.parts)
            self.states.closed -= {band.key, chosen.key}
            self.states.whole.add(chosen.key)
            self._lay_lines()
            line = self.lines.row(part, place)
        if line is not None:
            self.move_to(line)

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
            self.states.closed ^= {self.content.parts[line.part].key}
        elif line.kind == MORE:
            self.states.whole ^= {self.content.parts[line.part].key}
        self._lay_lines()
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
        current = destination_text(self.content, band, self._type)
        for destination in destinations(self.content, band, self._type):
            action = menu.addAction(destination.text)
            action.setCheckable(True)
            action.setChecked(destination.text == current)
            action.triggered.connect(
                lambda _=False, kind=destination.join_type: self.destination_chosen.emit(kind)
            )
        rect = self._chooser_rect(self._line_top(self._head_line(band_number)))
        menu.popup(self.viewport().mapToGlobal(rect.bottomLeft().toPoint() + QPoint(0, 2)))

    def _head_line(self, band_number: int) -> int:
        return self.lines.head(Line(BAND, band_number)) or 0

    def copy(self) -> None:
        """Put the chosen rows, with the fields' names above, on the clipboard as tab-separated text."""
        if self.content is None:
            return
        low, high = sorted((self._anchor, self.current))
        names: list[str] = []
        for column in self.content.columns:
            names.append(column.field.name)
            if column.other is not None:
                names.append(column.other.name)
        rows = ["\t".join(names)]
        for number in range(low, min(high, low + 100_000) + 1):
            line = self.lines.at(number)
            if line.kind == ROW:
                rows.append("\t".join(self._texts(self.content.parts[line.part], line.place)))
        if len(rows) > 1:
            QGuiApplication.clipboard().setText("\n".join(rows) + "\n")

    def _texts(self, part: Part, place: int) -> list[str]:
        assert self.content is not None
        texts = []
        for cells, column in zip(self.content.cells(part, place // BLOCK), self.content.columns, strict=True):
            cell = cells[place % BLOCK]
            texts.append(" ".join(cell.text.split("\t")))
            if column.other is not None:
                texts.append(cell.other.text if cell.other else "")
        return texts

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
            else:
                self.toggle(self.current)
        else:
            super().keyPressEvent(event)

    def _move_column(self, step: int) -> None:
        if self.content is None or not self.content.columns:
            return
        self.column = min(max(self.column + step, 0), len(self.content.columns) - 1)
        for zone in self._zones:
            for number, left, width in self._column_lefts(zone):
                if number == self.column and zone.name in self._bars:
                    bar = self._bars[zone.name]
                    if left < zone.left:
                        bar.setValue(bar.value() - (zone.left - left))
                    elif left + width > zone.right:
                        bar.setValue(bar.value() + left + width - zone.right)
        self.viewport().update()
        self.current_changed.emit()

    # --- mouse ---

    def mousePressEvent(self, event: QMouseEvent) -> None:
        point = event.position().toPoint()
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if point.y() < HEADER_HEIGHT:
            self._press_header(point)
            return
        number = self._line_at(point.y())
        if number is None:
            return
        line = self.lines.at(number)
        self._choose_column(point.x())
        extend = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self.move_to(number, extend=extend)
        if line.kind == BAND and self._chooser_rect(self._line_top(number)).contains(event.position()):
            self.open_destinations(line.band)
        elif line.kind in (BAND, PART, MORE):
            self.toggle(number)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        number = self._line_at(event.position().toPoint().y())
        if number is not None and self.lines.at(number).kind == ROW:
            self.record_wanted.emit()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        point = event.position().toPoint()
        if self._resizing is not None and self.content is not None:
            number, start, width = self._resizing
            column = self.content.columns[number]
            self._widths[(column.zone, column.field.name)] = max(width + point.x() - start, _NARROWEST)
            self._lay_zones()
            return
        on_edge = point.y() < HEADER_HEIGHT and self._edge_at(point.x()) is not None
        self.viewport().setCursor(Qt.CursorShape.SplitHCursor if on_edge else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._resizing = None

    def wheelEvent(self, event: QWheelEvent) -> None:
        sideways = event.angleDelta().x() or (
            event.angleDelta().y() if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0
        )
        if sideways:
            zone = next((z for z in self._zones if z.left <= event.position().x() < z.right), None)
            if zone is not None and zone.name in self._bars:
                bar = self._bars[zone.name]
                bar.setValue(bar.value() - sideways // 2)
            return
        super().wheelEvent(event)

    def _press_header(self, point: QPoint) -> None:
        edge = self._edge_at(point.x())
        if edge is not None:
            self._resizing = (edge, point.x(), self._width(edge))
            return
        number = self._column_at(point.x())
        if number is not None:
            self.column = number
            self._sort(number)

    def _edge_at(self, x: int) -> int | None:
        for zone in self._zones:
            if zone.name != LINK:
                for number, left, width in self._column_lefts(zone):
                    if abs(left + width - x) <= _GRIP and zone.left < x <= zone.right:
                        return number
        return None

    def _column_at(self, x: int) -> int | None:
        for zone in self._zones:
            if zone.left <= x < zone.right:
                for number, left, width in self._column_lefts(zone):
                    if left <= x < left + width:
                        return number
        return None

    def _choose_column(self, x: int) -> None:
        number = self._column_at(x)
        if number is not None:
            self.column = number

    def _line_at(self, y: int) -> int | None:
        if y < HEADER_HEIGHT:
            return None
        top = self.verticalScrollBar().value()
        row = (y - HEADER_HEIGHT) // LINE_HEIGHT
        if row == 0:
            sticky = self._sticky_head(top)
            if sticky is not None:
                return sticky
        number = top + row
        return number if number < self.lines.count else None

    def _line_top(self, number: int) -> float:
        top = self.verticalScrollBar().value()
        sticky = self._sticky_head(top)
        return HEADER_HEIGHT + (0 if number == sticky else (number - top) * LINE_HEIGHT)

    def _sticky_head(self, top: int) -> int | None:
        """The band head that stays at the top while its rows scroll under it."""
        if not self.lines.count or top >= self.lines.count:
            return None
        line = self.lines.at(top)
        return self.lines.head(line) if line.kind != BAND else None

    # --- painting ---

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self.viewport())
        chosen = theme()
        area = self.viewport().rect()
        painter.fillRect(area, chosen.paper)
        if self.content is None:
            return
        for zone in self._zones:
            if zone.name == LINK:
                painter.fillRect(QRect(zone.left, 0, zone.width, area.height()), chosen.link)
        self._paint_zone_edges(painter, QRect(area))
        top = self.verticalScrollBar().value()
        visible = (area.height() - HEADER_HEIGHT) // LINE_HEIGHT + 2
        low, high = sorted((self._anchor, self.current))
        for number in range(top, min(top + visible, self.lines.count)):
            y = HEADER_HEIGHT + (number - top) * LINE_HEIGHT
            self._paint_line(painter, number, y, chosen_row=low <= number <= high)
        sticky = self._sticky_head(top)
        if sticky is not None:
            self._paint_line(painter, sticky, HEADER_HEIGHT, chosen_row=False)
        self._paint_header(painter)

    def _paint_line(self, painter: QPainter, number: int, y: int, *, chosen_row: bool) -> None:
        assert self.content is not None
        line = self.lines.at(number)
        rect = QRectF(0, y, self.viewport().width(), LINE_HEIGHT)
        current = number == self.current
        if line.kind == BAND:
            self._paint_band(painter, rect, self.content.bands[line.band], current)
        elif line.kind == PART:
            self._paint_part(painter, rect, self.content.parts[line.part], current)
        elif line.kind == MORE:
            self._paint_more(painter, rect, self.content.parts[line.part], current)
        else:
            self._paint_row(painter, rect, line, current=current, chosen_row=chosen_row)
        painter.setPen(QPen(theme().line, 1))
        painter.setOpacity(0.6)
        painter.drawLine(rect.bottomLeft(), rect.bottomRight())
        painter.setOpacity(1)

    def _paint_band(self, painter: QPainter, rect: QRectF, band: Band, current: bool) -> None:
        assert self.content is not None
        chosen = theme()
        painter.fillRect(rect, chosen.band)
        goes = destination_text(self.content, band, self._type)
        left_out = goes == "left out"
        sign = QRectF(16, rect.top() + 6, 16, 12)
        colour = {"unmatched_left": self._side_colour(LEFT), "unmatched_right": self._side_colour(RIGHT)}.get(
            band.key
        )
        draw_part(painter, sign, colour, kept=True)
        self._paint_arrow(painter, 41, rect.center().y(), is_open=band.key not in self.states.closed)
        painter.setFont(font(12.5, bold=True))
        painter.setPen(chosen.soft if left_out else chosen.ink)
        chooser = self._chooser_rect(rect.top())
        room = chooser.left() - GUTTER - 20
        text = QFontMetrics(painter.font()).elidedText(band.text, Qt.TextElideMode.ElideMiddle, int(room))
        painter.drawText(rect.adjusted(GUTTER, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, text)
        used = GUTTER + QFontMetrics(painter.font()).horizontalAdvance(text) + 24
        painter.setFont(font(11.5))
        painter.setPen(chosen.soft)
        if (
            band.effect
            and QFontMetrics(painter.font()).horizontalAdvance(band.effect) < chooser.left() - used
        ):
            effect = QRectF(used, rect.top(), chooser.left() - used - 10, rect.height())
            painter.drawText(effect, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, band.effect)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(chosen.line, 1))
        painter.setBrush(chosen.paper)
        painter.drawRoundedRect(chooser, 4, 4)
        painter.setPen(chosen.soft if left_out else chosen.ink)
        painter.drawText(chooser.adjusted(9, 0, -20, 0), Qt.AlignmentFlag.AlignVCenter, goes)
        self._paint_arrow(painter, chooser.right() - 12, chooser.center().y(), is_open=True)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        if current:
            self._paint_cursor(painter, rect)

    def _chooser_rect(self, top: float) -> QRectF:
        width = min(max(150.0, self._goes_width() + 36), 240.0)
        return QRectF(self.viewport().width() - width - 12, top + 2.5, width, LINE_HEIGHT - 5)

    def _goes_width(self) -> float:
        if self.content is None:
            return 0
        metrics = QFontMetrics(font(11.5))
        return max(
            (
                metrics.horizontalAdvance(destination_text(self.content, b, self._type))
                for b in self.content.bands
            ),
            default=0,
        )

    def _paint_part(self, painter: QPainter, rect: QRectF, part: Part, current: bool) -> None:
        chosen = theme()
        painter.fillRect(rect, chosen.paper)
        self._paint_arrow(painter, GUTTER + 5, rect.center().y(), is_open=part.key not in self.states.closed)
        painter.setFont(font(12, bold=True))
        painter.setPen(chosen.ink)
        painter.drawText(rect.adjusted(GUTTER + 16, 0, -8, 0), Qt.AlignmentFlag.AlignVCenter, part.text)
        if current:
            self._paint_cursor(painter, rect)

    def _paint_more(self, painter: QPainter, rect: QRectF, part: Part, current: bool) -> None:
        chosen = theme()
        whole = part.key in self.states.whole
        text = "show fewer" if whole else f"show all {part.rows.count:,} rows"
        painter.setFont(font(12, bold=True))
        painter.setPen(chosen.accent)
        painter.drawText(rect.adjusted(GUTTER + 16, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, text)
        if current:
            self._paint_cursor(painter, rect)

    def _paint_row(
        self, painter: QPainter, rect: QRectF, line: Line, *, current: bool, chosen_row: bool
    ) -> None:
        assert self.content is not None
        chosen = theme()
        if chosen_row:
            painter.fillRect(rect, chosen.selected)
            self._paint_zone_edges(painter, rect.toRect())
        part = self.content.parts[line.part]
        cells = self.content.cells(part, line.place // BLOCK)
        at = line.place % BLOCK
        left_row, right_row = self.content.row_sides(part, line.place)
        painter.setFont(font(10.5))
        painter.setPen(chosen.soft)
        number = left_row if left_row >= 0 else right_row
        gutter = QRectF(0, rect.top(), GUTTER - 8, rect.height())
        painter.drawText(
            gutter, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, f"{number + 1:,}"
        )
        painter.setFont(font(12))
        for zone in self._zones:
            absent_side = (zone.name == LEFT and left_row < 0) or (zone.name == RIGHT and right_row < 0)
            painter.save()
            painter.setClipRect(QRectF(zone.left, rect.top(), zone.width, rect.height()))
            if absent_side and zone.columns:
                span = QRectF(
                    zone.left + _PAD,
                    rect.top() + 4,
                    min(zone.width, zone.content) - 2 * _PAD,
                    LINE_HEIGHT - 8,
                )
                _paint_absent(painter, span)
            elif not absent_side:
                for column, left, width in self._column_lefts(zone):
                    box = QRectF(left, rect.top(), width, rect.height())
                    if zone.name == LINK:
                        self._paint_link(painter, box, cells[column][at], left_row >= 0, right_row >= 0)
                    else:
                        _paint_cell(painter, box, cells[column][at], self.content.columns[column])
                    if current and column == self.column and self.hasFocus():
                        painter.setPen(QPen(chosen.accent, 1.4))
                        painter.setBrush(Qt.BrushStyle.NoBrush)
                        painter.drawRect(box.adjusted(1, 1, -1, -1))
            painter.restore()

    def _paint_link(
        self, painter: QPainter, box: QRectF, cell: Cell, has_left: bool, has_right: bool
    ) -> None:
        """Both sides' raw values face to face, stray spaces made visible."""
        middle = box.center().x()
        if has_left:
            left = QRectF(box.left() + _PAD, box.top(), middle - 12 - box.left() - _PAD, box.height())
            _paint_raw(painter, left, cell, Qt.AlignmentFlag.AlignRight)
        if has_left and has_right:
            painter.setPen(theme().soft)
            painter.drawText(
                QRectF(middle - 10, box.top(), 20, box.height()), Qt.AlignmentFlag.AlignCenter, "="
            )
        if has_right and cell.other is not None:
            right = QRectF(middle + 12, box.top(), box.right() - middle - 12 - _PAD, box.height())
            _paint_raw(painter, right, cell.other, Qt.AlignmentFlag.AlignLeft)

    def _paint_header(self, painter: QPainter) -> None:
        assert self.content is not None
        chosen = theme()
        width = self.viewport().width()
        painter.fillRect(QRect(0, 0, width, HEADER_HEIGHT), chosen.ground)
        for zone in self._zones:
            painter.save()
            if zone.name == LINK:
                painter.fillRect(QRect(zone.left, 0, zone.width, HEADER_HEIGHT), chosen.link)
            painter.setClipRect(QRect(zone.left, 0, zone.width, HEADER_HEIGHT))
            for number, left, column_width in self._column_lefts(zone):
                self._paint_column_head(painter, QRectF(left, 0, column_width, HEADER_HEIGHT), number)
            painter.restore()
        self._paint_zone_edges(painter, QRect(0, 0, width, HEADER_HEIGHT))
        painter.setPen(QPen(chosen.line, 1))
        painter.drawLine(0, HEADER_HEIGHT - 1, width, HEADER_HEIGHT - 1)
        if self._zones and self._zones[0].columns:
            mark = self._marks.get(self.content.columns[self._zones[0].columns[0]].field.origin)
            if mark is not None:
                draw_mark(painter, QRectF(16, 7, 22, 16), mark.letters, chosen.hue(mark.hue))

    def _paint_column_head(self, painter: QPainter, box: QRectF, number: int) -> None:
        """A column's name, with its source's mark where that is another than its neighbour's."""
        assert self.content is not None
        chosen, column = theme(), self.content.columns[number]
        painter.setFont(font(12, bold=True))
        painter.setPen(chosen.ink)
        arrow = ""
        if self.content.sorted_by is not None and self.content.sorted_by[0] == number:
            arrow = " ↓" if self.content.sorted_by[1] else " ↑"
        if column.zone == LINK and column.other is not None:
            self._paint_link_head(painter, box, column, arrow)
            return
        mark = self._marks.get(column.field.origin) if self._begins_source(number) else None
        inner = box.adjusted(_PAD, 0, -_PAD, 0)
        if mark is not None:
            draw_mark(painter, QRectF(inner.left(), 8, 18, 14), mark.letters, chosen.hue(mark.hue))
            inner.setLeft(inner.left() + 22)
        align = Qt.AlignmentFlag.AlignRight if column.is_number else Qt.AlignmentFlag.AlignLeft
        metrics = QFontMetrics(painter.font())
        text = metrics.elidedText(column.field.name + arrow, Qt.TextElideMode.ElideMiddle, int(inner.width()))
        painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter | align, text)

    def _paint_link_head(self, painter: QPainter, box: QRectF, column: Column, arrow: str) -> None:
        assert column.other is not None
        chosen, middle = theme(), box.center().x()
        metrics = QFontMetrics(painter.font())
        elide = Qt.TextElideMode.ElideMiddle
        left = self._marks.get(column.field.origin)
        room = middle - 12 - box.left() - 34
        name = metrics.elidedText(column.field.name + arrow, elide, int(room))
        edge = middle - 12 - metrics.horizontalAdvance(name)
        painter.drawText(QPointF(edge, 20), name)
        if left is not None:
            draw_mark(painter, QRectF(edge - 24, 8, 18, 14), left.letters, chosen.hue(left.hue))
        painter.setPen(chosen.soft)
        painter.drawText(QRectF(middle - 10, 0, 20, HEADER_HEIGHT), Qt.AlignmentFlag.AlignCenter, "=")
        right = self._marks.get(column.other.origin)
        start = middle + 12
        if right is not None:
            draw_mark(painter, QRectF(start, 8, 18, 14), right.letters, chosen.hue(right.hue))
            start += 24
        painter.setPen(chosen.ink)
        painter.drawText(
            QPointF(start, 20), metrics.elidedText(column.other.name, elide, int(box.right() - start - 6))
        )

    def _paint_zone_edges(self, painter: QPainter, area: QRect) -> None:
        painter.setPen(QPen(theme().line, 1))
        for zone in self._zones:
            if zone.name == LINK:
                painter.drawLine(zone.left, area.top(), zone.left, area.bottom())
                painter.drawLine(zone.right, area.top(), zone.right, area.bottom())

    def _paint_arrow(self, painter: QPainter, x: float, y: float, *, is_open: bool) -> None:
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().soft)
        points = [(-4, -2), (4, -2), (0, 3)] if is_open else [(-2, -4), (-2, 4), (3, 0)]
        painter.drawPolygon(QPolygonF([QPointF(x + dx, y + dy) for dx, dy in points]))
        painter.restore()

    def _paint_cursor(self, painter: QPainter, rect: QRectF) -> None:
        if self.hasFocus():
            painter.setPen(QPen(theme().accent, 1.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(rect.adjusted(1, 1, -2, -1))

    def _side_colour(self, zone: str) -> QColor:
        """The hue of the table of one side, by its link field."""
        assert self.content is not None
        link = next((column for column in self.content.columns if column.zone == LINK), None)
        entry = None if link is None else link.field if zone == LEFT else link.other
        mark = self._marks.get(entry.origin) if entry is not None else None
        return theme().hue(mark.hue).mark if mark is not None else theme().soft


def _paint_absent(painter: QPainter, span: QRectF) -> None:
    painter.setPen(QPen(theme().hatch, 1))
    painter.setBrush(hatching(theme().hatch))
    painter.drawRect(span)


def _paint_blank(painter: QPainter, box: QRectF, align: Qt.AlignmentFlag) -> None:
    painter.save()
    painter.setFont(font(10.5))
    painter.setPen(theme().soft)
    painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | align, "blank")
    painter.restore()


def _paint_cell(painter: QPainter, box: QRectF, cell: Cell, column: Column) -> None:
    inner = box.adjusted(_PAD, 0, -_PAD, 0)
    align = Qt.AlignmentFlag.AlignRight if column.is_number else Qt.AlignmentFlag.AlignLeft
    if cell.state == ABSENT:
        _paint_absent(painter, QRectF(box.left() + 4, box.top() + 4, box.width() - 8, box.height() - 8))
        return
    if cell.state == BLANK:
        _paint_blank(painter, inner, align)
        return
    painter.setPen(theme().ink)
    text = " ".join(cell.text.splitlines())
    shown = QFontMetrics(painter.font()).elidedText(text, Qt.TextElideMode.ElideRight, int(inner.width()))
    painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter | align | Qt.TextFlag.TextSingleLine, shown)


def _paint_raw(painter: QPainter, box: QRectF, cell: Cell, align: Qt.AlignmentFlag) -> None:
    """A link value as it is written; each outer space is a dot."""
    if cell.state != "value":
        if cell.state == BLANK:
            _paint_blank(painter, box, align)
        else:
            _paint_absent(painter, box.adjusted(0, 4, 0, -4))
        return
    core = cell.text.strip()
    before = len(cell.text) - len(cell.text.lstrip()) if core else len(cell.text)
    after = len(cell.text) - len(cell.text.rstrip()) if core else 0
    metrics = QFontMetrics(painter.font())
    dot = metrics.horizontalAdvance("·")
    core = metrics.elidedText(core, Qt.TextElideMode.ElideMiddle, int(box.width() - dot * (before + after)))
    wide = metrics.horizontalAdvance(core)
    x = box.right() - wide - dot * (before + after) if align == Qt.AlignmentFlag.AlignRight else box.left()
    base = box.center().y() + metrics.ascent() / 2 - 1.5
    painter.setPen(theme().alarm)
    painter.drawText(QPointF(x, base), "·" * before)
    painter.drawText(QPointF(x + dot * before + wide, base), "·" * after)
    painter.setPen(theme().ink)
    painter.drawText(QPointF(x + dot * before, base), core)
