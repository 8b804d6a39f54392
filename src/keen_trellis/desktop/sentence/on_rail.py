"""What the sentences of steps on a rail share: the words for what came out, and edits of their settings."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.view import Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session

if TYPE_CHECKING:
    from keen_trellis.desktop.sentence.pane import SentencePane


class SentencePart:
    """Builds the sentence of some kind of step, and carries out what its chips choose."""

    def __init__(self, session: Session, pane: SentencePane) -> None:
        self.session = session
        self.pane = pane

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        """The whole sentence."""
        raise NotImplementedError

    def begin(self, step: Step, shape: InputShape) -> None:
        """Ask what a step that was just put there wants to know first."""

    def settings(self, step: Step) -> Any:
        """The settings that the step has now."""
        return KINDS.settings(self.session.flow.step(step.id))

    def change(self, step: Step, name: str, **changes: Any) -> None:
        """Give the step other settings; `name` says what was done."""
        self.session.change_settings(step.id, msgspec.structs.replace(self.settings(step), **changes), name)

    def offer(
        self, step: Step, anchor: QWidget, setting: str, choices: Sequence[Choice], said: Callable[[Any], str]
    ) -> None:
        """Let one of some values be chosen for a setting. said: what the edit is called for each."""
        current = getattr(self.settings(step), setting)
        self.pane.open_list(
            Chooser(choices, self.pane, current=current),
            anchor,
            chosen=lambda value: self.change(step, said(value), **{setting: value}),
        )


class RailSentence(SentencePart):
    """The sentence of one kind of step on a rail; each kind says how it begins."""

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        """The whole sentence."""
        if outcome is None or len(outcome.inputs) != 1:
            return [Word(f"{step.name}: reading its table.")]
        items = list(self.clauses(step, KINDS.settings(step), outcome.inputs[0]))
        if outcome.error is not None:
            return [*items, Word(str(outcome.error), alarm=True)]
        if outcome.result is None or outcome.step != step or not outcome.tables:
            return [*items, Word("Working it out.")]
        return [*items, Word(self.came_out(outcome))]

    def clauses(self, step: Step, settings: Any, shape: InputShape) -> Sequence[Item]:
        """What the step does, with its chips."""
        raise NotImplementedError

    def came_out(self, outcome: Outcome) -> str:
        """How many of the rows are left."""
        assert outcome.result is not None
        before, after = outcome.tables[0].rows, outcome.result.rows.rows
        return f"{after:,} of {before:,} rows stay." if before != after else f"All {before:,} rows stay."
