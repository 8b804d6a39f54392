"""Cells of a sheet as its XML has them, made column by column; what a cell cannot hold is counted."""

from __future__ import annotations

import datetime as dt
import re
from collections import Counter
from collections.abc import Sequence

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import Cells, Field
from keen_trellis.core.values import FieldType, as_text
from keen_trellis.flow.cell_names import column_letters
from keen_trellis.outputs.lines import TEXT, escaped_for_xml, holds
from keen_trellis.outputs.workbook.formulas import Pattern

LONGEST_TEXT = 32_767
# What XML has no character for, so that the whole workbook could not be opened.
NO_CHARACTER = r"[\ud800-\udfff\ufffe\uffff]"
_EXACT_DIGITS = 15
_FIRST_DAY = (
    dt.date(1900, 3, 1) - dt.date(1970, 1, 1)
).days  # before it, programs disagree about the calendar
_DAYS_BEFORE_1970 = 25_569  # counted as a sheet counts, from the last days of 1899
_DAYS_TO_1904 = 1_462
_DAY_MS = 86_400_000
_MANY_DIGITS = f"more than {_EXACT_DIGITS} digits"
_TOO_FINE = "parts below a millisecond"
_TOO_EARLY = "before 1 March 1900"
_NO_NUMBER = "not a number (NaN or infinite)"
_CONTROL = "[\x00-\x08\x0b-\x1f\x7f]"
_LOOKS_ESCAPED = r"_(x[0-9A-Fa-f]{4}_)"
_KEPT_SPACE = r"^\s|\s$|[\n\t]|  "

Counted = Counter[tuple[str, str]]


class Column(msgspec.Struct, frozen=True):
    """A column of the sheet: its number from 0, and the style of its cells.

    field: whose values it shows.  formula: as it stands in every cell where no field does.  from_1904:
    whether the workbook counts its days from 1904 on.
    """

    number: int
    style: int = 0
    field: Field | None = None
    formula: Pattern = ()
    from_1904: bool = False


def rows_of_cells(
    columns: Sequence[Column],
    batch: Sequence[Cells],
    first: int,
    rows: int,
    *,
    before: int = 0,
    word: str = "",
    shown: str = "",
) -> tuple[pa.Array, Counted]:
    """All cells of each row as one text, for rows of a sheet from row `first` on, without the row's own tag.

    batch: the cells of the columns with a field, in their order.  before: how many rows of the table came
    before these.  word: what stands for no partner.  shown: before the tags' names, where the sheet's XML has
    them prefixed.  Also what was put as text, by the field's
    name and why.  OutputError for a text that no cell can hold.
    """
    numbers = pa.array(np.arange(first, first + rows)).cast(TEXT)
    counted: Counted = Counter()
    given = iter(batch)
    made = []
    for column in columns:
        if column.field is not None:
            cells = next(given)
            content = _Content(column, cells, before, word, counted).xml(shown)
        elif column.formula:
            content = _formulas(column.formula, first, rows, shown)
        else:
            continue
        opening = f'<{shown}c r="{column_letters(column.number)}'
        style = f' s="{column.style}"' if column.style else ""
        made.append(_together(opening, numbers, f'"{style}', content, f"</{shown}c>"))
    if not made:
        return pa.repeat(pa.scalar("", TEXT), rows), counted
    empty = pa.scalar("", TEXT)
    return (
        pc.binary_join_element_wise(*made, empty, null_handling="replace", null_replacement=""),
        counted,
    )


def _formulas(formula: Pattern, first: int, rows: int, shown: str) -> pa.Array:
    """The content of cells with a formula each, in rows from `first` on."""
    pieces: list[str | pa.Array] = [f"><{shown}f>"]
    for part in formula:
        if isinstance(part, str):
            pieces.append(escaped_text(part))
        else:
            pieces.append(pa.array(np.arange(first, first + rows) + part).cast(TEXT))
    pieces.append(f"</{shown}f>")
    if all(isinstance(piece, str) for piece in pieces):
        return pa.repeat(pa.scalar("".join(map(str, pieces)), TEXT), rows)
    return _together(*pieces)


def text_cell(row: int, column: int, text: str, style: int, shown: str = "") -> str:
    """One cell of text, as a header has it; OutputError for one that no cell can hold."""
    styled = f' s="{style}"' if style else ""
    where = f"{column_letters(column)}{row}"
    return f'<{shown}c r="{where}"{styled}{_string(escaped_text(text), shown, spaced=True)}</{shown}c>'


def escaped_text(text: str) -> str:
    """A text as it stands in a part of a workbook."""
    return str(_escaped(pa.array([text], TEXT))[0].as_py())


def units(text: str) -> int:
    """The length of a text as a workbook counts it: in units of UTF-16."""
    return len(text) if text.isascii() else len(text.encode("utf-16-le")) // 2


def check_text(text: str, what: str) -> None:
    """OutputError unless a cell can hold the text; `what` it is, for the error."""
    if (length := units(text)) > LONGEST_TEXT:
        raise OutputError(
            f"{what} has {length:,} characters; a cell holds {LONGEST_TEXT:,}.",
            remedy="Write delimited text (.csv) instead.",
        )
    if re.search(NO_CHARACTER, text):
        raise OutputError(
            f"{what} has a character that no workbook can hold.",
            remedy="Take it out with a mend of the text, or write delimited text (.csv) instead.",
        )


class _Content(msgspec.Struct, frozen=True):
    """What stands in the cells of a column, from behind their attributes to before their end."""

    column: Column
    cells: Cells
    before: int
    word: str
    counted: Counted

    def xml(self, shown: str) -> pa.Array:
        """The content of each cell, null where there is none."""
        values = self.cells.values
        field = self._field
        if field.type is FieldType.TEXT:
            content = self._strings(values.cast(TEXT), shown)
        elif field.type is FieldType.BOOLEAN:
            content = pc.if_else(
                values, f' t="b">{_tag("v", "1", shown)}', f' t="b">{_tag("v", "0", shown)}'
            ).cast(TEXT)
        else:
            content = self._numbers(values, shown)
        if self.word and self.cells.absent is not None:
            word = pa.scalar(_string(escaped_text(self.word), shown, spaced=True), TEXT)
            content = pc.if_else(pa.array(self.cells.absent), word, content)
        return content

    @property
    def _field(self) -> Field:
        assert self.column.field is not None
        return self.column.field

    def _numbers(self, values: pa.Array, shown: str) -> pa.Array:
        if self._field.type.is_number:
            text, kept = as_text(values).cast(TEXT), self._held_numbers(values)
        elif self._field.type is FieldType.DATE:
            days = values.cast(pa.int32()).cast(pa.int64())
            kept = self._kept(pc.greater_equal(days, _FIRST_DAY), _TOO_EARLY)
            text = pc.add(days, self._days_before).cast(TEXT)
        elif self._field.type is FieldType.TIME:
            micro = values.cast(pa.time64("us")).cast(pa.int64())
            kept = self._kept(_whole_milliseconds(micro), _TOO_FINE)
            text = _real(pc.divide(pc.divide(micro, 1000).cast(pa.float64()), float(_DAY_MS)))
        else:
            micro = values.cast(pa.timestamp("us")).cast(pa.int64())
            early = pc.greater_equal(micro, _FIRST_DAY * _DAY_MS * 1000)
            kept = self._kept(early, _TOO_EARLY)
            fine = pc.or_(_whole_milliseconds(micro), pc.invert(early))
            kept = pc.and_(kept, self._kept(fine, _TOO_FINE))
            days = pc.divide(pc.divide(micro, 1000).cast(pa.float64()), float(_DAY_MS))
            text = _real(pc.add(days, float(self._days_before)))
        numbers = _together(f"><{shown}v>", text, f"</{shown}v>")
        if pc.all(pc.fill_null(kept, True)).as_py():
            return numbers
        return pc.if_else(kept, numbers, self._strings(as_text(values).cast(TEXT), shown))

    @property
    def _days_before(self) -> int:
        return _DAYS_BEFORE_1970 - (_DAYS_TO_1904 if self.column.from_1904 else 0)

    def _kept(self, fits: pa.Array, why: str) -> pa.Array:
        """`fits`, and those that do not are counted."""
        odd = pc.sum(pc.invert(fits)).as_py() or 0
        if odd:
            self.counted[self._field.name, why] += odd
        return fits

    def _held_numbers(self, values: pa.Array) -> pa.Array:
        fits, why = held_numbers(values)
        return self._kept(fits, why)

    def _strings(self, text: pa.Array, shown: str) -> pa.Array:
        self._check(text)
        spaced = bool(pc.any(pc.match_substring_regex(text, _KEPT_SPACE)).as_py())
        begin, end = _string("\0", shown, spaced=spaced).split("\0")
        made = _together(begin, _escaped(text), end)
        # A cell of nothing is not a cell.
        return pc.if_else(pc.equal(text, ""), pa.scalar(None, TEXT), made)

    def _check(self, text: pa.Array) -> None:
        """OutputError, with its row, for a text that no cell can hold."""
        long = pc.greater(pc.binary_length(text), LONGEST_TEXT)
        odd = pc.match_substring_regex(text, "[\ufffe\uffff]") if _beyond_ascii(text) else long
        for place in pc.indices_nonzero(pc.fill_null(pc.or_(long, odd), False)).to_pylist():
            check_text(text[place].as_py(), f"Row {self.before + place + 1:,} of {self._field.name}")


def held_numbers(values: pa.Array) -> tuple[pa.Array, str]:
    """Which numbers a spreadsheet program holds with all of their digits, and why it does not the others."""
    if pa.types.is_floating(values.type):
        return pc.is_finite(values), _NO_NUMBER
    digits = pc.replace_substring_regex(as_text(values).cast(TEXT), r"\D", "")
    if (pc.max(pc.binary_length(digits)).as_py() or 0) <= _EXACT_DIGITS:
        return pa.repeat(pa.scalar(True), len(values)), _MANY_DIGITS
    return pc.less_equal(pc.binary_length(pc.utf8_trim(digits, "0")), _EXACT_DIGITS), _MANY_DIGITS


def _beyond_ascii(text: pa.Array) -> bool:
    return not pc.all(pc.string_is_ascii(text), skip_nulls=True).as_py()


def _whole_milliseconds(micro: pa.Array) -> pa.Array:
    thousands = pc.multiply(pc.divide(micro, 1000), 1000)
    return pc.equal(thousands, micro)


def _real(values: pa.Array) -> pa.Array:
    return as_text(values).cast(TEXT)


def _escaped(text: pa.Array) -> pa.Array:
    """Text without what has a meaning in XML; signs without a character there as workbooks write them."""
    if holds(text, "_x"):
        text = pc.replace_substring_regex(text, _LOOKS_ESCAPED, r"_x005F_\1")
    text = escaped_for_xml(text)
    if pc.any(pc.match_substring_regex(text, _CONTROL)).as_py():
        for code in (*range(9), *range(11, 32), 127):
            if holds(text, chr(code)):
                text = pc.replace_substring(text, chr(code), f"_x{code:04X}_")
    return text


def _string(text: str, shown: str, *, spaced: bool) -> str:
    """The content of a cell of text."""
    space = ' xml:space="preserve"' if spaced else ""
    inner = f"<{shown}t{space}>{text}</{shown}t>"
    return f' t="inlineStr">{_tag("is", inner, shown)}'


def _tag(name: str, content: str, shown: str) -> str:
    return f"<{shown}{name}>{content}</{shown}{name}>"


def _together(*parts: str | pa.Array) -> pa.Array:
    """Texts and columns of text, one behind the other; null where one of the columns is."""
    said = [pa.scalar(part, TEXT) if isinstance(part, str) else part for part in parts]
    return pc.binary_join_element_wise(*said, pa.scalar("", TEXT))
