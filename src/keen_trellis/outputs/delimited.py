"""Delimited text as RFC 4180 has it, harmless to open in a spreadsheet program."""

from __future__ import annotations

import csv
from collections import Counter
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.outputs.files import FileWriter

# Text that a spreadsheet would run: it begins with one of these and is no plain number.
_RUNS = r"^[=+\-@\t\r]"
_NUMBER = r"^[+-]?\d+([.,]\d+)?$"


class DelimitedWriter(FileWriter):
    """Writes UTF-8 text with a header line; blank cells and cells without partner are empty."""

    name = "text"

    def fill(self, table: Table, settings: OutputSettings, draft: Path, task: Task) -> list[str]:
        done = 0
        marked: Counter[str] = Counter()
        with draft.open("w", encoding="utf-8", newline="") as file:
            writer = csv.writer(file, delimiter=settings.delimiter, lineterminator="\r\n")
            names = pa.array(table.names, pa.large_string())
            shown, marked["the header"] = made_harmless(names) if settings.harmless else (names, 0)
            writer.writerow(shown.to_pylist())
            for batch in table.batches(table.names):
                task.checkpoint(done, table.rows, f"rows of {settings.file_name}")
                columns = []
                for field, cells in zip(table.fields, batch, strict=True):
                    text = as_text(cells.values)
                    if settings.harmless and field.type is FieldType.TEXT:
                        text, count = made_harmless(text)
                        marked[field.name] += count
                    columns.append(text.to_pylist())
                writer.writerows(zip(*columns, strict=True))
                done += len(columns[0]) if columns else 0
        return [
            f"{count:,} {'cell' if count == 1 else 'cells'} of {name} written with an apostrophe before what "
            "a spreadsheet program would run as a formula"
            for name, count in marked.items()
            if count
        ]


def made_harmless(text: pa.Array) -> tuple[pa.Array, int]:
    """Text with an apostrophe before what a spreadsheet would run as a formula, and how often."""
    runs = pc.match_substring_regex(text, _RUNS)
    if not pc.any(runs).as_py():
        return text, 0
    runs = pc.and_not(runs, pc.match_substring_regex(text, _NUMBER))
    apostrophe, nothing = (pa.scalar(part, text.type) for part in ("'", ""))
    marked = pc.if_else(runs, pc.binary_join_element_wise(apostrophe, text, nothing), text)
    return marked, int(pc.sum(runs).as_py() or 0)
