"""Two columns as vectors that compare as their values do: equal, less and greater across types."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.folding import Texts
from keen_trellis.core.ordering import dense_ranks, in_order
from keen_trellis.core.packing import packed_alike
from keen_trellis.core.parallel import block_by_block, gathered, side_by_side
from keen_trellis.core.text_bytes import ends_of, spread_sample
from keen_trellis.core.values import FieldType, held_as, type_of_arrow, whole_units

Vector = np.ndarray[Any, Any]

# So many texts are looked at whether most are distinct, by a sample; and ranked so many at a time.
_MANY, _SAMPLE, _BLOCK = 4_000_000, 4_096, 1 << 20

# So many texts of two words at most are ranked by these, which takes 40 bytes for each meanwhile.
_MOST_IN_WORDS = 20_000_000

# What each operator asks of two such vectors, by its sign.
COMPARE = {
    "=": np.equal,
    "<>": np.not_equal,
    "<": np.less,
    "<=": np.less_equal,
    ">": np.greater,
    ">=": np.greater_equal,
}


def ordered_as(values: pa.Array) -> Vector:
    """One column as a vector whose order is that of its values; see `as_comparable`."""
    return as_comparable(values, values.slice(0, 0))[0]


def best_first(values: pa.Array, *, greatest: bool) -> tuple[Vector, Vector]:
    """The rows in order of their values, the least (or greatest) first, and for each row its place there.

    Of equal values the first stays first. Blanks are never best: their place is the number of rows.
    """
    blank, worth = best_keys(values, greatest=greatest)
    order = in_order(blank, worth)
    place = np.empty(len(order), np.int64)
    place[order] = np.arange(len(order))
    place[blank] = len(order)
    return order, place


def best_keys(values: pa.Array, *, greatest: bool) -> tuple[Vector, Vector]:
    """Keys in whose order the least (or greatest) value comes first, and blanks come last."""
    worth = ordered_as(values)
    blank = values.is_null().to_numpy(zero_copy_only=False)
    return blank, other_way_round(worth) if greatest else worth


def other_way_round(numbers: Vector) -> Vector:
    """Numbers in whose order the greatest come first."""
    # The complement of whole numbers has the other order, and never overflows.
    found: Vector = ~numbers if numbers.dtype.kind in "iu" else -numbers
    return found


def as_comparable(left: pa.Array, right: pa.Array) -> tuple[Vector, Vector]:
    """Two columns of comparable types as vectors of one dtype whose order is that of the values.

    What stands in place of a blank has no meaning. NaN equals NaN and is above all numbers, text goes by
    code points, a date stands for its midnight, and a decimal meets a real as its correctly rounded double.
    """
    kinds = {type_of_arrow(left.type), type_of_arrow(right.type)}
    if kinds == {FieldType.TEXT}:
        return _ranked(left, right)
    if kinds == {FieldType.BOOLEAN}:
        return _filled(left.cast(pa.int8())), _filled(right.cast(pa.int8()))
    if FieldType.REAL in kinds:
        if FieldType.INTEGER in kinds:
            return _ranked_numbers(*(_exact_parts(values) for values in (left, right)))
        ones = [reals(values) for values in (left, right)]
        if not any(np.isnan(values).any() for values in ones):
            return ones[0], ones[1]
        # NaN compares with nothing, itself included; its rank does.
        return _ranked_numbers(*((values, np.zeros(len(values), np.int64)) for values in ones))
    if FieldType.DECIMAL in kinds:
        return _at_one_scale(left, right)
    if kinds == {FieldType.DATE, FieldType.TIMESTAMP}:
        moment = pa.timestamp("us")
        return _filled(left.cast(moment).view(pa.int64())), _filled(right.cast(moment).view(pa.int64()))
    return _whole_numbers(left), _whole_numbers(right)


def same_text(one: pa.Array, other: pa.Array, left: Vector, right: Vector) -> Vector:
    """For pairs of rows whether the texts of both are the same; a blank is the same as nothing.

    Lengths come first: most texts that differ do so in length, and are not looked at.
    """
    lengths = [_lengths(values, -1 - n) for n, values in enumerate((one, other))]
    same: Vector = np.empty(len(left), bool)

    def as_long(part: slice) -> None:
        same[part] = lengths[0][left[part]] == lengths[1][right[part]]

    block_by_block(as_long, len(left))
    rows = np.flatnonzero(same)

    def compare(part: slice) -> Vector:
        chosen = rows[part]
        texts = one.take(pa.array(left[chosen])), other.take(pa.array(right[chosen]))
        found: Vector = pc.equal(*texts).to_numpy(zero_copy_only=False)
        return found

    same[rows] = np.concatenate(side_by_side(compare, len(rows)))
    return same


def _lengths(values: pa.Array, of_blank: int) -> Vector:
    """How many bytes each text has, with a number that stands for blanks."""
    begin, end = ends_of(values)
    found: Vector = end - begin
    if values.null_count:
        found[values.is_null().to_numpy(zero_copy_only=False)] = of_blank
    return found


def _whole_numbers(values: pa.Array) -> Vector:
    """Integers, dates, times and timestamps as int64."""
    if pa.types.is_date32(values.type):
        return _filled(values.view(pa.int32())).astype(np.int64)
    return _filled(values if pa.types.is_int64(values.type) else values.view(pa.int64()))


def _filled(values: pa.Array) -> Vector:
    found: Vector = (values.fill_null(0) if values.null_count else values).to_numpy(zero_copy_only=False)
    return found


def reals(values: pa.Array) -> Vector:
    """Reals, and decimals as their correctly rounded doubles, with one zero; 0 in place of blanks."""
    if pa.types.is_decimal(values.type):
        # By text: Arrow's own cast misrounds.
        values = values.cast(pa.large_string()).cast(pa.float64())
    return _filled(values) + 0.0


def _exact_parts(values: pa.Array) -> tuple[Vector, Vector]:
    """Reals and integers as the nearest real and what an integer lacks to it, so that order is exact.

    Rounding keeps order, so that the first part decides, and where it is equal the second.
    """
    if pa.types.is_floating(values.type):
        found = reals(values)
        return found, np.zeros(len(found), np.int64)
    integers = _filled(values)
    nearest = integers.astype(np.float64)
    # The greatest integers round up to 2 ** 63, which is no int64 itself.
    top = nearest >= 2.0**63
    back = np.where(top, 0.0, nearest).astype(np.int64)
    rest = np.where(top, (integers - np.iinfo(np.int64).max) - 1, integers - back)
    return nearest, rest


def _ranked_numbers(left: tuple[Vector, ...], right: tuple[Vector, ...]) -> tuple[Vector, Vector]:
    """Ranks of combinations of numbers, the same for equal ones; NaN comes last."""
    ranks = dense_ranks(*(np.concatenate(parts) for parts in zip(left, right, strict=True)))
    return ranks[: len(left[0])], ranks[len(left[0]) :]


def _ranked(left: pa.Array, right: pa.Array) -> tuple[Vector, Vector]:
    """Ranks of texts in code point order, which is the order of their bytes."""
    quickly = _ranked_as_packed(left, right)
    if quickly is not None:
        return quickly
    # One column by itself is not copied: it may be as large as what is left of the memory.
    both = pa.concat_arrays([left, right]) if len(right) else left
    if are_mostly_distinct(both):
        found = _ranked_in_order(both)
        return found[: len(left)], found[len(left) :]
    both = both.dictionary_encode()
    order = pc.sort_indices(both.dictionary).to_numpy()
    ranks = np.empty(len(order) + 1, np.int64)
    ranks[order] = np.arange(len(order))
    codes = both.indices.fill_null(len(order)).to_numpy(zero_copy_only=False)
    ranks[-1] = -1
    found = gathered(ranks, codes)
    return found[: len(left)], found[len(left) :]


def _ranked_as_packed(left: pa.Array, right: pa.Array) -> tuple[Vector, Vector] | None:
    """Vectors in the order of texts that are whole numbers in disguise; None where not all are."""
    sides = packed_alike(left, right)
    if sides is None or not all(
        np.count_nonzero(side.fits) + of.null_count == len(of)
        for side, of in zip(sides, (left, right), strict=True)
    ):
        return None
    if len(sides[0].numbers) == 1:
        return sides[0].numbers[0], sides[1].numbers[0]
    if len(left) + len(right) > _MOST_IN_WORDS:
        return None
    return _ranked_numbers(sides[0].numbers, sides[1].numbers)


def are_mostly_distinct(*columns: Texts) -> bool:
    """Whether columns hold so many texts, most of them distinct, that a table of each would be large; by a
    sample.
    """
    if min(map(len, columns)) < _MANY or not all(pa.types.is_large_string(c.type) for c in columns):
        return False
    return all(len(spread_sample(texts, _SAMPLE).unique()) > _SAMPLE // 2 for texts in columns)


def _ranked_in_order(texts: pa.Array) -> Vector:
    """Ranks of texts by their order alone: nothing of their size is held but numbers of rows."""
    order = pc.array_sort_indices(texts).to_numpy()
    ranks = np.empty(len(order), np.int32 if len(order) < np.iinfo(np.int32).max else np.int64)
    rank, last = 0, texts.slice(0, 0)
    for first in range(0, len(order), _BLOCK):
        rows = order[first : first + _BLOCK]
        held = texts.take(pa.array(rows))
        before = pa.concat_arrays([last if len(last) else held.slice(0, 1), held.slice(0, len(held) - 1)])
        # Blanks come last, and their ranks have no meaning.
        others = pc.not_equal(held, before).fill_null(False).to_numpy(zero_copy_only=False)
        own = np.cumsum(others) + rank
        ranks[rows] = own
        rank, last = int(own[-1]), held.slice(len(held) - 1)
    return ranks


def _at_one_scale(left: pa.Array, right: pa.Array) -> tuple[Vector, Vector]:
    """Decimals and integers in units of the finer scale; ranks where these leave 64 bits."""
    scale = max(values.type.scale for values in (left, right) if pa.types.is_decimal(values.type))
    if left.type != right.type:
        left, right = _widened(left, scale), _widened(right, scale)
    if pa.types.is_decimal128(left.type) and pa.types.is_decimal128(right.type):
        units = [whole_units(values) for values in (left, right)]
        if all(fits for _, fits in units):
            return units[0][0], units[1][0]
    wide = [values.cast(pa.decimal256(76, scale)) for values in (left, right)]
    both = pa.concat_arrays(wide)
    # Blanks have ranks too, which nobody looks at.
    ranks = pc.rank(both, sort_keys="ascending", tiebreaker="dense").to_numpy().astype(np.int64)
    return ranks[: len(left)], ranks[len(left) :]


def _widened(values: pa.Array, scale: int) -> pa.Array:
    # 19 digits of an integer and a scale of up to 19 fit 38; more is left to 76 digits.
    kind = pa.decimal128(38, scale) if scale <= 18 else pa.decimal256(76, scale)
    try:
        return held_as(values, kind)
    except pa.ArrowInvalid:
        return values.cast(pa.decimal256(76, scale))
