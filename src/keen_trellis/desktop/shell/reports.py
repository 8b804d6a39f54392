"""A report for whoever keeps the program, of a fault that its user cannot mend, with none of their data."""

from __future__ import annotations

import platform
import sys
import traceback
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType
from typing import Any

import msgspec
from PySide6 import __version__ as qt_version
from PySide6.QtCore import QObject, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QMessageBox

from keen_trellis import __version__
from keen_trellis.desktop.dialogs import ask_to_save
from keen_trellis.desktop.plain import PlainBox
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.whole_file import whole_file
from keen_trellis.logs import last_lines, log
from keen_trellis.session.session import Session

# Settings that say how a step works; all other texts may be somebody's data.
_HOW = frozenset(
    [
        "type",
        "operator",
        "take",
        "how",
        "kind",
        "reader",
        "form",
        "mode",
        "comparison",
        "stands",
        "keep",
        "ignore",
        "compare_as",
        "gaps",
        "of_type",
        "version",
        "measure",
        "function",
    ]
)


def without_data(value: Any, key: str = "") -> Any:
    """Settings of a step with every text in them replaced by its length, but for those that say how."""
    if isinstance(value, dict):
        return {name: without_data(entry, name) for name, entry in value.items()}
    if isinstance(value, list):
        return [without_data(entry, key) for entry in value]
    if isinstance(value, str) and key not in _HOW:
        return f"({len(value)} characters)"
    return value


def _flow_lines(flow: Flow, session: Session) -> Iterator[str]:
    """Each step with its kind, what it takes rows from, its settings without data, and its counts."""
    numbers = {step.id: number for number, step in enumerate(flow.steps, 1)}
    for step in flow.steps:
        before = ", ".join(f"{numbers.get(entry.step, '?')}.{entry.port}" for entry in step.inputs)
        outcome = session.outcome(step.id)
        figures = outcome.figures if outcome is not None else None
        rows = f"{dict(figures.rows)}" if figures is not None else "no figures"
        error = type(outcome.error).__name__ if outcome is not None and outcome.error is not None else ""
        settings = msgspec.json.encode(without_data(msgspec.json.decode(step.settings))).decode()
        yield f"{numbers[step.id]}. {step.kind} from [{before}] {rows} {error} {settings}"


def report(session: Session, trouble: str = "") -> str:
    """The report: versions, the fault, the flow without data, and the end of the log."""
    parts = {
        "Keen Trellis": f"{__version__}, Python {platform.python_version()}, Qt for Python {qt_version}",
        "System": f"{platform.system()} {platform.release()}, {QGuiApplication.platformName()}",
        "What went wrong": trouble or "nothing was said",
        "The flow, without data": "\n".join(_flow_lines(session.flow, session)) or "no steps",
        "The end of the log": last_lines(),
    }
    return "\n\n".join(f"== {title}\n{text}" for title, text in parts.items()) + "\n"


class Reports(QObject):
    """Says that something went wrong that should not have, and saves reports."""

    def __init__(self, frame: Frame) -> None:
        super().__init__(frame)
        self._frame = frame
        self._box: PlainBox | None = None

    def watch(self) -> None:
        """Hear of every error that nobody caught, and of those on threads, from now on."""
        sys.excepthook = self.caught
        self._frame.jobs.faulty.connect(self.offer)

    def caught(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        """Log an error that nobody caught, and offer a report; once, while the offer stands."""
        sys.__excepthook__(kind, error, trace)
        if not issubclass(kind, KeyboardInterrupt):
            self.offer("".join(traceback.format_exception(kind, error, trace)))

    def offer(self, told: str) -> None:
        """Log a fault, and offer a report of it."""
        log.error("not caught\n%s", told)
        if self._box is not None:
            return
        said = "Something went wrong that should not have. Your files and your flow are as they were."
        box = PlainBox(QMessageBox.Icon.Warning, "A fault of this program", said, parent=self._frame)
        box.setInformativeText(
            "Whoever keeps it can mend it with a report: what went wrong, the flow without your data, and "
            "the log. Nothing is sent by itself; look through the report before you hand it on."
        )
        box.setDetailedText(report(self._frame.session, told))
        save = box.addButton("Save a report…", QMessageBox.ButtonRole.AcceptRole)
        box.addButton("Go on without", QMessageBox.ButtonRole.RejectRole)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._box = box

        def answered() -> None:
            self._box = None
            if box.clickedButton() is save:
                self.save(told)

        box.finished.connect(answered)
        box.open()

    def save(self, trouble: str = "") -> None:
        """Ask for a file, and save a report to it."""
        place = Path.home() / "keen-trellis-report.txt"
        ask_to_save(
            self._frame, "Save a report", place, ["Text (*.txt)"], lambda path: self._write(path, trouble)
        )

    def _write(self, path: Path, trouble: str) -> None:
        try:
            with whole_file(path) as draft:
                draft.write_text(report(self._frame.session, trouble), "utf-8")
        except OSError as error:
            self._frame.status.say(f"{path.name} cannot be written: {error.strerror}.", alarm=True)
            return
        self._frame.status.say(f"Saved a report to {path}.")
