"""Delimited text as RFC 4180 has it, harmless to open in a spreadsheet program."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.table import Cells, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.wording import counted
from keen_trellis.outputs.files import OneTableWriter
from keen_trellis.outputs.lines import TEXT, around, batches, holds, joined

# Text that a spreadsheet would run: it begins with one of these and is no plain number.
_SIGNS = "=+-@\t\r"
_RUNS = r"^[=+\-@\t\r]"
_NUMBER = r"^[+-]?\d+([.,]\d+)?$"
_LINE_END = "\r\n"
# Delimiters that stand in no number and no moment as they are written.
_IN_NO_VALUE = ",;\t|"


class DelimitedWriter(OneTableWriter):
    """Writes UTF-8 text with a header line; blank cells and cells without partner are empty."""

    name = "text"

    def write(self, table: Table, settings: OutputSettings, draft: Path, task: Task) -> list[str]:
        marked: Counter[str] = Counter()
        mark = settings.delimiter

        def lines(_: int, batch: list[Cells]) -> tuple[memoryview, Counter[str]]:
            columns, found = [], Counter[str]()
            for field, cells in zip(table.fields, batch, strict=True):
                text = as_text(cells.values).cast(TEXT)
                if field.type is FieldType.TEXT and settings.harmless:
                    text, found[field.name] = made_harmless(text)
                if field.type is FieldType.TEXT or mark not in _IN_NO_VALUE:
                    text = _quoted(text, mark)
                columns.append(text)
            return _rows(columns, mark), found

        with draft.open("wb") as file:
            names = pa.array(table.names, TEXT)
            if settings.harmless:
                names, marked["the header"] = made_harmless(names)
            header = _quoted(names, mark)
            file.write(_rows([header.slice(place, 1) for place in range(len(header))], mark))
            told = batches(table, lines, f"rows of {settings.file_name}", task) if table.fields else ()
            for made, found in told:
                file.write(made)
                marked.update(found)
        return [
            f"{counted(count, 'cells')} of {name} written with an apostrophe before what "
            "a spreadsheet program would run as a formula"
            for name, count in marked.items()
            if count
        ]


def _rows(columns: list[pa.Array], mark: str) -> memoryview:
    if not columns:
        return memoryview(b"\r\n")
    if len(columns) == 1:
        # A line with nothing on it would be no row.
        column = columns[0]
        columns = [pc.if_else(pc.equal(pc.fill_null(column, ""), ""), '""', column)]
    return joined(columns, mark, _LINE_END)


def _quoted(text: pa.Array, mark: str) -> pa.Array:
    """Text in quotation marks where it holds one, a delimiter or an end of a line."""
    found = [sign for sign in ('"', mark, "\r", "\n") if holds(text, sign)]
    if not found:
        return text
    needs = pc.match_substring(text, found[0])
    for sign in found[1:]:
        needs = pc.or_(needs, pc.match_substring(text, sign))
    inner = pc.replace_substring(text, '"', '""') if '"' in found else text
    return pc.if_else(needs, around('"', inner, '"'), text)


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
