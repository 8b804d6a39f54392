"""Turns blocks of text columns into an Arrow file of typed columns, in bounded memory."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.conversion import Notation
from keen_trellis.core.task import Task
from keen_trellis.flow.remark import Remark
from keen_trellis.flow.source_settings import Writing
from keen_trellis.sources.about import ROW_NUMBERS
from keen_trellis.sources.cell_columns import check_width
from keen_trellis.sources.reading import mapped
from keen_trellis.sources.text_blocks import AtOnce, TextBlock, Wanted
from keen_trellis.sources.text_types import RowNumbers, TextField

_THREADS = 2
_TEXT = pa.large_string()
Blocks = Callable[[Wanted], Iterator[TextBlock]]


class TypedRows(msgspec.Struct):
    """The rows of one or several text files as they become typed.

    data: mapped columns, the last one the row numbers.  digits: those that each field of decimals needs.
    writing: what their marks were taken to mean.
    """

    data: pa.Table
    digits: dict[str, int]
    writing: Writing
    remarks: list[Remark] = msgspec.field(default_factory=list)


class _Columns:
    """The fields of a table while its type is being found; more may turn up with wider rows."""

    def __init__(self, names: Sequence[str], notation: Notation, kept_as_text: frozenset[str]) -> None:
        self._notation, self._kept = notation, kept_as_text
        self.fields: list[TextField] = []
        for name in names:
            self.add(name)

    def add(self, name: str) -> None:
        self.fields.append(TextField(name, self._notation, kept_as_text=name in self._kept))

    @property
    def schema(self) -> pa.Schema:
        entries = [pa.field(entry.name, entry.arrow_type) for entry in self.fields]
        return pa.schema([*entries, pa.field(ROW_NUMBERS, pa.int32())])

    def take(self, block: TextBlock, pool: ThreadPoolExecutor) -> pa.RecordBatch | None:
        """The block typed, or None if the type of a field has to change."""
        check_width(len(block.columns), "")
        for number in range(len(self.fields), len(block.columns)):
            # Rows wider than the header: all blocks before lack this field.
            self.add(f"field {number + 1}")
        lacking = [pa.nulls(block.rows, _TEXT)] * (len(self.fields) - len(block.columns))
        given = zip(self.fields, [*block.columns, *lacking], strict=True)
        # Begun all at once; a thread for what is ready as it is would cost more than it saves.
        begun: list[Callable[[], pa.Array | None]] = [
            pool.submit(entry.take, values).result if entry.has_work(values) else partial(entry.take, values)
            for entry, values in given
        ]
        arrays = [made() for made in begun]
        if any(array is None for array in arrays):
            return None
        return pa.record_batch([*arrays, pa.array(block.numbers, pa.int32())], schema=self.schema)

    def wanted(self, number: int) -> AtOnce:
        """How the cells of field `number` may come at once."""
        return self.fields[number].wanted if number < len(self.fields) else AtOnce()

    def begin_again(self) -> None:
        for entry in self.fields:
            entry.begin_again()

    @property
    def writing(self) -> Writing:
        """What marks of numbers and dates were taken to mean, where fields have such."""
        shown = [entry.way.notation for entry in self.fields if entry.way is not None]
        decimal = next((notation.decimal for notation in shown if notation.decimal), self._notation.decimal)
        dates = next((notation.dates for notation in shown if notation.dates), self._notation.dates)
        return Writing(decimal, dates, self._notation.blanks)

    def settle(self) -> bool:
        """Let the fields that stayed open learn from those that did not; whether all must be read once
        more.
        """
        changed = False
        for entry in self.fields:
            if entry.open_between is None:
                continue
            teacher = next((other for other in self.fields if self._teaches(other, entry)), None)
            if teacher is not None and teacher.way is not None:
                changed |= entry.adopt(teacher.way.notation, teacher.name)
            else:
                changed |= entry.give_up_if_open()
        return changed

    def _teaches(self, other: TextField, entry: TextField) -> bool:
        """Whether a field shows what the marks of another one mean, and no third says otherwise."""
        assert entry.open_between is not None
        about_dates = bool(entry.open_between[0].notation.dates)

        def shown(field: TextField) -> str:
            if field.way is None or field.open_between is not None:
                return ""
            return field.way.notation.dates if about_dates else field.way.notation.decimal

        meant = {shown(field) for field in self.fields} - {""}
        return len(meant) == 1 and shown(other) in meant


def typed_rows(
    blocks: Blocks,
    names: Sequence[str],
    notation: Notation,
    kept_as_text: frozenset[str],
    target: Path,
    task: Task,
) -> TypedRows:
    """Read all blocks, as often as it takes until every field has its type, and write them to `target`.

    The types are guessed from the first block; a later value that does not fit begins the reading again with
    what was learned. In most files there is nothing to learn.
    """
    columns = _Columns(names, notation, kept_as_text)
    first: list[TextBlock] = []

    def from_start() -> Iterator[TextBlock]:
        # The first block is kept: in most files it is the only one, and read once then.
        rest = blocks(columns.wanted)
        if not first:
            first.extend([block] if (block := next(rest, None)) is not None else [])
            yield from first
            yield from rest
            return
        yield first[0]
        for number, block in enumerate(rest):
            if number:
                yield block

    with ThreadPoolExecutor(_THREADS) as pool:
        while True:
            columns.begin_again()
            numbers = _write_pass(columns, from_start(), target, pool, task)
            if numbers is not None and not columns.settle():
                break
    data = mapped(target)
    task.checkpoint(0, 0, "looking for what does not fit")
    places = RowNumbers(numbers)
    remarks = [
        remark
        for place, entry in enumerate(columns.fields)
        for remark in entry.remarks(data.column(place), places)
    ]
    digits = {entry.name: entry.digits for entry in columns.fields if entry.digits}
    return TypedRows(data, digits, columns.writing, remarks)


def _write_pass(
    columns: _Columns, blocks: Iterator[TextBlock], target: Path, pool: ThreadPoolExecutor, task: Task
) -> np.ndarray | None:
    """Write all blocks to `target`; the rows' numbers, or None if a type changed on the way."""
    numbers: list[np.ndarray] = []
    writer: pa.RecordBatchFileWriter | None = None
    schema: pa.Schema | None = None
    try:
        for block in blocks:
            task.checkpoint()
            batch = columns.take(block, pool)
            while batch is None and writer is None:
                # Nothing is written yet: what was learned from the first block can be tried on it at once.
                columns.begin_again()
                batch = columns.take(block, pool)
            if batch is None or (schema is not None and batch.schema != schema):
                return None
            if writer is None:
                schema = batch.schema
                writer = pa.ipc.new_file(str(target), schema)
            writer.write_batch(batch)
            numbers.append(block.numbers)
        if writer is None:
            writer = pa.ipc.new_file(str(target), columns.schema)
    finally:
        if writer is not None:
            writer.close()
    return np.concatenate(numbers) if numbers else np.zeros(0, dtype=np.int32)
