"""Writers of outputs, one module a kind. A new kind is a new module, a line in WRITERS and one in TARGETS."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from keen_trellis.core.errors import OutputError, UsageError
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.steps.output import TARGETS, OutputSettings
from keen_trellis.outputs.columns import ArrowWriter, ParquetWriter
from keen_trellis.outputs.delimited import DelimitedWriter
from keen_trellis.outputs.json_text import ArrayWriter, LinesWriter
from keen_trellis.outputs.workbook import WorkbookWriter
from keen_trellis.outputs.writing import Writer

_ALL: tuple[Writer, ...] = (
    WorkbookWriter(),
    DelimitedWriter(),
    ParquetWriter(),
    ArrowWriter(),
    LinesWriter(),
    ArrayWriter(),
)
WRITERS: dict[str, Writer] = {writer.name: writer for writer in _ALL}


@dataclass(frozen=True)
class Written:
    """What was written. place: where, as it is said to the user: a file's path.

    open_cells: by field how many cells had no partner, where that was counted.

    changed: what could not be held as it was, in words.
    """

    place: str
    rows: int
    fields: int
    open_cells: Mapping[str, int] = field(default_factory=dict)
    changed: tuple[str, ...] = ()


def settings_for(path: Path, *, harmless: bool = True) -> OutputSettings:
    """The settings of an output to `path`, by its extension; UsageError for one that is not known."""
    found = {
        ending: (writer, delimiter)
        for writer, target in TARGETS.items()
        for ending, delimiter in target.endings.items()
    }
    if path.suffix.lower() not in found:
        raise UsageError(
            f"“{path.name}” does not say what to write.",
            remedy=f"End its name in one of: {', '.join(found)}.",
        )
    writer, delimiter = found[path.suffix.lower()]
    # Only text can be harmful, so that nothing else is asked whether it is.
    harmless = harmless or not TARGETS[writer].is_text
    return OutputSettings(writer, str(path.absolute()), delimiter=delimiter, harmless=harmless)


def writer_of(settings: OutputSettings) -> Writer:
    """What writes an output; OutputError if this version has no such writer."""
    found = WRITERS.get(settings.writer)
    if found is None:
        raise OutputError(
            f"This version does not know the writer “{settings.writer}”.",
            where=settings.path,
            remedy=f"It knows: {', '.join(WRITERS)}.",
        )
    return found


@contextmanager
def staged(
    table: Table,
    settings: OutputSettings,
    *,
    kept: Collection[str | Path] = (),
    replace: bool = False,
    task: Task | None = None,
) -> Iterator[Written]:
    """Write `table` as `settings` say, to be put in place when the block ends without error, or not at all.

    kept: what must not be written to, as sources are.  replace: whether what is there may go. OutputError if
    it cannot be written; Cancelled.
    """
    writer = writer_of(settings)
    writer.check(settings, kept, replace=replace)
    with writer.staged(table, settings, task or Task()) as changed:
        yield Written(writer.place(settings), table.rows, len(table.fields), changed=tuple(changed))


def write(
    table: Table,
    settings: OutputSettings,
    *,
    kept: Collection[str | Path] = (),
    replace: bool = False,
    task: Task | None = None,
) -> Written:
    """Write `table` as `settings` say: whole, or not at all. See `staged`."""
    with staged(table, settings, kept=kept, replace=replace, task=task) as written:
        return written
