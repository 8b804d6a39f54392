"""In which values of which field some rows of a table cluster."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.insight.reason import Cluster
from keen_trellis.core.table import Cells, IndexVector, Table, spread_rows
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text, type_of_arrow

_SAMPLED = 20_000
_MOST_VALUES = 400
_LEAST_ROWS = 3
_LEAST_SHARE = 0.5
# How much more often than in all rows a value must stand among the chosen ones to be worth a word.
_LEAST_LIFT = 2.0
_MOST_TOLD = 2


def clusters(
    table: Table, rows: IndexVector, task: Task, *, but: Collection[str] = ()
) -> tuple[Cluster, ...]:
    """Values that most of the chosen rows have and few others, most telling first; none where nothing stands
    out.

    Large tables are sampled to find the fields; what is handed back is counted in all rows.  but: fields that
    are not looked at.
    """
    found: list[tuple[float, str]] = []
    if len(rows) < _LEAST_ROWS:
        return ()
    chosen, everything = spread_rows(len(rows), _SAMPLED), spread_rows(table.rows, _SAMPLED)
    for done, field in enumerate(table.fields):
        if field.name in but:
            continue
        task.checkpoint(done, len(table.fields), f"looking for clusters in {field.name}")
        cells = [table.take(numbers, [field.name])[0] for numbers in (rows[chosen], everything)]
        texts = [_grouped(entry) for entry in cells]
        coded = pa.concat_arrays(texts).dictionary_encode()
        if not 1 < len(coded.dictionary) <= _MOST_VALUES:
            continue
        codes = coded.indices.fill_null(len(coded.dictionary)).to_numpy(zero_copy_only=False)
        counts = [
            np.bincount(part, minlength=len(coded.dictionary) + 1)[:-1] / max(len(part), 1)
            for part in (codes[: len(chosen)], codes[len(chosen) :])
        ]
        best = int(np.argmax(counts[0]))
        share, usual = counts[0][best], counts[1][best]
        if share >= _LEAST_SHARE and share >= _LEAST_LIFT * usual:
            found.append((share / max(usual, 1e-9) * share, field.name))
    return tuple(
        by_field(table, rows, name)[0] for _, name in sorted(found, key=lambda entry: -entry[0])[:_MOST_TOLD]
    )


def by_field(table: Table, rows: IndexVector, name: str) -> list[Cluster]:
    """All values of one field among the chosen rows, those with the most of them first; dates by month."""
    coded = _grouped(table.column(name)).dictionary_encode()
    codes = coded.indices.fill_null(len(coded.dictionary)).to_numpy(zero_copy_only=False)
    counts = [np.bincount(part, minlength=len(coded.dictionary) + 1) for part in (codes[rows], codes)]
    values = [*coded.dictionary.to_pylist(), "blank"]
    order = [int(at) for at in np.argsort(-counts[0], kind="stable") if counts[0][at]]
    return [Cluster(name, values[at], int(counts[0][at]), int(counts[1][at])) for at in order]


def _grouped(cells: Cells) -> pa.Array:
    """Values written out, dates and moments as their month."""
    values = cells.values
    if type_of_arrow(values.type) in (FieldType.DATE, FieldType.TIMESTAMP):
        return pc.utf8_slice_codeunits(as_text(values), 0, 7)
    return as_text(values)
