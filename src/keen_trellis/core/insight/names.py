"""Other names for the same thing: words in another order, abbreviations and initials, a longer form.

Both sides' words are numbered in one vocabulary; texts are compared by vectors of these numbers. A value has
a partner only if one of all the other side's values fits.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pyarrow as pa
from rapidfuzz import process
from rapidfuzz.distance import LCSseq, Prefix

from keen_trellis.core.insight.partners import Partners, sampled_places, seldom_by_chance
from keen_trellis.core.insight.words import Vocabulary, Words
from keen_trellis.core.letters import Keyed, Letters, Vector, pairs_once, powers, with_same_key
from keen_trellis.core.ordering import distinct_numbers
from keen_trellis.core.ragged import laid_out
from keen_trellis.core.task import Task

ORDER, SHORTER, ACRONYM, PART = "order", "shorter", "acronym", "part"
# Words that more values have tell little.
_MOST_ALIKE = 40
# A part of a name stands for it only if it says more than that it is a museum.
_MOST_WITH_WORD = 4
_LEAST_ALONE = 5
# What more words have is judged together.
_MOST_WORDS = 6
_INITIALS, _TWO = range(3, 7), range(2, 3)  # how many words initials are of; two fit much by chance


def other_names(mine: pa.Array, theirs: pa.Array, task: Task) -> Iterator[tuple[str, Partners]]:
    """By the way in which they differ the pairs of names that stand for the same; each value of `mine` once.

    mine, theirs: distinct texts without null; case and accents are folded already.
    """
    task.checkpoint(0, 0, "looking for other names")
    sample = sampled_places(theirs)
    words = Vocabulary.of(pa.concat_arrays([mine, theirs.take(pa.array(sample))]), theirs)
    itself = np.concatenate((np.full(len(mine), -1), sample))
    sizes = np.minimum(words.one.counts, _MOST_WORDS)
    asked, sampled = (
        np.bincount(part, minlength=_MOST_WORDS + 1) for part in (sizes[: len(mine)], sizes[len(mine) :])
    )
    is_open = words.one.counts > 0
    for way, finds, likely in (
        (ORDER, _in_another_order, True),
        (SHORTER, _abbreviated, True),
        (ACRONYM, _initials, False),
        (PART, _containing, False),
    ):
        task.checkpoint(0, 0, "looking for other names")
        left, right = finds(words, is_open)
        others = itself[left] != right
        found = _only_ones(left[others], right[others])
        own = found.mine < len(mine)
        if own.any():
            is_open[found.mine[own]] = False
            every = np.ones(len(found), dtype=bool)
            sure = seldom_by_chance(sizes[found.mine], own, every, asked, sampled) & likely
            yield way, Partners(found.mine[own], found.theirs[own], sure[own])


def two_initials(mine: pa.Array, theirs: pa.Array, task: Task) -> Partners:
    """Two letters that are the initials of a name of two words, as UK, on either side; nothing that is sure.

    mine, theirs: as for `other_names`.
    """
    task.checkpoint(0, 0, "looking for initials")
    words = Vocabulary.of(mine, theirs)
    return _only_ones(*_initials(words, words.one.counts > 0, _TWO))


def _only_ones(left: Vector, right: Vector) -> Partners:
    """The pairs of left values that have one partner only."""
    if not len(left):
        return Partners.none()
    left, right = pairs_once(left, right)
    only = (np.bincount(left) == 1)[left]
    return Partners(left[only], right[only], np.zeros(np.count_nonzero(only), dtype=bool))


def _in_another_order(words: Vocabulary, is_open: Vector) -> tuple[Vector, Vector]:
    """Texts of the same words, two or more."""
    keys = [side.sorted.in_order(side.sorted.numbers + 1) for side in (words.one, words.other)]
    mine = np.flatnonzero(is_open & (words.one.counts > 1))
    theirs = np.flatnonzero(words.other.counts > 1)
    return with_same_key(Keyed(keys[0][mine], mine), Keyed(keys[1][theirs], theirs), _MOST_ALIKE)


# --- abbreviations ---


def _abbreviated(words: Vocabulary, is_open: Vector) -> tuple[Vector, Vector]:
    """Texts of as many words, each the same or short for the other's in its place.

    Candidates have the same initials and a word in common; or, where there are few, the initials alone.
    """
    keys, alone = [], []
    for side, wanted in ((words.one, is_open), (words.other, np.ones(len(words.other.counts), dtype=bool))):
        initials = side.in_order(words.initials[side.numbers])
        asked = wanted & (side.counts > 1)
        alone.append(Keyed(initials[asked], np.flatnonzero(asked)))
        whole = asked[side.owner] & (words.lengths[side.numbers] > 2)
        owner = side.owner[whole]
        mixed = (side.numbers[whole] * 64 + np.minimum(side.place[whole], 63)).astype(np.uint64)
        keys.append(Keyed(initials[owner] + mixed * powers(3)[2], owner))
    with_word = with_same_key(keys[0], keys[1], _MOST_ALIKE)
    without = with_same_key(alone[0], alone[1], _MOST_ALIKE)
    left, right = pairs_once(*(np.concatenate(both) for both in zip(with_word, without, strict=True)))
    same_length = words.one.counts[left] == words.other.counts[right]
    left, right = left[same_length], right[same_length]
    fits = _word_by_word(words, left, right)
    return left[fits], right[fits]


def _word_by_word(words: Vocabulary, left: Vector, right: Vector) -> Vector:
    """Whether in pairs of texts of as many words each word is the same as the other's or short for it."""
    pair, place = laid_out(words.one.counts[left])
    one = words.one.numbers[words.one.starts[left][pair] + place]
    other = words.other.numbers[words.other.starts[right][pair] + place]
    fits = one == other
    differ = np.flatnonzero(~fits)
    both, number = np.unique(one[differ] * len(words.words) + other[differ], return_inverse=True)
    fits[differ] = _short_for(words, both // len(words.words), both % len(words.words))[number]
    return np.asarray(np.bincount(pair[~fits], minlength=len(left)) == 0)


def _short_for(words: Vocabulary, one: Vector, other: Vector) -> Vector:
    """For pairs of words whether one has the first letter of the other and then letters of it in their order.

    Words with digits are short for nothing.
    """
    swap = words.lengths[one] > words.lengths[other]
    short, long = np.where(swap, other, one), np.where(swap, one, other)
    fits = (words.initials[short] == words.initials[long]) & (words.lengths[short] < words.lengths[long])
    fits &= ~(words.with_digits[short] | words.with_digits[long])
    # What has as many vowels as any word is a word of its own, unless the other begins with it.
    contracted = words.without_vowels[short] | (
        (words.lengths[short] <= 4) & (words.last[short] == words.last[long])
    )
    at = np.flatnonzero(fits)
    texts = [words.words.take(pa.array(numbers[at])).to_pylist() for numbers in (short, long)]
    alike = [
        process.cpdist(*texts, scorer=scorer, dtype=np.int32, workers=-1) == words.lengths[short[at]]
        for scorer in (Prefix.similarity, LCSseq.similarity)
    ]
    fits[at] = alike[0] | (alike[1] & contracted[at])
    return np.asarray(fits)


def _initials(words: Vocabulary, is_open: Vector, sizes: range = _INITIALS) -> tuple[Vector, Vector]:
    """One word that is made of the initials of the other's, on either side."""
    everything = np.ones(len(words.other.counts), dtype=bool)
    forth = _initials_of(words, words.one, is_open, words.other, everything, sizes)
    back = _initials_of(words, words.other, everything, words.one, is_open, sizes)
    return np.concatenate((forth[0], back[1])), np.concatenate((forth[1], back[0]))


def _initials_of(
    words: Vocabulary, short: Words, short_asked: Vector, long: Words, long_asked: Vector, sizes: range
) -> tuple[Vector, Vector]:
    lengths = np.zeros(len(short.counts), np.int64)
    single = short.counts == 1
    lengths[single] = words.lengths[short.numbers[short.starts[:-1][single]]]
    mine = np.flatnonzero(short_asked & (lengths >= sizes.start) & (lengths < sizes.stop))
    spelt = Letters.of(words.words.take(pa.array(short.numbers[short.starts[mine]])))
    theirs = np.flatnonzero(long_asked & (long.counts >= sizes.start) & (long.counts < sizes.stop))
    keys = long.in_order(words.initials[long.numbers])[theirs]
    return with_same_key(Keyed(spelt.whole, mine), Keyed(keys, theirs), _MOST_ALIKE)


# --- a longer form ---


def _containing(words: Vocabulary, is_open: Vector) -> tuple[Vector, Vector]:
    """Texts all words of which the other has, among more; on either side."""
    on_other = words.in_other
    everything = np.ones(len(words.other.counts), dtype=bool)
    mine, theirs = _contained(words, words.one, is_open, words.other, everything, on_other)
    theirs_too, mine_too = _contained(words, words.other, everything, words.one, is_open, on_other)
    return np.concatenate((mine, mine_too)), np.concatenate((theirs, theirs_too))


def _contained(
    words: Vocabulary, short: Words, short_asked: Vector, long: Words, long_asked: Vector, often: Vector
) -> tuple[Vector, Vector]:
    """Pairs of a short text and a long one that has all of its words. They are sought by the rarest word."""
    enough = (short.counts > 1) & short_asked
    single = np.flatnonzero((short.counts == 1) & short_asked)
    word = short.numbers[short.starts[:-1][single]]
    enough[single] = (words.lengths[word] >= _LEAST_ALONE) & ~words.with_digits[word]
    rarest = _rarest(short, often)
    asked = np.flatnonzero(enough)
    held = long_asked[long.owner]
    sought = Keyed(rarest[asked], asked)
    left, right = with_same_key(
        sought, Keyed(long.numbers[held], long.owner[held]), _MOST_WITH_WORD, sift=False
    )
    longer = long.counts[right] > short.counts[left]
    left, right = left[longer], right[longer]
    size = max(len(words.words), 1)
    known = distinct_numbers(long.owner * size + long.numbers)
    pair, place = laid_out(short.counts[left])
    wanted = right[pair] * size + short.numbers[short.starts[left][pair] + place]
    there = (
        known[np.minimum(np.searchsorted(known, wanted), len(known) - 1)] == wanted
        if len(known)
        else wanted < 0
    )
    fits = np.bincount(pair[~there], minlength=len(left)) == 0
    return left[fits], right[fits]


def _rarest(texts: Words, often: Vector) -> Vector:
    """Of each text the word that stands in the fewest others; -1 for a text without words."""
    order = np.lexsort((often[texts.numbers], texts.owner))
    found = np.full(len(texts.counts), -1, np.int64)
    filled = texts.counts > 0
    found[filled] = texts.numbers[order[texts.starts[:-1][filled]]]
    return found
