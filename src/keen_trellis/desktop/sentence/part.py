"""What the sentences of all kinds of step share: edits of settings, repairs, words for what came out."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import TrellisError
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.instead import Instead
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import ROWS, Input, Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps import KINDS
from keen_trellis.session import editing
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session


class SentencePart:
    """Builds the sentence of some kind of step, and carries out what its chips choose."""

    def __init__(self, session: Session, pane: SentenceHost) -> None:
        self.session = session
        self.pane = pane

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        """The whole sentence."""
        raise NotImplementedError

    def error_items(self, step: Step, error: TrellisError) -> list[Item]:
        """The sentence of a step whose inputs cannot be known, and what can be done about it."""
        said = Word(f"{step.name}: {error.what} {error.remedy}".strip(), alarm=True)
        return [said, *self._lost_rows(step)]

    def begin(self, step: Step, shape: InputShape) -> None:
        """Ask what a step that was just put there wants to know first."""

    def begin_about(self, step: Step, shape: InputShape, name: str) -> None:
        """As `begin`, where the step was put there for the field `name`."""
        del name
        self.begin(step, shape)

    def ask_question(
        self, step: Step, *, title: str = "", instead: Sequence[Instead] = (), anchor: QWidget | None = None
    ) -> None:
        """Ask which question a step answers, where it answers several.

        instead: for a step that was just made: what could be made in its place.
        """

    def ask_why(self, step: Step) -> None:
        """Ask why what was accepted last is accepted."""

    def choose_field(self, step: Step, name: str) -> None:
        """Open what can be changed of a field of a step's rows."""

    def use_file(self, step: Step, path: Path) -> None:
        """Read or write another file."""

    def settle_row(self, step: Step, what: str, row: int) -> None:
        """Let a raw row of a step be its header, or the first or last one of data."""

    def _lost_rows(self, step: Step) -> list[Item]:
        """What can be done about a step whose rows are gone: lead others to it, or remove it."""
        flow = self.session.flow
        lost = [place for place, entry in enumerate(step.inputs) if flow.find(entry.step) is None]
        if not lost:
            return []

        def choose(anchor: QWidget) -> None:
            behind = flow.downstream({step.id})
            choices = [
                Choice(Input(other.id), other.name, other.kind)
                for other in flow.steps
                if other.id not in behind and not KINDS.ends_rail(other)
            ]
            chooser = Chooser(choices, self.pane, title=f"Which rows does {step.name} take?")
            self.pane.open_list(
                chooser, anchor, chosen=lambda rows: editing.reconnect(self.session, step.id, lost[0], rows)
            )

        def remove(_: QWidget) -> None:
            editing.remove_selected(self.session)

        return [
            Chip("lead other rows to it", choose, "Rows", doing=True),
            Chip("remove it", remove, "Remove", doing=True),
        ]

    def settings(self, step: Step) -> Any:
        """The settings that the step has now."""
        return KINDS.settings(self.session.flow.step(step.id))

    def taking_back(self) -> Callable[[], None]:
        """What takes the last edit back where the question that it asks is dismissed."""
        return partial(self.session.drop_edit, self.session.flow)

    def change(self, step: Step, name: str, **changes: Any) -> None:
        """Give the step other settings; `name` says what was done."""
        self.session.change_settings(step.id, lambda now: msgspec.structs.replace(now, **changes), name)

    def offer(
        self, step: Step, anchor: QWidget, setting: str, choices: Sequence[Choice], said: Callable[[Any], str]
    ) -> None:
        """Let one of some values be chosen for a setting. said: what the edit is called for each."""
        current = getattr(self.settings(step), setting)
        self.choose(
            anchor,
            choices,
            lambda value: self.change(step, said(value), **{setting: value}),
            current=current,
        )

    def choose(
        self,
        anchor: QWidget,
        choices: Sequence[Choice],
        chosen: Callable[[Any], None],
        *,
        current: Any = None,
        title: str = "",
    ) -> None:
        """Let one of some things be chosen from a list under a chip."""
        self.pane.open_list(Chooser(choices, self.pane, current=current, title=title), anchor, chosen=chosen)

    def ask(
        self,
        anchor: QWidget,
        title: str,
        text: str,
        entered: Callable[[str], None],
        *,
        check: Callable[[str], object] | None = None,
        several_lines: bool = False,
    ) -> None:
        """Let something be typed under a chip."""
        entry = Entry(title, text, self.pane, check=check, several_lines=several_lines)
        entry.entered.connect(entered)
        entry.open_under(anchor)


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


class ReadAloud(SentencePart):
    """The sentence of a kind that cannot be changed here: what the step does, and what came out."""

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        if outcome is None or len(outcome.inputs) != len(step.inputs):
            return [Word(f"{step.name}: reading its tables.")]
        items: list[Item] = [Word(KINDS.of(step).sentence(KINDS.settings(step), outcome.inputs))]
        if outcome.error is not None:
            items.append(Word(str(outcome.error), alarm=True))
        elif outcome.figures is not None:
            items.append(Word(f"{outcome.figures.rows[ROWS]:,} rows, {len(outcome.figures.fields)} fields."))
        return items
