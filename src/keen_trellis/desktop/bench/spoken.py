"""The lines of the bench's grid in words, as assistive tools are told of them."""

from __future__ import annotations

from PySide6.QtCore import QRect

from keen_trellis.desktop.accessible import Part
from keen_trellis.desktop.bench.content import ABSENT, BLANK, BLOCK, Content
from keen_trellis.desktop.bench.grid_view import LINE_HEIGHT, GridView
from keen_trellis.desktop.bench.lines import BAND, ROW, Line

__all__ = ["Part", "lines_of"]

_WITHOUT = {ABSENT: "no partner", BLANK: "blank"}


def lines_of(grid: GridView) -> list[Part]:
    """Each line that is seen now."""
    content, top = grid.content, grid.verticalScrollBar().value()
    if content is None:
        return []
    shown = range(top, min(top + grid.viewport().height() // LINE_HEIGHT, grid.lines.count))
    width = grid.viewport().width()
    return [
        Part(
            _said(content, grid.lines.at(number)),
            QRect(0, int(grid.line_top(number)), width, LINE_HEIGHT),
            number == grid.current,
        )
        for number in shown
    ]


def _said(content: Content, line: Line) -> str:
    """A line in words: a band, a reason, or each field of a row with its value."""
    if line.kind == BAND:
        return content.bands[line.band].text
    part = content.parts[line.part]
    if line.kind != ROW:
        return part.text
    block, place = divmod(line.place, BLOCK)
    cells = [column[place] for column in content.cells(part, block)]
    return ", ".join(
        f"{column.field.name} {cell.text or _WITHOUT.get(cell.state, '')}".rstrip()
        for column, cell in zip(content.columns, cells, strict=True)
    )
