"""Where values lie that are in none of the periods (or bands) that a range link compares them with."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from keen_trellis.core.encoding import encode, prepare_links
from keen_trellis.core.insight.reason import Kind, Reason, Vector
from keen_trellis.core.insight.unexplained_rows import Coded, OpenRows
from keen_trellis.core.link import LinkField, Operator
from keen_trellis.core.match import how_often
from keen_trellis.core.matching import match
from keen_trellis.core.ranges import Condition
from keen_trellis.core.table import ChosenRows
from keen_trellis.core.task import Task

_FROM = (Operator.GREATER, Operator.AT_LEAST)
_ORDERING = (*_FROM, Operator.LESS, Operator.AT_MOST)


def outside(rows: OpenRows, task: Task) -> Iterator[Reason]:
    """Why open rows are in no period: before the first, after the last, or between two."""
    equal = [link for link in rows.links if link.operator is Operator.EQUAL]
    sides = dict.fromkeys(
        (link.left, link.left_is_expression) for link in rows.links if link.operator in _ORDERING
    )
    for side in sides:
        if not rows:
            return
        own = [link for link in rows.links if (link.left, link.left_is_expression) == side]
        ranges = [link for link in own if link.operator in _ORDERING]
        task.checkpoint(0, 0, f"looking where {side[0]} lies")
        yield from _outside_of(rows, ranges, equal, task)


def _outside_of(
    rows: OpenRows, ranges: Sequence[LinkField], equal: Sequence[LinkField], task: Task
) -> Iterator[Reason]:
    numbers = rows.rows
    table = ChosenRows(rows.one, numbers)
    reached = match(table, rows.other, [*equal, *ranges], task).found_left
    below, above = (
        _below(table, rows, ranges, equal, from_below=True),
        _below(table, rows, ranges, equal, from_below=False),
    )
    known = _with_like(table, rows, equal)
    coded = Coded.of(rows.expressions(ranges[0])[0].cells(ChosenRows(rows.one, rows.numbers)).values)
    name = ranges[0].left
    fields = " and ".join(dict.fromkeys(link.right for link in ranges))
    for kind, found, said in (
        (Kind.BELOW, below, f"{name} is below the first {fields}"),
        (Kind.ABOVE, above & ~below, f"{name} is above the last {fields}"),
        (Kind.GAP, ~below & ~above, f"{name} lies in a gap between {fields}"),
    ):
        mask = np.zeros(len(rows.numbers), dtype=bool)
        places = np.searchsorted(rows.numbers, numbers[found & ~reached & known])
        mask[places] = True
        mask &= rows.is_open
        if mask.any():
            yield rows.told(kind, mask, said, coded=coded)


def _with_like(table: ChosenRows, rows: OpenRows, equal: Sequence[LinkField]) -> Vector:
    """Which rows have any row of the other side with the same equal links."""
    if not equal:
        return np.full(table.rows, rows.other.rows > 0)
    return np.asarray(match(table, rows.other, equal).found_left)


def _below(
    table: ChosenRows,
    rows: OpenRows,
    ranges: Sequence[LinkField],
    equal: Sequence[LinkField],
    *,
    from_below: bool,
) -> Vector:
    """Which rows lie below where every period of their equals begins (or above where all end)."""
    bounds = [link for link in ranges if (link.operator in _FROM) is from_below]
    found = np.zeros(table.rows, dtype=bool)
    if equal:
        codes = encode(prepare_links(table, rows.other, equal))
        size = max(codes.size, 1)
        left, right = codes.left, codes.right
    else:
        size = 1
        left, right = np.zeros(table.rows, np.int64), np.zeros(rows.other.rows, np.int64)
    for link in bounds:
        condition = Condition.of(prepare_links(table, rows.other, [link])[0])
        held = np.flatnonzero(condition.right_known & (right >= 0))
        order = held[np.lexsort((condition.right[held], right[held]))]
        counts = how_often(right[held], size)
        ends = np.cumsum(counts)
        has = (left >= 0) & condition.left_known
        has &= np.append(counts > 0, False)[left]
        at = np.flatnonzero(has)
        place = (ends - counts)[left[at]] if from_below else ends[left[at]] - 1
        found[at] |= ~condition.holds(at, order[place])
    return found
