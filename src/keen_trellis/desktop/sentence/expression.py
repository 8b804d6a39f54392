"""A line for an expression: names are completed, and what it gives is shown while it is typed."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from PySide6.QtCore import QStringListModel, Qt, QTimer
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QAbstractItemView, QCompleter, QLineEdit, QWidget

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.expressions.quoting import quoted_name
from keen_trellis.core.link import parsed
from keen_trellis.core.table import Field, Table
from keen_trellis.core.values import as_text
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.theme import font, theme

_WAIT = 120  # milliseconds after the last key
_FIRST_ROWS = 4
_WORD = re.compile(r'("[^"]*|\w+)$')
_PLACE = re.compile(r"character ([\d,]+)")


class ExpressionEntry(Entry):
    """entered: the expression, once it can be read."""

    def __init__(
        self,
        title: str,
        text: str,
        parent: QWidget,
        table: Table,
        *,
        check: Callable[[str], object] | None = None,
    ) -> None:
        super().__init__(title, text, parent, check=check or (lambda typed: parsed(typed, table.fields)))
        self._table = table
        self.setFixedWidth(640)
        self._wait = QTimer(self)
        self._wait.setSingleShot(True)
        self._wait.setInterval(_WAIT)
        self._wait.timeout.connect(self._show_values)
        self.line.textEdited.connect(self._typed)
        self.completer = _completer(self.line, table.fields)
        self.popup: QAbstractItemView = self.completer.popup()  # type: ignore[assignment]
        self._dress_popup()
        self.completer.activated.connect(self._complete)
        if text:
            self._show_values()

    def _dress_popup(self) -> None:
        chosen = theme()
        self.popup.setFont(font(12))
        self.popup.setStyleSheet(
            f"QListView {{ background: {chosen.paper.name()}; color: {chosen.ink.name()};"
            f" border: 1px solid {chosen.accent.name()}; }}"
            f"QListView::item:selected {{ background: {chosen.selected.name()};"
            f" color: {chosen.ink.name()}; }}"
        )

    def _typed(self) -> None:
        self._wait.start()
        found = _WORD.search(self.line.text()[: self.line.cursorPosition()])
        word = found.group(0) if found else ""
        if len(word.strip('"')) < 1:
            self.popup.hide()
            return
        self.completer.setCompletionPrefix(word)
        if self.completer.completionCount() and self.completer.currentCompletion() != word:
            self.completer.complete()
        else:
            self.popup.hide()

    def _complete(self, word: str) -> None:
        """Put the chosen word in place of what was begun."""
        place = self.line.cursorPosition()
        before, after = self.line.text()[:place], self.line.text()[place:]
        begun = _WORD.search(before)
        start = begun.start() if begun else place
        self.line.setText(f"{before[:start]}{word}{after}")
        self.line.setCursorPosition(start + len(word))
        self._wait.start()

    def _show_values(self) -> None:
        """Say what the expression gives in the first rows, or what is wrong with it."""
        text = self.line.text()
        if not text.strip():
            self._say(self._hint)
            return
        try:
            expression = parsed(text, self._table.fields)
            rows = range(min(self._table.rows, _FIRST_ROWS))
            values = as_text(expression.column(self._table, rows)).to_pylist()
        except TrellisError as error:
            self._say(f"{error.what} {error.remedy}".strip(), alarm=True)
            return
        shown = ", ".join("blank" if value is None else f"“{value}”" for value in values)
        self._say(f"{expression.type.value}; the first rows give {shown or 'nothing'}. {self._hint}")

    def _refused(self, error: TrellisError) -> None:
        """Mark the place that the error names."""
        super()._refused(error)
        found = _PLACE.search(error.what)
        if found:
            self.line.setFocus()
            self.line.setSelection(int(found.group(1).replace(",", "")) - 1, 1)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.popup.isVisible():
            return
        super().keyPressEvent(event)


def _completer(line: QLineEdit, fields: Sequence[Field]) -> QCompleter:
    """Completes names of fields, in quotes where they need them, and functions."""
    from keen_trellis.core.expressions.parsing import FUNCTIONS

    names = [field.name if field.name.isidentifier() else quoted_name(field.name) for field in fields]
    quoted = [quoted_name(field.name) for field in fields if field.name.isidentifier()]
    completer = QCompleter(line)
    completer.setModel(QStringListModel([*names, *quoted, *(f"{name}(" for name in FUNCTIONS)], completer))
    completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
    completer.setFilterMode(Qt.MatchFlag.MatchContains)
    completer.setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
    completer.setWidget(line)
    return completer
