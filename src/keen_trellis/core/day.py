"""The day that a computation takes as today: one and the same for all of it, however long it lasts."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

_DAY: ContextVar[dt.date | None] = ContextVar("the day of a computation", default=None)


def this_day() -> dt.date:
    """The day it is now where this machine stands."""
    return dt.datetime.now().astimezone().date()


def today() -> dt.date:
    """What CURRENT_DATE gives, and what periods such as “last month” are told from."""
    return _DAY.get() or this_day()


@contextmanager
def as_of(day: dt.date) -> Iterator[None]:
    """Let everything that is computed here take `day` as today, on all threads that it is shared out to."""
    token = _DAY.set(day)
    try:
        yield
    finally:
        _DAY.reset(token)
