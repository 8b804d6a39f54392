"""What every writer offers."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Protocol

import msgspec

from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.steps.output import OutputSettings


class Part(msgspec.Struct, frozen=True):
    """A table, and the output that it is written to."""

    table: Table
    settings: OutputSettings


class Writer(Protocol):
    """Writes tables to one sort of target. Only it knows what `settings.path` leads to.

    Writers of files have what they share from `outputs.files.FileWriter`; a table of a database would be
    written by one that has neither an ending nor a draft.
    """

    name: str

    def place(self, settings: OutputSettings) -> str:
        """Where it writes, as it is shown; no two outputs of a flow may have the same. Those with the same
        `path` are written together.
        """
        ...

    def inside(self, settings: OutputSettings, folder: Path) -> OutputSettings:
        """The settings with which it writes into `folder`. OutputError where it writes no files."""
        ...

    def would_replace(self, settings: OutputSettings, kept: Collection[str | Path]) -> bool:
        """Whether something is there that writing would replace and may: nothing of `kept`."""
        ...

    def goes_with(self, settings: OutputSettings) -> str:
        """What replacing destroys besides what is written anew, as a sentence after a space; or ""."""
        ...

    def check(self, settings: OutputSettings, kept: Collection[str | Path], *, replace: bool) -> None:
        """OutputError unless it may be written: nothing of `kept`, and new unless `replace`."""
        ...

    def staged(self, parts: Sequence[Part], task: Task) -> AbstractContextManager[list[list[str]]]:
        """Write all rows of outputs with one path, to take their place when the block ends without error, and
        to be gone otherwise. Hands out for each what is not there as it was, in words.

        All that may fail does so before the block, as far as that can be. OutputError if it cannot be
        written; Cancelled.
        """
        ...
