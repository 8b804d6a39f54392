"""The sentence of making columns of rows: of which values, for each of what, and what stands in the cells."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from operator import attrgetter
from typing import Any

from PySide6.QtWidgets import QWidget

from keen_trellis.core.insight.summary import Share, values_in_order
from keen_trellis.core.measures import Function
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.kinds.measures import FUNCTIONS, OF_NUMBERS, measure_said
from keen_trellis.desktop.kinds.order_keys import choose_groups
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.choices import field_choices
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.part import RailSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.rows_to_columns import (
    RowsToColumnsKind,
    RowsToColumnsSettings,
    without_column,
)
from keen_trellis.flow.steps.summarise import MeasureSettings, measure_name
from keen_trellis.flow.wording import listed
from keen_trellis.session.outcome import Outcome

_MOST_VALUES = 1_000  # that can be ticked
_MOST_COLUMNS = 60  # that are made at once, unasked
_ROWS = object()


class RowsToColumnsSentence(RailSentence):
    """Of Visitors, make one row for each [venue], with a column for each of [2026-01, 2026-02] of [month],
    holding [the sum of] [visitors].
    """

    def clauses(self, step: Step, settings: RowsToColumnsSettings, shape: InputShape) -> Sequence[Item]:
        of = Chip(
            settings.of or "choose a field",
            partial(self._choose_of, step, shape),
            "Field",
            doing=not settings.of,
        )
        if not settings.of:
            return [Word(f"Of {shape.name}, make a column for each value of"), of, Word(".")]
        row = f"one row for each {' and '.join(settings.keys)}" if settings.keys else "one row"
        columns = listed(list(settings.columns)) or "choose the values"
        measure = MeasureSettings(settings.measure.name, settings.function, settings.value)
        return [
            Word(f"Of {shape.name}, make"),
            Chip(row, partial(self._choose_keys, step, shape), "Keys"),
            Word("with a column for each of"),
            Chip(columns, partial(self._choose_columns, step), "Columns", doing=not settings.columns),
            Word("of"),
            of,
            Word(", holding"),
            Chip(measure_said(measure), partial(self._choose_measure, step, shape), "Measure"),
            Word("."),
        ]

    def begin(self, step: Step, shape: InputShape) -> None:
        self._choose_of(step, shape, self.pane.view, dismissed=self.taking_back())

    def begin_about(self, step: Step, shape: InputShape, name: str) -> None:
        self._begin_of(step, shape, name)

    def came_out(self, outcome: Outcome) -> str:
        assert outcome.result is not None and outcome.figures is not None
        rows = f"{outcome.tables[0].rows:,} rows become {outcome.result.rows.rows:,}."
        if not outcome.figures.no_column:
            return rows
        settings = self.settings(outcome.step) if outcome.step else None
        return f"{rows} {without_column(settings.of, outcome.figures)}." if settings else rows

    def _choose_of(
        self, step: Step, shape: InputShape, anchor: QWidget, *, dismissed: Callable[[], None] | None = None
    ) -> None:
        title = f"The values of which field of {shape.name} become columns?"
        chooser = Chooser(field_choices(shape.fields, None), self.pane, title=title)
        self.pane.open_list(chooser, anchor, chosen=partial(self._begin_of, step, shape), dismissed=dismissed)

    def _begin_of(self, step: Step, shape: InputShape, name: str) -> None:
        """Ask what stands in the cells, and make columns of the values that there are."""
        numbers = [field for field in shape.fields if field.type.is_number and field.name != name]
        others = [field for field in shape.fields if field not in numbers and field.name != name]
        choices = [
            *field_choices(numbers, None),
            Choice(_ROWS, "how many rows"),
            *field_choices(others, None),
        ]

        def chosen(value: Any) -> None:
            self._with_values(step, name, partial(put, "" if value is _ROWS else value))

        def put(value: str, found: Sequence[Share]) -> None:
            keys = tuple(f.name for f in shape.fields if value and f.name not in (name, value))
            self.change(
                step,
                f"Make columns of {name}",
                of=name,
                columns=tuple(share.text for share in found[:_MOST_COLUMNS]),
                keys=keys,
                value=value,
                function=_likely(shape, value).value,
            )

        self.choose(self.pane.view, choices, chosen, title=f"What stands in the column of a {name}?")

    def _with_values(self, step: Step, name: str, then: Callable[[Sequence[Share]], None]) -> None:
        """Count the values of a field, off this thread."""
        outcome = self.session.outcome(step.id)
        if outcome is None or not outcome.tables:
            return
        table: Table = outcome.tables[0]

        def counted(_: Task) -> Sequence[Share]:
            found = values_in_order(table, name, _MOST_VALUES)
            return (
                sorted(found, key=attrgetter("text")) if table.field(name).type is FieldType.TEXT else found
            )

        self.session.jobs.start(f"counting the values of {name}", counted, then, self.session.failed.emit)

    def _choose_columns(self, step: Step, anchor: QWidget) -> None:
        settings: RowsToColumnsSettings = self.settings(step)

        def show(found: Sequence[Share]) -> None:
            counts = {share.text: f"{share.rows:,}" for share in found}
            ordered = [*settings.columns, *(text for text in counts if text not in settings.columns)]
            choices = [
                Choice(text, text, counts.get(text, "in no row now"), ticked=text in settings.columns)
                for text in ordered
            ]
            title = f"Which values of {settings.of} become columns, in this order?"
            chooser = Chooser(choices, self.pane, several=True, title=title)
            self.pane.open_list(chooser, anchor, applied=apply)

        def apply(columns: list[str]) -> None:
            self.change(step, f"Make columns of {listed(columns)}", columns=tuple(columns))

        self._with_values(step, settings.of, show)

    def _choose_keys(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        settings: RowsToColumnsSettings = self.settings(step)
        fields = tuple(field for field in shape.fields if field.name != settings.of)

        def apply(keys: list[str]) -> None:
            self.change(step, f"One row for each {listed(keys) or 'table'}", keys=tuple(keys))

        title = "One row for each … ; one of all rows if none is chosen"
        choose_groups(self.pane, InputShape(shape.name, fields), settings.keys, title, apply, anchor)

    def _choose_measure(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        choices = [Choice(function, *words) for function, words in FUNCTIONS.items()]

        def chosen(function: Function) -> None:
            if function is Function.COUNT:
                self.change(step, "Count the rows", function=function.value, value="")
            else:
                self._choose_value(step, shape, anchor, function)

        current = self.settings(step).measure.function
        self.choose(anchor, choices, chosen, current=current, title="What stands in the cells?")

    def _choose_value(self, step: Step, shape: InputShape, anchor: QWidget, function: Function) -> None:
        fits = [f for f in shape.fields if function not in OF_NUMBERS or f.type.is_number]

        def chosen(value: str) -> None:
            said = measure_said(MeasureSettings(measure_name(function, value), function.value, value))
            self.change(step, f"Show {said}", function=function.value, value=value)

        title = f"{FUNCTIONS[function][0].capitalize()} of which field?"
        self.choose(anchor, field_choices(fits, None), chosen, current=self.settings(step).value, title=title)


def _likely(shape: InputShape, value: str) -> Function:
    """What is made of a field unless something else is chosen: nothing of it is lost."""
    if not value:
        return Function.COUNT
    kind = next(field.type for field in shape.fields if field.name == value)
    return Function.SUM if kind.is_number else Function.LISTING


VIEW = KindView(
    RowsToColumnsKind.name,
    RowsToColumnsSentence,
    command=RailCommand(
        RowsToColumnsSettings(),
        "Rows to columns",
        "Rows to columns",
        "Shift+R",
        "A column for each of its values",
    ),
)
