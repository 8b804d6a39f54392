"""Prepared link fields to integer codes: equal values of both sides get the same code.

The smaller side's distinct values are numbered and the other side's are looked up among them, so
that nothing is ever compared by a hash alone or by strings glued together.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.link import LinkField, Preparation
from keen_trellis.core.table import Cells, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import ARROW_TYPES, FieldType, type_of_arrow, unscaled

Codes = np.ndarray[Any, np.dtype[Any]]

# The code points with the Unicode property White_Space.
WHITE_SPACE = (
    "\t\n\v\f\r \x85\xa0\u1680\u2000\u2001\u2002\u2003\u2004\u2005\u2006\u2007\u2008\u2009\u200a"
    "\u2028\u2029\u202f\u205f\u3000"
)
_ASCII_SPACE = "\t\n\v\f\r "
_LARGEST_CODE = np.iinfo(np.int64).max


@dataclass(frozen=True)
class Encoded:
    """Codes of the link fields of both sides.

    left, right: one code a row, 0 <= code < size, or -1 for a row that can match nothing.
    left_blank, right_blank: rows in which some link field is blank or without partner.
    """

    left: Codes
    right: Codes
    size: int
    left_blank: int
    right_blank: int


def encode(left: Table, right: Table, links: Sequence[LinkField], task: Task | None = None) -> Encoded:
    """Codes for all `links` together, which must have passed `check_links`."""
    task = task or Task()
    left_codes: Codes | None = None
    right_codes: Codes | None = None
    size = 1
    left_filled = np.ones(left.rows, dtype=bool)
    right_filled = np.ones(right.rows, dtype=bool)
    for done, link in enumerate(links):
        task.checkpoint(done, len(links), f"comparing {link.left} with {link.right}")
        one = prepare(left.column(link.left), link.preparation)
        other = prepare(right.column(link.right), link.preparation)
        left_filled &= _filled(one)
        right_filled &= _filled(other)
        one, other = _same_footing(one, other)
        one_codes, other_codes, link_size = _codes_of(one, other)
        if left_codes is None or right_codes is None:
            left_codes, right_codes, size = one_codes, other_codes, link_size
        else:
            left_codes, right_codes, size = _combine(
                left_codes, right_codes, size, one_codes, other_codes, link_size
            )
    assert left_codes is not None and right_codes is not None, "check_links refuses a join without links"
    return Encoded(
        left_codes,
        right_codes,
        size,
        left.rows - int(left_filled.sum()),
        right.rows - int(right_filled.sum()),
    )


def prepare(cells: Cells, preparation: Preparation) -> pa.Array:
    """The values as they are compared. Only text is changed; empty text becomes blank."""
    values = cells.values
    if type_of_arrow(values.type) is not FieldType.TEXT or not len(values):
        return values
    if preparation:
        ascii_only = pc.all(pc.string_is_ascii(values), min_count=0).as_py()
        if ascii_only:
            values = pc.ascii_lower(values) if preparation.case else values
        elif preparation.case:
            values = _on_distinct(values, _casefold)
        if preparation.outer_spaces:
            trim = pc.ascii_trim if ascii_only else pc.utf8_trim
            values = trim(values, characters=_ASCII_SPACE if ascii_only else WHITE_SPACE)
    empty = pc.equal(pc.binary_length(values), 0)
    if pc.any(empty).as_py():
        values = pc.if_else(empty, pa.scalar(None, values.type), values)
    return values


def _on_distinct(values: pa.Array, change: Any) -> pa.Array:
    coded = values.dictionary_encode()
    return change(coded.dictionary).take(coded.indices)


def _casefold(values: pa.Array) -> pa.Array:
    """Full Unicode case folding (Unicode 15, chapter 3.13, toCasefold) of distinct values.

    Folding looks at one character at a time, so that all values are folded as one text, with a
    character between them that no value contains.
    """
    texts = values.to_pylist()
    if not texts:
        return values
    whole = "".join(texts)
    separator = next(chr(code) for code in range(1, 0xD800) if chr(code) not in whole)
    return pa.array(separator.join(texts).casefold().split(separator), pa.large_string())


def _filled(values: pa.Array) -> np.ndarray[Any, np.dtype[np.bool_]]:
    if not values.null_count:
        return np.ones(len(values), dtype=bool)
    return np.asarray(pc.is_valid(values).to_numpy(zero_copy_only=False), dtype=bool)


def _same_footing(left: pa.Array, right: pa.Array) -> tuple[pa.Array, pa.Array]:
    """Both sides as arrays of one type in which equal values, and only those, are equal."""
    kinds = (type_of_arrow(left.type), type_of_arrow(right.type))
    if kinds[0] is kinds[1] is FieldType.TEXT or kinds[0] is kinds[1] is FieldType.BOOLEAN:
        return left, right
    if FieldType.TIMESTAMP in kinds:
        moment = ARROW_TYPES[FieldType.TIMESTAMP]
        return left.cast(moment).view(pa.int64()), right.cast(moment).view(pa.int64())
    if kinds[0] is kinds[1] is FieldType.DATE:
        return left.view(pa.int32()).cast(pa.int64()), right.view(pa.int32()).cast(pa.int64())
    if kinds[0] is kinds[1] is FieldType.TIME:
        return left.view(pa.int64()), right.view(pa.int64())
    if FieldType.REAL in kinds:
        return _against_real(left, right)
    if FieldType.DECIMAL in kinds:
        scale = max(values.type.scale for values in (left, right) if pa.types.is_decimal(values.type))
        return _at_scale(left, right, scale)
    return left, right


def _against_real(left: pa.Array, right: pa.Array) -> tuple[pa.Array, pa.Array]:
    """Reals beside reals, decimals or integers, as integers that are equal where the values are.

    A decimal equals the real that is its correctly rounded double. An integer equals a real only if
    both are the same number: a real without an integer of the same value can match none.
    """
    kinds = (type_of_arrow(left.type), type_of_arrow(right.type))
    if FieldType.INTEGER in kinds:
        return _as_integers(left), _as_integers(right)
    return _real_bits(left), _real_bits(right)


def _as_integers(values: pa.Array) -> pa.Array:
    if type_of_arrow(values.type) is FieldType.INTEGER:
        return values
    reals = values.fill_null(np.nan).to_numpy(zero_copy_only=False)
    with np.errstate(invalid="ignore"):
        whole = (np.floor(reals) == reals) & (reals >= -(2.0**63)) & (reals < 2.0**63)
    # A real that is no integer matches none, but it is not blank: the caller counts blanks before.
    return pa.array(np.where(whole, reals, 0).astype(np.int64), mask=~whole)


def _real_bits(values: pa.Array) -> pa.Array:
    """The bits of each real, with one zero and one NaN; decimals are rounded to the nearest real."""
    if pa.types.is_decimal(values.type):
        values = _nearest_reals(values)
    reals = values.fill_null(0).to_numpy(zero_copy_only=False) + 0.0
    reals = np.where(np.isnan(reals), np.nan, reals)
    blank = None if not values.null_count else ~_filled(values)
    return pa.array(reals.view(np.int64), mask=blank)


def _nearest_reals(decimals: pa.Array) -> pa.Array:
    """Each decimal's correctly rounded double, through text: Arrow's own cast misrounds."""
    return decimals.cast(pa.large_string()).cast(pa.float64())


def _at_scale(left: pa.Array, right: pa.Array, scale: int) -> tuple[pa.Array, pa.Array]:
    """Decimals and integers as integers in units of 10 ** -scale; 64 bits where all of them fit."""
    wide = [_widened(values, scale) for values in (left, right)]
    narrow = [unscaled(values.fill_null(0)) for values in wide]
    if not all(fits for _, fits in narrow):
        return wide[0], wide[1]
    both = [
        pa.array(integers, mask=~_filled(values) if values.null_count else None)
        for (integers, _), values in zip(narrow, wide, strict=True)
    ]
    return both[0], both[1]


def _widened(values: pa.Array, scale: int) -> pa.Array:
    # 19 digits of an integer and a scale of up to 19 fit 38; more is left to 76 digits.
    kind = pa.decimal128(38, scale) if scale <= 18 else pa.decimal256(76, scale)
    try:
        return values.cast(kind)
    except pa.ArrowInvalid:
        return values.cast(pa.decimal256(76, scale))


def _codes_of(left: pa.Array, right: pa.Array) -> tuple[Codes, Codes, int]:
    """Codes of one link field's values, both sides of one type."""
    if pa.types.is_int64(left.type):
        narrow = _narrow_codes(left, right)
        if narrow is not None:
            return narrow
    if left.type != right.type:
        left, right = (
            left.cast(pa.decimal256(76, left.type.scale)),
            right.cast(pa.decimal256(76, right.type.scale)),
        )
    if len(right) <= len(left):
        left_codes, right_codes, size = _look_up(left, right)
    else:
        right_codes, left_codes, size = _look_up(right, left)
    return left_codes, right_codes, size


def _look_up(larger: pa.Array, smaller: pa.Array) -> tuple[Codes, Codes, int]:
    coded = smaller.dictionary_encode()
    found = pc.index_in(larger, value_set=coded.dictionary, skip_nulls=True)
    return _minus_one_for_null(found), _minus_one_for_null(coded.indices), len(coded.dictionary)


def _minus_one_for_null(codes: pa.Array) -> Codes:
    filled = codes.fill_null(-1) if codes.null_count else codes
    return np.asarray(filled.to_numpy(zero_copy_only=False))


def _narrow_codes(left: pa.Array, right: pa.Array) -> tuple[Codes, Codes, int] | None:
    """Codes without hashing, for integers whose range is not much wider than their number."""
    smaller, larger = (right, left) if len(right) <= len(left) else (left, right)
    bounds = pc.min_max(smaller)
    least, greatest = bounds["min"].as_py(), bounds["max"].as_py()
    if least is None:
        return np.full(len(left), -1, np.int32), np.full(len(right), -1, np.int32), 1
    if greatest - least > 2 * (len(larger) + len(smaller)) + 1024:
        return None
    size = greatest - least + 1
    kind = np.int32 if size <= np.iinfo(np.int32).max else np.int64
    coded = []
    for values in (left, right):
        integers = values.fill_null(greatest).to_numpy(zero_copy_only=False)
        inside = (integers >= least) & (integers <= greatest)
        if values.null_count:
            inside &= _filled(values)
        # Outside the range the difference could overflow; those codes are overwritten with -1.
        with np.errstate(over="ignore"):
            codes = (integers - least).astype(kind)
        codes[~inside] = -1
        coded.append(codes)
    return coded[0], coded[1], size


def _combine(
    left: Codes, right: Codes, size: int, next_left: Codes, next_right: Codes, next_size: int
) -> tuple[Codes, Codes, int]:
    """One code for two link fields that must both be equal, numbered anew without gaps.

    Codes below `size` and `next_size` combine to an integer below their product; where that does not
    fit 64 bits both sides are too long for memory anyway, since each is numbered by its distinct values.
    """
    if size * next_size > _LARGEST_CODE:
        raise OverflowError("more distinct combinations of link values than 64 bits can number")
    combined = []
    for codes, more in ((left, next_left), (right, next_right)):
        both = codes.astype(np.int64) * next_size + more
        both[(codes < 0) | (more < 0)] = -1
        combined.append(both)
    arrays = [pa.array(codes, mask=codes < 0) for codes in combined]
    return _codes_of(arrays[0], arrays[1])
