"""The commands that open, save and recover flows, and put files into the margin."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import (
    QMessageBox,
)

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.task import Task
from keen_trellis.desktop.dialogs import ask_to_open, ask_to_save, file_name
from keen_trellis.desktop.plain import PlainBox
from keen_trellis.desktop.shell.first_page import Lately
from keen_trellis.desktop.shell.flow_pictures import FlowPictures
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.desktop.shell.reaching import Reaching
from keen_trellis.flow import edits
from keen_trellis.session import editing
from keen_trellis.session.autosave import Autosave
from keen_trellis.session.saved import FlowChangedError

_FLOWS = "Flows (*.trellis)"
_SOURCES = (
    "Files with tables (*.xlsx *.xlsm *.xls *.xlsb *.ods *.csv *.tsv *.txt *.sqlite *.sqlite3 *.db"
    " *.parquet *.arrow *.feather *.jsonl *.ndjson *.json *.xml *.dat *.prn)"
)


class FlowFiles(QObject):
    """What the window does with files. autosave: keeps what is not saved, where anything is remembered."""

    def __init__(self, frame: Frame, reaching: Reaching) -> None:
        super().__init__(frame)
        self._frame, self._reaching = frame, reaching
        drafts = frame.remembered.drafts
        self._pictures = FlowPictures(frame.remembered.pictures)
        self.autosave = Autosave(frame.session, drafts) if drafts is not None else None

    def new(self) -> None:
        """Begin an empty flow, after the open one is saved or given up."""

        def begin() -> None:
            self.keep_picture()
            self._frame.session.new()

        self.when_saved(begin)

    def keep_picture(self) -> None:
        """Keep a small picture of the open flow, for the first page."""
        path = self._frame.session.path
        if path is not None:
            self._pictures.keep(path, self._frame.trellis)

    def lately(self) -> list[Lately]:
        """The flows that were used lately, the latest first."""
        return [
            Lately(path, datetime.fromtimestamp(path.stat().st_mtime).astimezone(), self._pictures.of(path))
            for path in self._frame.remembered.recent
        ]

    def open_flow(self, path: Path) -> None:
        """Open a flow in this window."""
        self.keep_picture()
        try:
            self._frame.session.open(path)
        except TrellisError as error:
            self._frame.warn("The flow cannot be opened", error)
            return
        self._frame.remembered.add_recent(path.absolute())
        self._frame.trellis.setFocus()
        self._frame.share_out_anew()
        self._reaching.ask_if_waiting()
        if self.autosave is not None and self.autosave.is_open_elsewhere(path):
            self._frame.status.say(
                f"{path.name} is open in another window, too: whoever saves last is asked.", alarm=True
            )

    def open_dialog(self) -> None:
        """Choose a flow to open, or files to put into the margin."""
        kinds = [_SOURCES[:-1] + " *.trellis)", _FLOWS, _SOURCES, "All files (*)"]
        folder = self._frame.session.place
        ask_to_open(
            self._frame, "Open a flow, or files with tables", folder, kinds, self.open_paths, several=True
        )

    def open_paths(self, paths: list[Path]) -> None:
        """Open a flow, or put files into the margin."""
        flows = [path for path in paths if path.suffix == ".trellis"]
        others = [path for path in paths if path.suffix != ".trellis"]
        if flows:
            self.when_saved(lambda: self.open_flow(flows[0]))
        if others:
            for path in others:
                self._frame.session.margin.reveal(str(path.absolute()))
            editing.add_files(self._frame.session, others)
            self._frame.trellis.setFocus()

    def open_demo(self, name: str = "") -> None:
        """Make the demo data where it is missing, and open one of its flows, at first the usual one."""

        def work(task: Task) -> Path:
            from keen_trellis.demo.flow_names import WINTER_LOANS
            from keen_trellis.demo.setting_up import demo_folder, make

            flow = demo_folder() / (name or WINTER_LOANS)
            if not flow.exists():
                make(flow.parent)
            return flow

        def make_and_open() -> None:
            self._frame.jobs.start("making the demo data", work, self.open_flow, self._frame.fail)

        self.when_saved(make_and_open)

    def save(self, then: Callable[[], None] | None = None) -> None:
        """Save the flow to its file, or ask for one."""
        if self._frame.session.path is None:
            self.save_as(then)
        else:
            self._save_to(self._frame.session.path, then)

    def save_as(self, then: Callable[[], None] | None = None) -> None:
        """Ask for a file and save the flow to it."""
        session = self._frame.session
        name = session.name
        if session.path is None and session.flow.steps:
            name = edits.rail_name(session.flow, session.flow.steps[-1].id)
        place = session.place / f"{file_name(name)}.trellis"
        ask_to_save(self._frame, "Save the flow", place, [_FLOWS], lambda path: self._save_to(path, then))

    def _save_to(self, path: Path, then: Callable[[], None] | None, *, overwrite: bool = False) -> None:
        try:
            self._frame.session.save(path, overwrite=overwrite)
        except FlowChangedError as error:
            self._ask_overwrite(error, path, then)
            return
        except TrellisError as error:
            self._frame.warn("The flow cannot be saved", error)
            return
        self._frame.remembered.add_recent(path.absolute())
        self.keep_picture()
        self._frame.status.say(f"Saved {path.name}.")
        if then is not None:
            then()

    def _ask_overwrite(self, error: FlowChangedError, path: Path, then: Callable[[], None] | None) -> None:
        """Ask what becomes of a file that somebody else has changed."""
        box = PlainBox(QMessageBox.Icon.Warning, "The file has changed", error.what, parent=self._frame)
        box.setInformativeText(error.remedy)
        overwrite = box.addButton("Overwrite it", QMessageBox.ButtonRole.DestructiveRole)
        other = box.addButton("Save under another name…", QMessageBox.ButtonRole.AcceptRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.setDefaultButton(other)

        def answered() -> None:
            if box.clickedButton() is overwrite:
                self._save_to(path, then, overwrite=True)
            elif box.clickedButton() is other:
                self.save_as(then)

        box.finished.connect(answered)
        box.open()

    def offer_recovery(self) -> None:
        """Ask about the latest flow that was not saved when its window ended, if there is one."""
        found = self.autosave.leftovers() if self.autosave is not None else []
        if not found or self.autosave is None:
            return
        autosave, latest = self.autosave, found[0]
        said = f"“{latest.name}” was not saved when its window ended. A copy was kept at {latest.when}."
        box = PlainBox(QMessageBox.Icon.Question, "A flow that was not saved", said, parent=self._frame)
        recover = box.addButton("Go on with the copy", QMessageBox.ButtonRole.AcceptRole)
        away = box.addButton("Throw it away", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Ask me next time", QMessageBox.ButtonRole.RejectRole)
        box.setDefaultButton(recover)

        def go_on() -> None:
            path = Path(latest.about.path) if latest.about.path else None
            self._frame.session.recover(latest.flow, path, accepted=latest.about.accepted)
            autosave.keep()
            autosave.throw_away(latest.file)
            self._frame.status.say(f"This is {latest.name} as it was at {latest.when}; it is not saved yet.")

        def answered() -> None:
            if box.clickedButton() is recover:
                self.when_saved(go_on)
            elif box.clickedButton() is away:
                autosave.throw_away(latest.file)
                self.offer_recovery()

        box.finished.connect(answered)
        box.open()

    def when_saved(self, then: Callable[[], None]) -> None:
        """Do `then` once unsaved changes are saved or given up; not at all if the user cancels."""
        if not self._frame.session.unsaved:
            then()
            return
        buttons = QMessageBox.StandardButton
        box = PlainBox(
            QMessageBox.Icon.Question,
            "Unsaved changes",
            f"{self._frame.session.name} has changes that are not saved.",
            buttons.Save | buttons.Discard | buttons.Cancel,
            self._frame,
        )
        box.setInformativeText("Save them first?")
        box.setDefaultButton(buttons.Save)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)

        def finished(answer: int) -> None:
            if answer == buttons.Save:
                self.save(then)
            elif answer == buttons.Discard:
                then()

        box.finished.connect(finished)
        box.open()
