"""A table that points to itself, walked from the part to the top: level, path, top, and what is in a circle.

All rows go up at once, twice as far each time (pointer jumping: Wyllie, "The complexity of parallel
computations", 1979), so that depth costs its logarithm; paths and the order from the top go level by level.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.encoding import encode, prepare_links
from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.link import LinkField, check_links
from keen_trellis.core.ordering import in_order
from keen_trellis.core.table import (
    Cells,
    ChosenRows,
    Field,
    IndexVector,
    Mask,
    OverlaidTable,
    Table,
    find_field,
)
from keen_trellis.core.task import Task
from keen_trellis.core.text_actions import check_new
from keen_trellis.core.values import ARROW_TYPES, FieldType, shown_text

_INTEGER, _TEXT = ARROW_TYPES[FieldType.INTEGER], ARROW_TYPES[FieldType.TEXT]
BETWEEN = " / "
DEEPEST_PATH = 1_000


class Walk(msgspec.Struct, frozen=True):
    """part, whole: the field that says which whole a row is part of, and the one that it is the value of.

    level, path, top: what the new fields are called, "" for none.  bring: fields of the top that come along.
    top_down: each whole stands before its parts; otherwise rows stay as they are.
    """

    part: str
    whole: str
    level: str = ""
    path: str = ""
    top: str = ""
    bring: tuple[str, ...] = ()
    top_down: bool = False

    def brought(self, name: str) -> str:
        """What a field of the top is called."""
        return f"{name} of the top"


def walked_fields(fields: Sequence[Field], walk: Walk) -> tuple[Field, ...]:
    """The fields of a walked table. UsageError or DataError where it cannot be walked."""
    if not (walk.part and walk.whole):
        raise UsageError(
            "It is not said which field points to the whole.",
            remedy="Choose it, and what it points to.",
        )
    if walk.part == walk.whole:
        raise UsageError(f"{walk.part} points to itself.", remedy="Choose the field that a row is known by.")
    check_links([LinkField(walk.part, walk.whole)], fields, fields)
    made = list(fields)
    own = find_field(fields, walk.whole)
    for name, kind in ((walk.level, _INTEGER), (walk.path, _TEXT), (walk.top, own.arrow_type)):
        if name:
            check_new(made, [name])
            made.append(Field(name, kind, untyped=own.untyped and name == walk.top))
    for name in walk.bring:
        check_new(made, [walk.brought(name)])
        field = find_field(fields, name)
        made.append(Field(walk.brought(name), field.arrow_type, untyped=field.untyped))
    return tuple(made)


class Walked(msgspec.Struct, frozen=True):
    """table: the rows with what they are among wholes and parts.  circles: rows of the table that was
    walked that lead round in a circle; they have no level, path or top.  lost: rows that point to what is
    not there, and so are tops.  twice: rows that point to what is there several times; the first is taken.
    """

    table: Table
    circles: IndexVector
    lost: int
    twice: int


def walked(table: Table, walk: Walk, task: Task) -> Walked:
    """The table walked from each row to its top. Cancelled; DataError where a path would be too deep."""
    fields = walked_fields(table.fields, walk)
    task.checkpoint(0, 4, "looking for the wholes")
    parent, lost, twice = _parents(table, walk, task)
    level, top, in_circle = _climbed(parent)
    task.checkpoint(1, 4, "walking to the top")
    rows = _from_the_top(parent, level, in_circle) if walk.top_down else None
    made: dict[str, Cells] = {}
    reads: dict[str, tuple[str, ...]] = {}
    both = (walk.part, walk.whole)
    if walk.level:
        made[walk.level] = Cells(pa.array(level, _INTEGER, mask=in_circle))
        reads[walk.level] = both
    if walk.path:
        task.checkpoint(2, 4, "writing paths")
        made[walk.path] = Cells(_paths(table, walk.whole, parent, level, in_circle))
        reads[walk.path] = both
    of_the_top = [(walk.top, walk.whole)] if walk.top else []
    for name, of in [*of_the_top, *((walk.brought(n), n) for n in walk.bring)]:
        task.checkpoint(3, 4, f"bringing {of}")
        values = table.column(of).values.take(pa.array(top, mask=in_circle))
        made[name] = Cells(values)
        reads[name] = tuple(dict.fromkeys((of, *both)))
    whole = OverlaidTable(table, fields, made, reads)
    return Walked(whole if rows is None else ChosenRows(whole, rows), np.flatnonzero(in_circle), lost, twice)


def circles_in(table: Table, walk: Walk, task: Task) -> IndexVector:
    """The rows that stand in a circle, circle by circle, each row before the one that it is part of; those
    that only lead to a circle are not among them. Cancelled.
    """
    parent, *_ = _parents(table, walk, task)
    leads = _climbed(parent)[2]
    # Who is reached after more steps than there are rows stands in a circle, and every one who does is.
    onward = np.where(leads, parent, np.arange(len(parent)))
    members = np.unique(_jumped(onward)[leads])
    place = np.full(len(parent), -1, np.int64)
    place[members] = np.arange(len(members))
    onward = place[parent[members]]
    first, further = members.copy(), onward
    for _ in range(_jumps(members)):
        first, further = np.minimum(first, first[further]), further[further]
    # Each circle is told from its first row on: how far is it from each to that one?
    begins = members == first
    onward = np.where(begins, np.arange(len(members)), onward)
    far = (~begins).astype(np.int64)
    for _ in range(_jumps(members)):
        far, onward = far + far[onward], onward[onward]
    order = in_order(first, np.where(begins, -len(members) - 1, -far))
    found: IndexVector = members[order]
    return found


def _jumps(rows: IndexVector) -> int:
    """So often the way is doubled until it is longer than all rows."""
    return max(len(rows), 1).bit_length() + 1


def _jumped(onward: IndexVector) -> IndexVector:
    for _ in range(_jumps(onward)):
        onward = onward[onward]
    return onward


def _parents(table: Table, walk: Walk, task: Task) -> tuple[IndexVector, int, int]:
    """For each row the row of its whole, -1 for none; how many point to nothing, and how many to several."""
    (entry,) = prepare_links(table, table, [LinkField(walk.part, walk.whole)], task)
    codes = encode([entry], task)
    first = np.full(codes.size + 1, -1, np.int64)
    held = np.flatnonzero(codes.right >= 0)
    first[codes.right[held[::-1]]] = held[::-1]
    often = np.append(np.bincount(codes.right[held], minlength=codes.size), 0)
    parent = np.where(codes.left >= 0, first[codes.left], -1)
    filled = table.column(walk.part).values.is_valid().to_numpy(zero_copy_only=False)
    several = (codes.left >= 0) & (often[codes.left] > 1)
    return parent, int(np.count_nonzero(filled & (parent < 0))), int(np.count_nonzero(several))


def _climbed(parent: IndexVector) -> tuple[IndexVector, IndexVector, Mask]:
    """For each row how many wholes are above it, the topmost of them, and whether it leads into a circle."""
    is_top = parent < 0
    reached = np.where(is_top, np.arange(len(parent)), parent)
    level = (~is_top).astype(np.int64)
    for _ in range(_jumps(parent)):
        if is_top[reached].all():
            break
        level = level + level[reached]
        reached = reached[reached]
    return level, reached, ~is_top[reached]


def _levels(level: IndexVector, in_circle: Mask) -> list[IndexVector]:
    """The rows of each level from the top down, in their order."""
    rows = np.flatnonzero(~in_circle)
    order = rows[in_order(level[rows])]
    counts = np.bincount(level[rows])
    return np.split(order, np.cumsum(counts)[:-1]) if len(rows) else []


def _paths(table: Table, whole: str, parent: IndexVector, level: IndexVector, in_circle: Mask) -> pa.Array:
    """The values from the top to each row, with a stroke between."""
    own = shown_text(table.column(whole).values).fill_null("").cast(_TEXT)
    levels = _levels(level, in_circle)
    if len(levels) > DEEPEST_PATH:
        raise DataError(
            f"A path would lead through {len(levels):,} rows; the limit is {DEEPEST_PATH:,}.",
            remedy="Do without the path; level and top can be had.",
        )
    place = np.full(len(parent), -1, np.int64)
    parts: list[pa.Array] = []
    done = 0
    for number, rows in enumerate(levels):
        texts = own.take(pa.array(rows))
        if number:
            above = pa.concat_arrays(parts).take(pa.array(place[parent[rows]]))
            texts = pc.binary_join_element_wise(above, texts, pa.scalar(BETWEEN, _TEXT))
        parts.append(texts)
        place[rows] = np.arange(done, done + len(rows))
        done += len(rows)
    known = pa.concat_arrays(parts) if parts else pa.array([], _TEXT)
    return known.take(pa.array(place, mask=in_circle))


def _from_the_top(parent: IndexVector, level: IndexVector, in_circle: Mask) -> IndexVector:
    """The rows with each whole before its parts, otherwise in their order; those of circles last."""
    levels = _levels(level, in_circle)
    size = np.ones(len(parent), np.int64)
    for rows in reversed(levels[1:]):
        np.add.at(size, parent[rows], size[rows])
    place = np.zeros(len(parent), np.int64)
    for number, rows in enumerate(levels):
        if not number:
            place[rows] = np.cumsum(size[rows]) - size[rows]
            continue
        above = parent[rows]
        order = in_order(above)
        sizes, whole = size[rows[order]], above[order]
        before = np.cumsum(sizes) - sizes
        starts = np.flatnonzero(np.diff(whole, prepend=-1))
        base = np.repeat(before[starts], np.diff(np.append(starts, len(whole))))
        place[rows[order]] = place[whole] + 1 + before - base
    known = np.flatnonzero(~in_circle)
    return np.concatenate((known[in_order(place[known])], np.flatnonzero(in_circle)))
