"""What the Help menu does: the guide where it speaks of what is selected, all keys, what is new, the logs."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, Qt, QUrl
from PySide6.QtGui import QDesktopServices, QGuiApplication
from PySide6.QtWidgets import QMessageBox

from keen_trellis import __version__
from keen_trellis.desktop.kinds import CHAPTERS
from keen_trellis.desktop.plain import PlainBox
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.desktop.shell.guide import GuideWindow
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.steps import KINDS
from keen_trellis.handbook import NEWS, Chapter
from keen_trellis.logs import log_file


class Helping(QObject):
    """guide: the window of the guide, None as long as nobody wanted it."""

    def __init__(self, frame: Frame) -> None:
        super().__init__(frame)
        self._frame = frame
        self.guide: GuideWindow | None = None

    def chapter(self) -> Chapter:
        """The chapter that speaks of what is selected, or of what has the bench's place."""
        frame = self._frame
        panel, selection = frame.bench.panels.shown, frame.session.selection
        if panel is not None:
            return panel.chapter
        if selection.slat:
            return Chapter.SHARE
        if selection.value:
            return Chapter.AGAIN
        if selection.is_stump:
            return Chapter.TABLES
        step = frame.session.flow.find(selection.step)
        if step is None:
            return Chapter.WINDOW
        unmatched = selection.port != ROWS or frame.bench.grid.hasFocus()
        if KINDS.matches(step) and unmatched:
            return Chapter.COUNTS
        return CHAPTERS.get(step.kind, Chapter.STEPS)

    def open_guide(self) -> None:
        """Open the guide where it speaks of what is selected."""
        self._open(self.chapter().value)

    def open_keys(self) -> None:
        """Open the list of all keys."""
        self._open(Chapter.KEYS.value)

    def open_news(self) -> None:
        """Say what is new in this version."""
        self._made().show_at(name=NEWS)

    def _open(self, heading: str) -> None:
        self._made().show_at(heading)

    def _made(self) -> GuideWindow:
        if self.guide is None:
            self.guide = GuideWindow(self._frame)
        return self.guide

    def say_places(self) -> None:
        """Say where the logs, the settings and the copies are, and offer to open the folder of the logs."""
        remembered, log = self._frame.remembered, log_file()
        places = {
            "Log": log,
            "Settings": remembered.file,
            "Copies of flows not saved": remembered.drafts,
            "Pictures of flows": remembered.pictures,
        }
        said = "\n".join(f"{name}: {place}" for name, place in places.items() if place is not None)
        box = PlainBox(
            QMessageBox.Icon.Information, "Where things are", "Where things are", parent=self._frame
        )
        box.setInformativeText(said)
        box.set_text_width(520)
        show = box.addButton("Open the folder of the log", QMessageBox.ButtonRole.ActionRole)
        copy = box.addButton("Copy these places", QMessageBox.ButtonRole.ActionRole)
        box.addButton(QMessageBox.StandardButton.Close)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)

        def answered() -> None:
            if box.clickedButton() is show:
                log.parent.mkdir(parents=True, exist_ok=True)
                QDesktopServices.openUrl(QUrl.fromLocalFile(str(Path(log.parent))))
            elif box.clickedButton() is copy:
                QGuiApplication.clipboard().setText(said)

        box.finished.connect(answered)
        box.open()

    def about(self) -> None:
        """Say what this program is."""
        box = PlainBox(self._frame)
        box.setWindowTitle("About Keen Trellis")
        box.setText(f"Keen Trellis {__version__}")
        box.setInformativeText(
            "Joins and blends between sheets and tables, with matched and unmatched rows in plain sight.\n\n"
            "Your sources are only read. Nothing leaves this machine."
        )
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()
