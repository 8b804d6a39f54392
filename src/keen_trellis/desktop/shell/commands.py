"""The window's commands: each is in a menu, in the command finder, in context menus, and on its key."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec
from PySide6.QtGui import QAction, QKeySequence, QShortcut
from PySide6.QtWidgets import QMenu, QWidget

from keen_trellis.desktop.plain import menu_text, tip, without_keys

# What people call things that are called otherwise here.
OTHER_WORDS = {
    "join": "merge lookup match combine",
    "union": "append stack concatenate",
    "blend": "merge aggregate",
    "question": "all combinations cartesian cross outer inner anti",
    "types": "all combinations cartesian cross compare",
    "next_band": "unmatched rejects orphans",
    "output": "export save rejects csv workbook parquet json",
    "output_table": "export load database insert upsert",
    "write": "export run save",
    "open_together": "append union combine merge files wildcard",
    "elsewhere": "replace file swap repoint path connection",
    "beside": "zip paste columns position side",
    "whole": "sample part large table database read everything",
    "hand_off": "database server postgresql spark cluster remote large run there prove proof",
    "from_sql": "query select import paste database",
    "lists": "mapping dictionary synonyms aliases lookup corrections shared",
    "values": "parameters variables prompt period settings",
    "calendar": "dates date table days weeks months",
    "reconcile": "compare difference diff",
    "changes": "difference diff compare",
    "guards": "tests checks expectations assert validate",
    "mend": "clean fix repair",
    "review": "fuzzy similar approximate",
    "pair": "match by hand manual partner link",
    "read_as": "correct replace map",
    "spread": "histogram distribution chart frequency picture",
    "trace": "lineage provenance origin",
    "fields": "profile columns schema statistics",
    "step_distinct": "dedupe duplicates unique",
    "step_summarise": "pivot group aggregate total",
    "step_split-rows": "explode unnest list rows",
    "step_columns-to-rows": "unpivot melt stack wide long",
    "step_rows-to-columns": "pivot crosstab wide spread transpose",
    "step_compute": "formula calculate column",
    "step_choose": "select rename drop columns types",
    "step_mend-text": "clean trim replace",
    "step_fill": "blanks nulls missing",
    "step_correct": "replace map translate",
    "step_combine": "concatenate",
    "step_walk": "hierarchy tree parent recursive bill of materials",
    "step_number-rows": "window rank cumulative running lag lead percent index",
    "step_first": "top sample limit",
    "step_filter": "where keep",
}


def always() -> str:
    """For commands that can be given whatever is selected."""
    return ""


class Command(msgspec.Struct, frozen=True):
    """name: for the program.  menu: where it is.  text: what it says.  keys: its shortcut, or "".

    why_not: why it does not apply to what is selected now, "" if it does.  text_now: its text, where that
    depends on something.
    """

    name: str
    menu: str
    text: str
    keys: str
    run: Callable[[], None]
    why_not: Callable[[], str] = always
    text_now: Callable[[], str] | None = None

    @property
    def enabled(self) -> bool:
        """Whether it applies to what is selected now."""
        return not self.why_not()


# What a context menu has: the name of a command, a text with what it does or with the commands of a menu of
# its own, or None for a line.
Entry = str | tuple[str, Callable[[], None] | Sequence[str]] | None


class Commands:
    """All commands as actions of a window.

    say: tells the user why the keys of a command do nothing now.
    """

    def __init__(
        self, window: QWidget, commands: list[Command], menus: dict[str, QMenu], say: Callable[[str], None]
    ) -> None:
        self._actions: dict[str, QAction] = {}
        self._commands: dict[str, Command] = {}
        self._excuses: dict[str, QShortcut] = {}
        self._shown: dict[str, tuple[str, str]] = {}  # what each says, and why it does not apply
        for command in commands:
            if command.text == "-":
                menus[command.menu].addSeparator()
                continue
            action = QAction(command.text, window)
            if command.keys:
                action.setShortcut(QKeySequence(command.keys))
                # The action's own keys do nothing while it is greyed.
                excuse = self._excuses[command.name] = QShortcut(QKeySequence(command.keys), window)
                excuse.activated.connect(lambda asked=command: say(asked.why_not()))
            action.triggered.connect(lambda _=False, run=command.run: run())
            menus[command.menu].addAction(action)
            window.addAction(action)
            self._actions[command.name] = action
            self._commands[command.name] = command
        for menu in menus.values():
            menu.setToolTipsVisible(True)
            menu.aboutToShow.connect(self.update)
        self.update()

    def __getitem__(self, name: str) -> QAction:
        return self._actions[name]

    @property
    def all(self) -> list[QAction]:
        """Every command, in the order of the menus."""
        return list(self._actions.values())

    @property
    def to_find(self) -> list[tuple[QAction, str]]:
        """Every command with other words for it."""
        self.update()
        return [(action, OTHER_WORDS.get(name, "")) for name, action in self._actions.items()]

    @property
    def described(self) -> list[Command]:
        """Every command as it was described, in the order of the menus."""
        return list(self._commands.values())

    def why_not(self, name: str) -> str:
        """Why a command does not apply now, "" if it does."""
        return self._commands[name].why_not()

    def update(self) -> None:
        """Grey what does not apply to what is selected now, and let it say why."""
        for name, command in self._commands.items():
            action, why_not = self._actions[name], command.why_not()
            text = action.text() if command.text_now is None else command.text_now()
            if self._shown.get(name) == (text, why_not):
                continue
            self._shown[name] = text, why_not
            action.setText(text)
            action.setEnabled(not why_not)
            said = without_keys(action.text()).rstrip("….")
            action.setToolTip(tip(why_not or (f"{said} ({command.keys})" if command.keys else said)))
            if name in self._excuses:
                self._excuses[name].setEnabled(bool(why_not))

    def menu(self, parent: QWidget, entries: Sequence[Entry]) -> QMenu:
        """A context menu, made of these commands and menus."""
        self.update()
        menu = QMenu(parent)
        menu.setToolTipsVisible(True)
        for entry in entries:
            if entry is None:
                menu.addSeparator()
            elif isinstance(entry, str):
                menu.addAction(self._actions[entry])
            elif callable(entry[1]):
                menu.addAction(menu_text(entry[0])).triggered.connect(lambda _=False, run=entry[1]: run())
            else:
                further = menu.addMenu(menu_text(entry[0]))
                further.setToolTipsVisible(True)
                further.addActions([self._actions[name] for name in entry[1]])
        menu.aboutToHide.connect(menu.deleteLater)
        return menu


def separator(menu: str) -> Command:
    """A line between commands."""
    return Command("", menu, "-", "", lambda: None)
