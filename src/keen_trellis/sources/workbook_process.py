"""The child process that reads a workbook, so that a damaged or huge one can be stopped.

Called as `python -m keen_trellis.sources.workbook_process list FILE`, `... further FILE` or `... read FILE
SETTINGS TARGET`. The rows are written to TARGET as an Arrow file of one batch, which the parent maps into
memory.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import python_calamine as calamine

from keen_trellis.core.errors import SourceError
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.source_settings import Layout, Settled, SourceSettings
from keen_trellis.sources.about import ROW_NUMBERS, About, Listing
from keen_trellis.sources.child import Message, progress, say
from keen_trellis.sources.integrity import check_whole
from keen_trellis.sources.named_ranges import named_ranges

if TYPE_CHECKING:
    import pyarrow as pa

    from keen_trellis.flow.remark import Remark
    from keen_trellis.sources.blocks import Block, Sheet

_PROGRESS_ROWS = 20_000
_FURTHER_CELLS = 2_000_000


@contextmanager
def _library_errors() -> Iterator[None]:
    """What the reader library raises, and where it panics, as errors of ours. Its errors have no common
    base.
    """
    try:
        yield
    except (MemoryError, KeyboardInterrupt, SystemExit, SourceError):
        raise
    except calamine.PasswordError as error:
        raise SourceError(
            "The workbook is protected by a password.", remedy="Save a copy without a password."
        ) from error
    except BaseException as error:
        raise SourceError(
            f"The workbook is damaged or cut off ({error}).", remedy="Copy or export it again."
        ) from error


def answer(task: str, path: str, *more: str) -> Message:
    if task == "list":
        return Message(last=True, tables=tuple(_Workbook(path).listings()))
    check_whole(Path(path), progress())
    workbook = _Workbook(path)
    if task == "further":
        return Message(last=True, tables=tuple(workbook.further()))
    settings = decoded(more[0], SourceSettings)
    return Message(last=True, about=_read(workbook, settings, more[1]))


class _Workbook:
    def __init__(self, path: str) -> None:
        self.path = path
        with _library_errors():
            self.calamine = calamine.CalamineWorkbook.from_path(path)
            self.sheets = [entry for entry in self.calamine.sheets_metadata if _is_sheet(entry)]
        if not self.sheets:
            raise SourceError("The workbook has no sheet.", remedy="Was it saved completely?")

    def listings(self) -> list[Listing]:
        """Sheets, then named tables and ranges."""
        hidden = {entry.name: entry.visible is not calamine.SheetVisibleEnum.Visible for entry in self.sheets}
        found = [Listing(name, "sheet", hide) for name, hide in hidden.items()]
        names = set(hidden)
        tables = [Listing(name, "named table") for name in self.named_tables()]
        ranges = [
            Listing(name, "named range", hidden[sheet])
            for name, (sheet, _) in named_ranges(Path(self.path)).items()
            if sheet in hidden
        ]
        for entry in tables + ranges:
            if entry.name not in names:
                names.add(entry.name)
                found.append(entry)
        return found

    def named_tables(self) -> list[str]:
        """The names of tables inside sheets; only xlsx has them."""
        # Kinds of workbook that have none raise an error; a damaged one has been refused already.
        with suppress(SourceError), _library_errors():
            self.with_tables = calamine.CalamineWorkbook.from_path(self.path, load_tables=True)
            return list(self.with_tables.table_names)
        return []

    def further(self) -> list[Listing]:
        """The tables beside or below the first one of each sheet that is not too large to look through."""
        found = []
        for entry in self.sheets:
            sheet = self.sheet(entry.name)
            if sheet.start is None or sheet.total_height * sheet.total_width > _FURTHER_CELLS:
                continue
            hidden = entry.visible is not calamine.SheetVisibleEnum.Visible
            found += further_listings(_cells(sheet), entry.name, hidden=hidden)
        return found

    def sheet(self, name: str) -> calamine.CalamineSheet:
        """The sheet called so."""
        with _library_errors():
            return self.calamine.get_sheet_by_name(name)

    def place(self, table: str) -> tuple[str, str]:
        """The sheet and the range in it, "" for no range, that a table's name stands for."""
        names = [entry.name for entry in self.sheets]
        if table in names:
            return table, ""
        sheet, _, place = table.rpartition("!")
        if sheet in names:
            from keen_trellis.sources.blocks import parse_range

            if parse_range(place) is None:
                raise SourceError(
                    f"“{place}” is not a range of cells.",
                    remedy="A range is written like A3:F40, or F3 for the table that starts there.",
                )
            return sheet, place
        if table in self.named_tables():
            with _library_errors():
                found = self.with_tables.get_table_by_name(table)
            from keen_trellis.flow.cell_names import column_letters

            assert found.start is not None and found.end is not None
            top, bottom = found.start[0], found.end[0] + 1
            left, right = (column_letters(corner[1]) for corner in (found.start, found.end))
            return found.sheet, f"{left}{top}:{right}{bottom}"
        ranges = named_ranges(Path(self.path))
        if table in ranges:
            return ranges[table]
        known = ", ".join(f"“{entry.name}”" for entry in self.listings()[:12])
        raise SourceError(f"There is no sheet “{table}” in it.", remedy=f"It holds: {known}.")


def _is_sheet(entry: calamine.SheetMetadata) -> bool:
    return bool(entry.typ == calamine.SheetTypeEnum.WorkSheet)


def further_listings(sheet: Sheet, name: str, *, hidden: bool = False) -> list[Listing]:
    """The tables of a sheet after its first, each named by the cell that it begins in."""
    from keen_trellis.sources.blocks import find_blocks, title_of

    blocks = [block for block in find_blocks(sheet) if block.header and len(block.data)]
    return [
        Listing(f"{name}!{block.corner}", "block", hidden, title_of(sheet, block)) for block in blocks[1:]
    ]


def _read(workbook: _Workbook, settings: SourceSettings, target: str) -> About:
    from keen_trellis.flow.remark import Remark
    from keen_trellis.sources.blocks import chosen_block, names_and_remarks, raw_of
    from keen_trellis.sources.inference import cell_text

    name, place = workbook.place(settings.table or workbook.sheets[0].name)
    sheet = _cells(workbook.sheet(name))
    if not sheet.filled.any():
        raise SourceError(f"The sheet “{name}” is empty.", remedy="Choose another sheet.")
    block = chosen_block(sheet, place, settings.layout)
    names, remarks = names_and_remarks(sheet, block)
    if not place:
        for entry in further_listings(sheet, name):
            corner = entry.name.rpartition("!")[2]
            remarks.append(Remark(f"another table is in the sheet, from {corner}: “{entry.name}”"))
    arrays, numbers, said = _columns(sheet, block, names, settings)
    remarks += said
    _write(arrays, names, numbers, target)
    return About(
        file=Path(workbook.path).name,
        table=settings.table or name,
        remarks=tuple(remarks),
        raw=raw_of(sheet, block, cell_text),
        settled=Settled(_layout_of(block)),
    )


def _layout_of(block: Block) -> Layout:
    """Where a block stands, as it can be set."""
    from keen_trellis.flow.cell_names import column_letters

    return Layout(
        block.header.start + 1 if block.header else 0,
        len(block.header) or 1,
        block.data.start + 1,
        block.data.stop,
        f"{column_letters(block.columns.start)}:{column_letters(block.columns.stop - 1)}",
    )


def _columns(
    sheet: Sheet, block: Block, names: Sequence[str], settings: SourceSettings
) -> tuple[list[pa.Array], Any, list[Remark]]:
    """The typed columns of a block, the numbers of its rows, and what there is to say."""
    import numpy as np

    from keen_trellis.flow.remark import Remark
    from keen_trellis.sources.inference import column_of_cells
    from keen_trellis.sources.text_types import RowNumbers

    columns = block.columns
    taken = np.zeros(len(sheet.cells), dtype=bool)
    taken[block.data.start : block.data.stop] = True
    taken[[row for row in block.roles if row in block.data]] = False
    taken &= sheet.filled[:, columns.start : columns.stop].any(axis=1)
    rows = np.flatnonzero(taken)
    remarks = []
    gaps = len(block.data) - len(rows)
    if gaps:
        said = "1 blank row among the data is" if gaps == 1 else f"{gaps:,} blank rows among the data are"
        remarks.append(Remark(f"{said} left out"))
    arrays = []
    places = RowNumbers(rows + 1)
    blanks = settings.writing.blanks
    for done, (field, column) in enumerate(zip(names, columns, strict=True)):
        say(Message(done=done, total=len(columns)))
        cells = sheet.cells[rows, column].tolist()
        array, doubts = column_of_cells(
            cells, field, places, blanks=blanks, kept_as_text=field in settings.kept_as_text
        )
        arrays.append(array)
        remarks += doubts
    return arrays, (rows + 1).astype(np.int32), remarks


def _cells(sheet: calamine.CalamineSheet) -> Sheet:
    """All cells of the sheet, from its first row and column on, with progress."""
    from keen_trellis.sources.blocks import Sheet

    total = sheet.total_height
    rows: list[list[Any]] = []
    if sheet.start is None:
        return Sheet.of([])
    left = [""] * sheet.start[1]
    with _library_errors():
        for row in sheet.iter_rows():
            rows.append(left + row)
            if len(rows) % _PROGRESS_ROWS == 0:
                say(Message(done=len(rows), total=total))
    # Row numbers count from the sheet's top, whether or not the library hands out the blank rows there.
    rows = [[] for _ in range(total - len(rows))] + rows
    width = max(map(len, rows), default=0)
    even = [row if len(row) == width else row + [""] * (width - len(row)) for row in rows]
    merged = [(range(first[0], last[0] + 1), range(first[1], last[1] + 1)) for first, last in _merged(sheet)]
    return Sheet.of(even, merged)


def _merged(sheet: calamine.CalamineSheet) -> list[tuple[tuple[int, int], tuple[int, int]]]:
    """The corners of merged cells; none for kinds of workbook that the library cannot tell them of."""
    with suppress(SourceError), _library_errors():
        return list(sheet.merged_cell_ranges or ())
    return []


def _write(arrays: Sequence[pa.Array], names: Sequence[str], numbers: Any, target: str) -> None:
    import pyarrow as pa

    # Row numbers travel as a last column, which the parent takes off again.
    fields = [pa.field(name, array.type) for name, array in zip(names, arrays, strict=True)]
    schema = pa.schema([*fields, pa.field(ROW_NUMBERS, pa.int32())])
    batch = pa.record_batch([*arrays, pa.array(numbers, pa.int32())], schema=schema)
    with pa.OSFile(target, "wb") as file, pa.ipc.new_file(file, schema) as writer:
        writer.write_batch(batch)
