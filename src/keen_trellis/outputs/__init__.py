"""Writers of outputs, one module a kind. A new kind is a new module and a line in WRITERS."""

from __future__ import annotations

import fnmatch
import os
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from keen_trellis.core.errors import OutputError, UsageError
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.whole_file import whole_file
from keen_trellis.outputs.delimited import DelimitedWriter
from keen_trellis.outputs.workbook import WorkbookWriter, sheets_of
from keen_trellis.outputs.writing import Writer

WRITERS: dict[str, Writer] = {writer.name: writer for writer in (WorkbookWriter(), DelimitedWriter())}

_BY_EXTENSION = {
    ".xlsx": ("xlsx", ","),
    ".csv": ("text", ","),
    ".txt": ("text", "\t"),
    ".tsv": ("text", "\t"),
}


@dataclass(frozen=True)
class Written:
    """A file that was written. open_cells: by field how many cells had no partner, where that was counted.

    changed: what the file could not hold as it was, in words.
    """

    path: Path
    rows: int
    fields: int
    open_cells: Mapping[str, int] = field(default_factory=dict)
    changed: tuple[str, ...] = ()


def settings_for(path: Path, *, harmless: bool = True) -> OutputSettings:
    """The settings of an output to `path`, by its extension; UsageError for one that is not known."""
    if path.suffix.lower() not in _BY_EXTENSION:
        raise UsageError(
            f"“{path.name}” does not say what to write.",
            remedy=f"End its name in one of: {', '.join(_BY_EXTENSION)}.",
        )
    writer, delimiter = _BY_EXTENSION[path.suffix.lower()]
    return OutputSettings(writer, str(path.absolute()), delimiter=delimiter, harmless=harmless)


def check_ending(settings: OutputSettings) -> None:
    """OutputError unless the file is called as its writer's files are: a flow may name any path."""
    if settings.writer not in WRITERS:
        raise OutputError(
            f"This version does not know the writer “{settings.writer}”.",
            where=settings.path,
            remedy=f"It knows: {', '.join(WRITERS)}.",
        )
    endings = [end for end, (writer, _) in _BY_EXTENSION.items() if writer == settings.writer]
    if Path(settings.path).suffix.lower() not in endings:
        raise OutputError(
            f"It is written as {settings.writer}, and its name does not end in {' or '.join(endings)}.",
            where=settings.path,
            remedy="Give it that ending.",
        )


def make_folder(folder: Path) -> None:
    """Make a folder for outputs with those above it; OutputError if it cannot be made."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise OutputError(
            f"The folder cannot be made: {error.strerror}.", where=str(folder), remedy="Choose another."
        ) from error


def check_target(path: Path, sources: Collection[str | Path], *, replace: bool) -> None:
    """OutputError unless `path` may be written: nothing that is read, in no folder or pattern that is read as
    one, and new unless `replace`. A link, a pipe or a device is never replaced.
    """
    where = str(path)
    try:
        _check_place(path, sources, replace=replace)
    except OSError as error:
        raise OutputError(
            f"It cannot be written: {error.strerror}.", where=where, remedy="Choose another name."
        ) from error


def _check_place(path: Path, sources: Collection[str | Path], *, replace: bool) -> None:
    where = str(path)
    for source in sources:
        if _same_file(Path(source), path):
            raise OutputError(
                "It is a source of this flow, and sources are never changed.",
                where=where,
                remedy="Write to another file.",
            )
        if _would_be_read(Path(source), path):
            raise OutputError(
                f"It would lie among the files that are read as one table ({Path(source).name}), and be one "
                "of them from then on.",
                where=where,
                remedy="Write to another folder.",
            )
    if path.is_symlink():
        raise OutputError(
            f"It is a link to {os.path.realpath(path)}.", where=where, remedy="Name the file itself."
        )
    if path.is_dir():
        raise OutputError("It is a folder.", where=where, remedy="Name a file in it.")
    if path.exists() and not path.is_file():
        raise OutputError("It is no ordinary file.", where=where, remedy="Name another file.")
    if not path.parent.is_dir():
        raise OutputError(
            "Its folder does not exist.", where=where, remedy="Make the folder, or choose another."
        )
    if path.exists() and not replace:
        raise OutputError(
            "The file exists already.",
            where=where,
            remedy=f"Choose another name, or say that it may be replaced.{goes_said(path)}",
        )


def _same_file(source: Path, path: Path) -> bool:
    """Whether both are one file, whatever they are called: by device and inode, or by name where none is."""
    try:
        return source.samefile(path)
    except OSError:
        return os.path.realpath(source) == os.path.realpath(path)


def _would_be_read(source: Path, path: Path) -> bool:
    """Whether a source is a folder, or a pattern of names, that a file of this name belongs to."""
    if source.is_dir():
        return _same_file(source, path.parent)
    pattern = str(source)
    is_pattern = not source.exists() and any(sign in pattern for sign in "*?[")
    return is_pattern and fnmatch.fnmatch(os.path.realpath(path), pattern)


def goes_said(path: Path, sheet: str = "") -> str:
    """What replacing a workbook destroys besides the sheet of that name: " Replacing it removes …", or "".

    Writing into a workbook that exists is not possible yet.
    """
    names = [name for name in sheets_of(path) if name != sheet]
    if not names:
        return ""
    shown = ", ".join(f"“{name}”" for name in names[:12]) + (" …" if len(names) > 12 else "")
    return f" Replacing it removes its {'sheet' if len(names) == 1 else 'sheets'} {shown}."


def write(
    table: Table,
    settings: OutputSettings,
    *,
    sources: Collection[str | Path] = (),
    replace: bool = False,
    task: Task | None = None,
) -> Written:
    """Write `table` as `settings` say: whole, or not at all. OutputError if it cannot be; Cancelled."""
    path = Path(settings.path)
    check_target(path, sources, replace=replace)
    check_ending(settings)
    try:
        with whole_file(path) as draft:
            changed = WRITERS[settings.writer].write(table, settings, draft, task or Task())
    except OSError as error:
        raise OutputError(
            f"It cannot be written: {error.strerror}.", where=str(path), remedy="Choose another folder."
        ) from error
    return Written(path, table.rows, len(table.fields), changed=tuple(changed))
