"""Keeps what is not saved yet: a copy of the open flow in the state folder, offered again after a crash."""

from __future__ import annotations

import datetime as dt
import fcntl
import time
import uuid
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import BinaryIO

import msgspec

from keen_trellis.core.errors import TrellisError
from keen_trellis.flow import file_format
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.whole_file import whole_file
from keen_trellis.session.session import Session

# Seconds after the last edit, and after the first that is not kept yet.
_WAIT, _AT_LATEST = 0.3, 1.0
_ABOUT, _FLOW, _LOCK = ".json", ".trellis", ".lock"


class About(msgspec.Struct, frozen=True):
    """What belongs to an open flow. path: of its file, "" for none.  kept: when the copy was written, in UTC,
    "" if all is saved.  accepted: whether nothing in it waited for the user to accept it.
    """

    path: str
    kept: str = ""
    accepted: bool = False


class Leftover(msgspec.Struct, frozen=True):
    """A copy whose window is gone without having saved it."""

    file: Path
    about: About
    flow: Flow

    @property
    def name(self) -> str:
        return Path(self.about.path).stem if self.about.path else "Untitled flow"

    @property
    def when(self) -> str:
        """When it was kept, in local time."""
        moment = dt.datetime.fromisoformat(self.about.kept).astimezone()
        today = moment.date() == dt.datetime.now().astimezone().date()
        return f"{moment:%H:%M}" if today else f"{moment:%Y-%m-%d %H:%M}"


class Autosave:
    """Writes a copy soon after each edit, and takes it away once the flow is saved."""

    def __init__(self, session: Session, folder: Path, *, wait: float = _WAIT) -> None:
        self._session, self.folder = session, folder
        self._me = uuid.uuid4().hex
        self._lock: BinaryIO | None = None  # held as long as this session has its flow open
        self._put_off: Callable[[], None] = _nothing  # what keeps the next copy from being written
        self._wait = wait
        self._since: float | None = None  # when the first edit was made that is not kept yet
        # Disks may take their time: the window does not wait for them. One by one, in their order.
        self._writer = ThreadPoolExecutor(1)
        self._closed = False
        session.changed.connect(self._follow)

    def _follow(self) -> None:
        if not self._session.unsaved:
            self._put_off()
            self._since = None
            about = About(str(self._session.path or ""))
            # Behind what is still being written; who saved waits for a disk anyway.
            self._writer.submit(self._all_saved, about).result()
            return
        now = time.monotonic()
        self._since = now if self._since is None else self._since
        left = _AT_LATEST - (now - self._since)
        self._put_off()
        self._put_off = self._session.jobs.turns.later(max(min(self._wait, left), 0), self._keep_soon)

    def _all_saved(self, about: About) -> None:
        self._write(about)
        with suppress(OSError):
            self._file(_FLOW).unlink(missing_ok=True)

    def keep(self) -> None:
        """Write the copy now. That it cannot be written is no error: the flow itself can still be saved."""
        self._keep_aside().result()

    def _keep_soon(self) -> None:
        self._keep_aside()

    def _keep_aside(self) -> Future[None]:
        self._since = None
        now = dt.datetime.now(dt.UTC).isoformat(timespec="seconds")
        path, accepted = str(self._session.path or ""), not self._session.library.waiting
        about = About(path, now, accepted)
        return self._writer.submit(self._write_copy, self._session.flow, about)

    def _write_copy(self, flow: Flow, about: About) -> None:
        with suppress(OSError, TrellisError):
            self.folder.mkdir(parents=True, exist_ok=True)
            file_format.save(flow, self._file(_FLOW), KINDS)
            self._write(about)

    def close(self) -> None:
        """Take the copy away: it was saved, or given up."""
        if not self._closed:
            self._closed = True
            self._session.changed.disconnect(self._follow)
        self._put_off()
        self._writer.shutdown()
        self.throw_away(self._file(_ABOUT))
        if self._lock is not None:
            self._lock.close()

    def is_open_elsewhere(self, path: Path) -> bool:
        """Whether another window has the flow in this file open."""
        return any(
            about.path == str(path.absolute()) and _is_held(file.with_suffix(_LOCK))
            for file, about in self._all()
            if file != self._file(_ABOUT)
        )

    def leftovers(self) -> list[Leftover]:
        """Copies that nobody has open any more, the latest first."""
        found = []
        for file, about in self._all():
            if _is_held(file.with_suffix(_LOCK)):
                continue
            copy = file.with_suffix(_FLOW)
            if not about.kept or not copy.exists():
                self.throw_away(file)
                continue
            with suppress(TrellisError):
                found.append(Leftover(file, about, file_format.load(copy, KINDS)))
        return sorted(found, key=lambda entry: entry.about.kept, reverse=True)

    def throw_away(self, file: Path) -> None:
        """Remove a copy."""
        for suffix in (_FLOW, _ABOUT, _LOCK):
            file.with_suffix(suffix).unlink(missing_ok=True)

    def _file(self, suffix: str) -> Path:
        return self.folder / f"{self._me}{suffix}"

    def _write(self, about: About) -> None:
        with suppress(OSError):
            self.folder.mkdir(parents=True, exist_ok=True)
            if self._lock is None:
                self._lock = self._file(_LOCK).open("wb")
                fcntl.flock(self._lock, fcntl.LOCK_EX)
            with whole_file(self._file(_ABOUT)) as draft:
                draft.write_bytes(msgspec.json.encode(about))

    def _all(self) -> list[tuple[Path, About]]:
        found = []
        with suppress(OSError):
            for file in self.folder.glob(f"*{_ABOUT}"):
                with suppress(OSError, msgspec.DecodeError):
                    found.append((file, decoded(file.read_bytes(), About)))
        return found


def _nothing() -> None:
    """Nothing is put off."""


def _is_held(lock: Path) -> bool:
    """Whether somebody has the flow open that a lock belongs to: the system lets it go when they are gone,
    however that was, and tells it between machines that share a disk, too.
    """
    try:
        with lock.open("rb") as file:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except OSError:
        return False
    return False
