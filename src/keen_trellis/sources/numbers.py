"""Numbers as JSON writes them, with all of their digits."""

from __future__ import annotations

from decimal import Decimal

_SHORT = 15  # so many characters of a number no real rounds


def exact_number(text: str) -> float | Decimal:
    """A number with a point or an exponent; a decimal where a real would round it."""
    value = float(text)
    if len(text) <= _SHORT or Decimal(repr(value)) == Decimal(text):
        return value
    return Decimal(text)
