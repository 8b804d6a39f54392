"""One row whole: all fields of it and of its partners, brought or not."""

from __future__ import annotations

import msgspec
import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from keen_trellis.core.table import Table
from keen_trellis.desktop.bench.content import ABSENT, BLANK, FILLED, Cell, Content, Part, shown_cells
from keen_trellis.desktop.bench.grid import BenchGrid
from keen_trellis.desktop.bench.head import Head
from keen_trellis.desktop.bench.panels import Opener, Panels
from keen_trellis.desktop.theme import font, theme
from keen_trellis.flow.plain_text import cut, visible
from keen_trellis.flow.wording import rows_called
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session

_MOST_PARTNERS = 20


class Entry(msgspec.Struct, frozen=True):
    """One row of one table with all of its fields."""

    title: str
    fields: tuple[str, ...]
    cells: tuple[Cell, ...]


def entries_of(content: Content, part: Part, place: int) -> tuple[list[Entry], str]:
    """The row at a place and its partners, whole, and how many partners are not shown."""
    left, right = content.row_sides(part, place)
    if beside := content.entries(left, right):
        return [_entry(table, row, name) for table, row, name in beside], ""
    if content.match is None or content.right is None:
        return [_entry(content.left, left, "")], ""
    entries: list[Entry] = []
    partners = content.match.partners_in_right(left) if left >= 0 else np.array([right])
    others = content.match.partners_in_left(right) if left < 0 and right >= 0 else np.array([], dtype=int)
    if left >= 0:
        entries.append(_entry(content.left, left, content.names[0]))
    shown = partners[:_MOST_PARTNERS]
    entries += [_entry(content.right, int(row), content.names[1]) for row in shown]
    entries += [_entry(content.left, int(row), content.names[0]) for row in others[:_MOST_PARTNERS]]
    hidden = len(partners) - len(shown)
    return entries, f"{hidden:,} more partners are not shown" if hidden > 0 else ""


def _entry(table: Table, row: int, name: str) -> Entry:
    cells = table.take(np.array([row]), table.names)
    origin = "; ".join(str(entry) for entry in table.origins(row))
    one = rows_called(name)[0] if name else "row"
    return Entry(
        f"{one[:1].upper()}{one[1:]} · {origin}", table.names, tuple(shown_cells(entry)[0] for entry in cells)
    )


class RecordView(QWidget):
    """Shows entries side by side, a field a line. closed: the user is done with it."""

    closed = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.head = Head("All fields of the row")
        self.title = self.head.said
        self.head.back.connect(self.closed)
        self.table = QTableWidget()
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setShowGrid(False)
        self.table.setAccessibleName("All fields of the row and its partners")
        self.table.verticalHeader().setVisible(False)
        self.table.installEventFilter(self)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 8, 16, 8)
        layout.addWidget(self.head)
        layout.addWidget(self.table)
        self.setFocusProxy(self.table)

    def show_entries(self, entries: list[Entry], remark: str) -> None:
        """Show these entries."""
        chosen = theme()
        partners = len(entries) - 1
        said = "no partner" if not partners else f"{partners} partner{'s' if partners > 1 else ''}"
        self.title.setText(f"with {said}. {remark}".strip())
        self.head.use_theme()
        self.table.clear()
        self.table.setStyleSheet(
            f"QTableWidget {{ background: {chosen.paper.name()}; color: {chosen.ink.name()}; border: none;"
            f" outline: 0; }}"
            f"QTableWidget::item {{ padding: 2px 10px; border: none; }}"
            f"QTableWidget::item:selected {{ background: {chosen.selected.name()};"
            f" color: {chosen.ink.name()}; }}"
            f"QHeaderView::section {{ background: {chosen.band.name()}; color: {chosen.ink.name()};"
            f" border: none; padding: 5px 10px; text-align: left; }}"
        )
        self.table.setColumnCount(2 * len(entries))
        self.table.setRowCount(max((len(entry.fields) for entry in entries), default=0))
        labels: list[str] = []
        for column, entry in enumerate(entries):
            labels += ["", entry.title]
            for row, (name, cell) in enumerate(zip(entry.fields, entry.cells, strict=True)):
                self.table.setItem(row, 2 * column, _item(name, chosen.soft))
                self.table.setItem(row, 2 * column + 1, _cell_item(cell))
        self.table.setHorizontalHeaderLabels(labels)
        header = self.table.horizontalHeader()
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        header.setFont(font(12, bold=True))
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.table.verticalHeader().setDefaultSectionSize(24)
        self.table.setFont(font(12))
        self.table.setCurrentCell(0, 1)

    def eventFilter(self, watched: object, event: object) -> bool:
        keys = (Qt.Key.Key_Escape, Qt.Key.Key_Return, Qt.Key.Key_Enter)
        if isinstance(event, QKeyEvent) and event.type() == QKeyEvent.Type.KeyPress and event.key() in keys:
            self.closed.emit()
            return True
        return super().eventFilter(watched, event)  # type: ignore[arg-type]


def _item(text: str, colour: QColor) -> QTableWidgetItem:
    item = QTableWidgetItem(text)
    item.setForeground(colour)
    return item


def _cell_item(cell: Cell) -> QTableWidgetItem:
    chosen = theme()
    if cell.state == BLANK:
        return _item("blank", chosen.soft)
    if cell.state == ABSENT:
        return _item("no partner", chosen.soft)
    text = visible(cut(cell.text))
    return _item(f"{text}   (filled in)" if cell.state == FILLED else text, chosen.ink)


class RecordOpener(Opener[RecordView]):
    """Shows the current row whole."""

    def __init__(self, session: Session, panels: Panels, grid: BenchGrid) -> None:
        super().__init__(session, panels)
        self._grid = grid
        self._shown: Outcome | None = None

    def made(self) -> RecordView:
        return RecordView()

    def show(self) -> None:
        """Show all fields of the current row and of its partners."""
        row, content = self._grid.current_row(), self._grid.content
        if row is None or content is None:
            self._session.said.emit("Move to a row first.")
            return
        self._shown = self._session.selected_outcome()
        self.view.show_entries(*entries_of(content, *row))
        self._panels.open(self)

    def stays(self, outcome: Outcome | None) -> bool:
        # What another result has in this place may be another row.
        return outcome is self._shown
