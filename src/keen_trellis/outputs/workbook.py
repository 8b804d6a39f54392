"""A new xlsx workbook with one sheet of typed cells."""

from __future__ import annotations

import datetime as dt
import errno
import re
import zipfile
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from decimal import Decimal
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any
from xml.etree import ElementTree

from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text, shortest_number
from keen_trellis.flow.plain_text import visible
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.temporary import temporary_folder
from keen_trellis.flow.wording import counted
from keen_trellis.outputs.files import FileWriter

if TYPE_CHECKING:
    from xlsxwriter.workbook import Workbook
    from xlsxwriter.worksheet import Worksheet

MOST_ROWS = 1_048_576
MOST_FIELDS = 16_384
_LONGEST_TEXT = 32_767
_LONGEST_PART = 16 * 2**20  # bytes of the list of sheets that are looked at
_EXACT_DIGITS = 15
_FIRST_DAY = dt.date(1900, 3, 1)  # before it, spreadsheet programs disagree about the calendar
_TOO_FINE = "parts below a millisecond"
# What XML has no character for, so that the whole workbook could not be opened.
_NO_CHARACTER = r"[\ud800-\udfff\ufffe\uffff]"
_BATCH_ROWS = 10_000
_WIDTHS = (8, 60)
_FORMATS = {
    FieldType.DATE: "yyyy-mm-dd",
    FieldType.TIME: "hh:mm:ss",
    FieldType.TIMESTAMP: "yyyy-mm-dd hh:mm:ss",
}

Put = Callable[[int, int, Any], None]


class WorkbookWriter(FileWriter):
    """Writes numbers as numbers, dates as dates and text as text, below a header that stays in view."""

    name = "xlsx"

    def goes_with(self, settings: OutputSettings) -> str:
        # Writing into a workbook that exists is not possible yet.
        names = [name for name in sheets_of(Path(settings.path)) if name != settings.sheet]
        if not names:
            return ""
        shown = ", ".join(f"“{name}”" for name in names[:12]) + (" …" if len(names) > 12 else "")
        return f" Replacing it removes its {'sheet' if len(names) == 1 else 'sheets'} {shown}."

    def fill(self, table: Table, settings: OutputSettings, draft: Path, task: Task) -> list[str]:
        _check_size(table, settings)
        changed: Counter[tuple[str, str]] = Counter()
        with _book(draft) as book:
            sheet = book.add_worksheet(_sheet_name(settings), worksheet_class=_exact_sheet())
            header = book.add_format({"bold": True, "bottom": 1, "bg_color": "#EDE8DC"})
            sheet.freeze_panes(1, 0)
            formats = {kind: book.add_format({"num_format": shown}) for kind, shown in _FORMATS.items()}
            for column, field in enumerate(table.fields):
                _check_text(field.name, f"The name of the field “{field.name[:40]}”")
                sheet.set_column(column, column, _width(table, field), formats.get(field.type))
                sheet.write_string(0, column, field.name, header)
            puts = [_put(sheet, field, formats.get(field.type), changed) for field in table.fields]
            done = 0
            for batch in table.batches(table.names, _BATCH_ROWS):
                task.checkpoint(done, table.rows, f"rows of {settings.file_name}")
                rows = zip(*(cells.values.to_pylist() for cells in batch), strict=True)
                for row in rows:
                    done += 1
                    for column, value in enumerate(row):
                        if value is not None:
                            puts[column](done, column, value)
        return [
            f"{counted(count, 'cells')} of {name} written as text: {why}"
            for (name, why), count in changed.items()
        ]


@contextmanager
def _book(draft: Path) -> Iterator[Workbook]:
    """A workbook that is written to `draft` at the end. OSError if a disk is full, that of temporary files or
    its own.
    """
    import xlsxwriter
    from xlsxwriter.exceptions import XlsxWriterException

    with temporary_folder() as folder:
        options = {"constant_memory": True, "nan_inf_to_errors": True, "tmpdir": str(folder)}
        book = xlsxwriter.Workbook(draft, options)
        try:
            yield book
        except BaseException:
            # What it holds open is let go of; what it says about that hides no error.
            with suppress(OSError, XlsxWriterException):
                book.close()
            raise
        try:
            book.close()
        except XlsxWriterException as error:
            raise OSError(errno.EIO, f"{error}") from error


@cache
def _exact_sheet() -> type[Worksheet]:
    """A kind of worksheet that writes all digits of a real; XlsxWriter's own stops at the sixteenth."""
    from xlsxwriter.worksheet import Worksheet

    class ExactWorksheet(Worksheet):  # type: ignore[misc]  # the library has no types
        def _xml_number_element(self, number: float, attributes: Any = ()) -> None:
            said = "".join(f' {name}="{value}"' for name, value in attributes)
            self.fh.write(f"<c{said}><v>{number!r}</v></c>")

    return ExactWorksheet


def sheets_of(path: Path) -> list[str]:
    """The names of the sheets of an xlsx workbook; none where it is no workbook."""
    try:
        if not path.is_file():
            return []  # opening a pipe would wait for somebody who writes into it
        with zipfile.ZipFile(path) as book, book.open("xl/workbook.xml") as part:
            content = part.read(_LONGEST_PART + 1)
        if len(content) > _LONGEST_PART:
            return []
        # Expat bounds what entities may grow to.
        sheets = ElementTree.fromstring(content).findall(".//{*}sheet")  # noqa: S314
        return [name for sheet in sheets if (name := sheet.get("name"))]
    except (OSError, zipfile.BadZipFile, KeyError, ElementTree.ParseError, NotImplementedError, RuntimeError):
        return []


def _check_size(table: Table, settings: OutputSettings) -> None:
    if table.rows + 1 > MOST_ROWS:
        raise OutputError(
            f"A sheet holds {MOST_ROWS - 1:,} rows below its header; these are {table.rows:,}.",
            where=settings.path,
            remedy="Write delimited text (.csv), or keep fewer rows.",
        )
    if len(table.fields) > MOST_FIELDS:
        raise OutputError(
            f"A sheet holds {MOST_FIELDS:,} columns; these are {len(table.fields):,}.",
            where=settings.path,
            remedy="Bring fewer fields.",
        )


def _sheet_name(settings: OutputSettings) -> str:
    name = settings.sheet
    wrong = re.search(rf"[\[\]:*?/\\]|{_NO_CHARACTER}|[\x00-\x1f\x7f]", name)
    if not name or _units(name) > 31 or wrong or "'" in (name[0], name[-1]) or name.casefold() == "history":
        raise OutputError(
            f"“{visible(name)}” cannot be the name of a sheet.",
            where=settings.path,
            remedy="Use up to 31 characters, without [ ] : * ? / \\, control characters and apostrophes at "
            "its ends, and not “History”.",
        )
    return name


def _units(text: str) -> int:
    """The length of a text as a workbook counts it: in units of UTF-16."""
    return len(text) if text.isascii() else len(text.encode("utf-16-le")) // 2


def _check_text(text: str, what: str) -> None:
    """OutputError unless a cell can hold the text; `what` it is, for the error."""
    if text.isascii() and len(text) <= _LONGEST_TEXT:
        return
    if (length := _units(text)) > _LONGEST_TEXT:
        raise OutputError(
            f"{what} has {length:,} characters; a cell holds {_LONGEST_TEXT:,}.",
            remedy="Write delimited text (.csv) instead.",
        )
    if re.search(_NO_CHARACTER, text):
        raise OutputError(
            f"{what} has a character that no workbook can hold.",
            remedy="Take it out with a mend of the text, or write delimited text (.csv) instead.",
        )


def _width(table: Table, field: Field) -> float:
    """The column's width in characters, by its header and its first rows."""
    cells = table.take(range(min(table.rows, 200)), [field.name])[0]
    longest = max((len(text) for text in as_text(cells.values).to_pylist() if text), default=0)
    return min(max(longest, len(field.name), _WIDTHS[0]) + 2, _WIDTHS[1])


def _put(sheet: Worksheet, field: Field, shown: Any, changed: Counter[tuple[str, str]]) -> Put:
    """How a value of this field is put into its cell; what a cell cannot hold exactly is put as text, and
    counted in `changed` by the field's name and why.
    """

    def put_text(row: int, column: int, value: Any) -> None:
        _check_text(value, f"Row {row:,} of {field.name}")
        sheet.write_string(row, column, value)

    def put_as_text(row: int, column: int, value: Any, why: str) -> None:
        changed[field.name, why] += 1
        put_text(row, column, str(value))

    def put_number(row: int, column: int, value: int | float | Decimal) -> None:
        if isinstance(value, float):
            if value - value != 0:  # NaN and the infinities
                put_as_text(row, column, value, "no number (NaN or infinite)")
            else:
                sheet.write_number(row, column, value)
        elif _digits(value) > _EXACT_DIGITS:
            put_as_text(row, column, shortest_number(value), f"more than {_EXACT_DIGITS} digits")
        else:
            sheet.write_number(row, column, float(value))

    def put_moment(row: int, column: int, value: dt.date | dt.datetime) -> None:
        day = value.date() if isinstance(value, dt.datetime) else value
        if day < _FIRST_DAY:
            put_as_text(row, column, value, "before 1 March 1900")
        elif isinstance(value, dt.datetime) and value.microsecond % 1000:
            put_as_text(row, column, value, _TOO_FINE)
        else:
            sheet.write_datetime(row, column, value, shown)

    def put_time(row: int, column: int, value: dt.time) -> None:
        if value.microsecond % 1000:
            put_as_text(row, column, value, _TOO_FINE)
        else:
            sheet.write_datetime(row, column, value, shown)

    if field.type.is_number:
        return put_number
    if field.type.is_moment:
        return put_moment
    if field.type is FieldType.TIME:
        return put_time
    if field.type is FieldType.BOOLEAN:
        put_boolean: Callable[[int, int, Any], None] = sheet.write_boolean
        return put_boolean
    return put_text


def _digits(value: int | Decimal) -> int:
    """How many digits a number has between its first and its last that is not zero."""
    digits = str(abs(value)) if isinstance(value, int) else "".join(map(str, value.as_tuple().digits))
    return len(digits.strip("0"))
