"""JSON: an object for each row, a line each (JSON lines) or all in one array. Values as RFC 8259 has them."""

from __future__ import annotations

import json
from collections import Counter
from pathlib import Path
from typing import BinaryIO

import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.table import Cells, Field, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.wording import counted
from keen_trellis.outputs.files import OneTableWriter, packed
from keen_trellis.outputs.lines import TEXT, around, batches, joined
from keen_trellis.outputs.repeated import in_parts

_ESCAPED = r'["\\\x00-\x1f]'
_SHORT = {"\b": "\\b", "\t": "\\t", "\n": "\\n", "\f": "\\f", "\r": "\\r"}
_NO_NUMBER = "no number of JSON"


class LinesWriter(OneTableWriter):
    """Writes UTF-8, one object a line; a blank cell and one without partner are null."""

    name = "json-lines"
    density = 0.8
    begin, between, end = b"", "\n", b"\n"

    def write(self, table: Table, settings: OutputSettings, draft: Path, task: Task) -> list[str]:
        changed: Counter[str] = Counter()
        with packed(draft, settings) as file:
            file.write(self.begin)
            self._rows(table, file, settings, task, changed)
            file.write(self.end if table.rows or self.begin else b"")
        return [
            f"{counted(count, 'cells')} of {name} written as text: {_NO_NUMBER}"
            for name, count in changed.items()
            if count
        ]

    def _rows(
        self, table: Table, file: BinaryIO, settings: OutputSettings, task: Task, changed: Counter[str]
    ) -> None:
        what = f"rows of {settings.file_name}"
        word = json.dumps(settings.no_partner, ensure_ascii=False) if settings.no_partner else "null"
        keys = {
            name: f"{'{' if not place else ''}{json.dumps(name, ensure_ascii=False)}:"
            for place, name in enumerate(table.names)
        }

        def member(field: Field, cells: Cells) -> tuple[pa.Array, int]:
            values, odd = _values(field, cells.values)
            if cells.absent is not None and settings.no_partner:
                values = pc.if_else(pa.array(cells.absent), pa.scalar(word, TEXT), values)
            return around(keys[field.name], pc.fill_null(values, "null"), ""), odd

        def alone(field: Field, cells: Cells) -> pa.Array | None:
            made, odd = member(field, cells)
            return None if odd else made

        parts = in_parts(table, alone, ",", what, task)

        def objects(rows: range, batch: list[Cells]) -> tuple[memoryview, Counter[str]]:
            found = Counter[str]()

            def counted_member(field: Field, cells: Cells) -> pa.Array:
                made, found[field.name] = member(field, cells)
                return made

            columns = parts.columns(rows, batch, counted_member)
            return joined(columns, ",", f"}}{self.between}"), found

        first = True
        for made, found in batches(table, objects, what, task, names=parts.plain):
            # What stands between rows stands between batches, too, and not after the last one.
            file.write(b"" if first else self.between.encode())
            file.write(made[: len(made) - len(self.between)])
            changed.update(found)
            first = False


class ArrayWriter(LinesWriter):
    """Writes one array of such objects."""

    name = "json"
    begin, between, end = b"[\n", ",\n", b"\n]\n"


def _values(field: Field, values: pa.Array) -> tuple[pa.Array, int]:
    """The values as JSON writes them, null staying null, and how many are text though they are numbers."""
    text = as_text(values).cast(TEXT)
    if field.type in (FieldType.BOOLEAN, FieldType.INTEGER, FieldType.DECIMAL):
        return text, 0
    if field.type is FieldType.REAL:
        finite = pc.is_finite(values)
        odd = pc.sum(pc.invert(finite)).as_py() or 0
        return (pc.if_else(finite, text, around('"', text, '"')) if odd else text), odd
    return around('"', _escaped(text) if field.type is FieldType.TEXT else text, '"'), 0


def _escaped(text: pa.Array) -> pa.Array:
    if not pc.any(pc.match_substring_regex(text, _ESCAPED)).as_py():
        return text
    text = pc.replace_substring(pc.replace_substring(text, "\\", "\\\\"), '"', '\\"')
    for code in range(32):
        sign = chr(code)
        if pc.any(pc.match_substring(text, sign)).as_py():
            text = pc.replace_substring(text, sign, _SHORT.get(sign, f"\\u{code:04x}"))
    return text
