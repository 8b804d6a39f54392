"""Which of its matches a left row takes: the first, the last, the least, the only one, or in pairs."""

from __future__ import annotations

import numpy as np

from keen_trellis.core.comparing import best_first
from keen_trellis.core.errors import DataError
from keen_trellis.core.link import LinkField, Take, Taken, value_of
from keen_trellis.core.match import CodeMatch, ListedMatch, Match, index_type, ordered_by_code
from keen_trellis.core.ordering import distinct_numbers, in_order
from keen_trellis.core.ragged import running_total
from keen_trellis.core.table import IndexVector, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import as_text

_NONE = -1


def taken(
    found: Match, take: Take, left: Table, right: Table, links: tuple[LinkField, ...], task: Task
) -> Match:
    """The match in which each left row takes what `take` says.

    DataError if it must be one and is not. Rows whose matches all go to others are passed over.
    """
    if take.kind is Taken.EVERY:
        return found
    if take.kind is Taken.ONE:
        _check_one(found, left, right, links)
        return found
    task.checkpoint(0, 0, "choosing among matches")
    if take.kind is Taken.PAIR_OFF and found.scores is not None:
        partner = _paired_by_score(found, task)
    elif take.kind is Taken.PAIR_OFF:
        partner = _paired_by_code(found) if isinstance(found, CodeMatch) else _paired_off(found, task)
    elif take.kind in (Taken.LEAST, Taken.GREATEST):
        partner = _best(found, take, right)
    else:
        rows = np.arange(len(found.partners_of_left))
        nth = found.partners_of_left - 1 if take.kind is Taken.LAST else np.zeros_like(rows)
        partner = found.nth_partner(rows, np.maximum(nth, 0))
    return _one_each(found, partner)


def _one_each(found: Match, partner: IndexVector) -> ListedMatch:
    """The match in which each left row has this right row for its partner, or none (-1)."""
    has = partner >= 0
    right = partner[has].astype(index_type(len(found.partners_of_right)))
    made = ListedMatch(
        has.astype(np.int8),
        np.bincount(right, minlength=len(found.partners_of_right)),
        lambda: right,
        found=(found.found_left, found.found_right),
    )
    made.sides = found.sides
    made.as_written = found.as_written
    if found.scores is not None:
        made.scores, made.are_distances = found.scores_of(np.flatnonzero(has), right), found.are_distances
    return made


def _check_one(found: Match, left: Table, right: Table, links: tuple[LinkField, ...]) -> None:
    several = np.flatnonzero(found.partners_of_left > 1)
    if not len(several):
        return
    row = int(several[0])
    names = [link.left for link in links if not link.left_is_expression]
    cells = left.take(range(row, row + 1), names) if names else []
    value = ", ".join(as_text(cell.values)[0].as_py() or "blank" for cell in cells)
    partners = [_place(right, int(partner)) for partner in found.partners_in_right(row)[:3]]
    more = int(found.partners_of_left[row]) - len(partners)
    others = f" and {more:,} more" if more else ""
    rows = "1 row matches" if len(several) == 1 else f"{len(several):,} rows match"
    raise DataError(
        f"Each row must match one at most, and {rows} several: “{value}” ({_place(left, row)}) matches "
        f"{'; '.join(partners)}{others}.",
        remedy="Take the first or the latest, add a link field, or keep one row a key.",
    )


def _place(table: Table, row: int) -> str:
    return " with ".join(map(str, table.origins(row))) or f"row {row + 1:,}"


# --- the least, the greatest ---


def _best(found: Match, take: Take, right: Table) -> IndexVector:
    """For each left row the partner with the least or greatest value; the first of equals, never a blank."""
    values = value_of(take.expression, right.fields).cells(right).values
    order, place = best_first(values, greatest=take.kind is Taken.GREATEST)
    if isinstance(found, CodeMatch):
        codes = np.where(place < len(order), found.codes.right, _NONE)
        best = np.full(max(found.codes.size, 1) + 1, len(order), np.int64)
        held = codes >= 0
        np.minimum.at(best, codes[held], place[held])
        winners = np.append(order, _NONE)[best]
        return np.where(found.codes.left >= 0, winners[found.codes.left], _NONE)
    _, partners = found.all_pairs()
    first = found.first_pair_of_left[:-1]
    has = found.partners_of_left > 0
    least = np.full(len(first), len(order), np.int64)
    if len(partners):
        least[has] = np.minimum.reduceat(place[partners], first[has])
    return np.append(order, _NONE)[least]


# --- in pairs ---


def _paired_by_code(found: CodeMatch) -> IndexVector:
    """The first left row of a code takes its first right row, the second the second, and so on."""
    size = max(found.codes.size, 1)
    order, start = found.right_order
    left_order, left_start = ordered_by_code(found.codes.left, size)
    held = found.codes.left[left_order]
    number = np.arange(len(left_order)) - left_start[held]
    there = number < (start[held + 1] - start[held])
    partner = np.full(len(found.codes.left), _NONE, np.int64)
    partner[left_order[there]] = order[start[held[there]] + number[there]]
    return partner


def _paired_by_score(found: Match, task: Task) -> IndexVector:
    """One to one, the best pairs first: again and again those that are the best for both of their rows."""
    left, right = found.all_pairs()
    assert found.scores is not None
    worth = found.scores if found.are_distances else -found.scores
    rank = np.empty(len(left), np.int64)
    rank[in_order(worth, left, right)] = np.arange(len(left))
    partner = np.full(len(found.partners_of_left), _NONE, np.int64)
    open_ = np.arange(len(left))
    while len(open_):
        task.checkpoint(0, 0, "pairing rows off")
        best = [np.full(len(side), len(left), np.int64) for side in (partner, found.partners_of_right)]
        np.minimum.at(best[0], left[open_], rank[open_])
        np.minimum.at(best[1], right[open_], rank[open_])
        chosen = open_[(best[0][left[open_]] == rank[open_]) & (best[1][right[open_]] == rank[open_])]
        partner[left[chosen]] = right[chosen]
        used = np.zeros(len(found.partners_of_right), dtype=bool)
        used[right[chosen]] = True
        open_ = open_[(partner[left[open_]] < 0) & ~used[right[open_]]]
    return partner


def _paired_off(found: Match, task: Task) -> IndexVector:
    """In left order, each row takes its first match that no row before it has taken.

    This is the one stable assignment in which all right rows prefer earlier left rows, so that proposals in
    rounds find it (Gale and Shapley, "College admissions and the stability of marriage", 1962).
    """
    _, partners = found.all_pairs()
    first = running_total(found.partners_of_left)
    following = first[:-1].copy()
    taken_by = np.full(len(found.partners_of_right), len(following), np.int64)
    seeking = np.flatnonzero(found.partners_of_left > 0)
    while len(seeking):
        task.checkpoint(0, 0, "pairing rows off")
        wanted = partners[following[seeking]]
        before = taken_by[wanted]
        np.minimum.at(taken_by, wanted, seeking)
        lost = seeking[taken_by[wanted] != seeking]
        # Those whose row went to an earlier one now must seek on as well.
        ousted = before[(before < len(following)) & (taken_by[wanted] != before)]
        seeking = distinct_numbers(np.concatenate((lost, ousted)))
        following[seeking] += 1
        seeking = seeking[following[seeking] < first[seeking + 1]]
    partner = np.full(len(following), _NONE, np.int64)
    right = np.flatnonzero(taken_by < len(following))
    partner[taken_by[right]] = right
    return partner
