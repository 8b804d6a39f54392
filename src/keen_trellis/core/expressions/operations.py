"""What the operators and functions of expressions compute, each on whole columns."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.comparing import COMPARE, as_comparable
from keen_trellis.core.conversion import converted, convertible, refitted, rescaled
from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.expressions.expression import Node, RowCells
from keen_trellis.core.text_size import joined
from keen_trellis.core.values import (
    ARROW_TYPES,
    FieldType,
    as_text,
    comparable,
    held_as,
    type_of_arrow,
    whole_units,
)

INTEGER, REAL, TEXT, BOOLEAN, DATE = (
    ARROW_TYPES[kind]
    for kind in (FieldType.INTEGER, FieldType.REAL, FieldType.TEXT, FieldType.BOOLEAN, FieldType.DATE)
)
_MOST_DIGITS = 38
LONGEST_VARCHAR = 2**31 - 1  # characters that a VARCHAR may be cut to
_LARGEST = np.iinfo(np.int64).max
Compute = Callable[[pa.Array], pa.Array]
Vector = np.ndarray[Any, Any]


def decimal(scale: int) -> pa.DataType:
    """The type of decimals with `scale` places; UsageError if there are more than 38."""
    if not 0 <= scale <= _MOST_DIGITS:
        raise UsageError(f"A decimal has at most {_MOST_DIGITS} digits.")
    return pa.decimal128(_MOST_DIGITS, scale)


def scale_of(kind: pa.DataType) -> int:
    """How many decimal places values of the type have."""
    return kind.scale if pa.types.is_decimal(kind) else 0


def constant(value: Any, kind: pa.DataType) -> Node:
    """A literal."""
    scalar = pa.scalar(value, kind)
    return Node(kind, lambda rows: pa.repeat(scalar, rows.count), value if isinstance(value, str) else None)


# --- types that meet ---


def common_type(nodes: Sequence[Node], what: str) -> pa.DataType:
    """The type that all of some values have; UsageError if they have none in common."""
    kinds = [node.arrow_type for node in nodes if node.type is not None]
    if not kinds:
        return pa.null()
    types = {type_of_arrow(kind) for kind in kinds}
    if len(types) == 1:
        scales = max(map(scale_of, kinds))
        return decimal(scales) if FieldType.DECIMAL in types else kinds[0]
    if all(kind.is_number for kind in types):
        return REAL if FieldType.REAL in types else decimal(max(map(scale_of, kinds)))
    if all(kind.is_moment for kind in types):
        return ARROW_TYPES[FieldType.TIMESTAMP]
    found = " and ".join(sorted(kind.value for kind in types))
    raise UsageError(f"{what} meets {found}.", remedy=_cast_remedy(types))


def _cast_remedy(types: Collection[FieldType]) -> str:
    """Which CAST brings values of some types together: one that gives more than blanks."""
    if any(all(convertible(have, to) for have in types) for to in types if to is not FieldType.TEXT):
        return "CAST one of them to the type of the other."
    return "Make numbers of dates with EXTRACT, or CAST all of them to VARCHAR."


def as_type(node: Node, kind: pa.DataType) -> Node:
    """The same values held as another type that has them all (decimals may leave 38 digits: an error)."""
    if node.arrow_type == kind:
        return node
    return Node(kind, lambda rows: _held_as(node.evaluate(rows), kind))


def _held_as(values: pa.Array, kind: pa.DataType) -> pa.Array:
    if kind == REAL and pa.types.is_decimal(values.type):
        return values.cast(pa.large_string()).cast(REAL)  # Arrow's own cast misrounds
    if kind == REAL and pa.types.is_integer(values.type):
        return values.cast(REAL, safe=False)  # rounded to the nearest
    try:
        if pa.types.is_decimal(kind) and pa.types.is_integer(values.type):
            return values.cast(pa.decimal256(76, scale_of(kind))).cast(kind)
        return held_as(values, kind)
    except pa.ArrowInvalid as error:
        raise _overflow(kind) from error


def _overflow(kind: pa.DataType) -> DataError:
    room = "64 bits" if kind == INTEGER else f"{_MOST_DIGITS} digits"
    return DataError(
        f"A result does not fit into {room}.", remedy="CAST to REAL or to DECIMAL, or ROUND on the way."
    )


# --- arithmetic ---

_EXACT = {"+": pc.add_checked, "-": pc.subtract_checked, "*": pc.multiply_checked}
_REAL = {"+": pc.add, "-": pc.subtract, "*": pc.multiply}


def arithmetic(sign: str, left: Node, right: Node) -> Node:
    """Sum, difference, product or quotient of numbers; the remainder for MOD."""
    left, right = of_number(left, f"“{sign}”"), of_number(right, f"“{sign}”")
    kinds = {node.type for node in (left, right)}
    if sign == "/":
        return _quotient(as_type(left, REAL), as_type(right, REAL))
    if sign == "MOD":
        return _remainder(left, right)
    if FieldType.REAL in kinds:
        one, other = as_type(left, REAL), as_type(right, REAL)
        return Node(REAL, lambda rows: _REAL[sign](one.evaluate(rows), other.evaluate(rows)))
    if FieldType.DECIMAL in kinds:
        return _decimal_arithmetic(sign, left, right)
    one, other = as_type(left, INTEGER), as_type(right, INTEGER)

    def compute(rows: RowCells) -> pa.Array:
        try:
            return _EXACT[sign](one.evaluate(rows), other.evaluate(rows))
        except pa.ArrowInvalid as error:
            raise _overflow(INTEGER) from error

    return Node(INTEGER, compute)


def _decimal_arithmetic(sign: str, left: Node, right: Node) -> Node:
    scales = [scale_of(node.arrow_type) for node in (left, right)]
    kind = decimal(sum(scales) if sign == "*" else max(scales))
    one, other = (as_type(node, decimal(scale)) for node, scale in zip((left, right), scales, strict=True))

    # A product has the digits of both sides and one more: 76 are enough with one digit fewer on one side.
    digits = (_MOST_DIGITS, _MOST_DIGITS - 1 if sign == "*" else _MOST_DIGITS)

    def compute(rows: RowCells) -> pa.Array:
        try:
            sides = [
                node.evaluate(rows).cast(pa.decimal256(most, node.arrow_type.scale))
                for node, most in zip((one, other), digits, strict=True)
            ]
            return _EXACT[sign](*sides).cast(kind)
        except pa.ArrowInvalid as error:
            raise _overflow(kind) from error

    return Node(kind, compute)


def _quotient(left: Node, right: Node) -> Node:
    def compute(rows: RowCells) -> pa.Array:
        one, other = left.evaluate(rows), right.evaluate(rows)
        zero = pc.fill_null(pc.equal(other, 0.0), False)
        failed = int(pc.sum(pc.and_(zero, pc.is_valid(one))).as_py() or 0)
        if failed:
            rows.notes.divisions_by_zero += failed
            other = pc.if_else(zero, pa.scalar(None, REAL), other)
        return pc.divide(one, other)

    return Node(REAL, compute)


def _remainder(left: Node, right: Node) -> Node:
    if FieldType.REAL in (left.type, right.type):
        raise UsageError("MOD needs whole numbers or decimals.", remedy="CAST its sides first.")
    kind = common_type([left, right], "MOD")
    one, other = as_type(left, kind), as_type(right, kind)

    def compute(rows: RowCells) -> pa.Array:
        values, by = one.evaluate(rows), other.evaluate(rows)
        known = _valid(values) & _valid(by)
        whole, divisors = _units(values), _units(by)
        rows.notes.divisions_by_zero += int(np.count_nonzero(known & (divisors == 0)))
        known &= divisors != 0
        # The remainder has the sign of the dividend, as SQL has it.
        made = pa.array(np.fmod(whole, np.where(known, divisors, 1)), mask=~known)
        if kind == INTEGER:
            return made
        return rescaled(made.cast(pa.decimal128(19, 0)), kind)

    return Node(kind, compute)


def _units(values: pa.Array) -> Any:
    """Whole numbers, or decimals in units of their last place; DataError where these leave 64 bits."""
    units, fits = whole_units(values)
    if not fits:
        raise _overflow(INTEGER)
    return units


def _valid(values: pa.Array) -> Any:
    return values.is_valid().to_numpy(zero_copy_only=False)


def of_number(node: Node, what: str) -> Node:
    """The node if it is a number; UsageError if it is not."""
    if node.type is None:
        return as_type(node, INTEGER)
    if not node.type.is_number:
        remedy = "CAST it to one."
        if not convertible(node.type, FieldType.INTEGER):
            remedy = f"EXTRACT makes numbers of the parts of a {node.type.value}."
        raise UsageError(f"{what} needs a number, not {node.type.value}.", remedy=remedy)
    return node


def negated(node: Node) -> Node:
    """The number with the other sign."""
    return _of_one_number(of_number(node, "A minus"), pc.negate, pc.negate_checked)


def absolute(node: Node) -> Node:
    """ABS."""
    return _of_one_number(of_number(node, "ABS"), pc.abs, pc.abs_checked)


def _of_one_number(node: Node, plain: Compute, checked: Compute) -> Node:
    """A function of one number; the least integer has no counterpart, decimals always have one."""

    def compute(rows: RowCells) -> pa.Array:
        values = node.evaluate(rows)
        try:
            return (plain if pa.types.is_decimal(values.type) else checked)(values)
        except pa.ArrowInvalid as error:
            raise _overflow(INTEGER) from error

    return Node(node.arrow_type, compute)


def rounded(node: Node, places: int, how: str) -> Node:
    """ROUND (half away from zero) to so many places, FLOOR or CEILING."""
    node = of_number(node, how)
    kind = node.arrow_type
    if kind == INTEGER and places >= 0:
        return node
    if kind == INTEGER:
        return as_integer(rounded(as_type(node, decimal(0)), places, how))
    modes = {"ROUND": "half_towards_infinity", "FLOOR": "down", "CEILING": "up"}

    def compute(rows: RowCells) -> pa.Array:
        values = node.evaluate(rows)
        try:
            return pc.round(values, places, modes[how])
        except pa.ArrowInvalid as error:
            raise _overflow(kind) from error

    made = Node(kind, compute)
    return made if kind == REAL else as_type(made, decimal(min(max(places, 0), kind.scale)))


def as_integer(node: Node) -> Node:
    """Whole decimals as integers; DataError if one leaves 64 bits."""
    return Node(INTEGER, lambda rows: _held_as(node.evaluate(rows), INTEGER))


# --- conditions ---


def comparison(sign: str, left: Node, right: Node) -> Node:
    """Two values compared as links compare them: by value across kinds of numbers, text by code points."""
    if left.type is None or right.type is None:
        return constant(None, BOOLEAN)
    if not comparable(left.type, right.type):
        raise UsageError(
            f"“{sign}” compares {left.type.value} with {right.type.value}.",
            remedy=_cast_remedy((left.type, right.type)),
        )

    def compute(rows: RowCells) -> pa.Array:
        one, other = left.evaluate(rows), right.evaluate(rows)
        known = _valid(one) & _valid(other)
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


# --- choosing ---


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


# --- types ---


def cast(node: Node, kind: pa.DataType, length: int | None = None) -> Node:
    """CAST: what has no counterpart gives blank and is noted; a timestamp loses its time, a number its
    places behind those of the type (half away from zero).
    """
    to = type_of_arrow(kind)
    if node.type is None:
        return as_type(node, kind)
    if not (convertible(node.type, to) or (node.type, to) == (FieldType.TIMESTAMP, FieldType.TIME)):
        raise UsageError(
            f"No {node.type.value} can be CAST to {to.value}.", remedy=_cast_remedy((node.type, to))
        )

    def compute(rows: RowCells) -> pa.Array:
        values = node.evaluate(rows)
        made = _cast(values, to, kind)
        rows.notes.failed_casts += made.null_count - values.null_count
        return pc.utf8_slice_codeunits(made, 0, length) if length is not None else made

    return Node(kind, compute)


def _cast(values: pa.Array, to: FieldType, kind: pa.DataType) -> pa.Array:
    have = type_of_arrow(values.type)
    if to is FieldType.TEXT:
        return as_text(values)
    if to is FieldType.REAL and have.is_number:
        return _held_as(values, REAL)
    if have is FieldType.TIMESTAMP and to is FieldType.DATE:
        return values.cast(DATE, safe=False)
    if have is FieldType.TIMESTAMP and to is FieldType.TIME:
        return values.cast(kind)
    if have.is_number and to is FieldType.INTEGER and have is not FieldType.INTEGER:
        values = pc.round(values, 0, "half_towards_infinity")
    made = converted(values, to).values
    if to is not FieldType.DECIMAL or made.type == kind:
        return made
    if pa.types.is_null(made.type):
        return pa.nulls(len(made), kind)
    wide = made.cast(pa.decimal256(76, min(max(made.type.scale, 0), 38)))
    if made.type.scale > kind.scale:
        wide = pc.round(wide, kind.scale, "half_towards_infinity")
    return refitted(wide, kind)


def extract(part: str, node: Node) -> Node:
    """EXTRACT: a part of a date, time or timestamp as a whole number; seconds with their fractions."""
    if node.type is None:
        return constant(None, decimal(6) if part == "SECOND" else INTEGER)
    of_date: dict[str, Callable[[pa.Array], pa.Array]] = {"YEAR": pc.year, "MONTH": pc.month, "DAY": pc.day}
    of_time: dict[str, Callable[[pa.Array], pa.Array]] = {
        "HOUR": pc.hour,
        "MINUTE": pc.minute,
        "SECOND": pc.second,
    }
    known = {
        FieldType.DATE: of_date,
        FieldType.TIME: of_time,
        FieldType.TIMESTAMP: of_date | of_time,
    }.get(node.type)
    if known is None or part not in known:
        raise UsageError(
            f"There is no {part} in {node.type.value}.",
            remedy=f"EXTRACT takes {', '.join(of_date | of_time)}.",
        )
    if part != "SECOND":
        return Node(INTEGER, lambda rows: known[part](node.evaluate(rows)).cast(INTEGER))

    def seconds(rows: RowCells) -> pa.Array:
        values = node.evaluate(rows)
        whole, fraction = pc.second(values).cast(INTEGER), pc.microsecond(values).cast(INTEGER)
        fraction = pc.add(pc.multiply(pc.millisecond(values).cast(INTEGER), 1000), fraction)
        units = pc.add(pc.multiply(whole, 1_000_000), fraction)
        return rescaled(units.cast(pa.decimal128(19, 0)), decimal(6))

    return Node(decimal(6), seconds)


# --- text ---


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
        known = np.logical_and.reduce([_valid(column) for column in (values, *places)])
        first, *lengths = (column.fill_null(1).to_numpy(zero_copy_only=False) for column in places)
        if not lengths:
            return _sliced(values, first, np.full(len(first), _LARGEST), known)
        if (lengths[0][known] < 0).any():
            raise DataError("SUBSTRING is asked for a length below zero.")
        # A place beyond 64 bits is behind every text.
        room = _LARGEST - np.maximum(first, 0)
        stop = np.where(lengths[0] > room, _LARGEST, first + np.minimum(lengths[0], room))
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
