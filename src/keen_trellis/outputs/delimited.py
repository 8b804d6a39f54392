"""Delimited text as RFC 4180 has it, harmless to open in a spreadsheet program."""

from __future__ import annotations

import csv
from collections import Counter
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text
from keen_trellis.flow.steps.output import OutputSettings

# Text that a spreadsheet would run: it begins with one of these and is no plain number.
_RUNS = r"^[=+\-@\t\r]"
_NUMBER = r"^[+-]?\d+([.,]\d+)?$"


class DelimitedWriter:
    """Writes UTF-8 text with a header line; blank cells and cells without partner are empty."""

    name = "text"

    def write(self, table: Table, settings: OutputSettings, draft: Path, task: Task) -> list[str]:
        done = 0
        marked: Counter[str] = Counter()
        with draft.open("w", encoding="utf-8", newline="") as file:
            writer = csv.writer(file, delimiter=settings.delimiter, lineterminator="\r\n")
            names = pa.array(table.names, pa.large_string())
            writer.writerow((made_harmless(names) if settings.harmless else names).to_pylist())
            marked["the header"] = _count_runs(names) if settings.harmless else 0
            for batch in table.batches(table.names):
                task.checkpoint(done, table.rows, f"rows of {settings.file_name}")
                columns = [
                    _written(field, cells.values, settings).to_pylist()
                    for field, cells in zip(table.fields, batch, strict=True)
                ]
                writer.writerows(zip(*columns, strict=True))
                done += len(columns[0]) if columns else 0
                for field, cells in zip(table.fields, batch, strict=True):
                    if settings.harmless and field.type is FieldType.TEXT:
                        marked[field.name] += _count_runs(cells.values)
        return [
            f"{count:,} {'cell' if count == 1 else 'cells'} of {name} written with an apostrophe before what "
            "a spreadsheet program would run as a formula"
            for name, count in marked.items()
            if count
        ]


def _written(field: Field, values: pa.Array, settings: OutputSettings) -> pa.Array:
    text = as_text(values)
    return made_harmless(text) if settings.harmless and field.type is FieldType.TEXT else text


def _runs(text: pa.Array) -> pa.Array:
    return pc.and_not(pc.match_substring_regex(text, _RUNS), pc.match_substring_regex(text, _NUMBER))


def _count_runs(text: pa.Array) -> int:
    return int(pc.sum(_runs(text)).as_py() or 0)


def made_harmless(text: pa.Array) -> pa.Array:
    """Text with an apostrophe before what a spreadsheet would run as a formula."""
    runs = _runs(text)
    apostrophe, nothing = (pa.scalar(part, text.type) for part in ("'", ""))
    return pc.if_else(runs, pc.binary_join_element_wise(apostrophe, text, nothing), text)
