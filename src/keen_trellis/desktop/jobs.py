"""Long work off the interface's thread, with progress and cancel."""

from __future__ import annotations

import os
import threading
import time
import traceback
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from typing import Any

from PySide6.QtCore import QObject, Signal

from keen_trellis.core.errors import Cancelled, TrellisError
from keen_trellis.core.task import Task

_REPORT_EVERY = 0.1
# More than cores: most of the time they wait for a child process, a disk, or each other.
_THREADS = 6
_NICENESS = 10


def _give_way() -> None:
    """Let the interface's thread go before this one; the threads that this one begins do the same."""
    with suppress(OSError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), _NICENESS)


class Job:
    """One piece of work under way."""

    def __init__(self, what: str, task: Task, cancelled: Callable[[Job], None] | None = None) -> None:
        self.what = what
        self.task = task
        self.cancelled = cancelled
        self.started = time.monotonic()

    def cancel(self) -> None:
        """Stop the work at its next checkpoint; neither what it returns nor its error is handed on then."""
        self.task.cancel()


class Jobs(QObject):
    """Runs jobs on threads and calls back on the interface's thread.

    progressed: a job, done, total, what (total 0: not known).  ended: a job that is over, however.
    """

    progressed = Signal(object, int, int, str)
    ended = Signal(object)
    _call = Signal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(_THREADS, "trellis", initializer=_give_way)
        self._under_way: set[Job] = set()
        self._closed = False
        self._call.connect(lambda function: function())

    @property
    def under_way(self) -> bool:
        """Whether any job has not ended."""
        return bool(self._under_way)

    def start(
        self,
        what: str,
        work: Callable[[Task], Any],
        done: Callable[[Any], None],
        failed: Callable[[TrellisError], None],
        cancelled: Callable[[Job], None] | None = None,
    ) -> Job:
        """Run `work` on a thread; later call `done` with what it returned, `failed` with its error, or
        `cancelled` with the job, however far it had come.
        """
        last_report = 0.0

        def watch(finished: int, total: int, doing: str) -> None:
            nonlocal last_report
            now = time.monotonic()
            if now - last_report > _REPORT_EVERY:
                last_report = now
                self.progressed.emit(job, finished, total, doing or what)

        job = Job(what, Task(watch), cancelled)
        if self._closed:
            job.cancel()
            return job
        self._under_way.add(job)

        def run() -> None:
            callback: Callable[[], None] | None = None
            try:
                outcome = work(job.task)
                callback = lambda: done(outcome)  # noqa: E731
            except Cancelled:
                pass
            except TrellisError as problem:
                error = problem
                callback = lambda: failed(error)  # noqa: E731
            except MemoryError:
                short = TrellisError(
                    "This machine's memory is not enough for it.", remedy="Use fewer rows or fields."
                )
                callback = lambda: failed(short)  # noqa: E731
            except Exception as unexpected:
                # A defect of ours: said in the window, with the trace on standard error for its mending.
                traceback.print_exc()
                defect = TrellisError(f"Something unexpected went wrong: {unexpected}.")
                callback = lambda: failed(defect)  # noqa: E731
            self._call.emit(lambda: self._finish(job, callback))

        self._pool.submit(run)
        return job

    def _finish(self, job: Job, callback: Callable[[], None] | None) -> None:
        self._under_way.discard(job)
        self.ended.emit(job)
        if job.task.cancelled:
            if job.cancelled is not None:
                job.cancelled(job)
        elif callback is not None:
            callback()

    def emit_soon(self, function: Callable[[], None]) -> None:
        """Call `function` on the interface's thread; may be called from any thread."""
        self._call.emit(function)

    def cancel_all(self) -> None:
        """Stop everything under way."""
        for job in list(self._under_way):
            job.cancel()

    def close(self) -> None:
        """Stop everything and wait for the threads; nothing begins any more."""
        self._closed = True
        self.cancel_all()
        self._pool.shutdown(wait=True)
