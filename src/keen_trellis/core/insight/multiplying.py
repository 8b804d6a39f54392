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
    names = ", ".join(dict.fromkeys(link.right for link in links))
    said = f"{names} repeats, which adds {_rows(added)}"
    counts = found.counts
    if kind is Kind.OVERLAP:
        said = f"each lies in more than one period, which adds {_rows(added)}"
    elif counts.cardinality == "n:m":
        said = f"n:m, {names} repeats on both sides, which adds {_rows(added)}: {counts.pairs:,} pairs"
    links = tuple(links)
    mends = [
        Mend("take the first match", Way.TAKE, links, Take(Taken.FIRST), added),
        Mend("take the last match", Way.TAKE, links, Take(Taken.LAST), added),
    ]
    yield rows.told(kind, np.ones(len(several), dtype=bool), said, mends)


def _rows(count: int) -> str:
    return "1 row" if count == 1 else f"{count:,} rows"
