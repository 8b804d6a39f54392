"""Keys that stand in several rows and so make more rows of a join than there were."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import product

import numpy as np
import pyarrow.compute as pc

from keen_trellis.core.insight.open_rows import OpenRows
from keen_trellis.core.insight.reason import Kind, Mend, Reason, Way, rows_said
from keen_trellis.core.link import LinkField, Operator, Take, Taken
from keen_trellis.core.match import Match
from keen_trellis.core.matching import match
from keen_trellis.core.table import IndexVector, Table
from keen_trellis.core.task import Task

_LOOKED_AT = 2_000
_MOST_PARTNERS = 50


def repeated(
    left: Table, right: Table, links: Sequence[LinkField], found: Match, take: Take, task: Task
) -> Iterator[Reason]:
    """Rows that have several partners, with what that adds and the values that add most."""
    several = np.flatnonzero(found.partners_of_left > 1)
    if not len(several):
        return
    added = int(found.pairs - np.count_nonzero(found.partners_of_left))
    kind = Kind.REPEATED if all(link.operator is Operator.EQUAL for link in links) else Kind.OVERLAP
    rows = OpenRows("left", left, right, links, several)
    names = ", ".join(dict.fromkeys(link.right for link in links))
    said = f"{names} repeats, which adds {rows_said(added)}"
    counts = found.counts
    if kind is Kind.OVERLAP:
        said = f"each lies in more than one period, which adds {rows_said(added)}"
    elif counts.cardinality == "n:m":
        said = f"n:m, {names} repeats on both sides, which adds {rows_said(added)}: {counts.pairs:,} pairs"
    links = tuple(links)
    mends = [
        Mend("take the first match", Way.TAKE, links, Take(Taken.FIRST), added),
        Mend("take the last match", Way.TAKE, links, Take(Taken.LAST), added),
    ]
    extra = _extra_link(left, right, links, found, several, task) if kind is Kind.REPEATED else None
    if extra is not None:
        link, fewer = extra
        text = f"match {link.left} with {link.right} as well"
        mends.insert(0, Mend(text, Way.EXTRA_LINK, (*links, link), take, fewer))
    yield rows.told(kind, np.ones(len(several), dtype=bool), said, mends)


def _extra_link(
    left: Table, right: Table, links: Sequence[LinkField], found: Match, several: IndexVector, task: Task
) -> tuple[LinkField, int] | None:
    """Fields of which one partner of each row has the same value and the others have not, and how many rows
    fewer their link makes; None if there are no such.
    """
    rows = several[:_LOOKED_AT]
    counts = np.minimum(found.partners_of_left[rows], _MOST_PARTNERS)
    owner = np.repeat(np.arange(len(rows)), counts)
    nth = np.arange(len(owner)) - np.repeat(np.cumsum(counts) - counts, counts)
    pairs = rows[owner], found.nth_partner(rows[owner], nth)
    linked = {link.left for link in links}, {link.right for link in links}
    sides = [
        [
            (field.name, table.take(numbers, [field.name])[0].values)
            for field in table.fields
            if field.name not in known
        ]
        for table, numbers, known in zip((left, right), pairs, linked, strict=True)
    ]
    for (one, mine), (other, theirs) in product(*sides):
        task.checkpoint(0, 0, f"looking whether {one} and {other} tell partners apart")
        if mine.type != theirs.type:
            continue
        same = pc.fill_null(pc.equal(mine, theirs), False).to_numpy(zero_copy_only=False)
        agreeing = np.bincount(owner[same], minlength=len(rows))
        if not (agreeing == 1).all():
            continue
        link = LinkField(one, other)
        after = match(left, right, (*links, link), task)
        if after.counts.left_matched == found.counts.left_matched:
            return link, found.pairs - after.pairs
    return None
