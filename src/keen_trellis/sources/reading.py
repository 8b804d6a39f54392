"""What every reader offers: the tables of a file, and the rows of one of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from keen_trellis.core.errors import SourceError
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.flow.snapshot import Remark


@dataclass(frozen=True)
class Listing:
    """One table that a file holds. sort: sheet, table, view or file."""

    name: str
    sort: str


@dataclass(frozen=True)
class ReadTable:
    """The rows of one table, and what there is to say about them."""

    table: ArrowTable
    remarks: tuple[Remark, ...]


class Reader(Protocol):
    """Reads one kind of source."""

    name: str

    def tables(self, path: Path, task: Task) -> Sequence[Listing]:
        """The tables in the file, in its order. SourceError if it cannot be read."""
        ...

    def read(self, path: Path, table: str, task: Task) -> ReadTable:
        """All rows of one table. SourceError if it cannot be read; Cancelled."""
        ...


def unknown_table(path: Path, table: str, known: Sequence[Listing]) -> SourceError:
    """The error for a table that the file does not have."""
    sort = known[0].sort if known else "table"
    names = ", ".join(f"“{entry.name}”" for entry in known[:12]) or "nothing"
    return SourceError(f"There is no {sort} “{table}” in it.", where=str(path), remedy=f"It holds: {names}.")
