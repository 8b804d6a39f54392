"""The sentence of a run value: what it is now, what it can be, what it means, and what uses it."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtWidgets import QWidget

from keen_trellis.core.insight.summary import Share, values_in_order
from keen_trellis.core.table import Field
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Input, RunValue
from keen_trellis.flow.run_values import DATE, FILE, NUMBER, TEXT, check_text, fits
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.wording import listed, with_article
from keen_trellis.session import run_values

_TYPES = {
    TEXT: "as it is written",
    NUMBER: "to calculate with",
    DATE: "as 2026-05-01",
    FILE: "its name, from the flow's folder or from the root",
}
_MOST_VALUES = 1_000
_OTHER, _ANYTHING, _LIST, _FIELD = object(), object(), object(), object()


class RunValueSentence(SentencePart):
    """[:month] is [2026-05], [a text], which can be [anything]. [What does it mean?] Filter 1 uses it."""

    def shown(self, value: RunValue) -> list[Item]:
        """The whole sentence of a run value."""
        name = value.name
        used = run_values.users(self.session.flow, name)
        if used:
            uses = f"{listed(used, 3)} {'uses' if len(used) == 1 else 'use'} it."
        else:
            uses = f"Nothing uses it yet: write :{name} in an expression, a filter, a file's name or a query."
        return [
            Chip(f":{name}", partial(self.ask_name, name), "Name", strong=True),
            Word("is"),
            Chip(
                value.value or "not set: choose a value",
                partial(self.choose_value, name),
                "Value",
                doing=not value.value,
            ),
            Word(","),
            Chip(with_article(value.type), partial(self._choose_type, name), "Type"),
            Word(", which can be"),
            Chip(self._can_be(value), partial(self._choose_choices, name), "Choices"),
            Word("."),
            Chip(value.said or "say what it means", partial(self._ask_meaning, name), "Meaning"),
            Word(uses),
            Chip("remove it", lambda _: run_values.remove(self.session, name), "Remove"),
        ]

    def _can_be(self, value: RunValue) -> str:
        if value.choices:
            return listed(list(value.choices), 3)
        step = self.session.flow.find(value.source)
        return f"a {value.field} of {step.name}" if step is not None and value.field else "anything"

    def _now(self, name: str) -> RunValue:
        found = run_values.value_named(self.session.flow, name)
        assert found is not None  # its sentence is shown
        return found

    def choose_value(self, name: str, anchor: QWidget) -> None:
        """Let another value be chosen or typed."""
        value = self._now(name)
        if value.choices:
            choices = [Choice(text, text) for text in value.choices]
            title, chosen = self._asked(value), partial(self._set, name)
            self.choose(anchor, choices, chosen, current=value.value, title=title)
        elif value.field and self.session.flow.find(value.source) is not None:
            self._offer_values_of_field(value, anchor)
        else:
            self._type_value(name, anchor)

    def _asked(self, value: RunValue) -> str:
        return value.said or f"What is :{value.name}?"

    def _type_value(self, name: str, anchor: QWidget) -> None:
        value = self._now(name)
        self.ask(
            anchor,
            f"{self._asked(value)} ({with_article(value.type)})",
            value.value,
            lambda text: self._set(name, text.strip()),
            check=lambda text: check_text(value, text.strip()),
        )

    def _set(self, name: str, text: str) -> None:
        run_values.change(self.session, name, f":{name} is {text}", value=text)

    def _offer_values_of_field(self, value: RunValue, anchor: QWidget) -> None:
        """Let one of the values that a field has be chosen, or another one be typed."""
        session, flow = self.session, self.session.flow

        def counted(task: Task) -> Sequence[Share]:
            table = session.runner.table(flow, Input(value.source), task)
            return values_in_order(table, value.field, _MOST_VALUES)

        def show(found: Sequence[Share]) -> None:
            choices = [Choice(share.text, share.text, f"{share.rows:,} rows") for share in found]
            choices.append(Choice(_OTHER, "another …"))
            self.choose(self.pane.view, choices, chosen, current=value.value, title=self._asked(value))

        def chosen(text: object) -> None:
            if text is _OTHER:
                self._type_value(value.name, anchor)
            else:
                self._set(value.name, str(text))

        session.jobs.start(f"counting the values of {value.field}", counted, show, session.failed.emit)

    def ask_name(self, name: str, anchor: QWidget) -> None:
        """Ask what a run value is called."""
        self.ask(
            anchor,
            "What is it called? Letters, digits and underscores",
            name,
            lambda text: run_values.rename(self.session, name, text.strip()),
            check=lambda text: run_values.check_name(self.session, text.strip(), name),
        )

    def _choose_type(self, name: str, anchor: QWidget) -> None:
        choices = [Choice(kind, kind, said) for kind, said in _TYPES.items()]

        def chosen(kind: str) -> None:
            run_values.change(self.session, name, f":{name} is {with_article(kind)}", type=kind)

        self.choose(anchor, choices, chosen, current=self._now(name).type)

    def _ask_meaning(self, name: str, anchor: QWidget) -> None:
        self.ask(
            anchor,
            "What does it mean? Whoever runs the flow is asked so",
            self._now(name).said,
            lambda text: run_values.change(self.session, name, f"Say what :{name} means", said=text.strip()),
        )

    def _choose_choices(self, name: str, anchor: QWidget) -> None:
        choices = [
            Choice(_ANYTHING, "anything", "of its type"),
            Choice(_LIST, "one of a list …", "typed, a value a line"),
            Choice(_FIELD, "a value of a field …", "of a source, as it is then"),
        ]

        def chosen(what: object) -> None:
            if what is _LIST:
                self._ask_list(name, anchor)
            elif what is _FIELD:
                self._choose_field(name, anchor)
            else:
                said = f":{name} can be anything"
                run_values.change(self.session, name, said, choices=(), source="", field="")

        self.choose(anchor, choices, chosen)

    def _ask_list(self, name: str, anchor: QWidget) -> None:
        def entered(text: str) -> None:
            lines = tuple(dict.fromkeys(line.strip() for line in text.splitlines() if line.strip()))
            now = self._now(name).value
            kept = now if now in lines else lines[0] if lines else ""
            said = f":{name} can be {listed(list(lines), 3)}"
            run_values.change(self.session, name, said, choices=lines, source="", field="", value=kept)

        self.ask(
            anchor,
            "What can it be? A value a line",
            "\n".join(self._now(name).choices),
            entered,
            several_lines=True,
        )

    def _choose_field(self, name: str, anchor: QWidget) -> None:
        choices = []
        for step in self.session.flow.steps:
            outcome = self.session.outcome(step.id)
            if KINDS.begins_rail(step) and outcome is not None and outcome.figures is not None:
                choices += [
                    Choice((step.id, field), f"{field.name} of {step.name}", field.type.value)
                    for field in outcome.figures.fields
                ]
        if not choices:
            self.session.said.emit("There is no source yet: start a rail first.")
            return

        def chosen(key: tuple[str, Field]) -> None:
            step, field = key
            kind = NUMBER if field.type.is_number else DATE if field.type is FieldType.DATE else TEXT
            now = self._now(name).value
            run_values.change(
                self.session,
                name,
                f":{name} is a {field.name}",
                choices=(),
                source=step,
                field=field.name,
                type=kind,
                value=now if fits(kind, now) else "",
            )

        chooser = Chooser(choices, self.pane, title="The values of which field can it have?")
        self.pane.open_list(chooser, anchor, chosen=chosen)
