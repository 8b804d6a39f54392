"""The child process that reads a Parquet or Arrow file, so that a damaged one ends nothing but it.

Its order (`child.py`) is `read FILE TARGET LEFT_OUT`, or `first FILE TARGET LEFT_OUT` for the first rows
alone. The rows are written to TARGET as an Arrow file, which the parent maps into memory.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager
from itertools import islice
from pathlib import Path
from typing import Any, NamedTuple

import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import SourceError
from keen_trellis.core.parallel import ahead
from keen_trellis.core.task import Task
from keen_trellis.core.text_bytes import without_empty
from keen_trellis.core.values import ARROW_TYPES, FieldType, as_text
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.remark import Remark
from keen_trellis.sources.about import About
from keen_trellis.sources.cell_columns import check_width, count_no_numbers, no_numbers_said
from keen_trellis.sources.child import Message, progress
from keen_trellis.sources.headers import own_names

_TEXT = ARROW_TYPES[FieldType.TEXT]
_MOST_DIGITS = 38
_BATCH_CELLS = 5_000_000
_BATCH_ROWS = 500_000
_AHEAD = 2  # batches
_FIRST_ROWS = 1_000
_NO_THREAD = os.strerror(errno.EAGAIN)  # what Arrow says where there is no memory for a thread
_WIDE = pa.decimal128(20, 0)  # as wide as an unsigned integer of 64 bits


def answer(what: str, path: str, target: str, left_out: str) -> Message:
    """Read the file at `path` into the file at `target`. left_out: the names of fields whose columns need not
    be read, as a list in JSON.
    """
    unwanted = decoded(left_out, frozenset[str])
    most = _FIRST_ROWS if what == "first" else None
    return Message(last=True, about=_read(Path(path), unwanted, target, progress(), most))


def _read(path: Path, unwanted: Collection[str], target: str, task: Task, most: int | None = None) -> About:
    with _errors(path):
        columns = _columns(path)
    check_width(len(columns), str(path))
    readable = [column for column in columns if _is_readable(column.kind)]
    if not readable:
        raise SourceError("It has no field that can be read.", where=str(path))
    # That all are left out is said where their settings are looked at.
    wanted = [column for column in readable if column.name not in unwanted] or readable
    with _errors(path):
        wide, long = _beyond(path, wanted, task, most)
    plans = [_Plan(column, wide, long) for column in wanted]
    remarks = [column.repaired for column in columns if column.repaired is not None]
    remarks += [Remark(plan.said, plan.name, plan.doubtful) for plan in plans if plan.said]
    remarks += [
        Remark("holds binary data and is left out", column.name, doubtful=True)
        for column in columns
        if not _is_readable(column.kind)
    ]
    _write(path, wanted, plans, target, task, most)
    read = {plan.name for plan in plans}
    unread = tuple(column.name for column in readable if column.name not in read)
    return About(file=path.name, remarks=(*remarks, *_losses(plans)), unread=unread)


def _write(
    path: Path, wanted: Sequence[_Column], plans: Sequence[_Plan], target: str, task: Task, most: int | None
) -> None:
    """Write the rows to `target`, as they are planned."""
    schema = pa.schema([pa.field(plan.name, plan.type) for plan in plans])

    def converted(batch: Any) -> list[tuple[pa.Array, int]]:
        _check(batch)
        return [plan.convert(column) for plan, column in zip(plans, batch.columns, strict=True)]

    done = 0
    with (
        _errors(path),
        _batches(path, wanted, most) as (rows, batches),
        pa.OSFile(target, "wb") as file,
        pa.ipc.new_file(file, schema) as writer,
    ):
        # While a batch is written, the next ones are read and converted.
        for batch, made in ahead(converted, batches, _AHEAD):
            writer.write_batch(pa.record_batch([array for array, _ in made], schema=schema))
            for plan, column, (array, cut) in zip(plans, batch.columns, made, strict=True):
                plan.count(column, array, cut)
            done += batch.num_rows
            task.checkpoint(done, rows or 0)
    if rows is not None and done != rows:
        raise SourceError(
            f"The file is damaged: it says that it has {rows:,} rows, and {done:,} are in it.",
            where=str(path),
            remedy="Copy or export it again.",
        )


def _losses(plans: Sequence[_Plan]) -> Iterator[Remark]:
    """What is said of values that could not be kept as they are."""
    for plan in plans:
        if plan.lost > 0 and plan.type != _TEXT:
            values = "1 value is" if plan.lost == 1 else f"{plan.lost:,} values are"
            yield Remark(f"{values} too large and blank", plan.name, doubtful=True)
    yield from no_numbers_said({plan.name: plan.no_number for plan in plans})
    said = "values have parts below a microsecond, which are cut off"
    yield from (Remark(f"{plan.cut:,} {said}", plan.name, doubtful=True) for plan in plans if plan.cut)


class _Column(NamedTuple):
    """A column of a file. name: what its field is called here.  own: what it is called in the file, as others
    may be.  repaired: what is said of that.
    """

    number: int
    name: str
    own: str
    kind: pa.DataType
    repaired: Remark | None


def _columns(path: Path) -> list[_Column]:
    """The columns that a file has."""
    with _opened(path) as (schema, _):
        names, repaired = own_names(schema.names)
    said = {remark.field: remark for remark in repaired}
    entries = enumerate(zip(names, schema, strict=True))
    return [_Column(place, name, own.name, own.type, said.get(name)) for place, (name, own) in entries]


class _Plan:
    """How a column of a file becomes one of a type that fields have. Empty text is blank here too."""

    def __init__(self, column: _Column, wide: Collection[str], long: Collection[str]) -> None:
        self.name = column.name
        self.said = ""
        self.doubtful = False
        self.cut = 0  # moments with parts that are too small to be kept
        self.lost = 0  # values that are blank now
        self.no_number = 0
        kind = _value_type(column.kind)
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
            made = without_empty(made)
        return made, _finer_than_kept(column)

    def count(self, column: pa.Array, made: pa.Array, cut: int) -> None:
        """Note what was lost when a column became another one."""
        self.lost += made.null_count - column.null_count
        self.no_number += count_no_numbers(made)
        self.cut += cut


def _value_type(kind: pa.DataType) -> pa.DataType:
    return kind.value_type if pa.types.is_dictionary(kind) else kind


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


def _beyond(path: Path, wanted: Sequence[_Column], task: Task, most: int | None) -> tuple[set[str], set[str]]:
    """The fields of unsigned integers with values that no integer here holds, which are read as decimals; and
    those of decimals with values that no decimal here holds, which are read as text.
    """
    wide: set[str] = set()
    long: set[str] = set()
    kinds = ((column, _value_type(column.kind)) for column in wanted)
    open_ = [entry for entry, kind in kinds if pa.types.is_uint64(kind) or pa.types.is_decimal256(kind)]
    if not open_:
        return wide, long
    with _batches(path, open_, most) as (rows, batches):
        done = 0
        for batch in batches:
            _check(batch)
            for entry, held in zip(open_, batch.columns, strict=True):
                column = _decoded(held)
                if pa.types.is_uint64(column.type):
                    if (pc.max(column).as_py() or 0) >= 2**63:
                        wide.add(entry.name)
                elif not _has_room(column):
                    long.add(entry.name)
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
def _batches(
    path: Path, wanted: Sequence[_Column], most: int | None
) -> Iterator[tuple[int | None, Iterator[Any]]]:
    """How many rows a file has, where it says so, and batches of some of its columns, in their order; or only
    so many of the first rows.
    """
    with _opened(path) as (schema, opened):
        rows, batches = _all_batches(schema, opened, wanted, most or _BATCH_ROWS)
        if most is None:
            yield rows, batches
        else:
            yield None, (batch.slice(0, most) for batch in islice(batches, 1))


def _all_batches(
    schema: pa.Schema, opened: Any, wanted: Sequence[_Column], most: int
) -> tuple[int | None, Iterator[Any]]:
    numbers = [column.number for column in wanted]
    if isinstance(opened, pa.OSFile):
        reader = pa.ipc.open_file(opened, options=pa.ipc.IpcReadOptions(included_fields=numbers))
        return None, (reader.get_batch(number) for number in range(reader.num_record_batches))
    many, rows = min(most, max(_BATCH_CELLS // len(wanted), 1_000)), opened.metadata.num_rows
    # Columns are named by their paths: what stands twice, or has a point in it, would name others, too.
    if len(set(schema.names)) == len(schema) and not any("." in name for name in schema.names):
        return rows, opened.iter_batches(many, columns=[column.own for column in wanted])
    return rows, (batch.select(numbers) for batch in opened.iter_batches(many))


@contextmanager
def _opened(path: Path) -> Iterator[tuple[pa.Schema, Any]]:
    """The schema of a Parquet or Arrow file, and what reads it."""
    with path.open("rb") as file:
        head = file.read(4)
    if head == b"PAR1":
        from pyarrow import parquet

        with parquet.ParquetFile(path) as opened:
            yield opened.schema_arrow, opened
        return
    # Read and not mapped: somebody may cut it short.
    with pa.OSFile(str(path), "rb") as source:
        yield pa.ipc.open_file(source).schema, source


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
