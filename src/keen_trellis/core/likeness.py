"""Texts that are nearly the same: which pairs of two sides are alike enough, and how much.

Candidates share rare trigrams of their words (as in Ukkonen, "Approximate string matching with q-grams and
maximal matches", Theoretical Computer Science 92, 1992), or are one name with and without initials; RapidFuzz
scores them. A pair that shares no trigram with a rare one is not looked at, so that never all pairs are; how
many true pairs that finds is measured in `benchmarks`.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from rapidfuzz import fuzz, process

from keen_trellis.core.encoding import Encoded
from keen_trellis.core.letters import Keyed, Letters, Vector, blocks
from keen_trellis.core.parallel import each
from keen_trellis.core.ragged import laid_out
from keen_trellis.core.ranges import Limits, check_pairs
from keen_trellis.core.task import Task

_SPACE = ord(" ")
_BITS = 21  # of a code point
# Of a text so many of its rarest trigrams are looked up, by two; what more texts have tells little.
_MOST_GRAMS, _MOST_WITH_KEY = 6, 30
# Of the candidates of a text the ones that share most with it are scored, and all that differ in a character.
_MOST_SCORED, _MOST_TOLD = 8, 1 << 10
# Texts of such lengths are also looked up without a character.
_SHORTEST, _LONGEST = 3, 60
_SPREAD = 0x5851F42D4C957F2D  # tells groups apart in keys; what is the same all the same is dropped later
_BLOCK = 1 << 14  # texts
_SCORED_BLOCK = 1 << 18  # pairs
# A name that agrees by initials only is less sure than one that is written out.
_FOR_INITIALS, _SAME = 5.0, 100.0
_NO_LETTERS = r"[^\pL\pN]+"
_BUT_INITIALS = r"(\pL)[\pL\pN]*\s"


class Texts(msgspec.Struct, frozen=True):
    """Texts of one side, each once in its group: values without null, and the number of each one's group."""

    values: pa.Array
    groups: Vector

    def __len__(self) -> int:
        return len(self.values)


class Scored(msgspec.Struct, frozen=True):
    """Pairs of texts by their numbers, and how alike they are, 0 to 100."""

    left: Vector
    right: Vector
    score: Vector


def alike(left: Texts, right: Texts, at_least: float, task: Task) -> Scored:
    """The pairs of one group that are at least so alike, in left order and then right order.

    A score is the larger one of those of the texts as they are and of their words in order: twice the length
    of what they have in common, by the length of both. Where one of them has initials, words but the last are
    also compared as initials, for a little less. Equal texts are 100 alike. Cancelled.
    """
    task.checkpoint(0, 0, "looking for texts that are alike")
    theirs, names = _Index.of(right), _Initials.of(right.values)
    parts = list(blocks(len(left), _BLOCK))

    def of_part(part: slice) -> Scored:
        task.checkpoint(part.start, len(left), "looking for texts that are alike")
        some = Texts(left.values.slice(part.start, part.stop - part.start), left.groups[part])
        mine = _Initials.of(some.values)
        pairs = [*theirs.candidates(some), _same_initials(mine, names)]
        one, other = (np.concatenate([pair[side] for pair in pairs]) for side in (0, 1))
        both, _ = _counted(one.astype(np.int64) * max(len(right), 1) + other)
        one, other = np.divmod(both, max(len(right), 1))
        same = some.groups[one] == right.groups[other]
        one, other = one[same], other[same]
        score = _scores((some.values, right.values), (mine, names), (one, other), at_least)
        kept = score >= at_least
        return Scored(one[kept] + part.start, other[kept], score[kept])

    found = each(of_part, parts)
    nothing = np.zeros(0, np.int64)
    return Scored(
        np.concatenate([nothing, *(entry.left for entry in found)]),
        np.concatenate([nothing, *(entry.right for entry in found)]),
        np.concatenate([np.zeros(0, np.float32), *(entry.score for entry in found)]),
    )


def alike_rows(
    left: pa.Array, right: pa.Array, groups: Encoded, at_least: float, limits: Limits, task: Task
) -> tuple[Vector, Vector, Vector]:
    """Pairs of rows of one group whose texts are at least so alike, and how much.

    left, right: a text a row, null matches nothing. DataError where these are too many pairs.
    """
    sides = [_Distinct.of(left, groups.left), _Distinct.of(right, groups.right)]
    found = alike(sides[0].texts, sides[1].texts, at_least, task)
    counts = [
        np.diff(side.bounds)[numbers] for side, numbers in zip(sides, (found.left, found.right), strict=True)
    ]
    pairs = counts[0] * counts[1]
    check_pairs(int(pairs.sum()), limits)
    at, place = laid_out(pairs)
    first, second = np.divmod(place, np.maximum(counts[1], 1)[at])
    rows = sides[0].rows[sides[0].bounds[found.left[at]] + first]
    return rows, sides[1].rows[sides[1].bounds[found.right[at]] + second], found.score[at]


class _Distinct(msgspec.Struct, frozen=True):
    """The distinct texts of a side. rows: the rows by their text.  bounds: where the rows of each begin."""

    texts: Texts
    rows: Vector
    bounds: Vector

    @staticmethod
    def of(values: pa.Array, groups: Vector) -> _Distinct:
        coded = values.dictionary_encode()
        codes = coded.indices.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int64)
        rows = np.flatnonzero((codes >= 0) & (groups >= 0))
        size = max(len(coded.dictionary), 1)
        keys = groups[rows].astype(np.int64) * size + codes[rows]
        order = np.argsort(keys, kind="stable")
        distinct, counts = _counted(keys)
        group, code = np.divmod(distinct, size)
        texts = Texts(coded.dictionary.take(pa.array(code)), group)
        return _Distinct(texts, rows[order], np.concatenate(([0], np.cumsum(counts))))


# --- candidates ---


class _Grams(msgspec.Struct, frozen=True):
    """Trigrams of texts. keys: int64.  owner: of each the number of its text."""

    keys: Vector
    owner: Vector

    @staticmethod
    def of(texts: Texts) -> _Grams:
        """Those of words, with a space at either end; words in another order have the same."""
        spaced = pc.replace_substring_regex(pc.utf8_lower(texts.values), _NO_LETTERS, " ")
        ends = [pa.scalar(text, spaced.type) for text in (" ", "")]
        letters = Letters.of(pc.binary_join_element_wise(ends[0], spaced, *ends))
        points, owner = letters.points.astype(np.int64), letters.owner
        if len(points) < 3:
            return _Grams(np.zeros(0, np.int64), np.zeros(0, np.int64))
        keys = (points[:-2] << (2 * _BITS)) | (points[1:-1] << _BITS) | points[2:]
        within = (owner[:-2] == owner[2:]) & (points[1:-1] != _SPACE)
        keys, owner = keys[within], owner[:-2][within]
        return _Grams(keys ^ (texts.groups[owner].astype(np.int64) * np.int64(_SPREAD)), owner)


class _Index(msgspec.Struct, frozen=True):
    """The texts of one side by their keys. grams, rarity: all of its trigrams in order, and the place of each
    among them from the rarest on.  rare: by two of their rarest trigrams.  near: by what they are without a
    character.  whole: the fingerprints of all texts, in order.
    """

    grams: Vector
    rarity: Vector
    rare: _ByKey
    near: _ByKey
    whole: Keyed

    @staticmethod
    def of(texts: Texts) -> _Index:
        grams = _Grams.of(texts)
        known, often = _counted(grams.keys)
        # Of equally rare ones in an order that both sides have.
        rarity = np.empty(len(known), np.int64)
        rarity[np.lexsort((known, often))] = np.arange(len(known))
        whole, near = _whole_and_near(texts)
        rare = _rare_twos(grams, known, rarity)
        return _Index(known, rarity, _ByKey.of(rare), _ByKey.of(near), whole.where(np.argsort(whole.keys)))

    def candidates(self, texts: Texts) -> list[tuple[Vector, Vector]]:
        """Pairs of texts of the other side and of this one that may be alike, some several times."""
        one, other, shared = self.rare.sharing(_rare_twos(_Grams.of(texts), self.grams, self.rarity))
        best = _most_shared(one, shared)
        whole, near = _whole_and_near(texts)
        return [(one[best], other[best]), self.near.sharing(near)[:2], self._same(whole)]

    def _same(self, whole: Keyed) -> tuple[Vector, Vector]:
        """Pairs of the same text; of another one hardly ever, which its score tells."""
        place, there = _places(whole.keys, self.whole.keys)
        return np.flatnonzero(there), self.whole.owner[place[there]]


class _ByKey(msgspec.Struct, frozen=True):
    """Texts by keys. keys: the distinct ones, in order.  starts, counts: of each its stretch of owners."""

    keys: Vector
    starts: Vector
    counts: Vector
    owners: Vector

    @staticmethod
    def of(keyed: Keyed) -> _ByKey:
        keys, counts = _counted(keyed.keys)
        order = np.argsort(keyed.keys, kind="stable")
        return _ByKey(keys, np.cumsum(counts) - counts, counts, keyed.owner[order])

    def sharing(self, left: Keyed) -> tuple[Vector, Vector, Vector]:
        """Pairs of owners of a key that not too many have, and how many such keys they share."""
        at, there = _places(left.keys, self.keys)
        there[there] = self.counts[at[there]] <= _MOST_WITH_KEY
        at, owner = at[there], left.owner[there]
        key, place = laid_out(self.counts[at])
        size = int(self.owners.max(initial=0)) + 1
        others = self.owners[self.starts[at][key] + place]
        both, shared = _counted(owner[key].astype(np.int64) * size + others)
        return *np.divmod(both, size), shared


def _counted(numbers: Vector) -> tuple[Vector, Vector]:
    """The distinct numbers in order, and how often each is there; sorting them is quicker than hashing."""
    numbers = np.sort(numbers)
    is_first = np.ones(len(numbers), dtype=bool)
    is_first[1:] = numbers[1:] != numbers[:-1]
    starts = np.flatnonzero(is_first)
    return numbers[starts], np.diff(np.append(starts, len(numbers)))


def _places(sought: Vector, keys: Vector) -> tuple[Vector, Vector]:
    """The place among ordered keys of each that is sought, and whether it is there; looked up in order, which
    is many times quicker than at random.
    """
    order = np.argsort(sought)
    place = np.empty(len(sought), np.int64)
    place[order] = np.searchsorted(keys, sought[order])
    there = place < len(keys)
    there[there] = keys[place[there]] == sought[there]
    return place, there


def _rare_twos(grams: _Grams, known: Vector, rarity: Vector) -> Keyed:
    """A key for each two of the rarest trigrams of a text. known: all that the right side has, in order;
    rarity: how rare each is among them.
    """
    place, there = _places(grams.keys, known)
    place, owner = place[there], grams.owner[there]
    # The rarest first, and one that a text has twice, once.
    whole, _ = _counted(owner.astype(np.int64) * max(len(known), 1) + rarity[place])
    owner, key = np.divmod(whole, max(len(known), 1))
    few = _numbered(owner) < _MOST_GRAMS
    owner, key = owner[few], key[few]
    keys, owners = [], []
    for ahead in range(1, _MOST_GRAMS):
        same = np.flatnonzero(owner[ahead:] == owner[:-ahead])
        one, other = key[same], key[same + ahead]
        low, high = np.minimum(one, other), np.maximum(one, other)
        keys.append((low.astype(np.uint64) << np.uint64(32)) | high.astype(np.uint64))
        owners.append(owner[same])
    return Keyed(np.concatenate(keys), np.concatenate(owners))


def _whole_and_near(texts: Texts) -> tuple[Keyed, Keyed]:
    """The fingerprint of each text, and those of texts whole and without each of their characters."""
    letters = Letters.of(texts.values)
    whole = _in_groups(Keyed(letters.whole, np.arange(len(texts))), texts)
    asked = (letters.lengths >= _SHORTEST) & (letters.lengths <= _LONGEST)
    without = _in_groups(letters.without_one(asked[letters.owner]), texts)
    return whole, Keyed.all_of([whole.where(asked), without])


def _in_groups(keyed: Keyed, texts: Texts) -> Keyed:
    """Keys that are others in other groups."""
    groups = texts.groups[keyed.owner].astype(np.uint64) * np.uint64(_SPREAD)
    return Keyed(keyed.keys ^ groups, keyed.owner)


def _most_shared(one: Vector, shared: Vector) -> Vector:
    """The places of those candidates of each text that share most with it."""
    order = np.argsort(one * _MOST_TOLD + (_MOST_TOLD - np.minimum(shared, _MOST_TOLD)), kind="stable")
    return order[_numbered(one[order]) < _MOST_SCORED]


def _numbered(owner: Vector) -> Vector:
    """Of entries in the order of their owners the number of each among those of its owner, from 0."""
    starts = np.flatnonzero(np.diff(owner, prepend=-1))
    return laid_out(np.diff(np.append(starts, len(owner))))[1]


class _Initials(msgspec.Struct, frozen=True):
    """Texts with all words but the last as initials. written: which of them were written so."""

    texts: pa.Array
    written: Vector

    @staticmethod
    def of(values: pa.Array) -> _Initials:
        spaced = pc.utf8_trim_whitespace(pc.replace_substring_regex(pc.utf8_lower(values), _NO_LETTERS, " "))
        has = pc.match_substring_regex(spaced, r"(^|\s)\pL\s").to_numpy(zero_copy_only=False)
        made = pc.replace_substring_regex(spaced, _BUT_INITIALS, r"\1 ")
        return _Initials(made, np.asarray(has, dtype=bool))


def _same_initials(left: _Initials, right: _Initials) -> tuple[Vector, Vector]:
    """Pairs that are the same once words but the last are initials, where one is written so."""
    coded = pa.concat_arrays([left.texts, right.texts]).dictionary_encode()
    codes = coded.indices.to_numpy(zero_copy_only=False)
    one, other = codes[: len(left.texts)], codes[len(left.texts) :]
    everything = np.ones(len(other), dtype=bool)
    found = []
    for asked, answering in ((left.written, everything), (~left.written, right.written)):
        rows, others = np.flatnonzero(asked), np.flatnonzero(answering)
        order = others[np.argsort(other[others], kind="stable")]
        begin, end = (np.searchsorted(other[order], one[rows], side=side) for side in ("left", "right"))
        at, place = laid_out(np.minimum(end - begin, _MOST_SCORED))
        found.append((rows[at], order[begin[at] + place]))
    return np.concatenate([pair[0] for pair in found]), np.concatenate([pair[1] for pair in found])


# --- scores ---


def _scores(
    values: tuple[pa.Array, pa.Array],
    initials: tuple[_Initials, _Initials],
    pairs: tuple[Vector, Vector],
    at_least: float,
) -> Vector:
    """How alike pairs of texts are; 0 for what is less than asked for."""
    made = [np.zeros(0, np.float32)]
    for part in blocks(len(pairs[0]), _SCORED_BLOCK):
        rows = [side[part] for side in pairs]
        score = _measured(fuzz.ratio, values, rows, at_least)
        open_ = np.flatnonzero(score < _SAME)
        others = [side[open_] for side in rows]
        score[open_] = np.maximum(score[open_], _measured(fuzz.token_sort_ratio, values, others, at_least))
        written = [side.written[numbers] for side, numbers in zip(initials, rows, strict=True)]
        short = np.flatnonzero((written[0] | written[1]) & (score < _SAME))
        names = initials[0].texts, initials[1].texts
        by_initials = _measured(fuzz.ratio, names, [side[short] for side in rows], at_least + _FOR_INITIALS)
        score[short] = np.maximum(score[short], by_initials - _FOR_INITIALS)
        made.append(score)
    return np.concatenate(made)


def _measured(
    scorer: Any, values: tuple[pa.Array, pa.Array], rows: Sequence[Vector], at_least: float
) -> Vector:
    texts = [side.take(pa.array(numbers)).to_pylist() for side, numbers in zip(values, rows, strict=True)]
    cutoff = min(at_least, _SAME)
    found: Vector = process.cpdist(*texts, scorer=scorer, score_cutoff=cutoff, dtype=np.float32, workers=1)
    return found
