"""What the pointer says on the bench: a value whole, what a field is, what a band or a reason says."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, QPoint
from PySide6.QtGui import QHelpEvent
from PySide6.QtWidgets import QToolTip

from keen_trellis.core.values import as_text
from keen_trellis.desktop.bench.grid import BenchGrid
from keen_trellis.desktop.bench.lines import BAND, PART, ROW
from keen_trellis.desktop.plain import tip


class Tips(QObject):
    """Shows them over a grid."""

    def __init__(self, grid: BenchGrid) -> None:
        super().__init__(grid)
        self._grid = grid
        grid.viewport().installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QHelpEvent):
            text = self.text_at(event.pos())
            QToolTip.showText(event.globalPos(), tip(text), self._grid.viewport())
            return True
        return super().eventFilter(watched, event)

    def text_at(self, point: QPoint) -> str:
        """What there is to say of a place of the viewport, "" for nothing."""
        grid, content = self._grid, self._grid.content
        number = grid.column_at(point.x())
        if content is None:
            return ""
        if point.y() < grid.header_height:
            return self._of_field(number) if number is not None else ""
        place = grid.line_at(point.y())
        if place is None:
            return ""
        line = grid.lines.at(place)
        if line.kind == BAND:
            band = content.bands[line.band]
            return f"{band.text}: {band.effect}" if band.effect else band.text
        if line.kind == PART:
            part = content.parts[line.part]
            mends = " or ".join(mend.said for mend in part.mends)
            return f"{part.text}. Enter mends: {mends}" if mends else part.text
        return self._of_cell(line.part, line.place, number) if line.kind == ROW and number is not None else ""

    def _of_field(self, number: int) -> str:
        content = self._grid.content
        assert content is not None
        column = content.columns[number]
        said = f"{column.field.name}: {column.field.type.value}"
        if column.other is not None:
            said = f"{said}, {column.sign} {column.other.name}: {column.other.type.value}"
        return f"{said}. A click sorts, a right click lists what can be done with it"

    def _of_cell(self, part: int, place: int, number: int) -> str:
        """The value whole, and how a cell without one came to be so."""
        content = self._grid.content
        assert content is not None
        _, name, cells = content.cell_at(content.parts[part], place, number)
        text = as_text(cells.values)[0].as_py()
        if text is not None:
            filled = cells.filled is not None and bool(cells.filled[0])
            return f"{name}: {text}{' (filled in)' if filled else ''}"
        absent = cells.absent is not None and bool(cells.absent[0])
        return f"{name}: {'no partner' if absent else 'blank in the source'}"
