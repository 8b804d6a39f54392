"""Starts the application."""

from __future__ import annotations

import os
import platform
import signal
import sys
from pathlib import Path


def has_display() -> bool:
    """Whether a window can be shown, or is wanted on a platform that needs no display."""
    return any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"))


def make_application() -> object:
    """The one application object of this process."""
    if not has_display():
        os.environ["QT_QPA_PLATFORM"] = "offscreen"
    from PySide6.QtWidgets import QApplication

    from keen_trellis.desktop import theme

    application = QApplication.instance()
    if application is None:
        application = QApplication(sys.argv[:1])
        application.setApplicationName("keen-trellis")
        application.setApplicationDisplayName("Keen Trellis")
        application.setStyle("Fusion")
        application.setFont(theme.font(12))
        theme.use(theme.LIGHT)
    return application


def start(flow_path: Path | None) -> int:
    """Show the window on a flow, or on an empty one, until it is closed; the exit code."""
    if not has_display():
        print("keen-trellis: there is no display to show a window on.", file=sys.stderr)
        return 1
    application = make_application()
    from keen_trellis import __version__
    from keen_trellis.desktop.shell.menus import made_window
    from keen_trellis.logs import begin_log, log

    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_DFL)  # Qt's loop would not see Python's handlers
    begin_log()
    log.info("started %s on Python %s, %s", __version__, platform.python_version(), platform.platform())
    window = made_window()
    window.reports.watch()
    window.show()
    if flow_path is not None:
        window.files.open_flow(flow_path)
    window.files.offer_recovery()
    return application.exec()  # type: ignore[attr-defined, no-any-return]
