"""Prepares the values of a link field before they are compared: corrections, another type, what is ignored.

Text is prepared on its distinct values unless that is dearer than preparing all of it, and stays coded by
them.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core import ascii_text
from keen_trellis.core.ascii_text import is_ascii
from keen_trellis.core.coding import told_apart
from keen_trellis.core.conversion import converted, refitted
from keen_trellis.core.folding import Folded, Texts, written
from keen_trellis.core.link import Preparation
from keen_trellis.core.parallel import mapped
from keen_trellis.core.table import Cells, Mask
from keen_trellis.core.text_bytes import without_empty
from keen_trellis.core.values import ARROW_TYPES, FieldType, as_text, type_of_arrow

_TEXT = ARROW_TYPES[FieldType.TEXT]

# The code points with the Unicode property White_Space.
WHITE_SPACE = (
    "\t\n\v\f\r \x85\xa0\u1680\u2000\u2001\u2002\u2003\u2004\u2005\u2006\u2007\u2008\u2009\u200a"
    "\u2028\u2029\u202f\u205f\u3000"
)
_SPACES = "[" + "".join(rf"\x{{{ord(character):x}}}" for character in WHITE_SPACE) + "]"
_MOST_ROUNDS = 8


class Prepared(msgspec.Struct, frozen=True):
    """The values of one side of a link as they are compared.

    held: one a row, or the distinct ones of which `codes` has the number of each row's (-1: null).
    blank, lost, absent: rows that are blank, that could not be converted, that are without partner; None
    where there is none.
    """

    held: Texts
    codes: np.ndarray[Any, Any] | None
    blank: Mask | None
    lost: Mask | None
    absent: Mask | None

    @property
    def values(self) -> pa.Array:
        """What is held, written out."""
        return written(self.held)

    @property
    def rows(self) -> int:
        return len(self.held) if self.codes is None else len(self.codes)

    @property
    def of_rows(self) -> pa.Array:
        """One value a row."""
        if self.codes is None:
            return self.values
        return self.values.take(pa.array(self.codes, mask=self.codes < 0))


def prepare(cells: Cells, preparation: Preparation) -> Prepared:
    """The cells as they are compared; empty text becomes blank."""
    values, lost = cells.values, None
    if preparation.corrections:
        values, lost = _corrected(values, preparation.corrections)
    if preparation.compare_as:
        values, unconverted = _compared_as(values, preparation.compare_as)
        lost = unconverted if lost is None else lost | unconverted
    codes = None
    if type_of_arrow(values.type) is FieldType.TEXT and len(values):
        values, codes = _text(values, preparation)
    missing = ~values.filled if isinstance(values, Folded) else _null_rows(values, codes)
    absent = cells.absent if cells.absent is not None and cells.absent.any() else None
    if lost is not None and not lost.any():
        lost = None
    if missing is not None:
        for other in (lost, absent):
            missing = missing if other is None else missing & ~other
    return Prepared(values, codes, missing, lost, absent)


def _null_rows(values: pa.Array, codes: np.ndarray[Any, Any] | None) -> Mask | None:
    if codes is None:
        if not values.null_count:
            return None
        return np.asarray(values.is_null().to_numpy(zero_copy_only=False))
    missing: Mask = codes < 0
    if values.null_count:
        missing |= values.is_null().to_numpy(zero_copy_only=False)[codes]
    return missing if missing.any() else None


# --- corrections and types ---


def _corrected(values: pa.Array, corrections: tuple[tuple[str, str], ...]) -> tuple[pa.Array, Mask | None]:
    """Each value that is written as X read as Y, once; what Y cannot be in the field's type is lost."""
    table = dict(corrections)
    texts = as_text(values)
    found = pc.index_in(texts, value_set=pa.array(list(table), _TEXT))
    if found.null_count == len(found):
        return values, None
    right = pa.array(list(table.values()), _TEXT).take(found)
    if values.type == _TEXT:
        return pc.coalesce(right, values), None
    made = converted(right, type_of_arrow(values.type))
    kept = pc.if_else(found.is_valid(), pa.scalar(None, values.type), values)
    if pa.types.is_decimal(values.type):
        scale = max(made.values.type.scale, values.type.scale)
        wide = refitted(kept, pa.decimal128(38, scale))
        if wide.null_count > kept.null_count:
            # The field's own values come first: a correction that has no room beside them is lost.
            wide = kept
        right = refitted(made.values, wide.type)
        lost = pc.and_(found.is_valid(), right.is_null()).to_numpy(zero_copy_only=False)
        return pc.coalesce(right, wide), lost
    return pc.coalesce(made.values, kept), made.lost


def _compared_as(values: pa.Array, kind: str) -> tuple[pa.Array, Mask]:
    have = type_of_arrow(values.type)
    nothing = np.zeros(len(values), dtype=bool)
    if kind == "text":
        return as_text(values), nothing
    if kind == "number":
        if have.is_number:
            return values, nothing
        exact = converted(values, FieldType.DECIMAL)
        if have is not FieldType.TEXT or not exact.count:
            return exact.values, exact.lost
        real = converted(values, FieldType.REAL)
        # Numbers too long for decimals: if there are any, all of them are compared as reals.
        return (real.values, real.lost) if real.count < exact.count else (exact.values, exact.lost)
    if have is FieldType.TIMESTAMP:
        return values.cast(ARROW_TYPES[FieldType.DATE], safe=False), nothing
    made = converted(values, FieldType.DATE)
    if have is FieldType.TEXT and made.count:
        moments = converted(values, FieldType.TIMESTAMP)
        dates = moments.values.cast(ARROW_TYPES[FieldType.DATE], safe=False)
        return pc.coalesce(made.values, dates), made.lost & moments.lost
    return made.values, made.lost


# --- text ---


def _text(values: pa.Array, preparation: Preparation) -> tuple[Texts, np.ndarray[Any, Any] | None]:
    """Prepared text, and the rows' codes if it stands for distinct values only."""
    steps = _steps(preparation)
    if not steps:
        return without_empty(values), None
    plain = all(mapped(is_ascii, values))
    if plain and not set(preparation.names) - {"case", "outer-spaces"}:
        return Folded(values, case=preparation.case, outer_spaces=preparation.outer_spaces), None
    changed, codes = told_apart(values)
    if plain:
        for step in _ascii_steps(preparation):
            changed = step(changed)
    for _ in range(0 if plain else _MOST_ROUNDS):
        before = changed
        for step in steps:
            changed = step(changed)
        if changed.equals(before):
            break
    return without_empty(changed), codes


def _steps(preparation: Preparation) -> list[Callable[[pa.Array], pa.Array]]:
    """What is done to text, in its order."""
    steps: list[Callable[[pa.Array], pa.Array]] = []
    if preparation.accents:
        steps.append(_without_accents)
    if preparation.case:
        steps.append(_casefold)
    if preparation.punctuation:
        steps.append(lambda values: pc.replace_substring_regex(values, r"\p{P}+", ""))
    if preparation.inner_spaces:
        steps.append(_without_spaces if preparation.outer_spaces else _without_inner_spaces)
    elif preparation.outer_spaces:
        steps.append(lambda values: pc.utf8_trim(values, characters=WHITE_SPACE))
    if preparation.leading_zeros:
        steps.append(_without_leading_zeros)
    return steps


def _ascii_steps(preparation: Preparation) -> list[Callable[[pa.Array], pa.Array]]:
    """The same for text in ASCII. Done once, they leave nothing for a second time."""
    steps: list[Callable[[pa.Array], pa.Array]] = []
    if preparation.case:
        steps.append(pc.ascii_lower)
    if preparation.punctuation:
        steps.append(lambda values: ascii_text.without(values, ascii_text.PUNCTUATION))
    if preparation.inner_spaces and preparation.outer_spaces:
        steps.append(lambda values: ascii_text.without(values, ascii_text.SPACES))
    elif preparation.inner_spaces:
        steps.append(ascii_text.without_inner_spaces)
    elif preparation.outer_spaces:
        steps.append(lambda values: pc.ascii_trim(values, characters=ascii_text.SPACES))
    if preparation.leading_zeros:
        steps.append(_without_leading_zeros)
    return steps


def _without_leading_zeros(values: pa.Array) -> pa.Array:
    if not pc.any(pc.starts_with(values, "0")).as_py():
        return values
    return pc.replace_substring_regex(values, r"^0+([0-9])", r"\1")


def _without_accents(values: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(pc.utf8_normalize(values, form="NFD"), r"\p{M}+", "")


def _without_spaces(values: pa.Array) -> pa.Array:
    return pc.replace_substring_regex(values, f"{_SPACES}+", "")


def _without_inner_spaces(values: pa.Array) -> pa.Array:
    parts = pc.extract_regex(values, f"(?s)^(?P<before>{_SPACES}*)(?P<inner>.*?)(?P<after>{_SPACES}*)$")
    before, inner, after = (pc.struct_field(parts, name) for name in ("before", "inner", "after"))
    return pc.binary_join_element_wise(before, _without_spaces(inner), after, pa.scalar("", values.type))


def _casefold(values: pa.Array) -> pa.Array:
    """Full Unicode case folding (Unicode 15, chapter 3.13, toCasefold) of distinct values.

    Folding looks at one character at a time, so that all values are folded as one text, with a character
    between them that no value contains.
    """
    if not len(values):
        return values
    filled = values.fill_null("") if values.null_count else values
    if is_ascii(filled):
        return pc.ascii_lower(values)
    whole = "".join(pc.binary_join(_as_one_list(filled), pa.scalar("", filled.type)).to_pylist())
    if all(_lowers_as_it_folds(letter) for letter in set(whole)):
        return pc.utf8_lower(values)
    texts = filled.to_pylist()
    separator = next(chr(code) for code in range(1, 0xD800) if chr(code) not in whole)
    folded = pa.array(separator.join(texts).casefold().split(separator), pa.large_string())
    return (
        pc.if_else(values.is_valid(), folded, pa.scalar(None, folded.type)) if values.null_count else folded
    )


def _as_one_list(values: pa.Array) -> pa.Array:
    return pa.LargeListArray.from_arrays(pa.array([0, len(values)], pa.int64()), values)


@cache
def _lowers_as_it_folds(letter: str) -> bool:
    """Whether Arrow's lower case of a character, which looks at no other, is its case folding."""
    lowered: str = pc.utf8_lower(pa.scalar(letter)).as_py()
    return lowered == letter.casefold()
