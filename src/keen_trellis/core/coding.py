"""The values of a column, or of both sides of a link, to codes from 0 on: equal values get the same one.

Values are always compared themselves: nothing is ever compared by a hash alone or by strings glued together.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence, Sized
from itertools import chain, zip_longest
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.comparing import are_mostly_distinct
from keen_trellis.core.folding import Folded, Texts, filled, words_of, written
from keen_trellis.core.hashing import Numbering, own_codes
from keen_trellis.core.packing import Packed, packed_alike, shape_of
from keen_trellis.core.parallel import block_by_block, each, gathered, mapped, parts
from keen_trellis.core.ragged import running_total
from keen_trellis.core.table import Mask
from keen_trellis.core.text_bytes import parted
from keen_trellis.core.values import one_array

Codes = np.ndarray[Any, np.dtype[Any]]
Coded = tuple[list[Codes], int]
_Numbers = tuple[Codes, Mask | None]  # whole numbers (int64), and which of them are blank

_PART = 20_000  # texts of the smaller side, about, that are looked among at a time where they are many
_PARTS = 256  # at most
_STRETCH = 1 << 20  # rows that are put in the order of their parts at a time


def codes_of(*columns: Texts) -> Coded:
    """Codes below a size for one column, or for both sides of a link, of one type.

    A blank is -1, and so may be what the smaller side has not.
    """
    if pa.types.is_int64(columns[0].type):
        return _of_integers([_numbers_of(values) for values in columns])
    sides = packed_alike(*columns)
    if sides is None:
        return _of_values(columns)
    codes, size = _of_packed(sides)
    # What does not fit may have another shape, where it is less than half, or none; its codes stand behind.
    odd = [np.flatnonzero(~side.fits & filled(of)) for side, of in zip(sides, columns, strict=True)]
    if not all(map(len, odd)):
        return codes, size
    rest = [of.take(pa.array(rows)) for of, rows in zip(columns, odd, strict=True)]
    is_less = 2 * sum(map(len, rest)) < sum(map(len, columns))
    more, count = codes_of(*rest) if is_less else _of_values(rest)
    behind = zip(codes, odd, more, strict=True)
    return [_with_odd(of, size, rows, found, count) for of, rows, found in behind], size + count


def told_apart(values: pa.Array) -> tuple[pa.Array, Codes]:
    """Values of which each other one of a column is among them, some perhaps several times; and for each row
    the number of its own, -1 for a blank.
    """
    if shape_of(values) is not None:
        (codes,), size = codes_of(values)
        row = np.full(size + 1, -1, np.int64)
        row[codes] = np.arange(len(codes))
        used = row[:-1] >= 0
        number = np.append(running_total(used)[:-1], -1).astype(codes.dtype)
        return values.take(pa.array(row[:-1][used])), gathered(number, codes)
    return _each_stretch(values)


def _each_stretch(values: pa.Array) -> tuple[pa.Array, Codes]:
    """The same, each stretch by itself, on its own core."""
    coded = mapped(lambda part: part.dictionary_encode(), values)
    found, before = [], 0
    for part in coded:
        numbers = _minus_one_for_null(part.indices)
        found.append(np.where(numbers < 0, numbers, numbers + before) if before else numbers)
        before += len(part.dictionary)
    distinct = one_array(pa.chunked_array([part.dictionary for part in coded]))
    return distinct, found[0] if len(found) == 1 else np.concatenate(found)


def _smaller(columns: Sequence[Sized]) -> int:
    """Which side is the smaller one: the other's values are looked up among its own."""
    return len(columns) - 1 if len(columns[-1]) <= len(columns[0]) else 0


# --- texts ---


def _of_packed(sides: Sequence[Packed]) -> Coded:
    """Codes of packed texts, -1 where they do not fit."""
    if len(sides[0].numbers) == 1:
        return _of_integers([(side.numbers[0], _odd(side)) for side in sides])
    return _by_hashing([(side.numbers, _odd(side)) for side in sides])


def _odd(side: Packed) -> Mask | None:
    """Which texts do not fit; None if all do."""
    return None if side.fits.all() else ~side.fits


def _with_odd(codes: Codes, size: int, rows: Codes, found: Codes, count: int) -> Codes:
    """Codes below a size with those of some rows, below a count, behind them."""
    wide = codes.astype(np.int64) if size + count > np.iinfo(codes.dtype).max else codes
    wide[rows] = np.where(found < 0, -1, found.astype(wide.dtype) + size)
    return wide


def _of_values(columns: Sequence[Texts]) -> Coded:
    if are_mostly_distinct(*columns):
        return _in_parts(columns)
    return _at_once(columns) if len(columns) > 1 else _of_stretches(written(columns[0]))


def _in_parts(columns: Sequence[Texts]) -> Coded:
    """Codes of one column, or of both sides, in parts that are looked up side by side, so that no table holds
    all texts: a text's is the first row of the smaller side that has it.
    """
    place = _smaller(columns)
    count = min(len(columns[place]) // _PART + 2, _PARTS)
    rows_of = [_rows_by_part(parted(words_of(of), count), count) for of in columns]
    codes = [np.empty(len(of), np.int32) for of in columns]

    def look_up(part: int) -> None:
        rows = [of_part(part) for of_part in rows_of]
        texts = [of.take(pa.array(own)) for of, own in zip(columns, rows, strict=True)]
        row = np.append(rows[place], np.int32(-1))
        for of, own, found in zip(codes, rows, _looked_up([[of] for of in texts], texts[place]), strict=True):
            of[own] = row[found]

    each(look_up, range(count))
    return codes, len(columns[place])


def _rows_by_part(part_of: Codes, count: int) -> Callable[[int], Codes]:
    """What tells the rows of each part, in their order, as int32."""
    order = np.empty(len(part_of), np.int32)
    firsts = range(0, len(part_of), _STRETCH)

    def arrange(first: int) -> Codes:
        parts = part_of[first : first + _STRETCH]
        order[first : first + len(parts)] = np.argsort(parts, kind="stable") + first
        return np.append(0, np.cumsum(np.bincount(parts, minlength=count))) + first

    bounds = each(arrange, firsts)
    return lambda part: np.concatenate([order[slice(*of[part : part + 2])] for of in bounds])


def _at_once(columns: Sequence[Texts]) -> Coded:
    """Codes of both sides; those of `_in_parts`."""
    known = written(columns[_smaller(columns)])

    def look_up(stretches: tuple[slice | None, ...]) -> list[Codes]:
        return _looked_up([_chunks(of, rows) for of, rows in zip(columns, stretches, strict=True)], known)

    made = each(look_up, list(zip_longest(*(parts(len(of)) for of in columns))))
    sides = zip(*made, strict=True)
    return [np.concatenate(codes) if len(codes) > 1 else codes[0] for codes in sides], len(known)


def _looked_up(sides: Sequence[Sequence[pa.Array]], known: pa.Array) -> list[Codes]:
    """For each text of each side the first place among known ones that has it, -1 where none has; at once,
    since what is known is put into a table for each call.
    """
    given = pa.chunked_array(chain(*sides), known.type)
    found = _minus_one_for_null(pc.index_in(given, value_set=known, skip_nulls=True))
    return np.split(found, np.cumsum([sum(map(len, chunks)) for chunks in sides])[:-1])


def _chunks(texts: Texts, rows: slice | None) -> list[pa.Array]:
    """Some of the texts, in as many arrays as are best made at a time."""
    if rows is None:
        return []
    if isinstance(texts, Folded):
        return texts.chunks(rows)
    return [texts.slice(rows.start, rows.stop - rows.start)]


def _of_stretches(values: pa.Array) -> Coded:
    """One column: what its stretches have is united afterwards."""
    distinct, codes = _each_stretch(values)
    together = distinct.dictionary_encode()
    places = together.indices.to_numpy(zero_copy_only=False)
    return [gathered(np.append(places, np.int32(-1)), codes)], len(together.dictionary)


def _minus_one_for_null(codes: pa.Array) -> Codes:
    known = codes.fill_null(-1) if codes.null_count else codes
    return np.asarray(known.to_numpy(zero_copy_only=False))


# --- whole numbers ---


def _of_integers(sides: Sequence[_Numbers]) -> Coded:
    """Codes of whole numbers: without hashing where their range is not much wider than their number."""
    numbers, blank = sides[_smaller([numbers for numbers, _ in sides])]
    held = numbers if blank is None else numbers[~blank]
    if not len(held):
        return [np.full(len(numbers), -1, np.int32) for numbers, _ in sides], 1
    least = int(held.min())
    size = int(held.max()) - least + 1
    if _is_narrow(size, [numbers for numbers, _ in sides]):
        return [_distances(numbers, blank, least, size) for numbers, blank in sides], size
    return _by_hashing([((numbers,), blank) for numbers, blank in sides])


def _numbers_of(values: pa.Array) -> _Numbers:
    if not values.null_count:
        return values.to_numpy(), None
    return values.fill_null(0).to_numpy(), ~filled(values)


def codes_of_numbers(one: Codes, other: Codes, size: int) -> Coded:
    """Codes of both sides' whole numbers, int64 from 0 to below a size, -1 for none."""
    if _is_narrow(size, (one, other)):
        return [one, other], size
    sides: list[tuple[tuple[Codes, ...], Mask | None]] = [((one,), None), ((other,), None)]
    # What is -1 is not among the numbers of the smaller side, and so is not found there.
    place = _smaller((one, other))
    none = sides[place][0][0] < 0
    if none.any():
        sides[place] = sides[place][0], none
    return _by_hashing(sides)


def _is_narrow(size: int, columns: Sequence[Sized]) -> bool:
    """Whether whole numbers in a range are not much fewer than it has."""
    return size <= 2 * sum(map(len, columns)) + 1024


def _by_hashing(sides: Sequence[tuple[tuple[Codes, ...], Mask | None]]) -> Coded:
    """Codes of numbers, or of combinations of them, with a mask of those that are blank: the smaller side's
    are numbered, and the other's looked up among them.
    """
    held = [_without_blanks(*side) for side in sides]
    if len(sides) == 1:
        codes, count = own_codes(*held[0])
        found = [codes]
    else:
        numbering = Numbering(*held[_smaller([numbers[0] for numbers, _ in sides])])
        count, found = numbering.count, [numbering.find(*numbers) for numbers in held]
    both = zip(found, sides, strict=True)
    return [_with_blanks(codes, blank) for codes, (_, blank) in both], max(count, 1)


def _without_blanks(numbers: tuple[Codes, ...], blank: Mask | None) -> tuple[Codes, ...]:
    return numbers if blank is None else tuple(part[~blank] for part in numbers)


def _with_blanks(codes: Codes, blank: Mask | None) -> Codes:
    """The codes of the others, with -1 for each blank among them."""
    if blank is None:
        return codes
    found = np.full(len(blank), -1, codes.dtype)
    found[~blank] = codes
    return found


def _distances(numbers: Codes, blank: Mask | None, least: int, size: int) -> Codes:
    """Each number's distance from `least`, -1 where it is blank or not below `size`."""
    codes = np.empty(len(numbers), np.int32 if size <= np.iinfo(np.int32).max else np.int64)
    # Without a sign, what lies below `least` is far above `size`: one comparison tells both.
    from_least = np.uint64(least % 2**64)

    def fill(rows: slice) -> None:
        distance = numbers[rows].view(np.uint64) - from_least
        made = distance.astype(codes.dtype)
        made[distance >= np.uint64(size)] = -1
        if blank is not None:
            made[blank[rows]] = -1
        codes[rows] = made

    block_by_block(fill, len(numbers))
    return codes
