"""Looks whether a workbook's file is whole, which the library that reads its cells does not: the checksums of
an archive's parts, and the chain of records of an xls.
"""

from __future__ import annotations

import io
import struct
import zipfile
import zlib
from pathlib import Path

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.sources.recognise import ARCHIVE, COMPOUND

_AT_ONCE = 2**20
# Parts with rows by the end of their names, and what they end with.
_ENDS = {
    "content.xml": b"document-content>",
    "sharedStrings.xml": b"sst>",
    "/sheet": b"worksheet>",
}
_TAIL = 64
_BOF, _EOF, _SHEET = 0x0809, 0x000A, 0x0085
_RECORD = struct.Struct("<HH")
_RECORDS_AT_ONCE = 100_000


def check_whole(path: Path, task: Task) -> None:
    """SourceError, saying what is wrong, unless the workbook at `path` is as it was written."""
    with path.open("rb") as file:
        head = file.read(len(COMPOUND))
    if head.startswith(ARCHIVE):
        _check_archive(path, task)
    elif head == COMPOUND:
        _check_records(_workbook_stream(path), task)


def _damaged(what: str) -> SourceError:
    return SourceError(f"The workbook is damaged: {what}.", remedy="Copy or export it again.")


def _check_archive(path: Path, task: Task) -> None:
    name = ""
    try:
        with zipfile.ZipFile(path) as archive:
            whole = sum(entry.file_size for entry in archive.infolist())
            done = 0
            for entry in archive.infolist():
                name, tail = entry.filename, b""
                with archive.open(entry) as part:
                    while block := part.read(_AT_ONCE):
                        done += len(block)
                        tail = (tail + block)[-_TAIL:]
                        task.checkpoint(done, max(whole, done))
                _check_end(name, tail)
    except (zipfile.BadZipFile, zlib.error, EOFError, ValueError, struct.error) as error:
        raise _damaged(f"its part {name} is not as it was written") from error
    except (NotImplementedError, RuntimeError) as error:
        raise _damaged(f"its part {name} is packed in a way that no workbook is") from error


def _check_end(name: str, tail: bytes) -> None:
    for place, end in _ENDS.items():
        is_part = place in name if place.startswith("/") else name.endswith(place)
        if is_part and name.endswith(".xml") and not tail.rstrip().endswith(end):
            raise _damaged(f"its part {name} is cut off")


def _workbook_stream(path: Path) -> bytes:
    """The records of an xls workbook."""
    from xlrd.compdoc import CompDoc

    try:
        document = CompDoc(path.read_bytes(), logfile=io.StringIO())
        for name in ("Workbook", "Book"):
            memory, start, size = document.locate_named_stream(name)
            if memory is not None:
                return bytes(memory[start : start + size])
    except MemoryError:
        raise
    except Exception as error:  # the library follows what a damaged file says wherever it leads
        raise _damaged("the table of its parts leads nowhere") from error
    raise _damaged("it has no part with the workbook")


def _check_records(stream: bytes, task: Task) -> None:
    """Every sheet begins where the list of sheets says, and its records lead to its end.

    Records and their meaning: [MS-XLS], 2.1.4 and 2.4.28 (BoundSheet8).
    """
    for start in [0, *_sheets(stream, task)]:
        _end_of_part(stream, start, task)


def _sheets(stream: bytes, task: Task) -> list[int]:
    found = []
    position = 0
    end = _end_of_part(stream, 0, task)
    while position < end:
        kind, size = _record(stream, position)
        if kind == _SHEET and size >= 4:
            found.append(int.from_bytes(stream[position + 4 : position + 8], "little"))
        position += _RECORD.size + size
    return found


def _end_of_part(stream: bytes, start: int, task: Task) -> int:
    """Where the part ends that begins at `start`, those inside it (charts) included."""
    position, depth, count = int(start), 0, 0
    while True:
        if position + _RECORD.size > len(stream):
            raise _damaged("its records lead beyond its end")
        kind, size = _record(stream, position)
        if position == start and kind != _BOF:
            raise _damaged("a sheet does not begin where it should")
        depth += (kind == _BOF) - (kind == _EOF)
        position += _RECORD.size + size
        if not depth:
            return position
        count += 1
        if count % _RECORDS_AT_ONCE == 0:
            task.checkpoint(position, len(stream))


def _record(stream: bytes, position: int) -> tuple[int, int]:
    """What kind of record begins at a place, and how long it is."""
    kind, size = _RECORD.unpack_from(stream, position)
    return int(kind), int(size)
