"""A source as it was when it was read: its rows, what was repaired or doubtful, and its identity."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.flow.steps.source import SourceSettings


@dataclass(frozen=True)
class Remark:
    """Something the reader has to say about a source, or about one field of it.

    doubtful: it may be wrong and should be looked at; otherwise it is a repair or a plain fact.
    """

    text: str
    field: str = ""
    doubtful: bool = False

    def __str__(self) -> str:
        return f"{self.field}: {self.text}" if self.field else self.text


@dataclass(frozen=True)
class Snapshot:
    """The rows of one table of one source, as they were when it was read."""

    table: ArrowTable
    remarks: tuple[Remark, ...]
    identity: str
    seconds: float


class Snapshots(Protocol):
    """Hands out snapshots of sources, each read once until it is refreshed."""

    def get(self, settings: SourceSettings, task: Task) -> Snapshot:
        """The snapshot of a source, read now if it has not been. SourceError if it cannot be."""
        ...
