"""The command finder: every command, step, table and field, found by typing."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QPoint
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.plain import without_keys
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session


def open_finder(
    parent: QWidget,
    actions: Sequence[tuple[QAction, str]],
    session: Session,
    go: Callable[[Selection], None],
    title: str = "Find a command, a step, a table or a field",
) -> Chooser:
    """Open the finder in the middle of `parent`; a command is run, a step or table is gone to.

    actions: each command with further words that people know it by.
    """
    choices: list[Choice] = []
    for action, also in actions:
        if action.isEnabled() and action.text():
            keys = action.shortcut().toString(action.shortcut().SequenceFormat.NativeText)
            choices.append(Choice(action, without_keys(action.text()).rstrip("…"), keys, also=also))
    for step in session.flow.steps:
        choices.append(Choice(Selection(step.id), step.name, step.kind))
        outcome = session.outcome(step.id)
        if outcome is not None and outcome.figures is not None:
            choices += [
                Choice(Selection(step.id), f"{field.name} in {step.name}", f"field, {field.type.value}")
                for field in outcome.figures.fields
            ]
    for shared in session.flow.filters:
        choices.append(Choice(Selection(slat=shared.id), shared.name, "shared filter"))
    for value in session.flow.values:
        choices.append(Choice(Selection(value=value.name), f":{value.name}", "run value", also=value.said))
    for path, state in session.margin.files.items():
        if state.content is not None:
            file = path.rsplit("/", 1)[-1]
            choices += [
                Choice(
                    Selection(path=path, table=entry.name),
                    f"{entry.called} of {file}",
                    entry.sort,
                    also=entry.name,
                )
                for entry in state.content.tables
            ]

    def chosen(key: object) -> None:
        if isinstance(key, QAction):
            key.trigger()
        elif isinstance(key, Selection):
            go(key)

    finder = Chooser(choices, parent, title=title)
    finder.chosen.connect(chosen)
    finder.open_under(parent, at=QPoint(max(parent.width() // 2 - 300, 0), 60))
    return finder
