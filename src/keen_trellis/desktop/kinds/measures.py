"""The measures of a summary or a blend: choosing a function, its field, and the name of what it gives."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import UsageError
from keen_trellis.core.measures import Function
from keen_trellis.core.table import Table
from keen_trellis.desktop.sentence.choices import AS_EXPRESSION, field_choices
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.expression import ExpressionEntry
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.naming import free_name
from keen_trellis.flow.steps.summarise import MeasureSettings, measure_name

FUNCTIONS = {
    Function.COUNT: ("how many rows", "or how many have a value"),
    Function.SUM: ("the sum", "of numbers"),
    Function.MEAN: ("the mean", "of numbers"),
    Function.LEAST: ("the minimum", "as the earliest date"),
    Function.GREATEST: ("the maximum", "as the latest date"),
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
OF_NUMBERS = (Function.SUM, Function.MEAN, Function.MEDIAN)
_REMOVE, _RENAME, _ROWS = object(), object(), object()


def measure_said(measure: MeasureSettings) -> str:
    """A measure in words, with the name of the field that it gives where that is another."""
    function = Function(measure.function)
    said = FUNCTIONS[function][0]
    if measure.of:
        said = _OF.get(function, f"{said} of {{}}").format(measure.of)
    return f"{said} as {measure.name}" if measure.is_named else said


class MeasureEditor(msgspec.Struct, frozen=True):
    """Edits one list of measures.

    shape: of the table that is measured.  table: its rows, None while they are not known.  taken: names that
    no measure may have.  now: the measures as they are.  put: makes them others, with the name of the edit.
    make: a new measure of a name, a function and what it is of.
    """

    pane: SentenceHost
    shape: InputShape
    table: Table | None
    taken: frozenset[str]
    now: Callable[[], Sequence[MeasureSettings]]
    put: Callable[[tuple[Any, ...], str], None]
    make: Callable[[str, str, str], MeasureSettings] = MeasureSettings

    def add(self, _: QWidget | None = None) -> None:
        """Ask what is measured besides."""
        choices = [Choice(function, words, detail) for function, (words, detail) in FUNCTIONS.items()]
        chooser = Chooser(choices, self.pane, title="What is measured?")
        number = len(self.now())
        self.pane.open_list(
            chooser, self.pane.view, chosen=lambda function: self._choose_field(number, function)
        )

    def change(self, number: int, anchor: QWidget) -> None:
        """Ask what becomes of one measure."""
        measure = self.now()[number]
        choices = [
            Choice(_RENAME, "rename …", measure.name),
            *(Choice(function, words, detail) for function, (words, detail) in FUNCTIONS.items()),
            Choice(_REMOVE, "do not measure this"),
        ]

        def chosen(what: Any) -> None:
            if what is _REMOVE:
                self._put(number, None)
            elif what is _RENAME:
                self._ask_name(number)
            elif measure.of and self._fits(what, measure.of):
                self._put(number, self._measure(number, what, measure.of))
            else:
                self._choose_field(number, what)

        chooser = Chooser(choices, self.pane, title=measure_said(measure), current=Function(measure.function))
        self.pane.open_list(chooser, anchor, chosen=chosen)

    def _put(self, number: int, measure: MeasureSettings | None) -> None:
        measures = list(self.now())
        measures[number : number + 1] = [measure] if measure else []
        self.put(tuple(measures), f"Measure {measure_said(measure)}" if measure else "Measure one thing less")

    def _measure(self, number: int, function: Function, of: str) -> MeasureSettings:
        """The measure with another function; one that was named keeps its name, and all else that is set."""
        measures = self.now()
        name = free_name(measure_name(function, of), self._names(number))
        if number >= len(measures):
            return self.make(name, function.value, of)
        old = measures[number]
        name = old.name if old.is_named else name
        return msgspec.structs.replace(old, name=name, function=function.value, of=of)

    def _choose_field(self, number: int, function: Function) -> None:
        fields = [field for field in self.shape.fields if function not in OF_NUMBERS or field.type.is_number]
        choices = field_choices(fields, None)
        if function is Function.COUNT:
            choices.insert(0, Choice(_ROWS, "rows", "all of them"))
        choices.append(Choice(AS_EXPRESSION, "an expression …"))

        def put(of: str) -> None:
            self._put(number, self._measure(number, function, of))

        def chosen(name: Any) -> None:
            if name is AS_EXPRESSION:
                self._ask_expression(f"{FUNCTIONS[function][0].capitalize()} of what?", put)
            else:
                put("" if name is _ROWS else name)

        chooser = Chooser(choices, self.pane, title=f"{FUNCTIONS[function][0].capitalize()} of which field?")
        self.pane.open_list(chooser, self.pane.view, chosen=chosen)

    def _ask_expression(self, title: str, put: Callable[[str], None]) -> None:
        if self.table is None:
            return
        entry = ExpressionEntry(title, "", self.pane, self.table)
        entry.entered.connect(lambda text: put(text.strip()))
        entry.open_under(self.pane.view)

    def _names(self, number: int) -> set[str]:
        """The names that measure number `number` cannot have."""
        return {*self.taken, *(other.name for n, other in enumerate(self.now()) if n != number)}

    def _ask_name(self, number: int) -> None:
        measure = self.now()[number]

        def check(text: str) -> None:
            if not text.strip():
                raise UsageError("A field needs a name.")
            if text.strip() in self._names(number):
                raise UsageError(
                    f"There would be two fields “{text.strip()}”.", remedy="Choose another name."
                )

        entry = Entry("What is it called?", measure.name, self.pane, check=check)
        entry.entered.connect(
            lambda text: self._put(number, msgspec.structs.replace(measure, name=text.strip()))
        )
        entry.open_under(self.pane.view)

    def _fits(self, function: Function, of: str) -> bool:
        """Whether a function can be made of what another was made of."""
        field = next((field for field in self.shape.fields if field.name == of), None)
        return function not in OF_NUMBERS or (field is not None and field.type.is_number)
