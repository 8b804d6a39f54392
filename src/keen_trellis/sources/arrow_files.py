"""Parquet and Arrow files, which say of what types their fields are, and JSON lines, which do not."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import pyarrow as pa

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.core.values import ARROW_TYPES, FieldType
from keen_trellis.flow.remark import Remark
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.sources.about import ROWS_FILE, About
from keen_trellis.sources.cell_columns import CellColumn, check_width, spill
from keen_trellis.sources.child import ask
from keen_trellis.sources.content import reading
from keen_trellis.sources.numbers import exact_number
from keen_trellis.sources.reading import OneTableReader, ReadTable, mapped
from keen_trellis.sources.recognise import COLUMNS, LINES
from keen_trellis.sources.text_types import moments_in_text

_TEXT = ARROW_TYPES[FieldType.TEXT]
_LARGE = 2**22  # bytes of a file from which on its first rows are to be had before all of them
_LINE_BATCH = 20_000
_LONGEST_LINE = 2**26


class ColumnsReader(OneTableReader):
    """Reads Parquet and Arrow files, in a child process."""

    name = COLUMNS
    said = "a Parquet or Arrow file"
    can_leave_out = True

    def read(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable:
        return self._asked("read", settings, room, task)

    def first_rows(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable | None:
        with reading(settings.path):
            if Path(settings.path).stat().st_size < _LARGE:
                return None
        return self._asked("first", settings, room, task)

    def _asked(self, what: str, settings: SourceSettings, room: Path, task: Task) -> ReadTable:
        target = room / ROWS_FILE
        left_out = msgspec.json.encode(sorted(settings.left_out)).decode()
        module = "keen_trellis.sources.columns_process"
        answer = ask(module, settings.path, task, what, str(target), left_out)
        assert answer.about is not None
        return ReadTable(mapped(target), answer.about)


class LinesReader(OneTableReader):
    """Reads a text file with one JSON object a line; objects and lists inside become text."""

    name = LINES
    said = "JSON lines"

    def read(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable:
        path = Path(settings.path)
        columns: dict[str, CellColumn] = {}
        rows = 0
        size = path.stat().st_size
        with path.open("rb") as file:
            for batch in _objects(file, path):
                cells: dict[str, tuple[list[int], list[Any]]] = {}
                for place, entry in enumerate(batch):
                    for name, value in entry.items():
                        places, values = cells.setdefault(name, ([], []))
                        places.append(place)
                        values.append(value)
                new = [name for name in cells if name not in columns]
                check_width(len(columns) + len(new), settings.path)
                for name in new:
                    columns[name] = CellColumn(name)
                    columns[name].add_at([], [], rows)
                for name, column in columns.items():
                    column.add_at(*cells.get(name, ([], [])), len(batch))
                rows += len(batch)
                spill(list(columns.values()), room)
                task.checkpoint(file.tell(), size, f"reading {path.name}")
        if not columns:
            raise SourceError("Its lines hold no fields.", where=settings.path)
        data: dict[str, pa.ChunkedArray] = {}
        remarks: list[Remark] = []
        for name, column in columns.items():
            made, said = column.finished()
            if made.type == _TEXT and not said:
                made = moments_in_text(made)
            data[name] = made
            remarks += said
        return ReadTable(pa.table(data), About(file=path.name, remarks=tuple(remarks)))


def _objects(file: Any, path: Path) -> Iterator[list[dict[str, Any]]]:
    """The objects of the file, some at a time, with errors that name the line."""
    batch: list[dict[str, Any]] = []
    decoder = msgspec.json.Decoder(dict[str, Any], float_hook=exact_number)
    number = 0
    while line := file.readline(_LONGEST_LINE):
        number += 1
        text = line.strip().removeprefix(b"\xef\xbb\xbf")
        if not text:
            continue
        try:
            batch.append(decoder.decode(text))
        except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as error:
            raise SourceError(
                f"Line {number:,} is not a JSON object ({error}).",
                where=str(path),
                remedy='Every line must be one, as {"venue": "Pier"}.',
            ) from error
        if len(batch) == _LINE_BATCH:
            yield batch
            batch = []
    yield batch
