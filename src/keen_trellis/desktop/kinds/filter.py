"""The sentence of a filter: its conditions, each a field, a comparison and values to be chosen."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any

from PySide6.QtWidgets import QWidget

from keen_trellis.core.filtering import WORDS, Comparison, check_conditions
from keen_trellis.core.insight.summary import Share, values_in_order
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.choices import (
    AS_EXPRESSION,
    OTHER_DAYS,
    comparisons_for,
    field_choices,
    period_choices,
)
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.expression import ExpressionEntry
from keen_trellis.desktop.sentence.part import RailSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.filter import ConditionSettings, FilterKind, FilterSettings
from keen_trellis.flow.wording import listed

_SHOWN = 3
_MOST_VALUES = 2_000
_REMOVE = object()
_OF_VALUES = (Comparison.ONE_OF, Comparison.NONE_OF)
_OF_NOTHING = (Comparison.FILLED, Comparison.BLANK, Comparison.PARTNER, Comparison.NO_PARTNER)


class FilterSentence(RailSentence):
    """Keep the rows of Loans in which [Status] [is] [out], and …."""

    def clauses(self, step: Step, settings: FilterSettings, shape: InputShape) -> Sequence[Item]:
        items: list[Item] = [Word(f"Keep the rows of {shape.name} in which")]
        for number, condition in enumerate(settings.conditions[:_SHOWN]):
            items += [self._joint(step, settings)] if number else []
            items += self._condition(step, number, condition, shape)
        hidden = len(settings.conditions) - _SHOWN
        if hidden > 0:
            items.append(self._folded(step, settings.conditions[_SHOWN:]))
        add = partial(self._choose_field, step, len(settings.conditions), shape)
        more = "and …" if settings.conditions else "choose what must hold"
        items.append(Chip(more, add, "Another condition", doing=not settings.conditions))
        return items

    def _condition(
        self, step: Step, number: int, condition: ConditionSettings, shape: InputShape
    ) -> list[Item]:
        how = condition.condition.how
        field = Chip(condition.of, partial(self._choose_field, step, number, shape), "Field")
        if how is Comparison.TRUE:
            return [field]
        found = [field, Chip(WORDS[how], partial(self._choose_comparison, step, number, shape), "Comparison")]
        if how not in _OF_NOTHING:
            between = " and " if how is Comparison.BETWEEN else " or "
            text = between.join(listed(list(condition.values)).split(", ")) if condition.values else "which?"
            found.append(Chip(text, partial(self._choose_values, step, number, shape), "Values"))
        return list(found)

    def _joint(self, step: Step, settings: FilterSettings) -> Chip:
        def choose(anchor: QWidget) -> None:
            choices = [Choice(False, "and", "all must hold"), Choice(True, "or", "one is enough")]
            self.offer(
                step,
                anchor,
                "any_of",
                choices,
                lambda on: f"Keep rows of which {'one holds' if on else 'all hold'}",
            )

        return Chip("or" if settings.any_of else "and", choose, "All or any")

    def _folded(self, step: Step, hidden: Sequence[ConditionSettings]) -> Chip:
        def show(anchor: QWidget) -> None:
            choices = [Choice(_SHOWN + n, str(entry.condition)) for n, entry in enumerate(hidden)]
            chooser = Chooser(choices, self.pane, title="Further conditions; Enter takes one out")
            self.pane.open_list(chooser, anchor, chosen=lambda number: self._set(step, number, None))

        return Chip(f"and {len(hidden)} more", show, "More conditions")

    def begin(self, step: Step, shape: InputShape) -> None:
        self._choose_field(step, 0, shape, self.pane.view)

    def begin_about(self, step: Step, shape: InputShape, name: str) -> None:
        self._ask_of(step, 0, shape, name)

    # --- edits ---

    def _ask_of(self, step: Step, number: int, shape: InputShape, name: str) -> None:
        """Ask what is to hold of a field."""
        self._set(step, number, ConditionSettings(name, Comparison.FILLED.value))
        self._choose_comparison(step, number, shape, self.pane.view)

    def _set(self, step: Step, number: int, condition: ConditionSettings | None) -> None:
        """Put a condition in place of number `number`, or after the last; None takes it out."""
        settings: FilterSettings = self.settings(step)
        kept = list(settings.conditions)
        said = (
            f"Keep rows whose {condition.condition}"
            if condition
            else f"Remove the condition on {kept[number].of}"
        )
        kept[number : number + 1] = [condition] if condition else []
        self.change(step, said, conditions=tuple(kept))

    def _now(self, step: Step, number: int) -> ConditionSettings | None:
        conditions = self.settings(step).conditions
        return conditions[number] if number < len(conditions) else None

    def _choose_field(self, step: Step, number: int, shape: InputShape, anchor: QWidget) -> None:
        now = self._now(step, number)
        choices = field_choices(shape.fields, None)
        choices.append(Choice(AS_EXPRESSION, "an expression …", "that must be true"))
        if now is not None:
            choices.append(Choice(_REMOVE, "remove this condition", ""))

        def chosen(name: Any) -> None:
            if name is _REMOVE:
                self._set(step, number, None)
            elif name is AS_EXPRESSION:
                self._ask_expression(step, number, shape)
            elif now is None or now.of != name:
                self._ask_of(step, number, shape, name)

        chooser = Chooser(
            choices, self.pane, title=f"Which field of {shape.name}?", current=now.of if now else None
        )
        self.pane.open_list(chooser, anchor, chosen=chosen)

    def _ask_expression(self, step: Step, number: int, shape: InputShape) -> None:
        now = self._now(step, number)
        text = now.of if now is not None and now.is_ == Comparison.TRUE.value else ""

        def check(entered: str) -> None:
            check_conditions([ConditionSettings(entered, Comparison.TRUE.value).condition], shape.fields)

        outcome = self.session.outcome(step.id)
        if outcome is None or not outcome.tables:
            return
        title = 'What must be true, as "Agreed value" > 1000'
        entry = ExpressionEntry(title, text, self.pane, outcome.tables[0], check=check)
        entry.entered.connect(
            lambda entered: self._set(step, number, ConditionSettings(entered.strip(), Comparison.TRUE.value))
        )
        entry.open_under(self.pane.view)

    def _choose_comparison(self, step: Step, number: int, shape: InputShape, anchor: QWidget) -> None:
        now = self._now(step, number)
        field = _field(shape, now.of) if now is not None else None
        if now is None or field is None:
            return
        choices = [Choice(how, f"{field.name} {WORDS[how]}") for how in comparisons_for([field])]

        def chosen(how: Comparison) -> None:
            values = now.values if how not in _OF_NOTHING and len(now.values) == 1 else ()
            if how in _OF_NOTHING or (values and how not in (Comparison.BETWEEN, Comparison.PERIOD)):
                self._set(step, number, ConditionSettings(now.of, how.value, values))
            else:
                self._choose_values(step, number, shape, anchor, how)

        self.pane.open_list(Chooser(choices, self.pane, current=Comparison(now.is_)), anchor, chosen=chosen)

    def _choose_values(
        self, step: Step, number: int, shape: InputShape, anchor: QWidget, how: Comparison | None = None
    ) -> None:
        now = self._now(step, number)
        field = _field(shape, now.of) if now is not None else None
        if now is None or field is None:
            return
        how = how or Comparison(now.is_)
        if how in _OF_VALUES:
            self._tick_values(step, number, field, how)
            return
        if how is Comparison.PERIOD:
            self._choose_period(step, number, field, anchor)
            return
        self._type_values(step, number, shape, field, how, anchor)

    def _choose_period(self, step: Step, number: int, field: Field, anchor: QWidget) -> None:
        def chosen(period: Any) -> None:
            if period is OTHER_DAYS:
                outcome = self.session.outcome(step.id)
                if outcome is not None and outcome.inputs:
                    shape = outcome.inputs[0]
                    self._type_values(step, number, shape, field, Comparison.PERIOD, anchor)
            else:
                self._set(step, number, ConditionSettings(field.name, Comparison.PERIOD.value, (period,)))

        self.pane.open_list(
            Chooser(period_choices(), self.pane, title=f"{field.name} is in …"), anchor, chosen=chosen
        )

    def _type_values(
        self, step: Step, number: int, shape: InputShape, field: Field, how: Comparison, anchor: QWidget
    ) -> None:
        """Let the values of a comparison be typed."""
        now = self._now(step, number)
        if now is None:
            return
        between = how is Comparison.BETWEEN

        def read(text: str) -> ConditionSettings:
            parts = tuple(part.strip() for part in text.split(";" if between else "\n"))
            return ConditionSettings(field.name, how.value, parts)

        def check(text: str) -> None:
            check_conditions([read(text).condition], shape.fields)

        hint = " (two values with a semicolon between)" if between else ""
        hint = " (as “last 90 days”)" if how is Comparison.PERIOD else hint
        title = f"{field.name} {WORDS[how]}{hint}"
        entry = Entry(title, "; ".join(now.values), self.pane, check=check)
        entry.entered.connect(lambda text: self._set(step, number, read(text)))
        entry.open_under(anchor)

    def _tick_values(self, step: Step, number: int, field: Field, how: Comparison) -> None:
        """Let values be ticked in the list of those that there are: dates and numbers in their order,
        others the most frequent first.
        """
        outcome = self.session.outcome(step.id)
        now = self._now(step, number)
        if outcome is None or not outcome.tables or now is None:
            return
        table: Table = outcome.tables[0]

        def counted(_: Task) -> Sequence[Share]:
            return values_in_order(table, field.name, _MOST_VALUES)

        def show(found: Sequence[Share]) -> None:
            ticked = set(now.values)
            gone = [
                Choice(value, value, "in no row now", ticked=True)
                for value in now.values
                if value not in {share.text for share in found}
            ]
            choices = [
                Choice(share.text, share.text, f"{share.rows:,}", ticked=share.text in ticked)
                for share in found
            ]
            chooser = Chooser([*gone, *choices], self.pane, several=True, title=f"{field.name} {WORDS[how]}")
            self.pane.open_list(chooser, self.pane.view, applied=apply)

        def apply(values: list[str]) -> None:
            condition = ConditionSettings(field.name, how.value, tuple(values))
            self._set(step, number, condition if values else None)

        self.session.jobs.start(
            f"counting the values of {field.name}", counted, show, self.session.failed.emit
        )


def _field(shape: InputShape, name: str) -> Field | None:
    return next((field for field in shape.fields if field.name == name), None)


VIEW = KindView(
    FilterKind.name,
    FilterSentence,
    command=RailCommand(FilterSettings(), "Filter rows", "&Filter the rows", "F", "Filter by it…"),
)
