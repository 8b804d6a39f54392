"""What every writer offers."""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.steps.output import OutputSettings


class Writer(Protocol):
    """Writes a table as one kind of file."""

    name: str

    def write(self, table: Table, settings: OutputSettings, draft: Path, task: Task) -> list[str]:
        """Write all rows to `draft`, and hand back what is not there as it was, in words.

        OutputError if the rows do not fit; Cancelled.
        """
        ...
