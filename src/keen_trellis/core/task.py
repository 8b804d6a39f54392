"""Progress and cancelling of long work, without knowing who watches."""

from __future__ import annotations

import threading
from collections.abc import Callable

from keen_trellis.core.errors import Cancelled

Watcher = Callable[[int, int, str], None]


class Task:
    """One piece of long work that can be watched and stopped from another thread."""

    # Whether all work of this process is to stop, as when a command is ended by a signal, and whether some of
    # it has. Without a lock: the handler of a signal sets it wherever the work is.
    _all_stopped = False
    _stop_heard = False

    def __init__(self, watcher: Watcher | None = None) -> None:
        self._watcher = watcher
        self._stopped = threading.Event()

    def cancel(self) -> None:
        """Ask the work to stop at its next checkpoint."""
        self._stopped.set()

    @classmethod
    def stop_all(cls) -> None:
        """Ask all work to stop, whichever task it has, until `go_on`."""
        cls._all_stopped = True

    @classmethod
    def stop_was_heard(cls) -> bool:
        """Whether a checkpoint has been reached since."""
        return cls._stop_heard

    @classmethod
    def go_on(cls) -> None:
        """Let work that begins from now on go on."""
        cls._all_stopped = cls._stop_heard = False

    @property
    def cancelled(self) -> bool:
        return self._stopped.is_set() or self._all_stopped

    def checkpoint(self, done: int = 0, total: int = 0, what: str = "") -> None:
        """Report that `done` of `total` units of `what` are finished (total 0: not known).

        Raises Cancelled when the work was asked to stop.
        """
        if self.cancelled:
            Task._stop_heard = self._all_stopped
            raise Cancelled
        if self._watcher is not None:
            self._watcher(done, total, what)
