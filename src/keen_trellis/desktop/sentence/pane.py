"""Builds the sentence of what is selected, and carries out what its chips choose."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PySide6.QtWidgets import QVBoxLayout, QWidget

from keen_trellis.core.errors import TrellisError, UnknownFieldError
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.part import ReadAloud, SentencePart
from keen_trellis.desktop.sentence.run_value import RunValueSentence
from keen_trellis.desktop.sentence.slat import SlatSentence
from keen_trellis.desktop.sentence.stump import StumpSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.source import sampled
from keen_trellis.flow.wording import listed
from keen_trellis.session import editing
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.run_values import value_named
from keen_trellis.session.session import Session


class SentencePane(SentenceHost):
    """Follows the session's selection; the sentences of the kinds of step are handed in.

    kinds: by the name of a kind, what builds its sentence.
    """

    def __init__(
        self, session: Session, kinds: Mapping[str, type[SentencePart]], parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self._session = session
        self.slat = SlatSentence(session, self)
        self.run_value = RunValueSentence(session, self)
        self._stump = StumpSentence(session, self)
        self._read_aloud = ReadAloud(session, self)
        self._of_kinds = {name: kind(session, self) for name, kind in kinds.items()}
        self._to_begin = self._about = ""
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.view)
        self.setFocusProxy(self.view)
        self.tie_wanted.connect(self.slat.choose_tie)
        self.failed.connect(session.failed.emit)
        session.changed.connect(self.refresh)
        session.outcomes_changed.connect(self._outcomes_changed)
        session.selected.connect(self.refresh)
        self.refresh()

    def part_of(self, step: Step) -> SentencePart:
        """What builds the sentence of a step, and asks what belongs to it."""
        return self._of_kinds.get(step.kind, self._read_aloud)

    def _outcomes_changed(self, concerned: frozenset[str]) -> None:
        if self._session.is_about_selected(concerned):
            self.refresh()

    def refresh(self) -> None:
        """Read aloud what is selected."""
        try:
            items = self._items()
        except TrellisError as error:
            items = [Word(str(error), alarm=True)]
        self.view.show_items(items)
        self._begin()

    def begin(self, step_id: str, about: str = "") -> None:
        """Ask what a step that was just put there wants to know first, as soon as its table is known.

        about: the field that it was put there for.
        """
        self._to_begin, self._about = step_id, about
        self._begin()

    def _begin(self) -> None:
        if not self._to_begin:
            return
        step, outcome = self._session.flow.find(self._to_begin), self._session.outcome(self._to_begin)
        if step is None or self._session.selection.step != step.id:
            self._to_begin = ""
        elif outcome is not None and outcome.step == step and outcome.inputs and outcome.tables:
            self._to_begin = ""
            part, shape = self.part_of(step), outcome.inputs[0]
            if any(field.name == self._about for field in shape.fields):
                part.begin_about(step, shape, self._about)
            else:
                part.begin(step, shape)

    def ask_note(self, step: Step) -> None:
        """Ask for the user's words about a step."""
        title = f"A note on {step.name}, for whoever reads this next; empty: none"
        entry = Entry(title, step.note, self, several_lines=True)
        entry.entered.connect(lambda text: editing.annotate_selected(self._session, text))
        entry.open_under(self.view)

    def _note_items(self, step: Step) -> list[Item]:
        if not step.note:
            return []
        words = " ".join(step.note.split())
        return [Chip(f"note: {words}", lambda _: self.ask_note(step), "Note")]

    def _items(self) -> Sequence[Item]:
        step = self._session.flow.find(self._session.selection.step)
        if step is None or self._session.selection.is_stump:
            return self._own_items()
        if step.skipped:
            again = Chip("use it again", lambda _: editing.skip_selected(self._session), "Again", doing=True)
            said = Word(f"{step.name} is skipped for now; its rows pass through.", alarm=True)
            return [said, again, *self._note_items(step)]
        on_sample = [] if KINDS.begins_rail(step) else self._sample_items(step)
        return [*on_sample, *self._own_items(), *self._field_repairs(step), *self._note_items(step)]

    def _sample_items(self, step: Step) -> list[Item]:
        """That what is counted is a part of the whole, since a source before the step is a sample."""
        flow, before = self._session.flow, self._session.flow.upstream(step.id)
        names = [flow.step(name).name for name in sampled(self._session.sources()) if name in before]
        return [Word(f"Of a sample of {listed(names)}:", alarm=True)] if names else []

    def _field_repairs(self, step: Step) -> list[Item]:
        """What can be done about a field that is gone: use one that is called alike, or choose another."""
        outcome = self._session.outcome(step.id)
        error = outcome.error if outcome is not None and outcome.step == step else None
        if outcome is None or not isinstance(error, UnknownFieldError) or error.where not in ("", step.name):
            return []

        def use(name: str) -> None:
            editing.use_field_instead(self._session, step.id, error.name, name)

        def choose(anchor: QWidget) -> None:
            names = dict.fromkeys(field.name for shape in outcome.inputs for field in shape.fields)
            choices = [Choice(name, name) for name in names]
            chooser = Chooser(choices, self, title=f"In place of {error.name}")
            self.open_list(chooser, anchor, chosen=use)

        near = error.near[:1]
        chips = [Chip(f"use {name}", lambda _: use(near[0]), "Use", doing=True) for name in near]
        return [*chips, Chip("use another field …", choose, "Another field", doing=True)]

    def _own_items(self) -> Sequence[Item]:
        selection = self._session.selection
        if selection.is_stump:
            return self._stump.items(selection)
        shared = self._session.flow.shared_filter(selection.slat)
        if shared is not None:
            return self.slat.shown(shared)
        value = value_named(self._session.flow, selection.value)
        if value is not None:
            return self.run_value.shown(value)
        step = self._session.flow.find(selection.step)
        if step is None:
            if not self._session.margin.paths():
                return [Word("Open files with Ctrl+O, or drop them on the window. Ctrl+K finds any command.")]
            return [Word("Nothing is selected. Arrow keys walk the trellis; Ctrl+K finds any command.")]
        return self._step_items(step, self._session.outcome(step.id))

    def _step_items(self, step: Step, outcome: Outcome | None) -> Sequence[Item]:
        if KINDS.find(step.kind) is None:
            return [Word(str(outcome.error if outcome else step.kind), alarm=True)]
        part = self.part_of(step)
        if outcome is not None and outcome.error is not None and not outcome.inputs:
            return part.error_items(step, outcome.error)
        return part.items(step, outcome)
