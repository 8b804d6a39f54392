"""Snapshots as Arrow files in the cache folder: mapped, found again by what they were read from, limited
in size, and checked before they are used.
"""

from __future__ import annotations

import os
import re
import shutil
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import msgspec
import platformdirs
import pyarrow as pa
import xxhash

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.environment import whole_number
from keen_trellis.flow.kinds import digest
from keen_trellis.flow.temporary import clear_left, temporary_folder
from keen_trellis.flow.whole_file import whole_file
from keen_trellis.sources.about import About
from keen_trellis.sources.content import content_of, is_settled, reading, stamp_of
from keen_trellis.sources.contiguous import in_one_piece
from keen_trellis.sources.reading import ReadTable, mapped

# What is kept on disk at most, in bytes; the environment may say otherwise.
LIMIT_NAME = "KEEN_TRELLIS_CACHE_BYTES"
_LIMIT = 8 * 2**30
# Of what is free there it takes more, so that a file is read which is larger than that.
_SHARE_OF_FREE = 3
# Raised whenever readers come to read something differently, so that older files are not found any more.
_VERSION = 4
_ROWS, _ABOUT, _ROOM, _NOTE = ".arrow", ".json", "room-", "seen-"
_KEY = re.compile(r"[0-9a-f]{8,128}")
_LOOK_EVERY = 0.1  # seconds between two looks at how full a room is
_NOTES_KEPT = 90 * 24 * 3600  # seconds


class _Seen(msgspec.Struct, frozen=True):
    stamp: tuple[int, ...]
    content: str


class _Kept(msgspec.Struct, frozen=True):
    """What is kept beside rows. rows: the checksum of their file."""

    rows: str
    about: About


class Cache:
    """Read tables by key. Several programs may use one folder: files are put in place whole."""

    def __init__(self, folder: Path | None = None) -> None:
        base = folder or Path(platformdirs.user_cache_dir("keen-trellis"))
        self.folder = base / f"rows-{_VERSION}"
        self.limit = whole_number(LIMIT_NAME, max(_LIMIT, _free(base) // _SHARE_OF_FREE))
        clear_left(self.folder, prefix=_ROOM)
        self._lock = threading.Lock()
        # Files of rows that were checked, or written, by this process, as they were then.
        self._checked: dict[Path, tuple[int, ...]] = {}

    def find(self, key: str) -> ReadTable | None:
        """What was kept under the key, mapped from its file, or None. What is damaged is removed."""
        if not _KEY.fullmatch(key):
            return None  # a flow names the keys of its last run, and it may be anybody's
        rows, about = self.folder / f"{key}{_ROWS}", self.folder / f"{key}{_ABOUT}"
        try:
            known = decoded(_opened(about), _Kept)
            found = ReadTable(self._mapped(rows, known.rows), known.about)
        except (OSError, SourceError):
            return None
        except (_Damaged, msgspec.DecodeError, pa.ArrowException, ValueError):
            self._remove(key)
            return None
        with suppress(OSError):
            os.utime(about)  # looked at lately: last to be cleaned up
        return found

    def _mapped(self, rows: Path, checksum: str) -> pa.Table:
        """The rows of a file, which is looked through when this process maps it for the first time: a bit
        that is not as it was written would give other rows, or lead out of the file. _Damaged.
        """
        stamp = stamp_of(rows)
        new = self._checked.get(rows) != stamp
        if new and content_of(rows, Task()) != checksum:
            raise _Damaged
        found = mapped(rows)
        if new:
            found.validate(full=True)
            self._checked[rows] = stamp
        return found

    def content_of(self, path: Path, task: Task) -> str:
        """The fingerprint of a file's content. Its bytes are read only if the file was touched since the
        last time.
        """
        with reading(path):
            stamp = stamp_of(path)
        note = self.folder / f"{_NOTE}{digest(str(path.absolute()))}{_ABOUT}"
        with suppress(OSError, _Damaged, msgspec.DecodeError):
            known = decoded(_opened(note), _Seen)
            if known.stamp == stamp:
                os.utime(note)
                return known.content
        content = content_of(path, task)
        if is_settled(stamp):
            with suppress(OSError):
                self.folder.mkdir(parents=True, exist_ok=True)
                with whole_file(note) as draft:
                    draft.write_bytes(_sealed(msgspec.json.encode(_Seen(stamp, content))))
        return content

    @contextmanager
    def room(self) -> Iterator[Path]:
        """An empty folder on the disk of the cache, gone afterwards with what is still in it."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            with temporary_folder(prefix=_ROOM, within=self.folder) as place:
                yield place
        except OSError as error:
            raise self._no_room(error) from error

    def filling(self, room: Path, task: Task) -> Task:
        """The same task, which also sees to it that what is written to `room` stays within the limit."""
        return _Filling(self, room, task)

    def _no_room(self, error: OSError) -> SourceError:
        return SourceError(
            f"Its rows cannot be kept in the cache folder: {error.strerror or error}.",
            where=str(self.folder),
            remedy="Make room on that disk, or set XDG_CACHE_HOME to a folder with room.",
        )

    def keep(self, key: str, read: ReadTable, room: Path) -> ReadTable:
        """Keep what was read, in `room` if it was mapped from there, under the key; the same, mapped."""
        files = list(room.glob(f"*{_ROWS}"))
        draft = files[0] if len(files) == 1 else room / f"rows{_ROWS}"
        if not files:
            write(read.data, draft)
        draft = in_one_piece(draft, room)
        about = room / f"about{_ABOUT}"
        about.write_bytes(_sealed(msgspec.json.encode(_Kept(content_of(draft, Task()), read.about))))
        rows = self.folder / f"{key}{_ROWS}"
        # Not synced: what a power cut leaves of them is told by its checksum, and read again from the source.
        for made, place in ((draft, rows), (about, rows.with_suffix(_ABOUT))):
            made.replace(place)
        self._checked[rows] = stamp_of(rows)
        self._clean_up(key)
        return self.find(key) or read

    def make_room(self, wanted: int) -> None:
        """Let go of what was not looked at for longest, so that so many bytes more stay within the limit."""
        self._clean_up("", wanted)

    def _remove(self, key: str) -> None:
        with suppress(OSError):
            for end in (_ABOUT, _ROWS):
                (self.folder / f"{key}{end}").unlink(missing_ok=True)

    def _clean_up(self, newest: str, wanted: int = 0) -> None:
        """Remove what was not looked at for longest until there is room for the rest and so many bytes more,
        and what nobody needs.
        """
        with self._lock, suppress(OSError):
            entries = []
            for path in self.folder.iterdir():
                if path.name.startswith(_NOTE):
                    self._remove_if_old(path)
                elif path.suffix == _ABOUT:
                    entries.append(path)
            entries.sort(key=lambda path: path.stat().st_mtime)
            sizes = {path: _size(path) + _size(path.with_suffix(_ROWS)) for path in entries}
            total = sum(sizes.values()) + wanted
            for path in entries:
                if total <= self.limit:
                    break
                if path.stem != newest:
                    # Rows that are mapped stay readable until the last who reads them is done.
                    path.unlink(missing_ok=True)
                    path.with_suffix(_ROWS).unlink(missing_ok=True)
                    total -= sizes[path]

    def _remove_if_old(self, path: Path) -> None:
        """Remove a note of a file that nobody asked for in a long time."""
        if time.time() - path.stat().st_mtime > _NOTES_KEPT:
            path.unlink(missing_ok=True)


def write(data: pa.Table, path: Path) -> None:
    """Write a table as an Arrow file, each chunk as a batch."""
    with pa.OSFile(str(path), "wb") as file, pa.ipc.new_file(file, data.schema) as writer:
        writer.write_table(data)


class _Damaged(Exception):
    """A file of the cache is not as it was written."""


class _Filling(Task):
    """A task during which a room is filled: looks at its size from time to time."""

    def __init__(self, cache: Cache, room: Path, task: Task) -> None:
        super().__init__()
        self._cache, self._room, self._task = cache, room, task
        self._looked = time.monotonic()
        self._room_made = 0

    @property
    def cancelled(self) -> bool:
        return self._task.cancelled

    def cancel(self) -> None:
        self._task.cancel()

    def checkpoint(self, done: int = 0, total: int = 0, what: str = "") -> None:
        self._task.checkpoint(done, total, what)
        if time.monotonic() - self._looked < _LOOK_EVERY:
            return
        self._looked = time.monotonic()
        size = sum(_size(path) for path in self._room.iterdir())
        limit = self._cache.limit
        if size > limit:
            raise SourceError(
                f"Its rows take more than {limit / 2**30:.1f} GiB, which is all that the cache may hold.",
                remedy=f"Read fewer fields or rows of it, or set {LIMIT_NAME} to more bytes.",
            )
        if size > self._room_made:
            self._room_made = size + limit // 16
            self._cache.make_room(self._room_made)


def _sealed(content: bytes) -> bytes:
    """The content behind its checksum."""
    return xxhash.xxh3_128_hexdigest(content).encode() + b"\n" + content


def _opened(path: Path) -> bytes:
    """The content of a sealed file; _Damaged if it is not as it was written."""
    seal, _, content = path.read_bytes().partition(b"\n")
    if seal != xxhash.xxh3_128_hexdigest(content).encode():
        raise _Damaged
    return content


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


def _free(folder: Path) -> int:
    """The bytes that are free where a folder is, or will be; 0 where that cannot be told."""
    there = next((place for place in (folder, *folder.absolute().parents) if place.exists()), None)
    with suppress(OSError):
        return shutil.disk_usage(there).free if there is not None else 0
    return 0
