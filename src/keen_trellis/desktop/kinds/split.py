"""The sentence of splitting a text into parts."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QWidget

from keen_trellis.core.table import Table
from keen_trellis.core.text_actions import split_fields
from keen_trellis.core.values import as_text
from keen_trellis.desktop.kinds.of_fields import OfOneText
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.split import SplitKind, SplitSettings
from keen_trellis.flow.wording import listed

_DIVIDERS = (" - ", " / ", ", ", "; ", "-", "/", ".", ",", ";", "_", " ", ":")
_LOOKED_AT = 500


class SplitSentence(OfOneText):
    """Split [Object no] of Loans at [.] into [collection, number]."""

    title = "Split which text?"

    def clauses(self, step: Step, settings: SplitSettings, shape: InputShape) -> Sequence[Item]:
        return [
            Word("Split"),
            Chip(settings.of or "which text?", lambda anchor: self.choose_text(step, shape, anchor), "Field"),
            Word(f"of {shape.name} at"),
            Chip(f"“{settings.between}”", lambda anchor: self._ask_between(step, anchor), "Divider"),
            Word("into"),
            Chip(listed(list(settings.into)), lambda anchor: self._ask_names(step, shape, anchor), "Parts"),
            Word("."),
        ]

    def take_text(self, step: Step, name: str) -> None:
        outcome = self.session.outcome(step.id)
        between, count = " ", 2
        if outcome is not None and outcome.tables:
            between, count = likely_divider(outcome.tables[0], name)
        into = tuple(f"{name} {number}" for number in range(1, count + 1))
        self.change(step, f"Split {name}", of=name, between=between, into=into)

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


VIEW = KindView(
    SplitKind.name,
    SplitSentence,
    command=RailCommand(
        SplitSettings(of="", between=" ", into=("part",)),
        "Split a text",
        "S&plit a text",
        "P",
        "Split it",
        of_text=True,
    ),
)
