"""The sentence of combining fields into one text."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QWidget

from keen_trellis.core.text_actions import combined_fields
from keen_trellis.desktop.kinds.of_fields import OfFields
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.combine import CombineKind, CombineSettings
from keen_trellis.flow.wording import listed


class CombineSentence(OfFields):
    """Combine [Venue, Object no] of Loans into [both], with [ / ] between them."""

    title = "Combine which fields, in this order?"
    verb = "Combine"

    def clauses(self, step: Step, settings: CombineSettings, shape: InputShape) -> Sequence[Item]:
        return [
            Word("Combine"),
            Chip(
                listed(list(settings.of)) or "choose the fields",
                lambda anchor: self.choose_fields(step, shape, anchor),
                "Fields",
                doing=not settings.of,
            ),
            Word(f"of {shape.name} into"),
            Chip(settings.into, lambda anchor: self._ask_name(step, shape, anchor), "Name"),
            Word(", with"),
            Chip(f"“{settings.between}”", lambda anchor: self._ask_between(step, anchor), "Between"),
            Word("between them."),
        ]

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


VIEW = KindView(
    CombineKind.name,
    CombineSentence,
    command=RailCommand(CombineSettings(of=(), into="combined"), "Combine fields", "Com&bine fields", "B"),
)
