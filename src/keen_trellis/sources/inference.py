"""Finds the type of a field of cells that have types already, as sheets and databases hand them out."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.conversion import PLACEHOLDERS
from keen_trellis.core.values import ARROW_TYPES, FieldType, shortest_number
from keen_trellis.flow.remark import Place, Remark
from keen_trellis.sources.headers import blank
from keen_trellis.sources.text_types import MOST_PLACES, RowNumbers, no_values, text_doubts

_LARGEST_EXACT = 2**53


def column_of_cells(
    cells: Sequence[Any],
    name: str,
    places: RowNumbers,
    *,
    blanks: Sequence[str] | None = None,
    kept_as_text: bool = False,
) -> tuple[pa.Array, list[Remark]]:
    """One column of Python values as a typed array. Blank are None, empty text, and the words in `blanks`.

    Without `blanks`, the usual words for it are blank where they alone keep a field from being of one type.
    kept_as_text: write all values out, since their type is to be set afterwards.
    """
    kinds = set(map(type, cells))
    if blanks and str in kinds:
        cells = ["" if cell in blanks else cell for cell in cells]
    if kinds == {str}:
        array = pa.array(cells, ARROW_TYPES[FieldType.TEXT])
        array = pc.if_else(pc.equal(array, ""), pa.scalar(None, array.type), array)
        if array.null_count == len(array):
            return array, [no_values(name)]
        return array, [] if kept_as_text else text_doubts(array, name)
    if kinds == {float} and not kept_as_text:
        return _whole_or_real(pa.array(np.array(cells, dtype=np.float64))), []
    values = [None if blank(cell) else cell for cell in cells]
    kinds = set(map(type, values)) - {type(None)}
    remarks: list[Remark] = []
    if blanks is None and len(kinds) > 1 and str in kinds and not kept_as_text:
        values, remarks = _without_placeholders(values, name)
        kinds = set(map(type, values)) - {type(None)}
    if not kinds:
        return pa.nulls(len(values), ARROW_TYPES[FieldType.TEXT]), [no_values(name)]
    if not kept_as_text:
        for known, held in _HELD_AS:
            if kinds <= known:
                return held(values), remarks
        if kinds != {str}:
            remarks.append(_mixed(values, name, places))
    texts = [None if value is None else cell_text(value) for value in values]
    array = pa.array(texts, ARROW_TYPES[FieldType.TEXT])
    if kinds == {str} and not kept_as_text:
        remarks += text_doubts(array, name)
    return array, remarks


def _without_placeholders(values: list[Any], name: str) -> tuple[list[Any], list[Remark]]:
    """The values without words for "nothing known", if these are the only texts among them."""
    words = Counter(value for value in values if type(value) is str)
    if not set(words) <= set(PLACEHOLDERS):
        return values, []
    said = ", ".join(f"{count:,} “{word}”" for word, count in sorted(words.items()))
    kept = [None if type(value) is str else value for value in values]
    return kept, [Remark(f"{said} counted as blank", field=name)]


def _numbers(values: Sequence[Any]) -> pa.Array:
    integers = all(type(value) is int for value in values if value is not None)
    if integers and all(abs(value) < 2**63 for value in values if value is not None):
        return pa.array(values, pa.int64())
    return _whole_or_real(
        pa.array([None if value is None else float(value) for value in values], pa.float64())
    )


def _whole_or_real(reals: pa.Array) -> pa.Array:
    """Sheets know only reals: those that are all whole, and exact as such, are integers."""
    numbers = reals.fill_null(0).to_numpy(zero_copy_only=False)
    with np.errstate(invalid="ignore"):
        whole = np.all((np.floor(numbers) == numbers) & (np.abs(numbers) <= _LARGEST_EXACT))
    return reals.cast(pa.int64()) if whole else reals


def _moments(values: Sequence[Any]) -> pa.Array:
    midnight = dt.time()
    only_dates = all(
        value is None or not isinstance(value, dt.datetime) or value.time() == midnight for value in values
    )
    if only_dates:
        days = [value.date() if isinstance(value, dt.datetime) else value for value in values]
        return pa.array(days, ARROW_TYPES[FieldType.DATE])
    moments = [
        dt.datetime.combine(value, midnight)
        if value is not None and not isinstance(value, dt.datetime)
        else value
        for value in values
    ]
    return pa.array(moments, ARROW_TYPES[FieldType.TIMESTAMP])


def cell_text(value: Any) -> str:
    """A cell's value as text: numbers in their shortest form, dates and times as ISO 8601 has them."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, (int, float, Decimal)):
        return shortest_number(value)
    if isinstance(value, dt.datetime) and value.time() == dt.time():
        return value.date().isoformat()
    if isinstance(value, dt.datetime):
        return value.isoformat(" ")
    if isinstance(value, (dt.date, dt.time)):
        return value.isoformat()
    return str(value)


_HELD_AS: tuple[tuple[set[type], Callable[[Sequence[Any]], pa.Array]], ...] = (
    ({int, float}, _numbers),
    ({bool}, lambda values: pa.array(values, ARROW_TYPES[FieldType.BOOLEAN])),
    ({dt.datetime, dt.date}, _moments),
    ({dt.time}, lambda values: pa.array(values, ARROW_TYPES[FieldType.TIME])),
)
KIND_NAMES: dict[type, str] = {
    str: "text",
    int: "numbers",
    float: "numbers",
    Decimal: "numbers",
    bool: "true or false",
    dt.date: "dates",
    dt.time: "times",
}


def _kind_of(value: Any) -> str:
    moment = "times" if isinstance(value, (dt.time, dt.timedelta)) else "dates"
    return KIND_NAMES.get(type(value), moment)


def _mixed(values: Sequence[Any], name: str, places: RowNumbers) -> Remark:
    """How many cells are of which kind, and where those of all but the commonest stand."""
    kinds = [None if value is None else _kind_of(value) for value in values]
    counts = Counter(kind for kind in kinds if kind is not None).most_common()
    said = ", ".join(f"{count:,} {kind}" for kind, count in counts)
    odd = [row for row, kind in enumerate(kinds) if kind is not None and kind != counts[0][0]]
    return Remark(
        f"cells of several kinds ({said}); read as text",
        field=name,
        doubtful=True,
        places=tuple(Place(places.of(row), cell_text(values[row])) for row in odd[:MOST_PLACES]),
    )
