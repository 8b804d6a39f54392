"""Paints the bench's grid: header, heads of bands, and rows in their zones."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRect, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetrics, QPainter, QPen

from keen_trellis.desktop.bench.cells import (
    PAD,
    paint_absent,
    paint_arrow,
    paint_cell,
    paint_raw,
)
from keen_trellis.desktop.bench.columns import GUTTER, Zone
from keen_trellis.desktop.bench.content import (
    BLOCK,
    LEFT,
    LINK,
    NOTHING_FOUND,
    RIGHT,
    Band,
    Cell,
    Column,
    Content,
    Part,
)
from keen_trellis.desktop.bench.grid_view import HEADER_HEIGHT, LINE_HEIGHT, TITLE_HEIGHT, GridView
from keen_trellis.desktop.bench.lines import BAND, MORE, PART, Line
from keen_trellis.desktop.plain import elided
from keen_trellis.desktop.signs import draw_part
from keen_trellis.desktop.theme import draw_mark, font, theme
from keen_trellis.flow.blend_proposal import side_said


def _thin(colour: QColor) -> QColor:
    """A colour that lets some of the ground through."""
    found = QColor(colour)
    found.setAlphaF(0.6)
    return found


class GridPainter:
    """Paints one state of the grid, once."""

    def __init__(self, painter: QPainter, grid: GridView, content: Content) -> None:
        self._painter = painter
        self._grid = grid
        self._content = content

    def paint(self, within: QRect) -> None:
        """Paint everything that is in view. within: what of it is wanted; other lines are left out."""
        painter, grid, chosen = self._painter, self._grid, theme()
        area = grid.viewport().rect()
        painter.fillRect(area, chosen.paper)
        for zone in grid.columns.zones:
            if zone.name == LINK:
                painter.fillRect(QRect(zone.left, 0, zone.width, area.height()), chosen.link)
        self._zone_edges(area)
        top = grid.verticalScrollBar().value()
        head = grid.header_height
        visible = (area.height() - head) // LINE_HEIGHT + 2
        low, high = sorted((grid.anchor, grid.current))
        for number in range(top, min(top + visible, grid.lines.count)):
            y = head + (number - top) * LINE_HEIGHT
            if y > within.bottom() or y + LINE_HEIGHT < within.top():
                continue
            self._line(number, y, chosen_row=low <= number <= high)
        sticky = grid.sticky_head(top)
        if sticky is not None:
            self._line(sticky, head, chosen_row=False)
        self._header()

    def _line(self, number: int, y: int, *, chosen_row: bool) -> None:
        painter = self._painter
        line = self._grid.lines.at(number)
        rect = QRectF(0, y, self._grid.viewport().width(), LINE_HEIGHT)
        current = number == self._grid.current
        if line.kind == BAND:
            self._band(rect, self._content.bands[line.band], current)
        elif line.kind == PART:
            self._part(rect, self._content.parts[line.part], current)
        elif line.kind == MORE:
            self._more(rect, self._content.parts[line.part], current)
        else:
            self._row(rect, line, current=current, chosen_row=chosen_row)
        # Filled, since a line that lets something through is drawn point by point.
        painter.fillRect(QRect(0, y + LINE_HEIGHT, int(rect.width()), 1), _thin(theme().line))

    def _band(self, rect: QRectF, band: Band, current: bool) -> None:
        painter = self._painter
        chosen = theme()
        painter.fillRect(rect, chosen.band)
        goes = self._content.destination_text(band, self._grid.join_type)
        left_out = goes == "left out"
        sign = QRectF(16, rect.top() + 6, 16, 12)
        left, right = self._side_colour(LEFT), self._side_colour(RIGHT)
        sides = {"unmatched_left": left, "passed_left": left, "unmatched_right": right, "passed_right": right}
        colour = self._zone_colour(band.key) if band.key in self._content.zones else sides.get(band.key)
        if band.key == NOTHING_FOUND:
            colour = self._zone_colour(LEFT)
        draw_part(painter, sign, colour, kept=True)
        paint_arrow(painter, 41, rect.center().y(), is_open=band.key not in self._grid.states.closed)
        painter.setFont(font(12.5, bold=True))
        painter.setPen(chosen.soft if left_out else chosen.ink)
        chooser = self._grid.chooser_rect(rect.top())
        room = chooser.left() - GUTTER - 20
        text = elided(QFontMetrics(painter.font()), band.text, Qt.TextElideMode.ElideMiddle, int(room))
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
        paint_arrow(painter, chooser.right() - 12, chooser.center().y(), is_open=True)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        if current:
            self._cursor(rect)

    def _part(self, rect: QRectF, part: Part, current: bool) -> None:
        painter = self._painter
        chosen = theme()
        painter.fillRect(rect, chosen.paper)
        paint_arrow(painter, GUTTER + 5, rect.center().y(), is_open=self._grid.states.shows(part))
        painter.setFont(font(12, bold=True))
        painter.setPen(chosen.ink)
        text, mend = rect.adjusted(GUTTER + 16, 0, -8, 0), self._grid.mend_rect(rect.top(), part)
        metrics, elide = QFontMetrics(painter.font()), Qt.TextElideMode.ElideRight
        if part.mends:
            text.setRight(mend.left() - 20)
        shown = elided(metrics, part.text, elide, int(text.width()))
        painter.drawText(text, Qt.AlignmentFlag.AlignVCenter, shown)
        if part.mends:
            painter.setPen(chosen.accent)
            said = elided(metrics, self._grid.mend_said(part), elide, int(mend.width()))
            painter.drawText(mend, Qt.AlignmentFlag.AlignVCenter, said)
        if current:
            self._cursor(rect)

    def _more(self, rect: QRectF, part: Part, current: bool) -> None:
        painter = self._painter
        chosen = theme()
        whole = part.key in self._grid.states.whole
        text = "show fewer" if whole else f"show all {part.rows.count:,} rows"
        painter.setFont(font(12, bold=True))
        painter.setPen(chosen.accent)
        painter.drawText(rect.adjusted(GUTTER + 16, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, text)
        if current:
            self._cursor(rect)

    def _row(self, rect: QRectF, line: Line, *, current: bool, chosen_row: bool) -> None:
        painter = self._painter
        chosen = theme()
        if chosen_row:
            painter.fillRect(rect, chosen.selected)
            self._zone_edges(rect.toRect())
        part = self._content.parts[line.part]
        cells = self._content.cells(part, line.place // BLOCK)
        at = line.place % BLOCK
        left_row, right_row = self._content.row_sides(part, line.place)
        painter.setFont(font(10.5))
        painter.setPen(chosen.soft)
        number = self._content.row_number(left_row, right_row)
        gutter = QRectF(0, rect.top(), GUTTER - 8, rect.height())
        painter.drawText(
            gutter, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, f"{number + 1:,}"
        )
        painter.setFont(font(12))
        for zone in self._grid.columns.zones:
            absent_side = self._content.is_absent(zone.name, left_row, right_row)
            painter.save()
            painter.setClipRect(QRectF(zone.left, rect.top(), zone.width, rect.height()))
            if absent_side and zone.columns:
                span = QRectF(
                    zone.left + PAD,
                    rect.top() + 4,
                    min(zone.width, zone.content) - 2 * PAD,
                    LINE_HEIGHT - 8,
                )
                paint_absent(painter, span)
            elif not absent_side:
                for column, left, width in self._grid.column_lefts(zone):
                    box = QRectF(left, rect.top(), width, rect.height())
                    if zone.name == LINK:
                        sign = part.sign_of(self._content.columns[column])
                        self._link(box, cells[column][at], sign, left_row >= 0, right_row >= 0)
                    else:
                        paint_cell(painter, box, cells[column][at], self._content.columns[column])
                    if current and column == self._grid.column and self._grid.hasFocus():
                        painter.setPen(QPen(chosen.accent, 1.4))
                        painter.setBrush(Qt.BrushStyle.NoBrush)
                        painter.drawRect(box.adjusted(1, 1, -1, -1))
            painter.restore()

    def _link(self, box: QRectF, cell: Cell, sign: str, has_left: bool, has_right: bool) -> None:
        """Both sides' raw values face to face, stray spaces made visible."""
        painter = self._painter
        middle = box.center().x()
        if has_left:
            left = QRectF(box.left() + PAD, box.top(), middle - 12 - box.left() - PAD, box.height())
            paint_raw(painter, left, cell, Qt.AlignmentFlag.AlignRight)
        if has_left and has_right:
            painter.setPen(theme().soft)
            painter.drawText(
                QRectF(middle - 10, box.top(), 20, box.height()), Qt.AlignmentFlag.AlignCenter, sign
            )
        if has_right and cell.other is not None:
            right = QRectF(middle + 12, box.top(), box.right() - middle - 12 - PAD, box.height())
            paint_raw(painter, right, cell.other, Qt.AlignmentFlag.AlignLeft)

    def _header(self) -> None:
        painter, chosen = self._painter, theme()
        grid, width = self._grid, self._grid.viewport().width()
        height, top = grid.header_height, grid.header_height - HEADER_HEIGHT
        painter.fillRect(QRect(0, 0, width, height), chosen.ground)
        for zone in grid.columns.zones:
            painter.save()
            if zone.name == LINK:
                painter.fillRect(QRect(zone.left, 0, zone.width, height), chosen.link)
            painter.setClipRect(QRect(zone.left, 0, zone.width, height))
            if zone.name in self._content.titles:
                self._zone_title(zone, *self._content.titles[zone.name])
            for number, left, column_width in grid.column_lefts(zone):
                self._column_head(QRectF(left, top, column_width, HEADER_HEIGHT), number)
            painter.restore()
        self._zone_edges(QRect(0, 0, width, height))
        painter.setPen(QPen(chosen.line, 1))
        painter.drawLine(0, height - 1, width, height - 1)
        if grid.columns.zones and grid.columns.zones[0].columns and not self._content.titles:
            mark = grid.marks.get(self._content.columns[grid.columns.zones[0].columns[0]].field.origin)
            if mark is not None:
                draw_mark(painter, QRectF(16, 7, 22, 16), mark.letters, chosen.hue(mark.hue))

    def _zone_title(self, zone: Zone, name: str, said: str) -> None:
        """A table's mark and name, and what became of its rows."""
        painter, chosen = self._painter, theme()
        left = zone.left + PAD
        origins = [self._content.columns[number].field.origin for number in zone.columns]
        mark = next((self._grid.marks[origin] for origin in origins if origin in self._grid.marks), None)
        if mark is not None:
            draw_mark(painter, QRectF(left, 6, 21, 15), mark.letters, chosen.hue(mark.hue))
            left += 27
        painter.setFont(font(12, bold=True))
        painter.setPen(chosen.ink)
        room = zone.right - left - PAD
        metrics, elide = QFontMetrics(painter.font()), Qt.TextElideMode.ElideMiddle
        shown = elided(metrics, name, elide, int(room * 0.5))
        painter.drawText(QRectF(left, 3, room, TITLE_HEIGHT - 2), Qt.AlignmentFlag.AlignVCenter, shown)
        left += metrics.horizontalAdvance(shown) + 12
        painter.setFont(font(11))
        painter.setPen(chosen.soft)
        room = zone.right - left - PAD
        shown = elided(QFontMetrics(painter.font()), said, Qt.TextElideMode.ElideLeft, int(room))
        painter.drawText(QRectF(left, 3, room, TITLE_HEIGHT - 2), Qt.AlignmentFlag.AlignVCenter, shown)

    def _column_head(self, box: QRectF, number: int) -> None:
        """A column's name, with its source's mark where that is another than its neighbour's."""
        painter = self._painter
        chosen, column = theme(), self._content.columns[number]
        painter.setFont(font(12, bold=True))
        painter.setPen(chosen.ink)
        arrow = ""
        if self._content.sorted_by is not None and self._content.sorted_by[0] == number:
            arrow = " ↓" if self._content.sorted_by[1] else " ↑"
        if column.zone == LINK and column.other is not None:
            self._link_head(box, column, arrow)
            return
        mark = self._grid.marks.get(column.field.origin) if self._grid.columns.begins_source(number) else None
        inner = box.adjusted(PAD, 0, -PAD, 0)
        if mark is not None:
            draw_mark(
                painter, QRectF(inner.left(), inner.top() + 8, 18, 14), mark.letters, chosen.hue(mark.hue)
            )
            inner.setLeft(inner.left() + 22)
        if self._grid.is_warned(number):
            painter.setPen(chosen.alarm)
            arrow = f"  ×{self._content.warnings[column.field.name]:.1f} ▾"
        align = Qt.AlignmentFlag.AlignRight if column.is_number else Qt.AlignmentFlag.AlignLeft
        metrics = QFontMetrics(painter.font())
        text = elided(
            metrics, side_said(column.field.name) + arrow, Qt.TextElideMode.ElideMiddle, int(inner.width())
        )
        painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter | align, text)

    def _link_head(self, box: QRectF, column: Column, arrow: str) -> None:
        painter = self._painter
        assert column.other is not None
        chosen, middle = theme(), box.center().x()
        metrics = QFontMetrics(painter.font())
        elide = Qt.TextElideMode.ElideMiddle
        left = self._grid.marks.get(column.field.origin)
        room = middle - 12 - box.left() - 34
        name = elided(metrics, column.field.name + arrow, elide, int(room))
        edge = middle - 12 - metrics.horizontalAdvance(name)
        painter.drawText(QPointF(edge, 20), name)
        if left is not None:
            draw_mark(painter, QRectF(edge - 24, 8, 18, 14), left.letters, chosen.hue(left.hue))
        painter.setPen(chosen.soft)
        painter.drawText(QRectF(middle - 10, 0, 20, HEADER_HEIGHT), Qt.AlignmentFlag.AlignCenter, column.sign)
        right = self._grid.marks.get(column.other.origin)
        start = middle + 12
        if right is not None:
            draw_mark(painter, QRectF(start, 8, 18, 14), right.letters, chosen.hue(right.hue))
            start += 24
        painter.setPen(chosen.ink)
        painter.drawText(
            QPointF(start, 20), elided(metrics, column.other.name, elide, int(box.right() - start - 6))
        )

    def _zone_edges(self, area: QRect) -> None:
        painter = self._painter
        painter.setPen(QPen(theme().line, 1))
        for zone in self._grid.columns.zones:
            if zone.name == LINK:
                painter.drawLine(zone.left, area.top(), zone.left, area.bottom())
                painter.drawLine(zone.right, area.top(), zone.right, area.bottom())
            elif zone.name in self._content.titles and zone.left > GUTTER:
                painter.drawLine(zone.left, area.top(), zone.left, area.bottom())

    def _cursor(self, rect: QRectF) -> None:
        painter = self._painter
        if self._grid.hasFocus():
            painter.setPen(QPen(theme().accent, 1.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(rect.adjusted(1, 1, -2, -1))

    def _zone_colour(self, name: str) -> QColor:
        """The hue of the table that a zone shows."""
        fields = [column.field for column in self._content.columns if column.zone == name]
        mark = next((self._grid.marks[f.origin] for f in fields if f.origin in self._grid.marks), None)
        return theme().hue(mark.hue).mark if mark is not None else theme().soft

    def _side_colour(self, zone: str) -> QColor:
        """The hue of the table of one side, by its link field."""
        link = next((column for column in self._content.columns if column.zone == LINK), None)
        entry = None if link is None else link.field if zone == LEFT else link.other
        mark = self._grid.marks.get(entry.origin) if entry is not None else None
        return theme().hue(mark.hue).mark if mark is not None else theme().soft
