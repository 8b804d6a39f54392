"""Delimited text: how it is written is found out or set, ragged rows are repaired and said."""

from __future__ import annotations

import codecs
import io
import itertools
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.flow.remark import ABOVE, DATA, EMPTY, HEADER, NOTE, Raw, RawRow, Remark
from keen_trellis.flow.source_settings import NO_COMMENT, NO_QUOTE, Dialect, Layout, Settled, SourceSettings
from keen_trellis.sources.about import ROWS_FILE, About
from keen_trellis.sources.cell_columns import check_width
from keen_trellis.sources.content import reading
from keen_trellis.sources.dialect import (
    SAMPLE,
    UTF8,
    TextDialect,
    not_written_in,
    records,
    settle_dialect,
    settle_encoding,
)
from keen_trellis.sources.fixed_width import CELL_END, in_cells, places_in
from keen_trellis.sources.headers import LOOKED_AT, Header, field_names, find_header, title_remark
from keen_trellis.sources.reading import DIALECT, LAYOUT, WRITING, OneTableReader, ReadTable
from keen_trellis.sources.recognise import TEXT
from keen_trellis.sources.text_blocks import Repairs, TextBlock, TextFile, Wanted, nothing_but_text
from keen_trellis.sources.typed_rows import typed_rows

_RAW_ROWS = 200
_ENOUGH_TO_TELL = 8  # lines
_BLOCK = 4 * 2**20
_FIRST_BYTES = 512 * 1024


class DelimitedReader(OneTableReader):
    """Reads a text file as one table."""

    name = TEXT
    said = "delimited text"
    uses = LAYOUT | DIALECT | WRITING

    def first_rows(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable | None:
        path = Path(settings.path)
        with path.open("rb") as file:
            head = file.read(_FIRST_BYTES)
        if len(head) < _FIRST_BYTES:
            return None
        own = room / "first"
        own.mkdir()
        (own / path.name).write_bytes(head[: head.rfind(b"\n") + 1])
        return self.read(msgspec.structs.replace(settings, path=str(own / path.name)), room, task)

    def read(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable:
        path = Path(settings.path)
        with reading(path):
            opened = open_text(path, settings, room, task)
            typed = typed_rows(
                lambda wanted: opened.blocks(task, wanted),
                opened.names,
                settings.writing.notation,
                settings.kept_as_text,
                room / ROWS_FILE,
                task,
            )
        about = About(
            file=path.name,
            digits=typed.digits,
            remarks=(*opened.remarks, *opened.repairs.remarks(), *typed.remarks),
            raw=opened.raw,
            settled=Settled(opened.layout, opened.dialect, typed.writing),
        )
        return ReadTable(typed.data, about)


class OpenedText(msgspec.Struct):
    """A text file whose dialect and header are settled, ready to be read.

    repairs: what had to be repaired in the latest reading.
    """

    file: TextFile
    names: tuple[str, ...]
    remarks: tuple[Remark, ...]
    raw: Raw
    layout: Layout
    dialect: Dialect
    repairs: Repairs

    def blocks(self, task: Task, wanted: Wanted = nothing_but_text) -> Iterator[TextBlock]:
        """All rows from the first on; repairs are counted anew."""
        self.repairs = Repairs(len(self.names))
        return self.file.blocks(task, self.repairs, wanted)


def open_text(path: Path, settings: SourceSettings, room: Path, task: Task) -> OpenedText:
    """Settle how a text file is written, as set or as found out. OSError or SourceError if it cannot be
    read.
    """
    task.checkpoint(0, 0, f"reading {path.name}")
    written_in = settle_encoding(path, settings.dialect.encoding, task)
    encoding, remarks = written_in.name, list(written_in.remarks)
    source, start = path, 0
    with path.open("rb") as file:
        head = file.read(SAMPLE)
    if encoding not in UTF8 or written_in.marks_inside or (b"\n" not in head and b"\r" in head):
        source = _as_utf8(path, encoding, room, task)
    elif head.startswith(codecs.BOM_UTF8):
        start = len(codecs.BOM_UTF8)
    with source.open("rb") as file:
        file.seek(start)
        content = file.read(SAMPLE)
    sample = content.decode("utf-8", errors="ignore")
    written = settle_dialect(sample, encoding, settings.dialect, whole=len(content) < SAMPLE)
    begins = settings.dialect.begins or (places_in(sample) if written.is_guess else ())
    if begins:
        cells = room / f"{path.name}.cells"
        in_cells(source, start, begins, cells, task)
        source, start = cells, 0
        with cells.open(encoding="utf-8", newline="") as text:
            sample = text.read(SAMPLE)
        comment = "" if settings.dialect.comment == NO_COMMENT else settings.dialect.comment
        written = TextDialect(encoding, CELL_END, "", comment)
    rows = list(itertools.islice(records(io.StringIO(sample, ""), written), _RAW_ROWS))
    looked_at = [[] if _is_comment(row, written) else row for row in rows[:LOOKED_AT]]
    header = _header(looked_at, settings.layout)
    if header.row is not None and header.rows_above > len(rows):
        raise SourceError(
            f"Its header is set to row {header.row + 1:,}, and the part that may hold one ends with row "
            f"{len(rows):,}.",
            where=str(path),
            remedy="Set the header's row anew, or leave it to be detected.",
        )
    width = len(rows[header.row]) if header.row is not None else _usual_width(looked_at)
    if not settings.dialect.delimiter and not begins:
        _refuse_prose(looked_at, width, path)
    if not width:
        raise SourceError("It holds nothing but empty lines.", where=str(path))
    check_width(width, str(path))
    names, named = field_names(_header_rows(rows, header), 0, width)
    remarks = [*remarks, *title_remark(looked_at, header), *named]
    skipped = settings.layout.first - 1 if settings.layout.first else header.rows_above
    file_text = TextFile(source, path.name, written, width, start, skipped, settings.layout.last)
    layout = Layout(
        0 if header.row is None else header.row + 1, header.height, skipped + 1, settings.layout.last
    )
    raw = Raw(tuple(_raw_rows(rows, header, skipped, settings.layout.last, written)), 0, width)
    delimiter, quote = ("", "") if begins else (written.delimiter, written.quote or NO_QUOTE)
    dialect = Dialect(encoding, delimiter, quote, written.comment or NO_COMMENT, begins)
    return OpenedText(file_text, names, tuple(remarks), raw, layout, dialect, Repairs(width))


def _refuse_prose(rows: Sequence[Sequence[str]], width: int, path: Path) -> None:
    """SourceError for text whose lines have so many numbers of cells that it can be no table."""
    widths = [len(cells) for cells in rows if cells]
    alike = max(widths.count(width), widths.count(_usual_width(rows)))
    if len(widths) >= _ENOUGH_TO_TELL and 2 * alike < len(widths):
        raise SourceError(
            "It is text, but no table: fewer than half of its lines have the same number of cells, "
            "whatever divides them.",
            where=str(path),
            remedy="Save it as CSV, with a row of the table on each line.",
        )


def _header(rows: Sequence[Sequence[str]], layout: Layout) -> Header:
    if layout.header is None:
        return find_header(rows)
    return Header(layout.header - 1, layout.header_rows or 1) if layout.header else Header(None)


def _header_rows(rows: Sequence[Sequence[str]], header: Header) -> Sequence[Sequence[str]]:
    return [] if header.row is None else rows[header.row : header.rows_above]


def _usual_width(rows: Sequence[Sequence[str]]) -> int:
    widths = [len(cells) for cells in rows if cells]
    return max(set(widths), key=widths.count) if widths else 0


def _is_comment(row: Sequence[str], written: TextDialect) -> bool:
    return bool(written.comment and row and row[0].startswith(written.comment))


def _raw_rows(
    rows: Sequence[Sequence[str]], header: Header, skipped: int, last: int | None, written: TextDialect
) -> Iterator[RawRow]:
    for index, row in enumerate(rows):
        if header.row is not None and header.row <= index < header.rows_above:
            role = HEADER
        elif not any(row):
            role = EMPTY
        elif index < skipped:
            role = ABOVE
        else:
            role = NOTE if _is_comment(row, written) or (last is not None and index >= last) else DATA
        yield RawRow(index + 1, role, tuple(row))


def _as_utf8(path: Path, encoding: str, room: Path, task: Task) -> Path:
    """A copy of the file in UTF-8 with ordinary line ends."""
    copy = room / f"{path.name}.utf8"
    try:
        with (
            path.open(encoding=encoding, newline=None) as file,
            copy.open("w", encoding="utf-8", newline="") as target,
        ):
            while text := file.read(_BLOCK):
                task.checkpoint(0, 0, f"reading {path.name}")
                # A mark of byte order is no character of a cell, where files were put one behind the other.
                target.write(text.replace("\ufeff", ""))
    except (UnicodeError, LookupError) as error:
        raise not_written_in(encoding, path, str(error)) from error
    return copy
