"""Every source that was opened: which reader reads it, what it holds, and the snapshot taken of it."""

from __future__ import annotations

import threading
import time
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from keen_trellis.core.errors import SourceError, UsageError
from keen_trellis.core.task import Task
from keen_trellis.flow.snapshot import Remark, Snapshot
from keen_trellis.flow.steps.source import SourceSettings
from keen_trellis.sources.readers import READERS
from keen_trellis.sources.reading import Listing, Reader, ReadTable
from keen_trellis.sources.recognise import TEXT, recognise

_LOOK_EVERY = 0.1  # seconds between two looks whether waiting was cancelled


@dataclass(frozen=True)
class FileContent:
    """What a file holds, and which reader reads it."""

    path: str
    reader: str
    tables: tuple[Listing, ...]

    def settings(self, table: str) -> SourceSettings:
        """The settings of a source step for one of the tables."""
        return SourceSettings(self.reader, self.path, "" if self.reader == TEXT else table)


class Library:
    """Snapshots by source. Safe between threads; each source is read by one of them at a time."""

    def __init__(self) -> None:
        self._snapshots: dict[SourceSettings, Snapshot] = {}
        self._stamps: dict[SourceSettings, _Stamp] = {}
        self._locks: dict[SourceSettings, threading.Lock] = {}
        self._lock = threading.Lock()

    def content(self, path: Path, task: Task | None = None) -> FileContent:
        """What the file at `path` holds. SourceError if it cannot be read."""
        reader = recognise(path).reader
        tables = READERS[reader].tables(path, task or Task())
        return FileContent(str(path.absolute()), reader, tuple(tables))

    def get(self, settings: SourceSettings, task: Task) -> Snapshot:
        with self._lock:
            lock = self._locks.setdefault(settings, threading.Lock())
        while not lock.acquire(timeout=_LOOK_EVERY):
            task.checkpoint(0, 0, f"waiting for {settings.file_name}")
        try:
            found = self._snapshots.get(settings)
            if found is None:
                # Stamped before it is read: a change while it is read makes it old.
                stamp = _stamp(settings)
                found = self._snapshots[settings] = _snapshot(settings, task)
                self._stamps[settings] = stamp
            return found
        finally:
            lock.release()

    def forget_changed(self) -> None:
        """Let go of snapshots whose files are gone or have changed: they are read anew when asked for."""
        for settings, stamp in list(self._stamps.items()):
            if stamp != _stamp(settings):
                self._snapshots.pop(settings, None)
                self._stamps.pop(settings, None)

    def known(self, settings: SourceSettings) -> Snapshot | None:
        """The snapshot if it was taken already."""
        return self._snapshots.get(settings)


_Stamp = tuple[int, int, int] | None


def _stamp(settings: SourceSettings) -> _Stamp:
    """What tells one state of a file from another without reading it: None if there is no file."""
    try:
        found = Path(settings.path).stat()
    except OSError:
        return None
    return found.st_mtime_ns, found.st_size, found.st_ino


def _snapshot(settings: SourceSettings, task: Task) -> Snapshot:
    started = time.perf_counter()
    path = Path(settings.path)
    recognised = recognise(path)
    reader = _reader(settings)
    if recognised.reader != settings.reader:
        raise SourceError(
            f"It was read as {settings.reader}, but holds a {recognised.content} now.",
            where=settings.path,
            remedy="Open the file anew.",
        )
    read: ReadTable = reader.read(path, settings.table, task)
    remarks = read.remarks
    if recognised.mislabelled:
        said = f"its name says {recognised.mislabelled}, but it is {recognised.content}, and read as such"
        remarks = (Remark(said, doubtful=True), *remarks)
    return Snapshot(read.table, remarks, uuid.uuid4().hex, time.perf_counter() - started)


def _reader(settings: SourceSettings) -> Reader:
    reader = READERS.get(settings.reader)
    if reader is None:
        raise SourceError(
            f"This version does not know the reader “{settings.reader}”.",
            where=settings.path,
            remedy="Open the flow with a newer version.",
        )
    return reader


@dataclass(frozen=True)
class NamedSource:
    """A source as the command line names it: [NAME=]FILE[#TABLE]."""

    name: str
    settings: SourceSettings


def resolve(text: str, library: Library) -> NamedSource:
    """The source that `text` names. Without #TABLE the file must hold just one table.

    Raises UsageError if it is not clear which table is meant, SourceError if the file cannot be read.
    """
    name, rest = "", text
    before, equals, after = text.partition("=")
    if equals and "/" not in before and "." not in before and not Path(text.partition("#")[0]).exists():
        name, rest = before.strip(), after
    path, table = _split_table(rest)
    content = library.content(path)
    chosen = _chosen_table(content.tables, table, path)
    return NamedSource(name or chosen, content.settings(chosen))


def _split_table(text: str) -> tuple[Path, str]:
    if "#" in text and not Path(text).exists():
        path, _, table = text.rpartition("#")
        return Path(path), table
    return Path(text), ""


def _chosen_table(tables: Sequence[Listing], table: str, path: Path) -> str:
    names = [entry.name for entry in tables]
    if table:
        same = [name for name in names if name.casefold() == table.casefold()]
        if table in names or len(same) != 1:
            return table
        return same[0]
    if not names:
        raise SourceError("It holds no table.", where=str(path))
    if len(names) > 1:
        raise UsageError(
            f"{path.name} holds several tables.",
            remedy=f"Say which: {', '.join(f'{path.name}#{n}' for n in names)}.",
        )
    return names[0]
