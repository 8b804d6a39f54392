"""The turns of Qt's event loop, and the threads that work for a window."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress

from PySide6.QtCore import QEventLoop, QObject, Qt, QTimer, Signal

# More than cores: most of the time they wait for a child process, a disk, or each other.
_THREADS = 6
_NICENESS = 10


class QtTurns(QObject):
    """Calls functions on the thread that this object was made on, whichever thread asks for it."""

    _asked = Signal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._asked.connect(lambda function: function(), Qt.ConnectionType.QueuedConnection)

    def soon(self, function: Callable[[], None]) -> None:
        """Call `function` in a turn to come."""
        self._asked.emit(function)

    def later(self, seconds: float, function: Callable[[], None]) -> Callable[[], None]:
        """Call `function` after so many seconds, unless what is returned is called before."""
        timer = QTimer(self, singleShot=True, interval=round(1000 * seconds))
        timer.timeout.connect(function)
        timer.timeout.connect(timer.deleteLater)
        timer.start()

        def put_off() -> None:
            with suppress(RuntimeError):  # it is over, and gone
                timer.stop()

        return put_off


def _give_way() -> None:
    """Let the interface's thread go before this one; the threads that this one begins do the same."""
    with suppress(OSError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), _NICENESS)


def threads() -> ThreadPoolExecutor:
    """The threads that work for a window."""
    return ThreadPoolExecutor(_THREADS, "trellis", initializer=_give_way)


def pause(milliseconds: int = 4) -> None:
    """Let the window do what there is to do for a moment, and leave the cores to its threads otherwise."""
    loop = QEventLoop()
    QTimer.singleShot(milliseconds, loop.quit)
    loop.exec()
