"""The sentence of correcting values: which ones are read as which."""

from __future__ import annotations

from collections.abc import Sequence

from keen_trellis.desktop.kinds.of_fields import OfTexts
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.link_text import read_corrections
from keen_trellis.flow.steps.correct import CorrectKind, CorrectSettings


class CorrectSentence(OfTexts):
    """In [Venue] of Loans, correct [3 values]."""

    def clauses(self, step: Step, settings: CorrectSettings, shape: InputShape) -> Sequence[Item]:
        count = len(settings.pairs)
        text = "1 value" if count == 1 else f"{count:,} values" if count else "which values?"
        return [
            Word("In"),
            self.fields_chip(step, settings.fields, shape),
            Word(f"of {shape.name}, correct"),
            Chip(text, lambda _: self._ask(step), "Corrections", doing=bool(settings.fields) and not count),
            Word("."),
        ]

    def _chosen(self, step: Step, shape: InputShape, names: Sequence[str]) -> None:
        super()._chosen(step, shape, names)
        if names and not self.settings(step).pairs:
            self._ask(step)

    def _ask(self, step: Step) -> None:
        pairs = self.settings(step).pairs
        entry = Entry(
            "One pair per line: value, tab or →, correction",
            "\n".join(f"{wrong}\t{right}" for wrong, right in pairs),
            self.pane,
            check=read_corrections,
            several_lines=True,
        )
        entry.entered.connect(lambda text: self.change(step, "Correct values", pairs=read_corrections(text)))
        entry.open_under(self.pane.view)


VIEW = KindView(
    CorrectKind.name,
    CorrectSentence,
    command=RailCommand(CorrectSettings(), "Correct values", "Co&rrect values", "R"),
)
