"""The main window: the frame with all commands in its menus."""

from __future__ import annotations

from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDragLeaveEvent, QDropEvent
from PySide6.QtWidgets import (
    QMenu,
)

from keen_trellis.core.errors import TrellisError
from keen_trellis.desktop.dialogs import ask_to_save, file_name
from keen_trellis.desktop.plain import menu_text
from keen_trellis.desktop.shell.combining import Combining
from keen_trellis.desktop.shell.commands import Command, Commands
from keen_trellis.desktop.shell.correction_lists import CorrectionListActions
from keen_trellis.desktop.shell.finder import open_finder
from keen_trellis.desktop.shell.first_page import FirstPage
from keen_trellis.desktop.shell.flow_files import FlowFiles
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.desktop.shell.helping import Helping
from keen_trellis.desktop.shell.here import Here
from keen_trellis.desktop.shell.match_report import MatchReports
from keen_trellis.desktop.shell.pointing import Pointing
from keen_trellis.desktop.shell.reaching import Reaching
from keen_trellis.desktop.shell.reports import Reports
from keen_trellis.desktop.shell.run_values import RunValues
from keen_trellis.desktop.shell.selected import SelectedCommands
from keen_trellis.desktop.shell.settings import Remembered
from keen_trellis.desktop.shell.source_actions import SourceActions
from keen_trellis.desktop.shell.writing import Writing
from keen_trellis.desktop.trellis import export
from keen_trellis.flow.runner import Kept
from keen_trellis.sources.library import Library

if TYPE_CHECKING:
    from keen_trellis.desktop.shell.from_sql import StepsFromSql
    from keen_trellis.desktop.shell.handing_off import HandingOff


class MainWindow(Frame):
    """One flow in one window. Its commands are handed in by `take_commands`, once it stands."""

    def __init__(
        self,
        remembered: Remembered | None = None,
        library: Library | None = None,
        kept: Kept | None = None,
    ) -> None:
        super().__init__(remembered or Remembered(), library or Library(), kept)
        self.setAcceptDrops(True)
        self.reaching = Reaching(self)
        self.files = FlowFiles(self, self.reaching)
        self.sources = SourceActions(self, self.files)
        self.selected = SelectedCommands(self)
        self.combining = Combining(self)
        self.run_values = RunValues(self)
        self.correction_lists = CorrectionListActions(self)
        self.writing = Writing(self, self.reaching, self.run_values)
        self.here = Here(self)
        self.helping = Helping(self)
        self.reports = Reports(self)
        self.match_reports = MatchReports(self)
        self._leaving = False
        self._menus: dict[str, QMenu] = {}
        for name in ("File", "Edit", "Flow", "Step", "Rows", "View", "Help"):
            self._menus[name] = self.bar.addMenu(f"&{name}")
        self._recent = QMenu("Open &recent", self)
        self._menus["Join type"] = self._menus["Flow"].addMenu("Join &type")
        self._menus["File"].aboutToShow.connect(self._fill_recent)
        self._make_first_page()

    # Both need the library that reads SQL: loaded when they are first wanted.

    @cached_property
    def from_sql(self) -> StepsFromSql:
        from keen_trellis.desktop.shell.from_sql import StepsFromSql

        return StepsFromSql(self)

    @cached_property
    def handing_off(self) -> HandingOff:
        from keen_trellis.desktop.shell.handing_off import HandingOff

        return HandingOff(self)

    def _make_first_page(self) -> None:
        """Show what a window without a flow shows, for as long as it has none."""
        from keen_trellis.demo.flow_names import SAID

        page = FirstPage(
            {
                "Open files or a flow…": self.files.open_dialog,
                "A folder of like files…": self.sources.open_folder,
                "A database by address…": self.sources.open_address,
                "Type or paste a table": self.sources.type_table,
            },
            SAID,
        )
        page.flow_wanted.connect(lambda path: self.files.when_saved(partial(self.files.open_flow, path)))
        page.demo_wanted.connect(self.files.open_demo)
        self.show_first_page(page, self.files.lately)

    def take_commands(self, commands: list[Command]) -> None:
        """Put the commands into the menus."""
        self.commands = Commands(self, commands, self._menus, self.status.say)
        self.commands["watch"].setCheckable(True)
        self.sources.watched.connect(self.commands["watch"].setChecked)
        self.sources.watch(self.remembered.value("watch") != "no")
        self.session.changed.connect(self.commands.update)
        self.session.selected.connect(self.commands.update)
        self.session.outcomes_changed.connect(lambda _: self.commands.update())
        self.bench.grid.current_changed.connect(self.commands.update)
        self.bench.panels.opened.connect(self.commands.update)
        self.bench.panels.closed.connect(self.commands.update)
        self.pointing = Pointing(self, self.commands, self.selected)

    def _fill_recent(self) -> None:
        self._menus["File"].insertMenu(self.commands["demo"], self._recent)
        self._recent.clear()
        for path in self.remembered.recent:
            action = self._recent.addAction(menu_text(f"{path.stem}  ({path.parent})"))
            action.triggered.connect(partial(self.files.when_saved, partial(self.files.open_flow, path)))
        self._recent.setEnabled(bool(self._recent.actions()))

    def close_soon(self) -> None:
        """Close the window, asking about unsaved changes first."""
        self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.session.unsaved and not self._leaving:
            event.ignore()
            self.files.when_saved(self._leave)
            return
        self.remember_shape()
        self.files.keep_picture()
        self.hide()  # what is still being read is let go of unseen
        self.jobs.close()
        if self.files.autosave is not None:
            self.files.autosave.close()
        event.accept()

    def _leave(self) -> None:
        self._leaving = True
        self.close()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()
            self._set_hot(hot=True)

    def dragLeaveEvent(self, event: QDragLeaveEvent) -> None:
        self._set_hot(hot=False)

    def _set_hot(self, *, hot: bool) -> None:
        if self.first_page is not None:
            self.first_page.set_hot(hot=hot)

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        event.acceptProposedAction()
        self._set_hot(hot=False)
        self.files.open_paths(paths)

    def save_picture(self) -> None:
        """Ask for a file, and draw the whole trellis into it."""

        def chosen(path: Path) -> None:
            try:
                export.save(self.trellis, path, self.session.name)
            except TrellisError as error:
                self.warn("Nothing was saved", error)
                return
            self.status.say(f"Drew the trellis to {path}.")

        place = self.session.place / f"{file_name(self.session.name)}.svg"
        kinds = ["Drawing (*.svg)", "Picture (*.png)"]
        ask_to_save(self, "Save the trellis as a picture", place, kinds, chosen)

    def print_trellis(self) -> None:
        """Print the whole trellis on one page."""
        export.open_print(self, self.trellis, self.session.name)

    def open_finder(self) -> None:
        """Open the command finder."""
        open_finder(self, self.commands.to_find, self.session, self.session.select)

    def open_field_steps(self) -> None:
        """Open the menu of steps for the current field, under its head."""
        self.pointing.open_field_steps()

    def open_step_finder(self) -> None:
        """Open a finder of steps and fields only."""
        open_finder(self, [], self.session, self.session.select, title="Find a step, a table or a field")
