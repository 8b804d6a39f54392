"""The sentence of a compute step: the new field's name, and the expression that makes it."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QWidget

from keen_trellis.core.computing import computed_fields
from keen_trellis.core.derived import DerivedTable
from keen_trellis.core.expressions.quoting import quoted_name
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.expression import ExpressionEntry
from keen_trellis.desktop.sentence.part import RailSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.compute import ComputeKind, ComputeSettings
from keen_trellis.session.outcome import Outcome


class ComputeSentence(RailSentence):
    """In Loans, compute [days out] as ["Back date" - "Out date"]."""

    def clauses(self, step: Step, settings: ComputeSettings, shape: InputShape) -> Sequence[Item]:
        return [
            Word(f"In {shape.name}, compute"),
            Chip(settings.field, lambda anchor: self._ask_name(step, shape, anchor), "Name"),
            Word("as"),
            Chip(
                settings.expression,
                lambda anchor: self._ask_expression(step, shape),
                "Expression",
                strong=True,
            ),
            Word("."),
        ]

    def begin(self, step: Step, shape: InputShape) -> None:
        self._ask_expression(step, shape)

    def begin_about(self, step: Step, shape: InputShape, name: str) -> None:
        self._ask_expression(step, shape, quoted_name(name))

    def came_out(self, outcome: Outcome) -> str:
        assert outcome.result is not None
        table = outcome.result.rows
        said = ", ".join(f"{count:,} {what}" for what, count in getattr(table, "counts", {}).items())
        kind = table.fields[-1].type.value
        blank = f" {said}." if isinstance(table, DerivedTable) and said else " Nothing is blank."
        return f"It is {kind} in {table.rows:,} rows.{blank}"

    def _ask_name(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        settings: ComputeSettings = self.settings(step)

        def check(text: str) -> None:
            computed_fields(shape.fields, text.strip(), settings.expression)

        entry = Entry("What is the field called?", settings.field, self.pane, check=check)
        entry.entered.connect(lambda text: self.change(step, f"Call it {text.strip()}", field=text.strip()))
        entry.open_under(anchor)

    def _ask_expression(self, step: Step, shape: InputShape, begins: str = "") -> None:
        outcome = self.session.outcome(step.id)
        if outcome is None or not outcome.tables:
            return
        settings: ComputeSettings = self.settings(step)
        now = begins if settings.expression == "NULL" else settings.expression
        title = f'What makes it, over the fields of {shape.name}, as EXTRACT(YEAR FROM "Out date")'
        entry = ExpressionEntry(title, now, self.pane, outcome.tables[0])

        def change(text: str) -> None:
            self.change(step, f"Compute {settings.field} as {text.strip()}", expression=text.strip())
            if settings.expression == "NULL":
                self._ask_name(step, shape, self.pane.view)

        entry.entered.connect(change)
        entry.open_under(self.pane.view)


VIEW = KindView(
    ComputeKind.name,
    ComputeSentence,
    command=RailCommand(
        ComputeSettings(field="computed", expression="NULL"),
        "Compute a field",
        "Comp&ute a field",
        "U",
        "Compute from it…",
    ),
)
