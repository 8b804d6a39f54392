"""Text in ASCII of which case or outer spaces are ignored, prepared where it is read: nothing is copied."""

from __future__ import annotations

from functools import cached_property
from typing import TypeAlias

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.ascii_text import SPACES, trimmed_lengths
from keen_trellis.core.parallel import BLOCK, block_by_block, mapped
from keen_trellis.core.text_bytes import Vector, Words, ends_of, held_bytes, without_empty
from keen_trellis.core.values import one_array

_SPACE, _TAB, _RETURN = np.frombuffer(b" \t\r", np.uint8)  # those between the last two are spaces, too

_FEW = 4  # outer spaces that are taken off one by one; more of them by Arrow


class Folded:
    """N texts, all of them ASCII, as they are compared. What is empty then is blank."""

    def __init__(self, values: pa.Array, *, case: bool, outer_spaces: bool) -> None:
        self._raw, self._case, self._outer = values, case, outer_spaces
        self._begin, self._end = _inside(values) if outer_spaces else ends_of(values)

    def __len__(self) -> int:
        return len(self._raw)

    @property
    def type(self) -> pa.DataType:
        return self._raw.type

    @cached_property
    def filled(self) -> Vector:
        """Bool of N: which are not blank."""
        found: Vector = self._end > self._begin
        if self._raw.null_count:
            found &= self._raw.is_valid().to_numpy(zero_copy_only=False)
        return found

    @cached_property
    def written(self) -> pa.Array:
        """The texts themselves."""
        return one_array(pa.chunked_array(mapped(self._as_prepared, self._raw), self.type))

    def chunks(self, rows: slice) -> list[pa.Array]:
        """A stretch of the texts themselves, in chunks that are prepared in the processor's cache."""
        firsts = range(rows.start, rows.stop, BLOCK)
        return [self._as_prepared(self._raw.slice(first, min(BLOCK, rows.stop - first))) for first in firsts]

    def take(self, rows: pa.Array) -> pa.Array:
        """Some of the texts themselves."""
        return self._as_prepared(self._raw.take(rows))

    @property
    def words(self) -> Words:
        """What reads words of the texts as they are compared."""
        return Words(self._raw, self._begin, self._end, lower=self._case)

    def _as_prepared(self, values: pa.Array) -> pa.Array:
        if self._case:
            values = pc.ascii_lower(values)
        if self._outer:
            values = pc.ascii_trim(values, characters=SPACES)
        return without_empty(values)


Texts: TypeAlias = pa.Array | Folded


def words_of(texts: Texts) -> Words:
    """What reads words of texts as they are compared."""
    return texts.words if isinstance(texts, Folded) else Words(texts)


def written(texts: Texts) -> pa.Array:
    """Texts as Arrow holds them."""
    return texts.written if isinstance(texts, Folded) else texts


def filled(values: Texts) -> Vector:
    """Which values are not blank."""
    if isinstance(values, Folded):
        return values.filled
    if not values.null_count:
        return np.ones(len(values), dtype=bool)
    return np.asarray(pc.is_valid(values).to_numpy(zero_copy_only=False), dtype=bool)


def _inside(values: pa.Array) -> tuple[Vector, Vector]:
    """Where each text begins and ends without its outer spaces, among the bytes that are held."""
    data, held = held_bytes(values), ends_of(values)
    if not len(data):
        return held
    begin, end = (np.empty(len(values), np.int64) for _ in held)

    def are_spaces(at: Vector) -> Vector:
        found = data.take(at, mode="clip")
        made: Vector = (found == _SPACE) | (found - _TAB <= _RETURN - _TAB)
        return made

    def narrow(rows: slice) -> None:
        first, last = begin[rows], end[rows]
        first[:], last[:] = held[0][rows], held[1][rows]
        for ends, place, move in ((first, 0, np.add), (last, -1, np.subtract)):
            for _ in range(_FEW):
                spaces = (last > first) & are_spaces(ends + place)
                move(ends, spaces, out=ends)
                if not spaces.any():
                    break
        more = np.flatnonzero((last > first) & (are_spaces(first) | are_spaces(last - 1)))
        if len(more):
            texts = values.slice(rows.start, len(first)).take(pa.array(more))
            left, right = trimmed_lengths(texts)
            first[more] = held[1][rows][more] - left
            last[more] = np.maximum(held[0][rows][more] + right, first[more])

    block_by_block(narrow, len(values))
    return begin, end
