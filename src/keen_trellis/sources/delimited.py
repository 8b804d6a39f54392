"""Delimited text: encoding, delimiter, quote and header are detected, ragged rows are repaired and said."""

from __future__ import annotations

import codecs
import csv
import io
import itertools
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv as pa_csv

from keen_trellis.core.errors import SourceError
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.flow.snapshot import Remark
from keen_trellis.sources.headers import LOOKED_AT, Header, find_header
from keen_trellis.sources.inference import column_of_text
from keen_trellis.sources.reading import Listing, ReadTable
from keen_trellis.sources.recognise import TEXT

DELIMITERS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "vertical bar"}
_SAMPLE = 256 * 1024
_BLOCK = 4 * 2**20
_BATCH_ROWS = 20_000
_LONGEST_CELL = 2**24
_MARK_OF_ORDER = len(codecs.BOM_UTF8)  # a mark this near the start may follow nothing but that
_MARKS = ((codecs.BOM_UTF8, "utf-8-sig"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16"))


@dataclass(frozen=True)
class Dialect:
    """How a text file is written."""

    encoding: str
    delimiter: str
    quote: str


class DelimitedReader:
    """Reads a text file as one table."""

    name = TEXT

    def tables(self, path: Path, task: Task) -> Sequence[Listing]:
        return [Listing(path.stem, "file")]

    def read(self, path: Path, table: str, task: Task) -> ReadTable:
        task.checkpoint(0, 0, f"reading {path.name}")
        try:
            encoding, remarks = detect_encoding(path, task)
            with path.open("rb") as file:
                sample = file.read(_SAMPLE).decode(encoding, errors="ignore")
            dialect = detect_dialect(sample, encoding, whole=len(sample) < _SAMPLE)
            header = find_header(
                list(itertools.islice(_records(io.StringIO(sample, ""), dialect), LOOKED_AT))
            )
            if not header.names:
                raise SourceError("It holds nothing but empty lines.", where=str(path))
            remarks += header.remarks
            data, numbers, repairs = _columns(path, dialect, header, task)
        except OSError as error:
            raise SourceError(f"It cannot be read: {error.strerror}.", where=str(path)) from error
        remarks += repairs
        typed = {}
        first_row = numbers if isinstance(numbers, int) else int(numbers[0]) if len(numbers) else 1
        for done, name in enumerate(data.column_names):
            task.checkpoint(done, data.num_columns, f"finding types in {path.name}")
            typed[name], doubts = column_of_text(data.column(name).combine_chunks(), name, first_row)
            remarks += doubts
        read = ArrowTable(pa.table(typed), file=path.name, row_numbers=numbers)
        return ReadTable(read, tuple(remarks))


def detect_encoding(path: Path, task: Task) -> tuple[str, list[Remark]]:
    """The encoding of the whole file: by its mark, UTF-8 if all of it is, or else the likeliest one."""
    with path.open("rb") as file:
        head = file.read(_SAMPLE)
        for mark, encoding in _MARKS:
            if head.startswith(mark):
                return encoding, []
        file.seek(0)
        decoder = codecs.getincrementaldecoder("utf-8")()
        position = 0
        try:
            while block := file.read(_BLOCK):
                task.checkpoint(0, 0, f"reading {path.name}")
                decoder.decode(block)
                position += len(block)
            decoder.decode(b"", final=True)
        except UnicodeDecodeError:
            file.seek(max(0, position - _SAMPLE))
            around = file.read(2 * _BLOCK)
        else:
            return "utf-8", []
    from charset_normalizer import from_bytes

    guess = from_bytes(
        head + around[:_SAMPLE] if around[:1024] not in head else head + around[-_SAMPLE:]
    ).best()
    if guess is None:
        raise SourceError(
            "Its encoding cannot be found out; it is not UTF-8.",
            where=str(path),
            remedy="Save it as UTF-8 text.",
        )
    return guess.encoding, [Remark(f"it is not UTF-8; read as {guess.encoding}", doubtful=True)]


def detect_dialect(sample: str, encoding: str, *, whole: bool = False) -> Dialect:
    """Delimiter and quote by which most rows of the sample have the same number of cells."""
    quote = "'" if _quoted_by(sample, "'") > 2 * _quoted_by(sample, '"') else '"'
    if not whole:
        sample = sample[: sample.rfind("\n") + 1] or sample

    def fitness(delimiter: str) -> tuple[float, int]:
        rows: Iterable[list[str]] = itertools.islice(
            _records(io.StringIO(sample, ""), Dialect(encoding, delimiter, quote)), 500
        )
        widths = [len(row) for row in rows if row]
        if not widths:
            return 0.0, 0
        usual = max(set(widths), key=widths.count)
        return (widths.count(usual) / len(widths) if usual > 1 else 0.0), usual

    return Dialect(encoding, max(DELIMITERS, key=fitness), quote)


def _quoted_by(sample: str, quote: str) -> int:
    return sum(sample.count(f"{before}{quote}") for before in (*DELIMITERS, "\n")) + sample.startswith(quote)


def _records(lines: io.TextIOBase, dialect: Dialect, *, strict: bool = False) -> csv.reader:  # type: ignore[valid-type]
    csv.field_size_limit(_LONGEST_CELL)
    return csv.reader(lines, delimiter=dialect.delimiter, quotechar=dialect.quote, strict=strict)


def _columns(
    path: Path, dialect: Dialect, header: Header, task: Task
) -> tuple[pa.Table, int | np.ndarray, list[Remark]]:
    """All cells as text, null where blank; row numbers; what was repaired."""
    quotes, well_quoted = _quotation(path, dialect)
    # Marks that are never closed, or closed amid a cell, are left to the slow way, which finds where.
    if dialect.encoding in ("utf-8", "utf-8-sig") and len(header.names) > 1 and well_quoted:
        quick = _read_even(path, dialect, header, quoted=quotes > 0)
        if quick is not None:
            return quick, header.rows_above + 1, []
    try:
        return _read_ragged(path, dialect, header, task, strict=True)
    except csv.Error:
        said = "a quotation mark stands inside a cell; it was read as it is"
        data, numbers, repairs = _read_ragged(path, dialect, header, task, strict=False)
        return data, numbers, [*repairs, Remark(said, doubtful=True)]


def _read_even(path: Path, dialect: Dialect, header: Header, *, quoted: bool) -> pa.Table | None:
    """The cells of a file in which every row is as wide as the header; None if one is not."""
    names = list(header.names)
    try:
        data = pa_csv.read_csv(
            path,
            read_options=pa_csv.ReadOptions(column_names=names, skip_rows=header.rows_above),
            parse_options=pa_csv.ParseOptions(
                delimiter=dialect.delimiter,
                quote_char=dialect.quote,
                newlines_in_values=quoted,
                ignore_empty_lines=False,
            ),
            convert_options=pa_csv.ConvertOptions(
                column_types=dict.fromkeys(names, pa.large_string()),
                null_values=[""],
                strings_can_be_null=True,
                quoted_strings_can_be_null=True,
            ),
        )
    except pa.ArrowInvalid:
        return None
    return data


def _quotation(path: Path, dialect: Dialect) -> tuple[int, bool]:
    """How many quotation marks the file has, and whether they stand as RFC 4180 has them.

    Read from the start, marks open and close by turns, a doubled mark closing and opening at once. So each
    that opens must follow a delimiter, a line's end or a mark, and each that closes must be followed by one.
    """
    content = np.memmap(path, np.uint8, mode="r")
    around = np.zeros(256, dtype=bool)
    around[[ord(text) for text in (dialect.quote, dialect.delimiter, "\n", "\r")]] = True
    count, well = 0, True
    for start in range(0, len(content), _BLOCK):
        marks = np.flatnonzero(content[start : start + _BLOCK] == ord(dialect.quote)) + start
        opening, closing = marks[count % 2 :: 2], marks[1 - count % 2 :: 2]
        count += len(marks)
        before = opening[opening > _MARK_OF_ORDER] - 1
        after = closing[closing < len(content) - 1] + 1
        well = well and bool(around[content[before]].all() and around[content[after]].all())
    return count, well and count % 2 == 0


def _read_ragged(
    path: Path, dialect: Dialect, header: Header, task: Task, *, strict: bool
) -> tuple[pa.Table, np.ndarray, list[Remark]]:
    """The cells of any file. Short rows end in blanks, long ones get fields of their own; both are said."""
    names = list(header.names)
    parts: list[list[pa.Array]] = []
    numbers: list[int] = []
    short: list[int] = []
    long: list[int] = []
    empty = 0
    with path.open(encoding=dialect.encoding, newline="") as file:
        records = _records(file, dialect, strict=strict)
        for _ in range(header.rows_above):
            next(records)
        for batch in _batches(records, path):
            task.checkpoint(len(numbers), 0, f"rows of {path.name}")
            rows: list[list[str]] = []
            for number, row in batch:
                if not row and len(names) > 1:
                    empty += 1
                    continue
                if len(row) < len(names):
                    short.append(number)
                elif len(row) > len(names):
                    long.append(number)
                rows.append(row)
                numbers.append(number)
            names += [f"field {len(names) + more + 1}" for more in range(_widest(rows) - len(names))]
            columns = itertools.zip_longest(*rows)
            cells = [pa.array([cell or None for cell in column], pa.large_string()) for column in columns]
            # A batch whose rows are all short lacks the last columns.
            cells += [pa.nulls(len(rows), pa.large_string()) for _ in range(len(names) - len(cells))]
            parts.append(cells)
    data = {}
    for column, name in enumerate(names):
        chunks = [
            part[column] if column < len(part) else pa.nulls(len(part[0]), pa.large_string())
            for part in parts
        ]
        data[name] = pa.chunked_array(chunks, pa.large_string())
    return pa.table(data), np.array(numbers, dtype=np.int32), _repairs(short, long, empty, len(header.names))


def _widest(rows: Sequence[Sequence[str]]) -> int:
    return max(map(len, rows), default=0)


def _batches(records: Iterator[list[str]], path: Path) -> Iterator[list[tuple[int, list[str]]]]:
    """Rows with the number of the line in which each ends, many at a time."""
    batch: list[tuple[int, list[str]]] = []
    last: int = records.line_num  # type: ignore[attr-defined]
    try:
        for row in records:
            last = records.line_num  # type: ignore[attr-defined]
            batch.append((last, row))
            if len(batch) == _BATCH_ROWS:
                yield batch
                batch = []
    except csv.Error as error:
        if "unexpected end of data" not in str(error) and "field larger" not in str(error):
            raise
        raise SourceError(
            f"A quotation mark is opened and never closed; the cell would end in line {records.line_num:,}.",  # type: ignore[attr-defined]
            where=str(path),
            remedy=f"Close it: it stands after line {last:,}.",
        ) from error
    yield batch


def _repairs(short: list[int], long: list[int], empty: int, width: int) -> list[Remark]:
    remarks = []
    if short:
        remarks.append(Remark(_ragged(short, f"fewer than {width} cells; the rest is blank"), doubtful=True))
    if long:
        said = f"more than {width} cells; they are in fields of their own"
        remarks.append(Remark(_ragged(long, said), doubtful=True))
    if empty:
        remarks.append(Remark(f"{empty:,} empty lines are no rows"))
    return remarks


def _ragged(lines: list[int], what: str) -> str:
    count = "1 row has" if len(lines) == 1 else f"{len(lines):,} rows have"
    return f"{count} {what} (first in line {lines[0]:,})"
