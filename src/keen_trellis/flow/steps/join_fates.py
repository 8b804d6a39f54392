"""What becomes of single rows in a join: with whom they are paired, or why with nobody."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.insight.pairing import nearest
from keen_trellis.core.insight.reason import Kind
from keen_trellis.core.insight.reasons import Asked, explain_rows
from keen_trellis.core.insight.unexplained_rows import written
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import Operator, Taken
from keen_trellis.core.match import Match
from keen_trellis.core.matching import match
from keen_trellis.core.preparing import prepare
from keen_trellis.core.table import ChosenRows, IndexVector
from keen_trellis.core.task import Task
from keen_trellis.core.values import as_text
from keen_trellis.flow.fates import Fate, How, Traced, places_said
from keen_trellis.flow.wording import counted, listed, rows_called

_TOLD = 3  # rows of which each is told by itself
_NEAREST = 3
_SAME = 1_000  # rows that must have one value for what is nearest to it to say something
_LIKE = 55.0  # of 100: what is less alike is not near
# Of smaller tables all unmatched rows are looked at together, as the bench does: that takes its time.
_ALL_LOOKED_AT = 100_000


class _Seen(msgspec.Struct, frozen=True):
    """A match as seen from one side. mine: the rows that are followed.  theirs: the other side.

    matching, pairs: for each of the own rows whether another one matches it, and in how many pairs it is.
    rungs: what each rung of the ladder asks, and how it is called; one without a ladder.
    """

    side: str
    mine: Traced
    theirs: Traced
    found: Match
    matching: IndexVector
    pairs: IndexVector
    keeps_matched: bool
    keeps_unmatched: bool
    rungs: Sequence[tuple[Asked, str]]

    def partners(self, row: int) -> IndexVector:
        """The rows of the other side that match a row."""
        on_left = self.side == "left"
        return self.found.partners_in_right(row) if on_left else self.found.partners_in_left(row)

    def found_by(self, row: int) -> Sequence[tuple[Asked, str]]:
        """The rungs that found a row, in order; all that there are where its pairs do not tell."""
        numbers = self.found.rung_of_left
        if numbers is None:
            return self.rungs
        by = np.unique(numbers[row if self.side == "left" else self.partners(row)])
        return [self.rungs[number - 1] for number in by.tolist() if number] or self.rungs


def fates_in_join(
    rungs: Sequence[tuple[Asked, str]],
    join_type: JoinType,
    inputs: Sequence[Traced],
    found: Match,
    task: Task,
) -> Iterator[Fate]:
    """What becomes of the rows of either side that are followed. rungs: what each rung of the ladder asks,
    and how it is called. Cancelled.
    """
    left, right = inputs
    asked, _ = rungs[0]
    keeps_unmatched = {"left": join_type.keeps_unmatched_left, "right": join_type.keeps_unmatched_right}
    sides = [
        ("left", left, right, found.found_left, found.partners_of_left, join_type.has_left_fields),
        ("right", right, left, found.found_right, found.partners_of_right, join_type.has_right_fields),
    ]
    for side, mine, theirs, matching, pairs, has_fields in sides:
        keeps = join_type.keeps_pairs or (join_type.keeps_matched and has_fields)
        seen = _Seen(side, mine, theirs, found, matching, pairs, keeps, keeps_unmatched[side], rungs)
        if len(mine.rows):
            yield from _matched(seen, join_type, task)
            yield from _passed_over(seen, task)
            yield from _unmatched(seen, asked, task)


def _matched(seen: _Seen, join_type: JoinType, task: Task) -> Iterator[Fate]:
    rows = seen.mine.rows[seen.pairs[seen.mine.rows] > 0]
    if not len(rows):
        return
    if not seen.keeps_matched:
        yield Fate(
            How.DROPPED,
            f"dropped, since it has a partner in {seen.theirs.name}: those without one are asked for",
            len(rows),
        )
        return
    if not join_type.keeps_pairs:
        yield Fate(How.MATCHED, f"kept once, since it has a partner in {seen.theirs.name}", len(rows))
        return
    for row in rows[:_TOLD].tolist():
        yield _paired(seen, row, task)
    rest = rows[_TOLD:]
    if len(rest):
        pairs = int(seen.pairs[rest].sum())
        how = How.MULTIPLIED if pairs > len(rest) else How.MATCHED
        are, many = ("is", "pair") if pairs == 1 else ("are", "pairs")
        yield Fate(how, f"{len(rest):,} more {are} matched in {pairs:,} {many}", len(rest))


def _paired(seen: _Seen, row: int, task: Task) -> Fate:
    """With whom one row is paired, by which rung, and how these write what it is compared by."""
    by = seen.found_by(row)
    asked, rung = by[0]
    count = int(seen.pairs[row])
    partners = seen.partners(row)
    places = places_said(seen.theirs.table, partners)
    own, other = _texts(seen, asked, np.array([row])), _texts(seen, asked, partners[:1], theirs=True)
    said = f"matched with {counted(count, seen.theirs.name)}"
    if len(seen.rungs) > 1:
        said += f" by “{rung}”" if len(by) == 1 else f" by {len(by)} rungs"
    if asked.take.kind is not Taken.EVERY:
        every = len(_all_matching(seen, row, task))
        said += f" of {every:,} that match" if every > count else ""
    said += f": {places}"
    if own != other:
        said += f"; “{own[0]}” here is “{other[0]}” there"
    if len(partners) > count:
        # Several matched, and the join takes some of them.
        said = (
            f"matched with {count:,} of the {len(partners):,} {rows_called(seen.theirs.name)[1]} that match"
        )
        said += f": {places}"
    return Fate(How.MULTIPLIED if count > 1 else How.MATCHED, said, 1)


def _texts(seen: _Seen, asked: Asked, rows: IndexVector, *, theirs: bool = False) -> list[str]:
    """What rows are compared by, written out."""
    place = 0 if (seen.side == "left") != theirs else 1
    sides = [link.sides(asked.left.fields, asked.right.fields)[place] for link in asked.links]
    table = seen.theirs.table if theirs else seen.mine.table
    return written(ChosenRows(table, rows), sides) if sides else [""] * len(rows)


def _passed_over(seen: _Seen, task: Task) -> Iterator[Fate]:
    """Rows that match and are in no pair: whom they match, and whom these were paired with in their place."""
    mine = seen.mine.rows
    rows = mine[seen.matching[mine].astype(bool) & (seen.pairs[mine] == 0)]
    for row in rows[:_TOLD].tolist():
        others = _all_matching(seen, row, task)
        said = f"passed over: it matches {places_said(seen.theirs.table, others)}, paired with another row"
        if seen.side == "right" and len(others):
            taken = seen.found.nth_partner(others[:1], np.zeros(1, np.int64))
            said += f" ({places_said(seen.mine.table, taken)})" if taken[0] >= 0 else ""
        yield Fate(How.PASSED_OVER, said, 1)
    if len(rows) > _TOLD:
        yield Fate(How.PASSED_OVER, "passed over, too", len(rows) - _TOLD)


def _all_matching(seen: _Seen, row: int, task: Task) -> IndexVector:
    """The rows of the other side that match a row by the first rung that finds it, taken or not: a match
    keeps only those that were taken.
    """
    alone = ChosenRows(seen.mine.table, np.array([row]))
    rows = np.zeros(0, np.int64)
    for asked, _ in seen.found_by(row):
        if seen.side == "left":
            rows = match(alone, asked.right, asked.links, task, any_of=asked.any_of).right_matched_rows
        else:
            rows = match(asked.left, alone, asked.links, task, any_of=asked.any_of).left_matched_rows
        if len(rows):
            break
    return rows


def _unmatched(seen: _Seen, asked: Asked, task: Task) -> Iterator[Fate]:
    rows = seen.mine.rows[~seen.matching[seen.mine.rows].astype(bool)]
    if not len(rows):
        return
    kept = "" if seen.keeps_unmatched else "; it is left out, since those without a partner are not asked for"
    one = rows_called(seen.theirs.name)[0]
    if asked.left.rows + asked.right.rows > _ALL_LOOKED_AT:
        for said, count in _plainly(seen, asked, rows, task):
            yield Fate(How.UNMATCHED, f"found no {one}: {said}{kept}", count)
        return
    on_left = seen.side == "left"
    looked_at = seen.found.left_unmatched_rows if on_left else seen.found.right_unmatched_rows
    for reason in explain_rows(asked, seen.found, seen.side, looked_at, task):
        here = rows[np.isin(rows, reason.row_numbers)]
        if not len(here):
            continue
        said = f"found no {one}: {reason.said}"
        mends = [mend.said for mend in reason.mends]
        said += f" (mend: {mends[0]})" if mends and reason.kind not in (Kind.ABSENT, Kind.ACCEPTED) else ""
        alone = len(set(_texts(seen, asked, here[:_SAME]))) == 1
        near = _nearest(seen, asked, int(here[0]), task) if alone else ""
        said += f"; nearest: {near}" if near else ""
        yield Fate(How.UNMATCHED, said + kept, len(here))


def _plainly(seen: _Seen, asked: Asked, rows: IndexVector, task: Task) -> Iterator[tuple[str, int]]:
    """Why rows of large tables have no partner, told from their own values and what is nearest to them."""
    place = 0 if seen.side == "left" else 1
    table = ChosenRows(seen.mine.table, rows)
    nothing = np.zeros(len(rows), dtype=bool)
    for link in asked.links:
        sides = link.sides(asked.left.fields, asked.right.fields)
        prepared = prepare(sides[place].cells(table), link.preparation)
        for which, said in (
            (prepared.absent, "an earlier knot found no partner, so that there is no value"),
            (prepared.blank, "the link field is blank"),
            (prepared.lost, "the value cannot be read as what it is compared as"),
        ):
            if which is not None and (fresh := which & ~nothing).any():
                yield said, int(np.count_nonzero(fresh))
                nothing |= fresh
    rest = rows[~nothing]
    if not len(rest):
        return
    texts = np.array(_texts(seen, asked, rest), dtype=object)
    accepted = np.isin(texts, asked.accepted[place])
    if accepted.any():
        yield "accepted as absent", int(np.count_nonzero(accepted))
        rest, texts = rest[~accepted], texts[~accepted]
    if not len(rest):
        return
    said = "the value is not on the other side" if len(asked.links) == 1 else "none has these values together"
    near = _nearest(seen, asked, int(rest[0]), task) if len(set(texts[:_SAME])) == 1 else ""
    yield f"{said}{f'; nearest: {near}' if near else ''}", len(rest)


def _nearest(seen: _Seen, asked: Asked, row: int, task: Task) -> str:
    """The values of the other side that are most like that of a row."""
    if len(asked.links) != 1 or asked.links[0].operator is not Operator.EQUAL or not seen.theirs.table.rows:
        return ""
    place = 0 if seen.side == "left" else 1
    sides = asked.links[0].sides(asked.left.fields, asked.right.fields)
    own = ChosenRows(seen.mine.table, np.array([row]))
    value = as_text(sides[place].cells(own).values)[0].as_py()
    if value is None:
        return ""
    task.checkpoint(0, 0, "looking for the nearest values")
    theirs = sides[1 - place].cells(seen.theirs.table).values
    found = nearest(value, pc.unique(theirs), _NEAREST, least=_LIKE)
    said = []
    for text, differs in found:
        wanted = (
            pc.equal(theirs, pa.scalar(text, theirs.type)) if pa.types.is_large_string(theirs.type) else None
        )
        first = pc.index(wanted, True).as_py() if wanted is not None else -1
        places = seen.theirs.table.origins(first) if first >= 0 else ()
        said.append(f"“{text}” ({differs}{f'; {places[0]}' if places else ''})")
    return listed(said)
