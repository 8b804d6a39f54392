"""An ods workbook (OpenDocument 1.3) with one sheet of typed cells, made column by column."""

from __future__ import annotations

import re
import zipfile
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import Cells, Field, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.temporary import temporary_folder
from keen_trellis.flow.wording import counted
from keen_trellis.outputs.files import OneTableWriter
from keen_trellis.outputs.lines import TEXT, around, batches, escaped_for_xml, holds, joined
from keen_trellis.outputs.workbook.cells import Counted, held_numbers
from keen_trellis.outputs.workbook.filling import check_size
from keen_trellis.outputs.workbook.writer import check_sheet_name

_MARKER = "rows-go-here"
_PART = "content.xml"
_FORMATS = {FieldType.DATE: "day", FieldType.TIME: "clock", FieldType.TIMESTAMP: "moment"}
_NO_CHARACTER = "[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]"
_EMPTY = "<table:table-cell/>"


class OpenDocumentWriter(OneTableWriter):
    """Writes numbers as numbers, dates as dates and text as text, below a header."""

    name = "ods"

    def check(self, settings: OutputSettings, kept: Any, *, replace: bool) -> None:
        super().check(settings, kept, replace=replace)
        check_sheet_name(settings)

    def write(self, table: Table, settings: OutputSettings, draft: Path, task: Task) -> list[str]:
        check_size(table, settings)
        changed: Counted = Counter()
        with temporary_folder() as folder:
            skeleton = folder / "skeleton.ods"
            _skeleton(settings.sheet, len(table.fields), skeleton)
            with zipfile.ZipFile(skeleton) as source, zipfile.ZipFile(draft, "w") as made:
                for entry in source.infolist():
                    content = source.read(entry)
                    if entry.filename != _PART:
                        made.writestr(entry, content, compress_type=entry.compress_type)
                        continue
                    head, tail = _around_marker(content)
                    told = zipfile.ZipInfo(_PART, entry.date_time)
                    told.compress_type = zipfile.ZIP_DEFLATED
                    with made.open(told, "w", force_zip64=True) as out:
                        out.write(head)
                        for rows in _rows(table, settings, changed, task):
                            out.write(rows)
                        out.write(tail)
        return [f"{counted(count, 'cells')} of {name} {why}" for (name, why), count in changed.items()]


def _skeleton(sheet: str, columns: int, path: Path) -> None:
    """A document with an empty sheet, and the formats of moments."""
    from odf import number, style
    from odf.opendocument import OpenDocumentSpreadsheet
    from odf.table import Table as Sheet
    from odf.table import TableCell, TableColumn, TableRow
    from odf.text import P

    made = OpenDocumentSpreadsheet()
    for name, kind in (("day", number.DateStyle), ("clock", number.TimeStyle), ("moment", number.DateStyle)):
        form = kind(name=f"{name}-form")
        for part in _parts_of(number, name):
            form.addElement(number.Text(text=part) if isinstance(part, str) else part)
        made.automaticstyles.addElement(form)
        look = style.Style(name=name, family="table-cell", datastylename=f"{name}-form")
        made.automaticstyles.addElement(look)
    header = style.Style(name="header", family="table-cell")
    header.addElement(style.TextProperties(fontweight="bold"))
    header.addElement(style.TableCellProperties(backgroundcolor="#EDE8DC"))
    made.automaticstyles.addElement(header)
    table = Sheet(name=sheet)
    table.addElement(TableColumn(numbercolumnsrepeated=columns))
    row, cell = TableRow(), TableCell(valuetype="string")
    cell.addElement(P(text=_MARKER))
    row.addElement(cell)
    table.addElement(row)
    made.spreadsheet.addElement(table)
    made.save(str(path))


def _parts_of(number: Any, name: str) -> Iterator[Any]:
    """What a format of moments consists of: parts, and the signs between them."""
    if name != "clock":
        yield from (number.Year(style="long"), "-", number.Month(style="long"), "-", number.Day(style="long"))
    if name == "moment":
        yield " "
    if name != "day":
        yield from (number.Hours(style="long"), ":", number.Minutes(style="long"), ":")
        yield number.Seconds(style="long")


def _around_marker(content: bytes) -> tuple[bytes, bytes]:
    """What stands before and behind the one row of the skeleton."""
    found = re.search(
        rb"<table:table-row>(?:(?!</table:table-row>).)*" + _MARKER.encode(), content, re.DOTALL
    )
    assert found is not None
    end = content.index(b"</table:table-row>", found.end()) + len(b"</table:table-row>")
    return content[: found.start()], content[end:]


def _rows(table: Table, settings: OutputSettings, changed: Counted, task: Task) -> Iterator[memoryview]:
    header = [
        around(
            '<table:table-cell office:value-type="string" table:style-name="header">', _paragraphs(name), ""
        )
        for name in (pa.array([field.name], TEXT) for field in table.fields)
    ]
    yield _lines([around("", cell, "</table:table-cell>") for cell in header])

    def made_of(rows: range, batch: list[Cells]) -> tuple[memoryview, Counted]:
        counts: Counted = Counter()
        cells = [
            _cells(field, column, settings, rows.start, counts)
            for field, column in zip(table.fields, batch, strict=True)
        ]
        return _lines(cells), counts

    for made, counts in batches(table, made_of, f"rows of {settings.file_name}", task):
        changed.update(counts)
        yield made


def _lines(cells: list[pa.Array]) -> memoryview:
    rows = len(cells[0])
    begin = pa.repeat(pa.scalar("<table:table-row>", TEXT), rows)
    end = pa.repeat(pa.scalar("</table:table-row>\n", TEXT), rows)
    return joined([begin, *cells, end], "", "")


def _cells(field: Field, cells: Cells, settings: OutputSettings, start: int, counts: Counted) -> pa.Array:
    """The cells of a field, an empty one where there is no value."""
    made = _valued(field, cells.values, start, counts)
    made = pc.fill_null(made, _EMPTY)
    if settings.no_partner and cells.absent is not None:
        word = _strings(pa.array([settings.no_partner], TEXT), field, start)[0]
        made = pc.if_else(pa.array(cells.absent), word, made)
    return made


def _valued(field: Field, values: pa.Array, start: int, counts: Counted) -> pa.Array:
    text = as_text(values).cast(TEXT)
    if field.type is FieldType.TEXT:
        if holds(text, "\t"):
            tabs = pc.sum(pc.match_substring(text, "\t")).as_py() or 0
            counts[field.name, "with a tab, which not every program reads"] += tabs
        return _strings(text, field, start)
    if field.type is FieldType.BOOLEAN:
        return _cell("boolean", "boolean-value", text)
    if field.type.is_number:
        fits, why = held_numbers(values)
        odd = pc.sum(pc.invert(fits)).as_py() or 0
        numbers = _cell("float", "value", text)
        if not odd:
            return numbers
        counts[field.name, f"written as text: {why}"] += odd
        return pc.if_else(fits, numbers, _strings(text, field, start))
    look = f' table:style-name="{_FORMATS[field.type]}"'
    if field.type is FieldType.DATE:
        return _cell("date", "date-value", text, look)
    if field.type is FieldType.TIMESTAMP:
        return _cell("date", "date-value", pc.replace_substring(text, " ", "T"), look)
    clock = pc.replace_substring_regex(text, r"^(\d+):(\d+):([\d.]+)$", r"PT\1H\2M\3S")
    return _cell("time", "time-value", clock, look)


def _cell(kind: str, attribute: str, text: pa.Array, look: str = "") -> pa.Array:
    begin = f'<table:table-cell office:value-type="{kind}"{look} office:{attribute}="'
    return around(begin, text, '"/>')


def _strings(text: pa.Array, field: Field, start: int) -> pa.Array:
    odd = pc.fill_null(pc.match_substring_regex(text, _NO_CHARACTER), False)
    if pc.any(odd).as_py():
        place = pc.index(odd, True).as_py()
        raise OutputError(
            f"Row {start + place + 1:,} of {field.name} has a character that no workbook can hold.",
            remedy="Take it out with a mend of the text, or write delimited text (.csv) instead.",
        )
    made = around('<table:table-cell office:value-type="string">', _paragraphs(text), "</table:table-cell>")
    return pc.if_else(pc.equal(text, ""), pa.scalar(None, TEXT), made)


def _paragraphs(text: pa.Array) -> pa.Array:
    """Text as paragraphs, one for each line; spaces and tabs as the format has them."""
    text = escaped_for_xml(text)
    if holds(text, " "):
        # Spaces at an end and those that follow one another would be lost.
        text = pc.replace_substring_regex(text, r"(^|\n) ", r"\1<text:s/>")
        text = pc.replace_substring_regex(text, r" ($|\n)", r"<text:s/>\1")
        text = pc.replace_substring(text, "  ", " <text:s/>")
    for sign, said in (("\t", "<text:tab/>"), ("\r\n", "</text:p><text:p>"), ("\n", "</text:p><text:p>")):
        if holds(text, sign[0]):
            text = pc.replace_substring(text, sign, said)
    return around("<text:p>", text, "</text:p>")
