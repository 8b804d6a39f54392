"""Pictures of the window, drawn without a display."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QCoreApplication, QEvent, QPoint
from PySide6.QtGui import QPainter, QPixmap
from PySide6.QtWidgets import QApplication, QWidget

from keen_trellis.desktop.shell.app import make_application
from keen_trellis.desktop.shell.menus import made_window
from keen_trellis.desktop.shell.settings import Remembered
from keen_trellis.desktop.shell.turns import pause
from keen_trellis.desktop.shell.window import MainWindow
from keen_trellis.flow.runner import Kept
from keen_trellis.sources.library import Library

SIZE = (1280, 800)
_PATIENCE = 60.0


class Forgetful(Remembered):
    """Remembers nothing: pictures look the same on every machine."""

    def __init__(self) -> None:
        self._kept: dict[str, Any] = {}

    @property
    def file(self) -> Path | None:
        return None

    @property
    def drafts(self) -> Path | None:
        return None

    @property
    def pictures(self) -> Path | None:
        return None

    def value(self, name: str) -> Any:
        return self._kept.get(name)

    def remember(self, name: str, value: Any) -> None:
        self._kept[name] = value

    @property
    def recent(self) -> list[Path]:
        return []

    def add_recent(self, path: Path) -> None:
        return


class RecentOnly(Forgetful):
    """Remembers flows and their pictures in a folder of its own, as long as it is there, and nothing else."""

    def __init__(self, folder: Path) -> None:
        super().__init__()
        self._folder = folder
        self._recent: list[Path] = []

    @property
    def pictures(self) -> Path:
        return self._folder / "pictures"

    @property
    def recent(self) -> list[Path]:
        return self._recent

    def add_recent(self, path: Path) -> None:
        self._recent = [path, *(other for other in self._recent if other != path)]


def settle(window: MainWindow, until: Callable[[], bool] | None = None) -> None:
    """Let the window work until nothing is under way and `until` holds."""
    end = time.monotonic() + _PATIENCE
    while time.monotonic() < end:
        pause()
        if not window.jobs.under_way and (until is None or until()):
            QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
            QCoreApplication.processEvents()
            if not window.jobs.under_way:  # what was told just now may have begun another
                return
    raise TimeoutError("the window did not come to rest")


def new_window(
    size: tuple[int, int] = SIZE,
    library: Library | None = None,
    kept: Kept | None = None,
    remembered: Remembered | None = None,
) -> MainWindow:
    """A window that remembers nothing, unless it is given what does; shown without a display."""
    make_application()
    window = made_window(remembered or Forgetful(), library, kept)
    window.resize(*size)
    window.show()
    QCoreApplication.processEvents()
    return window


def picture(window: MainWindow) -> QPixmap:
    """The window as it looks now, with the list that is open over it."""
    shown = window.grab()
    popup: QWidget | None = QApplication.activePopupWidget()
    if popup is not None:
        painter = QPainter(shown)
        painter.drawPixmap(window.mapFromGlobal(popup.mapToGlobal(QPoint(0, 0))), popup.grab())
        painter.end()
    return shown


def draw_window(flow: Path, target: Path) -> None:
    """Draw the window on a flow to a PNG file."""
    window = new_window()
    window.files.open_flow(flow)
    settle(window)
    picture(window).save(str(target))
    discard(window)


def discard(window: MainWindow) -> None:
    window.jobs.close()
    window.hide()
    window.deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
