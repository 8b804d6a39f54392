"""What all outputs that are files have in common: where they may lie, and that they are written whole."""

from __future__ import annotations

import fnmatch
import os
import shutil
from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path, PurePath
from typing import BinaryIO

import msgspec
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import Table, spread_rows
from keen_trellis.core.task import Task
from keen_trellis.core.values import as_text
from keen_trellis.flow.patterns import alternatives, has_signs
from keen_trellis.flow.steps.output import TARGETS, OutputSettings, ending_of
from keen_trellis.flow.whole_file import sync, whole_file
from keen_trellis.flow.wording import listed
from keen_trellis.outputs.parting import files_there
from keen_trellis.outputs.writing import Part

_SAMPLE = 500  # rows
_PACKED = 0.02


class FileWriter(ABC):
    """Writes one kind of file: to a draft beside it, which takes its place at the end. See Writer."""

    name: str
    # How many bytes of a file each byte of its cells, written out, becomes at the least.
    density = _PACKED

    def place(self, settings: OutputSettings) -> str:
        return settings.path + (f", one for each {settings.split_by}" if settings.split_by else "")

    def inside(self, settings: OutputSettings, folder: Path) -> OutputSettings:
        return msgspec.structs.replace(settings, path=str(folder.absolute() / settings.file_name))

    def would_replace(self, settings: OutputSettings, kept: Collection[str | Path]) -> bool:
        path = Path(settings.path)
        with suppress(OutputError):
            check_path(path, kept)
            return bool(files_there(settings)) if settings.split_by else path.is_file()
        return False

    def goes_with(self, settings: OutputSettings) -> str:
        if settings.split_by:
            there = files_there(settings)
            names = listed([path.name for path in there], 4)
            are = "is" if len(there) == 1 else "are"
            return f" {names} {are} there; those of a value that is written anew go."
        return ""

    def check(self, settings: OutputSettings, kept: Collection[str | Path], *, replace: bool) -> None:
        path = Path(settings.path)
        may_be_there = replace or bool(settings.split_by)
        check_new(path, kept, replace=may_be_there, goes=lambda: self.goes_with(settings))
        endings = TARGETS[self.name].endings
        ending, packed = ending_of(path)
        # A flow from elsewhere may name any path.
        if ending not in endings or (packed and not TARGETS[self.name].packable):
            raise OutputError(
                f"It is written as {self.name}, and its name does not end in {' or '.join(endings)}.",
                where=settings.path,
                remedy="Give it that ending.",
            )

    @contextmanager
    def staged(self, parts: Sequence[Part], task: Task) -> Iterator[list[list[str]]]:
        path = parts[0].settings.path
        density = _PACKED if ending_of(PurePath(path))[1] else self.density
        check_room(Path(path).parent, sum(_length_of(part.table) for part in parts) * density)
        try:
            with whole_file(Path(path), synced=True) as draft:
                said = self.fill(parts, draft, task)
                sync(draft)  # a disk that is full says so before anything is put in place
                yield said
        except OSError as error:
            raise OutputError(
                f"It cannot be written: {error.strerror}.", where=path, remedy="Choose another folder."
            ) from error

    @abstractmethod
    def fill(self, parts: Sequence[Part], draft: Path, task: Task) -> list[list[str]]:
        """Write all rows of outputs to one file to `draft`, and hand back for each what is not there as it
        was, in words.

        OutputError if the rows do not fit; Cancelled.
        """


class OneTableWriter(FileWriter):
    """Writes a file that holds one table."""

    def fill(self, parts: Sequence[Part], draft: Path, task: Task) -> list[list[str]]:
        (part,) = parts
        return [self.write(part.table, part.settings, draft, task)]

    @abstractmethod
    def write(self, table: Table, settings: OutputSettings, draft: Path, task: Task) -> list[str]:
        """Write all rows to `draft`, and hand back what is not there as it was. See `fill`."""


def check_room(folder: Path, wanted: float) -> None:
    """OutputError if a folder's disk surely has not so many bytes free: better now than after an hour."""
    try:
        free = shutil.disk_usage(folder).free
    except OSError:
        return  # it says what is wrong when it is written
    if wanted > free:
        raise OutputError(
            f"It needs at least {wanted / 2**20:,.0f} MB, and {free / 2**20:,.0f} MB are free there.",
            where=str(folder),
            remedy="Make room, choose another folder, or keep fewer rows.",
        )


def _length_of(table: Table) -> float:
    """About how many bytes all cells have, written out; told from some of them."""
    rows = spread_rows(table.rows, _SAMPLE)
    cells = table.take(rows, table.names) if len(rows) and table.fields else []
    lengths = [pc.sum(pc.binary_length(as_text(entry.values))).as_py() or 0 for entry in cells]
    return sum(lengths) * table.rows / max(len(rows), 1)


@contextmanager
def packed(draft: Path, settings: OutputSettings) -> Iterator[BinaryIO]:
    """A draft to write bytes to, which are packed as the name of the file says."""
    packing = ending_of(PurePath(settings.path))[1]
    with draft.open("wb") as file:
        if not packing:
            yield file
            return
        with pa.CompressedOutputStream(pa.PythonFile(file, "w"), packing) as stream:
            yield stream


def make_folder(folder: Path) -> None:
    """Make a folder for outputs with those above it; OutputError if it cannot be made."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise OutputError(
            f"The folder cannot be made: {error.strerror}.", where=str(folder), remedy="Choose another."
        ) from error


def check_path(path: Path, kept: Collection[str | Path]) -> None:
    """OutputError unless a file may lie at `path`: nothing that is read, and in no folder or pattern that is
    read as one. A link, a pipe or a device is never replaced.
    """
    try:
        _check_place(path, kept)
    except OSError as error:
        raise OutputError(
            f"It cannot be written: {error.strerror}.", where=str(path), remedy="Choose another name."
        ) from error


def check_new(
    path: Path, kept: Collection[str | Path], *, replace: bool, goes: Callable[[], str] = str
) -> None:
    """The same, and OutputError where a file is there already that may not be replaced. goes: says what of it
    would go.
    """
    check_path(path, kept)
    if path.exists() and not replace:
        raise OutputError(
            "The file exists already.",
            where=str(path),
            remedy=f"Choose another name, or say that it may be replaced.{goes()}",
        )


def _check_place(path: Path, kept: Collection[str | Path]) -> None:
    where = str(path)
    for source in kept:
        if _same_file(Path(source), path):
            raise OutputError(
                "It is a source of this flow, and sources are never changed.",
                where=where,
                remedy="Write to another file.",
            )
        if _would_be_read(Path(source), path):
            raise OutputError(
                f"Its folder is read as one table ({Path(source).name}), and from then on it would be a part "
                "of that.",
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
        raise OutputError("It is not an ordinary file.", where=where, remedy="Name another file.")
    if not path.parent.is_dir():
        raise OutputError(
            "Its folder does not exist.", where=where, remedy="Make the folder, or choose another."
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
    is_pattern = not source.exists() and has_signs(pattern)
    return is_pattern and any(fnmatch.fnmatch(os.path.realpath(path), each) for each in alternatives(pattern))
