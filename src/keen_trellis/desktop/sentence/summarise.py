"""The sentence of a summary: by which keys, and what is measured of each group."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.core.measures import Function
from keen_trellis.desktop.document import Outcome
from keen_trellis.desktop.sentence.choices import AS_EXPRESSION, field_choices
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.expression import ExpressionEntry
from keen_trellis.desktop.sentence.on_rail import RailSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.summarise import MeasureSettings, SummariseKind, SummariseSettings

FUNCTIONS = {
    Function.COUNT: ("how many rows", "or how many have a value"),
    Function.SUM: ("the sum", "of numbers"),
    Function.MEAN: ("the mean", "of numbers"),
    Function.LEAST: ("the least", ""),
    Function.GREATEST: ("the greatest", "as the latest date"),
    Function.MEDIAN: ("the median", "of numbers"),
    Function.COUNT_DISTINCT: ("how many different", "values"),
    Function.FIRST: ("the first", "in the order of the rows"),
    Function.LAST: ("the last", "in the order of the rows"),
    Function.LISTING: ("all values, listed", "each once"),
}
# How a function of a field is said, where that is not “… of field”.
_OF = {
    Function.COUNT: "how many {}",
    Function.COUNT_DISTINCT: "how many different {}",
    Function.LISTING: "all {}, listed",
}
_OF_NUMBERS = (Function.SUM, Function.MEAN, Function.MEDIAN)
_REMOVE, _RENAME, _ROWS = object(), object(), object()


def measure_said(measure: MeasureSettings) -> str:
    """A measure in words, with the name of the field that it gives."""
    function = Function(measure.function)
    said = FUNCTIONS[function][0]
    if measure.of:
        said = _OF.get(function, f"{said} of {{}}").format(measure.of)
    return f"{said} as {measure.name}"


class SummariseSentence(RailSentence):
    """Make one row of each [Venue] of Loans: [how many rows as rows], [the sum Agreed value as value], …"""

    def clauses(self, step: Step, settings: SummariseSettings, shape: InputShape) -> Sequence[Item]:
        items: list[Item] = [Word("Make one row of each" if settings.keys else "Make one row of")]
        for number, key in enumerate(settings.keys):
            items += [Word("and")] if number else []
            items.append(Chip(key, partial(self._choose_key, step, number, shape), "Key"))
        more = "and …" if settings.keys else "all rows"
        items.append(Chip(more, partial(self._choose_key, step, len(settings.keys), shape), "Another key"))
        items.append(Word(f"of {shape.name}, with"))
        for number, measure in enumerate(settings.measures):
            items.append(
                Chip(measure_said(measure), partial(self._change_measure, step, number, shape), "Measure")
            )
        items.append(
            Chip(
                "another measure …" if settings.measures else "choose a measure",
                partial(self._choose_function, step, len(settings.measures), shape),
                "Another measure",
            )
        )
        return [*items, Word(".")]

    def begin(self, step: Step, shape: InputShape) -> None:
        self._choose_key(step, 0, shape, self.pane.view)

    def came_out(self, outcome: Outcome) -> str:
        assert outcome.result is not None
        return f"{outcome.tables[0].rows:,} rows become {outcome.result.rows.rows:,}."

    # --- keys ---

    def _choose_key(self, step: Step, number: int, shape: InputShape, anchor: QWidget) -> None:
        keys = list(self.settings(step).keys)
        choices = field_choices([field for field in shape.fields if field.name not in keys], None)
        choices.append(Choice(AS_EXPRESSION, "an expression …", "as EXTRACT(MONTH FROM date)"))
        if number < len(keys):
            choices.append(Choice(_REMOVE, "do not group by this"))

        def put(key: str | None) -> None:
            now = [*keys[:number], *([key] if key else []), *keys[number + 1 :]]
            self.change(step, f"Group by {', '.join(now) or 'nothing'}", keys=tuple(now))

        def chosen(name: Any) -> None:
            if name is AS_EXPRESSION:
                self._ask_expression(step, "Group by which expression?", put)
            else:
                put(None if name is _REMOVE else name)

        chooser = Chooser(choices, self.pane, title=f"One row of each … of {shape.name}")
        self.pane.open_list(chooser, anchor, chosen=chosen)

    def _ask_expression(self, step: Step, title: str, put: Any) -> None:
        outcome = self.document.outcome(step.id)
        if outcome is None or not outcome.tables:
            return
        entry = ExpressionEntry(title, "", self.pane, outcome.tables[0])
        entry.entered.connect(lambda text: put(text.strip()))
        entry.open_under(self.pane.view)

    # --- measures ---

    def _put(self, step: Step, number: int, measure: MeasureSettings | None) -> None:
        measures = list(self.settings(step).measures)
        measures[number : number + 1] = [measure] if measure else []
        said = f"Measure {measure_said(measure)}" if measure else "Measure one thing less"
        self.change(step, said, measures=tuple(measures))

    def _choose_function(self, step: Step, number: int, shape: InputShape, anchor: QWidget) -> None:
        choices = [Choice(function, words, detail) for function, (words, detail) in FUNCTIONS.items()]
        chooser = Chooser(choices, self.pane, title="What is measured?")
        self.pane.open_list(
            chooser, anchor, chosen=lambda function: self._choose_field(step, number, shape, function)
        )

    def _choose_field(self, step: Step, number: int, shape: InputShape, function: Function) -> None:
        fields = [field for field in shape.fields if function not in _OF_NUMBERS or field.type.is_number]
        choices = field_choices(fields, None)
        if function is Function.COUNT:
            choices.insert(0, Choice(_ROWS, "rows", "all of them"))
        choices.append(Choice(AS_EXPRESSION, "an expression …"))

        def put(of: str) -> None:
            words = "rows" if not of else f"{function.value.replace('-', ' ')} of {of}"
            self._put(
                step, number, MeasureSettings(self._free(step, number, shape, words), function.value, of)
            )

        def chosen(name: Any) -> None:
            if name is AS_EXPRESSION:
                self._ask_expression(step, f"{FUNCTIONS[function][0].capitalize()} of what?", put)
            else:
                put("" if name is _ROWS else name)

        chooser = Chooser(choices, self.pane, title=f"{FUNCTIONS[function][0].capitalize()} of which field?")
        self.pane.open_list(chooser, self.pane.view, chosen=chosen)

    def _free(self, step: Step, number: int, shape: InputShape, wanted: str) -> str:
        """A name that no key and no other measure has."""
        settings: SummariseSettings = self.settings(step)
        taken = {*settings.keys, *(m.name for n, m in enumerate(settings.measures) if n != number)}
        name, count = wanted, 2
        while name in taken:
            name, count = f"{wanted} {count}", count + 1
        return name

    def _change_measure(self, step: Step, number: int, shape: InputShape, anchor: QWidget) -> None:
        measure: MeasureSettings = self.settings(step).measures[number]
        choices = [
            Choice(_RENAME, "call it otherwise …", measure.name),
            *(Choice(function, words, detail) for function, (words, detail) in FUNCTIONS.items()),
            Choice(_REMOVE, "do not measure this"),
        ]

        def chosen(what: Any) -> None:
            if what is _REMOVE:
                self._put(step, number, None)
            elif what is _RENAME:
                self._ask_name(step, number, shape)
            elif measure.of and _fits(shape, what, measure.of):
                self._put(step, number, msgspec.structs.replace(measure, function=what.value))
            else:
                self._choose_field(step, number, shape, what)

        chooser = Chooser(choices, self.pane, title=measure_said(measure), current=Function(measure.function))
        self.pane.open_list(chooser, anchor, chosen=chosen)

    def _ask_name(self, step: Step, number: int, shape: InputShape) -> None:
        settings: SummariseSettings = self.settings(step)

        def renamed(text: str) -> SummariseSettings:
            measures = list(settings.measures)
            measures[number] = msgspec.structs.replace(measures[number], name=text.strip())
            return msgspec.structs.replace(settings, measures=tuple(measures))

        def check(text: str) -> None:
            SummariseKind().fields(renamed(text), [shape], "rows")

        entry = Entry("What is it called?", settings.measures[number].name, self.pane, check=check)
        entry.entered.connect(
            lambda text: self.change(step, f"Call it {text.strip()}", measures=renamed(text).measures)
        )
        entry.open_under(self.pane.view)


def _fits(shape: InputShape, function: Function, of: str) -> bool:
    """Whether a function can be made of what another was made of."""
    field = next((field for field in shape.fields if field.name == of), None)
    return function not in _OF_NUMBERS or (field is not None and field.type.is_number)
