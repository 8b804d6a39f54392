"""A small table typed into the flow itself: edited here cell by cell, or pasted."""

from __future__ import annotations

import msgspec
from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QAbstractItemView, QTableWidgetItem, QWidget

from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener
from keen_trellis.flow.source_settings import TypedTable
from keen_trellis.flow.steps import KINDS
from keen_trellis.handbook import Chapter
from keen_trellis.session.outcome import Outcome
from keen_trellis.sources.readers import uses_of
from keen_trellis.sources.reading import TYPED_TABLE

_SPARE_ROWS, _LEAST_COLUMNS = 1, 2


class TypingView(Panel):
    """changed: another table, as it stands in the cells now."""

    changed = Signal(object)
    own_keys = (Qt.Key.Key_Delete,)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Rows typed into the flow", parent)
        self._table = TypedTable()
        self._filling = False
        self.head.add_action("Paste", "Ctrl+V", self._paste)
        self.head.add_action("Empty the cells", "Delete", self._empty_cells)
        self.table.setEditTriggers(
            QAbstractItemView.EditTrigger.AnyKeyPressed
            | QAbstractItemView.EditTrigger.DoubleClicked
            | QAbstractItemView.EditTrigger.EditKeyPressed
        )
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectItems)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.ContiguousSelection)
        self.table.setShowGrid(True)
        self.table.itemChanged.connect(self._edited)

    def show_table(self, table: TypedTable, name: str) -> None:
        """Show a table; the cell stood on stays. The first line has the names of the fields."""
        row, column = max(self.table.currentRow(), 0), max(self.table.currentColumn(), 0)
        if self.table.rowCount() and table == self._table and table == table_of(self.texts):
            return
        self._table = table
        self._filling = True
        width = max([_LEAST_COLUMNS, len(table.names), *map(len, table.rows)])
        self.begin(
            f"{name}: type or paste. The first line names the fields.",
            [""] * (width + 1),
            len(table.rows) + 1 + _SPARE_ROWS,
        )
        for number, cells in enumerate((table.names, *table.rows)):
            for place, text in enumerate(cells):
                self.put(number, place, text, bold=number == 0)
        self.table.horizontalHeader().setVisible(False)
        for place in range(width):
            self.table.setColumnWidth(place, 200)
        self._filling = False
        self.table.setCurrentCell(min(row, self.table.rowCount() - 1), min(column, width))

    def _edited(self, item: QTableWidgetItem) -> None:
        if not self._filling:
            self._tell()

    def _tell(self) -> None:
        found = table_of(self.texts)
        if found != self._table:
            self._table = found
            self.changed.emit(found)

    def _paste(self) -> None:
        lines = QGuiApplication.clipboard().text().rstrip("\n").split("\n")
        top, left = max(self.table.currentRow(), 0), max(self.table.currentColumn(), 0)
        texts = self.texts
        for down, line in enumerate(lines):
            for across, text in enumerate(line.rstrip("\r").split("\t")):
                while len(texts) <= top + down:
                    texts.append([])
                row = texts[top + down]
                row += [""] * (left + across + 1 - len(row))
                row[left + across] = text
        self._table = table_of(texts)
        self.changed.emit(self._table)

    def _empty_cells(self) -> None:
        self._filling = True
        for item in self.table.selectedItems():
            item.setText("")
        self._filling = False
        self._tell()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.ShortcutOverride
            and event.matches(QKeySequence.StandardKey.Paste)
        ):
            event.accept()  # text is pasted into the cells, and no steps into the trellis
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.matches(QKeySequence.StandardKey.Paste):
                self._paste()
                return True
            if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
                self._empty_cells()
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self.table.editItem(self._current_item())
                return True
        return super().eventFilter(watched, event)

    def _current_item(self) -> QTableWidgetItem:
        row, column = self.table.currentRow(), self.table.currentColumn()
        item = self.table.item(row, column)
        if item is None:
            item = QTableWidgetItem()
            self._filling = True
            self.table.setItem(row, column, item)
            self._filling = False
        return item


class TypingOpener(Opener[TypingView]):
    """Lets the rows of the selected source be edited, where they are typed into the flow."""

    chapter = Chapter.TABLES

    def made(self) -> TypingView:
        view = TypingView()
        view.changed.connect(self._keep)
        return view

    def show(self) -> None:
        """Show the rows that are typed into the flow."""
        settings = self._session.sources().get(self._session.selection.step)
        if settings is None or not uses_of(settings) >= TYPED_TABLE:
            self._session.said.emit("Only a table that is typed into the flow can be edited here.")
            return
        step = self._session.flow.step(self._session.selection.step)
        self.view.show_table(settings.typed, step.name)
        if not self.is_shown:
            self._panels.open(self)

    def stays(self, outcome: Outcome | None) -> bool:
        del outcome
        self.show()
        return True

    def _keep(self, table: TypedTable) -> None:
        step = self._session.selection.step
        changed = msgspec.structs.replace(KINDS.settings(self._session.flow.step(step)), typed=table)
        self._session.change_settings(step, changed, f"Type rows of {self._session.flow.step(step).name}")


def table_of(texts: list[list[str]]) -> TypedTable:
    """The cells as a table: the first line its names, blank ends left off."""
    width = max((place + 1 for row in texts for place, text in enumerate(row) if text.strip()), default=0)
    rows = [tuple((row + [""] * width)[:width]) for row in texts]
    while len(rows) > 1 and not any(rows[-1]):
        rows.pop()
    return TypedTable(rows[0] if rows else (), tuple(rows[1:]))
