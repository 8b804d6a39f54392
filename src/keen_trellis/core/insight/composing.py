"""Links that hold once a field is split or two are joined: a code with a suffix, a collection and a number.

What splits or joins is an SQL expression in the place of the field, so that the mend is a link like any
other.
"""

from __future__ import annotations

from collections.abc import Iterator

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.expressions.quoting import quoted_name
from keen_trellis.core.insight.reason import Vector
from keen_trellis.core.link import LinkField, parsed
from keen_trellis.core.preparing import prepare
from keen_trellis.core.table import ArrowTable, Cells, Field, Table, spread_rows
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text

_SEPARATORS = ("-", ".", "/", "_", " ", ":", "#")
_SAMPLED = 400
_LEAST_VALUES = 2
# What is proposed lets this share of the values in question match.
_LEAST_SHARE = 0.2
_LEAST_OF_SAMPLE = 0.5


class Composed(msgspec.Struct, frozen=True):
    """A link with an expression in the place of a field. found: a mask of the values that it lets match."""

    link: LinkField
    said: str
    found: Vector


def composed(link: LinkField, other: Table, mine: pa.Array, theirs: pa.Array, task: Task) -> Composed | None:
    """The expression that lets most of some values match, or None if none is worth it.

    link: two plain fields of text, the right one of the table `other`.  mine, theirs: distinct texts of both
    without null.
    """
    sample = _sampled(mine)
    best: Composed | None = None
    # What two fields are joined to comes first: a part of it finds as much, and tells rows apart less.
    for mended, said in (*joins(link, other, sample), *_splits(link, sample, _sampled(theirs))):
        task.checkpoint(0, 0, "looking for values that are to be split or joined")
        known = _told_apart(mended, link, other, theirs)
        if np.mean(_found(mended, link, known, sample)) < _LEAST_SHARE:
            continue
        found = _found(mended, link, known, mine)
        least = max(_LEAST_VALUES, _LEAST_SHARE * len(mine))
        if np.count_nonzero(found) >= max(least, 1 + (np.count_nonzero(best.found) if best else 0)):
            best = Composed(mended, said, found)
    return best


def _sampled(values: pa.Array) -> pa.Array:
    """Some values, from the first to the last."""
    return values.take(pa.array(spread_rows(len(values), _SAMPLED)))


def _told_apart(mended: LinkField, link: LinkField, other: Table, theirs: pa.Array) -> pa.Array:
    """The values of the other side, as the link compares them, that stand for one of its values only."""
    if not mended.right_is_expression:
        values = theirs
    else:
        # An expression over the field alone is worked out on its distinct values.
        own = ArrowTable(pa.table({link.right: theirs}))
        expression = parsed(mended.right, other.fields)
        values = expression.column(own if set(expression.names) <= {link.right} else other)
    coded = prepare(Cells(values), link.preparation).of_rows.drop_null().dictionary_encode()
    once = np.bincount(coded.indices.to_numpy(zero_copy_only=False), minlength=len(coded.dictionary)) == 1
    return coded.dictionary.filter(pa.array(once))


def _found(mended: LinkField, link: LinkField, known: pa.Array, mine: pa.Array) -> Vector:
    """Which of the values are among those known."""
    own = ArrowTable(pa.table({link.left: mine}))
    cells = parsed(mended.left, own.fields).cells(own) if mended.left_is_expression else Cells(mine)
    found = pc.is_in(prepare(cells, link.preparation).of_rows, value_set=known, skip_nulls=True)
    return np.asarray(found.to_numpy(zero_copy_only=False))


def _splits(link: LinkField, mine: pa.Array, theirs: pa.Array) -> Iterator[tuple[LinkField, str]]:
    """One side split at a separator that its values have."""
    for separator in _SEPARATORS:
        for side, name, values in (("left", link.left, mine), ("right", link.right, theirs)):
            having = pc.mean(pc.match_substring(values, separator).cast(pa.float64())).as_py()
            if (having or 0) < _LEAST_SHARE:
                continue
            for text, said in ((before(name, separator), "before"), (after(name, separator), "after")):
                changed = {side: text, f"{side}_is_expression": True}
                yield (
                    msgspec.structs.replace(link, **changed),
                    f"take what stands {said} the first “{separator}” of {name}",
                )


def joins(link: LinkField, other: Table, sample: pa.Array) -> Iterator[tuple[LinkField, str]]:
    """Two fields of the right table joined, where they hold the parts of most values of the left.

    link: a plain link, whose right side is replaced.  sample: values of its left side.
    """
    kinds = (FieldType.TEXT, FieldType.INTEGER)
    fields = [entry for entry in other.fields if entry.type in kinds]
    for separator in _SEPARATORS:
        parts = pc.split_pattern(sample, separator, max_splits=1)
        both = pc.equal(pc.list_value_length(parts), 2)
        if (pc.sum(both).as_py() or 0) < _LEAST_OF_SAMPLE * len(sample):
            continue
        parts = parts.filter(both)
        texts = {entry.name: pc.unique(as_text(other.column(entry.name).values)) for entry in fields}
        names = []
        for place in (0, 1):
            piece = pc.list_element(parts, place)
            shares = {
                name: pc.mean(pc.is_in(piece, value_set=values, skip_nulls=True).cast(pa.float64())).as_py()
                for name, values in texts.items()
            }
            names.append(max(shares, key=lambda name: shares[name]) if shares else "")
            if not shares or shares[names[-1]] < _LEAST_OF_SAMPLE:
                break
        if len(names) == 2 and names[0] != names[1]:
            joined = (
                f"{as_varchar(other.field(names[0]))} || '{separator}' || {as_varchar(other.field(names[1]))}"
            )
            mended = msgspec.structs.replace(link, right=joined, right_is_expression=True)
            yield mended, f"join {names[0]}, “{separator}” and {names[1]}"


def as_varchar(field: Field) -> str:
    """A field as an expression for its text."""
    return (
        quoted_name(field.name)
        if field.type is FieldType.TEXT
        else f"CAST({quoted_name(field.name)} AS VARCHAR)"
    )


def before(name: str, separator: str) -> str:
    """The expression for what stands before the first separator; all of a text without one."""
    at = f"POSITION('{separator}' IN {quoted_name(name)})"
    taken = f"SUBSTRING({quoted_name(name)} FROM 1 FOR {at} - 1)"
    return f"CASE WHEN {at} > 0 THEN {taken} ELSE {quoted_name(name)} END"


def after(name: str, separator: str) -> str:
    """The expression for what stands after the first separator; all of a text without one."""
    return f"SUBSTRING({quoted_name(name)} FROM POSITION('{separator}' IN {quoted_name(name)}) + 1)"
