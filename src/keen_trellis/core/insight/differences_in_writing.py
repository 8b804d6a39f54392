"""Values of one link that have no like on the other side, and what they are the same as after all: written
differently, of another type, with letters for digits, misspelt, or another name.

All of it works on distinct values. Each finding says which of them it explains and what they mean.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence, Set
from functools import cached_property
from itertools import combinations

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.ascii_text import is_ascii, with_signs
from keen_trellis.core.conversion import PLACEHOLDERS
from keen_trellis.core.insight.names import ACRONYM, ORDER, PART, SHORTER, other_names, two_initials
from keen_trellis.core.insight.partners import Partners, misspelt
from keen_trellis.core.insight.reason import Kind, Vector
from keen_trellis.core.letters import Letters
from keen_trellis.core.link import LinkField, Preparation
from keen_trellis.core.ordering import among
from keen_trellis.core.preparations import PREPARATIONS, in_words
from keen_trellis.core.preparing import prepare
from keen_trellis.core.table import Cells
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, type_of_arrow

# Letters and the digits that they are taken for, after case is folded.
_LOOK_ALIKE = (("o", "0"), ("[il|]", "1"), ("z", "2"), ("s", "5"), ("b", "8"))
# Of so many values at most those that differ in a digit are looked for, too.
_FEW = 5_000
_FIRST_LOOK = 500
# Of pairs that are taken unseen at most this share may be there by chance.
_MOST_WRONG = 0.015
# Keys of so few letters and digits are all alike: a letter more or less tells nothing.
_SHORT_KEY = 4
# Where a finding explains so small a share of so many values, it is said that the others differ anyway.
_HUNDREDS, _HANDFUL = 100, 0.05
_NAMES = {
    ORDER: "the same words in another order",
    SHORTER: "a short form of the long name",
    ACRONYM: "initials of a name",
    PART: "a part of the name, or the other way round",
}
_WORDS = Preparation(accents=True, case=True, outer_spaces=True)


class Finding(msgspec.Struct, frozen=True):
    """What some of the values are. which: a mask of values.

    meant: for each value the one of the other side that it means, null where it is not among them.  mended:
    the link that lets them match.  said_mend: what that changes.  gain: rows of values that it lets match.
    likely: for pairs that want to be looked through, a mask of values; with a mended link besides where that
    finds them, and others by chance.
    """

    kind: Kind
    which: Vector
    said: str
    meant: pa.Array | None = None
    mended: LinkField | None = None
    said_mend: str = ""
    gained: Vector | None = None
    merged: int = 0
    likely: Vector | None = None


class Values:
    """The distinct values of one link on one side that have no like on the other, finding by finding fewer.

    mine, theirs: distinct texts without null.  rejected: pairs of them that do not mean the same, whichever
    stands first.  link: as seen from this side.  keys: the distinct values of each side where they are keys.
    settled: those of them that surely mean different things: by them chance is judged.
    """

    def __init__(
        self,
        link: LinkField,
        mine: pa.Array,
        theirs: pa.Array,
        is_open: Vector,
        task: Task,
        *,
        keys: Sequence[pa.Array],
        settled: Sequence[pa.Array],
        rejected: Set[tuple[str, str]],
    ) -> None:
        self._link, self._mine, self._theirs, self._settled = link, mine, theirs, settled
        self._open, self._keys, self._task = is_open.copy(), keys, task
        self._rejected = rejected

    def findings(self) -> Iterator[Finding]:
        """All that can be said, each value once."""
        for find in (
            self._placeholders,
            self._written_differently,
            self._of_another_type,
            self._look_alikes,
            self._misspelt,
            self._other_names,
        ):
            if not self._open.any():
                return
            for finding in find():
                if finding.which.any():
                    self._open &= ~finding.which
                    yield finding

    def doubtful(self) -> Finding | None:
        """Values with a single neighbour that differs in digits, too, and those of two letters that are a
        name's initials: nothing that is taken unseen.
        """
        if not 0 < np.count_nonzero(self._open) <= _FEW:
            return None
        near = self._partners(digits=True)
        at, mine, known, theirs = self._in_words()
        short = two_initials(mine, theirs, self._task)
        others = ~among(at[short.mine], near.mine)
        every = Partners(
            np.concatenate([near.mine, at[short.mine[others]]]),
            np.concatenate([near.theirs, known[short.theirs[others]]]),
            np.concatenate([near.likely, short.likely[others]]),
        )
        return self._paired(Kind.ABSENT, "", every)

    # --- what stands for nothing ---

    def _placeholders(self) -> Iterator[Finding]:
        words = pa.array(PLACEHOLDERS, self._mine.type)
        which = pc.or_(
            pc.is_in(pc.utf8_trim_whitespace(self._mine), value_set=words),
            pc.match_substring_regex(self._mine, "^(0{2,}|x{2,}|X{2,})$"),
        ).to_numpy(zero_copy_only=False)
        which &= self._open
        if which.any():
            yield Finding(Kind.PLACEHOLDER, which, "a placeholder, such as “NA”")

    # --- written differently ---

    @property
    def _preparation(self) -> Preparation:
        return self._link.preparation

    @cached_property
    def _others(self) -> list[str]:
        """What the link does not ignore yet."""
        return [name for name in PREPARATIONS if name not in self._preparation.names]

    def _bare(self, values: pa.Array) -> pa.Array:
        """Values with everything ignored that can be; null where nothing is left."""
        return prepare(Cells(values), _ignoring_too(self._preparation, self._others)).of_rows

    @cached_property
    def _mine_bare(self) -> pa.Array:
        return self._bare(self._mine)

    @cached_property
    def _theirs_bare(self) -> pa.Array:
        return self._bare(self._theirs)

    def _written_differently(self) -> Iterator[Finding]:
        """The same but for what could be ignored; for each value the fewest things that do."""
        hits = pc.is_in(self._mine_bare, value_set=self._theirs_bare, skip_nulls=True)
        at = np.flatnonzero(hits.to_numpy(zero_copy_only=False) & self._open)
        if not len(at):
            return
        # Only these can be the same as any of the values, however they are written.
        wanted = self._mine_bare.take(pa.array(at))
        theirs = self._theirs.filter(pc.is_in(self._theirs_bare, value_set=wanted, skip_nulls=True))
        left = np.ones(len(at), dtype=bool)
        mine = self._mine.take(pa.array(at))
        for size in range(1, len(self._others) + 1):
            for names in combinations(self._others, size):
                if not left.any():
                    return
                self._task.checkpoint(0, 0, "looking for the same written differently")
                preparation = _ignoring_too(self._preparation, names)
                partner = _looked_up(mine, theirs, preparation)
                found = partner >= 0
                if not (found & left).any():
                    continue
                yield self._different(
                    at, left & found, found, theirs.take(_or_null(partner)), names, preparation
                )
                left &= ~found

    def _different(
        self,
        at: Vector,
        which: Vector,
        gained: Vector,
        meant: pa.Array,
        names: Sequence[str],
        preparation: Preparation,
    ) -> Finding:
        ignored = in_words(names)
        hits = int(np.count_nonzero(which))
        alike = self._made_one(preparation)
        by_chance = self._is_chance(alike, hits)
        said = f"the same apart from {ignored}"
        if by_chance:
            keys = "1 key is" if alike == 1 else f"{alike:,} keys are"
            said += f", though {keys} the same as another one then"
        return Finding(
            Kind.WRITTEN_DIFFERENTLY,
            self._spread(at, which),
            said + self._others_differ(hits),
            self._spread_texts(at, meant),
            msgspec.structs.replace(self._link, preparation=preparation),
            f"ignore {ignored}",
            self._spread(at, gained),
            self._merged(preparation),
            self._none if by_chance else None,
        )

    @property
    def _none(self) -> Vector:
        """That none of the pairs is likely."""
        return np.zeros(len(self._mine), dtype=bool)

    def _made_one(self, preparation: Preparation) -> int:
        """How many of the keys that surely mean something else are made one with another."""
        return sum(len(keys) - _kinds(keys, preparation) for keys in self._settled)

    def _is_chance(self, alike: int, hits: int) -> bool:
        """Whether too many of some hits may be chance: judged by how many keys, which all mean something
        else, are made one with another. Where no side's values are keys, several may mean the same.

        A value that means none of N keys meets one of them as often as these meet each other: twice as often
        as they are fewer, a key each.
        """
        values, keys = int(np.count_nonzero(self._open)), sum(map(len, self._settled))
        return 2.0 * values * alike > _MOST_WRONG * hits * keys

    def _others_differ(self, hits: int) -> str:
        """That most values have no partner all the same, where a finding is about a handful of hundreds."""
        others = int(np.count_nonzero(self._open)) - hits
        if others < _HUNDREDS or hits > _HANDFUL * others:
            return ""
        return f"; {others:,} other values differ anyway"

    def _merged(self, after: Preparation) -> int:
        """How many different keys of a side would become one with another."""
        lost = 0
        for keys, before in zip(self._keys, self._kinds, strict=True):
            lost += before - _kinds(keys, after)
        return lost

    @cached_property
    def _kinds(self) -> list[int]:
        """How many keys of each side are told apart now."""
        return [_kinds(keys, self._preparation) for keys in self._keys]

    # --- another type ---

    def _of_another_type(self) -> Iterator[Finding]:
        """The same number or date in another notation, where all values of the other side are numbers or
        dates.
        """
        if self._preparation.compare_as:
            return
        for kind in ("number", "date"):
            preparation = msgspec.structs.replace(self._preparation, compare_as=kind)
            # Mostly the first few values tell that not all of them are such.
            if prepare(Cells(self._theirs.slice(0, _FIRST_LOOK)), preparation).lost is not None:
                continue
            theirs = prepare(Cells(self._theirs), preparation)
            if theirs.lost is not None or not len(self._theirs):
                continue
            values = theirs.of_rows
            partner = pc.index_in(
                prepare(Cells(self._mine), preparation).of_rows, value_set=values, skip_nulls=True
            )
            found = partner.is_valid().to_numpy(zero_copy_only=False) & self._open
            if found.any():
                by_chance = self._is_chance(self._made_one(preparation), int(np.count_nonzero(found)))
                yield Finding(
                    Kind.OTHER_TYPE,
                    found,
                    f"the same {kind}, written differently",
                    self._theirs.take(partner),
                    msgspec.structs.replace(self._link, preparation=preparation),
                    f"compare as {kind}",
                    found,
                    likely=self._none if by_chance else None,
                )

    # --- values that stand for others ---

    def _look_alikes(self) -> Iterator[Finding]:
        """A letter for the digit that it looks like, or the other way round: the one value that it must
        mean.
        """
        self._task.checkpoint(0, 0, "looking for letters in place of digits")
        own, known = _skeletons(self._mine_bare), _skeletons(self._theirs_bare)
        # Only where a single value of the other side looks like that.
        coded = known.dictionary_encode()
        often = np.bincount(coded.indices.drop_null().to_numpy(), minlength=len(coded.dictionary))
        single = coded.dictionary.filter(pa.array(often == 1))
        hits = pc.is_in(own, value_set=single, skip_nulls=True).to_numpy(zero_copy_only=False) & self._open
        if hits.any():
            partner = pc.index_in(own, value_set=known, skip_nulls=True).to_numpy(zero_copy_only=False)
            mine = np.flatnonzero(hits)
            meant = partner[mine].astype(np.int64)
            theirs = self._theirs_bare.take(pa.array(meant))
            # Where letters and digits mix freely, or a key is short, either may be right.
            short = pc.less_equal(pc.utf8_length(theirs), _SHORT_KEY).to_numpy(zero_copy_only=False)
            likely = ~Letters.of(theirs).are_free_codes & ~short
            bare = [self._bare(keys) for keys in self._settled]
            alike = sum(_distinct(keys) - _distinct(_skeletons(keys)) for keys in bare)
            if self._is_chance(alike, int(np.count_nonzero(likely))):
                likely = np.zeros(len(mine), dtype=bool)
            pairs = Partners(mine, meant, likely)
            said = "look-alike characters, such as O for 0"
            yield self._paired(Kind.LOOK_ALIKE, said, pairs)

    def _misspelt(self) -> Iterator[Finding]:
        found = self._partners()
        if len(found):
            yield self._paired(Kind.MISSPELT, "probably a typo: one value is almost the same", found)

    def _partners(self, *, digits: bool = False) -> Partners:
        """Slips, looked for among what is left of the values when everything is ignored."""
        at, mine = self._filled(self._mine_bare, self._open)
        known, theirs = self._filled(self._theirs_bare, None)
        # What is the same when everything is ignored is one value here; which one is meant is not known then.
        coded = theirs.dictionary_encode()
        codes = coded.indices.to_numpy(zero_copy_only=False)
        often = np.bincount(codes, minlength=len(coded.dictionary))
        first = np.zeros(len(coded.dictionary), np.int64)
        first[codes[::-1]] = known[::-1]
        found = misspelt(mine, coded.dictionary, self._task, digits=digits)
        single = often[found.theirs] == 1
        return Partners(at[found.mine], first[found.theirs], found.likely & single)

    def _other_names(self) -> Iterator[Finding]:
        at, mine, known, theirs = self._in_words()
        for way, found in other_names(mine, theirs, self._task):
            pairs = Partners(at[found.mine], known[found.theirs], found.likely)
            yield self._paired(Kind.OTHER_NAME, _NAMES[way], pairs)

    def _in_words(self) -> tuple[Vector, pa.Array, Vector, pa.Array]:
        """The open values and all of the other side, case and accents folded, each with their numbers."""
        at, mine = self._filled(prepare(Cells(self._mine), _WORDS).of_rows, self._open)
        known, theirs = self._filled(prepare(Cells(self._theirs), _WORDS).of_rows, None)
        return at, mine, known, theirs

    @staticmethod
    def _filled(values: pa.Array, chosen: Vector | None) -> tuple[Vector, pa.Array]:
        """The chosen values that are not null, and their numbers."""
        held = values.is_valid().to_numpy(zero_copy_only=False)
        if chosen is not None:
            held = held & chosen
        return np.flatnonzero(held), values.filter(pa.array(held))

    def _paired(self, kind: Kind, said: str, pairs: Partners) -> Finding:
        pairs = self._without_rejected(pairs)
        which, likely = (np.zeros(len(self._mine), dtype=bool) for _ in range(2))
        which[pairs.mine], likely[pairs.mine] = True, pairs.likely
        meant = self._spread_texts(pairs.mine, self._theirs.take(pa.array(pairs.theirs)))
        return Finding(kind, which, said, meant, likely=likely)

    def _without_rejected(self, pairs: Partners) -> Partners:
        if not self._rejected:
            return pairs
        mine, theirs = (
            side.take(pa.array(numbers)).to_pylist()
            for side, numbers in ((self._mine, pairs.mine), (self._theirs, pairs.theirs))
        )
        kept = np.array(
            [
                not {(one, other), (other, one)} & self._rejected
                for one, other in zip(mine, theirs, strict=True)
            ],
            dtype=bool,
        )
        return Partners(pairs.mine[kept], pairs.theirs[kept], pairs.likely[kept])

    def _spread(self, at: Vector, mask: Vector) -> Vector:
        whole = np.zeros(len(self._mine), dtype=bool)
        whole[at[mask]] = True
        return whole

    def _spread_texts(self, at: Vector, texts: pa.Array) -> pa.Array:
        place = np.full(len(self._mine), -1, np.int64)
        place[at] = np.arange(len(at))
        return texts.take(_or_null(place))


def _kinds(keys: pa.Array, preparation: Preparation) -> int:
    return _distinct(prepare(Cells(keys), preparation).of_rows)


def _distinct(values: pa.Array) -> int:
    return int(pc.count_distinct(values, mode="only_valid").as_py())


def _or_null(places: Vector) -> pa.Array:
    return pa.array(places, mask=places < 0)


def _looked_up(mine: pa.Array, theirs: pa.Array, preparation: Preparation) -> Vector:
    """For each value the number of the first one of `theirs` that is the same once prepared, or -1."""
    own, known = (prepare(Cells(side), preparation).of_rows for side in (mine, theirs))
    found = pc.index_in(own, value_set=known, skip_nulls=True).fill_null(-1)
    return np.asarray(found.to_numpy(zero_copy_only=False))


def _skeletons(values: pa.Array) -> pa.Array:
    """Values with one sign for all that look alike, after the idea of Unicode's UTS 39 (confusables)."""
    if is_ascii(values):
        return with_signs(
            values, {letter: sign for letters, sign in _LOOK_ALIKE for letter in letters.strip("[]")}
        )
    for letters, sign in _LOOK_ALIKE:
        values = pc.replace_substring_regex(values, letters, sign)
    return values


def _ignoring_too(preparation: Preparation, names: Sequence[str]) -> Preparation:
    """The preparation that ignores these things as well."""
    return Preparation.ignoring([*preparation.names, *names], preparation.compare_as, preparation.corrections)


def speaks_of(link: LinkField, own: pa.DataType, other: pa.DataType) -> bool:
    """Whether a link compares texts, so that it can be said how they are written."""
    if link.preparation.compare_as:
        return link.preparation.compare_as == "text"
    return type_of_arrow(own) is type_of_arrow(other) is FieldType.TEXT
