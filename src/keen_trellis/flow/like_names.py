"""Fields that are called alike, and which of them go together."""

from __future__ import annotations

from collections.abc import Iterable

from rapidfuzz import fuzz, utils

LIKE_NAMES = 75  # fields that are called so much alike are taken for the same one


def like_names(one: str, other: str) -> float:
    """How much two fields are called alike, 0 to 100: by their words, whatever their order and case."""
    return fuzz.token_set_ratio(one, other, processor=utils.default_process)


def each_once(scored: Iterable[tuple[float, str, str]]) -> dict[str, str]:
    """Pairs with the highest scores in which each name is once on its side: the second by the first."""
    taken: dict[str, str] = {}
    for _, one, other in sorted(scored, key=lambda entry: -entry[0]):
        if one not in taken and other not in taken.values():
            taken[one] = other
    return taken
