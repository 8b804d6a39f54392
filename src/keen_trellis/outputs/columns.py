"""Parquet and Arrow files: the types of all fields as they are, blanks and cells without partner null."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any

import pyarrow as pa

from keen_trellis.core.errors import OutputError
from keen_trellis.core.parallel import ahead
from keen_trellis.core.table import Cells, Table
from keen_trellis.core.task import Task
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.outputs.files import OneTableWriter
from keen_trellis.outputs.lines import batches

# Rows of a group of a Parquet file: readers skip groups, and need memory for one.
_GROUP_ROWS = 1_048_576
_GROUP_BYTES = 256 * 2**20


class ParquetWriter(OneTableWriter):
    """Writes Parquet, compressed with zstd."""

    name = "parquet"

    def write(self, table: Table, settings: OutputSettings, draft: Path, task: Task) -> list[str]:
        from pyarrow import parquet

        _write(table, settings, task, lambda schema: parquet.ParquetWriter(draft, schema, compression="zstd"))
        return []


class ArrowWriter(OneTableWriter):
    """Writes the Arrow format of files, not compressed, so that others can map it."""

    name = "arrow"

    def write(self, table: Table, settings: OutputSettings, draft: Path, task: Task) -> list[str]:
        _write(table, settings, task, lambda schema: pa.ipc.new_file(str(draft), schema))
        return []


def _write(
    table: Table,
    settings: OutputSettings,
    task: Task,
    begun: Callable[[pa.Schema], AbstractContextManager[Any]],
) -> None:
    """Write all rows in groups, each of so many rows or bytes."""
    if not table.fields:
        raise OutputError(
            "The rows have no field.", where=settings.path, remedy="Keep or bring a field of the tables."
        )
    schema = pa.schema([pa.field(field.name, field.arrow_type) for field in table.fields])

    def made(_: range, batch: list[Cells]) -> pa.RecordBatch:
        columns = [cells.values.cast(kind) for cells, kind in zip(batch, schema.types, strict=True)]
        return pa.RecordBatch.from_arrays(columns, schema=schema)

    def groups() -> Iterator[pa.Table]:
        group: list[pa.RecordBatch] = []
        for batch in batches(table, made, f"rows of {settings.file_name}", task):
            group.append(batch)
            full = sum(entry.num_rows for entry in group) >= _GROUP_ROWS
            if full or sum(entry.nbytes for entry in group) >= _GROUP_BYTES:
                yield pa.Table.from_batches(group, schema)
                group = []
        if group or not table.rows:
            yield pa.Table.from_batches(group, schema)

    with begun(schema) as writer:
        # One group is written while the next one is gathered.
        for _ in ahead(writer.write_table, groups(), 1):
            pass
