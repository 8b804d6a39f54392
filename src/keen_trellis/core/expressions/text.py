"""The functions of text of expressions, each on whole columns."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.expressions.expression import Node, RowCells
from keen_trellis.core.expressions.held import INTEGER, LARGEST, TEXT, Vector, as_type, valid
from keen_trellis.core.text_size import joined
from keen_trellis.core.values import (
    FieldType,
)


def of_text(node: Node, what: str) -> Node:
    """The node if it is text; UsageError if it is not."""
    if node.type not in (FieldType.TEXT, None):
        assert node.type is not None
        raise UsageError(f"{what} needs text, not {node.type.value}.", remedy="CAST it to VARCHAR.")
    return as_type(node, TEXT)


def joined_text(left: Node, right: Node) -> Node:
    """The text of both, one behind the other; blank if one of them is."""
    one, other = of_text(left, "||"), of_text(right, "||")
    return Node(
        TEXT,
        lambda rows: joined(one.evaluate(rows), other.evaluate(rows)),
    )


def on_text(
    function: Callable[[pa.Array], pa.Array], node: Node, what: str, kind: pa.DataType = TEXT
) -> Node:
    """A function of one text."""
    text = of_text(node, what)
    return Node(kind, lambda rows: function(text.evaluate(rows)))


def substring(node: Node, start: Node, length: Node | None) -> Node:
    """SUBSTRING, counted from 1 in code points; what lies before the text's first character is nothing."""
    text = of_text(node, "SUBSTRING")
    counts = [start] if length is None else [start, length]
    if any(entry.type not in (FieldType.INTEGER, None) for entry in counts):
        raise UsageError("SUBSTRING counts in whole numbers.")
    counted = [as_type(entry, INTEGER) for entry in counts]

    def compute(rows: RowCells) -> pa.Array:
        values, places = text.evaluate(rows), [entry.evaluate(rows) for entry in counted]
        known = np.logical_and.reduce([valid(column) for column in (values, *places)])
        first, *lengths = (column.fill_null(1).to_numpy(zero_copy_only=False) for column in places)
        if not lengths:
            return _sliced(values, first, np.full(len(first), LARGEST), known)
        if (lengths[0][known] < 0).any():
            raise DataError("SUBSTRING is asked for a length below zero.")
        # A place beyond 64 bits is behind every text.
        room = LARGEST - np.maximum(first, 0)
        stop = np.where(lengths[0] > room, LARGEST, first + np.minimum(lengths[0], room))
        return _sliced(values, first, stop, known)

    return Node(TEXT, compute)


def _sliced(values: pa.Array, first: Vector, stop: Vector, known: Vector) -> pa.Array:
    """Characters from `first` to before `stop`, counted from 1; each distinct pair is one slice of the rows
    that have it. Blank where not `known`.
    """
    most = int(pc.max(pc.utf8_length(values)).as_py() or 0) + 1
    begins, ends = np.clip(first, 1, most) - 1, np.clip(stop, 1, most) - 1
    kinds, which = np.unique(begins * (most + 1) + np.maximum(ends, begins), return_inverse=True)
    parts, places = [], []
    for number, kind in enumerate(kinds.tolist()):
        rows = np.flatnonzero(which == number)
        begin, end = divmod(kind, most + 1)
        parts.append(pc.utf8_slice_codeunits(values.take(pa.array(rows)), begin, end))
        places.append(rows)
    if not parts:
        return values
    order = np.empty(len(values), np.int64)
    order[np.concatenate(places)] = np.arange(len(values))
    made = pa.concat_arrays(parts).take(pa.array(order))
    return pc.if_else(pa.array(known), made, pa.scalar(None, TEXT))


def literal_text(node: Node, what: str) -> str:
    """The text of a literal; UsageError if the node is anything else."""
    if node.literal is None:
        raise UsageError(f"{what} takes a text in single quotes here.")
    return node.literal


def position(part: Node, node: Node) -> Node:
    """POSITION: where a text begins in another, from 1; 0 if it does not."""
    wanted, text = literal_text(part, "POSITION"), of_text(node, "POSITION")

    def compute(rows: RowCells) -> pa.Array:
        values = text.evaluate(rows)
        if not wanted:
            return pc.if_else(values.is_valid(), pa.scalar(1, INTEGER), pa.scalar(None, INTEGER))
        # Found in bytes: the characters before it are counted.
        place = pc.find_substring(values, wanted).cast(INTEGER)
        if pc.all(pc.string_is_ascii(values), min_count=0).as_py():
            return pc.add(place, 1)
        before = pc.list_element(pc.split_pattern(values, wanted, max_splits=1), 0)
        return pc.if_else(
            pc.less(place, 0), pa.scalar(0, INTEGER), pc.add(pc.utf8_length(before).cast(INTEGER), 1)
        )

    return Node(INTEGER, compute)
