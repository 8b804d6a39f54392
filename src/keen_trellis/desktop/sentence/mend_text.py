"""The sentences of steps that mend text: what is done to which fields, corrections, splitting, combining."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

from PySide6.QtWidgets import QWidget

from keen_trellis.core.table import Table
from keen_trellis.core.text_mending import WORDS, Action, How, combined_fields, split_fields
from keen_trellis.core.values import FieldType, as_text
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.on_rail import RailSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.link_text import read_corrections
from keen_trellis.flow.steps.combine import CombineSettings
from keen_trellis.flow.steps.correct import CorrectSettings
from keen_trellis.flow.steps.mend_text import ActionSettings, MendTextSettings
from keen_trellis.flow.steps.split import SplitSettings
from keen_trellis.flow.wording import listed
from keen_trellis.session.outcome import Outcome

_REMOVE = object()
_DIVIDERS = (" - ", " / ", ", ", "; ", "-", "/", ".", ",", ";", "_", " ", ":")
_LOOKED_AT = 500
# What has to be asked for each way: a title for a text and one for what it becomes, or for a number.
_ASKED = {
    How.REPLACE: "What is replaced, a tab or →, by what; nothing behind it takes it out",
    How.PAD: "Fill up with which character, a tab or →, to how many characters",
    How.PART: "What divides the parts, a tab or →, which part (from 1; -1 is the last)",
}


class _OfTexts(RailSentence):
    """What sentences over some texts share: which fields."""

    def fields_chip(self, step: Step, names: Sequence[str], shape: InputShape) -> Chip:
        return Chip(
            listed(list(names)) or "choose the fields",
            lambda anchor: self.choose_fields(step, shape, anchor),
            "Fields",
            doing=not names,
        )

    def choose_fields(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        """Let texts be ticked."""
        now = self.settings(step).fields
        texts = [field.name for field in shape.fields if field.type is FieldType.TEXT]
        choices = [
            Choice(name, name, ticked=name in now) for name in sorted(texts, key=lambda name: name not in now)
        ]
        if not choices:
            self.session.said.emit(f"{shape.name} has no text that could be mended.")
            return
        chooser = Chooser(choices, self.pane, several=True, title=f"Which texts of {shape.name}?")
        self.pane.open_list(chooser, anchor, applied=lambda names: self._chosen(step, shape, names))

    def _chosen(self, step: Step, shape: InputShape, names: Sequence[str]) -> None:
        self.change(step, f"Mend {listed(list(names))}", fields=tuple(names))

    def begin(self, step: Step, shape: InputShape) -> None:
        self.choose_fields(step, shape, self.pane.view)

    def came_out(self, outcome: Outcome) -> str:
        assert outcome.result is not None
        changed = sum(getattr(outcome.result.rows, "counts", {}).values())
        return (
            "No cell is changed."
            if not changed
            else f"{changed:,} {'cell is' if changed == 1 else 'cells are'} changed."
        )


class MendTextSentence(_OfTexts):
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


class CorrectSentence(_OfTexts):
    """In [Venue] of Loans, read [3 values] otherwise."""

    def clauses(self, step: Step, settings: CorrectSettings, shape: InputShape) -> Sequence[Item]:
        count = len(settings.pairs)
        text = "1 value" if count == 1 else f"{count:,} values" if count else "which values?"
        return [
            Word("In"),
            self.fields_chip(step, settings.fields, shape),
            Word(f"of {shape.name}, read"),
            Chip(text, lambda _: self._ask(step), "Corrections", doing=bool(settings.fields) and not count),
            Word("otherwise."),
        ]

    def _chosen(self, step: Step, shape: InputShape, names: Sequence[str]) -> None:
        super()._chosen(step, shape, names)
        if names and not self.settings(step).pairs:
            self._ask(step)

    def _ask(self, step: Step) -> None:
        pairs = self.settings(step).pairs
        entry = Entry(
            "What is written, a tab or →, what it should be; a pair a line",
            "\n".join(f"{wrong}\t{right}" for wrong, right in pairs),
            self.pane,
            check=read_corrections,
            several_lines=True,
        )
        entry.entered.connect(
            lambda text: self.change(step, "Read values otherwise", pairs=read_corrections(text))
        )
        entry.open_under(self.pane.view)


class SplitSentence(RailSentence):
    """Split [Object no] of Loans at [.] into [collection, number]."""

    def clauses(self, step: Step, settings: SplitSettings, shape: InputShape) -> Sequence[Item]:
        return [
            Word("Split"),
            Chip(settings.of or "which text?", lambda anchor: self._choose(step, shape, anchor), "Field"),
            Word(f"of {shape.name} at"),
            Chip(f"“{settings.between}”", lambda anchor: self._ask_between(step, anchor), "Divider"),
            Word("into"),
            Chip(listed(list(settings.into)), lambda anchor: self._ask_names(step, shape, anchor), "Parts"),
            Word("."),
        ]

    def begin(self, step: Step, shape: InputShape) -> None:
        self._choose(
            step, shape, self.pane.view, dismissed=partial(self.session.drop_edit, self.session.flow)
        )

    def _choose(
        self, step: Step, shape: InputShape, anchor: QWidget, *, dismissed: Callable[[], None] | None = None
    ) -> None:
        texts = [Choice(f.name, f.name) for f in shape.fields if f.type is FieldType.TEXT]
        outcome = self.session.outcome(step.id)

        def chosen(name: str) -> None:
            between, count = " ", 2
            if outcome is not None and outcome.tables:
                between, count = likely_divider(outcome.tables[0], name)
            into = tuple(f"{name} {number}" for number in range(1, count + 1))
            self.change(step, f"Split {name}", of=name, between=between, into=into)

        chooser = Chooser(texts, self.pane, title="Split which text?")
        self.pane.open_list(chooser, anchor, chosen=chosen, dismissed=dismissed)

    def _ask_between(self, step: Step, anchor: QWidget) -> None:
        entry = Entry("What divides the parts?", self.settings(step).between, self.pane)
        entry.entered.connect(lambda text: self.change(step, f"Split at “{text}”", between=text))
        entry.open_under(anchor)

    def _ask_names(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        settings: SplitSettings = self.settings(step)

        def read(text: str) -> tuple[str, ...]:
            return tuple(name.strip() for name in text.split(",") if name.strip())

        def check(text: str) -> None:
            split_fields(shape.fields, settings.of, settings.between, read(text))

        entry = Entry(
            "The parts' names, with commas; the last one has the rest",
            ", ".join(settings.into),
            self.pane,
            check=check,
        )
        entry.entered.connect(lambda text: self.change(step, "Name the parts", into=read(text)))
        entry.open_under(anchor)


def likely_divider(table: Table, name: str) -> tuple[str, int]:
    """What most likely divides a text, and into how many parts, as seen in its first rows."""
    cells = table.take(range(min(table.rows, _LOOKED_AT)), [name])[0]
    texts = [text for text in as_text(cells.values).to_pylist() if text]
    for divider in _DIVIDERS:
        counts = [text.count(divider) for text in texts]
        if counts and sum(count > 0 for count in counts) * 2 > len(counts):
            return divider, max(counts) + 1 if max(counts) < 5 else 2
    return " ", 2


class CombineSentence(RailSentence):
    """Combine [Venue, Object no] of Loans into [both], with [ / ] between them."""

    def clauses(self, step: Step, settings: CombineSettings, shape: InputShape) -> Sequence[Item]:
        return [
            Word("Combine"),
            Chip(
                listed(list(settings.of)) or "choose the fields",
                lambda anchor: self._choose(step, shape, anchor),
                "Fields",
                doing=not settings.of,
            ),
            Word(f"of {shape.name} into"),
            Chip(settings.into, lambda anchor: self._ask_name(step, shape, anchor), "Name"),
            Word(", with"),
            Chip(f"“{settings.between}”", lambda anchor: self._ask_between(step, anchor), "Between"),
            Word("between them."),
        ]

    def begin(self, step: Step, shape: InputShape) -> None:
        self._choose(
            step, shape, self.pane.view, dismissed=partial(self.session.drop_edit, self.session.flow)
        )

    def _choose(
        self, step: Step, shape: InputShape, anchor: QWidget, *, dismissed: Callable[[], None] | None = None
    ) -> None:
        now = self.settings(step).of
        types = {field.name: field.type.value for field in shape.fields}
        ordered = [*(name for name in now if name in types), *(name for name in types if name not in now)]
        choices = [Choice(name, name, types[name], ticked=name in now) for name in ordered]

        def apply(names: list[str]) -> None:
            self.change(step, f"Combine {listed(names)}", of=tuple(names))

        chooser = Chooser(choices, self.pane, several=True, title="Combine which fields, in this order?")
        self.pane.open_list(chooser, anchor, applied=apply, dismissed=dismissed)

    def _ask_name(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        settings: CombineSettings = self.settings(step)

        def check(text: str) -> None:
            combined_fields(shape.fields, settings.of, text.strip())

        entry = Entry("What is the new field called?", settings.into, self.pane, check=check)
        entry.entered.connect(lambda text: self.change(step, f"Call it {text.strip()}", into=text.strip()))
        entry.open_under(anchor)

    def _ask_between(self, step: Step, anchor: QWidget) -> None:
        entry = Entry("What is written between them?", self.settings(step).between, self.pane)
        entry.entered.connect(lambda text: self.change(step, f"Write “{text}” between them", between=text))
        entry.open_under(anchor)
