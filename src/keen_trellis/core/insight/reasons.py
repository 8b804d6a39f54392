"""Why rows of a match have no partner, or too many, and what would mend it.

Each unmatched row has one reason: the first, in the order of `Kind`, that fits its values. Values are looked
at once each, so that it stays quick on millions of rows.
"""

from __future__ import annotations

from collections.abc import Generator, Iterator
from dataclasses import replace

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.insight.clusters import clusters
from keen_trellis.core.insight.composing import composed
from keen_trellis.core.insight.differences_in_writing import Finding, Values, speaks_of
from keen_trellis.core.insight.multiplying import repeated
from keen_trellis.core.insight.periods import outside
from keen_trellis.core.insight.reason import Cluster, Kind, Mend, Reason, Suggested, Vector, Way
from keen_trellis.core.insight.unexplained_rows import OpenRows, written
from keen_trellis.core.insight.unlike import unlike
from keen_trellis.core.link import COMPARE_AS, LinkField, Operator, Take
from keen_trellis.core.match import Match
from keen_trellis.core.matching import EVERY, match
from keen_trellis.core.parallel import each
from keen_trellis.core.preparing import prepare
from keen_trellis.core.table import Cells, ChosenRows, IndexVector, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import as_text, comparable

# From this share of distinct values on, a field is a key, and making two of its values one is a loss.
_KEY = 0.95
# Values of which a preparation may leave nothing.
_ONLY_SIGNS = r"^[\p{P}\p{S}\p{Z}\p{M}\s]*$"


class Asked(msgspec.Struct, frozen=True):
    """What is to be explained: a join's tables and link, what it takes, and what was accepted as absent.

    accepted: texts of left and of right rows, the values of several links with a dash between.  rejected:
    pairs of values that do not mean the same, whichever is read as the other.
    """

    left: Table
    right: Table
    links: tuple[LinkField, ...]
    any_of: bool = False
    take: Take = EVERY
    accepted: tuple[tuple[str, ...], tuple[str, ...]] = ((), ())
    rejected: frozenset[tuple[str, str]] = frozenset()


def explain(asked: Asked, found: Match, task: Task | None = None) -> list[Reason]:
    """Why rows of both sides have no partner in the match `found` of what was asked, most rows first on each
    side; then what is too many. Cancelled.
    """
    task = task or Task()
    keys = _Keys(asked, found.left_unmatched_rows)

    def of_side(side: str) -> list[Reason]:
        rows = found.left_unmatched_rows if side == "left" else found.right_unmatched_rows
        reasons = _Side(asked, found, side, rows, keys, task).reasons()
        return sorted(reasons, key=lambda reason: -reason.rows)

    made = [reason for reasons in each(of_side, ("left", "right")) for reason in reasons]
    made += repeated(asked.left, asked.right, asked.links, found, asked.take, task, any_of=asked.any_of)
    counts = found.counts
    if counts.left_rows > counts.left_passed_over == 0 and not any(r.side == "left" for r in made):
        said = "every row found exactly one"
        made.insert(0, Reason(Kind.NOTHING_WRONG, "left", counts.left_rows, 0, said))
    return made


def explain_rows(
    asked: Asked, found: Match, side: str, rows: IndexVector, task: Task | None = None
) -> list[Reason]:
    """Why some unmatched rows of one side have no partner, looked at without the others. Cancelled."""
    keys = _Keys(asked, found.left_unmatched_rows)
    return list(_Side(asked, found, side, rows, keys, task or Task()).reasons())


class _Keys:
    """The distinct values of each link of both sides, found once."""

    def __init__(self, asked: Asked, unmatched_left: IndexVector) -> None:
        self._asked, self._unmatched_left = asked, unmatched_left
        self._distinct: dict[tuple[int, str], tuple[pa.Array, bool]] = {}

    def without_partner(self, number: int) -> pa.Array:
        """The texts of unmatched left rows."""
        one, _ = self._asked.links[number].sides(self._asked.left.fields, self._asked.right.fields)
        return as_text(pc.unique(one.cells(ChosenRows(self._asked.left, self._unmatched_left)).values))

    def of(self, number: int, side: str) -> pa.Array:
        """The distinct texts of one side of a link, without null."""
        return self._found(number, side)[0]

    def keys(self, number: int) -> list[pa.Array]:
        """The distinct texts of those sides whose rows they tell apart, or nearly so."""
        found = [self._found(number, side) for side in ("left", "right")]
        return [texts for texts, is_key in found if is_key]

    def settled(self, number: int, side: str, unmatched: pa.Array) -> list[pa.Array]:
        """The keys of both sides that surely mean different things: not those of this side without a partner,
        which may be another one written differently.
        """
        (own, own_is_key), (theirs, is_key) = (
            self._found(number, side),
            self._found(number, "right" if side == "left" else "left"),
        )
        found = [theirs] if is_key else []
        if own_is_key:
            found.append(own.filter(pc.invert(pc.is_in(own, value_set=unmatched))))
        return found

    def _found(self, number: int, side: str) -> tuple[pa.Array, bool]:
        if (number, side) not in self._distinct:
            asked = self._asked
            sides = asked.links[number].sides(asked.left.fields, asked.right.fields)
            table, expression = (asked.left, sides[0]) if side == "left" else (asked.right, sides[1])
            values = expression.cells(table).values
            texts = as_text(pc.unique(values).drop_null())
            filled = len(values) - values.null_count
            self._distinct[number, side] = (texts, len(texts) >= _KEY * filled)
        return self._distinct[number, side]


class _Side:
    """The unmatched rows of one side, explained reason by reason."""

    def __init__(
        self, asked: Asked, found: Match, side: str, rows: IndexVector, keys: _Keys, task: Task
    ) -> None:
        self._asked, self._side, self._keys, self._task = asked, side, keys, task
        self._before = found.counts
        on_left = side == "left"
        one, other = (asked.left, asked.right) if on_left else (asked.right, asked.left)
        links = asked.links if on_left else tuple(link.swapped for link in asked.links)
        self._accepted = asked.accepted[0 if on_left else 1]
        self._rows = OpenRows(side, one, other, links, rows)

    def reasons(self) -> Iterator[Reason]:
        rows = self._rows
        doubtful: Suggested | None = None
        for find in (self._not_filled, self._as_accepted):
            if rows:
                yield from find()
        for number, link in enumerate(rows.links):
            if rows and link.operator is Operator.EQUAL:
                doubtful = yield from self._by_values(number)
        if rows and len(rows.links) == 1:
            yield from self._composed()
        if rows and not self._asked.any_of:
            if any(link.operator not in (Operator.EQUAL, Operator.UNEQUAL) for link in rows.links):
                yield from outside(rows, self._task)
            if rows and len(rows.links) > 1:
                yield from self._all_but_one()
        if rows:
            yield self._absent(doubtful)

    # --- no value ---

    def _not_filled(self) -> Iterator[Reason]:
        """Blank link fields, those without partner from an earlier knot, and what could not be converted."""
        rows = self._rows
        prepared = [prepare(rows.cells(link), link.preparation) for link in rows.links]
        together = np.logical_and if self._asked.any_of else np.logical_or
        nothing = np.zeros(len(rows.numbers), dtype=bool)
        for kind, which, said in (
            (Kind.NO_PARTNER, "absent", "an earlier knot found no partner, so that there is no value"),
            (Kind.BLANK, "blank", "the link field is blank"),
            (Kind.NOT_CONVERTED, "lost", "the value cannot be read as what it is compared as"),
        ):
            masks = [getattr(entry, which) for entry in prepared]
            mask = together.reduce([nothing if mask is None else mask for mask in masks]) & rows.is_open
            if mask.any():
                yield rows.told(kind, mask, said, self._left_out(kind, mask))

    def _left_out(self, kind: Kind, mask: Vector) -> list[Mend]:
        """To leave rows without a value out before the join."""
        if kind is not Kind.BLANK or self._asked.any_of:
            return []
        rows = self._rows
        empty = [rows.cells(link).values.is_null().to_numpy(zero_copy_only=False) for link in rows.links]
        # What only a preparation makes blank has a value, and is not left out by that.
        gain = int(np.count_nonzero(np.logical_or.reduce(empty) & mask))
        if not gain:
            return []
        fields = tuple(link.left for link in rows.links)
        said = f"drop the rows without {' or '.join(fields)} before the join"
        return [Mend(said, Way.FILTER, self._asked.links, self._asked.take, gain, fields=fields)]

    def _as_accepted(self) -> Iterator[Reason]:
        """Values that were accepted as absent before."""
        rows = self._rows
        if not self._accepted:
            return
        sides = [rows.expressions(link)[0] for link in rows.links]
        table = ChosenRows(rows.one, rows.numbers)
        texts = pa.array(written(table, sides), pa.large_string())
        known = pc.is_in(texts, value_set=pa.array(self._accepted, pa.large_string()))
        mask = known.to_numpy(zero_copy_only=False) & rows.is_open
        if mask.any():
            yield rows.told(Kind.ACCEPTED, mask, "accepted as absent")

    # --- values of one link ---

    def _by_values(self, number: int) -> Generator[Reason, None, Suggested | None]:
        """What the values of one link say; hands back what is nearly like them."""
        rows, link = self._rows, self._rows.links[number]
        own, other = rows.expressions(link)
        if not speaks_of(link, own.arrow_type, other.arrow_type):
            return None
        coded = rows.coded(number)
        theirs = self._keys.of(number, "right" if self._side == "left" else "left")
        is_open = coded.counts(rows.is_open) > 0
        if len(rows.links) > 1:
            # A value that stands on the other side is not what keeps these rows apart.
            own_values, known = (
                prepare(Cells(side), link.preparation).of_rows for side in (coded.texts, theirs)
            )
            is_open &= ~pc.is_in(own_values, value_set=known).to_numpy(zero_copy_only=False)
        keys, rejected = self._keys.keys(number), self._asked.rejected
        settled = self._keys.settled(number, self._side, coded.texts.filter(pa.array(is_open)))
        values = Values(
            link, coded.texts, theirs, is_open, self._task, keys=keys, settled=settled, rejected=rejected
        )
        for finding in values.findings():
            reason = self._reason_of(finding, number)
            if reason is not None:
                yield reason
        last = values.doubtful()
        return None if last is None or not last.which.any() else self._suggested(last, number)

    def _reason_of(self, finding: Finding, number: int) -> Reason | None:
        rows, coded = self._rows, self._rows.coded(number)
        suggested = self._suggested(finding, number) if finding.likely is not None else None
        mends = []
        if suggested is not None:
            likely = bool(suggested.likely.any())
            chosen = suggested.likely if likely else np.ones(len(suggested), dtype=bool)
            pairs = suggested.corrections(chosen)
            link = rows.links[number]
            corrections = (*link.preparation.corrections, *pairs)
            mended = msgspec.structs.replace(
                link, preparation=msgspec.structs.replace(link.preparation, corrections=corrections)
            )
            values = _counted(len(pairs), "value")
            said = f"review {_counted(len(pairs), 'likely partner')}"
            if likely:
                said = f"read {values} as what is meant"
            of_values = finding.likely if likely else finding.which
            assert of_values is not None
            gained = coded.rows_of(of_values) & rows.is_open
            way = Way.CORRECTIONS if likely else Way.REVIEW
            mends.append(self._mend(said, way, number, mended, gained))
        if finding.mended is not None and finding.gained is not None:
            # Also those that less would help.
            gained = coded.rows_of(finding.gained)
            mend = self._mend(finding.said_mend, Way.LINKS, number, finding.mended, gained)
            gain = mend.gain - self._emptied(number, finding.mended)
            if gain > 0:
                mends.append(msgspec.structs.replace(mend, gain=gain, merged=finding.merged))
        if (
            len(rows.links) > 1
            and finding.kind is not Kind.PLACEHOLDER
            and not any(mend.gain for mend in mends)
        ):
            return None
        mask = coded.rows_of(finding.which)
        if finding.kind is Kind.PLACEHOLDER and not self._asked.any_of:
            mends.append(self._without(number, coded.texts.filter(pa.array(finding.which)), mask))
        said = finding.said if len(rows.links) == 1 else f"{rows.links[number].left}: {finding.said}"
        return rows.told(
            finding.kind, mask, said, mends, coded=coded, meant=finding.meant, suggested=suggested
        )

    def _without(self, number: int, words: pa.Array, mask: Vector) -> Mend:
        """To leave rows with a placeholder out before the join."""
        field, found = self._rows.links[number].left, tuple(words.to_pylist())
        said = f"drop the rows with {' or '.join(f'“{word}”' for word in found)} before the join"
        gain = int(np.count_nonzero(mask & self._rows.is_open))
        links, take = self._asked.links, self._asked.take
        return Mend(said, Way.FILTER, links, take, gain, fields=(field,), words=found)

    def _mend(self, said: str, way: Way, number: int, mended: LinkField, gained: Vector | None) -> Mend:
        """A mend of one link. gained: a mask of rows whose value matches then; with other links these still
        have to agree.
        """
        rows = self._rows
        own = (*rows.links[:number], mended, *rows.links[number + 1 :])
        gain = int(np.count_nonzero(gained)) if gained is not None else 0
        if gain and len(rows.links) > 1 and not self._asked.any_of:
            table = ChosenRows(rows.one, rows.numbers[gained])
            gain = match(table, rows.other, own, self._task).counts.left_matched
        links = own if self._side == "left" else tuple(link.swapped for link in own)
        return Mend(said, way, links, self._asked.take, gain)

    def _emptied(self, number: int, mended: LinkField) -> int:
        """How many matched rows lose their partner since a preparation leaves nothing of their value."""
        rows = self._rows
        texts = self._keys.of(number, self._side)
        signs = texts.filter(pc.match_substring_regex(texts, _ONLY_SIGNS))
        after = prepare(Cells(signs), mended.preparation).of_rows
        before = prepare(Cells(signs), rows.links[number].preparation).of_rows
        gone = signs.filter(pc.and_(after.is_null(), before.is_valid()))
        if not len(gone):
            return 0
        values = as_text(rows.expressions(rows.links[number])[0].cells(rows.one).values)
        lost = pc.is_in(values, value_set=gone).to_numpy(zero_copy_only=False)
        return int(np.count_nonzero(lost)) - int(np.count_nonzero(lost[rows.numbers]))

    def _suggested(self, finding: Finding, number: int) -> Suggested:
        coded = self._rows.coded(number)
        counts = coded.counts(self._rows.is_open)
        at = np.flatnonzero(finding.which)
        at = at[np.argsort(-counts[at], kind="stable")]
        assert finding.meant is not None and finding.likely is not None
        values, meant = (side.take(pa.array(at)) for side in (coded.texts, finding.meant))
        turned = np.zeros(len(at), dtype=bool)
        if self._side == "right":
            # Of two values without partner it is the left one that is written wrongly.
            lost = pc.is_in(meant, value_set=self._keys.without_partner(number))
            turned = lost.to_numpy(zero_copy_only=False)
        return Suggested(values, meant, counts[at], finding.likely[at], number, turned)

    def _composed(self) -> Iterator[Reason]:
        rows, link = self._rows, self._rows.links[0]
        own, other = rows.expressions(link)
        if not link.is_plain_equality or not speaks_of(link, own.arrow_type, other.arrow_type):
            return
        coded = rows.coded(0)
        at = np.flatnonzero(coded.counts(rows.is_open))
        theirs = self._keys.of(0, "right" if self._side == "left" else "left")
        best = composed(link, rows.other, coded.texts.take(pa.array(at)), theirs, self._task)
        if best is None:
            return
        which = np.zeros(len(coded.texts), dtype=bool)
        which[at[best.found]] = True
        mask = coded.rows_of(which) & rows.is_open
        mend = self._mend(best.said, Way.LINKS, 0, best.link, mask)
        # The link changes for the rows that match already, too: it is proposed only if they still do.
        whole = match(self._asked.left, self._asked.right, mend.links, self._task).counts
        gain = whole.left_matched - self._before.left_matched
        if self._side == "right":
            gain = whole.right_matched - self._before.right_matched
        if gain > 0:
            said = "a part of the value matches, or the value is made of two"
            yield rows.told(Kind.COMPOSED, mask, said, [msgspec.structs.replace(mend, gain=gain)])

    # --- several links ---

    def _all_but_one(self) -> Iterator[Reason]:
        rows = self._rows
        for number, link in enumerate(rows.links):
            rest = rows.links[:number] + rows.links[number + 1 :]
            if not rows or all(entry.operator is not Operator.EQUAL for entry in rest):
                continue
            mask = np.zeros(len(rows.numbers), dtype=bool)
            found = match(ChosenRows(rows.one, rows.rows), rows.other, rest, self._task)
            mask[np.flatnonzero(rows.is_open)] = found.found_left
            if mask.any():
                agreed = " and ".join(entry.left for entry in rest)
                said = f"they agree on {agreed}, but not on {link.left}"
                yield rows.told(Kind.ALL_BUT_ONE, mask, said)

    # --- the rest ---

    def _absent(self, doubtful: Suggested | None) -> Reason:
        rows = self._rows
        said = "the value is not on the other side"
        if len(rows.links) > 1:
            said = "no row of the other side has these values together"
            if self._asked.any_of:
                said = "none of the values is on the other side"
        open_rows = rows.rows
        links, take = self._asked.links, self._asked.take
        mends = [
            Mend("accept as absent", Way.ACCEPT, links, take, 0),
            Mend("keep them, and fill what they lack after the knot", Way.FILL, links, take, 0),
        ]
        if doubtful is not None:
            values = _counted(len(doubtful), "value")
            text = f"review {values} that may mean others"
            mends.append(Mend(text, Way.REVIEW, links, take, int(doubtful.rows.sum())))
        alike = None
        if self._before.pairs == 0 and 2 * len(open_rows) > len(rows.numbers) and not self._asked.any_of:
            alike = unlike(rows, links, take, self._task)
        reason = rows.told(Kind.ABSENT, rows.is_open.copy(), said, mends)
        if alike is not None:
            reason = replace(
                reason,
                kind=Kind.NOTHING_ALIKE,
                said=alike.said,
                examples=alike.examples,
                mends=(*alike.mends, *reason.mends),
            )
        found: tuple[Cluster, ...] = ()
        if self._side == "left":
            # That the rows have their link values says nothing new.
            found = clusters(rows.one, open_rows, self._task, but={link.left for link in rows.links})
        return replace(reason, suggested=doubtful, clusters=found)


def _counted(count: int, what: str) -> str:
    return f"1 {what}" if count == 1 else f"{count:,} {what}s"


def of_other_types(asked: Asked, task: Task | None = None) -> list[Reason]:
    """Links whose sides can never be equal as they are, and what comparing both as one type would find."""
    made = []
    for number, link in enumerate(asked.links):
        one, other = link.sides(asked.left.fields, asked.right.fields)
        if link.preparation.compare_as or comparable(one.type, other.type):
            continue
        mends = []
        for kind in COMPARE_AS:
            mended = msgspec.structs.replace(
                link, preparation=msgspec.structs.replace(link.preparation, compare_as=kind)
            )
            gain = match(asked.left, asked.right, [mended], task).counts.left_matched
            if gain:
                whole = (*asked.links[:number], mended, *asked.links[number + 1 :])
                mends.append(Mend(f"compare as {kind}", Way.LINKS, whole, asked.take, gain))
        said = f"{link.left} is {one.type.value} and {link.right} is {other.type.value}"
        mends.sort(key=lambda mend: -mend.gain)
        made.append(Reason(Kind.OTHER_TYPE, "left", asked.left.rows, 0, said, (), tuple(mends)))
    return made
