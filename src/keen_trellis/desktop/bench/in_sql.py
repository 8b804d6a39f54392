"""The rows that are selected said in SQL, to be read and copied."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QFontDatabase, QGuiApplication, QKeyEvent
from PySide6.QtWidgets import QPlainTextEdit, QVBoxLayout, QWidget

from keen_trellis.desktop.bench.head import Head
from keen_trellis.desktop.bench.panels import Opener
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.in_sql.target import ANSI, POSTGRESQL, SPARK, SQLITE, SqlTarget
from keen_trellis.flow.sql_parameters import parametrised
from keen_trellis.flow.to_sql import Query
from keen_trellis.handbook import Chapter

_DIALECTS = {
    Qt.Key.Key_1: (ANSI, "Standard SQL"),
    Qt.Key.Key_2: (POSTGRESQL, "PostgreSQL"),
    Qt.Key.Key_3: (SPARK, "Spark SQL"),
    Qt.Key.Key_4: (SQLITE, "SQLite"),
}


class SqlView(QWidget):
    """closed: the user is done with it.  wanted: it is to be said for this target.  copied: it was copied."""

    closed = Signal()
    wanted = Signal(object)
    copied = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.head = Head("In SQL")
        self.head.back.connect(self.closed)
        for key, (target, name) in _DIALECTS.items():
            self.head.add_action(name, chr(key), partial(self.wanted.emit, target))
        self.copy = self.head.add_action("Copy all", "C", self.copy_all)
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        # A caret that keys move, so that a part can be marked without a mouse.
        self.text.setTextInteractionFlags(
            Qt.TextInteractionFlag.TextSelectableByMouse | Qt.TextInteractionFlag.TextSelectableByKeyboard
        )
        self.text.setAccessibleName("SQL of the selected rows")
        self.text.installEventFilter(self)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 8, 16, 8)
        layout.addWidget(self.head)
        layout.addWidget(self.text)
        self.setFocusProxy(self.text)

    def show_text(self, said: str, text: str, *, is_sql: bool) -> None:
        """Show SQL, or why there is none."""
        chosen = theme()
        self.head.said.setText(said)
        self.head.use_theme()
        self.copy.setVisible(is_sql)
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setStyleSheet(
            f"SqlView {{ background: {chosen.paper.name()}; }}"
            f"QPlainTextEdit {{ background: {chosen.paper.name()}; color: {chosen.ink.name()}; border: none;"
            f" selection-background-color: {chosen.selected.name()}; selection-color: {chosen.ink.name()}; }}"
        )
        written = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
        written.setPointSizeF(10)
        self.text.setFont(written if is_sql else self.font())
        self.text.setPlainText(text)

    def copy_all(self) -> None:
        """Put all of the SQL on the clipboard."""
        if not self.copy.isHidden():
            QGuiApplication.clipboard().setText(self.text.toPlainText())
            self.copied.emit()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if not isinstance(event, QKeyEvent) or event.modifiers():
            return super().eventFilter(watched, event)
        key = Qt.Key(event.key())
        ours = key in (*_DIALECTS, Qt.Key.Key_C, Qt.Key.Key_Escape)
        if event.type() == QEvent.Type.ShortcutOverride and ours:
            event.accept()
            return False
        if event.type() == QEvent.Type.KeyPress and ours:
            if key == Qt.Key.Key_Escape:
                self.closed.emit()
            elif key == Qt.Key.Key_C:
                self.copy_all()
            else:
                self.wanted.emit(_DIALECTS[key][0])
            return True
        return super().eventFilter(watched, event)


class SqlOpener(Opener[SqlView]):
    """Says the selected rows in SQL."""

    chapter = Chapter.AGAIN

    target: SqlTarget = ANSI

    def made(self) -> SqlView:
        view = SqlView()
        view.wanted.connect(self._say_for)
        view.copied.connect(lambda: self._session.said.emit("The SQL is on the clipboard."))
        return view

    def show(self) -> None:
        """Say it on a thread: tables may have to be read for their fields."""
        session, chosen = self._session, self._session.selection
        flow = session.flow
        if not chosen.step:
            return

        def done(query: Query) -> None:
            if session.selection == chosen and session.flow is flow:
                self._fill(query, flow.step(chosen.step).name)
                self._panels.open(self)

        session.jobs.start(
            "saying it in SQL",
            lambda task: parametrised(session.runner.plan(flow), chosen.step, chosen.port, self.target, task),
            done,
            session.failed.emit,
        )

    def _say_for(self, target: SqlTarget) -> None:
        self.target = target
        self.show()

    def _fill(self, query: Query, name: str) -> None:
        called = next(said for target, said in _DIALECTS.values() if target is self.target)
        if query.refused:
            lines = [f"• {error}" for error in dict.fromkeys(map(str, query.refused))]
            said = f"{name} cannot be said in {called} so that it means the same"
            self.view.show_text(said, "\n".join(lines), is_sql=False)
        else:
            self.view.show_text(f"{name} in {called}", query.text, is_sql=True)
