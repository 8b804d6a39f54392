"""The bench as a pane: its grid, the line for finding, one row whole, and messages where no rows are."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QStackedLayout,
    QVBoxLayout,
    QWidget,
)

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.table import RowOrigin
from keen_trellis.desktop import editing
from keen_trellis.desktop.bench.content import Content, knot_content, table_content
from keen_trellis.desktop.bench.grid import BenchGrid
from keen_trellis.desktop.bench.record import RecordView, entries_of
from keen_trellis.desktop.document import Document, Outcome, Selection
from keen_trellis.desktop.marks import marks_of
from keen_trellis.desktop.theme import font, theme
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinKind, JoinSettings


class BenchPane(QWidget):
    """Follows the document's selection. origin_changed: where the current row stands in its sources."""

    origin_changed = Signal(str)

    def __init__(self, document: Document, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._document = document
        self._shown_for: object = None
        self._shown_selection = Selection()
        self.grid = BenchGrid()
        self.record = RecordView()
        self.message = QLabel()
        self.message.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.message.setWordWrap(True)
        self.message.setTextFormat(Qt.TextFormat.PlainText)
        self.find_line = QLineEdit()
        self.find_line.setPlaceholderText("find in the rows of this step")
        self.find_line.setAccessibleName("Find in rows")
        self.find_said = QLabel()
        self._find_bar = self._made_find_bar()
        self._stack = QStackedLayout()
        for widget in (self.grid, self.record, self.message):
            self._stack.addWidget(widget)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(self._stack, 1)
        layout.addWidget(self._find_bar)
        self.grid.current_changed.connect(self._tell_origin)
        self.grid.record_wanted.connect(self.show_record)
        self.grid.sort_wanted.connect(self._sort)
        self.grid.destination_chosen.connect(self._change_type)
        self.record.closed.connect(self._close_record)
        document.selected.connect(self.refresh)
        document.outcomes_changed.connect(self.refresh)
        document.changed.connect(self.refresh)

    def _made_find_bar(self) -> QWidget:
        bar = QWidget()
        layout = QHBoxLayout(bar)
        layout.setContentsMargins(12, 4, 12, 4)
        label = QLabel("Find")
        label.setFont(font(12))
        self.find_line.setFont(font(12))
        self.find_line.setMaximumWidth(360)
        following = QPushButton("Next")
        following.clicked.connect(lambda: self.find_next())
        layout.addWidget(label)
        layout.addWidget(self.find_line)
        layout.addWidget(following)
        layout.addWidget(self.find_said, 1)
        self.find_line.returnPressed.connect(lambda: self.find_next())
        self.find_line.installEventFilter(self)
        bar.hide()
        return bar

    # --- what is shown ---

    def refresh(self) -> None:
        """Show the rows of the selection, if they are others than those shown."""
        selection, outcome = self._document.selection, self._document.selected_outcome()
        if not selection:
            empty = not self._document.margin_files()
            self._say(
                "Rows will stand here." if empty else "Select a rail, a knot or a stub to see its rows."
            )
            return
        if outcome is None:
            if self._document.stopped:
                self._say("Stopped before these rows were known. F5 goes on.")
            elif selection != self._shown_selection:
                self._say("Reading …")
            return
        if outcome.error is not None:
            self._say_error(outcome.error)
            return
        self._show(selection, outcome)

    def _show(self, selection: Selection, outcome: Outcome) -> None:
        result, step = outcome.result, outcome.step
        assert result is not None
        table = result.ports.get(selection.port)
        if table is None:
            self._say("This knot has no such rows any more.")
            return
        settings: JoinSettings | None = None
        if step is not None and step.kind == JoinKind.name and selection.port == ROWS:
            settings = KINDS.settings(step)
            self.grid.show_type(settings.join_type)
        # A knot's rows follow from its match and its fields, not from its join type.
        same = (result.match, settings.links, settings.keep, settings.bring) if settings else table
        if same == self._shown_for and selection == self._shown_selection:
            if self._stack.currentWidget() is self.message:
                self._stack.setCurrentWidget(self.grid)
            return
        afresh = selection != self._shown_selection
        self._shown_for, self._shown_selection = same, selection
        content = table_content(table)
        if settings is not None:
            left, right = outcome.tables
            content = knot_content(settings, outcome.inputs, left, right, result)
        self.grid.show_content(content, marks_of(self._document.flow), afresh=afresh)
        if not table.rows and not content.is_knot:
            self._say("No rows." if table.fields else "No fields.")
            return
        if self._stack.currentWidget() is not self.record or afresh:
            self._stack.setCurrentWidget(self.grid)

    def _say(self, text: str) -> None:
        self._shown_for = None
        self._shown_selection = Selection()
        self.message.setFont(font(13))
        self.message.setStyleSheet(
            f"color: {theme().soft.name()}; background: {theme().paper.name()}; padding: 40px;"
        )
        self.message.setText(text)
        self._stack.setCurrentWidget(self.message)
        self.origin_changed.emit("")

    def _say_error(self, error: TrellisError) -> None:
        where = error.where
        if self._document.path is not None:
            # What lies beside the flow is named as the flow's file names it.
            where = where.removeprefix(f"{self._document.path.parent}/")
        self._say("\n".join(part for part in (where, error.what, error.remedy) if part))
        self.message.setStyleSheet(
            f"color: {theme().alarm.name()}; background: {theme().paper.name()}; padding: 40px;"
        )

    @property
    def content(self) -> Content | None:
        """What the grid shows, None while it shows nothing."""
        return self.grid.content if self._stack.currentWidget() is not self.message else None

    def _tell_origin(self) -> None:
        row = self.grid.current_row()
        content = self.grid.content
        if row is None or content is None:
            self.origin_changed.emit("")
            return
        self.origin_changed.emit(_origin_text(content.origins(*row)))

    def focus_rows(self) -> None:
        """Give the keyboard to the rows."""
        widget = self._stack.currentWidget()
        if widget is not None:
            widget.setFocus()

    # --- one row whole ---

    def show_record(self) -> None:
        """Show all fields of the current row and of its partners."""
        row, content = self.grid.current_row(), self.grid.content
        if row is None or content is None:
            self._document.said.emit("Move to a row first.")
            return
        self.record.show_entries(*entries_of(content, *row))
        self._stack.setCurrentWidget(self.record)
        self.record.setFocus()

    def _close_record(self) -> None:
        self._stack.setCurrentWidget(self.grid)
        self.grid.setFocus()

    # --- sorting, finding, sending bands elsewhere ---

    def _sort(self, column: int, descending: bool) -> None:
        content = self.grid.content
        if content is None:
            return
        if column < 0:
            self._apply_orders(content, {}, None)
            return
        self._document.jobs.start(
            f"sorting by {content.columns[column].field.name}",
            lambda task: content.orders(content.columns[column], descending=descending, task=task),
            lambda orders: self._apply_orders(content, orders, (column, descending)),
            self._document.failed.emit,
        )

    def _apply_orders(self, content: Content, orders: dict, sorted_by: tuple[int, bool] | None) -> None:  # type: ignore[type-arg]
        for part in content.parts:
            part.order = orders.get(part.key)
        content.sorted_by = sorted_by
        content.forget_cells()
        self.grid.viewport().update()
        self._tell_origin()

    def _change_type(self, kind: JoinType) -> None:
        editing.change_join_type(self._document, self._shown_selection.step, kind)

    def open_find(self) -> None:
        """Open the line for finding."""
        self._find_bar.show()
        self.find_line.setFocus()
        self.find_line.selectAll()

    def find_next(self, *, backwards: bool = False) -> None:
        """Go to the next row with the text looked for."""
        content, text = self.grid.content, self.find_line.text()
        if content is None or not text:
            return
        start = self.grid.place_for_search()
        self.find_said.setText("looking …")
        self._document.jobs.start(
            f"looking for “{text}”",
            lambda task: content.find(text, start, task, backwards=backwards),
            lambda found: self._found(text, found),
            self._document.failed.emit,
        )

    def _found(self, text: str, place: tuple[int, int] | None) -> None:
        self.find_said.setText("" if place else f"“{text}” is in none of these rows")
        if place is not None:
            self.grid.show_row(*place)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if (
            watched is self.find_line
            and isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.key() == Qt.Key.Key_Escape
        ):
            self._find_bar.hide()
            self.grid.setFocus()
            return True
        return super().eventFilter(watched, event)


def _origin_text(origins: tuple[RowOrigin, ...]) -> str:
    return "this row: " + " with ".join(str(origin) for origin in origins) if origins else ""
