"""Prepared link fields to integer codes: equal values of both sides get the same code.

Several links that must all hold get one code together.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.coding import Codes, codes_of, codes_of_numbers
from keen_trellis.core.comparing import as_comparable, reals
from keen_trellis.core.folding import Texts, filled
from keen_trellis.core.link import LinkField
from keen_trellis.core.parallel import block_by_block, gathered
from keen_trellis.core.preparing import Prepared, prepare
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import ARROW_TYPES, FieldType, type_of_arrow

_LARGEST_CODE = np.iinfo(np.int64).max


class Encoded(msgspec.Struct, frozen=True):
    """Codes of link fields of both sides: one code a row, 0 <= code < size, or -1 for a row that can match
    nothing.
    """

    left: Codes
    right: Codes
    size: int


class PreparedLink(msgspec.Struct, frozen=True):
    """A link with the values of both of its sides as they are compared."""

    link: LinkField
    left: Prepared
    right: Prepared


class SideCounts(msgspec.Struct, frozen=True):
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
    values, _ = _sides(side, side)
    (codes,), size = codes_of(values)
    codes = _of_rows(codes, side)
    if codes.min(initial=0) < 0:
        return np.where(codes < 0, codes.dtype.type(size), codes), size + 1
    return codes, size


def _encode_one(entry: PreparedLink) -> Encoded:
    one, other = _sides(entry.left, entry.right)
    (left, right), size = codes_of(one, other)
    left, right = _of_rows(left, entry.left), _of_rows(right, entry.right)
    if entry.link.blanks:
        # Blanks of both sides get one code more; what could not be converted still matches nothing.
        left, right = _with_blanks(left, entry.left, size), _with_blanks(right, entry.right, size)
        size += 1
    return Encoded(left, right, size)


def _of_rows(codes: Codes, side: Prepared) -> Codes:
    if side.codes is None:
        return codes
    return gathered(np.append(codes, codes.dtype.type(-1)), side.codes)


def _with_blanks(codes: Codes, side: Prepared, code: int) -> Codes:
    made = codes.copy()
    for mask in (side.blank, side.absent):
        if mask is not None:
            made[mask] = code
    return made


# --- one type for both sides ---


def _sides(left: Prepared, right: Prepared) -> tuple[Texts, Texts]:
    """The values of both sides as codes are made of them."""
    if type_of_arrow(left.held.type) is type_of_arrow(right.held.type) is FieldType.TEXT:
        return left.held, right.held
    return _same_footing(left.values, right.values)


def _same_footing(left: pa.Array, right: pa.Array) -> tuple[pa.Array, pa.Array]:
    """Both sides as arrays of one type in which equal values, and only those, are equal."""
    kinds = (type_of_arrow(left.type), type_of_arrow(right.type))
    if kinds[0] is kinds[1] is FieldType.BOOLEAN:
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
    return pa.array(numbers, mask=~filled(values) if values.null_count else None)


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


# --- several links ---


def _combined(one: Encoded, other: Encoded) -> Encoded:
    """One code for link fields that must all be equal, numbered anew without gaps.

    Codes combine to an integer below the product of their sizes; where that does not fit 64 bits both sides
    are too long for memory anyway, since each is numbered by its distinct values.
    """
    size = one.size * other.size
    if size > _LARGEST_CODE:
        raise OverflowError("more distinct combinations of link values than 64 bits can number")
    left, right = _together(one.left, other.left, other.size), _together(one.right, other.right, other.size)
    (left, right), size = codes_of_numbers(left, right, size)
    return Encoded(left, right, size)


def _together(codes: Codes, more: Codes, size: int) -> Codes:
    """The combinations of two codes of a row, the second one below a size; -1 where one of them is."""
    found = np.empty(len(codes), np.int64)

    def fill(rows: slice) -> None:
        np.multiply(codes[rows], size, out=found[rows], dtype=np.int64)
        found[rows] += more[rows]
        found[rows][(codes[rows] < 0) | (more[rows] < 0)] = -1

    block_by_block(fill, len(codes))
    return found
