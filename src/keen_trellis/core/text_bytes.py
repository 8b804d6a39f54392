"""Columns of text as Arrow holds them: all bytes one text behind the other, and where each of them begins."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.parallel import block_by_block

Vector = np.ndarray[Any, Any]
WORD = 8  # bytes
# The golden ratio in 64 bits: a product with it spreads neighbours (D. Knuth, "The Art of Computer
# Programming", volume 3, 6.4).
SPREADING = np.uint64(0x9E3779B97F4A7C15)
_TOPS, _SEVENS = np.uint64(0x8080808080808080), np.uint64(0x7F7F7F7F7F7F7F7F)
_FROM_A = np.uint64(0x0101010101010101 * (0x80 - ord("A")))
_BEHIND_Z = np.uint64(0x0101010101010101 * (0x7F - ord("Z")))


def bytes_of(values: pa.Array) -> tuple[Vector, Vector]:
    """The bytes of all texts one after the other, and where each begins; one entry more, the end."""
    starts, codes = starts_of(values), held_bytes(values)
    first = starts[0]
    return codes[first : starts[-1]], starts - first if first else starts


def starts_of(values: pa.Array) -> Vector:
    """Where each of N texts begins among the bytes that are held; one entry more, the end."""
    if not len(values):
        return np.zeros(1, np.int64)
    return np.frombuffer(values.buffers()[1], np.int64)[values.offset : values.offset + len(values) + 1]


def ends_of(values: pa.Array) -> tuple[Vector, Vector]:
    """Where each of N texts begins, and where it ends, among the bytes that are held."""
    starts = starts_of(values)
    return starts[:-1], starts[1:]


def held_bytes(values: pa.Array) -> Vector:
    """All bytes that are held for a column; there may be others before its first text and behind its last."""
    return np.frombuffer(values.buffers()[2] or b"", np.uint8)


def text_of(codes: Vector, starts: Vector) -> pa.Array:
    """The texts that have these bytes, none of them blank; the inverse of `bytes_of`."""
    buffers = [None, *(pa.py_buffer(np.ascontiguousarray(part)) for part in (starts, codes))]
    return pa.Array.from_buffers(pa.large_string(), len(starts) - 1, buffers)


def with_blanks(made: pa.Array, is_filled: Vector | None) -> pa.Array:
    """What was made of the m values that are filled, as n with blanks among them.

    is_filled: bool mask of the n, with m of them true; None if all are.
    """
    if is_filled is None:
        return made
    return made.take(pa.array(np.cumsum(is_filled) - 1, mask=~is_filled))


def without_empty(values: pa.Array) -> pa.Array:
    """Texts with blanks in place of empty ones."""
    starts = starts_of(values)
    if (starts[1:] > starts[:-1]).all():
        return values
    empty = pc.equal(pc.binary_length(values), 0)
    return pc.if_else(empty, pa.scalar(None, values.type), values) if pc.any(empty).as_py() else values


class _Takeable(Protocol):
    def __len__(self) -> int: ...

    def take(self, rows: pa.Array) -> pa.Array: ...


def spread_sample(values: _Takeable, count: int) -> pa.Array:
    """So many of the values, as far apart as they can be; all of them where they are fewer."""
    rows = np.linspace(0, len(values) - 1, min(len(values), count)).astype(np.int64)
    return values.take(pa.array(np.unique(rows)))


class Words:
    """Reads words of texts out of all their bytes.

    begin, end: where each text begins and ends among the bytes, in their order, where not as it is held.
    lower: whether capital letters of ASCII stand for small ones; they are read as they are.
    """

    def __init__(
        self, values: pa.Array, begin: Vector | None = None, end: Vector | None = None, *, lower: bool = False
    ) -> None:
        data, held = held_bytes(values), ends_of(values)
        if len(data) < WORD:  # a word can be read from it
            data = np.concatenate((data, np.zeros(WORD, np.uint8)))
        self.begin = held[0] if begin is None else begin
        self.end = held[1] if end is None else end
        self._data, self.lower = data, lower
        self._last = len(data) - WORD
        self._words = np.ndarray(self._last + 1, "<u8", data, strides=(1,))

    def lengths(self, rows: slice) -> Vector:
        """Of each text its bytes."""
        found: Vector = self.end[rows] - self.begin[rows]
        return found

    def word(self, rows: slice, place: Vector | int, count: Vector | int) -> Vector:
        """Of each text the bytes from a place on, as many as are there of `count` or eight, the first of them
        the lowest; zero above them. place: not behind the end of a text.
        """
        at = self.begin[rows] + place
        if at[-1] <= self._last:
            found = self._words[at]
        else:
            # Nothing is read behind the last byte.
            within = np.minimum(at, self._last)
            beyond = np.minimum(at - within, WORD).astype(np.uint64) * np.uint64(8)
            found = np.where(beyond < 64, self._words[within] >> np.minimum(beyond, np.uint64(63)), 0)
        return lowest_bytes(found, count)

    def has_nul(self, rows: slice) -> bool:
        """Whether the character NUL is in some text of these."""
        stretch = self._data[self.begin[rows.start] : self.end[rows.stop - 1]]
        return bool(len(stretch)) and not stretch.all()


def lowered(words: Vector) -> Vector:
    """Words with small letters of ASCII in place of capital ones: all eight bytes at once."""
    low = words & _SEVENS
    # The highest bit of each byte says: from A on, and not behind Z, and ASCII.
    capital = (low + _FROM_A) & ~(low + _BEHIND_Z) & ~words & _TOPS
    found: Vector = words | (capital >> np.uint64(2))
    return found


def lowest_bytes(words: Vector, count: Vector | int) -> Vector:
    """Words of which only the lowest so many bytes are kept; count: below 0 as 0, above 8 as 8."""
    if isinstance(count, int):
        return words if count >= WORD else words & np.uint64((1 << 8 * max(count, 0)) - 1)
    bits = (np.clip(count, 0, WORD) * 8).astype(np.uint64)
    # A shift by 64 bits is none: in two steps, then.
    kept: Vector = ~(np.uint64(2**64 - 1) << (bits >> np.uint64(1)) << (bits - (bits >> np.uint64(1))))
    return words & kept


def parted(words: Words, count: int) -> Vector:
    """For each of N texts in which of so many parts (at most 256) it is, as uint8: equal ones are in the same
    one.

    It goes by the length, and the words at the beginning, in the middle and at the end.
    """
    found = np.zeros(len(words.begin), np.uint8)

    def fill(rows: slice) -> None:
        lengths = words.lengths(rows)
        last = np.maximum(lengths - WORD, 0)
        mixed = lengths.astype(np.uint64)
        whole = WORD if lengths.min() >= WORD else lengths
        for place in (0, last // 2, last):
            word = words.word(rows, place, whole)
            mixed = (mixed ^ (lowered(word) if words.lower else word)) * SPREADING
            mixed ^= mixed >> np.uint64(29)
        found[rows] = (mixed >> np.uint64(32)) % np.uint64(count)

    block_by_block(fill, len(found))
    return found
