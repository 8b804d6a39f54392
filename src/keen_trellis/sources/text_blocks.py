"""Cuts a UTF-8 text file into blocks of whole rows, and reads each into columns of text."""

from __future__ import annotations

import csv
import io
import itertools
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property, partial
from pathlib import Path
from typing import BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pa_csv

from keen_trellis.core.errors import SourceError
from keen_trellis.core.parallel import ahead
from keen_trellis.core.task import Task
from keen_trellis.core.values import one_array
from keen_trellis.flow.remark import Remark
from keen_trellis.sources.dialect import TextDialect, records

BLOCK_BYTES = 16 * 2**20
_LOOKED_AT = 2**16
_AHEAD = 2  # blocks that are read side by side
_TEXT = pa.large_string()
_BATCH_ROWS = 20_000
_DATE = len("2026-11-23")
_NEWLINE, _RETURN = ord("\n"), ord("\r")

_Numbered = tuple[int, list[str]]  # a record with the number of its first line


# The type in which a field (by number) may be handed out at once, if all of its cells are written plainly in
# it; None for text. Whole numbers must be less than MOST_AT_ONCE.
Wanted = Callable[[int], pa.DataType | None]
MOST_AT_ONCE = 10**9


def nothing_but_text(_field: int) -> None:
    """For readings in which each field is wanted as text."""


@dataclass(frozen=True)
class TextBlock:
    """Some rows as columns of text or as wanted, null where blank, and the number of each row in its file.

    columns: one more than the header has names for each cell that the widest row has more.
    """

    columns: list[pa.Array]
    numbers: np.ndarray

    @property
    def rows(self) -> int:
        return len(self.numbers)


@dataclass
class Repairs:
    """What had to be repaired while reading, for saying so afterwards."""

    width: int
    short: list[int] = field(default_factory=list)
    long: list[int] = field(default_factory=list)
    empty: int = 0
    comments: int = 0
    marks_inside: bool = False

    def remarks(self) -> list[Remark]:
        """All of it in words."""
        said = []
        if self.short:
            text = _ragged(self.short, f"fewer than {self.width} cells; the rest is blank")
            said.append(Remark(text, doubtful=True))
        if self.long:
            text = _ragged(self.long, f"more than {self.width} cells; they are in fields of their own")
            said.append(Remark(text, doubtful=True))
        if self.empty:
            lines = "1 empty line is no row" if self.empty == 1 else f"{self.empty:,} empty lines are no rows"
            said.append(Remark(lines))
        if self.comments:
            lines = "1 comment line is" if self.comments == 1 else f"{self.comments:,} comment lines are"
            said.append(Remark(f"{lines} left out"))
        if self.marks_inside:
            text = "a quotation mark stands inside a cell; it was read as it is"
            said.append(Remark(text, doubtful=True))
        return said


def _ragged(lines: list[int], what: str) -> str:
    count = "1 row has" if len(lines) == 1 else f"{len(lines):,} rows have"
    return f"{count} {what} (first in line {lines[0]:,})"


@dataclass(frozen=True)
class TextFile:
    """A UTF-8 text file whose dialect and header are settled.

    start: bytes before its first line.  skipped: rows before the first row of data.  last: the number of
    the last line to be read, None for all.  quotes: whether it has quotation marks; well_quoted: and all in
    their places.
    """

    path: Path
    name: str
    settled: TextDialect
    width: int
    start: int
    skipped: int
    last: int | None
    quotes: bool
    well_quoted: bool

    def blocks(self, task: Task, repairs: Repairs, wanted: Wanted = nothing_but_text) -> Iterator[TextBlock]:
        """All rows, some at a time. What is repaired is added to `repairs`."""
        if not self.well_quoted:
            yield from self._slowly(task, repairs)
            return
        # Read and not mapped: a file that is cut short meanwhile would end the program.
        with self.path.open("rb") as file:
            parts = self._parts(file, self.path.stat().st_size, task, repairs)
            for lines, cells in ahead(partial(self._even, wanted=wanted), parts, _AHEAD):
                yield cells if cells is not None else self._repaired(lines, repairs)

    def _parts(self, file: BinaryIO, size: int, task: Task, repairs: Repairs) -> Iterator[_Lines]:
        """The rows that are to be read, some at a time."""
        line, to_skip = 1, self.skipped
        file.seek(self.start)
        for content in self._whole_rows(file):
            task.checkpoint(file.tell(), size, f"reading {self.name}")
            lines = _Lines(pa.py_buffer(content), line, self.settled.quote if self.quotes else "")
            line += lines.newlines
            if to_skip:
                skipped = min(to_skip, len(lines.numbers))
                lines, to_skip = lines.kept(range(skipped, len(lines.numbers))), to_skip - skipped
            if self.settled.comment:
                lines, comments = lines.without(self.settled.comment)
                repairs.comments += comments
            if self.last is not None:
                lines = lines.kept(range(int(np.searchsorted(lines.numbers, self.last, side="right"))))
            if len(lines.numbers):
                yield lines
            if self.last is not None and line > self.last:
                return

    def _whole_rows(self, file: BinaryIO) -> Iterator[np.ndarray]:
        """The rest of the file, cut behind rows. Each byte is looked at once, however long a row is."""
        waiting = bytearray()  # the beginning of a row that is not at its end yet
        is_open = False  # whether that ends inside quotation marks
        while True:
            begin = len(waiting)
            # The block is read behind what waits, so that nothing is copied twice.
            block = np.empty(begin + BLOCK_BYTES, np.uint8)
            block[:begin] = waiting
            end = begin + (file.readinto(block[begin:].data) or 0)  # type: ignore[attr-defined]
            if end == begin:
                break
            cut = begin + self._end_of_rows(block[begin:end], is_open)
            if cut == begin:
                is_open ^= self._is_odd(block[begin:end])
                waiting += block[begin:end].data
                continue
            yield block[:cut]
            waiting, is_open = bytearray(block[cut:end].data), self._is_odd(block[cut:end])
        if waiting:
            yield np.frombuffer(waiting, np.uint8)

    def _end_of_rows(self, marks: np.ndarray, is_open: bool) -> int:
        """How many bytes there are to the last end of a row in them; 0 if no row ends there.

        A line's end inside quotation marks ends no row: an odd number of marks stands before it.
        """
        end = _last(marks, _NEWLINE) + 1
        if not self.quotes or self._is_odd(marks[:end]) == is_open:
            return end
        ends = np.flatnonzero(marks == _NEWLINE)
        before = np.cumsum(marks == ord(self.settled.quote), dtype=np.uint8)[ends]
        outside = ends[(before & 1) == is_open]
        return int(outside[-1]) + 1 if len(outside) else 0

    def _is_odd(self, marks: np.ndarray) -> bool:
        """Whether there is an odd number of quotation marks."""
        return bool(self.quotes and np.count_nonzero(marks == ord(self.settled.quote)) % 2)

    def _repaired(self, lines: _Lines, repairs: Repairs) -> TextBlock:
        """The cells of a block whose rows are not all alike."""
        rows = list(records(io.StringIO(lines.content.to_pybytes().decode(), ""), self.settled))
        return self._of_rows(list(zip(lines.numbers.tolist(), rows, strict=False)), repairs)

    def _even(self, lines: _Lines, wanted: Wanted) -> TextBlock | None:
        """The cells of a block in which every row is as wide as the header; None if one is not."""
        if self.width == 1 and (lines.marks == _RETURN).any():
            return None
        types = (
            {}
            if lines.has_quotes
            else {str(number): kind for number in range(self.width) if (kind := wanted(number)) is not None}
        )
        try:
            data = self._cells(lines, types)
            if types and not (data.num_rows == len(lines.numbers) and self._is_plain(data, lines)):
                data = self._cells(lines, {})
        except pa.ArrowInvalid:
            if not types:
                return None
            return self._even(lines, nothing_but_text)
        if data.num_rows != len(lines.numbers):
            return None
        return TextBlock([one_array(column) for column in data.columns], lines.numbers)

    def _cells(self, lines: _Lines, types: Mapping[str, pa.DataType]) -> pa.Table:
        """The cells of a block, of these types or as text. pa.ArrowInvalid if that cannot be."""
        names = [str(number) for number in range(self.width)]
        return pa_csv.read_csv(
            pa.BufferReader(lines.content),
            read_options=pa_csv.ReadOptions(
                column_names=names, use_threads=False, block_size=len(lines.marks)
            ),
            parse_options=pa_csv.ParseOptions(
                delimiter=self.settled.delimiter,
                quote_char=self.settled.quote or False,
                newlines_in_values=lines.newlines > len(lines.numbers),
                ignore_empty_lines=False,
            ),
            convert_options=pa_csv.ConvertOptions(
                column_types={**dict.fromkeys(names, _TEXT), **types},
                null_values=[""],
                strings_can_be_null=True,
                quoted_strings_can_be_null=True,
            ),
        )

    def _is_plain(self, data: pa.Table, lines: _Lines) -> bool:
        """Whether the cells that became numbers and dates were written as these are written plainly.

        A plus, a zero or a space too many would make the block longer than all its values written plainly
        are, and what could make it shorter (hexadecimal digits) needs numbers that are not handed out.
        """
        characters = 0
        for column in data.columns:
            values = one_array(column)
            if pa.types.is_integer(values.type):
                numbers = np.abs(values.fill_null(0).to_numpy())
                if len(numbers) and numbers.max() >= MOST_AT_ONCE:
                    return False
                characters += len(numbers) - values.null_count + (pc.sum(pc.less(values, 0)).as_py() or 0)
                least = 10
                while longer := np.count_nonzero(numbers >= least):
                    characters += longer
                    least *= 10
            elif pa.types.is_date(values.type):
                characters += _DATE * (len(values) - values.null_count)
            else:
                characters += _bytes_of(values)
        around = lines.newlines + data.num_rows * (self.width - 1)
        left = len(lines.marks) - around - characters
        return left in (0, np.count_nonzero(lines.marks == _RETURN))

    def _slowly(self, task: Task, repairs: Repairs) -> Iterator[TextBlock]:
        """All rows of a file whose quotation marks are not where they should be."""
        found = Repairs(repairs.width)
        try:
            blocks = list(self._ragged(task, found, strict=True))
        except csv.Error:
            found = Repairs(repairs.width, marks_inside=True)
            blocks = list(self._ragged(task, found, strict=False))
        repairs.__dict__.update(found.__dict__)
        yield from blocks

    def _ragged(self, task: Task, repairs: Repairs, *, strict: bool) -> Iterator[TextBlock]:
        with self.path.open(encoding="utf-8", newline="") as file:
            file.seek(self.start)
            reader = records(file, self.settled, strict=strict)
            for _ in range(self.skipped):
                next(reader, None)
            for batch in _batches(reader, self.path):
                task.checkpoint(0, 0, f"rows of {self.name}")
                wanted = self._without_comments(batch, repairs)
                if self.last is not None:
                    wanted = [(number, row) for number, row in wanted if number <= self.last]
                if wanted:
                    yield self._of_rows(wanted, repairs)

    def _without_comments(self, rows: Sequence[_Numbered], repairs: Repairs) -> Sequence[_Numbered]:
        if not self.settled.comment:
            return rows
        kept = [(n, row) for n, row in rows if not (row and row[0].startswith(self.settled.comment))]
        repairs.comments += len(rows) - len(kept)
        return kept

    def _of_rows(self, rows: Sequence[_Numbered], repairs: Repairs) -> TextBlock:
        """Rows of any width as columns; what is short, long or empty is noted."""
        kept, numbers = [], []
        for number, row in rows:
            if not row and self.width > 1:
                repairs.empty += 1
                continue
            if len(row) < self.width:
                if row:
                    repairs.short.append(number)
            elif len(row) > self.width:
                repairs.long.append(number)
            kept.append(row)
            numbers.append(number)
        columns = [
            pa.array([cell or None for cell in column], _TEXT) for column in itertools.zip_longest(*kept)
        ]
        # A block whose rows are all short lacks the last columns.
        columns += [pa.nulls(len(kept), _TEXT) for _ in range(self.width - len(columns))]
        return TextBlock(columns, np.array(numbers, dtype=np.int32))


def _last(marks: np.ndarray, byte: int) -> int:
    """Where a byte occurs last; -1 if it does not. Looked for from the end: it is near there."""
    for end in range(len(marks), 0, -_LOOKED_AT):
        start = max(end - _LOOKED_AT, 0)
        found = np.flatnonzero(marks[start:end] == byte)
        if len(found):
            return start + int(found[-1])
    return -1


class _Lines:
    """A block's bytes, its rows, and for each of them where it begins and the number of its first line."""

    def __init__(
        self,
        content: pa.Buffer,
        first_line: int,
        quote: str,
        starts: np.ndarray | None = None,
        numbers: np.ndarray | None = None,
    ) -> None:
        self.content = content
        self.marks = np.frombuffer(content, np.uint8)
        self._first_line = first_line
        self._quote = quote if quote and (self.marks == ord(quote)).any() else ""
        self._starts, self._numbers = starts, numbers

    @property
    def has_quotes(self) -> bool:
        """Whether a quotation mark is among the bytes."""
        return bool(self._quote)

    @cached_property
    def newlines(self) -> int:
        """How many lines end in it."""
        return int(np.count_nonzero(self.marks == _NEWLINE))

    @cached_property
    def numbers(self) -> np.ndarray:
        """The number of the first line of each row."""
        if self._numbers is not None:
            return self._numbers
        if self._quote:
            return self._rows[1]
        open_end = len(self.marks) > 0 and self.marks[-1] != _NEWLINE
        return np.arange(self._first_line, self._first_line + self.newlines + open_end, dtype=np.int32)

    @cached_property
    def starts(self) -> np.ndarray:
        """Where each row begins, in bytes."""
        return self._rows[0] if self._starts is None else self._starts

    @cached_property
    def _rows(self) -> tuple[np.ndarray, np.ndarray]:
        marks = self.marks
        ends = np.flatnonzero(marks == _NEWLINE)
        first_of_row = np.arange(len(ends) + 1, dtype=np.int32)
        if self._quote:
            # A line's end inside quotation marks ends no row.
            quotes = np.flatnonzero(marks == ord(self._quote))
            outside = np.searchsorted(quotes, ends) & 1 == 0
            first_of_row = np.concatenate(([0], np.flatnonzero(outside) + 1)).astype(np.int32)
            ends = ends[outside]
        starts = np.concatenate(([0], ends + 1))
        if starts[-1] >= len(marks):
            starts, first_of_row = starts[:-1], first_of_row[: len(starts) - 1]
        return starts, first_of_row + self._first_line

    def kept(self, rows: range) -> _Lines:
        """Only these rows, which follow each other."""
        if len(rows) == len(self.numbers):
            return self
        if not len(rows):
            return _Lines(pa.py_buffer(b""), 0, "", self.starts[:0], self.numbers[:0])
        begin = int(self.starts[rows.start])
        end = int(self.starts[rows.stop]) if rows.stop < len(self.starts) else len(self.marks)
        starts, numbers = self.starts[rows.start : rows.stop] - begin, self.numbers[rows.start : rows.stop]
        return _Lines(self.content.slice(begin, end - begin), 0, self._quote, starts, numbers)

    def without(self, comment: str) -> tuple[_Lines, int]:
        """The rows that do not begin with a comment's mark, and how many do."""
        marks = self.marks
        is_comment = np.ones(len(self.starts), dtype=bool)
        for place, byte in enumerate(comment.encode()):
            at = np.minimum(self.starts + place, len(marks) - 1)
            is_comment &= marks[at] == byte
        if not is_comment.any():
            return self, 0
        lengths = np.diff(np.append(self.starts, len(marks)))
        content = pa.py_buffer(marks[np.repeat(~is_comment, lengths)].tobytes())
        kept = lengths[~is_comment]
        starts = np.concatenate(([0], np.cumsum(kept)))[: len(kept)]
        return _Lines(content, 0, self._quote, starts, self.numbers[~is_comment]), int(is_comment.sum())


def _bytes_of(texts: pa.Array) -> int:
    """How many bytes some texts have together: they stand one behind the other."""
    offsets = np.frombuffer(texts.buffers()[1], np.int64)
    return int(offsets[texts.offset + len(texts)] - offsets[texts.offset])


def _batches(reader: Iterator[list[str]], path: Path) -> Iterator[list[tuple[int, list[str]]]]:
    """Rows with the number of the line in which each ends, many at a time."""
    batch: list[tuple[int, list[str]]] = []
    last: int = reader.line_num  # type: ignore[attr-defined]
    try:
        for row in reader:
            last = reader.line_num  # type: ignore[attr-defined]
            batch.append((last, row))
            if len(batch) == _BATCH_ROWS:
                yield batch
                batch = []
    except csv.Error as error:
        if "unexpected end of data" not in str(error) and "field larger" not in str(error):
            raise
        raise SourceError(
            f"A quotation mark is opened and never closed; the cell would end in line {reader.line_num:,}.",  # type: ignore[attr-defined]
            where=str(path),
            remedy=f"Close it: it stands after line {last:,}.",
        ) from error
    yield batch
