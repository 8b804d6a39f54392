"""How two values differ that probably mean the same: in a few words, to group them, and where, to mark it."""

from __future__ import annotations

import msgspec
from rapidfuzz.distance import OSA, Levenshtein


class Difference(msgspec.Struct, frozen=True):
    """said: the difference in words, the same for pairs that differ alike.

    one, other: of either value the stretches that differ, as start and end.
    """

    said: str
    one: tuple[tuple[int, int], ...]
    other: tuple[tuple[int, int], ...]


def difference(one: str, other: str) -> Difference:
    """How `one` differs from `other`."""
    changes = [entry for entry in Levenshtein.opcodes(one, other) if entry.tag != "equal"]
    marks = (
        tuple((entry.src_start, entry.src_end) for entry in changes if entry.src_end > entry.src_start),
        tuple((entry.dest_start, entry.dest_end) for entry in changes if entry.dest_end > entry.dest_start),
    )
    return Difference(_said(one, other), *marks)


def _said(one: str, other: str) -> str:
    if _words(one) and "".join(_words(one)) == "".join(_words(other)):
        return "case, spaces or punctuation"
    if sorted(_words(one)) == sorted(_words(other)):
        return "words in another order"
    before = 0
    while before < min(len(one), len(other)) and one[before] == other[before]:
        before += 1
    after = 0
    while after < min(len(one), len(other)) - before and one[-1 - after] == other[-1 - after]:
        after += 1
    mine, theirs = one[before : len(one) - after], other[before : len(other) - after]
    if len(mine) == len(theirs) == 2 and mine == theirs[::-1]:
        return "two characters swapped"
    if len(mine) <= 1 and len(theirs) <= 1:
        if not mine:
            return f"“{theirs}” missing"
        return f"“{mine}” read as “{theirs}”" if theirs else f"“{mine}” too many"
    if set(_words(one)) < set(_words(other)):
        return "words missing"
    if set(_words(one)) > set(_words(other)):
        return "words too many"
    return "two characters" if OSA.distance(one, other) <= 2 else "another form of the name"


def _words(text: str) -> list[str]:
    return "".join(letter if letter.isalnum() else " " for letter in text.casefold()).split()
