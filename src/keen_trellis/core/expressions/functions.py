"""Functions of expressions that are made of other parts, or of whole columns: choosing, powers, padding."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.comparing import COMPARE, as_comparable
from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions import arithmetic, held, text
from keen_trellis.core.expressions.expression import Node, RowCells

_LONGEST_PADDED = 100_000


def extreme(nodes: Sequence[Node], what: str) -> Node:
    """GREATEST or LEAST (SQL:2023): blank if one of the values is, compared as comparisons do."""
    kind = held.common_type(nodes, what)
    sides = [held.as_type(node, kind) for node in nodes]
    if pa.types.is_null(kind):
        return sides[0]
    stays = COMPARE[">=" if what == "GREATEST" else "<="]

    def compute(rows: RowCells) -> pa.Array:
        found, *others = (side.evaluate(rows) for side in sides)
        for other in others:
            known = held.valid(found) & held.valid(other)
            first = pa.array(stays(*as_comparable(found, other)), mask=~known)
            found = pc.if_else(first, found, other)
        return found

    return Node(kind, compute)


def sign_of(node: Node) -> Node:
    """SIGN: -1, 0 or 1; NaN is above all numbers."""
    number = arithmetic.of_number(node, "SIGN")

    def compute(rows: RowCells) -> pa.Array:
        values = number.evaluate(rows)
        sides = as_comparable(values, pa.repeat(pa.scalar(0, held.INTEGER), rows.count))
        above, below = (COMPARE[sign](*sides).astype(np.int64) for sign in (">", "<"))
        return pa.array(above - below, held.INTEGER, mask=~held.valid(values))

    return Node(held.INTEGER, compute)


def power(base: Node, exponent: Node, what: str) -> Node:
    """POWER, and SQRT as the power of a half: real; blank where there is none, counted."""
    one, other = (held.as_type(arithmetic.of_number(node, what), held.REAL) for node in (base, exponent))

    def compute(rows: RowCells) -> pa.Array:
        sides = [node.evaluate(rows) for node in (one, other)]
        known = held.valid(sides[0]) & held.valid(sides[1])
        numbers = [side.fill_null(1.0).to_numpy(zero_copy_only=False) for side in sides]
        with np.errstate(all="ignore"):
            made = np.sqrt(numbers[0]) if what == "SQRT" else np.power(numbers[0], numbers[1])
        finite = np.isfinite(numbers[0]) & np.isfinite(numbers[1])
        there = np.isfinite(made) | ~finite
        rows.notes.out_of_range += int(np.count_nonzero(known & ~there))
        return pa.array(made, mask=~(known & there))

    return Node(held.REAL, compute)


def padded(node: Node, length: int, pad: str, *, left: bool) -> Node:
    """LPAD or RPAD (SQL:2023): to so many characters, a longer text cut to its first ones."""
    what = "LPAD" if left else "RPAD"
    if not pad:
        raise UsageError(f"{what} needs something to pad with.")
    if length > _LONGEST_PADDED:
        raise UsageError(f"{what} pads to {_LONGEST_PADDED:,} characters at most.")
    whole = (pad * (length // len(pad) + 1))[:length]
    # A piece of what is padded with for each number of characters that can be missing.
    pieces = (
        pa.array([whole[:missing] for missing in range(length + 1)], held.TEXT) if length <= 256 else None
    )

    def work(values: pa.Array) -> pa.Array:
        cut = (
            pc.utf8_slice_codeunits(values, 0, length)
            if length
            else pc.if_else(values.is_valid(), "", values)
        )
        cut = cut.cast(held.TEXT)
        missing = pc.subtract(length, pc.utf8_length(cut))
        if pieces is not None:
            filling = pieces.take(missing)
        else:
            counts = missing.fill_null(0).to_numpy(zero_copy_only=False)
            distinct, number = np.unique(counts, return_inverse=True)
            some = pa.array([whole[:count] for count in distinct.tolist()], held.TEXT)
            filling = some.take(pa.array(number, mask=~held.valid(missing)))
        parts = (filling, cut) if left else (cut, filling)
        return pc.binary_join_element_wise(*parts, pa.scalar("", held.TEXT))

    return text.on_text(work, node, what)


def overlay(node: Node, placed: Node, start: Node, length: Node | None) -> Node:
    """OVERLAY (SQL:2016, 6.30): what it is there defined as, of SUBSTRING and ||."""
    one = held.constant(1, held.INTEGER)
    size = length or text.on_text(
        lambda values: pc.utf8_length(values).cast(held.INTEGER), placed, "OVERLAY", held.INTEGER
    )
    before = text.substring(node, one, arithmetic.arithmetic("-", start, one))
    behind = text.substring(node, arithmetic.arithmetic("+", start, size), None)
    return text.joined_text(text.joined_text(before, placed), behind)


# --- LIKE_REGEX ---

_ESCAPES = {"d": r"\p{Nd}", "D": r"\P{Nd}", "n": r"\n", "r": r"\r", "t": r"\t"}
_SPACES = " \\t\\n\\r"
_SIGNS = set("\\|.?*+(){}[]^$-")
_PROPERTY = re.compile(r"[pP]\{[A-Z][a-z]?\}")


def like_regex(node: Node, pattern: str) -> Node:
    """LIKE_REGEX (SQL:2016, 8.6): whether a part of the text matches an XQuery regular expression, in linear
    time. UsageError for what RE2 reads otherwise than XQuery does.
    """
    matched = text.of_text(node, "LIKE_REGEX")
    expression = _translated(pattern)
    try:
        pc.match_substring_regex(pa.array([""], held.TEXT), expression)
    except pa.ArrowInvalid as error:
        raise UsageError(f"“{pattern}” is no regular expression: {error}.") from error
    return Node(held.BOOLEAN, lambda rows: pc.match_substring_regex(matched.evaluate(rows), expression))


def _translated(pattern: str) -> str:
    """A regular expression of XQuery (XML Schema 1.1, part 2, appendix G) as RE2 writes the same."""
    made, place, in_class, opened = "", 0, False, -1
    while place < len(pattern):
        letter, rest = pattern[place], pattern[place + 1 :]
        if letter == "\\":
            step, said = _escape(rest, pattern, in_class=in_class)
            made, place = made + said, place + 1 + step
            continue
        if in_class:
            if letter == "[" or (letter == "-" and rest[:1] == "["):
                raise _refused(pattern, "a class within a class")
            in_class = letter != "]" or place == opened + 1
            made += f"\\{letter}" if letter in "&~" else letter
        elif letter == "[":
            in_class, opened = True, place + (1 if rest[:1] == "^" else 0)
            made += letter
        elif letter == "(" and rest[:1] == "?":
            raise _refused(pattern, "“(?”")
        else:
            made += "[^\\n\\r]" if letter == "." else letter
        place += 1
    return made


def _escape(rest: str, pattern: str, *, in_class: bool) -> tuple[int, str]:
    """How many letters belong to an escape, and what RE2 writes for it."""
    letter = rest[:1]
    if letter in _SIGNS and letter:
        return 1, f"\\{letter}"
    if letter in ("s", "S"):
        if in_class and letter == "S":
            raise _refused(pattern, "“\\S” in a class")
        return 1, _SPACES if in_class else f"[{'^' if letter == 'S' else ''}{_SPACES}]"
    if letter in _ESCAPES:
        return 1, _ESCAPES[letter]
    found = _PROPERTY.match(rest)
    if found:
        return len(found[0]), f"\\{found[0]}"
    raise _refused(pattern, f"“\\{letter}”")


def _refused(pattern: str, what: str) -> UsageError:
    return UsageError(
        f"The regular expression “{pattern}” has {what}, which is not computed here as the standard says.",
        remedy=r"It can have . [a-z] [^a-z] * + ? {2,3} | ( ) ^ $ \d \s \p{L}, and any sign behind a \.",
    )
