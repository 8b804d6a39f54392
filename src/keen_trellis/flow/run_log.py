"""The log beside a flow, `NAME.runs.jsonl`: a line of JSON a run.

Lines are only added. Each has an id and a time, so that the lines of two machines can be put together in
any order, some of them twice, or with the marks that a tool for versions leaves between them: what is read
is the same.
"""

from __future__ import annotations

import errno
import fcntl
import os
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

import msgspec

from keen_trellis.core.errors import FlowFileError, TrellisError, UsageError
from keen_trellis.core.insight.guards import Past
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.runs import Run, past_of
from keen_trellis.flow.whole_file import whole_file

RUNS_ENDING = ".runs.jsonl"
MOST_RUNS = 1000
# So many more may have gathered before the log is written anew without the oldest.
_SLACK = 100
_LARGEST = 64 * 2**20  # bytes
_NOT_NOTED = "The run is not noted: move the file or the flow, or let the flow keep no log."


class RunLog(msgspec.Struct, frozen=True):
    """What a log holds. runs: oldest first, each once.  others: lines that are no run."""

    path: Path
    runs: tuple[Run, ...] = ()
    others: int = 0


def log_path(flow_path: Path) -> Path:
    """Where the log of a flow lies."""
    return flow_path.with_name(f"{flow_path.stem}{RUNS_ENDING}")


def read(flow_path: Path) -> RunLog:
    """The runs that a flow's log remembers, none if there is no log. FlowFileError if it cannot be read."""
    path = log_path(flow_path)
    if not os.path.lexists(path):
        return RunLog(path)
    with _opened(path, os.O_RDONLY, fcntl.LOCK_SH) as file:
        lines = _lines(file)
    told = [_run(line) for line in lines]
    runs = {run.id: run for run in told if run is not None}
    others = told.count(None)
    return RunLog(path, tuple(sorted(runs.values(), key=lambda run: (run.taken, run.id))), others)


def past(flow_path: Path | None, step: str, count: int, *, row: str = "") -> list[Past]:
    """What a step came to in earlier runs, as `runs.past_of` tells it. UsageError if that cannot be read."""
    if flow_path is None:
        raise UsageError("The flow has no file yet, and so no log of runs.", remedy="Save it.")
    try:
        return past_of(read(flow_path).runs, step, count, row)
    except FlowFileError as error:
        raise UsageError(f"The log of runs cannot be read: {error.what}", where=error.where) from error


def note(run: Run, flow_path: Path, check: Callable[[Path], None] | None = None) -> None:
    """Add a run to the log of a flow; FlowFileError, and the log as it was, if that cannot be done.

    check: raises unless the log may be written there, where a source could lie.
    """
    path = log_path(flow_path)
    if check is not None:
        try:
            check(path)
        except TrellisError as error:
            raise FlowFileError(error.what, where=str(path), remedy=_NOT_NOTED) from error
    with _opened(path, os.O_RDWR | os.O_CREAT | os.O_APPEND, fcntl.LOCK_EX) as file:
        lines = _lines(file)
        if lines and not any(_run(line) is not None for line in lines):
            raise FlowFileError("It is not a log of runs.", where=str(path), remedy=_NOT_NOTED)
        ends = file.seek(0, os.SEEK_END)
        # Where a line was cut off by a crash, the next one begins on a line of its own.
        cut_off = bool(lines) and _last_byte(file, ends) != b"\n"
        line = (b"\n" if cut_off else b"") + msgspec.json.encode(run) + b"\n"
        if _written(file, line) < len(line):
            file.truncate(ends)
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        if len(lines) >= MOST_RUNS + _SLACK:
            _trim(path, [*lines, line.strip()])


def _written(file: BinaryIO, line: bytes) -> int:
    """How much of a line could be written."""
    with suppress(OSError):
        return file.write(line)
    return 0


def _trim(path: Path, lines: list[bytes]) -> None:
    """Write the log anew with the latest runs among its lines, and every line that is none."""
    told = [(line, _run(line)) for line in lines]
    times = sorted((run.taken, run.id) for _, run in told if run is not None)
    first = times[-MOST_RUNS:][0]
    kept = [line for line, run in told if run is None or (run.taken, run.id) >= first]
    with whole_file(path) as draft:
        draft.write_bytes(b"".join(line + b"\n" for line in dict.fromkeys(kept)))


@contextmanager
def _opened(path: Path, how: int, lock: int) -> Iterator[BinaryIO]:
    """The log, locked. FlowFileError if it is no ordinary file, or what is done with it fails."""
    try:
        while True:
            # A link would lead a flow from elsewhere to any file of the user's, a pipe would wait for ever.
            number = os.open(path, how | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, 0o666)
            with os.fdopen(number, "rb" if how == os.O_RDONLY else "r+b", buffering=0) as file:
                found = os.fstat(number)
                if not stat.S_ISREG(found.st_mode):
                    raise FlowFileError("It is not an ordinary file.", where=str(path), remedy=_NOT_NOTED)
                fcntl.flock(number, lock)
                if not _is_there(path, found):
                    continue  # it was written anew while it was waited for
                yield file
                return
    except OSError as error:
        remedy = "Let its folder be writable, or let the flow keep no log."
        raise FlowFileError(
            f"The log of runs cannot be used: {error.strerror}.", where=str(path), remedy=remedy
        ) from error


def _is_there(path: Path, found: os.stat_result) -> bool:
    try:
        now = path.lstat()
    except FileNotFoundError:
        return False
    return (now.st_dev, now.st_ino) == (found.st_dev, found.st_ino)


def _lines(file: BinaryIO) -> list[bytes]:
    """The lines that are not empty."""
    if os.fstat(file.fileno()).st_size > _LARGEST:
        raise FlowFileError("It is too large to be a log of runs.", where=str(file.name), remedy=_NOT_NOTED)
    file.seek(0)
    return [line for line in file.read().splitlines() if line.strip()]


def _last_byte(file: BinaryIO, ends: int) -> bytes:
    file.seek(ends - 1)
    return file.read(1)


def _run(line: bytes) -> Run | None:
    try:
        return decoded(line, Run)
    except (msgspec.DecodeError, UnicodeDecodeError):
        return None
