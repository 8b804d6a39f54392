"""A new xlsx workbook with one sheet of typed cells."""

from __future__ import annotations

import datetime as dt
import re
import zipfile
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any
from xml.etree import ElementTree

from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text, shortest_number
from keen_trellis.flow.steps.output import OutputSettings

if TYPE_CHECKING:
    from xlsxwriter.worksheet import Worksheet

MOST_ROWS = 1_048_576
MOST_FIELDS = 16_384
_LONGEST_TEXT = 32_767
_LONGEST_PART = 16 * 2**20  # bytes of the list of sheets that are looked at
_EXACT_DIGITS = 15
_FIRST_DAY = dt.date(1900, 3, 1)  # before it, spreadsheet programs disagree about the calendar
_BATCH_ROWS = 10_000
_WIDTHS = (8, 60)
_FORMATS = {
    FieldType.DATE: "yyyy-mm-dd",
    FieldType.TIME: "hh:mm:ss",
    FieldType.TIMESTAMP: "yyyy-mm-dd hh:mm:ss",
}

Put = Callable[[int, int, Any], None]


class WorkbookWriter:
    """Writes numbers as numbers, dates as dates and text as text, below a header that stays in view."""

    name = "xlsx"

    def write(self, table: Table, settings: OutputSettings, draft: Path, task: Task) -> None:
        _check_size(table, settings)
        import xlsxwriter

        with xlsxwriter.Workbook(draft, {"constant_memory": True, "nan_inf_to_errors": True}) as book:
            sheet = book.add_worksheet(_sheet_name(settings))
            header = book.add_format({"bold": True, "bottom": 1, "bg_color": "#EDE8DC"})
            sheet.freeze_panes(1, 0)
            formats = {kind: book.add_format({"num_format": shown}) for kind, shown in _FORMATS.items()}
            for column, field in enumerate(table.fields):
                sheet.set_column(column, column, _width(table, field), formats.get(field.type))
                sheet.write_string(0, column, field.name, header)
            puts = [_put(sheet, field, formats.get(field.type)) for field in table.fields]
            done = 0
            for batch in table.batches(table.names, _BATCH_ROWS):
                task.checkpoint(done, table.rows, f"rows of {settings.file_name}")
                rows = zip(*(cells.values.to_pylist() for cells in batch), strict=True)
                for row in rows:
                    done += 1
                    for column, value in enumerate(row):
                        if value is not None:
                            puts[column](done, column, value)


def sheets_of(path: Path) -> list[str]:
    """The names of the sheets of an xlsx workbook; none where it is no workbook."""
    try:
        with zipfile.ZipFile(path) as book, book.open("xl/workbook.xml") as part:
            content = part.read(_LONGEST_PART + 1)
        if len(content) > _LONGEST_PART:
            return []
        sheets = ElementTree.fromstring(content).findall(".//{*}sheet")
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
    if not name or len(name) > 31 or re.search(r"[\[\]:*?/\\]", name) or name[0] == "'" or name[-1] == "'":
        raise OutputError(
            f"“{name}” cannot be the name of a sheet.",
            where=settings.path,
            remedy="Use up to 31 characters, without [ ] : * ? / \\ and apostrophes at its ends.",
        )
    return name


def _width(table: Table, field: Field) -> float:
    """The column's width in characters, by its header and its first rows."""
    cells = table.take(range(min(table.rows, 200)), [field.name])[0]
    longest = max((len(text) for text in as_text(cells.values).to_pylist() if text), default=0)
    return min(max(longest, len(field.name), _WIDTHS[0]) + 2, _WIDTHS[1])


def _put(sheet: Worksheet, field: Field, shown: Any) -> Put:
    """How a value of this field is put into its cell; what a cell cannot hold exactly is put as text."""

    def put_text(row: int, column: int, value: Any) -> None:
        text = str(value)
        if len(text) > _LONGEST_TEXT:
            raise OutputError(
                f"Row {row:,} of {field.name} has {len(text):,} characters; a cell holds {_LONGEST_TEXT:,}.",
                remedy="Write delimited text (.csv) instead.",
            )
        sheet.write_string(row, column, text)

    def put_number(row: int, column: int, value: int | float | Decimal) -> None:
        if isinstance(value, float):
            if value - value != 0:  # NaN and the infinities
                put_text(row, column, value)
            else:
                sheet.write_number(row, column, value)
        elif len(Decimal(value).normalize().as_tuple().digits) > _EXACT_DIGITS:
            put_text(row, column, shortest_number(value))
        else:
            sheet.write_number(row, column, float(value))

    def put_moment(row: int, column: int, value: dt.date | dt.datetime) -> None:
        day = value.date() if isinstance(value, dt.datetime) else value
        if day < _FIRST_DAY:
            put_text(row, column, value)
        else:
            sheet.write_datetime(row, column, value, shown)

    def put_time(row: int, column: int, value: dt.time) -> None:
        sheet.write_datetime(row, column, value, shown)

    if field.type.is_number:
        return put_number
    if field.type.is_moment:
        return put_moment
    if field.type is FieldType.TIME:
        return put_time
    if field.type is FieldType.BOOLEAN:
        return lambda row, column, value: sheet.write_boolean(row, column, value)
    return put_text
