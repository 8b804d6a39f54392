"""What is done to text that is ASCII throughout, on its bytes: quicker than by characters, and the same."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.ragged import repeated, running_total
from keen_trellis.core.text_bytes import bytes_of, text_of

Vector = np.ndarray[Any, Any]

_BYTES = 1 << 17  # at a time, so that what is made of them stays in the processor's cache
_NO_ASCII = 128
SPACES = "\t\n\v\f\r "
# Those of ASCII's characters that Unicode calls punctuation (General_Category P).
PUNCTUATION = "!\"#%&'()*,-./:;?@[\\]_{}"


def without(values: pa.Array, characters: str) -> pa.Array:
    """Text without certain characters, wherever they stand."""
    codes, starts = bytes_of(values)
    return _of_kept(values, codes, starts, ~_are(codes, characters))


def without_inner_spaces(values: pa.Array) -> pa.Array:
    """Text without the spaces between its first and its last other character."""
    codes, starts = bytes_of(values)
    spaces = _are(codes, SPACES)
    lengths = np.diff(starts)
    left, right = trimmed_lengths(values)
    # Of nothing but spaces each is an outer one, and trimming from both sides counts it twice.
    place = np.arange(len(codes)) - repeated(starts[:-1], lengths)
    inner = (place >= repeated(lengths - left, lengths)) & (place < repeated(right, lengths))
    return _of_kept(values, codes, starts, ~(spaces & inner))


def trimmed_lengths(values: pa.Array) -> tuple[Vector, Vector]:
    """How many bytes each text has without its spaces at the left, and at the right; 0 for a blank."""
    left, right = (
        pc.binary_length(trim(values, characters=SPACES)).fill_null(0).to_numpy(zero_copy_only=False)
        for trim in (pc.ascii_ltrim, pc.ascii_rtrim)
    )
    return left, right


def with_signs(values: pa.Array, signs: Mapping[str, str]) -> pa.Array:
    """Text with other characters in place of some. signs: for each character the one that it becomes."""
    table = np.arange(256, dtype=np.uint8)
    for character, sign in signs.items():
        table[ord(character)] = ord(sign)
    codes, starts = bytes_of(values)
    return _made(values, table[codes], starts)


def is_ascii(values: pa.Array) -> bool:
    """Whether all of the text is ASCII."""
    codes, _ = bytes_of(values)
    if all(codes[first : first + _BYTES].max() < _NO_ASCII for first in range(0, len(codes), _BYTES)):
        return True
    # Where there are blanks, bytes may be left behind them that nobody reads.
    return bool(values.null_count) and bool(pc.all(pc.string_is_ascii(values), min_count=0).as_py())


def _are(codes: Vector, characters: str) -> Vector:
    table = np.zeros(256, dtype=bool)
    table[np.frombuffer(characters.encode(), np.uint8)] = True
    found: Vector = table[codes]
    return found


def _of_kept(values: pa.Array, codes: Vector, starts: Vector, kept: Vector) -> pa.Array:
    return _made(values, codes[kept], running_total(kept)[starts])


def _made(values: pa.Array, codes: Vector, starts: Vector) -> pa.Array:
    """Text of these bytes, blank where `values` is."""
    made = text_of(codes, starts)
    if not values.null_count:
        return made
    return pc.if_else(values.is_valid(), made, pa.scalar(None, made.type))
