"""Rows and values of the bench on the clipboard, as text that a spreadsheet program does not run."""

from __future__ import annotations

import re

import pyarrow as pa
from PySide6.QtGui import QGuiApplication

from keen_trellis.core.table import Cells
from keen_trellis.core.values import as_text
from keen_trellis.desktop.bench.content import BLOCK, Content, Part
from keen_trellis.desktop.bench.lines import ROW, Lines
from keen_trellis.flow.plain_text import cut, visible
from keen_trellis.outputs.delimited import made_harmless

_MOST_COPIED = 100_000  # lines that the clipboard takes at once
_BREAKS = re.compile(r"[\t\r\n]")  # would begin another cell


def rows(content: Content, lines: Lines, low: int, high: int) -> str:
    """Put the rows among some lines, the fields' names above, on the clipboard as tab-separated text.

    A sentence about it is handed back.
    """
    names: list[str] = []
    for column in content.columns:
        names.append(column.field.name)
        if column.other is not None:
            names.append(column.other.name)
    texts = [names]
    for number in range(low, min(high, low + _MOST_COPIED - 1) + 1):
        line = lines.at(number)
        if line.kind == ROW:
            texts.append(_texts(content, content.parts[line.part], line.place))
    if len(texts) == 1:
        return "No row is chosen that could be copied."
    whole = pa.array([text for row in texts for text in row], pa.large_string())
    safe, marked = made_harmless(whole)
    cells, width = safe.to_pylist(), len(names)
    copied = ["\t".join(cells[start : start + width]) for start in range(0, len(cells), width)]
    QGuiApplication.clipboard().setText("\n".join(copied) + "\n")
    count = len(copied) - 1
    said = "1 row is on the clipboard" if count == 1 else f"{count:,} rows are on the clipboard"
    if high - low >= _MOST_COPIED:
        said += f", the first of {high - low + 1:,} lines; write them to a file (Ctrl+E) to have all"
    if marked:
        cells_said = "1 cell has" if marked == 1 else f"{marked:,} cells have"
        said += f"; {cells_said} an apostrophe before what would be run as a formula"
    return f"{said}."


def _texts(content: Content, part: Part, place: int) -> list[str]:
    texts = []
    for cells, column in zip(content.cells(part, place // BLOCK), content.columns, strict=True):
        cell = cells[place % BLOCK]
        texts.append(_BREAKS.sub(" ", cell.text))
        if column.other is not None:
            texts.append(_BREAKS.sub(" ", cell.other.text) if cell.other else "")
    return texts


def value(cells: Cells) -> str:
    """Put one value on the clipboard as it is; a sentence about it."""
    text = as_text(cells.values)[0].as_py()
    if text is None:
        return "There is no value in this cell."
    QGuiApplication.clipboard().setText(text)
    return f"“{visible(cut(text, 60))}” is on the clipboard."
