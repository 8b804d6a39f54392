"""Delimited text as RFC 4180 has it, or as it is set, harmless to open in a spreadsheet program."""

from __future__ import annotations

import codecs
from collections import Counter
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from functools import partial
from pathlib import Path

import msgspec
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import Cells, Field, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text
from keen_trellis.flow.plain_text import visible
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.whole_file import whole_file
from keen_trellis.flow.wording import counted
from keen_trellis.outputs.described import described_beside, description
from keen_trellis.outputs.files import OneTableWriter, check_path, packed
from keen_trellis.outputs.lines import TEXT, around, batches, holds, joined
from keen_trellis.outputs.repeated import in_parts
from keen_trellis.outputs.writing import Part

# Text that a spreadsheet would run: it begins with one of these and is no plain number.
_SIGNS = "=+-@\t\r"
_RUNS = r"^[=+\-@\t\r]"
_NUMBER = r"^[+-]?\d+([.,]\d+)?$"
_LINE_ENDS = {"crlf": "\r\n", "lf": "\n"}
# Delimiters that stand in no number and no moment as they are written by themselves.
_IN_NO_VALUE = ",;\t|"
_AS_IT_IS = "utf-8"
_DAY = r"^(?P<yyyy>-?\d+)-(?P<mm>\d\d)-(?P<dd>\d\d)"
_GROUPS = {"yyyy": r"\1", "mm": r"\2", "dd": r"\3"}
_WITH_PARTS = (FieldType.REAL, FieldType.DECIMAL)


class DelimitedWriter(OneTableWriter):
    """Writes text with a header line; blank cells and those without partner are empty or a word."""

    name = "text"
    density = 0.8

    def check(self, settings: OutputSettings, kept: Collection[str | Path], *, replace: bool) -> None:
        super().check(settings, kept, replace=replace)
        if settings.described and not settings.split_by:
            beside = described_beside(Path(settings.path))
            check_path(beside, kept)
            if beside.exists() and not replace:
                raise OutputError(
                    "What would say what the fields are exists already.",
                    where=str(beside),
                    remedy="Choose another name, or say that it may be replaced.",
                )

    @contextmanager
    def staged(self, parts: Sequence[Part], task: Task) -> Iterator[list[list[str]]]:
        with ExitStack() as stack:
            said = stack.enter_context(super().staged(parts, task))
            for part in parts:
                if part.settings.described:
                    beside = described_beside(Path(part.settings.path))
                    draft = stack.enter_context(whole_file(beside))
                    draft.write_text(description(part.table, part.settings), encoding="utf-8")
            yield said

    def write(self, table: Table, settings: OutputSettings, draft: Path, task: Task) -> list[str]:
        form = Form(settings)
        found = Found()
        encoded = _encoder(settings)

        what = f"rows of {settings.file_name}"
        parts = in_parts(table, form.column_alone, settings.delimiter, what, task)

        def lines(rows: range, batch: list[Cells]) -> tuple[memoryview, Found]:
            told = Found()
            columns = parts.columns(rows, batch, partial(form.column, told=told))
            return form.rows(columns, blank_lines=len(table.fields) > 1), told

        with packed(draft, settings) as file:
            names = pa.array(table.names, TEXT)
            if settings.harmless:
                names, found.marked["the header"] = made_harmless(names)
            header = form.quoted(names, all_of_it=settings.quotation != "needed")
            file.write(encoded(form.rows([header.slice(place, 1) for place in range(len(header))])))
            told_of = batches(table, lines, what, task, names=parts.plain) if table.fields else ()
            for number, (made, told) in enumerate(told_of):
                try:
                    file.write(encoded(made))
                except UnicodeEncodeError as error:
                    raise _unwritten(table, settings, number, error) from error
                found.add(told)
        return found.said(settings)


class Found(msgspec.Struct):
    """What is not there as it was: by field, how many cells of text were marked, and hold a gap's word."""

    marked: Counter[str] = msgspec.field(default_factory=Counter)
    like_blank: Counter[str] = msgspec.field(default_factory=Counter)

    def add(self, other: Found) -> None:
        self.marked.update(other.marked)
        self.like_blank.update(other.like_blank)

    def said(self, settings: OutputSettings) -> list[str]:
        words = [f"“{word}”" for word in (settings.blank, settings.no_partner) if word]
        return [
            f"{counted(count, 'cells')} of {name} written with an apostrophe before what "
            "a spreadsheet program would run as a formula"
            for name, count in self.marked.items()
            if count
        ] + [
            f"{counted(count, 'cells')} of {name} with {' or '.join(words)}, as gaps are written, too"
            for name, count in self.like_blank.items()
            if count
        ]


class Form:
    """How values become cells of text, and cells lines."""

    def __init__(self, settings: OutputSettings) -> None:
        self._settings = settings
        self._mark, self._end = settings.delimiter, _LINE_ENDS[settings.line_end]
        self._dates = settings.dates != "yyyy-mm-dd"

    def column_alone(self, of: Field, cells: Cells) -> pa.Array | None:
        """As `column`; None where something is not there as it was."""
        told = Found()
        text = self.column(of, cells, told)
        return None if told.said(self._settings) else text

    def column(self, of: Field, cells: Cells, told: Found) -> pa.Array:
        """The cells of a field as they stand in lines; null is nothing."""
        settings = self._settings
        text = as_text(cells.values).cast(TEXT)
        is_text = of.type is FieldType.TEXT
        if of.type in _WITH_PARTS and settings.decimal != ".":
            text = pc.replace_substring(text, ".", settings.decimal)
        if of.type.is_moment and self._dates:
            text = pc.replace_substring_regex(text, _DAY, _day(settings.dates))
        if is_text and settings.harmless:
            text, told.marked[of.name] = made_harmless(text)
        if is_text:
            told.like_blank[of.name] = self._like_gaps(text)
        plain = not is_text and self._mark in _IN_NO_VALUE and self._mark != settings.decimal
        if not plain or settings.quotation == "all":
            every = settings.quotation == "all" or (is_text and settings.quotation == "text")
            text = self.quoted(text, all_of_it=every)
        return self._with_words(text, cells)

    def _like_gaps(self, text: pa.Array) -> int:
        words = [word for word in (self._settings.blank, self._settings.no_partner) if word]
        return pc.sum(pc.is_in(text, pa.array(words, TEXT))).as_py() or 0 if words else 0

    def _with_words(self, text: pa.Array, cells: Cells) -> pa.Array:
        """The words for gaps in their places."""
        blank, no_partner = self._settings.blank, self._settings.no_partner
        if blank:
            text = pc.fill_null(text, pa.scalar(blank, TEXT))
        if cells.absent is not None and (blank or no_partner):
            text = pc.if_else(pa.array(cells.absent), pa.scalar(no_partner or None, TEXT), text)
        return text

    def rows(self, columns: Sequence[pa.Array], *, blank_lines: bool = False) -> memoryview:
        """All lines of some columns as one text. blank_lines: whether a line may have nothing on it."""
        if not columns:
            return memoryview(self._end.encode())
        if len(columns) == 1 and not blank_lines:
            # A line with nothing on it would be no row.
            column = columns[0]
            columns = [pc.if_else(pc.equal(pc.fill_null(column, ""), ""), '""', column)]
        return joined(columns, self._mark, self._end)

    def quoted(self, text: pa.Array, *, all_of_it: bool = False) -> pa.Array:
        """Text in quotation marks where it holds one, a delimiter or an end of a line; or wherever it is."""
        found = [sign for sign in ('"', self._mark, "\r", "\n") if holds(text, sign)]
        if not found and not all_of_it:
            return text
        inner = pc.replace_substring(text, '"', '""') if '"' in found else text
        if all_of_it:
            return around('"', inner, '"')
        needs = pc.match_substring(text, found[0])
        for sign in found[1:]:
            needs = pc.or_(needs, pc.match_substring(text, sign))
        return pc.if_else(needs, around('"', inner, '"'), text)


def _day(form: str) -> str:
    """What replaces a date as ISO 8601 has it."""
    for part, group in _GROUPS.items():
        form = form.replace(part, group)
    return form


def _encoder(settings: OutputSettings) -> Callable[[memoryview], bytes | memoryview]:
    """What turns lines of UTF-8 into bytes of the encoding; a mark stands before the first."""
    name = codecs.lookup(settings.encoding).name
    if name == _AS_IT_IS:
        return lambda lines: lines
    encoder = codecs.getincrementalencoder(name)()
    return lambda lines: encoder.encode(str(lines, "utf-8"))


def _unwritten(table: Table, settings: OutputSettings, batch: int, error: UnicodeEncodeError) -> OutputError:
    """What is said of a sign that the encoding has not, with the cell that it stands in."""
    sign = error.object[error.start]
    where = ""
    told = batches(table, lambda rows, cells: (rows, cells), "", Task())
    for number, (rows, cells) in enumerate(told):
        for of, column in zip(table.fields, cells, strict=True) if number == batch else ():
            if of.type is FieldType.TEXT:
                found = pc.index(pc.match_substring(column.values.cast(TEXT), sign), True).as_py()
                where = where or (f" in row {rows.start + found + 1:,} of {of.name}" if found >= 0 else "")
    return OutputError(
        f"The sign “{visible(sign)}”{where} cannot be written in {settings.encoding}.",
        where=settings.path,
        remedy="Write UTF-8, or take the sign out with a mend of the text.",
    )


def made_harmless(text: pa.Array) -> tuple[pa.Array, int]:
    """Text with an apostrophe before what a spreadsheet would run as a formula, and how often."""
    if not any(holds(text, sign) for sign in _SIGNS):
        return text, 0
    runs = pc.match_substring_regex(text, _RUNS)
    if not pc.any(runs).as_py():
        return text, 0
    runs = pc.and_not(runs, pc.match_substring_regex(text, _NUMBER))
    apostrophe, nothing = (pa.scalar(part, text.type) for part in ("'", ""))
    marked = pc.if_else(runs, pc.binary_join_element_wise(apostrophe, text, nothing), text)
    return marked, int(pc.sum(runs).as_py() or 0)
