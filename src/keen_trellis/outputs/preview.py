"""The first rows of an output as whoever opens it will find them."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.table import Cells, ChosenRows, Table
from keen_trellis.core.values import as_text
from keen_trellis.flow.cell_names import column_letters, read_cell
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.temporary import temporary_folder
from keen_trellis.outputs.lines import TEXT

FEW = 50


class Preview(msgspec.Struct, frozen=True):
    """Lines of text or rows of cells. headings: of the columns.  header: whether the first row is one.

    numbered: whether each row begins with its number in the file.  numbers: the columns that are numbers.
    """

    headings: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    header: bool = False
    numbered: bool = False
    numbers: tuple[int, ...] = ()


def preview(table: Table, settings: OutputSettings) -> Preview:
    """What the first FEW rows are written as. OutputError if they cannot be."""
    some = ChosenRows(table, np.arange(min(table.rows, FEW)))
    if settings.writer in ("text", "json", "json-lines"):
        return _lines(some, settings)
    cells = some.take(None, some.names) if some.fields else []
    if settings.target.has_sheet:
        return _sheet(some, cells, settings)
    headings = [f"{field.name} ({field.type.value})" for field in some.fields]
    columns = [pc.fill_null(as_text(entry.values).cast(TEXT), "null").to_pylist() for entry in cells]
    return Preview(tuple(headings), tuple(zip(*columns, strict=True)), numbers=_numbers(some, 0))


def _lines(table: Table, settings: OutputSettings) -> Preview:
    """The lines of a file that is really written, to be looked at."""
    from keen_trellis.outputs import write

    with temporary_folder() as folder:
        path = folder / f"preview{next(iter(settings.target.endings))}"
        alone = msgspec.structs.replace(settings, path=str(path), split_by="", described=False)
        write(table, alone)
        text = path.read_bytes().decode(settings.encoding)
    lines = text.splitlines()
    shown = tuple((f"{number:,}", line) for number, line in enumerate(lines, 1))
    return Preview(("", settings.file_name), shown, header=settings.target.is_text, numbered=True)


def _sheet(table: Table, cells: Sequence[Cells], settings: OutputSettings) -> Preview:
    """The cells of a sheet, under the letters of their columns. A table's own place is not looked up."""
    top, left = (read_cell(settings.cell) or (1, 0)) if settings.cell else (1, 0)
    headings = ("", *(column_letters(left + number) for number in range(len(table.fields))))
    columns = [_shown(entry, settings.no_partner) for entry in cells]
    rows = [table.names, *zip(*columns, strict=True)] if columns else []
    return Preview(
        headings,
        tuple((f"{top + number:,}", *row) for number, row in enumerate(rows)),
        header=True,
        numbered=True,
        numbers=_numbers(table, 1),
    )


def _numbers(table: Table, first: int) -> tuple[int, ...]:
    return tuple(place for place, field in enumerate(table.fields, first) if field.type.is_number)


def _shown(cells: Cells, word: str) -> list[str]:
    text = pc.fill_null(as_text(cells.values).cast(TEXT), "")
    if word and cells.absent is not None:
        text = pc.if_else(pa.array(cells.absent), pa.scalar(word, TEXT), text)
    return [str(entry) for entry in text.to_pylist()]
