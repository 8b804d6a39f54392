"""What changed from one state of a table to the next: rows added, gone and changed, and fields."""

from __future__ import annotations

import enum
from collections.abc import Sequence
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.link import LinkField
from keen_trellis.core.matching import match
from keen_trellis.core.summarising import Key, grouped
from keen_trellis.core.table import ChosenRows, IndexVector, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import as_text, comparable

# A field is taken for one that was renamed if so many of the rows on both sides have the same value in it.
_RENAMED = 0.9
# A field is taken for the key if so many of the rows on one side are found again by it.
_FOUND_AGAIN = 0.3
# A field that repeats tells the rows that are not the same apart if it has so many values to a row.
_NEARLY = 0.95
_FIRST = 4096
_BLOCK = 262_144


class FieldChangeKind(enum.Enum):
    """What can happen to a field."""

    ADDED = "added"
    GONE = "gone"
    RENAMED = "renamed"
    RETYPED = "retyped"


class FieldChange(msgspec.Struct, frozen=True):
    """One field that is not as it was. name: as it was, or is if it is new.  now: its new name or type."""

    kind: FieldChangeKind
    name: str
    now: str = ""
    before: str = ""

    def __str__(self) -> str:
        if self.kind is FieldChangeKind.RENAMED:
            return f"{self.name} is called {self.now} now"
        if self.kind is FieldChangeKind.RETYPED:
            return f"{self.name} was {self.before} and is {self.now} now"
        return f"{self.name} is {'new' if self.kind is FieldChangeKind.ADDED else 'gone'}"


class TableChanges(msgspec.Struct, frozen=True):
    """From one state of a table to the next.

    key: the fields by which rows were found again. Where none told all apart, whole rows were compared first,
    and only those that are not the same found again by it; () where none told these apart, and none counts as
    changed then.  added: rows of the newer state.  gone: rows of the older one.
    changed: pairs of an older and a newer row, two vectors of one length.  by_field: how many of these
    differ in each field.
    """

    rows_before: int
    rows_after: int
    key: tuple[str, ...] = ()
    added: IndexVector = msgspec.field(default_factory=lambda: np.zeros(0, np.int64))
    gone: IndexVector = msgspec.field(default_factory=lambda: np.zeros(0, np.int64))
    changed: tuple[IndexVector, IndexVector] = msgspec.field(
        default_factory=lambda: (np.zeros(0, np.int64), np.zeros(0, np.int64))
    )
    by_field: tuple[tuple[str, int], ...] = ()
    fields: tuple[FieldChange, ...] = ()

    def __bool__(self) -> bool:
        return bool(len(self.added) or len(self.gone) or len(self.changed[0]) or self.fields)


def changes(
    before: Table, after: Table, keys: Sequence[Sequence[str]] = (), task: Task | None = None
) -> TableChanges:
    """Compare two states of a table.

    keys: fields by which rows may be told apart, the best first; a field of its own that does is looked for
    where none of them works.
    """
    task = task or Task()
    key, pairs = _aligned(before, after, keys, task)
    renamed = _renamed(before, after, pairs, task)
    fields = _field_changes(before, after, renamed)
    if key:
        left, right = pairs
        added, gone = np.arange(after.rows), np.arange(before.rows)
    else:
        # Rows that are the same as a whole are set aside: what tells nearly all apart may tell the others.
        added, gone = _whole_rows(before, after, renamed, task)
        key, (left, right) = _rest_aligned(before, after, (gone, added), keys, task)
    added = np.setdiff1d(added, right, assume_unique=True)
    gone = np.setdiff1d(gone, left, assume_unique=True)
    differs = np.zeros(len(left), dtype=bool)
    by_field = []
    for name, now in _common(before, after, renamed):
        task.checkpoint(0, 0, f"comparing {name}")
        unlike = _unlike(before, after, name, now, left, right)
        if unlike.any():
            by_field.append((name, int(unlike.sum())))
            differs |= unlike
    return TableChanges(
        before.rows,
        after.rows,
        tuple(key),
        added,
        gone,
        (left[differs], right[differs]),
        tuple(by_field),
        fields,
    )


def _common(before: Table, after: Table, renamed: dict[str, str]) -> list[tuple[str, str]]:
    """Fields that both states have, by their names before and now."""
    names = set(after.names)
    return [(name, renamed.get(name, name)) for name in before.names if renamed.get(name, name) in names]


# --- which row is which ---


def _aligned(
    before: Table, after: Table, keys: Sequence[Sequence[str]], task: Task
) -> tuple[Sequence[str], tuple[IndexVector, IndexVector]]:
    """The key by which rows are found again, and the pairs of rows; without a key, rows by their place."""
    singles = [[name] for name in before.names if [name] not in [list(key) for key in keys]]
    for key in [*keys, *singles]:
        if not all(_comparable(before, after, name) for name in key):
            continue
        task.checkpoint(0, 0, f"looking for rows by {', '.join(key)}")
        if len(key) == 1 and not (_tells_apart(before, key[0]) and _tells_apart(after, key[0])):
            continue
        found = match(before, after, [LinkField(name, name) for name in key], task)
        counts = found.counts
        if counts.most_partners_of_left > 1 or counts.most_partners_of_right > 1:
            continue
        if counts.left_blank or counts.right_blank:
            continue
        fewer = min(before.rows, after.rows)
        if (
            fewer
            and counts.left_matched < _FOUND_AGAIN * fewer
            and list(key) not in [list(k) for k in keys[:1]]
        ):
            continue
        return key, found.pair_rows(np.arange(found.pairs))
    rows = np.arange(min(before.rows, after.rows))
    return (), (rows, rows)


def _rest_aligned(
    before: Table,
    after: Table,
    rest: tuple[IndexVector, IndexVector],
    keys: Sequence[Sequence[str]],
    task: Task,
) -> tuple[Sequence[str], tuple[IndexVector, IndexVector]]:
    """The key by which the rows that are in only one of the states are found again, and their pairs.

    It tells nearly all rows of both states apart, and all of these; () and no pairs where there is none.
    """
    nothing = np.zeros(0, np.int64)
    old, new = ChosenRows(before, rest[0]), ChosenRows(after, rest[1])
    if not (old.rows and new.rows):
        return (), (nothing, nothing)
    singles = [[name] for name in before.names if [name] not in [list(key) for key in keys]]
    for key in [*keys, *singles]:
        if not all(_comparable(before, after, name) for name in key):
            continue
        task.checkpoint(0, 0, f"looking for rows by {', '.join(key)}")
        if not all(_nearly_tells_apart(entry, key) for entry in (before, after)):
            continue
        if not all(_groups(part, key) == part.rows for part in (old, new)):
            continue
        found = match(old, new, [LinkField(name, name) for name in key], task)
        left, right = found.pair_rows(np.arange(found.pairs))
        return key, (rest[0][left], rest[1][right])
    return (), (nothing, nothing)


def _nearly_tells_apart(table: Table, key: Sequence[str]) -> bool:
    """Whether these fields have nearly as many values as there are rows."""
    first = ChosenRows(table, np.arange(min(table.rows, _FIRST)))  # most fields repeat at once
    return all(_groups(part, key) >= _NEARLY * part.rows for part in (first, table))


def _groups(table: Table, key: Sequence[str]) -> int:
    return grouped(table, [Key(name) for name in key]).size


def _comparable(before: Table, after: Table, name: str) -> bool:
    if name not in before.names or name not in after.names:
        return False
    return comparable(before.field(name).type, after.field(name).type)


def _tells_apart(table: Table, name: str) -> bool:
    """Whether every row has a value in this field that no other has."""
    cells = table.column(name)
    if cells.values.null_count or cells.absent is not None:
        return False
    # A few rows first: most fields repeat at once.
    if len(cells.values) > 4096 and len(cells.values.slice(0, 2048).unique()) < 2048:
        return False
    return len(cells.values.unique()) == len(cells.values)


def _whole_rows(
    before: Table, after: Table, renamed: dict[str, str], task: Task
) -> tuple[IndexVector, IndexVector]:
    """The rows of the newer state beyond those that the older one has too, and the other way round."""
    codes: IndexVector = np.zeros(before.rows + after.rows, dtype=np.int64)
    for name, now in _common(before, after, renamed):
        task.checkpoint(0, 0, f"comparing {name}")
        values = pa.concat_arrays([_comparable_text(before, name), _comparable_text(after, now)])
        own = (
            values.dictionary_encode().indices.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int64)
            + 1
        )
        # Two small codes in one number, made small again: exact, without gluing values together.
        both = pa.array(codes * (int(own.max(initial=0)) + 1) + own)
        codes = both.dictionary_encode().indices.to_numpy().astype(np.int64)
    old, new = codes[: before.rows], codes[before.rows :]
    size = int(codes.max(initial=0)) + 1
    return _surplus(new, old, size), _surplus(old, new, size)


def _surplus(codes: IndexVector, others: IndexVector, size: int) -> IndexVector:
    """The places at which a code stands more often than it does among the others."""
    available = np.bincount(others, minlength=size)
    order = np.argsort(codes, kind="stable")
    ordered = codes[order]
    starts = np.searchsorted(ordered, np.arange(size))
    rank = np.arange(len(codes)) - starts[ordered]
    found: IndexVector = np.sort(order[rank >= available[ordered]])
    return found


# --- values ---


def _comparable_text(table: Table, name: str) -> pa.Array:
    return as_text(table.column(name).values)


def _unlike(
    before: Table, after: Table, name: str, now: str, left: IndexVector, right: IndexVector
) -> np.ndarray[Any, np.dtype[np.bool_]]:
    """For each pair of rows whether the field's values differ; two blanks do not."""
    found = np.zeros(len(left), dtype=bool)
    for start in range(0, len(left), _BLOCK):
        stop = min(start + _BLOCK, len(left))
        old = before.take(left[start:stop], [name])[0].values
        new = after.take(right[start:stop], [now])[0].values
        if old.type != new.type:
            old, new = as_text(old), as_text(new)
        same = pc.equal(old, new)
        if pa.types.is_floating(old.type):
            same = pc.or_(same, pc.and_(pc.is_nan(old), pc.is_nan(new)))
        blank = pc.and_(pc.is_null(old), pc.is_null(new))
        found[start:stop] = ~pc.or_(same.fill_null(False), blank).to_numpy(zero_copy_only=False)
    return found


# --- fields ---


def _renamed(
    before: Table, after: Table, pairs: tuple[IndexVector, IndexVector], task: Task
) -> dict[str, str]:
    """The new name of each field that is gone while a new one has the same values in the same rows."""
    gone = [entry for entry in before.fields if entry.name not in after.names]
    new = [entry for entry in after.fields if entry.name not in before.names]
    found: dict[str, str] = {}
    left, right = (rows[:_BLOCK] for rows in pairs)
    for entry in gone:
        for candidate in new:
            task.checkpoint(0, 0, f"looking for {entry.name}")
            if candidate.name in found.values() or entry.type is not candidate.type or not len(left):
                continue
            old = before.take(left, [entry.name])[0].values
            if len(old.drop_null().unique()) < min(3, before.rows):
                continue  # all the same: no evidence
            unlike = _unlike(before, after, entry.name, candidate.name, left, right)
            if 1 - unlike.mean() >= _RENAMED:
                found[entry.name] = candidate.name
                break
    return found


def _field_changes(before: Table, after: Table, renamed: dict[str, str]) -> tuple[FieldChange, ...]:
    kinds = FieldChangeKind
    later = {entry.name: entry for entry in after.fields}
    found = []
    for entry in before.fields:
        if entry.name in renamed:
            found.append(FieldChange(kinds.RENAMED, entry.name, renamed[entry.name]))
        elif entry.name not in later:
            found.append(FieldChange(kinds.GONE, entry.name))
        elif entry.type is not later[entry.name].type and not (entry.untyped or later[entry.name].untyped):
            was, now = entry.type, later[entry.name].type
            found.append(FieldChange(kinds.RETYPED, entry.name, now.value, was.value))
    known = {*before.names, *renamed.values()}
    found += [FieldChange(kinds.ADDED, entry.name) for entry in after.fields if entry.name not in known]
    return tuple(found)
