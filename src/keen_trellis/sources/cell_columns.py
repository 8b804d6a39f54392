"""Columns of cells that arrive in batches, as databases and JSON lines hand them out, and one type for
each.
"""

from __future__ import annotations

import datetime as dt
import json
import os
import tempfile
from collections import Counter
from collections.abc import Mapping, Sequence
from contextlib import suppress
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.conversion import converted
from keen_trellis.core.errors import SourceError
from keen_trellis.core.joining import MOST_FIELDS
from keen_trellis.core.values import ARROW_TYPES, FieldType, as_text, held_as, type_of_arrow
from keen_trellis.flow.remark import Remark
from keen_trellis.sources.inference import KIND_NAMES, cell_text
from keen_trellis.sources.text_types import no_values

_TEXT = ARROW_TYPES[FieldType.TEXT]
_KINDS_OF_TYPES = {
    FieldType.TEXT: "text",
    FieldType.INTEGER: "numbers",
    FieldType.DECIMAL: "numbers",
    FieldType.REAL: "numbers",
    FieldType.BOOLEAN: "true or false",
    FieldType.DATE: "dates",
    FieldType.TIME: "times",
    FieldType.TIMESTAMP: "dates",
}
_EXACT_IN_REALS = 2**53
SPILLED_BYTES = 64 * 2**20
_BINARY = (bytes, bytearray, memoryview)
_HELD = {
    int: pa.int64(),
    float: pa.float64(),
    bool: pa.bool_(),
    str: _TEXT,
    dt.date: ARROW_TYPES[FieldType.DATE],
    dt.datetime: ARROW_TYPES[FieldType.TIMESTAMP],
    dt.time: ARROW_TYPES[FieldType.TIME],
}


class Unfit:
    """Stands for a value that no field can hold, as a date before the year 1."""


UNFIT = Unfit()


class CellColumn:
    """One column of Python values, kept as Arrow arrays from the first batch on."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.binary = False
        self._zoned = self._mixed = False
        self._unfit = 0
        self._too_long = False  # some of its numbers have more digits than a decimal holds
        self._arrays: list[pa.Array] = []
        self._kinds: Counter[str] = Counter()
        self._spilled = 0  # so many arrays are mapped from files

    def add(self, cells: Sequence[Any]) -> None:
        """The next cells; None is blank."""
        kinds = set(map(type, cells)) - {type(None)}
        if kinds & {Unfit, Decimal}:
            kept = [None if _is_unfit(cell) else cell for cell in cells]
            self._unfit += sum(cell is not None for cell in cells) - sum(cell is not None for cell in kept)
            cells, kinds = kept, set(map(type, kept)) - {type(None)}
        if kinds & set(_BINARY):
            self.binary = True
            self._arrays.append(pa.nulls(len(cells), _TEXT))
            return
        if any(kind not in _HELD and kind is not Decimal for kind in kinds):
            cells = [
                cell if type(cell) in _HELD or type(cell) is Decimal else _as_known(cell) for cell in cells
            ]
            kinds = set(map(type, cells)) - {type(None)}
        if dt.datetime in kinds and any(type(cell) is dt.datetime and cell.tzinfo for cell in cells):
            self._zoned = True
            cells = [_in_utc(cell) for cell in cells]
        if str in kinds:
            # As in sheets and text files, an empty text is blank.
            cells = [None if cell == "" else cell for cell in cells]
        if len(kinds) == 1:
            kind = next(iter(kinds))
            self._keep(kind, cells)
            return
        if not kinds:
            self._arrays.append(pa.nulls(len(cells)))
            return
        # Cells of several kinds: each stands by itself until it is known what the whole column is.
        for kind in kinds:
            self._kinds[KIND_NAMES.get(kind, "dates")] += sum(type(cell) is kind for cell in cells)
        if kinds <= {int, float} and all(_is_exact(cell) for cell in cells):
            self._arrays.append(
                pa.array([None if cell is None else float(cell) for cell in cells], pa.float64())
            )
        elif kinds <= {int, float, Decimal}:
            self._arrays.append(self._exactly(cells))
        elif kinds <= {dt.date, dt.datetime}:
            self._arrays.append(pa.array([_as_moment(cell) for cell in cells], _HELD[dt.datetime]))
        else:
            self._mixed = True
            texts = [None if cell is None else cell_text(cell) for cell in cells]
            self._arrays.append(pa.array(texts, _TEXT))

    def add_at(self, places: Sequence[int], cells: Sequence[Any], rows: int) -> None:
        """The next `rows` cells, of which only those at some places are there, in this order."""
        if len(cells) == rows:
            self.add(cells)
        elif not cells:
            self._arrays.append(pa.nulls(rows))
        else:
            self.add(cells)
            taken = np.full(rows, -1)
            taken[places] = np.arange(len(places))
            self._arrays[-1] = self._arrays[-1].take(pa.array(taken, mask=taken < 0))

    def _keep(self, kind: type, cells: Sequence[Any]) -> None:
        try:
            array = pa.array(cells, _HELD.get(kind))
        except (pa.ArrowInvalid, OverflowError):
            array = self._exactly(cells)
        if pa.types.is_decimal256(array.type):
            array = self._exactly(cells)
        self._kinds[KIND_NAMES.get(kind, "dates")] += len(array) - array.null_count
        self._arrays.append(array)

    def _exactly(self, cells: Sequence[Any]) -> pa.Array:
        """Numbers as decimals that hold all of their digits; where none does, as text, which is said."""
        numbers = [None if cell is None else _as_decimal(cell) for cell in cells]
        with suppress(pa.ArrowInvalid):
            array = pa.array(numbers)
            if not pa.types.is_decimal256(array.type):
                return array
        self._too_long = True
        return pa.array([None if number is None else f"{number:f}" for number in numbers], _TEXT)

    @property
    def held(self) -> int:
        """How many bytes of it are in memory."""
        return sum(array.nbytes for array in self._arrays[self._spilled :])

    def write(self, file: pa.NativeFile) -> list[int]:
        """Write what is in memory; where each array begins in the file."""
        places = []
        for array in self._arrays[self._spilled :]:
            places.append(file.tell())
            batch = pa.record_batch([array], names=["cells"])
            with pa.ipc.new_stream(file, batch.schema) as writer:
                writer.write_batch(batch)
        return places

    def map(self, mapped: pa.MemoryMappedFile, places: Sequence[int]) -> None:
        """Take what was in memory from the file that it was written to."""
        for number, place in enumerate(places, self._spilled):
            mapped.seek(place)
            self._arrays[number] = pa.ipc.open_stream(mapped).read_next_batch().column(0)
        self._spilled = len(self._arrays)

    def finished(self) -> tuple[pa.ChunkedArray, list[Remark]]:
        """The whole column in one type, and what there is to say about it."""
        made, said = in_one_type(self.name, self._arrays, self._kinds, mixed=self._mixed)
        said += no_numbers_said({self.name: count_no_numbers(made)})
        if self._unfit:
            values = "1 value is" if self._unfit == 1 else f"{self._unfit:,} values are"
            text = f"{values} blank, since no field can hold it: infinite, or outside of the years 1 to 9999"
            said.append(Remark(text, field=self.name, doubtful=True))
        if self._too_long:
            text = "has numbers of more than 38 digits, which no number here holds; read as text"
            said = [entry for entry in said if "several kinds" not in entry.text]
            said.append(Remark(text, field=self.name, doubtful=True))
        if self._zoned:
            said.append(Remark("moments with a time zone; shown in UTC", field=self.name))
        return made, said


def check_width(fields: int, where: str) -> None:
    """SourceError for a table of more fields than the program works with."""
    if fields > MOST_FIELDS:
        raise SourceError(
            f"It has more than {MOST_FIELDS:,} fields, which is the limit.",
            where=where,
            remedy="Export only the fields that are needed.",
        )


def count_no_numbers(values: pa.Array | pa.ChunkedArray) -> int:
    """How many reals are NaN, which a file may hold and nobody sees."""
    return int(pc.sum(pc.is_nan(values)).as_py() or 0) if pa.types.is_floating(values.type) else 0


def no_numbers_said(counts: Mapping[str, int]) -> list[Remark]:
    """The notes on fields that have NaN."""
    return [
        Remark(
            f"{'1 value is' if count == 1 else f'{count:,} values are'} NaN (not a number): no blank, "
            "equal to each other and above all numbers",
            field=name,
            doubtful=True,
        )
        for name, count in counts.items()
        if count
    ]


def spill(columns: Sequence[CellColumn], room: Path) -> None:
    """Move what columns hold in memory into a file in `room`, from which it is mapped, if it is much."""
    if sum(column.held for column in columns) > SPILLED_BYTES:
        handle, path = tempfile.mkstemp(dir=room, suffix=".cells")
        os.close(handle)
        with pa.OSFile(path, "wb") as file:
            places = [column.write(file) for column in columns]
        mapped = pa.memory_map(path)
        for column, own in zip(columns, places, strict=True):
            column.map(mapped, own)


def in_one_type(
    name: str, arrays: Sequence[pa.Array], kinds: Counter[str] | None = None, *, mixed: bool = False
) -> tuple[pa.ChunkedArray, list[Remark]]:
    """Arrays of several types as one column: the type that holds all of them, or text, which is said.

    kinds: how many values are of which kind, if that was counted.  mixed: arrays of text hold other kinds
    too.
    """
    types = {array.type for array in arrays if array.null_count < len(array)}
    if not types:
        rows = sum(map(len, arrays))
        return pa.chunked_array([pa.nulls(rows, _TEXT)]), [no_values(name)] if rows else []
    common = _common(types)
    typed = [array for array in arrays if not pa.types.is_null(array.type)]
    if common == pa.float64() and any(map(_is_rounded, typed)):
        common = _exact_common(typed)  # a number that no real is exactly stays what it is
    remarks = []
    if mixed or (common == _TEXT and len(types) > 1):
        if kinds is None:
            kinds = Counter()
            for array in arrays:
                kinds[_KINDS_OF_TYPES[type_of_arrow(array.type)]] += len(array) - array.null_count
        said = ", ".join(f"{count:,} {kind}" for kind, count in kinds.most_common() if count)
        remarks.append(Remark(f"cells of several kinds ({said}); read as text", field=name, doubtful=True))
    return pa.chunked_array([_as(array, common) for array in arrays], common), remarks


def _is_rounded(numbers: pa.Array) -> bool:
    """Whether some of these are no reals exactly."""
    made = converted(numbers, FieldType.REAL)
    if made.count or not pa.types.is_decimal(numbers.type):
        return bool(made.count)
    back = converted(made.values, FieldType.DECIMAL)
    wide = pa.decimal256(76, 38)
    return bool(back.count) or not pc.all(pc.equal(back.values.cast(wide), numbers.cast(wide))).as_py()


def _exact_common(arrays: Sequence[pa.Array]) -> pa.DataType:
    """The decimals that hold numbers of several types exactly; text if none do."""
    decimals = [converted(array, FieldType.DECIMAL) for array in arrays if array.null_count < len(array)]
    if any(made.count for made in decimals):
        return _TEXT
    return _common({made.values.type for made in decimals})


def _as(array: pa.Array, common: pa.DataType) -> pa.Array:
    if array.type == common:
        return array
    if pa.types.is_null(array.type) or array.null_count == len(array):
        return pa.nulls(len(array), common)
    if common == _TEXT:
        return as_text(array)
    if common == pa.float64():
        return converted(array, FieldType.REAL).values
    if pa.types.is_decimal(common) and pa.types.is_floating(array.type):
        return held_as(converted(array, FieldType.DECIMAL).values, common)
    return held_as(array, common)


def _common(types: set[pa.DataType]) -> pa.DataType:
    """The type that holds all values of some types; text if only that does."""
    if len(types) == 1:
        return next(iter(types))
    decimals = [kind for kind in types if pa.types.is_decimal(kind)]
    others = types - set(decimals)
    if others <= {pa.int64(), pa.float64()}:
        if pa.float64() in others:
            return pa.float64()
        scale = max(kind.scale for kind in decimals)
        whole = max([kind.precision - kind.scale for kind in decimals] + [19] * len(others))
        return pa.decimal128(whole + scale, scale) if whole + scale <= 38 else _TEXT
    if types <= {_HELD[dt.date], _HELD[dt.datetime]}:
        return _HELD[dt.datetime]
    return _TEXT


def _is_exact(cell: Any) -> bool:
    """Whether a number, or a blank, is a real."""
    return type(cell) is not int or abs(cell) <= _EXACT_IN_REALS


def _as_decimal(cell: Any) -> Decimal:
    return Decimal(repr(cell)) if type(cell) is float else Decimal(cell)


def _is_unfit(cell: Any) -> bool:
    return cell is UNFIT or (type(cell) is Decimal and not cell.is_finite())


def _as_known(cell: Any) -> Any:
    """A value of a type that fields do not have, as one that they have."""
    if cell is None or isinstance(cell, (list, dict, tuple)):
        return None if cell is None else json.dumps(cell, ensure_ascii=False, default=str)
    # Subclasses of the plain types, as some drivers hand them out.
    return int(cell) if isinstance(cell, int) else float(cell) if isinstance(cell, float) else str(cell)


def _as_moment(cell: Any) -> Any:
    return dt.datetime.combine(cell, dt.time()) if type(cell) is dt.date else cell


def _in_utc(cell: Any) -> Any:
    if type(cell) is dt.datetime and cell.tzinfo is not None:
        return cell.astimezone(dt.UTC).replace(tzinfo=None)
    return cell
