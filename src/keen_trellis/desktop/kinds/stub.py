"""The sentence of a stub: the rows of a join that found no partner, and where they can go."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.steps.join import UNMATCHED_LEFT
from keen_trellis.flow.wording import counted, rows_called
from keen_trellis.session import editing
from keen_trellis.session.outcome import Outcome


class StubSentence(SentencePart):
    """Unmatched Loans: 12 loans that found no object. They are left out of the result. [carry them on …]."""

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        if outcome is None or outcome.result is None or len(outcome.inputs) != 2:
            return [Word(f"{step.name}: working out what did not match.")]
        on_left = self.session.selection.port == UNMATCHED_LEFT
        mine, other = outcome.inputs if on_left else outcome.inputs[::-1]
        rows = outcome.result.ports[self.session.selection.port].rows
        kind = editing.join_settings(self.session, step.id).join_type
        stays = kind.keeps_unmatched_left if on_left else kind.keeps_unmatched_right
        said = "They stay in the result." if stays else "They are left out of the result."
        return [
            Word(
                f"Unmatched {mine.name}: {counted(rows, mine.name)} that found no "
                f"{rows_called(other.name)[0]}. {said}"
            ),
            Chip(
                "carry them on with the fields of the kept rows",
                partial(self._keep_fields, step),
                "Carry on",
                doing=True,
            ),
            Chip("write them to a file", lambda _: self.pane.output_wanted.emit(), "Write", doing=True),
            Word("or drag the stub onto a rail."),
        ]

    def _keep_fields(self, step: Step, _: QWidget) -> None:
        editing.keep_fields_of_rows(self.session, step.id, self.session.selection.port)
