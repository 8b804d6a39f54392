"""Long work on threads, with progress and cancel; what it comes to is told on the thread of the session."""

from __future__ import annotations

import time
import traceback
from collections.abc import Callable
from typing import Any, Protocol

from keen_trellis.core.errors import Cancelled, TrellisError
from keen_trellis.core.task import Task
from keen_trellis.session.notice import Notice

_REPORT_EVERY = 0.1  # seconds


class Turns(Protocol):
    """The thread of the session, which does one thing after the other: of a window, its event loop."""

    def soon(self, function: Callable[[], None]) -> None:
        """Call `function` on that thread, in a turn to come; may be called from any thread."""
        ...

    def later(self, seconds: float, function: Callable[[], None]) -> Callable[[], None]:
        """Call `function` after so many seconds, unless what is returned is called before."""
        ...


class Workers(Protocol):
    """Where work is done: a pool of threads."""

    def submit(self, work: Callable[[], None], /) -> object:
        """Do `work` as soon as there is room for it."""
        ...

    def shutdown(self, wait: bool = True) -> None:
        """Begin nothing more."""
        ...


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


class Jobs:
    """Runs jobs on workers and calls back on the thread of the session.

    progressed: a job, done, total, what (total 0: not known).  ended: a job that is over, however.
    faulty: the trace of a defect of ours.
    """

    def __init__(self, turns: Turns, workers: Workers) -> None:
        self.turns = turns
        self._workers = workers
        self._under_way: set[Job] = set()
        self._closed = False
        self.progressed: Notice[Job, int, int, str] = Notice()
        self.ended: Notice[Job] = Notice()
        self.faulty: Notice[str] = Notice()

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
                self.turns.soon(lambda: self.progressed.emit(job, finished, total, doing or what))

        job = Job(what, Task(watch), cancelled)
        if self._closed:
            job.cancel()
            return job
        self._under_way.add(job)

        def run() -> None:
            callback = _outcome(work, job.task, done, failed, self._tell_fault)
            self.turns.soon(lambda: self._finish(job, callback))

        self._workers.submit(run)
        return job

    def _tell_fault(self, trace: str) -> None:
        self.turns.soon(lambda: self.faulty.emit(trace))

    def _finish(self, job: Job, callback: Callable[[], None]) -> None:
        self._under_way.discard(job)
        self.ended.emit(job)
        if not job.task.cancelled:
            callback()
        elif job.cancelled is not None:
            job.cancelled(job)

    def cancel_all(self) -> None:
        """Stop everything under way."""
        for job in list(self._under_way):
            job.cancel()

    def close(self) -> None:
        """Stop everything and wait for the threads; nothing begins any more."""
        self._closed = True
        self.cancel_all()
        self._workers.shutdown(wait=True)


def _outcome(
    work: Callable[[Task], Any],
    task: Task,
    done: Callable[[Any], None],
    failed: Callable[[TrellisError], None],
    faulty: Callable[[str], None],
) -> Callable[[], None]:
    """Do the work; what is to be called with what it came to. faulty: hears of a defect of ours."""
    try:
        outcome = work(task)
        return lambda: done(outcome)
    except Cancelled:
        return lambda: None  # whoever asked is told of it
    except TrellisError as problem:
        error = problem
    except MemoryError:
        error = TrellisError(
            "This machine's memory is not enough for it.", remedy="Use fewer rows or fields."
        )
    except Exception as unexpected:  # noqa: BLE001
        # A defect of ours: said in the window, with the trace on standard error for its mending.
        traceback.print_exc()
        faulty(traceback.format_exc())
        error = TrellisError(f"Something unexpected went wrong: {unexpected}.")
    return lambda: failed(error)
