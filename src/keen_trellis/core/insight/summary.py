"""What a field holds: blanks, distinct values, least and greatest, the commonest, and patterns of
characters.
"""

from __future__ import annotations

from collections.abc import Iterable
from decimal import Decimal
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.table import Cells, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, shown_text, type_of_arrow

_COMMONEST = 5
_PATTERNS = 3


class Share(msgspec.Struct, frozen=True):
    """A value, or a pattern, as text, and how many rows have it."""

    text: str
    rows: int


class Summary(msgspec.Struct, frozen=True):
    """What one field holds.

    rows, blanks, absent, distinct: counts; blanks are those of the source, absent those without a partner.
    least, greatest: as text, "" where there is no value.  commonest: only values that stand in several rows.
    patterns: for text, upper case as A, lower case as a, digits as 9; a run of more than four as A+.
    """

    name: str
    type: FieldType
    rows: int
    blanks: int
    absent: int
    distinct: int
    least: str = ""
    greatest: str = ""
    commonest: tuple[Share, ...] = ()
    patterns: tuple[Share, ...] = ()

    @property
    def filled(self) -> int:
        return self.rows - self.blanks - self.absent

    @property
    def is_unique(self) -> bool:
        """Whether every row has a value that no other row has."""
        return self.rows > 0 and self.distinct == self.rows


def summary(table: Table, name: str, task: Task | None = None) -> Summary:
    """The summary of one field of a table, over all its rows."""
    task = task or Task()
    task.checkpoint(0, 0, f"summing up {name}")
    field, cells = table.field(name), table.column(name)
    codes, values = _coded(cells)
    counts = np.bincount(codes[codes >= 0], minlength=len(values))
    absent = 0 if cells.absent is None else int(cells.absent.sum())
    blanks = len(codes) - int(counts.sum()) - absent
    task.checkpoint()
    least, greatest = _ends(values)
    return Summary(
        name,
        field.type,
        len(codes),
        blanks,
        absent,
        len(values),
        least,
        greatest,
        tuple(share for share in _shares(values, counts, _COMMONEST) if share.rows > 1),
        _patterns(values, counts, task) if field.type is FieldType.TEXT else (),
    )


def commonest(table: Table, name: str, most: int) -> tuple[Share, ...]:
    """Up to `most` values of a field with the rows that have them, the commonest first."""
    codes, values = _coded(table.column(name))
    return _shares(values, np.bincount(codes[codes >= 0], minlength=len(values)), most)


def values_in_order(table: Table, name: str, most: int) -> tuple[Share, ...]:
    """As `commonest`, but dates, times and numbers from the least to the greatest."""
    found = commonest(table, name, most)
    by_text = {share.text: share for share in found}
    order = in_their_order(by_text, table.field(name).type)
    return found if order is None else tuple(by_text[text] for text in order)


def in_their_order(texts: Iterable[str], kind: FieldType) -> list[str] | None:
    """Dates, times or numbers, as they are written, from the least to the greatest; None for other types."""
    if kind.is_moment or kind is FieldType.TIME:
        return sorted(texts)  # ISO 8601: their order is that of their texts
    if not kind.is_number:
        return None
    numbers = {text: Decimal(text) for text in texts}
    return sorted(numbers, key=lambda text: (numbers[text].is_nan(), numbers[text], text))


def _coded(cells: Cells) -> tuple[np.ndarray[Any, np.dtype[Any]], pa.Array]:
    """A code for each row (-1 for none) and the distinct values that they stand for."""
    encoded = cells.values.dictionary_encode()
    codes = encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False)
    return codes, encoded.dictionary


def _ends(values: pa.Array) -> tuple[str, str]:
    if not len(values):
        return "", ""
    kept = values
    if pa.types.is_floating(values.type):
        # NaN is above all numbers, and no number that anybody looks for.
        kept = values.filter(pc.invert(pc.is_nan(values)))
        kept = kept if len(kept) else values
    if type_of_arrow(values.type) is FieldType.TIME:
        kept = kept.cast(pa.int64())
        order = pc.array_sort_indices(kept)
        chosen = values.take(pa.array([order[0].as_py(), order[-1].as_py()]))
    else:
        ends = pc.min_max(kept)
        chosen = pa.array([ends["min"].as_py(), ends["max"].as_py()], values.type)
    least, greatest = shown_text(chosen).to_pylist()
    return least, greatest


def _shares(values: pa.Array, counts: np.ndarray[Any, np.dtype[Any]], most: int) -> tuple[Share, ...]:
    order = _largest(counts, most)
    texts = shown_text(values.take(pa.array(order))).to_pylist()
    return tuple(Share(text, int(counts[place])) for text, place in zip(texts, order, strict=True))


def _largest(counts: np.ndarray[Any, np.dtype[Any]], most: int) -> np.ndarray[Any, np.dtype[Any]]:
    """The places of the largest counts, largest first, the earlier first among equals."""
    if len(counts) > most:
        candidates = np.flatnonzero(counts >= np.partition(counts, -most)[-most])
    else:
        candidates = np.arange(len(counts))
    order = candidates[np.argsort(-counts[candidates], kind="stable")]
    found: np.ndarray[Any, np.dtype[Any]] = order[:most]
    return found


def _patterns(values: pa.Array, counts: np.ndarray[Any, np.dtype[Any]], task: Task) -> tuple[Share, ...]:
    """Found on distinct values, and counted by rows."""
    shapes = values
    for expression, sign in (
        (r"\p{Lu}", "A"),
        (r"\p{Ll}|\p{Lo}", "a"),
        (r"\p{Nd}", "9"),
        ("A{5,}", "A+"),
        ("a{5,}", "a+"),
        ("9{6,}", "9+"),
    ):
        task.checkpoint()
        shapes = pc.replace_substring_regex(shapes, expression, sign)
    encoded = shapes.dictionary_encode()
    rows = np.bincount(encoded.indices.to_numpy(zero_copy_only=False), weights=counts).astype(np.int64)
    order = _largest(rows, _PATTERNS)
    texts = encoded.dictionary.take(pa.array(order)).to_pylist()
    return tuple(Share(text, int(rows[place])) for text, place in zip(texts, order, strict=True))
