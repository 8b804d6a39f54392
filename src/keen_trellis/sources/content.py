"""A file's content as one short fingerprint: the same rows are found again wherever the file lies."""

from __future__ import annotations

import hashlib
import mmap
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pyarrow as pa

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.sources.reading import ReadTable

_BLOCK = 2**25


def content_of(path: Path, task: Task) -> str:
    """The fingerprint of all bytes of a file: a BLAKE2b digest of those of its blocks, taken side by side."""
    try:
        size = path.stat().st_size
        if not size:
            return "empty"
        with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as content:
            view = memoryview(content)

            def digest(start: int) -> bytes:
                task.checkpoint(start, size, f"looking at {path.name}")
                with view[start : start + _BLOCK] as block:
                    return hashlib.blake2b(block, digest_size=16).digest()

            try:
                with ThreadPoolExecutor(2) as pool:
                    parts = list(pool.map(digest, range(0, size, _BLOCK)))
            finally:
                view.release()
    except OSError as error:
        raise SourceError(f"It cannot be read: {error.strerror}.", where=str(path)) from error
    return hashlib.blake2b(b"".join(parts), digest_size=16).hexdigest()


def content_of_rows(read: ReadTable, task: Task) -> str:
    """The fingerprint of rows that no file tells apart: of their buffers and types, and of what was said."""
    found = hashlib.blake2b(digest_size=16)
    found.update(repr((read.data.schema.to_string(), read.data.num_rows, read.about)).encode())
    for column in read.data.columns:
        task.checkpoint()
        whole = column.combine_chunks()
        for chunk in whole.chunks if isinstance(whole, pa.ChunkedArray) else [whole]:
            for buffer in chunk.buffers():
                if buffer is not None:
                    found.update(buffer)
    return found.hexdigest()


def stamp_of(path: Path) -> tuple[int, ...]:
    """What tells one state of a file from another without reading it. OSError if there is none."""
    found = path.stat()
    return found.st_mtime_ns, found.st_ctime_ns, found.st_size, found.st_ino, found.st_dev
