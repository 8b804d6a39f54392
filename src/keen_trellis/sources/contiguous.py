"""Rows of a large cache file with each column in one piece: what is mapped whole is never copied."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path

import numpy as np
import pyarrow as pa

LARGE = 2**30  # bytes of a file from which on the second writing is worth it


def in_one_piece(path: Path, room: Path) -> Path:
    """The file, or where it is large and in many batches another one in `room` with the same rows in one; the
    file itself is gone then. Columns are written to disk one by one, and never held in memory. OSError.
    """
    if path.stat().st_size < LARGE:
        return path
    data = pa.ipc.open_file(pa.memory_map(str(path))).read_all()
    if data.num_rows == 0 or all(column.num_chunks == 1 for column in data.columns):
        return path
    ways = [_way(kind) for kind in data.schema.types]
    if None in ways:
        return path
    schema = data.schema
    arrays = []
    for number, (way, column) in enumerate(zip(ways, data.columns, strict=True)):
        assert way is not None
        arrays.append(way(column, room / f"piece {number}"))
    del data
    path.unlink()
    made = path.with_name(f"whole {path.name}")
    with pa.OSFile(str(made), "wb") as file, pa.ipc.new_file(file, schema) as writer:
        writer.write_batch(pa.RecordBatch.from_arrays(arrays, schema=schema))
    for piece in room.glob("piece *"):
        piece.unlink()
    return made


_Way = Callable[[pa.ChunkedArray, Path], pa.Array]


def _way(kind: pa.DataType) -> _Way | None:
    """How a column of a type is put together; None for a type that no reader hands out."""
    if pa.types.is_large_string(kind) or pa.types.is_large_binary(kind):
        return _texts
    if pa.types.is_boolean(kind):
        return _booleans
    is_plain = pa.types.is_primitive(kind) or pa.types.is_decimal(kind)
    return _fixed if is_plain else None


def _texts(column: pa.ChunkedArray, place: Path) -> pa.Array:
    ends = place.with_name(f"{place.name} ends")
    base = 0
    with place.open("wb") as text, ends.open("wb") as offsets:
        offsets.write(np.zeros(1, np.int64).tobytes())
        for chunk in column.chunks:
            _, places, signs = chunk.buffers()
            own = np.frombuffer(places, np.int64)[chunk.offset : chunk.offset + len(chunk) + 1]
            if not len(chunk):
                continue
            first, last = int(own[0]), int(own[-1])
            if last > first:
                text.write(memoryview(signs)[first:last])
            offsets.write((own[1:] - first + base).tobytes())
            base += last - first
    return pa.Array.from_buffers(
        column.type, len(column), [_validity(column), _mapped(ends), _mapped(place)], column.null_count
    )


def _fixed(column: pa.ChunkedArray, place: Path) -> pa.Array:
    width = column.type.bit_width // 8
    with place.open("wb") as values:
        for chunk in column.chunks:
            held = chunk.buffers()[1]
            if len(chunk):
                values.write(memoryview(held)[chunk.offset * width : (chunk.offset + len(chunk)) * width])
    return pa.Array.from_buffers(
        column.type, len(column), [_validity(column), _mapped(place)], column.null_count
    )


def _booleans(column: pa.ChunkedArray, place: Path) -> pa.Array:
    del place  # a bit a row is no weight
    values = _bits(chunk.fill_null(False).to_numpy(zero_copy_only=False) for chunk in column.chunks)
    return pa.Array.from_buffers(column.type, len(column), [_validity(column), values], column.null_count)


def _validity(column: pa.ChunkedArray) -> pa.Buffer | None:
    if not column.null_count:
        return None
    return _bits(chunk.is_valid().to_numpy(zero_copy_only=False) for chunk in column.chunks)


def _bits(parts: Iterable[np.ndarray]) -> pa.Buffer:
    whole = np.concatenate([np.zeros(0, dtype=bool), *parts])
    return pa.py_buffer(np.packbits(whole, bitorder="little").tobytes())


def _mapped(path: Path) -> pa.Buffer:
    if not path.stat().st_size:
        return pa.py_buffer(b"")
    return pa.memory_map(str(path)).read_buffer()
