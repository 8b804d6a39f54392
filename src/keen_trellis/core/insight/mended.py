"""Pairs that match only after mending, by what mends them, so that they can be looked through."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.insight.reason import Vector
from keen_trellis.core.insight.reasons import Asked
from keen_trellis.core.link import LinkField, Preparation
from keen_trellis.core.match import ListedMatch, Match
from keen_trellis.core.preparations import in_words
from keen_trellis.core.preparing import prepare
from keen_trellis.core.ranges import Limits
from keen_trellis.core.table import Cells, IndexVector
from keen_trellis.core.task import Task
from keen_trellis.core.values import as_text


class MendedPairs(msgspec.Struct, frozen=True):
    """Pairs of a match, by their numbers, that one mend lets match."""

    said: str
    numbers: IndexVector


def mended_pairs(asked: Asked, found: Match, task: Task) -> Iterator[MendedPairs]:
    """The pairs that match only after mending, most pairs first. Cancelled."""
    if isinstance(found, ListedMatch) and found.pairs > Limits().pairs:
        return
    numbers = found.pair_numbers_only_prepared
    if not len(numbers):
        return
    left, right = found.pair_rows(numbers)
    words = [""]
    label = np.zeros(len(numbers), np.int64)
    for link in asked.links:
        if not link.preparation:
            continue
        task.checkpoint(0, 0, f"looking what mends {link.left}")
        one, other = link.sides(asked.left.fields, asked.right.fields)
        cells = (one.cells(asked.left).values, other.cells(asked.right).values)
        values = [side.take(pa.array(rows)) for side, rows in zip(cells, (left, right), strict=True)]
        said, own = _by_mend(link, *values)
        words = [", ".join(part for part in (before, now) if part) for before in words for now in said]
        label = label * len(said) + own
    counts = np.bincount(label, minlength=len(words))
    for at in np.argsort(-counts, kind="stable"):
        if counts[at]:
            yield MendedPairs(words[at] or "their preparation", numbers[label == at])


def _by_mend(link: LinkField, left: pa.Array, right: pa.Array) -> tuple[list[str], Vector]:
    """What lets each pair of values match: words, and for each pair the number of its own."""
    texts = [as_text(values).dictionary_encode() for values in (left, right)]
    codes = [entry.indices.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int64) for entry in texts]
    size = len(texts[1].dictionary) + 1
    pairs, number = np.unique((codes[0] + 1) * size + codes[1] + 1, return_inverse=True)
    values = [
        entry.dictionary.take(pa.array(at, mask=at < 0))
        for entry, at in zip(texts, (pairs // size - 1, pairs % size - 1), strict=True)
    ]
    said = [""]
    found = np.full(len(pairs), -1)
    for name, preparation in _ways(link.preparation):
        if not (found < 0).any():
            break
        if name == "corrections":
            read = pa.array([wrong for wrong, _ in preparation.corrections], pa.large_string())
            same = pc.or_(*(pc.is_in(side, value_set=read) for side in values))
        else:
            same = pc.fill_null(pc.equal(*(_prepared(side, preparation) for side in values)), False)
        hits = same.to_numpy(zero_copy_only=False) & (found < 0)
        if hits.any():
            if name:
                said.append(name)
            found[hits] = len(said) - 1 if name else 0
    if (found < 0).any():
        said.append("their preparation")
        found[found < 0] = len(said) - 1
    return said, found[number]


def _ways(preparation: Preparation) -> Iterator[tuple[str, Preparation]]:
    """What a preparation does, in parts, the smallest first."""
    yield "", Preparation()
    if preparation.corrections:
        yield "corrections", preparation
    for size in range(1, len(preparation.names) + 1):
        for names in combinations(preparation.names, size):
            yield f"ignoring {in_words(names)}", Preparation.ignoring(names)
    if preparation.compare_as:
        yield f"compared as {preparation.compare_as}", msgspec.structs.replace(preparation, corrections=())


def _prepared(values: pa.Array, preparation: Preparation) -> pa.Array:
    return prepare(Cells(values), preparation).of_rows
