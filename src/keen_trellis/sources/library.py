"""Every source that was opened: which reader reads it, what it holds, and the snapshot taken of it."""

from __future__ import annotations

import threading
import time
from collections.abc import Collection, Sequence
from contextlib import suppress
from pathlib import Path

import msgspec

from keen_trellis.core.errors import SourceError, UsageError
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.databases import secrets
from keen_trellis.flow.addresses import is_address
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.kinds import Kinds, digest
from keen_trellis.flow.last_run import LastRun
from keen_trellis.flow.snapshot import Earlier, Snapshot
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps.source import sources_of
from keen_trellis.flow.trust import NotAccepted, Reach, reached_by
from keen_trellis.sources.about import Listing
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.content import being_changed, content_of_rows
from keen_trellis.sources.kept_types import as_text_said, read_as_text, to_be_text
from keen_trellis.sources.listings import Listings
from keen_trellis.sources.locations import reader_for, recognised_as
from keen_trellis.sources.readers import READERS
from keen_trellis.sources.reading import WRITING, Reader, ReadTable, refuse_unused
from keen_trellis.sources.shaping import shaped

_LOOK_EVERY = 0.1  # seconds between two looks whether waiting was cancelled
_TRIES = 2


class FileContent(msgspec.Struct, frozen=True):
    """What a file, folder or database holds, and which reader reads it."""

    path: str
    reader: str
    tables: tuple[Listing, ...]

    @property
    def is_one_table(self) -> bool:
        """Whether the file, or folder of files, is a table as a whole."""
        return len(self.tables) == 1 and self.tables[0].sort in ("file", "files")

    def same(self, table: str) -> SourceSettings | None:
        """Its table that is called so, or the only one; None if neither is there."""
        found = self.called(table) or (self.tables[0].name if len(self.tables) == 1 else "")
        return self.settings(found) if found else None

    def called(self, table: str) -> str:
        """Its table of this name, or the only one that differs from it in case; "" if there is none."""
        names = [entry.name for entry in self.tables]
        like = [name for name in names if name.casefold() == table.casefold()]
        return table if table in names else like[0] if len(like) == 1 else ""

    def settings(self, table: str) -> SourceSettings:
        """The settings of a source step for one of the tables."""
        return SourceSettings(self.reader, self.path, "" if self.is_one_table else table)


class Library:
    """Snapshots by source. Safe between threads; each source is read by one of them at a time."""

    def __init__(self, cache: Cache | None = None) -> None:
        self.cache = cache or Cache()
        self._snapshots: dict[SourceSettings, Snapshot] = {}
        self._earlier: dict[SourceSettings, str] = {}
        # By which settings a source was read whose fields had to stay text, as they were in the last run.
        self._read_by: dict[SourceSettings, SourceSettings] = {}
        # Snapshots whose files may have changed since: they are looked at when they are asked for.
        self._unchecked: set[SourceSettings] = set()
        self._locks: dict[SourceSettings, threading.Lock] = {}
        self._lock = threading.Lock()
        self._listings = Listings()
        # What the open flow reaches and the user has not accepted: it is not connected to, nor asked.
        self.waiting: frozenset[Reach] = frozenset()

    def content(self, path: Path | str, task: Task | None = None) -> FileContent:
        """What is at `path`. SourceError if it cannot be read."""
        place, reader = reader_for(secrets.take_out_password(str(path)))
        self._check_accepted(SourceSettings(reader, place))
        return self._listings.found(
            (reader, place),
            self._files_listed(place, reader),
            lambda: FileContent(place, reader, tuple(READERS[reader].tables(place, task or Task()))),
        )

    def _files_listed(self, place: str, reader: str) -> list[Path] | None:
        """The files that tell whether what lies at a place is as it was."""
        with suppress(SourceError, OSError):
            return READERS[reader].files(SourceSettings(reader, place))
        return None

    def further_content(self, content: FileContent, task: Task | None = None) -> FileContent:
        """The same with tables that are found only by reading: a second one in a sheet."""
        more = self._listings.found(
            (content.reader, content.path, "further"),
            self._files_listed(content.path, content.reader),
            lambda: READERS[content.reader].further_tables(content.path, task or Task()),
        )
        return msgspec.structs.replace(content, tables=with_further(content.tables, more))

    def get(self, settings: SourceSettings, task: Task) -> Snapshot:
        with self._lock:
            lock = self._locks.setdefault(settings, threading.Lock())
        while not lock.acquire(timeout=_LOOK_EVERY):
            task.checkpoint(0, 0, f"waiting for {settings.file_name}")
        try:
            if settings in self._unchecked:
                self._drop_if_changed(settings, task)
            found = self._snapshots.get(settings)
            if found is None:
                found = self._snapshots[settings] = self._taken_or_earlier(settings, task)
            return found
        finally:
            lock.release()

    def _drop_if_changed(self, settings: SourceSettings, task: Task) -> None:
        """Let go of a snapshot whose file is gone or has changed."""
        try:
            read_by = self._read_by.get(settings, settings)
            same = self._snapshots[settings].content in self._identities(read_by, task)
        except SourceError:
            same = False
        if not same:
            self._snapshots.pop(settings, None)
        self._unchecked.discard(settings)

    def _taken_or_earlier(self, settings: SourceSettings, task: Task) -> Snapshot:
        try:
            return self._taken(settings, task, self._known_rows(settings))
        except NotAccepted:
            raise
        except SourceError as error:
            earlier = self.earlier(settings, self._earlier.get(settings, ""))
            if earlier is None:
                raise
            return msgspec.structs.replace(earlier, old=str(error))

    def files(self, settings: SourceSettings) -> list[Path]:
        if not settings.path:
            return []
        with suppress(SourceError):
            reader = _reader(settings)
            found = list(reader.files(settings) or ())
            beside = [path.with_name(f"{path.name}{end}") for path in found for end in reader.beside]
            whole = [] if is_address(settings.path) else [Path(settings.path)]
            return [*found, *beside, *whole]
        return [Path(settings.path)]

    def take_anew(self) -> None:
        """Take all sources as they are now: when one is asked for the next time, it is read again if its file
        is gone or has changed.
        """
        self._earlier = {}
        self._unchecked = set(self._snapshots)

    def fall_back_on(self, flow: Flow, kinds: Kinds, last: LastRun) -> None:
        """Where a source of the flow cannot be read, use the rows of its last run, marked as old."""
        self._earlier = {
            settings: last.sources[step].content
            for step, settings in sources_of(flow, kinds).items()
            if step in last.sources
        }

    def first_rows(self, settings: SourceSettings, task: Task) -> Snapshot | None:
        """The first rows of a source, where they are to be had long before all of them; else None."""
        reader = self._ready_reader(settings)
        with self.cache.room() as room:
            read = reader.first_rows(settings, room, task)
            return _snapshot(read, "", settings, 0.0) if read is not None else None

    def refresh(self, settings: SourceSettings, task: Task) -> Snapshot:
        """Take the snapshot anew. The last good one stays, marked as old, where that cannot be done."""
        last = self._snapshots.get(settings)
        try:
            found = self._taken(settings, task)
        except SourceError as error:
            if last is None:
                raise
            found = msgspec.structs.replace(last, old=str(error))
        # What was read of it before for another run's types is of before, too.
        bare = _without_kept(settings)
        for other in [entry for entry in self._snapshots if _without_kept(entry) == bare]:
            self._snapshots.pop(other, None)
            self._unchecked.discard(other)
        self._snapshots[settings] = found
        return found

    def forget_all(self) -> None:
        """Let go of all snapshots; what is in the cache stays there."""
        self._snapshots.clear()
        self._unchecked.clear()

    def keep_only(self, used: Collection[SourceSettings]) -> None:
        """Let go of what is known of other sources; their rows stay in the cache."""
        bare = {_without_kept(entry) for entry in used}
        with self._lock:
            for settings in [entry for entry in self._snapshots if _without_kept(entry) not in bare]:
                self._snapshots.pop(settings, None)
            self._unchecked &= set(self._snapshots)
            for settings in [entry for entry in self._locks if entry not in used]:
                # One that is being read now goes the next time.
                if not self._locks[settings].locked():
                    del self._locks[settings]

    @property
    def held(self) -> int:
        """The bytes in memory of all sources: of columns that are read as another type."""
        return sum(snapshot.held for snapshot in list(self._snapshots.values()))

    def known(self, settings: SourceSettings) -> Snapshot | None:
        """The snapshot if it was taken already, and is not to be taken anew."""
        return self._snapshots.get(settings) if settings not in self._unchecked else None

    def _taken(
        self, settings: SourceSettings, task: Task, known: tuple[ReadTable, str] | None = None
    ) -> Snapshot:
        """A source as it is now. known: its rows, where they need not be read for that."""
        started = time.perf_counter()
        try:
            read, content = known or self._rows(settings, task)
            texts = self._to_be_text(settings, read)
            if texts:
                read_by = self._read_by[settings] = read_as_text(settings, [name for name, _ in texts])
                read, content = self._rows(read_by, task)
        except SourceError as error:
            error.where = error.where or settings.path
            raise
        found = _snapshot(read, content, settings, time.perf_counter() - started)
        told = recognised_as(settings) if _reader(settings).of_file else ()
        return msgspec.structs.replace(
            found, remarks=(*told, *found.remarks, *(as_text_said(*entry) for entry in texts))
        )

    def _to_be_text(self, settings: SourceSettings, read: ReadTable) -> list[tuple[str, FieldType]]:
        """The fields that were text when the flow last ran, with what they were read as: how they are written
        is known only where they are read as text.
        """
        return to_be_text(read.fields, settings) if _reader(settings).uses & WRITING else []

    def _known_rows(self, settings: SourceSettings) -> tuple[ReadTable, str] | None:
        """The rows of the same source as they were read for a flow that ran with other types, or not yet: a
        database is not asked for them again.
        """
        bare = _without_kept(settings)
        for other, snapshot in list(self._snapshots.items()):
            if other in self._unchecked or other in self._read_by or _without_kept(other) != bare:
                continue
            read = self.cache.find(snapshot.content) if snapshot.content and not snapshot.old else None
            return (read, snapshot.content) if read is not None else None
        return None

    def earlier(self, settings: SourceSettings, content: str) -> Snapshot | None:
        """The snapshot as it was with the content that was remembered, if its rows are still in the cache."""
        read = self.cache.find(content) if content else None
        if read is None or not settings.left_out.issuperset(read.about.unread):
            return None  # or a field that is wanted now was not read then
        try:
            return _snapshot(read, content, settings, 0.0)
        except SourceError:
            return None

    def before(self, flow: Flow, kinds: Kinds, last: LastRun | None) -> Earlier:
        """The snapshots that a flow's last run had, as far as their rows are still in the cache."""
        found: dict[SourceSettings, Snapshot] = {}
        for step in flow.steps:
            counts = last.sources.get(step.id) if last is not None else None
            if counts is None or not kinds.begins_rail(step):
                continue
            settings = kinds.settled(flow, step)
            snapshot = self.earlier(settings, counts.content)
            if snapshot is not None:
                found[settings] = snapshot
        return Earlier(found)

    def _rows(self, settings: SourceSettings, task: Task) -> tuple[ReadTable, str]:
        """The rows as the reader hands them out, from the cache if they are there, and their identity."""
        reader = self._ready_reader(settings)
        for _ in range(_TRIES):
            identities = self._identities(settings, task)
            for identity in identities:
                found = self.cache.find(identity)
                if found is not None:
                    return found, identity
            with self.cache.room() as room:
                read = reader.read(settings, room, self.cache.filling(room, task))
                is_as_it_was = identities == self._identities(settings, task)
                # A file that was changed while it was read may have been read half old, half new.
                if not is_as_it_was and not reader.at_one_moment:
                    continue
                if identities and is_as_it_was:
                    key = identities[-1]
                else:
                    key = digest(_what_is_read(settings), content_of_rows(read, task))
                return self.cache.keep(key, read, room), key
        raise being_changed(settings.path)

    def _ready_reader(self, settings: SourceSettings) -> Reader:
        """The reader of a source that is settled well, accepted, and of the kind that it was."""
        settings.check()
        self._check_accepted(settings)
        reader = _reader(settings)
        refuse_unused(settings, reader.uses, reader.said)
        if reader.of_file:
            recognised_as(settings)
        return reader

    def _check_accepted(self, settings: SourceSettings) -> None:
        for entry in reached_by(settings) if self.waiting else ():
            if entry in self.waiting:
                raise NotAccepted(entry)

    def _identities(self, settings: SourceSettings, task: Task) -> list[str]:
        """What tells the rows apart from those of another content or setting; none where only reading tells.

        Where fields that are left out need not be read, those of all fields come first: they will do, too.
        """
        reader = _reader(settings)
        files = reader.files(settings)
        if files is None:
            return []
        contents = [(path.name, self.cache.content_of(path, task)) for path in files]
        found = [digest(_what_is_read(settings), contents)]
        if reader.can_leave_out and settings.left_out:
            found.append(digest(_what_is_read(settings), contents, sorted(settings.left_out)))
        return found


def _snapshot(read: ReadTable, content: str, settings: SourceSettings, seconds: float) -> Snapshot:
    about = read.about
    table, remarks, held = shaped(read, settings)
    return Snapshot(
        table,
        remarks,
        identity=digest(content, settings.fields, [field.arrow_type for field in table.fields]),
        seconds=seconds,
        raw=about.raw,
        key=about.key,
        foreign_keys=about.foreign_keys,
        settled=about.settled,
        content=content,
        held=held,
    )


def _what_is_read(settings: SourceSettings) -> bytes:
    """The settings that the reader goes by; where the file lies, and how fields are called, is not among
    them.
    """
    plain = msgspec.structs.replace(settings, path="", fields=(), kept=())
    return msgspec.json.encode((plain, sorted(settings.kept_as_text)))


def _without_kept(settings: SourceSettings) -> SourceSettings:
    return msgspec.structs.replace(settings, kept=())


def _reader(settings: SourceSettings) -> Reader:
    reader = READERS.get(settings.reader)
    if reader is None:
        raise SourceError(
            f"This version does not know the reader “{settings.reader}”.",
            where=settings.path,
            remedy="Open the flow with a newer version.",
        )
    return reader


def with_further(tables: Sequence[Listing], more: Sequence[Listing]) -> tuple[Listing, ...]:
    """The tables with further ones, each after those of its sheet."""
    found = list(tables)
    for entry in more:
        if any(other.name == entry.name for other in found):
            continue
        sheet = entry.name.rpartition("!")[0]
        places = [
            place
            for place, other in enumerate(found)
            if other.name.rpartition("!")[0] == sheet or other.name == sheet
        ]
        found.insert(places[-1] + 1 if places else len(found), entry)
    return tuple(found)


class NamedSource(msgspec.Struct, frozen=True):
    """A source as the command line names it: [NAME=]SOURCE[#TABLE]."""

    name: str
    settings: SourceSettings


def resolve(text: str, library: Library, usual: str = "") -> NamedSource:
    """The source that `text` names: FILE, FOLDER, pattern or address, with #TABLE where it holds several.

    usual: the table that is meant where the place has one called so and none is named.

    Raises UsageError if it is not clear which table is meant, SourceError if it cannot be read.
    """
    name, place, table = split_source(text)
    secrets.name_place(place)
    content = library.content(place)
    meant = content.same(usual) if usual and not table else None
    if meant is not None:
        return NamedSource(name or meant.table or usual, meant)
    chosen = _chosen_table(content, table)
    return NamedSource(name or chosen, content.settings(chosen))


def split_source(text: str) -> tuple[str, str, str]:
    """Name, place and table of a source as it is written on the command line; "" where not given."""
    name, rest = "", text
    before, equals, after = text.partition("=")
    plain = equals and not set(before) & set("/.:#")
    if plain and not Path(text.partition("#")[0]).exists():
        name, rest = before.strip(), after
    if "#" in rest and not Path(rest).exists():
        place, _, table = rest.rpartition("#")
        return name, place, table
    return name, rest, ""


def _chosen_table(content: FileContent, table: str) -> str:
    if table:
        return content.called(table) or table
    names = [entry.name for entry in content.tables]
    if not names:
        raise SourceError("It holds no table.", where=content.path)
    if len(names) > 1:
        file = Path(content.path).name
        raise UsageError(
            f"{file} holds several tables.",
            remedy=f"Say which: {', '.join(f'{file}#{name}' for name in names[:20])}.",
        )
    return names[0]
