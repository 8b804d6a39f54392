"""A ladder of links: each left row is matched by the first rung that finds it, and stands on no later one."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np

from keen_trellis.core.link import LinkField, Take, Taken
from keen_trellis.core.match import ListedMatch, Match, index_type
from keen_trellis.core.matching import match, written_by
from keen_trellis.core.ordering import in_order
from keen_trellis.core.ranges import Limits, check_pairs
from keen_trellis.core.table import ChosenRows, IndexVector, Table
from keen_trellis.core.task import Task


class Rung(msgspec.Struct, frozen=True):
    """Links that must all hold, or any of them."""

    links: tuple[LinkField, ...]
    any_of: bool = False


def ladder(left: Table, right: Table, rungs: Sequence[Rung], take: Take, task: Task) -> Match:
    """The match of two tables by rungs, first to last; raises what `match` raises.

    A left row that a rung finds, in a pair or passed over, is not looked for on the next. Right rows can be
    found by several; those that are paired off are not used again. Its `rung_of_left` says which one it was,
    from 1, 0 for none; a match as written is one by the links of the first rung as they are.
    """
    limits = Limits()
    rung_of_left = np.zeros(left.rows, np.int16)
    found_right = np.zeros(right.rows, dtype=bool)
    unused = np.ones(right.rows, dtype=bool)
    first: Match | None = None
    pairs: list[tuple[IndexVector, IndexVector, IndexVector]] = []
    for number, rung in enumerate(rungs, 1):
        rows, others = np.flatnonzero(rung_of_left == 0), np.flatnonzero(unused)
        here = match(
            left if len(rows) == left.rows else ChosenRows(left, rows),
            right if len(others) == right.rows else ChosenRows(right, others),
            rung.links,
            task,
            any_of=rung.any_of,
            take=take,
        )
        first = first or here
        check_pairs(here.pairs + sum(len(part[0]) for part in pairs), limits)
        one, other = here.all_pairs()
        scores = here.scores if here.scores is not None else np.full(len(one), np.nan)
        pairs.append((rows[one], others[other], scores))
        rung_of_left[rows[here.found_left]] = number
        found_right[others[here.found_right]] = True
        if take.kind is Taken.PAIR_OFF:
            unused[others[other]] = False
    assert first is not None, "a ladder has a rung"
    one, other, scores = (np.concatenate(side) for side in zip(*pairs, strict=True))
    order = in_order(one)  # the partners of a row are of one rung, and in order
    one, other = one[order], other[order].astype(index_type(right.rows))
    made = ListedMatch(
        np.bincount(one, minlength=left.rows),
        np.bincount(other, minlength=right.rows),
        lambda: other,
        found=(rung_of_left > 0, found_right),
    )
    made.sides, made.as_written = first.sides, written_by(left, right, rungs[0].links, any_of=rungs[0].any_of)
    made.rung_of_left, made.scores = rung_of_left, scores[order]
    return made
