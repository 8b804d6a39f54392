"""The list that opens under a chip: choose one, or tick several; typing narrows it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import msgspec
from PySide6.QtCore import (
    QEvent,
    QModelIndex,
    QObject,
    QPersistentModelIndex,
    QPoint,
    QPointF,
    QRectF,
    QSize,
    Qt,
    Signal,
)
from PySide6.QtGui import QColor, QFontMetrics, QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import (
    QFrame,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from keen_trellis.core.join_type import JoinType
from keen_trellis.desktop.plain import PlainLabel, elided
from keen_trellis.desktop.signs import SIGN_HEIGHT, SIGN_WIDTH, draw_sign
from keen_trellis.desktop.theme import font, theme

_LINE = 28
_SIGN_LINE = 36
_FILTER_FROM = 8
_CHOICE = Qt.ItemDataRole.UserRole


class Choice(msgspec.Struct, frozen=True):
    """One line. detail: to its right.  sign: a join type whose sign stands before it.

    ticked: None for a line that cannot be ticked.  letter: chooses it in a numbered list.  also: other words
    that it is found by.
    """

    key: Any
    text: str
    detail: str = ""
    sign: JoinType | None = None
    ticked: bool | None = None
    hues: tuple[QColor, QColor] | None = None
    letter: str = ""
    also: str = ""


class Chooser(QFrame):
    """A popup list. chosen: the key of one line.  applied: the keys of all ticked lines, in order.

    dismissed: it was left without a choice.
    """

    chosen = Signal(object)
    applied = Signal(object)
    dismissed = Signal()

    def __init__(
        self,
        choices: Sequence[Choice],
        parent: QWidget,
        *,
        title: str = "",
        current: Any = None,
        several: bool = False,
        numbered: bool = False,
        search: Callable[[str], Sequence[Choice]] | None = None,
    ) -> None:
        """search: finds the choices for what is typed, where there are too many to be listed."""
        super().__init__(parent, Qt.WindowType.Popup)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._choices = list(choices)
        self._several, self._numbered, self._decided = several, numbered, False
        self._newer: Callable[[], Sequence[Choice]] | None = None
        self._search = search
        self.filter = QLineEdit(self)
        self.filter.setPlaceholderText("type to narrow the list")
        self.filter.setFont(font(12))
        self.filter.setVisible((search is not None or len(choices) >= _FILTER_FROM) and not numbered)
        self.list = QListWidget()
        self.list.setItemDelegate(_Lines(self.list, numbered=numbered))
        self.list.setFrameShape(QFrame.Shape.NoFrame)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setAccessibleName(title or "choices")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.setSpacing(6)
        if title:
            label = PlainLabel(title)
            label.setWordWrap(True)
            label.setFont(font(12, bold=True))
            layout.addWidget(label)
        layout.addWidget(self.filter)
        layout.addWidget(self.list)
        self.hint = PlainLabel(_hint(several=several, numbered=numbered))
        self.hint.setFont(font(11))
        layout.addWidget(self.hint)
        chosen = theme()
        self.hint.setStyleSheet(f"color: {chosen.soft.name()};")
        self.setStyleSheet(
            f"Chooser {{ background: {chosen.paper.name()}; border: 1px solid {chosen.accent.name()}; }}"
            f"QListWidget {{ background: {chosen.paper.name()}; color: {chosen.ink.name()}; outline: none; }}"
        )
        self._fill("", current)
        self.filter.textChanged.connect(lambda text: self._fill(text, None))
        self.list.itemClicked.connect(self._clicked)
        self.list.installEventFilter(self)
        self.filter.installEventFilter(self)
        self._dragged = False
        if several:
            self.list.viewport().installEventFilter(self)

    def open_under(self, anchor: QWidget, *, at: QPoint | None = None) -> None:
        """Show the list under a widget, or at a point of it."""
        self._fit()
        place = anchor.mapToGlobal(at if at is not None else QPoint(0, anchor.height() + 2))
        # Inside the window where it fits, so that list and rows are seen together.
        screen = anchor.window().geometry()
        if self.height() > screen.height():
            screen = anchor.screen().availableGeometry()
        place.setX(max(min(place.x(), screen.right() - self.width()), screen.left()))
        if place.y() + self.height() > screen.bottom():
            place.setY(max(screen.bottom() - self.height(), screen.top()))
        self.move(place)
        self.show()
        (self.filter if self.filter.isVisible() else self.list).setFocus()

    def _fit(self) -> None:
        """As wide as the longest line wants, as high as the first lines are."""
        metrics = QFontMetrics(font(12))
        widest = max(
            (metrics.horizontalAdvance(c.text) + metrics.horizontalAdvance(c.detail) for c in self._choices),
            default=100,
        )
        height = sum(_SIGN_LINE if choice.sign else _LINE for choice in self._choices[:14])
        self.list.setFixedHeight(max(height, _LINE) + 4)
        hint = QFontMetrics(self.hint.font()).horizontalAdvance(self.hint.text()) + 24
        self.setFixedWidth(min(max(widest + 110, hint, 260), 640))
        self.adjustSize()

    @property
    def choices(self) -> list[Choice]:
        """The lines that can be chosen."""
        return list(self._choices)

    def follow(self, choices: Callable[[], Sequence[Choice]]) -> None:
        """Say where newer texts and details of the same choices come from; `reload` asks for them."""
        self._newer = choices

    def reload(self) -> None:
        """Show the newest texts and details."""
        if self._newer is not None and not self._decided:
            self.update_choices(self._newer())
            self._fit()

    def update_choices(self, choices: Sequence[Choice]) -> None:
        """Show other texts and details for the same choices, the selection staying where it is."""
        row = self.list.currentRow()
        self._choices = list(choices)
        self._fill(self.filter.text(), None)
        self.list.setCurrentRow(row)

    def _fill(self, text: str, current: Any) -> None:
        self.list.clear()
        if self._search is not None:
            self._choices, text = list(self._search(text)), ""
        words = text.casefold().split()
        for choice in self._choices:
            found_by = f"{choice.text} {choice.also}".casefold()
            if all(word in found_by for word in words):
                item = QListWidgetItem(choice.text)
                item.setData(_CHOICE, choice)
                item.setData(Qt.ItemDataRole.AccessibleTextRole, f"{choice.text} {choice.detail}".strip())
                self.list.addItem(item)
                if choice.key == current and current is not None:
                    self.list.setCurrentItem(item)
        if self.list.currentRow() < 0:
            self.list.setCurrentRow(0)

    def _clicked(self, item: QListWidgetItem) -> None:
        choice: Choice = item.data(_CHOICE)
        if self._several and choice.ticked is not None:
            self._toggle(choice)
        else:
            self._choose(choice)

    def _choose(self, choice: Choice) -> None:
        self._decided = True
        self.close()
        self.chosen.emit(choice.key)

    def _toggle(self, choice: Choice) -> None:
        place = self._choices.index(choice)
        self._choices[place] = msgspec.structs.replace(choice, ticked=not choice.ticked)
        self.update_choices(self._choices)

    def _apply(self) -> None:
        self._decided = True
        self.close()
        self.applied.emit([choice.key for choice in self._choices if choice.ticked])

    def _move(self, step: int) -> None:
        """Move the current line up or down among all lines."""
        item = self.list.currentItem()
        if item is None or self.filter.text():
            return
        row = self.list.currentRow()
        other = row + step
        if 0 <= other < len(self._choices) and self._choices[other].ticked is not None:
            self._choices[row], self._choices[other] = self._choices[other], self._choices[row]
            self.update_choices(self._choices)
            self.list.setCurrentRow(other)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and self._key(watched, event)
        ):
            return True
        if watched is self.list.viewport() and self._drag(event):
            return True
        return super().eventFilter(watched, event)

    def _drag(self, event: QEvent) -> bool:
        """Let the pressed line follow the mouse among the others that can be ticked; whether it did."""
        if not isinstance(event, QMouseEvent):
            return False
        if event.type() == QEvent.Type.MouseButtonPress:
            self._dragged = False
        if event.type() == QEvent.Type.MouseMove and event.buttons() & Qt.MouseButton.LeftButton:
            row = self.list.indexAt(event.position().toPoint()).row()
            while row >= 0 and row != self.list.currentRow():
                before = self.list.currentRow()
                self._move(1 if row > before else -1)
                if self.list.currentRow() == before:
                    break
                self._dragged = True
            return True
        # A line that was dragged is not ticked by letting it go.
        return event.type() == QEvent.Type.MouseButtonRelease and self._dragged

    def _key(self, watched: QObject, event: QKeyEvent) -> bool:
        key = event.key()
        item = self.list.currentItem()
        choice: Choice | None = item.data(_CHOICE) if item is not None else None
        alternate = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if self._several and (choice is None or choice.ticked is not None):
                self._apply()
            elif choice is not None:
                self._choose(choice)
            return True
        if key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            step = -1 if key == Qt.Key.Key_Up else 1
            if alternate and self._several:
                self._move(step)
            else:
                self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
            return True
        if key == Qt.Key.Key_Space and self._several and choice is not None and choice.ticked is not None:
            self._toggle(choice)
            return True
        if self._numbered and Qt.Key.Key_0 <= key <= Qt.Key.Key_9:
            place = (key - Qt.Key.Key_1) % 10  # 0 stands for the tenth
            if place < len(self._choices) and not self._choices[place].letter:
                self._choose(self._choices[place])
            return True
        if self._numbered and event.text():
            lettered = [entry for entry in self._choices if entry.letter == event.text().upper()]
            if lettered:
                self._choose(lettered[0])
                return True
        if watched is self.list and event.text().isprintable() and event.text() and self.filter.isVisible():
            self.filter.setFocus()
            self.filter.setText(event.text())
            return True
        return False

    def closeEvent(self, event: Any) -> None:
        super().closeEvent(event)
        if not self._decided:
            self._decided = True
            # A list of ticks is left as a dialog with one button is: what was ticked counts.
            self.dismissed.emit()


def _hint(*, several: bool, numbered: bool) -> str:
    if several:
        return "Space to tick, drag or Alt+↑ ↓ to move, Enter to apply, Esc to cancel"
    if numbered:
        return "1 to 9 or Enter to choose, Esc to cancel"
    return "Enter to choose, Esc to cancel"


class _Lines(QStyledItemDelegate):
    """Paints a line of the list: number, sign or tick, text, detail."""

    def __init__(self, parent: QObject, *, numbered: bool) -> None:
        super().__init__(parent)
        self._numbered = numbered

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        choice: Choice = index.data(_CHOICE)
        return QSize(100, _SIGN_LINE if choice.sign else _LINE)

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        choice: Choice = index.data(_CHOICE)
        chosen, rect = theme(), QRectF(option.rect)
        painter.save()
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(rect, chosen.selected)
            painter.fillRect(QRectF(rect.left(), rect.top(), 3, rect.height()), chosen.accent)
        x = rect.left() + 10
        painter.setFont(font(12))
        middle = rect.center().y()
        if self._numbered:
            painter.setPen(chosen.soft)
            painter.drawText(
                QRectF(x, rect.top(), 14, rect.height()),
                Qt.AlignmentFlag.AlignVCenter,
                choice.letter or str(index.row() + 1),
            )
            x += 22
        if choice.sign is not None and choice.hues is not None:
            sign = QRectF(x, middle - SIGN_HEIGHT / 2, SIGN_WIDTH, SIGN_HEIGHT)
            draw_sign(painter, sign, choice.sign, *choice.hues)
            x += SIGN_WIDTH + 14
        if choice.ticked is not None:
            box = QRectF(x, middle - 6.5, 13, 13)
            painter.setPen(QPen(chosen.soft, 1))
            painter.setBrush(chosen.paper)
            painter.drawRect(box)
            if choice.ticked:
                painter.setRenderHint(QPainter.RenderHint.Antialiasing)
                painter.setPen(QPen(chosen.accent, 2))
                painter.drawLine(QPointF(box.left() + 3, middle), QPointF(box.left() + 5.5, middle + 3.5))
                painter.drawLine(
                    QPointF(box.left() + 5.5, middle + 3.5), QPointF(box.right() - 2, middle - 4)
                )
            x += 24
        metrics = QFontMetrics(painter.font())
        detail = metrics.horizontalAdvance(choice.detail)
        room = rect.right() - x - detail - 22
        painter.setPen(chosen.ink)
        text = elided(metrics, choice.text, Qt.TextElideMode.ElideMiddle, int(room))
        painter.drawText(QRectF(x, rect.top(), room, rect.height()), Qt.AlignmentFlag.AlignVCenter, text)
        painter.setPen(chosen.soft)
        painter.drawText(
            rect.adjusted(0, 0, -10, 0),
            Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
            choice.detail,
        )
        painter.restore()
