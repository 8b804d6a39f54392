"""The child process that reads a workbook, so that a damaged or huge one can be stopped.

Called as `python -m keen_trellis.sources.workbook_process list FILE` or `... read FILE SHEET TARGET`.
It prints one JSON object a line: progress, and last either the outcome or an error. A sheet's rows are
written to TARGET as an Arrow file of one batch, which the parent maps into memory.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import python_calamine as calamine

from keen_trellis.core.errors import SourceError

if TYPE_CHECKING:
    import pyarrow as pa

# What only reading needs is imported there: listing the sheets is then done in a tenth of a second.

_PROGRESS_ROWS = 20_000


def say(**message: Any) -> None:
    """Hand one message to the parent."""
    print(json.dumps(message), flush=True)


def main(words: Sequence[str]) -> int:
    """Do what `words` ask; 0 if it could be done."""
    try:
        workbook = calamine.CalamineWorkbook.from_path(words[1])
        if words[0] == "list":
            say(sheets=[entry.name for entry in workbook.sheets_metadata if _is_sheet(entry)])
        else:
            say(remarks=_read(workbook, words[2], words[3]))
    except SourceError as error:
        say(error=error.what, remedy=error.remedy)
        return error.exit_code
    except calamine.PasswordError:
        say(error="The workbook is protected by a password.", remedy="Save a copy without a password.")
        return SourceError.exit_code
    except Exception as error:  # the reader library's own errors have no common base
        say(error=f"The workbook is damaged or cut off ({error}).", remedy="Copy or export it again.")
        return SourceError.exit_code
    return 0


def _is_sheet(entry: calamine.SheetMetadata) -> bool:
    return bool(entry.typ == calamine.SheetTypeEnum.WorkSheet)


def _read(workbook: calamine.CalamineWorkbook, name: str, target: str) -> list[dict[str, Any]]:
    from keen_trellis.flow.snapshot import Remark
    from keen_trellis.sources.headers import LOOKED_AT, blank, find_header
    from keen_trellis.sources.inference import column_of_cells

    if name not in workbook.sheet_names:
        known = ", ".join(f"“{sheet}”" for sheet in workbook.sheet_names)
        raise SourceError(f"There is no sheet “{name}” in it.", remedy=f"It holds: {known}.")
    sheet = workbook.get_sheet_by_name(name)
    rows = _rows(sheet)
    top = next((index for index, row in enumerate(rows) if any(not blank(cell) for cell in row)), None)
    if top is None:
        raise SourceError(f"The sheet “{name}” is empty.", remedy="Choose another sheet.")
    header = find_header(rows[:LOOKED_AT], blocks=True)
    # Whether a column is blank is known only from all rows: look again where the head was misleading.
    header = find_header(rows, blocks=True) if len(rows) > LOOKED_AT else header
    remarks = list(header.remarks)
    body, numbers, skipped = [], [], 0
    for index in range(header.rows_above, len(rows)):
        row = rows[index][header.first : header.last]
        if any(not blank(cell) for cell in row):
            body.append(row)
            numbers.append(index + 1)
        else:
            skipped += 1
    trailing = len(rows) - numbers[-1] if numbers else skipped
    if skipped > trailing:
        remarks.append(Remark(f"{skipped - trailing:,} blank rows among the data are left out"))
    columns = [list(column) for column in zip(*body, strict=True)] or [[] for _ in header.names]
    arrays = []
    for done, (field, column) in enumerate(zip(header.names, columns, strict=True)):
        say(done=done, total=len(columns), what="finding types")
        array, doubts = column_of_cells(column, field)
        arrays.append(array)
        remarks += doubts
    _write(arrays, header.names, numbers, target)
    return [{"text": entry.text, "field": entry.field, "doubtful": entry.doubtful} for entry in remarks]


def _rows(sheet: calamine.CalamineSheet) -> list[list[Any]]:
    """All rows of the sheet from its first on, all of one width, with progress."""
    total = sheet.total_height
    rows: list[list[Any]] = []
    start = sheet.start
    if start is None:
        return rows
    left = [""] * start[1]
    for row in sheet.iter_rows():
        rows.append(left + row)
        if len(rows) % _PROGRESS_ROWS == 0:
            say(done=len(rows), total=total, what="rows")
    # Row numbers count from the sheet's top, whether or not the library hands out the blank rows there.
    rows = [[] for _ in range(total - len(rows))] + rows
    width = max(map(len, rows), default=0)
    return [row + [""] * (width - len(row)) for row in rows]


def _write(arrays: Sequence[pa.Array], names: Sequence[str], numbers: Sequence[int], target: str) -> None:
    import pyarrow as pa

    # Row numbers travel as a last column, which the parent takes off again.
    fields = [pa.field(name, array.type) for name, array in zip(names, arrays, strict=True)]
    schema = pa.schema([*fields, pa.field("row number", pa.int32())])
    batch = pa.record_batch([*arrays, pa.array(numbers, pa.int32())], schema=schema)
    with pa.OSFile(target, "wb") as file, pa.ipc.new_file(file, schema) as writer:
        writer.write_batch(batch)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
