"""Keys that stand in several rows and so make more rows of a join than there were."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from keen_trellis.core.insight.open_rows import OpenRows
from keen_trellis.core.insight.reason import Kind, Mend, Reason, Way
from keen_trellis.core.link import LinkField, Operator, Take, Taken
from keen_trellis.core.match import Match
from keen_trellis.core.table import Table


def repeated(
    left: Table, right: Table, links: Sequence[LinkField], found: Match, take: Take
) -> Iterator[Reason]:
    """Rows that have several partners, with what that adds and the values that add most."""
    several = np.flatnonzero(found.partners_of_left > 1)
    if not len(several):
        return
    added = int(found.pairs - np.count_nonzero(found.partners_of_left))
    kind = Kind.REPEATED if all(link.operator is Operator.EQUAL for link in links) else Kind.OVERLAP
    rows = OpenRows("left", left, right, links, several)
    said = f"each has several partners, which adds {_rows(added)}"
    if kind is Kind.OVERLAP:
        said = f"each lies in more than one period, which adds {_rows(added)}"
    counts = found.counts
    if counts.cardinality == "n:m":
        said = (
            f"n:m, keys repeat on both sides: {_rows(counts.left_matched)} and "
            f"{_rows(counts.right_matched)} make {counts.pairs:,} pairs, {added:,} more than rows that have "
            "a partner"
        )
    links = tuple(links)
    mends = [
        Mend("take the first match", Way.TAKE, links, Take(Taken.FIRST), added),
        Mend("take the last match", Way.TAKE, links, Take(Taken.LAST), added),
    ]
    if kind is Kind.REPEATED and all(link.is_plain and not link.preparation for link in links):
        mends.append(Mend("keep one row of each key", Way.DISTINCT, links, take, added))
    yield rows.told(kind, np.ones(len(several), dtype=bool), said, mends)


def _rows(count: int) -> str:
    return "1 row" if count == 1 else f"{count:,} rows"
