"""Links of several fields, for tables in which no single field tells rows apart: compound keys and
periods.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import combinations

import numpy as np
import pyarrow.compute as pc

from keen_trellis.core.encoding import numbered
from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.composing import joins
from keen_trellis.core.insight.proposal import Known, Proposal
from keen_trellis.core.letters import Vector
from keen_trellis.core.link import LinkField, Operator, check_links
from keen_trellis.core.match import Match
from keen_trellis.core.matching import match
from keen_trellis.core.preparing import prepare
from keen_trellis.core.summarising import Key, grouped
from keen_trellis.core.table import ChosenRows, Field, Table, spread_rows
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, comparable

_SAMPLED_ROWS = 2_000
# Of how many single links compound ones are made, and what each of them must find.
_MOST_SINGLE = 3
_LEAST_FOUND = 0.5
# From here on the right side counts as told apart.
UNIQUE = 0.95
_ORDERED = (FieldType.DATE, FieldType.TIMESTAMP, FieldType.INTEGER, FieldType.DECIMAL, FieldType.REAL)
_FIRST = re.compile(r"(?i)(^|[^a-z])(from|since|start|begin|first|low|least|min|valid from)([^a-z]|$)")
_LAST = re.compile(r"(?i)(^|[^a-z])(to|until|till|end|last|high|most|max|through|valid to)([^a-z]|$)")


def confirmed(left: Table, right: Table, known: Sequence[Known], task: Task) -> Iterator[Proposal]:
    """What the values say of links that are known; those that do not fit these tables are left out."""
    sample = _sample(left)
    seen = set()
    for entry in known:
        try:
            check_links(entry.links, left.fields, right.fields)
        except TrellisError:
            continue
        pairs = frozenset((link.left, link.right) for link in entry.links)
        if pairs in seen:
            continue
        seen.add(pairs)
        task.checkpoint(0, 0, f"looking at {entry.links[0].left} with {entry.links[0].right}")
        outcome = match(sample, right, entry.links, task)
        found = _found(outcome, sample)
        if all(link.operator is Operator.EQUAL for link in entry.links):
            keys = [Key(link.right, link.preparation) for link in entry.links]
            unique = grouped(right, keys).size / max(right.rows, 1)
        else:
            unique = _single(outcome)
        yield Proposal(entry.links, found, unique, 1 + found, entry.why)


def compound(left: Table, right: Table, singles: Sequence[Proposal], task: Task) -> Iterator[Proposal]:
    """Two links together that tell the right rows apart, which neither does alone."""
    some = [entry for entry in singles if entry.found >= _LEAST_FOUND][:_MOST_SINGLE]
    if any(entry.unique >= UNIQUE for entry in some):
        return
    sample = _sample(left)
    reached = {entry.link: _reached(sample, right, entry.link) for entry in some}
    known: dict[LinkField, tuple[Vector, int]] = {}
    for one, other in combinations(some, 2):
        if one.link.left == other.link.left or one.link.right == other.link.right:
            continue
        task.checkpoint(0, 0, f"looking at {one.link.right} with {other.link.right}")
        links = (one.link, other.link)
        near = ChosenRows(right, np.flatnonzero(reached[one.link] & reached[other.link]))
        found = _found(match(sample, near, links, task), sample)
        if found < _LEAST_FOUND:
            continue
        for link in links:
            if link not in known:
                known[link] = numbered(prepare(right.column(link.right), link.preparation))
        unique = _told_apart(*(known[link] for link in links))
        if unique >= UNIQUE and unique > max(one.unique, other.unique):
            yield Proposal(links, found, unique, 0.5 * found + 0.35 * unique + 0.1)


def joined(left: Table, right: Table, task: Task) -> Iterator[Proposal]:
    """Two fields of one table joined, as first and last name, that are one field of the other."""
    for one, other, is_left in ((left, right, True), (right, left, False)):
        names = other.names
        for field in one.fields:
            if field.type is not FieldType.TEXT or field.untyped or len(names) < 2:
                continue
            task.checkpoint(0, 0, f"looking whether {field.name} is two fields joined")
            values = pc.unique(_sample(one).column(field.name).values).drop_null()
            for link, _ in joins(LinkField(field.name, names[0]), other, values) if len(values) else ():
                yield from _of_joined(left, right, link if is_left else link.swapped, task)


def _of_joined(left: Table, right: Table, link: LinkField, task: Task) -> Iterator[Proposal]:
    sample = _sample(left)
    found = _found(match(sample, right, (link,), task), sample)
    if found >= _LEAST_FOUND:
        unique = grouped(right, [Key(link.right, link.preparation)]).size / max(right.rows, 1)
        yield Proposal((link,), found, unique, 0.5 * found + 0.35 * unique + 0.1)


def _reached(sample: Table, right: Table, link: LinkField) -> Vector:
    """The right rows whose value of one link is one of the sample's."""
    own = prepare(sample.column(link.left), link.preparation).of_rows
    theirs = prepare(right.column(link.right), link.preparation)
    found = pc.is_in(theirs.values, value_set=pc.unique(own).drop_null()).to_numpy(zero_copy_only=False)
    return np.asarray(found if theirs.codes is None else np.append(found, False)[theirs.codes])


def periods(left: Table, right: Table, task: Task) -> Iterator[Proposal]:
    """A field of the left between two of the right that are named like the ends of periods or bands."""
    sample = _sample(left)
    for low, high in _ends(right):
        for field in left.fields:
            if field.type not in _ORDERED or not comparable(field.type, low.type):
                continue
            if field.type.is_number is not low.type.is_number:
                continue
            task.checkpoint(0, 0, f"looking at {field.name} between {low.name} and {high.name}")
            links = (
                LinkField(field.name, low.name, operator=Operator.AT_LEAST),
                LinkField(field.name, high.name, operator=Operator.AT_MOST),
            )
            outcome = match(sample, right, links, task)
            found = _found(outcome, sample)
            single = _single(outcome)
            if found >= _LEAST_FOUND:
                yield Proposal(links, found, single, 0.5 * found + 0.2 * single)


def _single(outcome: Match) -> float:
    """The share of the matched left rows that have one partner only."""
    alone = int(np.count_nonzero(outcome.partners_of_left == 1))
    return alone / max(int(np.count_nonzero(outcome.partners_of_left)), 1)


def _ends(right: Table) -> Iterator[tuple[Field, Field]]:
    """Pairs of fields that are named like a first and a last value, and never stand the wrong way round."""
    for low in right.fields:
        for high in right.fields:
            if low is high or low.type not in _ORDERED or low.type is not high.type:
                continue
            if not (_FIRST.search(low.name) and _LAST.search(high.name)):
                continue
            rest = _FIRST.sub("", low.name).strip(), _LAST.sub("", high.name).strip()
            if rest[0].casefold() != rest[1].casefold():
                continue
            first, last = (cells.values for cells in right.take(None, (low.name, high.name)))
            if pc.all(pc.less_equal(first, last)).as_py():
                yield low, high


def _sample(table: Table) -> Table:
    return ChosenRows(table, spread_rows(table.rows, _SAMPLED_ROWS))


def _found(outcome: Match, sample: Table) -> float:
    return outcome.counts.left_matched / max(sample.rows, 1)


def _told_apart(one: tuple[Vector, int], other: tuple[Vector, int]) -> float:
    """The share of rows with values of their own in two fields together; of each their codes and how many."""
    rows = max(len(one[0]), 1)
    if one[1] * other[1] < UNIQUE * rows:
        return 0.0
    return len(np.unique(one[0].astype(np.int64) * other[1] + other[0])) / rows
