"""Joins the slow, obvious way: every row with every row. The judge where SQLite cannot be one."""

import datetime as dt
import math
import operator
import unicodedata
from decimal import Decimal

from keen_trellis.core.link import LinkField, Preparation, Take, Taken
from tests.tables import rows_of

_SIGNS = {
    "=": operator.eq,
    "<>": operator.ne,
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}
LOST = object()


def comparable(value, other):
    """Two values as Python values that compare as ours do."""
    if isinstance(value, Decimal) and isinstance(other, float):
        value = float(value)
    if isinstance(other, Decimal) and isinstance(value, float):
        other = float(other)
    if isinstance(value, dt.datetime) != isinstance(other, dt.datetime):
        value, other = (
            v if isinstance(v, dt.datetime) else dt.datetime.combine(v, dt.time()) for v in (value, other)
        )
    return _key(value), _key(other)


def _key(value):
    """NaN above all numbers and equal to itself."""
    if isinstance(value, float):
        return (1, 0) if math.isnan(value) else (0, value)
    return (0, value) if isinstance(value, int | Decimal) else value


def prepared_text(text, preparation: Preparation):
    """Text as it is compared."""
    spaces = "".join(
        chr(code) for code in range(0x3001) if chr(code).isspace() and code not in range(0x1C, 0x20)
    )
    before = None
    while before != text:
        before = text
        if preparation.accents:
            plain = unicodedata.normalize("NFD", text)
            text = "".join(c for c in plain if not unicodedata.category(c).startswith("M"))
        if preparation.case:
            text = text.casefold()
        if preparation.punctuation:
            text = "".join(c for c in text if not unicodedata.category(c).startswith("P"))
        if preparation.inner_spaces:
            bare = text.strip(spaces)
            start = text.find(bare) if bare else len(text)
            inner = "".join(c for c in bare if c not in spaces)
            text = text[:start] + inner + text[start + len(bare) :]
        if preparation.outer_spaces:
            text = text.strip(spaces)
        if preparation.leading_zeros:
            while len(text) > 1 and text[0] == "0" and text[1] in "0123456789":
                text = text[1:]
    return text or None


def prepared(value, preparation: Preparation):
    """A value as it is compared; LOST if it cannot be converted."""
    if value is None:
        return None
    corrections = dict(preparation.corrections)
    if isinstance(value, str):
        value = corrections.get(value, value)
    if preparation.compare_as == "text" and not isinstance(value, str):
        value = str(value)
    if preparation.compare_as == "number" and isinstance(value, str):
        try:
            value = Decimal(value.strip())
        except ArithmeticError:
            return LOST
    return prepared_text(value, preparation) if isinstance(value, str) else value


def holds(link: LinkField, value, other):
    """True, False or None for unknown."""
    value, other = prepared(value, link.preparation), prepared(other, link.preparation)
    if value is LOST or other is LOST:
        return None
    if value is None or other is None:
        if not link.blanks:
            return None
        return (value is other) == (link.operator.value == "=")
    return _SIGNS[link.operator.value](*comparable(value, other))


def every_match(left, right, links, any_of=False):
    """All matching pairs, in left order and then right order."""
    ones, others = rows_of(left), rows_of(right)
    places = [(left.names.index(link.left), right.names.index(link.right)) for link in links]
    found = []
    for i, one in enumerate(ones):
        for j, other in enumerate(others):
            truths = [holds(link, one[a], other[b]) for link, (a, b) in zip(links, places, strict=True)]
            if any(t is True for t in truths) if any_of else all(t is True for t in truths):
                found.append((i, j))
    return found


def taken(pairs, take: Take, values):
    """The pairs that are taken. values: of the right rows, for the least and the greatest."""
    if take.kind in (Taken.EVERY, Taken.ONE):
        return pairs
    chosen, used = [], set()
    for left in dict.fromkeys(i for i, _ in pairs):
        partners = [j for i, j in pairs if i == left]
        if take.kind is Taken.FIRST:
            best = partners[0]
        elif take.kind is Taken.LAST:
            best = partners[-1]
        elif take.kind is Taken.PAIR_OFF:
            best = next((j for j in partners if j not in used), None)
            used.add(best)
        else:
            known = [j for j in partners if values[j] is not None]
            pick = min if take.kind is Taken.LEAST else max
            best = pick(known, key=lambda j: _key(values[j])) if known else None
        if best is not None:
            chosen.append((left, best))
    return chosen
