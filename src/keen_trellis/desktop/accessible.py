"""What painted widgets tell assistive tools: each thing in them by itself, with its words and its place.

Qt for Python lets an interface be made for a widget, and children of it that are no widgets. Such children
have no keyboard of their own: which one is stood on is told as the focus of the widget.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol, runtime_checkable

import msgspec
from PySide6.QtCore import QObject, QRect
from PySide6.QtGui import QAccessible, QAccessibleEvent, QAccessibleInterface
from PySide6.QtWidgets import QWidget
from shiboken6 import isValid


class Part(msgspec.Struct, frozen=True):
    """One thing in a painted widget. text: what it is.  rect: where, in it.  current: it is stood on."""

    text: str
    rect: QRect
    current: bool = False


@runtime_checkable
class Painted(Protocol):
    """A widget that paints what others have widgets for."""

    def accessible_parts(self) -> Sequence[Part]:
        """What can be seen in it now."""


class _Child(QAccessibleInterface):
    """The nth part of a painted widget, whatever that is by now."""

    def __init__(self, whole: _Whole, number: int) -> None:
        super().__init__()
        self._whole, self._number = whole, number

    def _part(self) -> Part | None:
        parts = self._whole.parts()
        return parts[self._number] if self._number < len(parts) else None

    def isValid(self) -> bool:
        return self._whole.isValid() and self._part() is not None

    def object(self) -> QObject | None:  # type: ignore[override]
        return None

    def parent(self) -> QAccessibleInterface:
        return self._whole

    def child(self, index: int) -> QAccessibleInterface | None:  # type: ignore[override]
        return None

    def childAt(self, x: int, y: int) -> QAccessibleInterface | None:  # type: ignore[override]
        return None

    def childCount(self) -> int:
        return 0

    def indexOfChild(self, child: QAccessibleInterface) -> int:
        return -1

    def rect(self) -> QRect:
        part = self._part()
        return self._whole.on_screen(part.rect) if part is not None else QRect()

    def role(self) -> QAccessible.Role:
        return QAccessible.Role.ListItem

    def state(self) -> QAccessible.State:
        part, state = self._part(), QAccessible.State()
        if part is None:
            state.invalid = 1
            return state
        state.focusable = state.selectable = 1
        state.selected = state.focused = int(part.current)
        return state

    def text(self, kind: QAccessible.Text) -> str:
        part = self._part()
        return part.text if part is not None and kind == QAccessible.Text.Name else ""

    def setText(self, kind: QAccessible.Text, text: str) -> None:
        """Nothing in it can be written to."""


class _Whole(QAccessibleInterface):
    """A painted widget, as a list of what is in it. Its children are kept: tools may hold on to them."""

    def __init__(self, widget: QWidget) -> None:
        super().__init__()
        self._widget = widget
        self._children: list[_Child] = []

    def parts(self) -> Sequence[Part]:
        return self._widget.accessible_parts() if isValid(self._widget) else ()  # type: ignore[attr-defined]

    def on_screen(self, rect: QRect) -> QRect:
        return QRect(self._widget.mapToGlobal(rect.topLeft()), rect.size())

    def isValid(self) -> bool:
        return isValid(self._widget)

    def object(self) -> QObject:
        return self._widget

    def parent(self) -> QAccessibleInterface | None:  # type: ignore[override]
        above = self._widget.parentWidget()
        return QAccessible.queryAccessibleInterface(above) if above is not None else None

    def child(self, index: int) -> QAccessibleInterface | None:  # type: ignore[override]
        if not 0 <= index < self.childCount():
            return None
        while len(self._children) <= index:
            self._children.append(_Child(self, len(self._children)))
        return self._children[index]

    def childAt(self, x: int, y: int) -> QAccessibleInterface | None:  # type: ignore[override]
        for number, part in enumerate(self.parts()):
            if self.on_screen(part.rect).contains(x, y):
                return self.child(number)
        return None

    def childCount(self) -> int:
        return len(self.parts())

    def indexOfChild(self, child: QAccessibleInterface) -> int:
        return self._children.index(child) if child in self._children else -1

    def focusChild(self) -> QAccessibleInterface | None:  # type: ignore[override]
        return next((self.child(n) for n, part in enumerate(self.parts()) if part.current), None)

    def rect(self) -> QRect:
        return self.on_screen(self._widget.rect())

    def role(self) -> QAccessible.Role:
        return QAccessible.Role.List

    def state(self) -> QAccessible.State:
        state = QAccessible.State()
        state.focusable = 1
        state.focused = int(self._widget.hasFocus())
        state.invisible = int(not self._widget.isVisible())
        return state

    def text(self, kind: QAccessible.Text) -> str:
        if kind == QAccessible.Text.Name:
            return self._widget.accessibleName()
        return self._widget.accessibleDescription() if kind == QAccessible.Text.Description else ""

    def setText(self, kind: QAccessible.Text, text: str) -> None:
        """Nothing in it can be written to."""


_told: dict[int, _Whole] = {}  # by the widget's id; kept for as long as the widget is


def _made(key: str, watched: QObject) -> QAccessibleInterface | None:
    """An interface for a painted widget; Qt makes all others."""
    del key
    if not isinstance(watched, QWidget) or not isinstance(watched, Painted):
        return None
    found = _told.get(id(watched))
    if found is None:
        found = _told[id(watched)] = _Whole(watched)
        place = id(watched)
        watched.destroyed.connect(lambda: _told.pop(place, None))
    return found


def install() -> None:
    """Tell assistive tools of painted widgets from now on."""
    QAccessible.installFactory(_made)


def tell_current(widget: QWidget) -> None:
    """Say that another part of a painted widget is stood on now."""
    if not QAccessible.isActive() or not isinstance(widget, Painted):
        return
    number = next((n for n, part in enumerate(widget.accessible_parts()) if part.current), -1)
    event = QAccessibleEvent(widget, QAccessible.Event.Focus)
    event.setChild(number)
    QAccessible.updateAccessibility(event)
