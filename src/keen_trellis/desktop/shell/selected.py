"""The commands about what is selected: steps put behind it, its sentence, its name, the clipboard."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import (
    QInputDialog,
)

from keen_trellis.core.errors import TrellisError, UsageError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.dialogs import ask_to_open, ask_to_save
from keen_trellis.desktop.kinds.view import RailCommand
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.desktop.shell.writing import OUTPUT_FILTERS
from keen_trellis.flow.graph import Step
from keen_trellis.flow.steps import KINDS
from keen_trellis.session import editing
from keen_trellis.session.selection import Selection


class SelectedCommands(QObject):
    """What the window does to what is selected."""

    def __init__(self, frame: Frame) -> None:
        super().__init__(frame)
        self._frame = frame
        sentence, bench = frame.sentence, frame.bench
        frame.trellis.opened.connect(self.open)
        frame.trellis.part_clicked.connect(lambda step, part: editing.toggle_part(frame.session, step, part))
        frame.trellis.move_wanted.connect(
            lambda step, other, after: editing.move_beside(frame.session, step, other, after=after)
        )
        sentence.path_wanted.connect(self.choose_path)
        sentence.raw_wanted.connect(bench.show_raw)
        sentence.typing_wanted.connect(bench.typing.show)
        sentence.types_wanted.connect(bench.types.show_or_close)
        sentence.some_rows_wanted.connect(bench.show_some_rows)
        bench.mends.accepted.connect(lambda step: self._part(step).ask_why(self._step(step)))
        bench.fields.field_wanted.connect(
            lambda step, name: self._part(step).choose_field(self._step(step), name)
        )
        bench.raw.settled.connect(self.settle_row)

    def _step(self, step_id: str) -> Step:
        return self._frame.session.flow.step(step_id)

    def _part(self, step_id: str) -> SentencePart:
        return self._frame.sentence.part_of(self._step(step_id))

    def settle_row(self, what: str, row: int) -> None:
        selected = self._frame.session.selection.step
        self._part(selected).settle_row(self._step(selected), what, row)

    def begin_step(self, kind: str, command: RailCommand, about: str = "") -> None:
        """Put a step of a kind after what is selected, perhaps for one field, and ask what it wants to know
        first.
        """
        step = editing.insert(self._frame.session, kind, command.begins, command.said)
        if step:
            self._frame.sentence.begin(step, about)

    def retype(self, field: Field) -> None:
        """Ask as which type a field is read from here on; of a source, with what each would lose."""
        session = self._frame.session
        step = session.flow.find(session.selection.step)
        if step is not None and KINDS.begins_rail(step):
            self._part(step.id).choose_field(step, field.name)
            return
        choices = [
            Choice(kind.value, kind.value, "as it is" if kind is field.type else "") for kind in FieldType
        ]
        chooser = Chooser(
            choices, self._frame, title=f"What is {field.name} to be?", current=field.type.value
        )
        chooser.chosen.connect(
            lambda kind: editing.set_field(
                session, self._names(), field.name, f"Make {field.name} {kind}", type=kind
            )
        )
        chooser.open_under(self._frame.sentence.view)

    def rename_field(self, field: Field) -> None:
        """Ask what the current field is called from here on."""
        session, names = self._frame.session, self._names()

        def check(text: str) -> None:
            if not text.strip() or (text.strip() in names and text.strip() != field.name):
                raise UsageError("Another field has this name, or it is empty.", remedy="Type another one.")

        entry = Entry(f"What is {field.name} called from here on?", field.name, self._frame, check=check)
        entry.entered.connect(
            lambda text: editing.set_field(
                session, names, field.name, f"Rename {field.name}", name=text.strip()
            )
        )
        entry.open_under(self._frame.sentence.view)

    def _names(self) -> tuple[str, ...]:
        """The fields of the selected rows, in their order."""
        outcome, port = self._frame.session.selected_outcome(), self._frame.session.selection.port
        ports = outcome.result.ports if outcome is not None and outcome.result is not None else {}
        return ports[port].names if port in ports else ()

    def type_setter(self, kind: JoinType) -> Callable[[], None]:
        """What asks the selected knot for a join of this type."""

        def set_type() -> None:
            knot = editing.selected_knot(self._frame.session)
            if knot is None:
                self._frame.session.said.emit("Select a knot first: the keys 1 to 9 ask it another question.")
            else:
                editing.change_join_type(self._frame.session, knot.id, kind)

        return set_type

    def open(self, selection: Selection) -> None:
        """Enter on a stump begins a rail; on a file it lists its unused tables, or folds them away.

        On anything else it leads to its sentence.
        """
        if selection.is_stump and selection.table:
            self._frame.session.select(selection)
            self.begin_rail()
        elif selection.is_stump and self._frame.session.margin.unused(selection.path):
            self._frame.session.margin.list_or_fold(selection.path)
        elif selection.value:
            self._frame.session.select(selection)
            self._frame.sentence.run_value.choose_value(selection.value, self._frame.sentence.view)
        else:
            self._frame.sentence.view.setFocus()

    def begin_rail(self) -> None:
        """Begin a rail at the selected stump."""
        try:
            editing.begin_rail(self._frame.session, self._frame.session.selection)
        except TrellisError as error:
            self._frame.fail(error)

    def ask_question(self) -> None:
        """Open the list of questions of the selected knot."""
        knot = editing.selected_knot(self._frame.session)
        if knot is not None:
            self._frame.sentence.part_of(knot).ask_question(knot)

    def swap(self) -> None:
        """Let the sides of the selected knot change places."""
        knot = editing.selected_knot(self._frame.session)
        if knot is not None:
            editing.swap_sides(self._frame.session, knot.id)

    def note(self) -> None:
        """Ask for a note on the selected step."""
        step = self._frame.session.flow.find(self._frame.session.selection.step)
        if step is None:
            self._frame.session.said.emit("Select a step first: the note is on it.")
        else:
            self._frame.sentence.ask_note(step)

    def rename(self) -> None:
        """Ask for another name of the selected step or run value."""
        value = self._frame.session.selection.value
        if value:
            self._frame.sentence.run_value.ask_name(value, self._frame.sentence.view)
            return
        step = self._frame.session.flow.step(self._frame.session.selection.step)
        dialog = QInputDialog(self._frame)
        dialog.setWindowTitle("Rename")
        dialog.setLabelText(f"Another name for {step.name}:")
        dialog.setTextValue(step.name)

        def renamed(name: str) -> None:
            try:
                editing.rename_selected(self._frame.session, name)
            except TrellisError as error:
                self._frame.fail(error)

        dialog.textValueSelected.connect(renamed)
        dialog.open()

    def choose_path(self, step_id: str) -> None:
        """Choose another file for a source or an output."""
        step = self._frame.session.flow.step(step_id)
        settings = KINDS.settings(step)

        def chosen(path: Path) -> None:
            try:
                self._part(step_id).use_file(self._step(step_id), path.absolute())
            except TrellisError as error:
                self._frame.fail(error)

        title, now = f"Choose the file of {step.name}", Path(settings.path)
        if KINDS.ends_rail(step):
            ask_to_save(self._frame, title, now, OUTPUT_FILTERS, chosen, asks=False)
        else:
            folder = now.parent if now.parent.exists() else self._frame.session.place
            ask_to_open(self._frame, title, folder, ["All files (*)"], lambda paths: chosen(paths[0]))

    def copy(self) -> None:
        """Copy the selected steps where the trellis has the keyboard, otherwise rows of the bench."""
        if not self._frame.trellis.hasFocus():
            self._frame.status.say(self._frame.bench.grid.copy())
            return
        text = editing.copied_selected(self._frame.session)
        if text:
            QGuiApplication.clipboard().setText(text)
            count = len(self._frame.session.chosen_steps)
            self._frame.status.say(f"{'1 step is' if count == 1 else f'{count} steps are'} on the clipboard.")

    def choose_all(self) -> None:
        """Choose all rows where the bench has the keyboard, otherwise all steps."""
        if not self._frame.bench.grid.hasFocus():
            self._frame.session.choose_all()
        elif lines := self._frame.bench.grid.choose_all():
            self._frame.status.say(
                f"{lines:,} {'line is' if lines == 1 else 'lines are'} chosen: Ctrl+C copies the rows."
            )

    def cut(self) -> None:
        """Copy the selected steps and take them out."""
        if self._frame.trellis.hasFocus() and self._frame.session.chosen_steps:
            self.copy()
            editing.remove_selected(self._frame.session)
        else:
            self._frame.status.say("Only steps in the trellis can be cut: sources are never changed.")

    def paste(self) -> None:
        """Put the steps on the clipboard behind what is selected."""
        editing.paste(self._frame.session, QGuiApplication.clipboard().text())
