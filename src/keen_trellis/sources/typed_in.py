"""A small table that was typed or pasted into the flow itself."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.core.values import ARROW_TYPES, FieldType
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.sources.about import ROWS_FILE, About
from keen_trellis.sources.headers import field_names
from keen_trellis.sources.locations import TYPED
from keen_trellis.sources.reading import TYPED_TABLE, WRITING, InFlowReader, ReadTable
from keen_trellis.sources.text_blocks import TextBlock
from keen_trellis.sources.typed_rows import typed_rows

_TEXT = ARROW_TYPES[FieldType.TEXT]


class TypedInReader(InFlowReader):
    """Reads the rows that stand in the settings; their types are found as those of a text file are."""

    name = TYPED
    said = "a table typed into the flow"
    uses = TYPED_TABLE | WRITING

    def read(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable:
        table = settings.typed
        width = max([len(table.names), *map(len, table.rows)])
        if not width:
            raise SourceError("The table has no fields yet.", remedy="Type or paste its rows.")
        header = list(table.names) + [""] * (width - len(table.names))
        names, remarks = field_names([header], 0, width)
        columns = [
            pa.array([row[place] or None if place < len(row) else None for row in table.rows], _TEXT)
            for place in range(width)
        ]
        block = TextBlock(columns, np.arange(1, len(table.rows) + 1, dtype=np.int32))
        typed = typed_rows(
            lambda _: iter([block]),
            names,
            settings.writing.notation,
            settings.kept_as_text,
            room / ROWS_FILE,
            task,
        )
        about = About(file="typed in", digits=typed.digits, remarks=(*remarks, *typed.remarks))
        return ReadTable(typed.data, about)
