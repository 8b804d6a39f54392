"""One row for each part of a text: what stands in one cell as a list becomes rows."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import UsageError
from keen_trellis.core.joining import check_rows
from keen_trellis.core.preparing import WHITE_SPACE
from keen_trellis.core.ragged import laid_out
from keen_trellis.core.table import Cells, ChosenRows, Field, OverlaidTable, Table, find_field
from keen_trellis.core.task import Task
from keen_trellis.core.text_actions import check_new, check_texts
from keen_trellis.core.values import ARROW_TYPES, FieldType, as_text

_NUMBER = ARROW_TYPES[FieldType.INTEGER]


def fields_of_parts(fields: Sequence[Field], of: str, between: str, number: str = "") -> tuple[Field, ...]:
    """The fields of `rows_of_parts`: the same, and behind the text its part's number where that has a name.

    UsageError where it cannot be divided.
    """
    if not of:
        raise UsageError("It is not said which text is divided.", remedy="Choose one.")
    field = find_field(fields, of)
    check_texts(fields, [field.name])
    if not between:
        raise UsageError("It is not said what divides the parts.", remedy="Give a character or a word.")
    if not number:
        return tuple(fields)
    check_new(fields, [number])
    place = [entry.name for entry in fields].index(field.name) + 1
    return (*fields[:place], Field(number, _NUMBER), *fields[place:])


def rows_of_parts(table: Table, of: str, between: str, number: str, task: Task) -> OverlaidTable:
    """The rows of a table, each as often as a text of it has parts, with one of them in each.

    between: what divides them.  number: the field that says the how many-th part of its row it is, from 1;
    "" for none. White space around a part does not belong to it; what is empty then is no part. A row without
    any stays once, with a blank there. The rows stay in their order, the parts in theirs. Cancelled.
    """
    fields = fields_of_parts(table.fields, of, between, number)
    field = find_field(table.fields, of)
    task.checkpoint(0, 2, f"dividing {field.name}")
    cells = table.column(field.name)
    texts = as_text(cells.values)
    if texts.null_count == len(texts):
        parts, owners = pa.nulls(0, field.arrow_type), np.zeros(0, np.int64)
    else:
        divided = pc.split_pattern(texts, pattern=between)
        parts = pc.utf8_trim(pc.list_flatten(divided), characters=WHITE_SPACE)
        is_part = pc.not_equal(parts, "")
        owners = pc.list_parent_indices(divided).filter(is_part).to_numpy(zero_copy_only=False)
        parts = parts.filter(is_part).cast(field.arrow_type)
    task.checkpoint(1, 2, f"dividing {field.name}")
    counts = np.bincount(owners, minlength=table.rows)
    spans = np.maximum(counts, 1)
    check_rows("It", int(spans.sum()), "Filter before it, or divide at something else.")
    rows, place = laid_out(spans)
    is_blank = counts[rows] == 0
    found = parts.take(pa.array(np.cumsum(~is_blank) - 1, mask=is_blank))
    absent = cells.absent[rows] if cells.absent is not None else None
    made = {field.name: Cells(found, absent)}
    if number:
        made[number] = Cells(pa.array(place + 1, _NUMBER, mask=is_blank), absent)
    return OverlaidTable(ChosenRows(table, rows), fields, made)
