"""Writes the outputs of the open flow: what is asked before, and what is said afterwards."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path

from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QFileDialog, QMessageBox

from keen_trellis.core.errors import OutputError, TrellisError
from keen_trellis.core.task import Task
from keen_trellis.desktop.plain import PlainBox
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.desktop.shell.reaching import Reaching
from keen_trellis.flow.graph import Step
from keen_trellis.flow.guarding import Checked, checked_before
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.output import TARGETS, OutputSettings
from keen_trellis.flow.wording import listed
from keen_trellis.outputs import Written, writer_of
from keen_trellis.outputs.targets import settings_for
from keen_trellis.session import editing
from keen_trellis.session.running import files_read, output_targets, write_outputs

OUTPUT_FILTERS = [
    f"{said[:1].upper()}{said[1:]} ({' '.join(f'*{ending}' for ending in target.endings)})"
    for target in TARGETS.values()
    for said in [target.said.removeprefix("a ").removeprefix("an ")]
]
_NOT_WRITTEN = "Nothing was written"


class Writing(QObject):
    """The commands of the window that write files. As `run`, they hold back what is behind a broken guard."""

    def __init__(self, frame: Frame, reaching: Reaching) -> None:
        super().__init__(frame)
        self._reaching = reaching
        frame.sentence.write_wanted.connect(self.write_output)
        frame.sentence.output_wanted.connect(self.add_output)
        self._frame = frame
        self._session = frame.session

    def add_output(self) -> None:
        """Ask for a file, lead the selected rows to it and write it."""
        dialog = QFileDialog(self._frame, "Write these rows to a file")
        dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
        dialog.setOption(QFileDialog.Option.DontConfirmOverwrite)
        dialog.setNameFilters(OUTPUT_FILTERS)
        dialog.setDefaultSuffix("xlsx")

        def chosen(name: str) -> None:
            try:
                editing.add_output(self._session, settings_for(Path(name)))
            except TrellisError as error:
                self._frame.warn(_NOT_WRITTEN, error)
                return
            self.write_output(self._session.selection.step)

        dialog.fileSelected.connect(chosen)
        dialog.open()

    def write_all(self) -> None:
        """Write every output of the flow; whether files that exist are replaced is asked once for all."""
        flow = self._session.flow
        outputs = [step for step in flow.in_order() if KINDS.ends_rail(step) and not step.skipped]
        read = self._files_read()
        there = [
            settings
            for settings in (KINDS.settings(step) for step in outputs)
            if _may_be_replaced(settings, read)
        ]
        if not there or not self._targets_differ():
            self._write_each(outputs, replace=False)
            return
        one = len(there) == 1
        said = (
            f"{there[0].file_name} exists already." if one else f"{len(there):,} of the files exist already."
        )
        box = PlainBox(QMessageBox.Icon.Question, "Replace what is there?", said, parent=self._frame)
        lines = [f"{entry.path}.{writer_of(entry).goes_with(entry)}" for entry in there]
        box.setInformativeText("\n".join([*lines, "Replacing cannot be undone."]))
        replace = box.addButton("Replace" if one else "Replace all", QMessageBox.ButtonRole.AcceptRole)
        new = None
        if len(there) < len(outputs):
            new = box.addButton("Write only the new ones", QMessageBox.ButtonRole.ActionRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        replace.clicked.connect(lambda: self._write_each(outputs, replace=True))
        if new is not None:
            left = [step for step in outputs if KINDS.settings(step) not in there]
            new.clicked.connect(lambda: self._write_each(left, replace=False))
        box.open()

    def _write_each(self, outputs: Sequence[Step], *, replace: bool) -> None:
        if self._targets_differ():
            for step in outputs:
                self.write_output(step.id, replace=replace)

    def _targets_differ(self) -> bool:
        """Whether no two outputs write to one file; if they do, that is said."""
        try:
            output_targets(self._session.flow, KINDS, None)
        except TrellisError as error:
            self._frame.warn(_NOT_WRITTEN, error)
            return False
        return True

    def write_output(self, step_id: str, *, replace: bool = False, despite_guards: bool = False) -> None:
        """Write one output. A file that exists is replaced, and one behind a broken guard written, only after
        asking.
        """
        session = self._session
        flow, settings = session.flow, KINDS.settings(session.flow.step(step_id))
        read = self._files_read()
        if not self._targets_differ() or not self._reaching.may_write(settings):
            return
        if not replace and _may_be_replaced(settings, read):
            self._ask_replace(step_id, settings)
            return

        def work(task: Task) -> Written | list[Checked]:
            """What was written, or the guards that do not hold."""
            checks = [] if despite_guards else checked_before(session.runner, flow, step_id, task)
            written, _ = write_outputs(
                session.runner, flow, {step_id: settings}, checks, sources=read, replace=replace, task=task
            )
            return written[0] if written else [entry for entry in checks if not entry.holds]

        def done(written: Written | list[Checked]) -> None:
            if isinstance(written, list):
                self._ask_despite(step_id, settings, written, replace=replace)
                return
            changed = f" {listed(list(written.changed), 2)}." if written.changed else ""
            self._frame.status.say(
                f"Wrote {written.rows:,} rows of {written.fields} fields to {written.place}.{changed}"
            )

        failed = partial(self._frame.warn, _NOT_WRITTEN)
        self._frame.jobs.start(f"writing {settings.file_name}", work, done, failed)

    def _files_read(self) -> list[str | Path]:
        """What must not be written to: all that the flow reads, and its own file."""
        session = self._session
        own = [session.path] if session.path is not None else []
        return [*files_read(session.flow, KINDS, session.library), *own]

    def _ask_replace(self, step_id: str, settings: OutputSettings) -> None:
        goes = writer_of(settings).goes_with(settings)
        box = PlainBox(
            QMessageBox.Icon.Question,
            "Replace the file?",
            f"{settings.file_name} exists already.",
            parent=self._frame,
        )
        box.setInformativeText(f"{settings.path}\nReplacing it cannot be undone.{goes}")
        replace = box.addButton("Replace", QMessageBox.ButtonRole.AcceptRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        replace.clicked.connect(lambda: self.write_output(step_id, replace=True))
        box.open()

    def _ask_despite(
        self, step_id: str, settings: OutputSettings, broken: list[Checked], *, replace: bool
    ) -> None:
        box = PlainBox(
            QMessageBox.Icon.Warning,
            "A guard is broken",
            f"{settings.file_name} was not written: a guard before it is broken.",
            parent=self._frame,
        )
        said = [f"{entry.name}: {entry.statement}: {entry.verdict.said}" for entry in broken]
        box.setInformativeText("\n".join(said))
        write_it = box.addButton("Write it all the same", QMessageBox.ButtonRole.DestructiveRole)
        box.setDefaultButton(box.addButton(QMessageBox.StandardButton.Cancel))
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        write_it.clicked.connect(lambda: self.write_output(step_id, replace=replace, despite_guards=True))
        box.open()


def _may_be_replaced(settings: OutputSettings, read: Sequence[str | Path]) -> bool:
    """Whether something is there that writing would replace, so that it is asked first; `read` must stay."""
    with suppress(OutputError):  # a writer of a later version is refused when it is written
        return writer_of(settings).would_replace(settings, read)
    return False
