"""The sentence of numbering rows: which numbers, within which groups, in which order."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.core.text_actions import check_new
from keen_trellis.core.windowing import Window
from keen_trellis.desktop.kinds.order_keys import OrderEditor, choose_groups
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.choices import AS_EXPRESSION, field_choices
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.expression import ExpressionEntry
from keen_trellis.desktop.sentence.part import RailSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.naming import free_name
from keen_trellis.flow.steps.number_rows import (
    AddedSettings,
    NumberRowsKind,
    NumberRowsSettings,
    window_said,
)
from keen_trellis.flow.steps.sort import SortKeySettings
from keen_trellis.flow.wording import listed
from keen_trellis.session.outcome import Outcome

_CHOICES = {
    Window.ROW_NUMBER: ("the row number", "1, 2, 3, …"),
    Window.RANK: ("the rank", "1, 2, 2, 4: equal ones share it"),
    Window.DENSE_RANK: ("the rank without gaps", "1, 2, 2, 3"),
    Window.RUNNING_TOTAL: ("a running total", "of numbers, up to the row"),
    Window.SHARE: ("the share of the total", "of numbers, from 0 to 1"),
    Window.BEFORE: ("a value of the row before", "blank at the first row"),
    Window.AFTER: ("a value of the row after", "blank at the last row"),
}
_OF_NUMBERS = (Window.RUNNING_TOTAL, Window.SHARE)
_REMOVE, _RENAME = object(), object()


class NumberRowsSentence(RailSentence):
    """To Loans, within [each Venue], by [Out date] [least first], add [row number], [another number …]."""

    def clauses(self, step: Step, settings: NumberRowsSettings, shape: InputShape) -> Sequence[Item]:
        within = f"each {' and '.join(settings.within)}" if settings.within else "all rows together"
        items: list[Item] = [
            Word(f"To {shape.name}, within"),
            Chip(within, partial(self._choose_groups, step, shape), "Groups"),
            Word(", by"),
            *self._order(step, shape).items("the order they are in"),
            Word(", add"),
        ]
        for number, entry in enumerate(settings.added):
            said = f"{entry.said} as {entry.field}" if entry.is_named else entry.said
            items.append(Chip(said, partial(self._change, step, shape, number), "Number"))
        more = "another number …" if settings.added else "choose a number"
        add = partial(self._choose_window, step, shape, len(settings.added))
        return [*items, Chip(more, add, "Another number", doing=not settings.added), Word(".")]

    def begin(self, step: Step, shape: InputShape) -> None:
        self._choose_window(step, shape, 0, self.pane.view, dismissed=self.taking_back())

    def came_out(self, outcome: Outcome) -> str:
        assert outcome.result is not None
        return f"{outcome.result.rows.rows:,} rows, in the order that they had."

    def _order(self, step: Step, shape: InputShape) -> OrderEditor:
        def put(keys: Sequence[SortKeySettings]) -> None:
            said = f"Number rows by {', '.join(key.of for key in keys) or 'the order they are in'}"
            self.change(step, said, by=tuple(keys))

        title = "In which order are the rows numbered?"
        return OrderEditor(self.pane, shape, title, lambda: self.settings(step).by, put)

    def _choose_groups(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        def apply(chosen: list[str]) -> None:
            said = f"Number rows within each {listed(chosen)}" if chosen else "Number all rows together"
            self.change(step, said, within=tuple(chosen))

        title = "Rows with the same … are numbered together; all rows if none is chosen"
        choose_groups(self.pane, shape, self.settings(step).within, title, apply, anchor)

    def _choose_window(
        self,
        step: Step,
        shape: InputShape,
        number: int,
        anchor: QWidget,
        *,
        dismissed: Callable[[], None] | None = None,
    ) -> None:
        choices = [Choice(window, *words) for window, words in _CHOICES.items()]
        chooser = Chooser(choices, self.pane, title=f"What is added to each row of {shape.name}?")
        self.pane.open_list(
            chooser, anchor, chosen=partial(self._chosen, step, shape, number), dismissed=dismissed
        )

    def _change(self, step: Step, shape: InputShape, number: int, anchor: QWidget) -> None:
        entry = self.settings(step).added[number]
        choices = [
            Choice(_RENAME, "rename …", entry.field),
            *(Choice(window, *words) for window, words in _CHOICES.items()),
            Choice(_REMOVE, "do not add this"),
        ]

        def chosen(what: Any) -> None:
            if what is _REMOVE:
                self._put(step, number, None)
            elif what is _RENAME:
                self._ask_name(step, shape, number)
            else:
                self._chosen(step, shape, number, what)

        self.choose(anchor, choices, chosen, current=entry.windowed.window, title=entry.said)

    def _chosen(self, step: Step, shape: InputShape, number: int, window: Window) -> None:
        if not window.needs_value:
            self._make(step, shape, number, window, "")
            return
        fields = [field for field in shape.fields if window not in _OF_NUMBERS or field.type.is_number]
        choices = [*field_choices(fields, None), Choice(AS_EXPRESSION, "an expression …")]
        title = f"{_CHOICES[window][0].capitalize()}: of which field?"

        def chosen(of: Any) -> None:
            if of is AS_EXPRESSION:
                self._ask_expression(step, title, partial(self._make, step, shape, number, window))
            else:
                self._make(step, shape, number, window, of)

        self.choose(self.pane.view, choices, chosen, title=title)

    def _ask_expression(self, step: Step, title: str, put: Callable[[str], None]) -> None:
        outcome = self.session.outcome(step.id)
        if outcome is None or not outcome.tables:
            return
        entry = ExpressionEntry(title, "", self.pane, outcome.tables[0])
        entry.entered.connect(lambda text: put(text.strip()))
        entry.open_under(self.pane.view)

    def _make(self, step: Step, shape: InputShape, number: int, window: Window, of: str) -> None:
        added = self.settings(step).added
        old = added[number] if number < len(added) else None
        taken = [field.name for field in shape.fields]
        taken += [entry.field for place, entry in enumerate(added) if place != number]
        called = old.field if old is not None and old.is_named else free_name(window_said(window, of), taken)
        entry = AddedSettings(called, window.value, of)
        if window.needs_order and not self.settings(step).by:
            title = "In which order are the rows ranked?"
            put = partial(self._put, step, number, entry)
            OrderEditor(self.pane, shape, title, tuple, put).choose_field(0, self.pane.view)
        else:
            self._put(step, number, entry)

    def _put(
        self,
        step: Step,
        number: int,
        entry: AddedSettings | None,
        keys: Sequence[SortKeySettings] | None = None,
    ) -> None:
        settings: NumberRowsSettings = self.settings(step)
        added = list(settings.added)
        added[number : number + 1] = [entry] if entry else []
        said = f"Add the {entry.said}" if entry else "Add one number less"
        by = settings.by if keys is None else tuple(keys)
        self.change(step, said, added=tuple(added), by=by)

    def _ask_name(self, step: Step, shape: InputShape, number: int) -> None:
        added = self.settings(step).added
        others = [entry.windowed.field(shape.fields) for n, entry in enumerate(added) if n != number]
        self.ask(
            self.pane.view,
            "What is it called?",
            added[number].field,
            lambda text: self._put(step, number, msgspec.structs.replace(added[number], field=text.strip())),
            check=lambda text: check_new([*shape.fields, *others], [text.strip()]),
        )


VIEW = KindView(
    NumberRowsKind.name,
    NumberRowsSentence,
    command=RailCommand(
        NumberRowsSettings(), "Number rows", "Number rows, rank and running totals", "Shift+N"
    ),
)
