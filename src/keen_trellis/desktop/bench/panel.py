"""A table of texts on the bench with a title: what the fields, raw cells and changes are shown with."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QModelIndex, QObject, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QResizeEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from keen_trellis.desktop.bench.head import Head
from keen_trellis.desktop.plain import tip
from keen_trellis.desktop.theme import font, theme
from keen_trellis.flow.plain_text import cut, visible

LEFT = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
_ROW_HEIGHT = 24
_WIDEST = 420
_BESIDE = 48  # margins and a scroll bar


class _Grounds(QStyledItemDelegate):
    """Paints the ground that a cell has of its own, which style sheets leave out."""

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        ground = index.data(Qt.ItemDataRole.BackgroundRole)
        if ground is not None and not option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(option.rect, ground)
        super().paint(painter, option, index)


class Panel(QWidget):
    """closed: the user is done with it.  opened: Enter, or a double click, on a row.

    own_keys: keys that mean something here and a command elsewhere.
    """

    closed = Signal()
    opened = Signal(int)
    own_keys: tuple[Qt.Key, ...] = ()

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._wanted = 0
        self.head = Head(name)
        self.title = self.head.said
        self.head.back.connect(self.closed)
        self.table = QTableWidget()
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setShowGrid(False)
        self.table.setWordWrap(False)
        self.table.setAccessibleName(name)
        self.table.setItemDelegate(_Grounds(self.table))
        self.table.verticalHeader().setVisible(False)
        self.table.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.table.installEventFilter(self)
        self.table.doubleClicked.connect(lambda index: self.opened.emit(index.row()))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 8, 16, 8)
        layout.addWidget(self.head)
        layout.addWidget(self.table)
        self.setFocusProxy(self.table)

    def open_current(self) -> None:
        """What Enter does."""
        self.opened.emit(self.table.currentRow())

    def begin(self, title: str, headings: Sequence[str], rows: int, *, numbers: Sequence[int] = ()) -> None:
        """Begin anew with so many empty rows.

        title: what is said beside the name.  numbers: the columns whose cells stand at the right.
        """
        chosen = theme()
        self.title.setText(title)
        self.head.use_theme()
        self.setStyleSheet(
            f"Panel {{ background: {chosen.paper.name()}; }}"
            f"QTableWidget {{ background: {chosen.paper.name()}; color: {chosen.ink.name()}; border: none;"
            " outline: 0; }"
            "QTableWidget::item { padding: 1px 10px; border: none; }"
            f"QTableWidget::item:selected {{ background: {chosen.selected.name()};"
            f" color: {chosen.ink.name()}; }}"
            f"QHeaderView::section {{ background: {chosen.band.name()}; color: {chosen.ink.name()};"
            " border: none; padding: 4px 10px; }"
        )
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.table.clear()
        self.table.setFont(font(12))
        self.table.setColumnCount(len(headings))
        self.table.setRowCount(rows)
        for column, heading in enumerate(headings):
            item = QTableWidgetItem(heading)
            item.setTextAlignment(RIGHT if column in numbers else LEFT)
            self.table.setHorizontalHeaderItem(column, item)
        header = self.table.horizontalHeader()
        header.setVisible(any(headings))
        header.setFont(font(12, bold=True))
        header.setStretchLastSection(True)
        self.table.verticalHeader().setDefaultSectionSize(_ROW_HEIGHT)

    def put(
        self,
        row: int,
        column: int,
        text: str,
        *,
        colour: QColor | None = None,
        ground: QColor | None = None,
        bold: bool = False,
        number: bool = False,
    ) -> None:
        """Put a text into a cell."""
        item = QTableWidgetItem(visible(cut(text)))
        item.setForeground(colour or theme().ink)
        if ground is not None:
            item.setBackground(ground)
        if bold:
            item.setFont(font(12, bold=True))
        item.setTextAlignment(RIGHT if number else LEFT)
        item.setToolTip(tip(text))
        self.table.setItem(row, column, item)

    def finish(self, current: int = 0) -> None:
        """Fit the columns to their texts and go to a row."""
        header = self.table.horizontalHeader()
        header.setStretchLastSection(False)
        total = 0
        for column in range(self.table.columnCount()):
            self.table.resizeColumnToContents(column)
            header.setSectionResizeMode(column, QHeaderView.ResizeMode.Interactive)
            self.table.setColumnWidth(column, min(self.table.columnWidth(column) + 6, _WIDEST))
            total += self.table.columnWidth(column)
        self._wanted = total
        self._use_room()
        self.table.setCurrentCell(min(current, self.table.rowCount() - 1), 0)

    def _use_room(self) -> None:
        """The last column takes what room is left; where there is none, it is scrolled to."""
        fits = self._wanted <= self.width() - _BESIDE
        self.table.horizontalHeader().setStretchLastSection(fits)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._use_room()

    @property
    def texts(self) -> list[list[str]]:
        """All cells as they are shown, row by row."""

        def text(row: int, column: int) -> str:
            item = self.table.item(row, column)
            return item.text() if item is not None else ""

        columns = range(self.table.columnCount())
        return [[text(row, column) for column in columns] for row in range(self.table.rowCount())]

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.ShortcutOverride:
            if event.key() in self.own_keys:
                event.accept()
            return False
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() == Qt.Key.Key_Escape:
                self.closed.emit()
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self.open_current()
                return True
        return super().eventFilter(watched, event)
