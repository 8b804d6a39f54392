"""The words of texts as numbers, both sides in one vocabulary, and which texts have words in common."""

from __future__ import annotations

from functools import cached_property

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.letters import Keyed, Letters, Vector, powers, with_same_key
from keen_trellis.core.ragged import repeated, running_total

# Words that say nothing of what a name stands for.
_PASSED_OVER = ("of", "the", "and", "for", "in", "at", "on")


class Words(msgspec.Struct, frozen=True, dict=True):
    """The words of n texts, one text after the other.

    numbers: of each word its number in the vocabulary.  starts: where each text begins; one entry more, the
    end.
    """

    numbers: Vector
    starts: Vector

    @property
    def counts(self) -> Vector:
        """How many words each text has."""
        return np.diff(self.starts)

    @cached_property
    def owner(self) -> Vector:
        """Of each word the number of its text."""
        return repeated(np.arange(len(self.starts) - 1), self.counts)

    @cached_property
    def place(self) -> Vector:
        """Of each word its place in its text, from 0."""
        return np.arange(len(self.numbers)) - self.starts[self.owner]

    def in_order(self, values: Vector) -> Vector:
        """A fingerprint of each text: of one value a word, in their order. uint64."""
        sums = np.zeros(len(self.numbers) + 1, np.uint64)
        np.cumsum(
            values.astype(np.uint64) * powers(int(self.counts.max(initial=0)))[self.place], out=sums[1:]
        )
        return sums[self.starts[1:]] - sums[self.starts[:-1]]

    @cached_property
    def sorted(self) -> Words:
        """The words of each text in the order of the vocabulary."""
        return Words(self.numbers[np.lexsort((self.numbers, self.owner))], self.starts)


class Vocabulary(msgspec.Struct, frozen=True, dict=True):
    """The words of both sides. words: distinct, sorted.  one, other: the texts of each side."""

    words: pa.Array
    one: Words
    other: Words

    @staticmethod
    def of(mine: pa.Array, theirs: pa.Array) -> Vocabulary:
        """The vocabulary of texts without null, case and accents of which are folded already."""
        lists = [_split(values) for values in (mine, theirs)]
        coded = pa.concat_arrays([words.flatten() for words in lists]).dictionary_encode()
        order = pc.sort_indices(coded.dictionary).to_numpy()
        ranks = np.empty(len(order), np.int64)
        ranks[order] = np.arange(len(order))
        numbers = ranks[coded.indices.to_numpy(zero_copy_only=False)]
        words = coded.dictionary.take(pa.array(order))
        kept = ~pc.is_in(words, value_set=pa.array(_PASSED_OVER, words.type)).to_numpy(zero_copy_only=False)
        sides, begin = [], 0
        for one in lists:
            lengths = pc.list_value_length(one).to_numpy(zero_copy_only=False)
            end = begin + int(lengths.sum())
            own = numbers[begin:end]
            owner = repeated(np.arange(len(one)), lengths)[kept[own]]
            starts = running_total(np.bincount(owner, minlength=len(one)))
            sides.append(Words(own[kept[own]], starts))
            begin = end
        return Vocabulary(words, *sides)

    @cached_property
    def letters(self) -> Letters:
        return Letters.of(self.words)

    @cached_property
    def lengths(self) -> Vector:
        return self.letters.lengths

    @cached_property
    def initials(self) -> Vector:
        """The first character of each word, as its code point."""
        return self.letters.points[self.letters.starts[:-1]]

    @cached_property
    def last(self) -> Vector:
        """The last character of each word, as its code point."""
        return np.asarray(self.letters.points[self.letters.starts[1:] - 1])

    @cached_property
    def without_vowels(self) -> Vector:
        """Which words have no vowel after their first character."""
        return np.asarray(pc.match_substring_regex(self.words, "^.[^aeiou]*$").to_numpy(zero_copy_only=False))

    @cached_property
    def with_digits(self) -> Vector:
        """Which words have a digit."""
        return np.asarray(pc.match_substring_regex(self.words, "[0-9]").to_numpy(zero_copy_only=False))

    @cached_property
    def in_other(self) -> Vector:
        """In how many texts of the other side each word stands."""
        return np.bincount(self.other.numbers, minlength=len(self.words))

    def sharing(self, asked: Vector, most: int) -> tuple[Vector, Vector]:
        """Pairs of texts with a word in common that at most `most` of the other side have, each pair once.

        asked: a mask of the texts of the first side.
        """
        one, other = self.one, self.other
        mine, theirs = asked[one.owner] & (self.lengths[one.numbers] > 2), self.lengths[other.numbers] > 2
        wanted = Keyed(one.numbers[mine], one.owner[mine])
        known = Keyed(other.numbers[theirs], other.owner[theirs])
        return with_same_key(wanted, known, most, sift=False)


def _split(texts: pa.Array) -> pa.Array:
    """Lists of words: what stands between spaces and signs."""
    spaced = pc.utf8_trim_whitespace(pc.replace_substring_regex(texts, r"[\p{P}\p{S}\p{Z}\s]+", " "))
    words = pc.split_pattern(spaced, " ")
    # A text of signs only has no word.
    return pc.if_else(pc.equal(spaced, ""), pa.scalar([], words.type), words)
