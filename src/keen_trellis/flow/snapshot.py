"""A source as it was when it was read: its rows, what there is to say about them, and its identity."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Protocol

import msgspec

from keen_trellis.core.errors import SourceError
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.flow.remark import ForeignKey, Raw, Remark
from keen_trellis.flow.source_settings import Settled, SourceSettings


class Snapshot(msgspec.Struct, frozen=True):
    """The rows of one table of one source, as they were when it was read.

    identity: the same for the same content read the same way.  key: the fields of its primary key, if known.
    content: the same for the same content, whatever is set for its fields; its rows are in the cache under
    it.
    settled: what was found out where the settings left it open.
    old: why the last refresh failed, if it did: these are the rows from before.
    held: the bytes of its columns that were read as another type; the others are mapped from the cache.
    """

    table: ArrowTable
    remarks: tuple[Remark, ...]
    identity: str
    seconds: float
    raw: Raw = msgspec.field(default_factory=Raw)
    key: tuple[str, ...] = ()
    foreign_keys: tuple[ForeignKey, ...] = ()
    settled: Settled = msgspec.field(default_factory=Settled)
    content: str = ""
    old: str = ""
    held: int = 0

    @property
    def is_sample(self) -> bool:
        """Whether there are more rows than these."""
        return any(remark.is_sample for remark in self.remarks)


class Snapshots(Protocol):
    """Hands out snapshots of sources, each read once until it is refreshed."""

    def get(self, settings: SourceSettings, task: Task) -> Snapshot:
        """The snapshot of a source, read now if it has not been. SourceError if it cannot be."""
        ...

    def files(self, settings: SourceSettings) -> list[Path]:
        """The files that a source is read from, with those that belong to them, there or not; folders and
        patterns that are read as one come last.
        """
        ...


class Earlier:
    """The snapshots that were in use before, as a runner asks for them."""

    def __init__(self, snapshots: Mapping[SourceSettings, Snapshot]) -> None:
        self.snapshots = snapshots

    def get(self, settings: SourceSettings, task: Task) -> Snapshot:
        """The earlier snapshot; SourceError if its rows are gone."""
        if settings not in self.snapshots:
            raise SourceError("The rows from before are gone.", where=settings.path)
        return self.snapshots[settings]

    def files(self, settings: SourceSettings) -> list[Path]:
        return []  # rows of an earlier time have no file any more
