"""The sentence of a summary: by which keys, and what is measured of each group."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any

from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.kinds.measures import MeasureEditor, measure_said
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.choices import AS_EXPRESSION, field_choices
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.expression import ExpressionEntry
from keen_trellis.desktop.sentence.part import RailSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.summarise import MeasureSettings, SummariseKind, SummariseSettings
from keen_trellis.session.outcome import Outcome

_REMOVE = object()


class SummariseSentence(RailSentence):
    """Make one row of each [Venue] of Loans: [how many rows], [the sum of Agreed value as value], …."""

    def clauses(self, step: Step, settings: SummariseSettings, shape: InputShape) -> Sequence[Item]:
        items: list[Item] = [Word("Make one row of each" if settings.keys else "Make one row of")]
        for number, key in enumerate(settings.keys):
            items += [Word("and")] if number else []
            items.append(Chip(key, partial(self._choose_key, step, number, shape), "Key"))
        more = "and …" if settings.keys else "all rows"
        items.append(Chip(more, partial(self._choose_key, step, len(settings.keys), shape), "Another key"))
        items.append(Word(f"of {shape.name}, with"))
        editor = self._measures(step, shape)
        for number, measure in enumerate(settings.measures):
            items.append(Chip(measure_said(measure), partial(editor.change, number), "Measure"))
        more = "another measure …" if settings.measures else "choose a measure"
        return [*items, Chip(more, editor.add, "Another measure"), Word(".")]

    def _measures(self, step: Step, shape: InputShape) -> MeasureEditor:
        outcome = self.session.outcome(step.id)
        return MeasureEditor(
            self.pane,
            shape,
            outcome.tables[0] if outcome is not None and outcome.tables else None,
            frozenset(self.settings(step).keys),
            lambda: self.settings(step).measures,
            lambda measures, said: self.change(step, said, measures=measures),
        )

    def begin(self, step: Step, shape: InputShape) -> None:
        self._choose_key(step, 0, shape, self.pane.view)

    def came_out(self, outcome: Outcome) -> str:
        assert outcome.result is not None
        return f"{outcome.tables[0].rows:,} rows become {outcome.result.rows.rows:,}."

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
                self._ask_expression(step, put)
            else:
                put(None if name is _REMOVE else name)

        chooser = Chooser(choices, self.pane, title=f"One row of each … of {shape.name}")
        self.pane.open_list(chooser, anchor, chosen=chosen)

    def _ask_expression(self, step: Step, put: Any) -> None:
        outcome = self.session.outcome(step.id)
        if outcome is None or not outcome.tables:
            return
        entry = ExpressionEntry("Group by which expression?", "", self.pane, outcome.tables[0])
        entry.entered.connect(lambda text: put(text.strip()))
        entry.open_under(self.pane.view)


VIEW = KindView(
    SummariseKind.name,
    SummariseSentence,
    command=RailCommand(
        SummariseSettings(measures=(MeasureSettings("rows", "count"),)),
        "Summarise",
        "Summarise by &keys",
        "K",
    ),
)
