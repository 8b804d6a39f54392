"""Snapshots as Arrow files in the cache folder: mapped, found again by what they were read from, limited
in size.
"""

from __future__ import annotations

import os
import shutil
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import msgspec
import platformdirs
import pyarrow as pa

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.flow.environment import whole_number
from keen_trellis.flow.kinds import digest
from keen_trellis.flow.whole_file import whole_file
from keen_trellis.sources.about import About
from keen_trellis.sources.content import content_of, stamp_of
from keen_trellis.sources.reading import ReadTable

# What is kept on disk at most, in bytes; the environment may say otherwise.
LIMIT_NAME = "KEEN_TRELLIS_CACHE_BYTES"
_LIMIT = 8 * 2**30
# Raised whenever readers come to read something differently, so that older files are not found any more.
_VERSION = 2
_ROWS, _ABOUT, _ROOM, _NOTE = ".arrow", ".json", "room-", "seen-"
_TICK = 50_000_000  # nanoseconds
_NOTES_KEPT = 90 * 24 * 3600  # seconds


class _Seen(msgspec.Struct, frozen=True):
    stamp: tuple[int, ...]
    content: str


class Cache:
    """Read tables by key. Several programs may use one folder: files are put in place whole."""

    def __init__(self, folder: Path | None = None) -> None:
        base = folder or Path(platformdirs.user_cache_dir("keen-trellis"))
        self.folder = base / f"rows-{_VERSION}"
        self.limit = whole_number(LIMIT_NAME, _LIMIT)
        self._lock = threading.Lock()

    def find(self, key: str) -> ReadTable | None:
        """What was kept under the key, mapped from its file, or None."""
        rows, about = self.folder / f"{key}{_ROWS}", self.folder / f"{key}{_ABOUT}"
        try:
            known = msgspec.json.decode(about.read_bytes(), type=About)
            found = ReadTable(_mapped(rows), known)
        except (OSError, msgspec.DecodeError, pa.ArrowInvalid):
            return None
        with suppress(OSError):
            os.utime(about)  # looked at lately: last to be cleaned up
        return found

    def content_of(self, path: Path, task: Task) -> str:
        """The fingerprint of a file's content. Its bytes are read only if the file was touched since the
        last time.
        """
        try:
            stamp = stamp_of(path)
        except OSError as error:
            raise SourceError(f"It cannot be read: {error.strerror}.", where=str(path)) from error
        note = self.folder / f"{_NOTE}{digest(str(path.absolute()))}{_ABOUT}"
        with suppress(OSError, msgspec.DecodeError):
            known = msgspec.json.decode(note.read_bytes(), type=_Seen)
            if known.stamp == stamp:
                os.utime(note)
                return known.content
        content = content_of(path, task)
        # A file that was written to a moment ago may be written to again within the same tick of the clock.
        if time.time_ns() - stamp[0] > _TICK:
            with suppress(OSError):
                self.folder.mkdir(parents=True, exist_ok=True)
                with whole_file(note) as draft:
                    draft.write_bytes(msgspec.json.encode(_Seen(stamp, content)))
        return content

    @contextmanager
    def room(self) -> Iterator[Path]:
        """An empty folder on the disk of the cache, gone afterwards with what is still in it."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            place = Path(tempfile.mkdtemp(prefix=f"{_ROOM}{os.getpid()}-", dir=self.folder))
        except OSError as error:
            raise self._no_room(error) from error
        try:
            yield place
        except OSError as error:
            raise self._no_room(error) from error
        finally:
            shutil.rmtree(place, ignore_errors=True)

    def _no_room(self, error: OSError) -> SourceError:
        return SourceError(
            f"Its rows cannot be kept in the cache folder: {error.strerror}.",
            where=str(self.folder),
            remedy="Make room on that disk, or set XDG_CACHE_HOME to a folder with room.",
        )

    def keep(self, key: str, read: ReadTable, room: Path) -> ReadTable:
        """Keep what was read, in `room` if it was mapped from there, under the key; the same, mapped."""
        files = list(room.glob(f"*{_ROWS}"))
        draft = files[0] if len(files) == 1 else room / f"rows{_ROWS}"
        if not files:
            write(read.data, draft)
        about = room / f"about{_ABOUT}"
        about.write_bytes(msgspec.json.encode(read.about))
        draft.replace(self.folder / f"{key}{_ROWS}")
        about.replace(self.folder / f"{key}{_ABOUT}")
        self._clean_up(key)
        return self.find(key) or read

    def _clean_up(self, newest: str) -> None:
        """Remove what was not looked at for longest until the rest is small enough, and what nobody needs."""
        with self._lock, suppress(OSError):
            entries = []
            for path in self.folder.iterdir():
                if path.name.startswith((_NOTE, _ROOM)):
                    self._remove_if_left(path)
                elif path.suffix == _ABOUT:
                    entries.append(path)
            entries.sort(key=lambda path: path.stat().st_mtime)
            sizes = {path: _size(path) + _size(path.with_suffix(_ROWS)) for path in entries}
            total = sum(sizes.values())
            for path in entries:
                if total <= self.limit:
                    break
                if path.stem != newest:
                    # Rows that are mapped stay readable until the last who reads them is done.
                    path.unlink(missing_ok=True)
                    path.with_suffix(_ROWS).unlink(missing_ok=True)
                    total -= sizes[path]

    def _remove_if_left(self, path: Path) -> None:
        """Remove a room whose process is gone, and a note of a file that nobody asked for in a long time."""
        if path.name.startswith(_ROOM):
            process = path.name.removeprefix(_ROOM).partition("-")[0]
            if not process.isdecimal() or not Path("/proc", process).exists():
                shutil.rmtree(path, ignore_errors=True)
        elif time.time() - path.stat().st_mtime > _NOTES_KEPT:
            path.unlink(missing_ok=True)


def write(data: pa.Table, path: Path) -> None:
    """Write a table as an Arrow file, each chunk as a batch."""
    with pa.OSFile(str(path), "wb") as file, pa.ipc.new_file(file, data.schema) as writer:
        writer.write_table(data)


def _mapped(path: Path) -> pa.Table:
    return pa.ipc.open_file(pa.memory_map(str(path))).read_all()


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0
