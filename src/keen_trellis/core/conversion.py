"""The ways in which text writes values, and conversion of a column from one field type to another."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from decimal import Context, Decimal

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.digits import plain_dates, plain_decimals, plain_integers, plain_moments
from keen_trellis.core.errors import UsageError
from keen_trellis.core.values import ARROW_TYPES, FieldType, as_text, held_as, type_of_arrow

_MOST_DIGITS = 38
_WIDE = Context(prec=76)
# Words that stand for "nothing known" where the other values of a field are numbers, dates or the like.
PLACEHOLDERS = (
    "n/a",
    "N/A",
    "n.a.",
    "NA",
    "#N/A",
    "NULL",
    "null",
    "None",
    "none",
    "nil",
    "-",
    "--",
    "–",
    "?",
)


class Notation(msgspec.Struct, frozen=True):
    """How text writes numbers and dates. Empty members are not settled yet.

    decimal: "." or ",".  dates: what a date begins with, "day" or "month" (years need not be settled).
    blanks: what counts as blank, or None for the usual words where only they do not fit.
    """

    decimal: str = ""
    dates: str = ""
    blanks: tuple[str, ...] | None = None


@dataclass(frozen=True)
class Way:
    """One way to write values of one type.

    expression: what every value looks like (RE2).  convert: text without blanks or misfits to values; raises
    pa.ArrowInvalid if one that looks right is none, as 30 February.  notation: what it settles.  pair:
    what it and its twin are.
    """

    what: str
    type: FieldType
    expression: str
    convert: Callable[[pa.Array], pa.Array] = field(compare=False)
    notation: Notation = field(default_factory=Notation)
    pair: str = ""
    quick: Callable[[pa.Array], pa.Array | None] | None = field(default=None, compare=False)

    def quickly(self, values: pa.Array) -> pa.Array | None:
        """All values converted, where it is cheaply told that all of them fit; else None, which is no
        answer.
        """
        return self.quick(values) if self.quick is not None else None

    def is_twin_of(self, other: Way) -> bool:
        """Whether the two differ only in what they take a mark for."""
        return bool(self.pair) and self.pair == other.pair and self.notation != other.notation


def fits(values: pa.Array, way: Way) -> pa.Array:
    """For each value whether it is written so (null where it is null)."""
    return pc.match_substring_regex(values, way.expression)


# --- numbers ---


def _integers(values: pa.Array) -> pa.Array:
    return _without_plus(values).cast(pa.int64())


def _without_plus(values: pa.Array) -> pa.Array:
    if not pc.any(pc.starts_with(values, "+")).as_py():
        return values
    return pc.replace_substring_regex(values, r"^\+", "")


_WITH_EXPONENT = r"^[+-]?(?P<whole>\d+)(?:\.(?P<places>\d*?)0*)?[eE](?P<by>[+-]?\d{1,3})$"


def _exponents_as_decimals(values: pa.Array) -> pa.Array:
    """Numbers with an exponent as the decimals that they write; blank where one has no room.

    Not through reals, which would round what has more digits than they hold.
    """
    parts = pc.extract_regex(values, _WITH_EXPONENT)
    whole, after = (pc.utf8_length(pc.struct_field(parts, name)) for name in ("whole", "places"))
    by = _without_plus(pc.struct_field(parts, "by")).cast(pa.int32())
    places = pc.subtract(pc.fill_null(after, 0), by)
    room = pc.and_(pc.less_equal(places, _MOST_DIGITS), pc.less_equal(pc.add(whole, by), _MOST_DIGITS))
    kept = pc.if_else(pc.fill_null(room, False), _without_plus(values), pa.scalar(None, values.type))
    scale = max(pc.max(pc.if_else(room, places, 0)).as_py() or 0, 0)
    return refitted(kept.cast(pa.string()).cast(pa.decimal256(76, 38)), pa.decimal128(_MOST_DIGITS, scale))


def _decimals(values: pa.Array) -> pa.Array:
    """Plain decimals as the narrowest decimal128 that holds all of them."""
    plain = _without_plus(values)
    lengths = pc.binary_length(plain)
    point = pc.find_substring(plain, ".")
    without = pc.less(point, 0)
    fraction = pc.if_else(without, 0, pc.subtract(pc.subtract(lengths, point), 1))
    whole = pc.subtract(pc.if_else(without, lengths, point), pc.starts_with(plain, "-").cast(pa.int32()))
    digits, scale = pc.max(whole).as_py() or 1, pc.max(fraction).as_py() or 0
    if digits + scale > _MOST_DIGITS:
        raise pa.ArrowInvalid("more digits than a decimal holds")
    made = plain.cast(pa.string()).cast(pa.decimal128(_MOST_DIGITS, scale))
    return narrowed(made, digits + scale)


# Never with a zero before other digits: that is a code, not a number.
_POINT_GROUPS = r"(?:[1-9]\d{0,2}(?:[,'’ \x{a0}\x{202f}]\d{3})+|0|[1-9]\d*)"
_COMMA_GROUPS = r"(?:[1-9]\d{0,2}(?:[.'’ \x{a0}\x{202f}]\d{3})+|0|[1-9]\d*)"


def _number_expression(decimal: str, decoration: str) -> str:
    groups = _POINT_GROUPS if decimal == "." else _COMMA_GROUPS
    number = rf"{groups}(?:{re.escape(decimal)}\d+)?"
    if decoration == "currency":
        # No codes of three letters: object numbers look like them. A plain number among amounts is one too.
        return rf"^[+-]?\s?(?:\p{{Sc}}\s?)?[+-]?{number}(?:\s?\p{{Sc}})?$"
    return rf"^[+-]?{number}{decoration}$"


def _undecorated(decimal: str) -> Callable[[pa.Array], pa.Array]:
    """Numbers with marks of thousands, signs of currency or of percent around them, as plain text."""

    def plain(values: pa.Array) -> pa.Array:
        kept = r"[^0-9+\-.]" if decimal == "." else r"[^0-9+\-,]"
        text = pc.replace_substring_regex(values, kept, "")
        return text if decimal == "." else pc.replace_substring(text, ",", ".")

    return plain


def _decorated_number(what: str, decimal: str, decoration: str = "") -> Way:
    plain = _undecorated(decimal)
    return Way(
        what,
        FieldType.DECIMAL,
        _number_expression(decimal, decoration),
        lambda values: _decimals(plain(values)),
        Notation(decimal=decimal),
        decoration or "grouped",
    )


def _percentages(decimal: str) -> Way:
    plain = _undecorated(decimal)

    def convert(values: pa.Array) -> pa.Array:
        hundredfold = _decimals(plain(values))
        kind = hundredfold.type
        digits = min(max(kind.precision, kind.scale + 3) + 2, _MOST_DIGITS)
        # The same digits with the point two places further left.
        wide = hundredfold.cast(pa.decimal128(digits, kind.scale))
        return rescaled(wide, pa.decimal128(digits, kind.scale + 2))

    said = "percentages" if decimal == "." else "percentages with a decimal comma"
    return Way(
        said,
        FieldType.DECIMAL,
        _number_expression(decimal, r"\s?%"),
        convert,
        Notation(decimal=decimal),
        "percent",
    )


def rescaled(decimals: pa.Array, arrow_type: pa.DataType) -> pa.Array:
    """The same digits read as another decimal type; nothing is copied."""
    return pa.Array.from_buffers(
        arrow_type, len(decimals), decimals.buffers(), decimals.null_count, decimals.offset
    )


def narrowed(decimals: pa.Array, precision: int) -> pa.Array:
    """Decimals said to have `precision` digits, which all of them have room in; nothing is copied."""
    return rescaled(decimals, pa.decimal128(precision, decimals.type.scale))


def refitted(decimals: pa.Array, kind: pa.DataType) -> pa.Array:
    """Decimals as another decimal type of up to 38 digits; blank where it lacks the digits or the places.

    Arrow's own unsafe cast would keep the lower digits of what has no room, and say nothing.
    """
    try:
        return held_as(decimals, kind)
    except pa.ArrowInvalid:
        wide = decimals.cast(pa.decimal256(76, max(decimals.type.scale, kind.scale)))
        most = Decimal("9" * kind.precision).scaleb(-kind.scale, _WIDE)
        fits = pc.less_equal(pc.abs(wide), pa.scalar(most, wide.type))
        exact = pc.equal(pc.round(wide, kind.scale, "towards_zero"), wide)
        return pc.if_else(pc.and_(fits, exact), wide, pa.scalar(None, wide.type)).cast(kind)


# --- dates and times ---


def _ordered_date(expression: str) -> Callable[[pa.Array], pa.Array]:
    def convert(values: pa.Array) -> pa.Array:
        parts = pc.extract_regex(values, expression)
        year, month, day = (pc.struct_field(parts, name) for name in ("y", "m", "d"))
        padded = [pc.utf8_lpad(part, 2, padding="0") for part in (month, day)]
        iso = pc.binary_join_element_wise(year, *padded, pa.scalar("-", year.type))
        return iso.cast(pa.date32())

    return convert


def _times(values: pa.Array) -> pa.Array:
    with_seconds = pc.replace_substring_regex(values, r"^(\d\d:\d\d)$", r"\1:00")
    moments = pc.strptime(with_seconds.cast(pa.string()), "%H:%M:%S", "us")
    return moments.cast(ARROW_TYPES[FieldType.TIME])


_DAY = r"(?P<d>0?[1-9]|[12]\d|3[01])"
_MONTH = r"(?P<m>0?[1-9]|1[0-2])"
_DAY_FIRST = rf"^{_DAY}[-./]{_MONTH}[-./](?P<y>\d{{4}})$"
_MONTH_FIRST = rf"^{_MONTH}[-./]{_DAY}[-./](?P<y>\d{{4}})$"

INTEGERS = Way(
    "whole numbers",
    FieldType.INTEGER,
    r"^[+-]?(0|[1-9]\d{0,17})$",
    _integers,
    quick=plain_integers,
)
DECIMALS = Way(
    "numbers",
    FieldType.DECIMAL,
    r"^[+-]?(0|[1-9]\d*)(\.\d+)?$",
    _decimals,
    quick=plain_decimals,
)
ISO_DATES = Way(
    "dates",
    FieldType.DATE,
    r"^\d{4}-\d{2}-\d{2}$",
    lambda values: values.cast(pa.date32()),
    quick=plain_dates,
)
ISO_TIMESTAMPS = Way(
    "timestamps",
    FieldType.TIMESTAMP,
    r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}(:\d{2}(\.\d{1,6})?)?$",
    lambda values: values.cast(ARROW_TYPES[FieldType.TIMESTAMP]),
    quick=plain_moments,
)
DAY_FIRST = Way(
    "dates, day first", FieldType.DATE, _DAY_FIRST, _ordered_date(_DAY_FIRST), Notation(dates="day"), "dates"
)
MONTH_FIRST = Way(
    "dates, month first",
    FieldType.DATE,
    _MONTH_FIRST,
    _ordered_date(_MONTH_FIRST),
    Notation(dates="month"),
    "dates",
)
EXPONENTS = Way(
    "numbers with an exponent",
    FieldType.REAL,
    r"^[+-]?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$",
    lambda values: values.cast(pa.float64()),
)
# In the order in which they are tried: the first that all values fit is the one meant. The last ones come in
# pairs that differ only in what they take a mark for.
WAYS = (
    INTEGERS,
    DECIMALS,
    EXPONENTS,
    Way(
        "true or false",
        FieldType.BOOLEAN,
        r"^(?i:true|false)$",
        lambda values: pc.equal(pc.utf8_lower(values), pa.scalar("true", values.type)),
    ),
    ISO_DATES,
    ISO_TIMESTAMPS,
    Way("times", FieldType.TIME, r"^([01]\d|2[0-3]):[0-5]\d(:[0-5]\d)?$", _times),
    DAY_FIRST,
    MONTH_FIRST,
    _decorated_number("numbers with marks of thousands", "."),
    _decorated_number("numbers with a decimal comma", ","),
    _decorated_number("amounts with a currency sign", ".", "currency"),
    _decorated_number("amounts with a currency sign and a decimal comma", ",", "currency"),
    _percentages("."),
    _percentages(","),
)


def agrees(way: Way, notation: Notation) -> bool:
    """Whether the way takes marks for what `notation` has settled that they are."""
    said = way.notation
    return (not said.decimal or not notation.decimal or said.decimal == notation.decimal) and (
        not said.dates or not notation.dates or said.dates == notation.dates
    )


# --- from one type to another ---


class Converted(msgspec.Struct, frozen=True):
    """A column in another type.  values: n values.  lost: bool mask of the n that could not be converted."""

    values: pa.Array
    lost: np.ndarray[tuple[int], np.dtype[np.bool_]]

    @property
    def count(self) -> int:
        return int(self.lost.sum())


def converted(values: pa.Array, to: FieldType, notation: Notation | None = None) -> Converted:
    """`values` as `to`: what has no counterpart there becomes blank and is lost.

    Numbers that would have to be rounded are lost, a timestamp that is not at midnight is no date. Text is
    read in any of the ways that `notation` does not rule out; where two are left, a mark is a decimal point
    and the day comes first.
    """
    have = type_of_arrow(values.type)
    if have is to:
        made = values
    elif to is FieldType.TEXT:
        made = as_text(values)
    elif have is FieldType.TEXT:
        made = _from_text(values, to, notation or Notation())
    elif have.is_number and to.is_number:
        made = _number_as(values, to)
    elif have is FieldType.DATE and to is FieldType.TIMESTAMP:
        made = values.cast(ARROW_TYPES[to])
    elif have is FieldType.TIMESTAMP and to is FieldType.DATE:
        whole = values.cast(pa.date32(), safe=False)
        made = pc.if_else(pc.equal(whole.cast(values.type), values), whole, pa.scalar(None, whole.type))
    elif have is FieldType.INTEGER and to is FieldType.BOOLEAN:
        known = pc.is_in(values, value_set=pa.array([0, 1]))
        made = pc.if_else(known, pc.equal(values, 1), pa.scalar(None, pa.bool_()))
    elif have is FieldType.BOOLEAN and to.is_number:
        made = _number_as(values.cast(pa.int64()), to)
    else:
        made = pa.nulls(len(values), ARROW_TYPES[to])
    lost = pc.and_(pc.is_valid(values), pc.is_null(made))
    return Converted(made, lost.to_numpy(zero_copy_only=False))


def converted_alone(text: str, to: FieldType) -> bool:
    """Whether a text can be read as a type."""
    return not converted(pa.array([text], ARROW_TYPES[FieldType.TEXT]), to).count


def convertible(have: FieldType, to: FieldType) -> bool:
    """Whether any value of a type has a counterpart in another one, so that `converted` may find it."""
    return (
        have is to
        or FieldType.TEXT in (have, to)
        or (have.is_number and to.is_number)
        or (have.is_moment and to.is_moment)
        or (have, to) == (FieldType.INTEGER, FieldType.BOOLEAN)
        or (have is FieldType.BOOLEAN and to.is_number)
    )


def read_as(texts: Sequence[str], to: FieldType, name: str) -> pa.Array:
    """Texts as values of the type that the field `name` has; UsageError if one of them is none."""
    found = converted(pa.array(texts, ARROW_TYPES[FieldType.TEXT]), to)
    if found.count:
        wrong = texts[int(np.flatnonzero(found.lost)[0])]
        raise UsageError(
            f"{name} is {to.value}, and “{wrong}” is not.",
            remedy="Write it as the field's values are written, or choose another field.",
        )
    return found.values


def type_of_text(text: str) -> FieldType:
    """The type that a value has by how it is written, where that can mean one thing only; otherwise text."""
    written = pa.array([text], ARROW_TYPES[FieldType.TEXT])
    for way in WAYS:
        if not way.pair and fits(written, way)[0].as_py() and _each(way, written)[0].is_valid:
            return way.type
    return FieldType.TEXT


def _from_text(values: pa.Array, to: FieldType, notation: Notation) -> pa.Array:
    text = pc.utf8_trim_whitespace(values)
    made: pa.Array | None = None
    for way in WAYS:
        if not _leads_to(way, to) or not agrees(way, notation):
            continue
        left = text if made is None else pc.if_else(pc.is_valid(made), pa.scalar(None, text.type), text)
        fitting = fits(left, way)
        if not pc.any(fitting).as_py():
            continue
        chosen = pc.if_else(fitting, left, pa.scalar(None, text.type))
        if to is FieldType.DECIMAL and way is EXPONENTS:
            step = _each(replace(way, type=to, convert=_exponents_as_decimals), chosen)
        else:
            step = _each(way, chosen)
        typed = _number_as(step, to) if to.is_number else step.cast(ARROW_TYPES[to])
        made = typed if made is None else _merged(made, typed)
    return pa.nulls(len(values), ARROW_TYPES[to]) if made is None else made


def _leads_to(way: Way, to: FieldType) -> bool:
    return way.type is to or (way.type.is_number and to.is_number) or (way.type.is_moment and to.is_moment)


def _each(way: Way, values: pa.Array) -> pa.Array:
    """`values` converted; where the whole cannot be, those that can, found by halving."""
    try:
        return way.convert(values)
    except pa.ArrowInvalid:
        if len(values) == 1:
            return pa.nulls(1, ARROW_TYPES[way.type])
        half = len(values) // 2
        parts = [_each(way, part) for part in (values.slice(0, half), values.slice(half))]
        return _merged_rows(parts)


def _merged_rows(parts: list[pa.Array]) -> pa.Array:
    kinds = {part.type for part in parts}
    if len(kinds) > 1:
        scale = max(kind.scale for kind in kinds)
        parts = [refitted(part, pa.decimal128(_MOST_DIGITS, scale)) for part in parts]
    return pa.concat_arrays(parts)


def _merged(made: pa.Array, more: pa.Array) -> pa.Array:
    """`made`, its nulls filled from `more`; decimals with as many places as either has."""
    if made.type != more.type:
        scale = max(made.type.scale, more.type.scale)
        made, more = (refitted(part, pa.decimal128(_MOST_DIGITS, scale)) for part in (made, more))
    return pc.coalesce(made, more)


def _number_as(values: pa.Array, to: FieldType) -> pa.Array:
    have = type_of_arrow(values.type)
    if have is to:
        return values
    if to is FieldType.REAL:
        # By text: Arrow's own cast from decimal to double rounds some of them wrongly.
        return as_text(values).cast(pa.float64()) if have is FieldType.DECIMAL else _integers_as_reals(values)
    if to is FieldType.DECIMAL:
        if have is FieldType.INTEGER:
            return values.cast(pa.decimal128(19, 0))
        return _reals_as_decimals(values)
    return _as_integers(values)


def _reals_as_decimals(values: pa.Array) -> pa.Array:
    """Each real as the decimal that it is written as; infinities, NaN and very long ones are lost."""
    text = as_text(values)
    return _from_text(text, FieldType.DECIMAL, Notation(decimal="."))


def _integers_as_reals(values: pa.Array) -> pa.Array:
    near = values.cast(pa.float64(), safe=False)
    # The greatest integers round up to 2 ** 63, which is no integer itself.
    inside = pc.less(near, float(2**63))
    back = pc.if_else(inside, near, 0.0).cast(pa.int64())
    return pc.if_else(pc.and_(inside, pc.equal(back, values)), near, pa.scalar(None, near.type))


def _as_integers(values: pa.Array) -> pa.Array:
    rounded = pc.floor(values)
    whole = pc.equal(rounded, values)
    if pa.types.is_floating(values.type):
        whole = pc.and_(whole, pc.less(pc.abs(values), float(2**63)))
    else:
        limit = pa.scalar(2**63, pa.decimal128(_MOST_DIGITS, 0))
        whole = pc.and_(whole, pc.less(pc.abs(rounded.cast(pa.decimal128(_MOST_DIGITS, 0))), limit))
        rounded = rounded.cast(pa.decimal128(_MOST_DIGITS, 0))
    return pc.if_else(whole, rounded, pa.scalar(None, rounded.type)).cast(pa.int64())
