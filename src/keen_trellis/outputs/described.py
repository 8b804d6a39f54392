"""What a delimited file holds, told beside it as the W3C's CSV on the Web has it (Metadata Vocabulary for
Tabular Data, 2015): its dialect, and of each field its type and what its gaps are written as.
"""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any
from urllib.parse import quote

from keen_trellis.core.table import Field, Table
from keen_trellis.core.values import FieldType
from keen_trellis.flow.steps.output import OutputSettings

_CONTEXT = "http://www.w3.org/ns/csvw"
_LINE_ENDS = {"crlf": ["\r\n"], "lf": ["\n"]}
_PARTS = {"yyyy": "yyyy", "mm": "MM", "dd": "dd"}
_CLOCK = "HH:mm:ss.SSSSSS"  # parts of a second where there are some


def described_beside(path: Path) -> Path:
    """Where the description of a file lies: where programs that know the standard look for it."""
    return path.with_name(f"{path.name}-metadata.json")


def description(table: Table, settings: OutputSettings) -> str:
    """The description of the file that an output writes, as JSON."""
    names: set[str] = set()
    columns = []
    for field in table.fields:
        name = _free(_name(field.name), names)
        names.add(name)
        column = {"name": name, "titles": field.name, "datatype": _datatype(field, settings)}
        gaps = list(dict.fromkeys([settings.blank, settings.no_partner]))
        columns.append({**column, "null": gaps if len(gaps) > 1 else gaps[0]})
    made = {
        "@context": _CONTEXT,
        "url": quote(settings.file_name),
        "dialect": {
            "delimiter": settings.delimiter,
            "encoding": "utf-8" if settings.encoding == "utf-8-sig" else settings.encoding,
            "lineTerminators": _LINE_ENDS[settings.line_end],
            "quoteChar": '"',
            "doubleQuote": True,
            "header": True,
        },
        "tableSchema": {"columns": columns},
    }
    return json.dumps(made, ensure_ascii=False, indent=2) + "\n"


def _datatype(field: Field, settings: OutputSettings) -> Any:
    day = re.sub("yyyy|mm|dd", lambda found: _PARTS[found[0]], settings.dates)
    number: dict[str, Any] = {"format": {"decimalChar": settings.decimal}} if settings.decimal != "." else {}
    return {
        FieldType.TEXT: "string",
        FieldType.INTEGER: "integer",
        FieldType.DECIMAL: {"base": "decimal", **number} if number else "decimal",
        FieldType.REAL: {"base": "double", **number} if number else "double",
        FieldType.BOOLEAN: {"base": "boolean", "format": "true|false"},
        FieldType.DATE: {"base": "date", "format": day},
        FieldType.TIME: {"base": "time", "format": _CLOCK},
        FieldType.TIMESTAMP: {"base": "datetime", "format": f"{day} {_CLOCK}"},
    }[field.type]


def _name(text: str) -> str:
    """A field's name as the standard allows one: without signs, and not beginning with an underscore."""
    return re.sub(r"\W+", "_", text, flags=re.ASCII).strip("_") or "field"


def _free(name: str, taken: set[str]) -> str:
    found, number = name, 2
    while found in taken:
        found, number = f"{name}_{number}", number + 1
    return found
