"""The rows of a table by the values of a field."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import DataError
from keen_trellis.core.ordering import in_order
from keen_trellis.core.table import IndexVector, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import as_text

MOST_PARTS = 1_000


def rows_by_value(table: Table, name: str, task: Task) -> list[tuple[str | None, IndexVector]]:
    """For each value of a field, as text and in the order in which they come first, its rows in their order.

    A blank and a cell without partner are None. DataError for more than MOST_PARTS values.
    """
    dictionaries, codes = pa.array([], pa.large_string()), []
    for cells in table.batches([name]):
        task.checkpoint(0, 0, f"telling the values of {name} apart")
        text = as_text(cells[0].values).cast(pa.large_string())
        dictionaries = pc.unique(pa.concat_arrays([dictionaries, text]))
        if len(dictionaries) > MOST_PARTS:
            raise DataError(
                f"{name} has more than {MOST_PARTS:,} values.",
                remedy="Choose a field of fewer values, or keep fewer rows.",
            )
        codes.append(pc.index_in(text, dictionaries).to_numpy(zero_copy_only=False).astype(np.int32))
    every = np.concatenate(codes) if codes else np.zeros(0, np.int32)
    order = in_order(every)
    bounds = np.searchsorted(every[order], np.arange(len(dictionaries) + 1))
    return [
        (value, order[bounds[code] : bounds[code + 1]]) for code, value in enumerate(dictionaries.to_pylist())
    ]
