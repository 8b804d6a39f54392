"""What the window does about sources: opening folders, databases and typed tables, passwords, refresh,
watching.
"""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, QPoint, Signal

from keen_trellis.core.errors import UsageError
from keen_trellis.databases import secrets
from keen_trellis.desktop.dialogs import ask_to_open
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.shell.address import ask_address
from keen_trellis.desktop.shell.elsewhere import Elsewhere
from keen_trellis.desktop.shell.flow_files import FlowFiles
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.desktop.shell.watching import Watching
from keen_trellis.flow.patterns import picked_together
from keen_trellis.session import editing

_LIKE_FILES = [
    "Text files and workbooks (*.csv *.tsv *.txt *.xlsx *.xlsm *.xls *.xlsb *.ods)",
    "All files (*)",
]


class SourceActions(QObject):
    """The commands that are about sources. watched: whether they are watched, when that changes."""

    watched = Signal(bool)

    def __init__(self, frame: Frame, files: FlowFiles) -> None:
        super().__init__(frame)
        self._files = files
        frame.sentence.password_wanted.connect(self.ask_password)
        self._frame = frame
        self._session = frame.session
        self.elsewhere = Elsewhere(frame)
        self.watching = Watching(frame.session, self)
        self.watching.changed.connect(self._say_changed)

    # --- opening ---

    def open_folder(self) -> None:
        """Choose a folder whose like files are read as one."""
        folder = self._session.place
        ask_to_open(self._frame, "Open a folder of like files", folder, [], self._files.open_paths)

    def open_together(self) -> None:
        """Choose several like files that are read as one."""

        def chosen(paths: list[Path]) -> None:
            try:
                place = picked_together([str(path.absolute()) for path in paths])
            except UsageError as error:
                self._session.failed.emit(error)
                return
            self._open_place(place)

        place = self._session.place
        ask_to_open(self._frame, "Open several files as one table", place, _LIKE_FILES, chosen, several=True)

    def open_address(self) -> None:
        """Ask for the address of a database, or a pattern of files, and put it into the margin."""
        ask_address(self._frame, self._open_place)

    def _open_place(self, place: str) -> None:
        self._session.margin.reveal(place)
        editing.add_places(self._session, [place])
        self._frame.trellis.setFocus()

    def type_table(self) -> None:
        """Begin a rail with a small table of the flow's own; what is on the clipboard can be pasted there."""
        editing.begin_typed_table(self._session)
        self._frame.bench.typing.show()

    def add_calendar(self) -> None:
        """Begin a rail with a calendar; its sentence says of which days."""
        editing.begin_calendar(self._session)

    def ask_password(self, address: str) -> None:
        """Ask for the password of a database, and try again."""
        entry = Entry(
            f"Password for {address}", "", self._frame, secret=True, tick="keep it in the desktop's keyring"
        )

        def entered(password: str) -> None:
            kept = secrets.remember(address, password, lasting=entry.tick.isChecked())
            if entry.tick.isChecked() and not kept:
                self._frame.status.say(
                    "There is no keyring to keep it in: it is kept until the program ends."
                )
            self._session.compute_again()

        entry.entered.connect(entered)
        entry.open_under(self._frame.sentence.view, at=QPoint(240, 4))

    # --- refresh ---

    def refresh_one(self) -> None:
        """Refresh only the source that is selected."""
        self._session.refresh(self._session.selection.step)

    def switch_watching(self) -> None:
        """Begin or stop to watch the sources for changes."""
        on = not self.watching.on
        self._frame.remembered.remember("watch", "yes" if on else "no")
        self.watch(on)

    def watch(self, on: bool) -> None:
        """Watch the sources for changes, or do not."""
        self.watching.turn(on)
        self.watched.emit(on)

    def _say_changed(self, names: list[str]) -> None:
        verb = "has" if len(names) == 1 else "have"
        self._frame.status.say(f"{', '.join(names[:3])} {verb} changed. F5 refreshes.", alarm=True)
