"""Cuts a UTF-8 text file into blocks of whole rows, and reads each into columns of text."""

from __future__ import annotations

import csv
import io
import itertools
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import BinaryIO, NamedTuple

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pa_csv

from keen_trellis.core.errors import SourceError
from keen_trellis.core.parallel import ahead
from keen_trellis.core.task import Task
from keen_trellis.core.text_bytes import bytes_of
from keen_trellis.core.values import one_array
from keen_trellis.flow.remark import Remark
from keen_trellis.sources.dialect import LONGEST_CELL, TextDialect, records
from keen_trellis.sources.quoting import Quotation
from keen_trellis.sources.text_lines import Lines, Place, count_of

BLOCK_BYTES = 8 * 2**20  # more than that leaves the processor’s cache
_AHEAD = 2  # blocks that are read side by side
_TEXT = pa.large_string()
_BATCH_ROWS = 20_000
_DATE = len("2026-11-23")
_NEWLINE, _RETURN = ord("\n"), ord("\r")

_Numbered = tuple[int, list[str]]  # a record with the number of its first line


class AtOnce(NamedTuple):
    """How a field may be handed out instead of as text.

    kind: the type to read it in, if all of its cells are written plainly in it; whole numbers must be less
    than MOST_AT_ONCE.  read: what else makes values of all of its text, or None where it cannot.
    """

    kind: pa.DataType | None = None
    read: Callable[[pa.Array], pa.Array | None] | None = None


Wanted = Callable[[int], AtOnce]  # of a field by its number
MOST_AT_ONCE = 10**9


def nothing_but_text(_field: int) -> AtOnce:
    """For readings in which each field is wanted as text."""
    return AtOnce()


class TextBlock(msgspec.Struct, frozen=True):
    """Some rows as columns of text or as wanted, null where blank, and the number of each row in its file.

    columns: one more than the header has names for each cell that the widest row has more.
    """

    columns: list[pa.Array]
    numbers: np.ndarray

    @property
    def rows(self) -> int:
        return len(self.numbers)


class Repairs(msgspec.Struct):
    """What had to be repaired while reading, for saying so afterwards."""

    width: int
    short: list[int] = msgspec.field(default_factory=list)
    long: list[int] = msgspec.field(default_factory=list)
    empty: int = 0
    comments: int = 0
    marks_inside: bool = False

    def add(self, later: Repairs) -> None:
        """Note what had to be repaired further down."""
        self.short += later.short
        self.long += later.long
        self.empty += later.empty
        self.comments += later.comments
        self.marks_inside |= later.marks_inside

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
            text = "a quotation mark is inside a cell; it was read as it is"
            said.append(Remark(text, doubtful=True))
        return said


def _ragged(lines: list[int], what: str) -> str:
    count = "1 row has" if len(lines) == 1 else f"{len(lines):,} rows have"
    return f"{count} {what} (first in line {lines[0]:,})"


class TextFile(msgspec.Struct, frozen=True):
    """A UTF-8 text file whose dialect and header are settled.

    start: bytes before its first line.  skipped: rows before the first row of data.  last: the number of
    the last line to be read, None for all.
    """

    path: Path
    name: str
    settled: TextDialect
    width: int
    start: int
    skipped: int
    last: int | None

    def blocks(self, task: Task, repairs: Repairs, wanted: Wanted = nothing_but_text) -> Iterator[TextBlock]:
        """All rows, some at a time. What is repaired is added to `repairs`."""
        free: list[bytearray] = []
        # Read and not mapped: a file that is cut short meanwhile would end the program.
        with self.path.open("rb") as file:
            parts = self._parts(file, free, self.path.stat().st_size, task)
            for lines, cells in ahead(partial(self._even, wanted=wanted), parts, _AHEAD):
                if not lines.well_quoted:
                    yield from self._slowly(lines.place, task, repairs)
                    return
                repairs.comments += lines.comments
                made = cells or self._repaired(lines, repairs)
                if cells is not None:
                    repairs.empty += len(lines.numbers) - cells.rows
                free.append(lines.block)
                yield made

    def _parts(self, file: BinaryIO, free: list[bytearray], size: int, task: Task) -> Iterator[Lines]:
        """The rows that are to be read, some at a time; up to where quotation marks stand astray.

        free: blocks that nobody needs any more, to be used again: new memory takes longer to get.
        """
        place = Place(self.start, 1, self.skipped)
        file.seek(self.start)
        for block, end in self._whole_rows(file, free):
            task.checkpoint(file.tell(), size, f"reading {self.name}")
            lines = Lines(block, end, place, self.settled)
            if (place.to_skip or self.settled.comment or self.last is not None) and not lines.well_quoted:
                # Its rows cannot be compared by their marks.
                yield lines
                return
            skipped = min(place.to_skip, len(lines.numbers)) if place.to_skip else 0
            place = Place(place.byte + end, place.line + lines.newlines, place.to_skip - skipped)
            if skipped:
                lines = lines.kept(range(skipped, len(lines.numbers)))
            if self.settled.comment:
                lines = lines.without(self.settled.comment)
            if self.last is not None:
                lines = lines.kept(range(int(np.searchsorted(lines.numbers, self.last, side="right"))))
            if len(lines.content) or lines.comments:
                yield lines
            if self.last is not None and place.line > self.last:
                return

    def _whole_rows(self, file: BinaryIO, free: list[bytearray]) -> Iterator[tuple[bytearray, int]]:
        """The rest of the file in blocks, and how far in each there are whole rows; up to where quotation
        marks stand astray in a row that is longer than a block, or a cell has no end. Each byte is read
        once, however long a row is.
        """
        waiting = bytearray()  # the beginning of a row that is not at its end yet
        is_open = False  # whether that ends inside quotation marks
        while True:
            begin = len(waiting)
            # The block is read behind what waits, so that nothing is copied twice.
            if 2 * begin > BLOCK_BYTES:
                block = bytearray(begin + BLOCK_BYTES)
            else:
                block = free.pop() if free and len(free[-1]) == BLOCK_BYTES else bytearray(BLOCK_BYTES)
            block[:begin] = waiting
            end = begin + (file.readinto(memoryview(block)[begin:]) or 0)  # type: ignore[attr-defined]
            if end == begin:
                break
            cut = max(block.rfind(b"\n", begin, end) + 1, begin)
            if self._marks_in(block, begin, cut) % 2 != is_open:
                # A line's end inside quotation marks ends no row.
                places, end_rows = self._quotation(block, begin, end, is_open).ends()
                cut = begin + (int(places[end_rows][-1]) + 1 if end_rows.any() else 0)
            if cut > begin:
                waiting, is_open = block[cut:end], self._marks_in(block, cut, end) % 2 == 1
                yield block, cut
                continue
            waiting += block[begin:end]
            if self.settled.quote:
                quotation = self._quotation(block, begin, end, is_open)
                is_open = quotation.ends_open
                if not quotation.stand_well or (is_open and end > LONGEST_CELL):
                    break
        if waiting:
            yield waiting, len(waiting)

    def _marks_in(self, block: bytearray, start: int, end: int) -> int:
        """How many quotation marks there are in a part of a block."""
        if not self.settled.quote or block.find(self.settled.quote.encode(), start, end) < 0:
            return 0
        return count_of(np.frombuffer(block, np.uint8, end - start, start), ord(self.settled.quote))

    def _quotation(self, block: bytearray, start: int, end: int, is_open: bool) -> Quotation:
        """The quotation marks in a part of a block."""
        part = np.frombuffer(block, np.uint8, end - start, start)
        return Quotation(part, self.settled.quote, self.settled.delimiter, is_open=is_open)

    def _repaired(self, lines: Lines, repairs: Repairs) -> TextBlock:
        """The cells of a block whose rows are not all alike."""
        parts = list(io.StringIO(lines.content.tobytes().decode(), ""))
        begins = np.cumsum([0, *(len(part.encode()) for part in parts)])
        reader, rows, first = records(parts, self.settled), [], [0]
        for row in reader:
            rows.append(row)
            first.append(reader.line_num)  # type: ignore[attr-defined]
        # A return without a newline ends a row too, but no line: such rows have the number of their line.
        line = np.searchsorted(lines.starts, begins[first[:-1]], side="right") - 1
        return self._of_rows(list(zip(lines.numbers[line].tolist(), rows, strict=True)), repairs)

    def _even(self, lines: Lines, wanted: Wanted) -> TextBlock | None:
        """The cells of a block in which every row is as wide as the header; None if one is not, or if
        quotation marks stand astray.
        """
        if not lines.well_quoted or not len(lines.content) or lines.has_bare_returns:
            return None
        at_once = [wanted(number) for number in range(self.width)]
        types = {str(number): entry.kind for number, entry in enumerate(at_once) if entry.kind is not None}
        try:
            data = self._cells(lines, types)
            if types and not self._is_plain(data, lines):
                data = self._cells(lines, {})
        except pa.ArrowInvalid:
            if not types:
                return None
            return self._even(lines, nothing_but_text)
        numbers = lines.numbers if data.num_rows == len(lines.numbers) else lines.without_empty()
        if data.num_rows != len(numbers):
            return None
        columns = [one_array(column) for column in data.columns]
        for number, entry in enumerate(at_once):
            if entry.read is not None and columns[number].type == _TEXT:
                made = entry.read(columns[number])
                columns[number] = columns[number] if made is None else made
        return TextBlock(columns, numbers)

    def _cells(self, lines: Lines, types: Mapping[str, pa.DataType]) -> pa.Table:
        """The cells of a block, of these types or as text. pa.ArrowInvalid if that cannot be."""
        names = [str(number) for number in range(self.width)]
        return pa_csv.read_csv(
            pa.BufferReader(lines.content),
            read_options=pa_csv.ReadOptions(
                column_names=names, use_threads=False, block_size=len(lines.content)
            ),
            parse_options=pa_csv.ParseOptions(
                delimiter=self.settled.delimiter,
                quote_char=self.settled.quote or False,
                ignore_empty_lines=self.width > 1,
            ),
            convert_options=pa_csv.ConvertOptions(
                check_utf8=False,
                column_types={**dict.fromkeys(names, _TEXT), **types},
                null_values=[""],
                strings_can_be_null=True,
                quoted_strings_can_be_null=True,
            ),
        )

    def _is_plain(self, data: pa.Table, lines: Lines) -> bool:
        """Whether the cells that became numbers and dates were written as these are written plainly.

        A plus, a zero or a space too many would make the block longer than all its values written plainly
        are, and what could make it shorter (hexadecimal digits) needs numbers that are not handed out.
        """
        columns = [one_array(column) for column in data.columns]
        texts = [bytes_of(column)[0] for column in columns if column.type == _TEXT]
        characters = sum(map(len, texts))
        for values in columns:
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

        def outside(sign: int) -> int:
            return count_of(lines.content, sign) - sum(count_of(text, sign) for text in texts)

        around = lines.row_ends + data.num_rows * (self.width - 1)
        if lines.quotation is not None:
            # A mark in a cell is written twice, and is among the characters once.
            around += outside(ord(self.settled.quote))
        left = len(lines.content) - around - characters
        return bool(left == 0 or left == outside(_RETURN))

    def _slowly(self, place: Place, task: Task, repairs: Repairs) -> Iterator[TextBlock]:
        """All rows from where quotation marks are not where they should be."""
        found = Repairs(repairs.width)
        try:
            blocks = list(self._ragged(place, task, found, strict=True))
        except csv.Error:
            found = Repairs(repairs.width, marks_inside=True)
            blocks = list(self._ragged(place, task, found, strict=False))
        repairs.add(found)
        yield from blocks

    def _ragged(self, place: Place, task: Task, repairs: Repairs, *, strict: bool) -> Iterator[TextBlock]:
        with self.path.open(encoding="utf-8", newline="") as file:
            file.seek(place.byte)
            lines = _Counted(file, place.line)
            reader = records(lines, self.settled, strict=strict)
            for _ in range(place.to_skip):
                next(reader, None)
            for batch in _batches(reader, lines, self.path):
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


class _Counted:
    """Lines as they are handed on. number: that of the next one. A return without a newline ends none."""

    def __init__(self, lines: Iterator[str], number: int) -> None:
        self._lines, self.number = lines, number

    def __iter__(self) -> _Counted:
        return self

    def __next__(self) -> str:
        line = next(self._lines)
        self.number += line.endswith("\n")
        return line


def _batches(reader: Iterator[list[str]], lines: _Counted, path: Path) -> Iterator[list[_Numbered]]:
    """Rows with the number of the line in which each begins, many at a time."""
    batch: list[_Numbered] = []
    number = lines.number
    try:
        for row in reader:
            batch.append((number, row))
            number = lines.number
            if len(batch) == _BATCH_ROWS:
                yield batch
                batch = []
    except csv.Error as error:
        if "unexpected end of data" not in str(error) and "field larger" not in str(error):
            raise
        raise SourceError(
            f"A quotation mark is opened and never closed; the cell would end in line {lines.number:,}.",
            where=str(path),
            remedy=f"Close it: it is after line {number - 1:,}.",
        ) from error
    yield batch
