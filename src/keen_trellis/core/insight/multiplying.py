"""Keys that stand in several rows and so make more rows of a join than there were."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from itertools import product

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.comparing import ordered_as
from keen_trellis.core.insight.reason import Kind, Mend, Reason, Way, rows_said
from keen_trellis.core.insight.unexplained_rows import OpenRows
from keen_trellis.core.link import LinkField, Operator, Take, Taken
from keen_trellis.core.match import Match
from keen_trellis.core.matching import match
from keen_trellis.core.ragged import laid_out
from keen_trellis.core.table import IndexVector, Table
from keen_trellis.core.task import Task

_LOOKED_AT = 2_000
_MOST_PARTNERS = 50
# In so many of the looked at rows a date must tell which partner is the latest.
_TELLING = 0.9


def repeated(
    left: Table,
    right: Table,
    links: Sequence[LinkField],
    found: Match,
    take: Take,
    task: Task,
    *,
    any_of: bool = False,
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
    mends = _mends(_Partners(left, right, tuple(links), found, several), kind, take, added, task, any_of)
    yield rows.told(kind, np.ones(len(several), dtype=bool), said, mends)


class _Partners(msgspec.Struct, frozen=True, dict=True):
    """The partners of rows that have several; those of the first rows are looked at."""

    left: Table
    right: Table
    links: tuple[LinkField, ...]
    found: Match
    several: IndexVector

    @cached_property
    def pairs(self) -> tuple[IndexVector, IndexVector, IndexVector]:
        """For each pair that is looked at: the place of its left row, that row, and its partner."""
        rows = self.several[:_LOOKED_AT]
        owner, nth = laid_out(np.minimum(self.found.partners_of_left[rows], _MOST_PARTNERS))
        return owner, rows[owner], self.found.nth_partner(rows[owner], nth)

    def columns(self, *, on_left: bool) -> Iterator[tuple[str, pa.Array]]:
        """The cells of the pairs in each field that does not link."""
        _, left, right = self.pairs
        table, numbers = (self.left, left) if on_left else (self.right, right)
        linked = {link.left if on_left else link.right for link in self.links}
        for field in table.fields:
            if field.name not in linked:
                yield field.name, table.take(numbers, [field.name])[0].values


def _mends(partners: _Partners, kind: Kind, take: Take, added: int, task: Task, any_of: bool) -> list[Mend]:
    links = partners.links
    made = []
    latest = _latest_by(partners, task)
    if kind is Kind.REPEATED and not any_of:
        extra = _extra_link(partners, task)
        if extra is not None:
            link, fewer = extra
            text = f"match {link.left} with {link.right} as well"
            made.append(Mend(text, Way.EXTRA_LINK, (*links, link), take, fewer))
    if latest:
        by_latest = Take(Taken.GREATEST, latest)
        made.append(Mend(f"take the latest match by {latest}", Way.TAKE, links, by_latest, added))
    made.append(Mend("take the first match", Way.TAKE, links, Take(Taken.FIRST), added))
    made.append(Mend("take the last match", Way.TAKE, links, Take(Taken.LAST), added))
    if kind is Kind.REPEATED and not any_of and all(map(_tells_keys_apart, links)):
        stays = Take(Taken.GREATEST, latest) if latest else Take(Taken.FIRST)
        keys = tuple(link.right for link in links)
        which = f"the latest row by {latest}" if latest else "the first row"
        text = f"keep only {which} of each {' and '.join(keys)} before the join"
        made.append(Mend(text, Way.DISTINCT, links, stays, added, fields=keys))
    return made


def _tells_keys_apart(link: LinkField) -> bool:
    """Whether right rows that are equal in this link are just those that a distinct step finds equal."""
    return not link.blanks and not link.preparation.corrections


def _latest_by(partners: _Partners, task: Task) -> str:
    """The date or moment of the right table that tells which of several partners is the latest, or ""."""
    owner = partners.pairs[0]
    starts = np.flatnonzero(np.diff(owner, prepend=-1))
    best, most = "", _TELLING
    for name, values in partners.columns(on_left=False):
        if not pa.types.is_date(values.type) and not pa.types.is_timestamp(values.type):
            continue
        task.checkpoint(0, 0, f"looking whether {name} tells the latest")
        when = np.where(values.is_valid(), ordered_as(values).astype(np.int64), np.iinfo(np.int64).min)
        latest = np.maximum.reduceat(when, starts)
        telling = np.add.reduceat(when == latest[owner], starts) == 1
        share = float(telling.mean())
        if share > most or (not best and share >= most):
            best, most = name, share
    return best


def _extra_link(partners: _Partners, task: Task) -> tuple[LinkField, int] | None:
    """Fields of which one partner of each row has the same value and the others have not, and how many rows
    fewer their link makes; None if there are no such.
    """
    owner = partners.pairs[0]
    looked_at = int(owner[-1]) + 1
    sides = [list(partners.columns(on_left=side)) for side in (True, False)]
    found = partners.found
    for (one, mine), (other, theirs) in product(*sides):
        task.checkpoint(0, 0, f"looking whether {one} and {other} tell partners apart")
        if mine.type != theirs.type:
            continue
        same = pc.fill_null(pc.equal(mine, theirs), False).to_numpy(zero_copy_only=False)
        agreeing = np.bincount(owner[same], minlength=looked_at)
        if not (agreeing == 1).all():
            continue
        link = LinkField(one, other)
        after = match(partners.left, partners.right, (*partners.links, link), task)
        if after.counts.left_matched == found.counts.left_matched:
            return link, found.pairs - after.pairs
    return None
