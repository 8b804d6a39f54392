"""The sentence of a sort step: by which fields, in which direction."""

from __future__ import annotations

from collections.abc import Sequence

from keen_trellis.desktop.kinds.order_keys import OrderEditor
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.part import RailSentence
from keen_trellis.desktop.sentence.view import Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.sort import SortKeySettings, SortKind, SortSettings
from keen_trellis.session.outcome import Outcome


class SortSentence(RailSentence):
    """Sort Loans by [Venue] [least first], then by [Out date] [largest first], then …."""

    def clauses(self, step: Step, settings: SortSettings, shape: InputShape) -> Sequence[Item]:
        keys = self._editor(step, shape).items("choose a field", doing=True)
        return [Word(f"Sort {shape.name} by"), *keys]

    def begin(self, step: Step, shape: InputShape) -> None:
        self._editor(step, shape).choose_field(0, self.pane.view)

    def begin_about(self, step: Step, shape: InputShape, name: str) -> None:
        self._set(step, [SortKeySettings(name)])

    def came_out(self, outcome: Outcome) -> str:
        assert outcome.result is not None
        return f"{outcome.result.rows.rows:,} rows."

    def _editor(self, step: Step, shape: InputShape) -> OrderEditor:
        return OrderEditor(
            self.pane,
            shape,
            f"Sort {shape.name} by which field?",
            lambda: self.settings(step).keys,
            lambda keys: self._set(step, keys),
        )

    def _set(self, step: Step, keys: Sequence[SortKeySettings]) -> None:
        self.change(step, f"Sort by {', '.join(key.of for key in keys) or 'nothing'}", keys=tuple(keys))


VIEW = KindView(
    SortKind.name,
    SortSentence,
    command=RailCommand(SortSettings(), "Sort rows", "&Sort the rows", "S", "Sort the rows by it"),
)
