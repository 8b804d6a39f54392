"""Which value of one side most likely means which of the other: slips of the keyboard and other names.

Candidates come from two indexes of our own: texts with a character or two left out, as in Bocek, Hunt and
Stiller, "Fast similarity search in large dictionaries" (2007), and the words of texts. RapidFuzz measures
what they find. A value has a partner here only if one of all the other side's values is better than the rest
by a clear margin. Digits are never changed: running numbers are each other's neighbours.
"""

from __future__ import annotations

import msgspec
import numpy as np
import pyarrow as pa
from rapidfuzz import process
from rapidfuzz.distance import OSA

from keen_trellis.core.insight.words import Vocabulary
from keen_trellis.core.letters import Keyed, Letters, Vector, blocks, pairs_once, with_same_key
from keen_trellis.core.ordering import among
from keen_trellis.core.parallel import each
from keen_trellis.core.table import spread_rows
from keen_trellis.core.task import Task

# Shorter texts are all alike.
_LEAST_LENGTH = 4
_LEAST_LENGTH_OF_TWO = 5
_LONGEST_OF_TWO = 15
_LONGEST = 120
# Where more texts are the same apart from a character, none of them stands out.
_MOST_ALIKE = 12
_BLOCK = 1 << 17
# Where chance is judged: from how many values, in classes of length that begin so, and what share of the
# pairs that are taken unseen may be wrong.
_SAMPLED = 5_000
_LENGTHS = (6, 9, 12, 16, 21)
_MOST_WRONG = 0.015


class Partners(msgspec.Struct, frozen=True):
    """Pairs of values, by their numbers in the arrays that were asked about; each left value once.

    likely: whether the pair can be taken without being looked at.
    """

    mine: Vector
    theirs: Vector
    likely: Vector

    def __len__(self) -> int:
        return len(self.mine)

    @staticmethod
    def none() -> Partners:
        nothing = np.zeros(0, np.int64)
        return Partners(nothing, nothing, nothing.astype(bool))


def misspelt(mine: pa.Array, theirs: pa.Array, task: Task, *, digits: bool = False) -> Partners:
    """For values of `mine` the one of `theirs` that is a slip or two away: a character too many, missing,
    another one, or two swapped.

    A pair is likely if values of its length seldom have such a neighbour by chance: how often they do is seen
    from some of `theirs`, which are looked for among the others. Codes in which letters and digits mix freely
    are never likely: another code may be as true as the one that is known.

    mine, theirs: distinct texts without null, prepared alike.  digits: a digit may differ, too; such pairs
    are never likely.
    """
    task.checkpoint(0, 0, "looking for misspellings")
    sample = np.zeros(0, np.int64)
    if not digits:
        sample = sampled_places(theirs)
    asked = pa.concat_arrays([mine, theirs.take(pa.array(sample))])
    one, other = Letters.of(asked), Letters.of(theirs)
    found = [_apart(one, other, task, digits=digits)]
    if not digits:
        task.checkpoint(0, 0, "looking for misspellings of long names")
        found.append(_with_a_word_in_common(asked, theirs, one.lengths > _LONGEST_OF_TWO))
    left, right = pairs_once(*(np.concatenate(side) for side in zip(*found, strict=True)))
    itself = np.concatenate((np.full(len(mine), -1), sample))
    kept = itself[left] != right
    if not digits:
        kept &= one.of_digits[left] == other.of_digits[right]
    left, right = left[kept], right[kept]
    distance = _distances(asked, theirs, left, right, task)
    nearest = _clearly_nearest(left, right, distance, one.lengths)
    own = nearest.mine < len(mine)
    likely = np.zeros(len(own), dtype=bool)
    if not digits:
        free = one.are_free_codes[nearest.mine] | other.are_free_codes[nearest.theirs]
        likely = nearest.likely(one, len(mine)) & ~free
    return Partners(nearest.mine[own], nearest.theirs[own], likely[own])


def _apart(one: Letters, other: Letters, task: Task, *, digits: bool) -> tuple[Vector, Vector]:
    """Pairs that are the same once a character or two of each are left out."""

    def keyed(letters: Letters, opposite: Letters, slack: int) -> Keyed:
        sizes = letters.lengths
        asked = (sizes >= _LEAST_LENGTH - slack) & (sizes <= _LONGEST)
        may_go = np.ones(len(letters.points), dtype=bool)
        if not digits:
            may_go = ~letters.are_digits
            asked &= among(letters.of_digits, opposite.of_digits)
        keys = [Keyed(letters.whole[asked], np.flatnonzero(asked))]
        keys.append(letters.without_one(may_go & asked[letters.owner]))
        if not digits:
            task.checkpoint(0, 0, "looking for misspellings")
            twice = asked & (sizes >= _LEAST_LENGTH_OF_TWO - slack) & (sizes <= _LONGEST_OF_TWO + slack)
            keys.append(letters.without_two(may_go & twice[letters.owner]))
        return Keyed.all_of(keys)

    mine, theirs = each(lambda side: keyed(*side), ((one, other, 0), (other, one, 2)))
    task.checkpoint(0, 0, "comparing what is left of misspellings")
    return with_same_key(mine, theirs, _MOST_ALIKE)


def _with_a_word_in_common(mine: pa.Array, theirs: pa.Array, asked: Vector) -> tuple[Vector, Vector]:
    """Pairs of long texts, which have too many characters for two of them to be left out each way."""
    if not asked.any():
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    return Vocabulary.of(mine, theirs).sharing(asked, _MOST_ALIKE)


def _distances(mine: pa.Array, theirs: pa.Array, left: Vector, right: Vector, task: Task) -> Vector:
    """How many slips apart the pairs are (optimal string alignment), uint8; more than 2 is 3."""
    made = [np.zeros(0, np.uint8)]
    for part in blocks(len(left), _BLOCK):
        task.checkpoint(part.start, len(left), "measuring how alike values are")
        texts = (
            values.take(pa.array(numbers[part])).to_pylist()
            for values, numbers in ((mine, left), (theirs, right))
        )
        made.append(process.cpdist(*texts, scorer=OSA.distance, score_cutoff=2, dtype=np.uint8, workers=-1))
    return np.concatenate(made)


class _Nearest(msgspec.Struct, frozen=True):
    """Values with one nearest value. distance: to it.  alone: whether no other is within two slips."""

    mine: Vector
    theirs: Vector
    distance: Vector
    alone: Vector

    def likely(self, letters: Letters, own: int) -> Vector:
        """Which pairs can be taken unseen. own: so many values are asked about, the rest tell chance."""
        length, figures = letters.lengths[self.mine], letters.digits_of[self.mine]
        # A letter of a code may be another collection's.
        worded = 2 * figures < length
        wanted = worded & (length >= np.where(self.alone, 6, 9)) & ((self.distance == 1) | (length >= 11))
        classes = np.searchsorted(_LENGTHS, letters.lengths, side="right")
        is_own = np.arange(len(classes)) < own
        words = 2 * letters.digits_of < letters.lengths
        size = len(_LENGTHS) + 1
        asked, sampled = (np.bincount(classes[words & mask], minlength=size) for mask in (is_own, ~is_own))
        kind = (classes[self.mine] * 3 + self.distance) * 2 + self.alone
        by_class = np.arange(size * 6) // 6
        certain = seldom_by_chance(kind, is_own[self.mine], wanted, asked[by_class], sampled[by_class])
        return np.asarray(wanted & certain)


def sampled_places(values: pa.Array) -> Vector:
    """The places of some values, from which it is judged what happens by chance."""
    return spread_rows(len(values), _SAMPLED)


def seldom_by_chance(kinds: Vector, own: Vector, wanted: Vector, asked: Vector, sampled: Vector) -> Vector:
    """Of pairs by kind whether so few of their kind arise by chance that they can be taken unseen.

    kinds: of each pair its kind.  own: which pairs were asked about; the others are those of a sample that
    has no true partners.  wanted: which pairs count.  asked, sampled: for each kind how many values there
    are.
    """
    found, chance = (np.bincount(kinds[wanted & mask], minlength=len(asked)) for mask in (own, ~own))
    wrong = chance / np.maximum(sampled, 1) * asked
    return np.asarray((wrong <= _MOST_WRONG * found)[kinds])


def _clearly_nearest(left: Vector, right: Vector, distance: Vector, lengths: Vector) -> _Nearest:
    """Of each left value the nearest right one, if no other is as near."""
    near = distance <= 2
    left, right, distance = left[near], right[near], distance[near]
    order = np.lexsort((right, distance, left))
    left, right, distance = left[order], right[order], distance[order]
    first = np.flatnonzero(np.diff(left, prepend=-1))
    best = distance[first]
    following = np.append(distance, 9)[np.minimum(first + 1, len(distance))]
    ends = np.append(left, -1)[np.minimum(first + 1, len(left))] != left[first]
    next_best = np.where(ends, 9, following)
    clear = (next_best > best) & (best <= np.where(lengths[left[first]] >= 9, 2, 1)) & (best > 0)
    chosen = first[clear]
    return _Nearest(left[chosen], right[chosen], best[clear].astype(np.int64), next_best[clear] > 2)
