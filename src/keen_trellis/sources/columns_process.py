"""The child process that reads a Parquet or Arrow file, so that a damaged one ends nothing but it.

Called as `python -m keen_trellis.sources.columns_process read FILE SETTINGS TARGET`. The rows are written to
TARGET as an Arrow file, which the parent maps into memory.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import SourceError
from keen_trellis.core.parallel import ahead
from keen_trellis.core.task import Task
from keen_trellis.core.values import ARROW_TYPES, FieldType, as_text
from keen_trellis.flow.remark import Remark
from keen_trellis.sources.about import About
from keen_trellis.sources.cell_columns import check_width, count_no_numbers, no_numbers_said
from keen_trellis.sources.child import Message, progress

_TEXT = ARROW_TYPES[FieldType.TEXT]
_MOST_DIGITS = 38
_BATCH_CELLS = 5_000_000
_BATCH_ROWS = 500_000
_AHEAD = 2  # batches
_NO_THREAD = os.strerror(errno.EAGAIN)  # what Arrow says where there is no memory for a thread
_WIDE = pa.decimal128(20, 0)  # as wide as an unsigned integer of 64 bits


def answer(_: str, path: str, target: str) -> Message:
    """Read the file at `path` into the file at `target`."""
    return Message(last=True, about=_read(Path(path), target, progress()))


def _read(path: Path, target: str, task: Task) -> About:
    with _errors(path):
        wide, long = _beyond(path, task)
    with _errors(path), _batches(path) as (schema, rows, batches):
        check_width(len(schema), str(path))
        plans = [_Plan(field, wide, long) for field in schema if _is_readable(field.type)]
        gone = [field.name for field in schema if not _is_readable(field.type)]
        remarks = [Remark(plan.said, plan.name, plan.doubtful) for plan in plans if plan.said]
        remarks += [Remark("holds binary data and is left out", name, doubtful=True) for name in gone]
        if not plans:
            raise SourceError("It has no field that can be read.", where=str(path))
        wanted = pa.schema([pa.field(plan.name, plan.type) for plan in plans])
        lost: dict[str, int] = {}
        no_number: dict[str, int] = {}
        done = 0

        def converted(batch: Any) -> list[tuple[pa.Array, int]]:
            _check(batch)
            return [plan.convert(batch.column(schema.get_field_index(plan.name))) for plan in plans]

        with pa.OSFile(target, "wb") as file, pa.ipc.new_file(file, wanted) as writer:
            # While a batch is written, the next ones are read and converted.
            for batch, made in ahead(converted, batches, _AHEAD):
                writer.write_batch(pa.record_batch([array for array, _ in made], schema=wanted))
                for plan, (array, cut) in zip(plans, made, strict=True):
                    column = batch.column(schema.get_field_index(plan.name))
                    lost[plan.name] = lost.get(plan.name, 0) + array.null_count - column.null_count
                    no_number[plan.name] = no_number.get(plan.name, 0) + count_no_numbers(array)
                    plan.cut += cut
                done += batch.num_rows
                task.checkpoint(done, rows or 0)
    if rows is not None and done != rows:
        raise SourceError(
            f"The file is damaged: it says that it has {rows:,} rows, and {done:,} are in it.",
            where=str(path),
            remedy="Copy or export it again.",
        )
    for name, count in lost.items():
        if count > 0 and wanted.field(name).type != _TEXT:
            values = "1 value is" if count == 1 else f"{count:,} values are"
            remarks.append(Remark(f"{values} too large and blank", name, doubtful=True))
    remarks += no_numbers_said(no_number)
    said = "values have parts below a microsecond, which are cut off"
    remarks += [Remark(f"{plan.cut:,} {said}", plan.name, doubtful=True) for plan in plans if plan.cut]
    return About(file=path.name, remarks=tuple(remarks))


class _Plan:
    """How a column of a file becomes one of a type that fields have. Empty text is blank here too."""

    def __init__(self, field: pa.Field, wide: Collection[str] = (), long: Collection[str] = ()) -> None:
        self.name = field.name
        self.said = ""
        self.doubtful = False
        self.cut = 0  # moments with parts that are too small to be kept
        kind = _value_type(field)
        self.type = _TEXT
        if pa.types.is_boolean(kind):
            self.type = pa.bool_()
        elif pa.types.is_integer(kind):
            self.type = _WIDE if self.name in wide else pa.int64()
        elif pa.types.is_floating(kind):
            self.type = pa.float64()
        elif self.name in long:
            self.said = "has numbers of more than 38 digits, which no number here holds; read as text"
            self.doubtful = True
        elif pa.types.is_decimal(kind):
            whole = kind.precision + max(-kind.scale, 0)
            self.type = pa.decimal128(min(whole, 38), max(kind.scale, 0))
        elif pa.types.is_date(kind):
            self.type = ARROW_TYPES[FieldType.DATE]
        elif pa.types.is_time(kind):
            self.type = ARROW_TYPES[FieldType.TIME]
        elif pa.types.is_timestamp(kind):
            self.type = ARROW_TYPES[FieldType.TIMESTAMP]
            if kind.tz:
                self.said = f"moments in the time zone {kind.tz}; shown in UTC"
        elif pa.types.is_nested(kind) or pa.types.is_duration(kind):
            self.said = "nested values; read as text"

    def convert(self, column: pa.Array) -> tuple[pa.Array, int]:
        """The column in the plan's type, and how many of its moments have parts that are too small for it."""
        column = _decoded(column)
        if pa.types.is_decimal(column.type) and self.type == _TEXT:
            return as_text(column), 0
        if pa.types.is_nested(column.type) or pa.types.is_duration(column.type):
            texts = [None if value is None else str(value) for value in column.to_pylist()]
            return pa.array(texts, _TEXT), 0
        if pa.types.is_timestamp(column.type):
            column = column.cast(pa.timestamp(column.type.unit)) if column.type.tz else column
            return column.cast(self.type, safe=False), _finer_than_kept(column)
        made = column.cast(self.type, safe=not pa.types.is_time(column.type))
        if self.type == _TEXT:
            empty = pc.equal(pc.binary_length(made), 0)
            if pc.any(empty).as_py():
                made = pc.if_else(empty, pa.scalar(None, _TEXT), made)
        return made, _finer_than_kept(column)


def _value_type(field: pa.Field) -> pa.DataType:
    return field.type.value_type if pa.types.is_dictionary(field.type) else field.type


def _decoded(column: pa.Array) -> pa.Array:
    return column.dictionary_decode() if pa.types.is_dictionary(column.type) else column


def _finer_than_kept(column: pa.Array) -> int:
    """How many moments have parts below a microsecond."""
    kind = column.type
    if not (pa.types.is_timestamp(kind) or pa.types.is_time(kind)) or kind.unit != "ns":
        return 0
    units = column.view(pa.int64())
    kept = pc.multiply(pc.divide(units, 1000), 1000)
    return int(pc.sum(pc.not_equal(units, kept)).as_py() or 0)


def _beyond(path: Path, task: Task) -> tuple[set[str], set[str]]:
    """The fields of unsigned integers with values that no integer here holds, which are read as decimals; and
    those of decimals with values that no decimal here holds, which are read as text.
    """
    wide: set[str] = set()
    long: set[str] = set()
    with _batches(path) as (schema, rows, batches):
        unsigned = [field.name for field in schema if pa.types.is_uint64(_value_type(field))]
        decimals = [field.name for field in schema if pa.types.is_decimal256(_value_type(field))]
        done = 0
        for batch in batches if unsigned or decimals else ():
            _check(batch)
            for name in unsigned:
                column = _decoded(batch.column(schema.get_field_index(name)))
                if (pc.max(column).as_py() or 0) >= 2**63:
                    wide.add(name)
            for name in decimals:
                column = _decoded(batch.column(schema.get_field_index(name)))
                if not _has_room(column):
                    long.add(name)
            done += batch.num_rows
            task.checkpoint(done, rows or 0)
    return wide, long


def _has_room(column: pa.Array) -> bool:
    """Whether decimals of up to 76 digits are such as are held here."""
    kind = column.type
    if not 0 <= kind.scale <= _MOST_DIGITS:
        return False
    try:
        column.cast(pa.decimal128(_MOST_DIGITS, kind.scale))
    except pa.ArrowInvalid:
        return False
    return True


def _is_readable(kind: pa.DataType) -> bool:
    return not (
        pa.types.is_binary(kind) or pa.types.is_large_binary(kind) or pa.types.is_fixed_size_binary(kind)
    )


@contextmanager
def _batches(path: Path) -> Iterator[tuple[pa.Schema, int | None, Iterator[Any]]]:
    """The schema of a Parquet or Arrow file, its rows where it says how many, and its batches."""
    with path.open("rb") as file:
        head = file.read(4)
    if head == b"PAR1":
        from pyarrow import parquet

        with parquet.ParquetFile(path) as opened:
            many = min(_BATCH_ROWS, max(_BATCH_CELLS // max(len(opened.schema_arrow), 1), 1_000))
            yield opened.schema_arrow, opened.metadata.num_rows, opened.iter_batches(many)
        return
    # Read and not mapped: somebody may cut it short.
    with pa.OSFile(str(path), "rb") as source:
        reader = pa.ipc.open_file(source)
        count = reader.num_record_batches
        yield reader.schema, None, (reader.get_batch(number) for number in range(count))


def _check(batch: Any) -> None:
    # Offsets and text of a damaged file would lead out of it.
    batch.validate(full=True)


@contextmanager
def _errors(path: Path) -> Iterator[None]:
    try:
        yield
    except (pa.ArrowException, OSError, ValueError, NotImplementedError) as error:
        if isinstance(error, OSError) and error.errno is not None:
            raise
        if isinstance(error, MemoryError) or _NO_THREAD in str(error):
            raise MemoryError from error
        said = " ".join(str(error).split())[:160]
        raise SourceError(
            f"The file is damaged or cut off ({said}).", where=str(path), remedy="Copy or export it again."
        ) from error
