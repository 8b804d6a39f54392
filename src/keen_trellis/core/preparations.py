"""What a link can ignore. A module of its own, so that the command line can name it without loading more."""

from __future__ import annotations

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
