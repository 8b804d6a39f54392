"""Rows that come back as comma-separated text, as columns of the types that the flow has them in."""

from __future__ import annotations

from collections.abc import Sequence
from typing import BinaryIO

import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType

_SOME_DAY = "1970-01-01"


def columns_of_text(text: BinaryIO, fields: Sequence[Field]) -> pa.Table:
    """Rows of CSV without a header, where only what is not quoted is blank. ValueError for a value that is
    not of its type.
    """
    from pyarrow import csv

    names = [str(number) for number in range(len(fields))]
    if not fields or not text.read(1):
        return pa.table([pa.array([], field.arrow_type) for field in fields], [f.name for f in fields])
    text.seek(0)
    read = csv.read_csv(
        text,
        csv.ReadOptions(column_names=names),
        csv.ParseOptions(newlines_in_values=True, ignore_empty_lines=False),
        csv.ConvertOptions(
            column_types=dict.fromkeys(names, pa.string()),
            strings_can_be_null=True,
            quoted_strings_can_be_null=False,
            null_values=[""],
        ),
    )
    made = [_typed(read.column(name), field) for name, field in zip(names, fields, strict=True)]
    return pa.table(made, [field.name for field in fields])


def _typed(column: pa.ChunkedArray, field: Field) -> pa.ChunkedArray:
    if field.type is FieldType.BOOLEAN:
        return pc.equal(column, "t")
    if field.type is FieldType.REAL:
        # As the standard writes them and as Arrow reads them.
        column = pc.replace_substring(column, "Infinity", "inf")
    if field.type is FieldType.TIME:
        # Arrow reads no times alone.
        column = pc.binary_join_element_wise(_SOME_DAY, column, " ").cast(pa.timestamp("us"))
    return column.cast(field.arrow_type)
