"""The sentence of making a row for each part of a text."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtWidgets import QWidget

from keen_trellis.core.splitting import fields_of_parts
from keen_trellis.desktop.kinds.of_fields import OfOneText
from keen_trellis.desktop.kinds.split import likely_divider
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.naming import free_name
from keen_trellis.flow.steps.split_rows import SplitRowsKind, SplitRowsSettings
from keen_trellis.flow.wording import rows_called
from keen_trellis.session.outcome import Outcome


class SplitRowsSentence(OfOneText):
    """Of Objects, make one object for each part of [Makers], divided at [; ], [not numbered]."""

    title = "A row for each part of which text?"

    def clauses(self, step: Step, settings: SplitRowsSettings, shape: InputShape) -> Sequence[Item]:
        number = f"numbered in {settings.number}" if settings.number else "not numbered"
        return [
            Word(f"Of {shape.name}, make one {rows_called(shape.name)[0]} for each part of"),
            Chip(settings.of or "which text?", partial(self.choose_text, step, shape), "Field"),
            Word(", divided at"),
            Chip(f"“{settings.between}”", partial(self._ask_between, step), "Divider"),
            Word(","),
            Chip(number, partial(self._ask_number, step, shape), "Number"),
            Word("."),
        ]

    def came_out(self, outcome: Outcome) -> str:
        assert outcome.result is not None
        before, after = outcome.tables[0].rows, outcome.result.rows.rows
        if before == after:
            return f"No text has several parts: {before:,} rows, as before."
        return f"{before:,} rows become {after:,}."

    def take_text(self, step: Step, name: str) -> None:
        outcome = self.session.outcome(step.id)
        between = ";"
        if outcome is not None and outcome.tables:
            between = likely_divider(outcome.tables[0], name)[0]
        self.change(step, f"A row for each part of {name}", of=name, between=between.strip() or between)

    def _ask_between(self, step: Step, anchor: QWidget) -> None:
        now = self.settings(step).between
        self.ask(
            anchor,
            "What divides the parts? Spaces around a part do not belong to it.",
            now,
            lambda text: self.change(step, f"Divide at “{text}”", between=text),
        )

    def _ask_number(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        settings: SplitRowsSettings = self.settings(step)
        names = [field.name for field in shape.fields]
        self.ask(
            anchor,
            "The field that numbers the parts of a row; empty: none",
            settings.number or free_name(f"{settings.of} no", names),
            lambda text: self.change(step, "Number the parts", number=text.strip()),
            check=lambda text: fields_of_parts(shape.fields, settings.of, settings.between, text.strip()),
        )


VIEW = KindView(
    SplitRowsKind.name,
    SplitRowsSentence,
    command=RailCommand(
        SplitRowsSettings(of="", between=";"),
        "A row for each part of a text",
        "A row for each part of a te&xt",
        "Shift+P",
        "A row for each of its parts",
        of_text=True,
    ),
)
