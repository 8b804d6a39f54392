"""What a link can ignore. A module of its own, so that the command line can name it without loading more."""

from __future__ import annotations

from collections.abc import Iterable

# The preparations by the name they have in flow files and on the command line, in the order in which they
# are applied, each with the words of the sentence ("ignoring case and ...").
PREPARATIONS = {
    "accents": "accents",
    "case": "case",
    "punctuation": "punctuation",
    "inner-spaces": "inner spaces",
    "outer-spaces": "outer spaces",
    "leading-zeros": "leading zeros",
}


def in_words(names: Iterable[str]) -> str:
    """What is ignored as a sentence says it: case, accents and outer spaces; "" for nothing."""
    words = [PREPARATIONS[name] for name in names]
    return " and ".join([", ".join(words[:-1]), words[-1]]) if len(words) > 1 else "".join(words)
