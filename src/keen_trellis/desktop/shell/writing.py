"""Writes the outputs of the open flow: what is asked before, and what is said afterwards."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, QPoint, Qt
from PySide6.QtWidgets import QMessageBox

from keen_trellis.core.errors import OutputError, TrellisError
from keen_trellis.core.task import Task
from keen_trellis.databases.engines import PasswordNeeded
from keen_trellis.desktop.dialogs import ask_to_save, file_name
from keen_trellis.desktop.plain import PlainBox
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.desktop.shell.reaching import Reaching
from keen_trellis.desktop.shell.run_values import RunValues
from keen_trellis.flow import edits
from keen_trellis.flow.addresses import shown_place
from keen_trellis.flow.guarding import Checked, checked_before
from keen_trellis.flow.runs import WRITTEN
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.output import TARGETS, OutputSettings
from keen_trellis.flow.wording import listed
from keen_trellis.outputs import Written, writer_of
from keen_trellis.outputs.targets import read_target, settings_for
from keen_trellis.session import editing
from keen_trellis.session.running import never_written, output_targets, write_outputs

OUTPUT_FILTERS = [
    f"{said[:1].upper()}{said[1:]} ({' '.join(f'*{ending}' for ending in target.endings)})"
    for target in TARGETS.values()
    for said in [target.said.removeprefix("a ").removeprefix("an ")]
]
_NOT_WRITTEN = "Nothing was written"
_WIDTH = 560  # pixels


class Writing(QObject):
    """The commands of the window that write files. As `run`, they hold back what is behind a broken guard."""

    def __init__(self, frame: Frame, reaching: Reaching, run_values: RunValues) -> None:
        super().__init__(frame)
        self._reaching, self._run_values = reaching, run_values
        frame.sentence.write_wanted.connect(self.write_output)
        frame.sentence.output_wanted.connect(self.add_output)
        self._frame = frame
        self._session = frame.session

    def add_output(self) -> None:
        """Ask for a file, lead the selected rows to it and write it."""

        def chosen(path: Path) -> None:
            try:
                self._add(settings_for(path))
            except TrellisError as error:
                self._frame.warn(_NOT_WRITTEN, error)

        session = self._session
        rail = edits.rail_name(session.flow, session.selection.step)
        place = session.place / f"{file_name(rail)}.xlsx"
        ask_to_save(self._frame, "Write these rows to a file", place, OUTPUT_FILTERS, chosen, asks=False)

    def add_table(self) -> None:
        """Ask for the table of a database, and lead the selected rows to it; writing it waits for a word."""
        entry = Entry(
            "Table of a database, as postgresql://user@host/database#schema.table, or sqlite:/file.db#table",
            "",
            self._frame,
            check=read_target,
        )
        entry.entered.connect(lambda text: editing.add_output(self._session, read_target(text)))
        entry.open_under(self._frame.sentence.view, at=QPoint(240, 4))

    def _add(self, settings: OutputSettings) -> None:
        if settings.target.names_table:
            name = edits.rail_name(self._session.flow, self._session.selection.step)
            settings = msgspec.structs.replace(settings, table=name)
        editing.add_output(self._session, settings)
        self.write_output(self._session.selection.step)

    def write_all(self) -> None:
        """Write every output of the flow, in its order; what is replaced is asked once for all."""
        steps = self._session.flow.in_order()
        ends = [step.id for step in steps if KINDS.ends_rail(step) and not step.skipped]
        self._run_values.agree(lambda: self._write(ends))

    def write_output(self, step_id: str) -> None:
        """Write one output. What is there is replaced, and what is behind a broken guard written, only after
        asking.
        """
        self._write([step_id])

    def _write(self, steps: Sequence[str]) -> None:
        """Look at where outputs go, ask if something is there that goes, and write them together."""
        if not steps or not self._targets_differ():
            return
        flow = self._session.flow
        targets = {step: KINDS.settled(flow, flow.step(step)) for step in steps}
        if not all(self._reaching.may_write(settings) for settings in targets.values()):
            return
        read = never_written(self._session.flow, KINDS, self._session.library, self._session.path)

        def look(task: Task) -> dict[str, str]:
            """What happens to what is there, by the outputs that something is there for."""
            found: dict[str, str] = {}
            for step, settings in targets.items():
                task.checkpoint(len(found), len(targets), "looking where it is written")
                if _may_be_replaced(settings, read):
                    found[step] = writer_of(settings).goes_with(settings)
            return found

        def looked(there: dict[str, str]) -> None:
            if there:
                self._ask_replace(targets, there)
            else:
                self._put(targets, replace=False)

        self._frame.jobs.start("looking where it is written", look, looked, self._failed)

    def _put(
        self, targets: Mapping[str, OutputSettings], *, replace: bool, despite_guards: bool = False
    ) -> None:
        """Write outputs together, and say what came of it."""
        session = self._session
        flow, began = session.flow, time.monotonic()
        read = never_written(flow, KINDS, session.library, session.path)

        def work(task: Task) -> tuple[list[Written], list[str], list[Checked]]:
            """What was written, the steps that were held back, and the guards that do not hold."""
            checks: dict[tuple[str, str], Checked] = {}
            for step in targets if not despite_guards else ():
                found = checked_before(session.runner, flow, step, task)
                checks |= {(entry.step, entry.statement): entry for entry in found}
            written, held = write_outputs(
                session.runner, flow, targets, [*checks.values()], sources=read, replace=replace, task=task
            )
            return written, held, [entry for entry in checks.values() if not entry.holds]

        def done(told: tuple[list[Written], list[str], list[Checked]]) -> None:
            written, held, broken = told
            if written:
                self._frame.status.say(_said(written))
                done_with = [step for step in targets if step not in held]
                session.noting.note(WRITTEN, since=began, written=done_with, held_back=held)
            if held:
                self._ask_despite({step: targets[step] for step in held}, broken, replace=replace)

        names = [settings.file_name for settings in targets.values()]
        self._frame.jobs.start(f"writing {listed(names, 2)}", work, done, self._failed)

    def _failed(self, error: TrellisError) -> None:
        if isinstance(error, PasswordNeeded):
            self._frame.status.say(
                "Nothing was written: write once more when the password is given.", alarm=True
            )
            self._frame.sentence.password_wanted.emit(error.address)
        else:
            self._frame.warn(_NOT_WRITTEN, error)

    def _targets_differ(self) -> bool:
        """Whether no two outputs write to one place; if they do, that is said."""
        try:
            output_targets(self._session.flow, KINDS, None)
        except TrellisError as error:
            self._frame.warn(_NOT_WRITTEN, error)
            return False
        return True

    def _ask_replace(self, targets: Mapping[str, OutputSettings], there: Mapping[str, str]) -> None:
        one = len(there) == 1
        first = targets[next(iter(there))]
        said = (
            f"{first.file_name} exists already." if one else f"{len(there):,} of the targets exist already."
        )
        title = "Replace what is there?"
        box = PlainBox(QMessageBox.Icon.Question, title, said, parent=self._frame)
        lines = [
            f"{shown_place(targets[step].path)}{':' if goes else '.'}{goes}" for step, goes in there.items()
        ]
        box.setInformativeText("\n".join([*lines, "What is written over cannot be brought back."]))
        replace = box.addButton("Replace" if one else "Replace all", QMessageBox.ButtonRole.AcceptRole)
        new = None
        if len(there) < len(targets):
            new = box.addButton("Write only the new ones", QMessageBox.ButtonRole.ActionRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.set_text_width(_WIDTH)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        replace.clicked.connect(lambda: self._put(targets, replace=True))
        if new is not None:
            left = {step: settings for step, settings in targets.items() if step not in there}
            new.clicked.connect(lambda: self._put(left, replace=False))
        box.open()

    def _ask_despite(
        self, held: Mapping[str, OutputSettings], broken: Sequence[Checked], *, replace: bool
    ) -> None:
        names = listed([settings.file_name for settings in held.values()], 3)
        was = "was" if len(held) == 1 else "were"
        box = PlainBox(
            QMessageBox.Icon.Warning,
            "A guard is broken",
            f"{names} {was} not written: a guard before it is broken.",
            parent=self._frame,
        )
        said = [f"{entry.name}: {entry.statement}: {entry.verdict.said}" for entry in broken]
        box.setInformativeText("\n".join(said))
        write_it = box.addButton("Write it all the same", QMessageBox.ButtonRole.DestructiveRole)
        box.setDefaultButton(box.addButton(QMessageBox.StandardButton.Cancel))
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        write_it.clicked.connect(lambda: self._put(held, replace=replace, despite_guards=True))
        box.open()


def _said(written: Sequence[Written]) -> str:
    """What was written, in a line."""
    changed = [line for entry in written for line in entry.changed]
    more = f" {listed(changed, 2)}." if changed else ""
    if len(written) == 1:
        entry = written[0]
        return f"Wrote {entry.rows:,} rows of {entry.fields} fields to {entry.place}.{more}"
    rows = sum(entry.rows for entry in written)
    places = listed([Path(entry.path).name for entry in written], 3)
    return f"Wrote {len(written)} outputs, {rows:,} rows in all: {places}.{more}"


def _may_be_replaced(settings: OutputSettings, read: Sequence[str | Path]) -> bool:
    """Whether something is there that writing would replace, so that it is asked first; `read` must stay."""
    with suppress(OutputError):  # a writer of a later version is refused when it is written
        return writer_of(settings).would_replace(settings, read)
    return False
