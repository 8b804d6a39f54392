"""Values that probably mean others, looked through on the bench: accepted or rejected by pair or by group."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QModelIndex, QObject, QPersistentModelIndex, QPointF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QPainter, QTextCharFormat, QTextLayout
from PySide6.QtWidgets import (
    QHBoxLayout,
    QPushButton,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QWidget,
)

from keen_trellis.core.insight.reason import rows_said
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.theme import font, theme
from keen_trellis.flow.reviewing import Review, Verdict, said_of

_MARKS = Qt.ItemDataRole.UserRole
_VALUE_COLUMNS = (1, 2)
_WORDS = {Verdict.OPEN: "open", Verdict.ACCEPTED: "accepted", Verdict.REJECTED: "rejected"}


class _Marked(QStyledItemDelegate):
    """Paints a value with the characters marked in which it differs."""

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        chosen = theme()
        ground = index.data(Qt.ItemDataRole.BackgroundRole)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(option.rect, chosen.selected)
        elif ground is not None:
            painter.fillRect(option.rect, ground)
        layout = QTextLayout(str(index.data() or ""), font(12))
        formats = []
        for start, end in index.data(_MARKS) or ():
            entry = QTextLayout.FormatRange()
            entry.start, entry.length = start, end - start
            marked = QTextCharFormat()
            marked.setForeground(chosen.accent)
            marked.setFontWeight(700)
            marked.setFontUnderline(True)
            entry.format = marked
            formats.append(entry)
        layout.setFormats(formats)
        layout.beginLayout()
        line = layout.createLine()
        layout.endLayout()
        top = option.rect.top() + (option.rect.height() - line.height()) / 2
        painter.save()
        painter.setClipRect(option.rect)
        painter.setPen(chosen.ink)
        layout.draw(painter, QPointF(option.rect.left() + 12, top))
        painter.restore()


class ReviewView(Panel):
    """settled: the review, as it is to be applied.  export_wanted, answers_wanted: to a file, from a file."""

    settled = Signal(object)
    export_wanted = Signal()
    answers_wanted = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Values that probably mean others", parent)
        self.review = Review(())
        self._lines: list[range] = []
        for column in _VALUE_COLUMNS:
            self.table.setItemDelegateForColumn(column, _Marked(self.table))
        self.opened.connect(lambda _: self.settled.emit(self.review))
        bar = QWidget()
        row = QHBoxLayout(bar)
        row.setContentsMargins(0, 4, 0, 0)
        self.buttons: dict[str, QPushButton] = {}
        for text, keys, act in (
            ("Accept", "A", lambda: self.decide(Verdict.ACCEPTED)),
            ("Reject", "R", lambda: self.decide(Verdict.REJECTED)),
            ("Leave open", "O", lambda: self.decide(Verdict.OPEN)),
            ("Accept the rest", "Shift+A", lambda: self.decide_rest(Verdict.ACCEPTED)),
            ("Reject the rest", "Shift+R", lambda: self.decide_rest(Verdict.REJECTED)),
            ("Export…", "", self.export_wanted.emit),
            ("Read answers…", "", self.answers_wanted.emit),
            ("Apply", "Enter", lambda: self.settled.emit(self.review)),
        ):
            if text == "Apply":
                row.addStretch(1)
            button = QPushButton(f"{text}  {keys}".strip())
            button.setAccessibleName(text)
            button.setFont(font(12))
            button.clicked.connect(act)
            self.buttons[text] = button
            row.addWidget(button)
        self.layout().addWidget(bar)  # type: ignore[union-attr]

    def show_review(self, review: Review) -> None:
        """Show pairs in their groups; the line stood on stays."""
        current = max(self.table.currentRow(), 0) if review.pairs and self.review.pairs else 1
        self.review = review
        groups = review.groups
        gains = review.rows_of(Verdict.ACCEPTED)
        self.begin(
            f"{said_of(review)}. Applying reads what is accepted as what it means, and gains "
            f"{rows_said(gains)}. On a group, a decision is about all of it.",
            ("Decision", "Value", "is read as", "Rows", "Difference"),
            len(review.pairs) + len(groups),
            numbers=(3,),
        )
        self._lines = []
        chosen = theme()
        for said, numbers in groups:
            line = len(self._lines)
            self._lines.append(numbers)
            count = len(numbers)
            self.put(
                line, 0, f"{count:,} {'value' if count == 1 else 'values'}", bold=True, ground=chosen.band
            )
            for column in _VALUE_COLUMNS:
                self.put(line, column, "", ground=chosen.band)
            touched = sum(review.pairs[number].rows for number in numbers)
            self.put(line, 3, f"{touched:,}", bold=True, number=True, ground=chosen.band)
            self.put(line, 4, said, bold=True, ground=chosen.band)
            for number in numbers:
                self._put_pair(number)
        self.finish(current)

    def _put_pair(self, number: int) -> None:
        line, pair, chosen = len(self._lines), self.review.pairs[number], theme()
        self._lines.append(range(number, number + 1))
        colours = {Verdict.OPEN: chosen.soft, Verdict.ACCEPTED: chosen.ink, Verdict.REJECTED: chosen.alarm}
        self.put(line, 0, _WORDS[pair.verdict], colour=colours[pair.verdict])
        for column, text, marks in (
            (1, pair.read, pair.difference.one),
            (2, pair.meant, pair.difference.other),
        ):
            self.put(line, column, text)
            item = self.table.item(line, column)
            if item is not None:
                item.setData(_MARKS, marks)
        self.put(line, 3, f"{pair.rows:,}" if pair.rows else "", number=True)
        self.put(line, 4, pair.difference.said, colour=chosen.soft)

    def decide(self, verdict: Verdict) -> None:
        """Decide the current pair, or all of the current group, and go on to the next line."""
        line = self.table.currentRow()
        if not 0 <= line < len(self._lines):
            return
        numbers = self._lines[line]
        self.show_review(self.review.decided(numbers, verdict))
        step = len(numbers) + 1 if len(numbers) > 1 else 1
        self.table.setCurrentCell(min(line + step, self.table.rowCount() - 1), 0)

    def decide_rest(self, verdict: Verdict) -> None:
        """Decide everything that is still open."""
        self.show_review(self.review.decided(self.review.having(Verdict.OPEN), verdict))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            verdict = {
                Qt.Key.Key_A: Verdict.ACCEPTED,
                Qt.Key.Key_R: Verdict.REJECTED,
                Qt.Key.Key_O: Verdict.OPEN,
            }.get(Qt.Key(event.key()))
            if verdict is not None and not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
                if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                    self.decide_rest(verdict)
                else:
                    self.decide(verdict)
                return True
        return super().eventFilter(watched, event)
