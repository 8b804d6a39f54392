"""Prepared link fields to integer codes: equal values of both sides get the same code.

The smaller side's distinct values are numbered and the other side's are looked up among them, so that nothing
is ever compared by a hash alone or by strings glued together.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.comparing import are_mostly_distinct, as_comparable, reals
from keen_trellis.core.hashing import Numbering
from keen_trellis.core.link import LinkField
from keen_trellis.core.packing import Packed, packed_alike
from keen_trellis.core.parallel import mapped, side_by_side
from keen_trellis.core.preparing import Prepared, prepare
from keen_trellis.core.table import Mask, Table
from keen_trellis.core.task import Task
from keen_trellis.core.text_bytes import parted
from keen_trellis.core.values import ARROW_TYPES, FieldType, type_of_arrow

Codes = np.ndarray[Any, np.dtype[Any]]

_LARGEST_CODE = np.iinfo(np.int64).max
_PART = 2_000_000  # texts, about, that are numbered at a time where most of many are distinct
_BLOCK = 1 << 15  # rows at a time, so that what is made of them stays in the processor's cache


@dataclass(frozen=True)
class Encoded:
    """Codes of link fields of both sides: one code a row, 0 <= code < size, or -1 for a row that can match
    nothing.
    """

    left: Codes
    right: Codes
    size: int


@dataclass(frozen=True)
class PreparedLink:
    """A link with the values of both of its sides as they are compared."""

    link: LinkField
    left: Prepared
    right: Prepared


@dataclass(frozen=True)
class SideCounts:
    """In how many rows of one side some link field is blank, without partner, or could not be converted."""

    blank: int = 0
    no_partner: int = 0
    lost: int = 0


def prepare_links(
    left: Table, right: Table, links: Sequence[LinkField], task: Task | None = None
) -> list[PreparedLink]:
    """Both sides of all `links`, which must have passed `check_links`."""
    task = task or Task()
    made = []
    for done, link in enumerate(links):
        task.checkpoint(done, len(links), f"comparing {link.left} with {link.right}")
        one, other = link.sides(left.fields, right.fields)
        made.append(
            PreparedLink(
                link,
                prepare(one.cells(left), link.preparation),
                prepare(other.cells(right), link.preparation),
            )
        )
    return made


def side_counts(prepared: Sequence[Prepared]) -> SideCounts:
    """What stands in the way of matching in the link fields of one side."""
    return SideCounts(
        _rows_with(entry.blank for entry in prepared),
        _rows_with(entry.absent for entry in prepared),
        _rows_with(entry.lost for entry in prepared),
    )


def _rows_with(masks: Any) -> int:
    found = [mask for mask in masks if mask is not None]
    return int(np.count_nonzero(np.logical_or.reduce(found))) if found else 0


def encode(prepared: Sequence[PreparedLink], task: Task | None = None) -> Encoded:
    """Codes for all of some links, which compare with = (or <>, whose codes are those of =), together."""
    task = task or Task()
    together: Encoded | None = None
    for done, entry in enumerate(prepared):
        task.checkpoint(done, len(prepared), f"numbering {entry.link.left} and {entry.link.right}")
        coded = _encode_one(entry)
        together = coded if together is None else _combined(together, coded)
    assert together is not None, "there is nothing to encode"
    return together


def numbered(side: Prepared) -> tuple[Codes, int]:
    """One side's values alone as codes below a size, the same for equal values; blanks have one of their own.

    What could not be converted counts as blank.
    """
    values, _ = _same_footing(side.values, side.values)
    codes, size = _numbered(values)
    codes = _of_rows(codes, side)
    if codes.min(initial=0) < 0:
        return np.where(codes < 0, codes.dtype.type(size), codes), size + 1
    return codes, size


def _numbered(values: pa.Array) -> tuple[Codes, int]:
    """Codes of one column below a size, -1 for a blank."""
    if pa.types.is_int64(values.type):
        return _numbered_integers(values)
    packs = packed_alike(values)
    if packs is None:
        return _numbered_by_hash(values)
    (side,) = packs
    codes, size = _numbered_integers(_as_integers_of(side))
    odd = np.flatnonzero(~side.fits & _filled(values))
    if len(odd):
        more, count = _numbered_by_hash(values.take(pa.array(odd)))
        codes, size = _with_odd(codes, size, odd, more, count), size + count
    return codes, size


def _numbered_integers(values: pa.Array) -> tuple[Codes, int]:
    bounds = pc.min_max(values)
    least, greatest = bounds["min"].as_py(), bounds["max"].as_py()
    if least is not None and greatest - least <= 2 * len(values) + 1024:
        size = greatest - least + 1
        return _distances(values, least, size), size
    numbering = Numbering()
    codes = _of_filled(numbering.add, values)
    return codes, numbering.count


def _numbered_by_hash(values: pa.Array) -> tuple[Codes, int]:
    if are_mostly_distinct(values):
        (codes,), size = _in_parts([values], _numbered_at_once)
        return codes, size
    return _numbered_at_once(values)


def _numbered_at_once(values: pa.Array) -> tuple[Codes, int]:
    # Each stretch by itself, on its own core; their dictionaries are united afterwards.
    parts = mapped(lambda part: part.dictionary_encode(), values)
    together = pa.concat_arrays([part.dictionary for part in parts]).dictionary_encode()
    places = together.indices.to_numpy(zero_copy_only=False)
    starts = np.cumsum([0, *(len(part.dictionary) for part in parts)])
    # Of each stretch its own places, the last of which is that of a blank (-1).
    found = [
        np.append(places[start:end], np.int32(-1))[_minus_one_for_null(part.indices)]
        for part, start, end in zip(parts, starts, starts[1:], strict=False)
    ]
    return np.concatenate(found), len(together.dictionary)


def _encode_one(entry: PreparedLink) -> Encoded:
    one, other = _same_footing(entry.left.values, entry.right.values)
    left, right, size = _codes_of(one, other)
    left, right = _of_rows(left, entry.left), _of_rows(right, entry.right)
    if entry.link.blanks:
        # Blanks of both sides get one code more; what could not be converted still matches nothing.
        left, right = _with_blanks(left, entry.left, size), _with_blanks(right, entry.right, size)
        size += 1
    return Encoded(left, right, size)


def _of_rows(codes: Codes, side: Prepared) -> Codes:
    if side.codes is None:
        return codes
    made: Codes = np.append(codes, codes.dtype.type(-1))[side.codes]
    return made


def _with_blanks(codes: Codes, side: Prepared, code: int) -> Codes:
    made = codes.copy()
    for mask in (side.blank, side.absent):
        if mask is not None:
            made[mask] = code
    return made


# --- one type for both sides ---


def _filled(values: pa.Array) -> Mask:
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
        units = as_comparable(left, right)
        return _with_blanks_of(left, units[0]), _with_blanks_of(right, units[1])
    return left, right


def _with_blanks_of(values: pa.Array, numbers: Codes) -> pa.Array:
    return pa.array(numbers, mask=~_filled(values) if values.null_count else None)


def _against_real(left: pa.Array, right: pa.Array) -> tuple[pa.Array, pa.Array]:
    """Reals beside reals, decimals or integers, as integers that are equal where the values are.

    A decimal equals the real that is its correctly rounded double. An integer equals a real only if both are
    the same number: a real without an integer of the same value can match none.
    """
    kinds = (type_of_arrow(left.type), type_of_arrow(right.type))
    if FieldType.INTEGER in kinds:
        return _as_integers(left), _as_integers(right)
    return _real_bits(left), _real_bits(right)


def _as_integers(values: pa.Array) -> pa.Array:
    if type_of_arrow(values.type) is FieldType.INTEGER:
        return values
    numbers = values.fill_null(np.nan).to_numpy(zero_copy_only=False)
    with np.errstate(invalid="ignore"):
        whole = (np.floor(numbers) == numbers) & (numbers >= -(2.0**63)) & (numbers < 2.0**63)
    # A real that is no integer matches none, but it is not blank: blanks are told before.
    return pa.array(np.where(whole, numbers, 0).astype(np.int64), mask=~whole)


def _real_bits(values: pa.Array) -> pa.Array:
    """The bits of each real, with one zero and one NaN; decimals are rounded to the nearest real."""
    numbers = reals(values)
    numbers = np.where(np.isnan(numbers), np.nan, numbers)
    return _with_blanks_of(values, numbers.view(np.int64))


# --- values to codes ---


def _codes_of(left: pa.Array, right: pa.Array) -> tuple[Codes, Codes, int]:
    """Codes of one link field's values, both sides of one type."""
    if pa.types.is_int64(left.type):
        narrow = _narrow_codes(left, right)
        if narrow is not None:
            return narrow
    sides = packed_alike(left, right)
    if sides is not None:
        return _codes_of_packed(left, right, *sides)
    return _hashed(left, right)


def _codes_of_packed(left: pa.Array, right: pa.Array, one: Packed, other: Packed) -> tuple[Codes, Codes, int]:
    """Codes of texts by what they are packed into; of those that do not fit, as texts, behind them."""
    left_codes, right_codes, size = _codes_of(_as_integers_of(one), _as_integers_of(other))
    odd = [np.flatnonzero(~side.fits & _filled(values)) for side, values in ((one, left), (other, right))]
    if not all(map(len, odd)):
        return left_codes, right_codes, size
    more, its, count = _hashed(*(v.take(pa.array(rows)) for v, rows in zip((left, right), odd, strict=True)))
    left_codes = _with_odd(left_codes, size, odd[0], more, count)
    return left_codes, _with_odd(right_codes, size, odd[1], its, count), size + count


def _as_integers_of(side: Packed) -> pa.Array:
    """Packed texts as whole numbers, blank where they do not fit."""
    return pa.array(side.numbers, mask=None if side.fits.all() else ~side.fits)


def _with_odd(codes: Codes, size: int, rows: Codes, found: Codes, count: int) -> Codes:
    """Codes below a size with those of some rows, below a count, behind them."""
    wide = codes.astype(np.int64) if size + count > np.iinfo(codes.dtype).max else codes
    wide[rows] = np.where(found < 0, -1, found.astype(wide.dtype) + size)
    return wide


def _hashed(left: pa.Array, right: pa.Array) -> tuple[Codes, Codes, int]:
    """Codes of values by looking them up: those of the larger side among those of the smaller."""
    if are_mostly_distinct(left, right):
        (one, other), size = _in_parts([left, right], _looked_up)
        return one, other, size
    return _looked_up(left, right)


def _in_parts(columns: Sequence[pa.Array], work: Callable[..., Any]) -> tuple[list[Codes], int]:
    """Codes of many texts in parts that fit the processor's cache better, and hold few at a time. work: gives
    codes for each column and their size.
    """
    count = min(sum(map(len, columns)) // _PART + 1, 256)
    part_of = [parted(values, count) for values in columns]
    codes, size = [np.full(len(values), -1, np.int32) for values in columns], 0
    for part in range(count):
        rows = [np.flatnonzero(parts == part) for parts in part_of]
        *found, more = work(*(v.take(pa.array(r)) for v, r in zip(columns, rows, strict=True)))
        for of, its, made in zip(codes, rows, found, strict=True):
            of[its] = np.where(made < 0, -1, made + size)
        size += more
    return codes, size


def _looked_up(left: pa.Array, right: pa.Array) -> tuple[Codes, Codes, int]:
    if len(right) <= len(left):
        left_codes, right_codes, size = _look_up(left, right)
    else:
        right_codes, left_codes, size = _look_up(right, left)
    return left_codes, right_codes, size


def _look_up(larger: pa.Array, smaller: pa.Array) -> tuple[Codes, Codes, int]:
    if pa.types.is_int64(smaller.type):
        numbering = Numbering()
        codes = _of_filled(numbering.add, smaller)
        return _of_filled(numbering.find, larger), codes, numbering.count
    coded = smaller.dictionary_encode()
    found = mapped(
        lambda part: _minus_one_for_null(pc.index_in(part, value_set=coded.dictionary, skip_nulls=True)),
        larger,
    )
    codes = found[0] if len(found) == 1 else np.concatenate(found)
    return codes, _minus_one_for_null(coded.indices), len(coded.dictionary)


def _of_filled(work: Callable[[Codes], Codes], values: pa.Array) -> Codes:
    """What is made of whole numbers, -1 for a blank."""
    if not values.null_count:
        return work(values.to_numpy())
    filled = _filled(values)
    codes = np.full(len(values), -1, np.int32)
    codes[filled] = work(values.fill_null(0).to_numpy()[filled])
    return codes


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
    return _distances(left, least, size), _distances(right, least, size), size


def _distances(values: pa.Array, least: int, size: int) -> Codes:
    """Each integer's distance from `least`, -1 where it is blank or not below `size`."""
    codes = np.empty(len(values), np.int32 if size <= np.iinfo(np.int32).max else np.int64)
    known = _filled(values) if values.null_count else None
    integers = (values.fill_null(0) if values.null_count else values).to_numpy(zero_copy_only=False)
    # Without a sign, what lies below `least` is far above `size`: one comparison tells both.
    from_least = np.uint64(least % 2**64)

    def fill(part: slice) -> None:
        for start in range(part.start, part.stop, _BLOCK):
            rows = slice(start, min(start + _BLOCK, part.stop))
            distance = integers[rows].view(np.uint64) - from_least
            made = distance.astype(codes.dtype)
            made[distance >= np.uint64(size)] = -1
            if known is not None:
                made[~known[rows]] = -1
            codes[rows] = made

    side_by_side(fill, len(values))
    return codes


def _combined(one: Encoded, other: Encoded) -> Encoded:
    """One code for link fields that must all be equal, numbered anew without gaps.

    Codes combine to an integer below the product of their sizes; where that does not fit 64 bits both sides
    are too long for memory anyway, since each is numbered by its distinct values.
    """
    if one.size * other.size > _LARGEST_CODE:
        raise OverflowError("more distinct combinations of link values than 64 bits can number")
    both = []
    for codes, more in ((one.left, other.left), (one.right, other.right)):
        together = codes.astype(np.int64) * other.size + more
        together[(codes < 0) | (more < 0)] = -1
        both.append(pa.array(together, mask=together < 0))
    return Encoded(*_codes_of(both[0], both[1]))
