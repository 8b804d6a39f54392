"""Where nothing matches at all: what the values of both sides look like, and what could link them instead."""

from __future__ import annotations

import msgspec

from keen_trellis.core.insight.proposals import propose
from keen_trellis.core.insight.reason import Example, Mend, Way
from keen_trellis.core.insight.summary import Share, summary
from keen_trellis.core.insight.unexplained_rows import OpenRows
from keen_trellis.core.link import LinkField, Take
from keen_trellis.core.matching import match
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task

# Patterns of fewer values say nothing.
_LEAST_ROWS = 10


class Unlike(msgspec.Struct, frozen=True):
    """What is said of a link that finds nothing. examples: patterns of both sides, face to face."""

    said: str
    examples: tuple[Example, ...]
    mends: tuple[Mend, ...]


def unlike(rows: OpenRows, links: tuple[LinkField, ...], take: Take, task: Task) -> Unlike | None:
    """What the values of the first link look like on both sides; None where that link is no plain equality or
    has too few values.

    links: those of the join, seen from the left.
    """
    link = rows.links[0]
    if not link.is_plain_equality or len(rows.rows) < _LEAST_ROWS:
        return None
    mine, theirs = _patterns(rows.one, link.left, task), _patterns(rows.other, link.right, task)
    if not mine or not theirs:
        return None
    faces = [*theirs, *(Share("", 0) for _ in mine)]
    examples = tuple(Example(own.text, own.rows, other.text) for own, other in zip(mine, faces, strict=False))
    said = f"{link.left} looks like “{mine[0].text}” and {link.right} like “{theirs[0].text}”"
    instead = _instead(rows, links, take, task)
    if mine[0].text == theirs[0].text:
        if not instead:
            return None  # values of one kind that are really absent
        said = f"{link.left} and {link.right} look alike, and have no value in common"
    return Unlike(said, examples, tuple(instead))


def _patterns(table: Table, name: str, task: Task) -> tuple[Share, ...]:
    """The commonest patterns of a text, or from where to where other values reach."""
    found = summary(table, name, task)
    if found.patterns or not found.filled:
        return found.patterns
    return (Share(f"{found.least} to {found.greatest}", found.filled),)


def _instead(rows: OpenRows, links: tuple[LinkField, ...], take: Take, task: Task) -> list[Mend]:
    """The best other link that finds anything, said once, on the left."""
    if rows.side != "left":
        return []
    pairs = {(link.left, link.right) for link in links}
    for proposal in propose(rows.one, rows.other, task):
        if {(link.left, link.right) for link in proposal.links} == pairs:
            continue
        gain = match(rows.one, rows.other, proposal.links, task).counts.left_matched
        if gain:
            names = " and ".join(f"{link.left} with {link.right}" for link in proposal.links)
            return [Mend(f"match {names} instead", Way.LINKS, proposal.links, take, gain)]
    return []
