"""Writes match reports from the window, reads the answers that come back, and asks for other versions."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.task import Task
from keen_trellis.desktop.dialogs import ask_to_open, ask_to_save, file_name
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.desktop.trellis.export import for_report
from keen_trellis.flow import edits
from keen_trellis.flow.answers import Answer, with_answers
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.steps import KINDS
from keen_trellis.outputs.report.writing import write_report
from keen_trellis.session.answering import answers_in
from keen_trellis.session.reporting import Wanted, told
from keen_trellis.session.running import never_written

_FORMS = ["Page for a browser (*.html)", "On paper (*.pdf)", "Workbook with all rows (*.xlsx)"]
_ANSWERS = ["Workbook (*.xlsx)", "OpenDocument workbook (*.ods)", "All files (*)"]
_NOT_WRITTEN = "No report was written"


class MatchReports(QObject):
    """The commands about reports."""

    def __init__(self, frame: Frame) -> None:
        super().__init__(frame)
        self._frame = frame
        self._session = frame.session

    def ask(self) -> None:
        """Ask for a file, and write the report of the whole flow to it."""
        self._ask(Wanted(), self._session.name)

    def ask_of_step(self) -> None:
        """The same of the selected step and all before it."""
        step = self._session.flow.find(self._session.selection.step)
        if step is not None:
            self._ask(Wanted(step.id), step.name)

    def _ask(self, wanted: Wanted, name: str) -> None:
        place = self._session.place / f"{file_name(name)}, match report.html"
        ask_to_save(
            self._frame, "Write the match report", place, _FORMS, lambda path: self.write(path, wanted)
        )

    def write(self, path: Path, wanted: Wanted) -> None:
        """Write a report to a file; whoever names it was asked whether it may be replaced."""
        session = self._session
        flow, runner, library, own = session.flow, session.runner, session.library, session.path
        drawn = for_report(self._frame.trellis, session.name)

        def work(task: Task) -> Path:
            task.checkpoint(0, 0, "computing what is reported")
            found = told(flow, own, runner, library, wanted, task)
            kept = never_written(flow, KINDS, library, own)
            picture = drawn if found.analysis.may_be_pictured else None
            write_report(found, path, picture, wanted.most_rows, kept=kept, replace=True, task=task)
            return path

        def done(written: Path) -> None:
            self._frame.status.say(f"Wrote the report to {written}.")

        def failed(error: TrellisError) -> None:
            self._frame.warn(_NOT_WRITTEN, error)

        self._frame.jobs.start(f"writing {path.name}", work, done, failed)

    def ask_answers(self) -> None:
        """Ask for a report that came back, and take its answers over."""
        ask_to_open(
            self._frame,
            "Read the answers of a report",
            self._session.place,
            _ANSWERS,
            lambda paths: self.read_answers(paths[0]),
        )

    def read_answers(self, path: Path) -> None:
        """Take the answers of a file over into the flow, as one edit."""
        session = self._session

        def work(task: Task) -> list[Answer]:
            return answers_in(path, session.library, task)

        def done(answers: list[Answer]) -> None:
            try:
                found = with_answers(session.flow, KINDS, answers, f"answered in {path.name}")
            except TrellisError as error:
                failed(error)
                return
            if found.flow == session.flow:
                self._frame.status.say(f"{path.name} has no answer that is new.")
            elif session.apply("Take over answers", lambda _: found.flow):
                self._frame.status.say(f"{found.said} Ctrl+Z takes it back.")

        def failed(error: TrellisError) -> None:
            self._frame.warn("No answer was taken over", error)

        self._frame.jobs.start(f"reading answers from {path.name}", work, done, failed)

    def ask_version(self) -> None:
        """Ask for another version of the flow, and compare the open one with it."""
        ask_to_open(
            self._frame,
            "Compare with an earlier version",
            self._session.place,
            ["Flow (*.trellis)", "All files (*)"],
            lambda paths: self._frame.bench.versions.compare_with(paths[0]),
        )

    def switch_field(self) -> None:
        """Leave the values of the current field out of reports, or let them be in them again."""
        name = self._field
        if not name:
            return
        withheld = name not in self._session.flow.confidential
        said = f"Leave {name} out of reports" if withheld else f"Show {name} in reports"

        def edit(flow: Flow) -> Flow:
            return edits.with_confidential(flow, name, withheld=withheld)

        if self._session.apply(said, edit):
            after = "appear in no report, nor what is read from them" if withheld else "may appear in reports"
            self._frame.status.say(f"Values of {name} {after}.")

    def switch_said(self) -> str:
        """What switching does for the current field."""
        name = self._field
        withheld = name in self._session.flow.confidential
        return f"Show {name} in reports" if withheld else f"Leave {name or 'the field'} out of reports"

    @property
    def _field(self) -> str:
        field = self._frame.bench.field_here()
        return field.name if field is not None else ""
