"""The sentence of mending text: what is done to which fields, in which order."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any

from PySide6.QtWidgets import QWidget

from keen_trellis.core.text_actions import WORDS, Action, How
from keen_trellis.desktop.kinds.of_fields import OfTexts
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.mend_text import ActionSettings, MendTextKind, MendTextSettings

_REMOVE = object()
# What has to be asked for each way: a title for a text and one for what it becomes, or for a number.
_ASKED = {
    How.REPLACE: "What is replaced, a tab or →, by what; nothing after it removes it",
    How.PAD: "Fill up with which character, a tab or →, to how many characters",
    How.PART: "What divides the parts, a tab or →, which part (from 1; -1 is the last)",
}


class MendTextSentence(OfTexts):
    """In Loans, write [Venue] [outer spaces off], then …."""

    def clauses(self, step: Step, settings: MendTextSettings, shape: InputShape) -> Sequence[Item]:
        items: list[Item] = [Word(f"In {shape.name}, write"), self.fields_chip(step, settings.fields, shape)]
        for number, action in enumerate(settings.actions):
            items += [Word("then")] if number else []
            items.append(Chip(str(action.action), partial(self._choose_action, step, number), "Action"))
        if settings.fields:
            add = partial(self._choose_action, step, len(settings.actions))
            more = "then …" if settings.actions else "how?"
            items.append(Chip(more, add, "Another action", doing=not settings.actions))
        return [*items, Word(".")]

    def begin_about(self, step: Step, shape: InputShape, name: str) -> None:
        self._chosen(step, shape, (name,))

    def _chosen(self, step: Step, shape: InputShape, names: Sequence[str]) -> None:
        super()._chosen(step, shape, names)
        if names and not self.settings(step).actions:
            self._choose_action(step, 0, self.pane.view)

    def _choose_action(self, step: Step, number: int, anchor: QWidget) -> None:
        actions = list(self.settings(step).actions)
        choices = [Choice(how, words) for how, words in WORDS.items()]
        if number < len(actions):
            choices.append(Choice(_REMOVE, "do not do this"))

        def put(action: ActionSettings | None) -> None:
            now = actions[:number] + ([action] if action else []) + actions[number + 1 :]
            said = f"Write {action.action}" if action else "Do one thing less"
            self.change(step, said, actions=tuple(now))

        def chosen(how: Any) -> None:
            if how is _REMOVE:
                put(None)
            elif how in _ASKED:
                self._ask(how, put)
            else:
                put(ActionSettings(how.value))

        self.pane.open_list(Chooser(choices, self.pane, title="How is it written?"), anchor, chosen=chosen)

    def _ask(self, how: How, put: Any) -> None:
        def read(text: str) -> ActionSettings:
            what, by = _two_parts(text)
            if how is How.REPLACE:
                return ActionSettings(how.value, what, by)
            number = int(by) if by.lstrip("-").isdecimal() else 0
            return ActionSettings(how.value, what, number=number)

        def check(text: str) -> None:
            found = read(text)
            Action(how, found.what, found.by, found.number).check()

        entry = Entry(_ASKED[how], "", self.pane, check=check)
        entry.entered.connect(lambda text: put(read(text)))
        entry.open_under(self.pane.view)


def _two_parts(text: str) -> tuple[str, str]:
    """What stands before and behind a tab or an arrow."""
    for sign in ("\t", " → ", "→", " -> "):
        before, found, after = text.partition(sign)
        if found:
            return before, after
    return text, ""


VIEW = KindView(
    MendTextKind.name,
    MendTextSentence,
    command=RailCommand(MendTextSettings(), "Mend text", "&Mend text", "M", "Mend its text…", of_text=True),
)
