"""Why rows of a match have no partner, and what would mend it: found on distinct values, with counts of rows.

Each unmatched row has one reason: the first, in the order of `Kind`, that fits its values.
"""

from __future__ import annotations

import enum
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from itertools import combinations
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.conversion import PLACEHOLDERS
from keen_trellis.core.link import COMPARE_AS, LinkField, Operator, Preparation, Take, Taken
from keen_trellis.core.match import Match
from keen_trellis.core.matching import EVERY, match
from keen_trellis.core.preparations import PREPARATIONS, in_words
from keen_trellis.core.preparing import prepare
from keen_trellis.core.table import Cells, ChosenRows, IndexVector, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text, comparable

MOST_EXAMPLES = 5
# Letters and the digits that they are taken for, after case is folded.
_LOOK_ALIKE = (("o", "0"), ("[il|]", "1"), ("z", "2"), ("s", "5"), ("b", "8"))


class Kind(enum.Enum):
    """The kinds of reason, in the order in which they are looked for; the value is the name on the command
    line.
    """

    BLANK = "blank"
    NO_PARTNER = "no-partner"
    PLACEHOLDER = "placeholder"
    NOT_CONVERTED = "not-converted"
    WRITTEN_DIFFERENTLY = "written-differently"
    LOOK_ALIKE = "look-alike"
    OTHER_TYPE = "other-type"
    ALL_BUT_ONE = "all-but-one"
    ABSENT = "absent"
    REPEATED = "repeated"
    NOTHING_WRONG = "nothing-wrong"


@dataclass(frozen=True)
class Example:
    """A value that found no partner, in how many rows it stands, and the one that it means, "" if none is
    known.
    """

    value: str
    rows: int
    other: str = ""


@dataclass(frozen=True)
class Mend:
    """What would give rows a partner, or take rows that are too many away.

    links, take: those of the join as they would be.  gain: rows of the side that find a partner, or that are
    fewer.  merged: how many different values of either side it would make one.
    """

    said: str
    links: tuple[LinkField, ...]
    take: Take
    gain: int
    merged: int = 0


@dataclass(frozen=True)
class Reason:
    """One reason. side: "left" or "right".  rows, values: how many rows and distinct values it explains."""

    kind: Kind
    side: str
    rows: int
    values: int
    said: str
    examples: tuple[Example, ...] = ()
    mends: tuple[Mend, ...] = field(default=())


def explain(
    left: Table,
    right: Table,
    links: Sequence[LinkField],
    found: Match,
    take: Take = EVERY,
    task: Task | None = None,
) -> list[Reason]:
    """Why rows of both sides have no partner in a match by all of `links`, most rows first on each side; then
    what is too many. Cancelled.
    """
    task = task or Task()
    made: list[Reason] = []
    mirrored = [link.swapped for link in links]
    for side, one, other, own, rows in (
        ("left", left, right, list(links), found.left_unmatched_rows),
        ("right", right, left, mirrored, found.right_unmatched_rows),
    ):
        reasons = list(_Unmatched(one, other, own, rows, side, take, task).reasons())
        made += sorted(reasons, key=lambda reason: -reason.rows)
    made += _repeated(left, right, links, found, take)
    if not made:
        made.append(Reason(Kind.NOTHING_WRONG, "left", found.counts.left_rows, 0, "every row found just one"))
    return made


class _Unmatched:
    """The rows of one side that found no partner, reason by reason fewer."""

    def __init__(
        self,
        one: Table,
        other: Table,
        links: list[LinkField],
        rows: IndexVector,
        side: str,
        take: Take,
        task: Task,
    ) -> None:
        self._one, self._other, self._links, self._rows = one, other, links, rows
        self._side, self._take, self._task = side, take, task

    def reasons(self) -> Iterator[Reason]:
        yield from self._not_filled()
        if len(self._links) == 1 and self._links[0].operator is Operator.EQUAL:
            yield from self._placeholders()
            yield from self._written_differently()
            yield from self._look_alikes()
        elif len(self._links) > 1:
            yield from self._all_but_one()
        if len(self._rows):
            values = self._texts()
            said = "the value stands nowhere on the other side"
            if len(self._links) > 1:
                said = "no row of the other side has these values together"
            yield self._reason(Kind.ABSENT, np.ones(len(self._rows), dtype=bool), values, said)

    def _expression(self, link: LinkField) -> Any:
        return link.sides(self._one.fields, self._other.fields)[0]

    def _texts(self) -> pa.Array:
        """The link values of the rows that are left, written out, several with a dash between."""
        table = ChosenRows(self._one, self._rows)
        columns = [as_text(self._expression(link).cells(table).values) for link in self._links]
        if len(columns) == 1:
            return columns[0]
        filled = [column.fill_null("blank") for column in columns]
        return pc.binary_join_element_wise(*filled, pa.scalar(" – ", filled[0].type))

    def _reason(
        self,
        kind: Kind,
        mask: Any,
        values: pa.Array,
        said: str,
        mends: Sequence[Mend] = (),
        others: dict[str, str] | None = None,
    ) -> Reason:
        """The reason of the rows for which `mask` is true, which are explained then."""
        chosen = values.filter(pa.array(mask)).dictionary_encode()
        codes = chosen.indices.fill_null(len(chosen.dictionary)).to_numpy(zero_copy_only=False)
        counts = np.bincount(codes, minlength=len(chosen.dictionary) + 1)[: len(chosen.dictionary)]
        most = np.argsort(-counts, kind="stable")[:MOST_EXAMPLES]
        examples = tuple(
            Example(text, int(counts[at]), (others or {}).get(text, ""))
            for at, text in ((int(at), chosen.dictionary[int(at)].as_py()) for at in most)
        )
        rows = int(np.count_nonzero(mask))
        self._rows = self._rows[~mask]
        return Reason(kind, self._side, rows, len(chosen.dictionary), said, examples, tuple(mends))

    def _not_filled(self) -> Iterator[Reason]:
        """Blank link fields, those without partner from an earlier knot, and what could not be converted."""
        for kind, which, said in (
            (Kind.NO_PARTNER, "absent", "an earlier knot found no partner, so that there is no value"),
            (Kind.BLANK, "blank", "the link field is blank"),
            (Kind.NOT_CONVERTED, "lost", "the value cannot be read as what it is compared as"),
        ):
            if not len(self._rows):
                return
            table = ChosenRows(self._one, self._rows)
            mask = np.zeros(len(self._rows), dtype=bool)
            for link in self._links:
                found = getattr(prepare(self._expression(link).cells(table), link.preparation), which)
                mask |= found if found is not None else False
            if mask.any():
                yield self._reason(kind, mask, self._texts(), said)

    def _placeholders(self) -> Iterator[Reason]:
        values = self._texts()
        mask = pc.fill_null(
            pc.or_(
                pc.is_in(pc.utf8_trim_whitespace(values), value_set=pa.array(PLACEHOLDERS, values.type)),
                pc.match_substring_regex(values, "^(0{2,}|x{2,}|X{2,})$"),
            ),
            False,
        ).to_numpy(zero_copy_only=False)
        if mask.any():
            yield self._reason(Kind.PLACEHOLDER, mask, values, "a word stands for “nothing known”")

    # --- written differently ---

    def _written_differently(self) -> Iterator[Reason]:
        """The same but for what could be ignored; for each value the fewest things that do."""
        link = self._links[0]
        one, other = link.sides(self._one.fields, self._other.fields)
        if not (one.type is other.type is FieldType.TEXT) or not len(self._rows):
            return
        theirs = pc.unique(other.cells(self._other).values).drop_null()
        mine = pc.unique(one.cells(ChosenRows(self._one, self._rows)).values).drop_null()
        open_options = [name for name in PREPARATIONS if name not in link.preparation.names]
        everything = _ignoring_too(link.preparation, open_options)
        mine = mine.filter(self._found(mine, theirs, everything))
        for size in range(1, len(open_options) + 1):
            for names in combinations(open_options, size):
                if not len(mine):
                    return
                self._task.checkpoint(0, 0, "looking for the same written differently")
                preparation = _ignoring_too(link.preparation, names)
                helped = self._found(mine, theirs, preparation)
                if not pc.any(helped).as_py():
                    continue
                yield self._different(mine.filter(helped), theirs, preparation, names)
                mine = mine.filter(pc.invert(helped))

    def _found(self, mine: pa.Array, theirs: pa.Array, preparation: Preparation) -> pa.Array:
        known = prepare(Cells(theirs), preparation).values
        own = prepare(Cells(mine), preparation).of_rows
        return pc.and_(own.is_valid(), pc.is_in(own, value_set=known, skip_nulls=True))

    def _different(
        self, mine: pa.Array, theirs: pa.Array, preparation: Preparation, names: Sequence[str]
    ) -> Reason:
        link = self._links[0]
        mended = replace(link, preparation=preparation)
        values = self._texts()
        mask = pc.fill_null(pc.is_in(values, value_set=mine), False).to_numpy(zero_copy_only=False)
        own, known = (prepare(Cells(side), preparation).of_rows for side in (mine, theirs))
        partner = theirs.take(pc.index_in(own, value_set=known))
        others = dict(zip(mine.to_pylist(), partner.to_pylist(), strict=True))
        ignored = in_words(names)
        whole = match(ChosenRows(self._one, self._rows), self._other, [mended], self._task)
        merged = self._merged(theirs, link.preparation, preparation)
        mend = Mend(
            f"ignore {ignored}", self._as_asked(mended), self._take, whole.counts.left_matched, merged
        )
        return self._reason(
            Kind.WRITTEN_DIFFERENTLY, mask, values, f"the same but for {ignored}", [mend], others
        )

    def _merged(self, theirs: pa.Array, before: Preparation, after: Preparation) -> int:
        """How many different values of the other side would become one with another."""
        kinds = [pc.count_distinct(prepare(Cells(theirs), how).of_rows).as_py() for how in (before, after)]
        return int(kinds[0] - kinds[1])

    def _as_asked(self, mended: LinkField) -> tuple[LinkField, ...]:
        """The join's links with the mended one, as seen from the left."""
        return (mended if self._side == "left" else mended.swapped,)

    # --- look-alikes ---

    def _look_alikes(self) -> Iterator[Reason]:
        """A letter for the digit that it looks like, or the other way round: the one value that it must mean.

        A changed digit is never taken for a slip: running numbers are each other's neighbours.
        """
        link = self._links[0]
        one, other = link.sides(self._one.fields, self._other.fields)
        if not (one.type is other.type is FieldType.TEXT) or not len(self._rows):
            return
        self._task.checkpoint(0, 0, "looking for letters in place of digits")
        values = self._texts()
        mine = pc.unique(values).drop_null()
        theirs = pc.unique(other.cells(self._other).values).drop_null()
        everything = _ignoring_too(
            link.preparation, [n for n in PREPARATIONS if n not in link.preparation.names]
        )
        own, known = (_skeletons(prepare(Cells(side), everything).of_rows) for side in (mine, theirs))
        # Only where a single value of the other side looks like that.
        coded = known.dictionary_encode()
        often = np.bincount(coded.indices.drop_null().to_numpy(), minlength=len(coded.dictionary))
        single = coded.dictionary.filter(pa.array(often == 1))
        hits = pc.and_(own.is_valid(), pc.is_in(own, value_set=single))
        if not pc.any(hits).as_py():
            return
        meant = mine.filter(hits)
        partners = theirs.take(pc.index_in(own.filter(hits), value_set=known))
        pairs = dict(zip(meant.to_pylist(), partners.to_pylist(), strict=True))
        mask = pc.fill_null(pc.is_in(values, value_set=meant), False).to_numpy(zero_copy_only=False)
        corrections = (*link.preparation.corrections, *pairs.items())
        mended = replace(link, preparation=replace(link.preparation, corrections=corrections))
        gain = match(ChosenRows(self._one, self._rows), self._other, [mended], self._task).counts.left_matched
        said = "1 correction" if len(pairs) == 1 else f"{len(pairs):,} corrections"
        mend = Mend(said, self._as_asked(mended), self._take, gain)
        text = "a letter stands for the digit that it looks like, or a digit for a letter"
        yield self._reason(Kind.LOOK_ALIKE, mask, values, text, [mend], pairs)

    # --- several links ---

    def _all_but_one(self) -> Iterator[Reason]:
        for number, link in enumerate(self._links):
            if not len(self._rows):
                return
            rest = self._links[:number] + self._links[number + 1 :]
            if all(entry.operator is not Operator.EQUAL for entry in rest):
                continue
            found = match(ChosenRows(self._one, self._rows), self._other, rest, self._task)
            mask = np.asarray(found.found_left)
            if mask.any():
                agreed = " and ".join(entry.left for entry in rest)
                yield self._reason(
                    Kind.ALL_BUT_ONE, mask, self._texts(), f"they agree on {agreed}, but not on {link.left}"
                )


def _skeletons(values: pa.Array) -> pa.Array:
    """Values with one sign for all that look alike, after the idea of Unicode's UTS 39 (confusables)."""
    for letters, sign in _LOOK_ALIKE:
        values = pc.replace_substring_regex(values, letters, sign)
    return values


def _ignoring_too(preparation: Preparation, names: Sequence[str]) -> Preparation:
    """The preparation that ignores these things as well."""
    return Preparation.ignoring([*preparation.names, *names], preparation.compare_as, preparation.corrections)


def of_other_types(
    left: Table, right: Table, links: Sequence[LinkField], task: Task | None = None
) -> list[Reason]:
    """Links whose sides can never be equal as they are, and what comparing both as one type would find."""
    made = []
    for number, link in enumerate(links):
        one, other = link.sides(left.fields, right.fields)
        if link.preparation.compare_as or comparable(one.type, other.type):
            continue
        mends = []
        for kind in COMPARE_AS:
            mended = replace(link, preparation=replace(link.preparation, compare_as=kind))
            gain = match(left, right, [mended], task).counts.left_matched
            if gain:
                whole = (*links[:number], mended, *links[number + 1 :])
                mends.append(Mend(f"compare as {kind}", tuple(whole), EVERY, gain))
        said = f"{link.left} is {one.type.value} and {link.right} is {other.type.value}"
        mends.sort(key=lambda mend: -mend.gain)
        made.append(Reason(Kind.OTHER_TYPE, "left", left.rows, 0, said, (), tuple(mends)))
    return made


def _repeated(
    left: Table, right: Table, links: Sequence[LinkField], found: Match, take: Take
) -> Iterator[Reason]:
    """Keys of the right that stand in several rows and so multiply rows of the left."""
    several = found.partners_of_left > 1
    if not several.any():
        return
    rows = np.flatnonzero(several)
    added = int(found.pairs - np.count_nonzero(found.partners_of_left))
    unmatched = _Unmatched(left, right, list(links), rows, "left", take, Task())
    said = f"{found.counts.cardinality}: {added:,} rows more than have a partner, by keys that repeat"
    first = Mend("take the first match", tuple(links), Take(Taken.FIRST), added)
    yield unmatched._reason(Kind.REPEATED, np.ones(len(rows), dtype=bool), unmatched._texts(), said, [first])
