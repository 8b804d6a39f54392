"""Matches two tables by their links: equal fields by codes, other operators by sorted search."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from keen_trellis.core.comparing import same_text
from keen_trellis.core.encoding import (
    Encoded,
    PreparedLink,
    encode,
    prepare_links,
    side_counts,
)
from keen_trellis.core.link import LinkField, Operator, Take, check_links, check_take
from keen_trellis.core.match import CodeMatch, ListedMatch, Match, Written, index_type
from keen_trellis.core.nearness import near
from keen_trellis.core.ordering import distinct_numbers, in_order
from keen_trellis.core.ranges import Condition, Limits, check_pairs, listed_match, match_by_conditions
from keen_trellis.core.table import IndexVector, Mask, Table
from keen_trellis.core.taking import taken
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, comparable, type_of_arrow

EVERY = Take()


def match(
    left: Table,
    right: Table,
    links: Sequence[LinkField],
    task: Task | None = None,
    *,
    any_of: bool = False,
    take: Take = EVERY,
    limits: Limits | None = None,
) -> Match:
    """Compare all rows of two tables by `links`, which must all hold, or any of them.

    Raises UsageError for an unknown field or expression, DataError for types that cannot be compared, for
    what is out of reach and for a row with several matches that must have one, and Cancelled.
    """
    task, limits = task or Task(), limits or Limits()
    check_links(links, left.fields, right.fields)
    check_take(take, right.fields)
    prepared = prepare_links(left, right, links, task)
    sides = (
        side_counts([entry.left for entry in prepared]),
        side_counts([entry.right for entry in prepared]),
    )
    found = _any_of(prepared, limits, task) if any_of and len(links) > 1 else _all_of(prepared, limits, task)
    found.sides = sides
    if _is_prepared(links, prepared):
        found.as_written = written_by(left, right, links, any_of=any_of)
    return taken(found, take, left, right, tuple(links), task)


def cross(left: Table, right: Table) -> Match:
    """Every row with every row; nothing is listed."""
    return CodeMatch(_one_group(left.rows, right.rows))


def _one_group(left_rows: int, right_rows: int) -> Encoded:
    """Codes by which every row of both sides is like every other."""
    return Encoded(np.zeros(left_rows, np.int32), np.zeros(right_rows, np.int32), 1)


def _all_of(prepared: Sequence[PreparedLink], limits: Limits, task: Task) -> Match:
    alike = next((entry for entry in prepared if entry.link.likeness is not None), None)
    equal = [e for e in prepared if e.link.operator is Operator.EQUAL and e.link.likeness is None]
    others = [entry for entry in prepared if entry.link.operator is not Operator.EQUAL]
    one = prepared[0]
    codes = encode(equal, task) if equal else _one_group(one.left.rows, one.right.rows)
    task.checkpoint(0, 0, "pairing rows")
    if alike is not None:
        return _by_likeness(alike, codes, [Condition.of(entry) for entry in others], limits, task)
    if not others:
        return CodeMatch(codes)
    return match_by_conditions(codes, [Condition.of(entry) for entry in others], limits, task)


def _by_likeness(
    entry: PreparedLink, groups: Encoded, conditions: Sequence[Condition], limits: Limits, task: Task
) -> ListedMatch:
    """Pairs of one group that are so much alike, or so near, and fulfil all other conditions."""
    likeness = entry.link.likeness
    assert likeness is not None
    sides = entry.left.of_rows, entry.right.of_rows
    rows = len(sides[0]), len(sides[1])
    is_text = type_of_arrow(sides[0].type) is FieldType.TEXT
    if is_text:
        from keen_trellis.core.likeness import alike_rows

        left, right, scores = alike_rows(*sides, groups, likeness.at_least, limits, task)
    else:
        left, right, scores = near(*sides, groups, likeness, limits)
    kept = np.ones(len(left), dtype=bool)
    for condition in conditions:
        kept &= condition.holds(left, right)
    left, right, scores = left[kept], right[kept], scores[kept]
    order = in_order(left, right)
    left, right, scores = left[order], right[order], scores[order]
    if is_text and likeness.best and len(left):
        starts = np.flatnonzero(np.diff(left, prepend=-1))
        most = np.repeat(np.maximum.reduceat(scores, starts), np.diff(np.append(starts, len(left))))
        left, right, scores = left[scores == most], right[scores == most], scores[scores == most]
    counts = np.bincount(left, minlength=rows[0]), np.bincount(right, minlength=rows[1])
    listed = right.astype(index_type(rows[1]))
    found = ListedMatch(*counts, lambda: listed)
    found.scores, found.are_distances = scores.astype(np.float64), not is_text
    return found


def _any_of(prepared: Sequence[PreparedLink], limits: Limits, task: Task) -> ListedMatch:
    """Pairs for which one of the links holds, each pair once."""
    rows = prepared[0].left.rows, prepared[0].right.rows
    keys = np.zeros(0, np.int64)
    for entry in prepared:
        found = _all_of([entry], limits, task)
        check_pairs(found.pairs, limits)
        left, right = found.all_pairs()
        keys = distinct_numbers(np.concatenate((keys, left.astype(np.int64) * max(rows[1], 1) + right)))
        check_pairs(len(keys), limits)
    left, right = np.divmod(keys, max(rows[1], 1))
    return listed_match([(left, right)], rows, asks_left=True)


# --- as written ---


def _is_prepared(links: Sequence[LinkField], prepared: Sequence[PreparedLink]) -> bool:
    """Whether preparation can have changed anything: what is ignored is ignored in text only."""
    for link, entry in zip(links, prepared, strict=True):
        preparation = link.preparation
        if link.likeness is not None:
            return True
        if preparation.compare_as or preparation.corrections:
            return True
        if preparation and entry.left.held.type == entry.right.held.type and _is_text(entry):
            return True
    return False


def _is_text(entry: PreparedLink) -> bool:
    return type_of_arrow(entry.left.held.type) is FieldType.TEXT


def written_by(left: Table, right: Table, links: Sequence[LinkField], *, any_of: bool) -> Written:
    """What tells which pairs match by links with nothing prepared."""
    return _Written(left, right, links, any_of=any_of)


class _Written:
    """Tells which pairs match with nothing prepared. Worked out when it is first asked for."""

    def __init__(self, left: Table, right: Table, links: Sequence[LinkField], *, any_of: bool) -> None:
        self._left, self._right, self._any_of = left, right, any_of
        self._links = [link.as_written for link in links]

    def _comparable(self) -> bool:
        for link in self._links:
            one, other = link.sides(self._left.fields, self._right.fields)
            if not comparable(one.type, other.type):
                return False
        return True

    def codes(self) -> Encoded:
        """The codes of links that all compare with =; no row has any if their types cannot be equal."""
        if not self._comparable():
            return Encoded(np.full(self._left.rows, -1), np.full(self._right.rows, -1), 1)
        return encode(prepare_links(self._left, self._right, self._links))

    def __call__(self, left: IndexVector, right: IndexVector) -> Mask:
        made = None
        for link in self._links:
            one, other = link.sides(self._left.fields, self._right.fields)
            if (
                link.operator is Operator.EQUAL
                and not link.blanks
                and one.type is other.type is FieldType.TEXT
            ):
                holds = same_text(one.cells(self._left).values, other.cells(self._right).values, left, right)
            elif comparable(one.type, other.type):
                holds = Condition.of(prepare_links(self._left, self._right, [link])[0]).holds(left, right)
            else:
                holds = np.zeros(len(left), dtype=bool)
            made = holds if made is None else (made | holds) if self._any_of else (made & holds)
        assert made is not None
        return made
