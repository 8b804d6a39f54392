"""A file's content as one short fingerprint: the same rows are found again wherever the file lies."""

from __future__ import annotations

import os
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import NamedTuple, TypeAlias, TypeVar

import xxhash

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.core.values import one_array
from keen_trellis.flow.temporary import is_disk_full
from keen_trellis.sources.reading import ReadTable

_BLOCK = 2**22
_PIECE = 2**20  # bytes of a block that are read at a time, so that they stay in the processor's cache
_MOST_LOOKED = 64
# Nanoseconds in which a file may be written to twice without its times telling.
_TICK = 50_000_000
Found = TypeVar("Found")
Piece: TypeAlias = bytes | bytearray


class Looked(NamedTuple):
    """What all bytes of a file tell.

    content: their fingerprint, an XXH3 digest of those of its blocks.  is_ascii: whether they are text of
    ASCII.  has_zeros: whether a byte is zero.
    """

    content: str
    is_ascii: bool
    has_zeros: bool


# What files told when their content was last asked for, as they were then: what reads one next asks, too.
_looked: OrderedDict[Path, tuple[tuple[int, ...], Looked]] = OrderedDict()


def content_of(path: Path, task: Task) -> str:
    """The fingerprint of all bytes of a file."""
    with reading(path):
        stamp = stamp_of(path)
    found = _look(path, task)
    if is_settled(stamp):
        _looked[path] = stamp, found
        while len(_looked) > _MOST_LOOKED:
            with suppress(KeyError):
                _looked.popitem(last=False)
    return found.content


def looked_at(path: Path, task: Task) -> Looked:
    """What all bytes of a file tell; they are not read again if its content was asked for and it was not
    touched since.
    """
    with reading(path):
        stamp = stamp_of(path)
    known = _looked.get(path)
    return known[1] if known is not None and known[0] == stamp else _look(path, task)


def _look(path: Path, task: Task) -> Looked:
    parts = of_blocks(path, _look_at_block, task)
    content = xxhash.xxh3_128_hexdigest(b"".join(part[0] for part in parts)) if parts else "empty"
    return Looked(content, all(part[1] for part in parts), any(part[2] for part in parts))


def _look_at_block(pieces: Iterator[Piece]) -> tuple[bytes, bool, bool]:
    found, is_ascii, has_zeros = xxhash.xxh3_128(), True, False
    for piece in pieces:
        found.update(piece)
        is_ascii = is_ascii and piece.isascii()
        has_zeros = has_zeros or b"\0" in piece
    return found.digest(), is_ascii, has_zeros


def is_settled(stamp: tuple[int, ...]) -> bool:
    """Whether a file was last written to so long ago that its stamp will tell when it is again."""
    return time.time_ns() - stamp[0] > _TICK


def of_blocks(path: Path, look: Callable[[Iterator[Piece]], Found], task: Task) -> list[Found]:
    """What `look` says of each block of a file's bytes, which come in pieces; they are looked at side by
    side.

    They are read and not mapped: a file that is cut short meanwhile would end the program.
    """
    with reading(path):
        size = path.stat().st_size
        if not size:
            return []
        with path.open("rb") as file, ThreadPoolExecutor(2) as pool:
            own = threading.local()  # one piece for each thread, used again: new memory takes longer to get

            def pieces(start: int) -> Iterator[Piece]:
                if not hasattr(own, "piece"):
                    own.piece = bytearray(_PIECE)
                for first in range(start, min(start + _BLOCK, size), _PIECE):
                    length = os.preadv(file.fileno(), [own.piece], first)
                    if length < min(_PIECE, size - first):
                        raise being_changed(path)
                    yield own.piece if length == _PIECE else bytes(own.piece[:length])

            def found(start: int) -> Found:
                task.checkpoint(start, size, f"looking at {path.name}")
                return look(pieces(start))

            return list(pool.map(found, range(0, size, _BLOCK)))


@contextmanager
def reading(place: Path | str) -> Iterator[None]:
    """What the system says of a file that cannot be read, as an error of ours. That a disk is full is not
    said of the file: it is the one that its rows are kept on.
    """
    try:
        yield
    except OSError as error:
        if is_disk_full(error):
            raise
        raise SourceError(f"It cannot be read: {error.strerror or error}.", where=str(place)) from error


def being_changed(path: Path | str) -> SourceError:
    """The error for a file that somebody writes to."""
    return SourceError(
        "It is being changed while it is read.",
        where=str(path),
        remedy="Wait until the program that writes it is done, then try again.",
    )


def content_of_rows(read: ReadTable, task: Task) -> str:
    """The fingerprint of rows that no file tells apart: of their buffers and types, and of what was said."""
    found = xxhash.xxh3_128()
    found.update(repr((read.data.schema.to_string(), read.data.num_rows, read.about)).encode())
    for column in read.data.columns:
        task.checkpoint()
        # As one array, so that rows are told by what they are and not by how they arrived.
        for chunk in [one_array(column)]:
            for buffer in chunk.buffers():
                if buffer is not None:
                    found.update(buffer)
    return found.hexdigest()


def stamp_of(path: Path) -> tuple[int, ...]:
    """What tells one state of a file from another without reading it. OSError if there is none."""
    found = path.stat()
    return found.st_mtime_ns, found.st_ctime_ns, found.st_size, found.st_ino, found.st_dev
