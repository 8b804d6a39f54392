"""What all parts of a session share: the flow with its history, what is selected, and who is told of what."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any

import msgspec

from keen_trellis.core.errors import TrellisError
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.history import History
from keen_trellis.flow.runner import Kept, Runner
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.source import sources_of
from keen_trellis.session.jobs import Jobs
from keen_trellis.session.notice import Notice
from keen_trellis.session.selection import Selection
from keen_trellis.sources.library import Library

# The flow after an edit, with the id of the step that is to be selected then, if there is a new one.
Edit = Callable[[Flow], Flow | tuple[Flow, str]]


class State:
    """The flow of this moment. Every change goes through `apply`.

    changed: another flow value.  selected: the selection moved.  lit_up: another way is lit.
    outcomes_changed: something became known or is no longer known of these steps and files; told once a turn.
    said: something to tell the user in the status line.  failed: an error to tell the user.
    """

    def __init__(self, jobs: Jobs, library: Library, kept: Kept | None = None) -> None:
        self.jobs = jobs
        self.library = library
        self.runner = Runner(KINDS, library, kept)
        self.runner.kept.beside = lambda: library.held
        self.history = History(Flow())
        self.selection = Selection()
        self.chosen: tuple[str, ...] = ()  # two or more steps that are selected together
        self.lit: Mapping[str, str] = {}  # the steps of a way that is followed, each with what is said there
        self.changed: Notice[[]] = Notice()
        self.selected: Notice[[]] = Notice()
        self.lit_up: Notice[[]] = Notice()
        self.outcomes_changed: Notice[frozenset[str]] = Notice()
        self.said: Notice[str] = Notice()
        self.failed: Notice[TrellisError] = Notice()
        self._to_tell: set[str] = set()

    @property
    def flow(self) -> Flow:
        return self.history.flow

    def sources(self) -> dict[str, SourceSettings]:
        """The settings of all source steps by id; those that cannot be read are left out."""
        return sources_of(self.flow, KINDS)

    # --- edits ---

    def apply(self, name: str, edit: Edit, select: Selection | None = None) -> bool:
        """Make an edit of the flow as it is now; whether it changed. `name` is what undo calls it.

        Where the edit cannot be made nothing changes, and its error is told. What was worked out meanwhile
        on a thread is such an edit too: it must not hold on to the flow that it began with.
        """
        try:
            made = edit(self.flow)
        except TrellisError as error:
            self.failed.emit(error)
            return False
        flow, new = made if isinstance(made, tuple) else (made, "")
        if flow == self.flow:
            return False
        self.history.push(flow, name)
        if new and select is None:
            select = Selection(new)
        if select is not None:
            self.selection = select
        self._flow_changed()
        if select is not None:
            self.selected.emit()
        return True

    def change_settings(
        self, step_id: str, settings: msgspec.Struct | Callable[[Any], msgspec.Struct], name: str
    ) -> bool:
        """Give a step other settings, or those that a function makes of the ones that it has by then."""

        def edit(flow: Flow) -> Flow:
            made = settings
            if not isinstance(made, msgspec.Struct):
                made = made(KINDS.settings(flow.step(step_id)))
            return edits.change_settings(flow, step_id, made)

        return self.apply(name, edit)

    def carry(self, change: Callable[[Flow], Flow]) -> None:
        """Change the flow, and what it was before, in what no edit is about: what its files say now."""
        self.history.carry(change)
        self._flow_changed()

    def undo(self) -> None:
        """Take the last edit back."""
        if self.history.undo_name:
            self.said.emit(f"Undone: {self.history.undo()}")
            self._flow_changed()

    def redo(self) -> None:
        """Make the edit again that was taken back last."""
        if self.history.redo_name:
            self.said.emit(f"Done again: {self.history.redo()}")
            self._flow_changed()

    def drop_edit(self, made: Flow) -> None:
        """Take the edit that made a flow back, as if it had not been made, unless others followed it."""
        if self.flow is made:
            self.history.drop_last()
            self._flow_changed()

    def light(self, lit: Mapping[str, str]) -> None:
        """Let the trellis light the steps of a way, or none."""
        if lit != self.lit:
            self.lit = lit
            self.lit_up.emit()

    def _flow_changed(self) -> None:
        """The flow is another one."""
        self.light({})
        self.chosen = tuple(entry for entry in self.chosen if self.flow.find(entry) is not None)
        gone = self.selection.slat and self.flow.shared_filter(self.selection.slat) is None
        named = {value.name for value in self.flow.values}
        gone = gone or (self.selection.value and self.selection.value not in named)
        if gone or (self.selection.step and self.flow.find(self.selection.step) is None):
            self.selection = Selection()
            self.selected.emit()

    # --- telling ---

    def tell(self, concerned: Iterable[str]) -> None:
        """Tell with the next turn that something became known of these steps, or of files by their paths."""
        if not self._to_tell:
            self.jobs.turns.soon(self._tell_now)
        self._to_tell.update(concerned)

    def _tell_now(self) -> None:
        concerned, self._to_tell = frozenset(self._to_tell), set()
        self.outcomes_changed.emit(concerned)

    def is_about_selected(self, concerned: frozenset[str]) -> bool:
        """Whether what is told of these steps and files bears on what is selected."""
        selection = self.selection
        if selection.slat:
            return True  # a shared filter stands on many rails
        return selection.path in concerned or not concerned.isdisjoint(self.flow.upstream(selection.step))

    # --- the selection ---

    def select(self, selection: Selection) -> None:
        """Move the selection, and with it give up what is selected besides."""
        if selection == self.selection:
            self.choose_only()
            return
        self.chosen = ()
        self.selection = selection
        self.selected.emit()

    def choose_too(self, step_id: str) -> None:
        """Select a step besides those that are selected, or no longer."""
        chosen = self.chosen or ((self.selection.step,) if self.selection.step else ())
        if step_id in chosen:
            chosen = tuple(entry for entry in chosen if entry != step_id)
        else:
            chosen = (*chosen, step_id)
        self.selection = Selection(chosen[-1]) if chosen else Selection()
        self.chosen = chosen if len(chosen) > 1 else ()
        self.selected.emit()

    def choose_on(self, selection: Selection) -> None:
        """Move the selection on; the steps that it passes stay selected."""
        if not selection.step:
            self.select(selection)
        elif selection.step in self.chosen:
            self.selection = selection
            self.selected.emit()
        else:
            self.choose_too(selection.step)

    def choose_all(self) -> None:
        """Select all steps together."""
        self.chosen = tuple(step.id for step in self.flow.steps)
        if self.chosen:
            self.selection = Selection(self.chosen[-1])
        self.selected.emit()

    def choose_only(self) -> None:
        """Let only one thing be selected."""
        if self.chosen:
            self.chosen = ()
            self.selected.emit()

    @property
    def chosen_steps(self) -> tuple[str, ...]:
        """The steps that a command is about: all that are selected, in the order of the flow."""
        chosen = self.chosen or (self.selection.step,)
        return tuple(step.id for step in self.flow.steps if step.id in chosen)
