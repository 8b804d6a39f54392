"""Which rows fulfil conditions: a field compared with values, or an expression that must be true.

Conditions are three-valued as in SQL: what is compared with a blank is unknown, and such a row does not stay.
"""

from __future__ import annotations

import datetime as dt
import enum
from collections.abc import Callable, Sequence

import msgspec
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.comparing import COMPARE, as_comparable
from keen_trellis.core.conversion import read_as
from keen_trellis.core.day import today
from keen_trellis.core.errors import UsageError
from keen_trellis.core.link import parsed
from keen_trellis.core.relative_periods import first_and_last
from keen_trellis.core.table import Cells, Field, IndexVector, Mask, Table, find_field
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text


class Comparison(enum.Enum):
    """How a field is compared; the value is its name in flow files."""

    ONE_OF = "one-of"
    NONE_OF = "none-of"
    LESS = "less"
    AT_MOST = "at-most"
    GREATER = "greater"
    AT_LEAST = "at-least"
    BETWEEN = "between"
    CONTAINS = "contains"
    BEGINS = "begins-with"
    ENDS = "ends-with"
    FILLED = "filled"
    BLANK = "blank"
    PARTNER = "partner"
    NO_PARTNER = "no-partner"
    PERIOD = "period"
    TRUE = "true"


_SIGNS = {
    Comparison.LESS: "<",
    Comparison.AT_MOST: "<=",
    Comparison.GREATER: ">",
    Comparison.AT_LEAST: ">=",
}
_IN_TEXT: dict[Comparison, Callable[..., pa.Array]] = {
    Comparison.CONTAINS: pc.match_substring,
    Comparison.BEGINS: pc.starts_with,
    Comparison.ENDS: pc.ends_with,
}
WORDS = {
    Comparison.ONE_OF: "is",
    Comparison.NONE_OF: "is not",
    Comparison.LESS: "is less than",
    Comparison.AT_MOST: "is at most",
    Comparison.GREATER: "is more than",
    Comparison.AT_LEAST: "is at least",
    Comparison.BETWEEN: "is between",
    Comparison.CONTAINS: "contains",
    Comparison.BEGINS: "begins with",
    Comparison.ENDS: "ends with",
    Comparison.FILLED: "is not blank",
    Comparison.BLANK: "is blank",
    Comparison.PARTNER: "has a partner",
    Comparison.NO_PARTNER: "has no partner",
    Comparison.PERIOD: "is in the",
    Comparison.TRUE: "",
}
# How many values each comparison takes, at least and at most; the others take none.
_VALUES = {
    Comparison.ONE_OF: (1, None),
    Comparison.NONE_OF: (1, None),
    Comparison.BETWEEN: (2, 2),
    Comparison.PERIOD: (1, 1),
    **dict.fromkeys((*_SIGNS, *_IN_TEXT), (1, 1)),
}
_MOST_NAMED = 3


class Condition(msgspec.Struct, frozen=True):
    """of: a field's name, or for TRUE an expression.  values: what it is compared with, as text."""

    of: str
    how: Comparison
    values: tuple[str, ...] = ()

    def __str__(self) -> str:
        named = [f"“{value}”" for value in self.values[:_MOST_NAMED]]
        if len(self.values) > _MOST_NAMED:
            named.append(f"{len(self.values) - _MOST_NAMED:,} more")
        joint = " and " if self.how is Comparison.BETWEEN else " or "
        return " ".join(part for part in (self.of, WORDS[self.how], joint.join(named)) if part)


def check_conditions(conditions: Sequence[Condition], fields: Sequence[Field]) -> None:
    """Raise UsageError unless every condition can be asked of these fields."""
    for entry in conditions:
        if entry.how is Comparison.TRUE:
            found = parsed(entry.of, fields)
            if found.type is not FieldType.BOOLEAN and not found.untyped:
                raise UsageError(
                    f"“{entry.of}” is {found.type.value}, not a condition.",
                    remedy="Compare it with something, as in \"Status\" = 'out'.",
                )
            continue
        field = find_field(fields, entry.of)
        least, most = _VALUES.get(entry.how, (0, 0))
        if len(entry.values) < least or (most is not None and len(entry.values) > most):
            wanted = "a value" if least == 1 else f"{least} values" if least else "no value"
            raise UsageError(f"“{entry}” needs {wanted}.", remedy="Choose what it is compared with.")
        if entry.how is Comparison.PERIOD:
            if field.type not in (FieldType.DATE, FieldType.TIMESTAMP) and not field.untyped:
                raise UsageError(f"{field.name} is {field.type.value}; only dates are in a period.")
            first_and_last(entry.values[0], today())
        elif entry.how not in _IN_TEXT and not field.untyped:
            read_as(entry.values, field.type, field.name)


def fulfilled(table: Table, conditions: Sequence[Condition], task: Task, *, any_of: bool = False) -> Mask:
    """For each row whether the conditions hold: all, or any of them; without conditions all rows do."""
    check_conditions(conditions, table.fields)
    if not conditions:
        return np.ones(table.rows, dtype=bool)
    found = np.full(table.rows, not any_of)
    for done, entry in enumerate(conditions):
        task.checkpoint(done, len(conditions), f"filtering by {entry.of}")
        holds = _holds(table, entry)
        found = found | holds if any_of else found & holds
    return found


def _holds(table: Table, entry: Condition) -> Mask:
    if entry.how is Comparison.TRUE:
        return parsed(entry.of, table.fields).holds(table)
    field, cells = table.field(entry.of), table.column(entry.of)
    absent: Mask = np.zeros(table.rows, dtype=bool) if cells.absent is None else cells.absent
    if entry.how in (Comparison.NO_PARTNER, Comparison.PARTNER):
        return absent if entry.how is Comparison.NO_PARTNER else ~absent
    known: Mask = cells.values.is_valid().to_numpy(zero_copy_only=False)
    if entry.how in (Comparison.FILLED, Comparison.BLANK):
        return known if entry.how is Comparison.FILLED else ~known & ~absent
    if field.untyped:
        return known  # no cell is filled, so that no comparison is true
    if entry.how in _IN_TEXT:
        return _true(_IN_TEXT[entry.how](as_text(cells.values), entry.values[0]))
    if entry.how in (Comparison.ONE_OF, Comparison.NONE_OF):
        one_of = places_among(cells.values, read_as(entry.values, field.type, field.name)) >= 0
        return one_of if entry.how is Comparison.ONE_OF else known & ~one_of
    if entry.how is Comparison.PERIOD:
        first, last = first_and_last(entry.values[0], today())
        after = str(last + dt.timedelta(days=1))
        return known & _compared(cells, field, ">=", str(first)) & _compared(cells, field, "<", after)
    if entry.how is Comparison.BETWEEN:
        low, high = entry.values
        return known & _compared(cells, field, ">=", low) & _compared(cells, field, "<=", high)
    return known & _compared(cells, field, _SIGNS[entry.how], entry.values[0])


def _compared(cells: Cells, field: Field, sign: str, value: str) -> Mask:
    left, right = as_comparable(cells.values, read_as([value], field.type, field.name))
    found: Mask = COMPARE[sign](left, right)
    return found


def places_among(values: pa.Array, wanted: pa.Array) -> IndexVector:
    """For each value the place at which its equal is among those wanted, -1 for none and for a blank; looked
    up once for each distinct one.
    """
    encoded = values.dictionary_encode()
    distinct, sought = as_comparable(encoded.dictionary, wanted)
    _, number = np.unique(np.concatenate([sought, distinct]), return_inverse=True)
    place = np.full(len(number), -1)
    place[number[: len(sought)]] = np.arange(len(sought))
    places = np.append(place[number[len(sought) :]], -1)
    found: IndexVector = places[
        encoded.indices.fill_null(len(encoded.dictionary)).to_numpy(zero_copy_only=False)
    ]
    return found


def _true(values: pa.Array) -> Mask:
    return np.asarray(values.fill_null(False).to_numpy(zero_copy_only=False), dtype=bool)
