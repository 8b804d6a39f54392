"""Starts the application."""

from __future__ import annotations

import os
import platform
import signal
import sys
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from PySide6.QtGui import QIcon


def has_display() -> bool:
    """Whether a window can be shown, or is wanted on a platform that needs no display."""
    return any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"))


def make_application() -> object:
    """The one application object of this process."""
    if not has_display():
        os.environ["QT_QPA_PLATFORM"] = "offscreen"
    from PySide6.QtWidgets import QApplication

    from keen_trellis.desktop import accessible, theme
    from keen_trellis.home import installing

    application = QApplication.instance()
    if application is None:
        application = QApplication(sys.argv[:1])
        application.setApplicationName("keen-trellis")
        application.setApplicationDisplayName("Keen Trellis")
        accessible.install()
        application.setDesktopFileName(installing.ID)
        application.setWindowIcon(_icon())
        application.setStyle("Fusion")
        application.setFont(theme.font(12))
        theme.use(theme.LIGHT)
    return application


def _icon() -> QIcon:
    """The program's own icon, sharp in every size."""
    from PySide6.QtGui import QIcon, QPixmap

    from keen_trellis.home import installing

    icon = QIcon()
    for size in installing.SIZES:
        picture = QPixmap()
        picture.loadFromData(installing.resource(f"icons/{size}.png"))
        icon.addPixmap(picture)
    return icon


def start(flow_path: Path | None, *, alone: bool = False) -> int:
    """Show the window on a flow, or on an empty one, until it is closed; the exit code.

    Where a window is open already, that one gets the flow. alone: not so; it is one more window.
    """
    if not has_display():
        print("keen-trellis: there is no display to show a window on.", file=sys.stderr)
        return 1
    application = make_application()
    from keen_trellis import __version__
    from keen_trellis.desktop.shell.handing import Handing, hand_over
    from keen_trellis.desktop.shell.menus import made_window
    from keen_trellis.logs import begin_log, log

    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_DFL)  # Qt's loop would not see Python's handlers
    if not alone and hand_over(flow_path):
        return 0
    begin_log()
    log.info("started %s on Python %s, %s", __version__, platform.python_version(), platform.platform())
    window = made_window()
    window.reports.watch()
    if not alone:
        Handing(window)
    window.show()
    if flow_path is not None:
        window.files.open_flow(flow_path)
    window.files.offer_recovery()
    return application.exec()  # type: ignore[attr-defined, no-any-return]
