"""Comparisons and logic of expressions, and choosing by them, each on whole columns."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.comparing import COMPARE, as_comparable
from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions.expression import Node, RowCells
from keen_trellis.core.expressions.held import (
    BOOLEAN,
    TEXT,
    as_type,
    cast_remedy,
    common_type,
    constant,
    valid,
)
from keen_trellis.core.values import (
    FieldType,
    comparable,
)


def comparison(sign: str, left: Node, right: Node) -> Node:
    """Two values compared as links compare them: by value across kinds of numbers, text by code points."""
    if left.type is None or right.type is None:
        return constant(None, BOOLEAN)
    if not comparable(left.type, right.type):
        raise UsageError(
            f"“{sign}” compares {left.type.value} with {right.type.value}.",
            remedy=cast_remedy((left.type, right.type)),
        )

    def compute(rows: RowCells) -> pa.Array:
        one, other = left.evaluate(rows), right.evaluate(rows)
        known = valid(one) & valid(other)
        return pa.array(COMPARE[sign](*as_comparable(one, other)), mask=~known)

    return Node(BOOLEAN, compute)


def condition(node: Node, what: str) -> Node:
    """The node if it is true, false or unknown; UsageError if it is a value of another type."""
    if node.type is None:
        return as_type(node, BOOLEAN)
    if node.type is not FieldType.BOOLEAN:
        raise UsageError(
            f"{what} needs a condition, not {node.type.value}.", remedy="Compare it with something."
        )
    return node


def both(left: Node, right: Node) -> Node:
    """AND, three-valued."""
    return Node(BOOLEAN, lambda rows: pc.and_kleene(left.evaluate(rows), right.evaluate(rows)))


def either(left: Node, right: Node) -> Node:
    """OR, three-valued."""
    return Node(BOOLEAN, lambda rows: pc.or_kleene(left.evaluate(rows), right.evaluate(rows)))


def inverted(node: Node) -> Node:
    """NOT."""
    return Node(BOOLEAN, lambda rows: pc.invert(node.evaluate(rows)))


def is_null(node: Node) -> Node:
    """IS NULL."""
    return Node(BOOLEAN, lambda rows: node.evaluate(rows).is_null())


def is_distinct(left: Node, right: Node) -> Node:
    """IS DISTINCT FROM: as <>, but two blanks are the same, and a blank is another than any value."""
    differs = comparison("<>", left, right)

    def compute(rows: RowCells) -> pa.Array:
        one_blank = pc.xor(left.evaluate(rows).is_null(), right.evaluate(rows).is_null())
        return pc.coalesce(differs.evaluate(rows), one_blank)

    return Node(BOOLEAN, compute)


def is_truth(node: Node, truth: bool) -> Node:
    """IS TRUE or IS FALSE: what is unknown is neither."""
    return Node(BOOLEAN, lambda rows: pc.fill_null(pc.equal(node.evaluate(rows), truth), False))


def like(node: Node, pattern: str, escape: str) -> Node:
    """LIKE: a per cent sign for any characters, an underscore for one."""
    if node.type not in (FieldType.TEXT, None):
        raise UsageError("LIKE needs text.", remedy="CAST it to VARCHAR.")
    expression, place = "", 0
    while place < len(pattern):
        letter = pattern[place]
        if escape and letter == escape:
            place += 1
            if place == len(pattern):
                raise UsageError("The pattern of LIKE ends with its ESCAPE character.")
            expression += _quoted(pattern[place])
        else:
            expression += {"%": "(?:.|\\n)*", "_": "(?:.|\\n)"}.get(letter) or _quoted(letter)
        place += 1
    text = as_type(node, TEXT)
    return Node(BOOLEAN, lambda rows: pc.match_substring_regex(text.evaluate(rows), f"^{expression}$"))


def _quoted(letter: str) -> str:
    return f"\\x{{{ord(letter):x}}}"


def case(branches: Sequence[tuple[Node, Node]], default: Node | None) -> Node:
    """CASE: each branch is evaluated on its own rows only."""
    kind = common_type([value for _, value in branches] + ([default] if default else []), "CASE")
    tests = [condition(test, "WHEN") for test, _ in branches]
    values = [as_type(value, kind) for _, value in branches]
    last = as_type(default, kind) if default else constant(None, kind)

    def compute(rows: RowCells) -> pa.Array:
        if not rows.count:
            return pa.array([], kind)
        numbers, parts, places = np.arange(rows.count), [], []
        left = rows
        for test, value in zip(tests, values, strict=True):
            holds = pc.fill_null(test.evaluate(left), False)
            chosen = holds.to_numpy(zero_copy_only=False)
            parts.append(value.evaluate(left.only(holds)))
            places.append(numbers[chosen])
            left, numbers = left.only(pc.invert(holds)), numbers[~chosen]
        parts.append(last.evaluate(left))
        places.append(numbers)
        order = np.empty(rows.count, np.int64)
        order[np.concatenate(places)] = np.arange(rows.count)
        return pa.concat_arrays(parts).take(pa.array(order))

    return Node(kind, compute)


def coalesce(nodes: Sequence[Node]) -> Node:
    """COALESCE: the first value that is not blank."""
    kind = common_type(nodes, "COALESCE")
    held = [as_type(node, kind) for node in nodes]
    return Node(kind, lambda rows: pc.coalesce(*(node.evaluate(rows) for node in held)))


def null_if(node: Node, other: Node) -> Node:
    """NULLIF: blank where both are equal."""
    same = comparison("=", node, other)

    def compute(rows: RowCells) -> pa.Array:
        return pc.if_else(
            pc.fill_null(same.evaluate(rows), False), pa.scalar(None, node.arrow_type), node.evaluate(rows)
        )

    return Node(node.arrow_type, compute)
