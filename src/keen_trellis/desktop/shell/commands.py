"""The window's commands: each stands in a menu, in the command finder, and on its key."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu, QWidget


@dataclass(frozen=True)
class Command:
    """name: for the program.  menu: where it stands.  text: what it says.  keys: its shortcut, or ""."""

    name: str
    menu: str
    text: str
    keys: str
    run: Callable[[], None]


class Commands:
    """All commands as actions of a window."""

    def __init__(self, window: QWidget, commands: list[Command], menus: dict[str, QMenu]) -> None:
        self._actions: dict[str, QAction] = {}
        for command in commands:
            if command.text == "-":
                menus[command.menu].addSeparator()
                continue
            action = QAction(command.text, window)
            if command.keys:
                action.setShortcut(QKeySequence(command.keys))
            action.triggered.connect(lambda _=False, run=command.run: run())
            menus[command.menu].addAction(action)
            window.addAction(action)
            self._actions[command.name] = action

    def __getitem__(self, name: str) -> QAction:
        return self._actions[name]

    @property
    def all(self) -> list[QAction]:
        """Every command, in the order of the menus."""
        return list(self._actions.values())


def separator(menu: str) -> Command:
    """A line between commands."""
    return Command("", menu, "-", "", lambda: None)
