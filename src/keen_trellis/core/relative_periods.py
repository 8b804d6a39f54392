"""Periods that are told from today: “last full month”, “this year”, “the last 30 days”."""

from __future__ import annotations

import datetime as dt
import re

from keen_trellis.core.errors import UsageError

_DAYS = re.compile(r"last (\d{1,4}) days")
NAMED = (
    "last full month",
    "this month",
    "last full quarter",
    "this quarter",
    "last full year",
    "this year",
    "last 30 days",
)


def first_and_last(period: str, today: dt.date) -> tuple[dt.date, dt.date]:
    """The first and the last day of a period as it is told on the day `today`.

    “last N days” are the N days before today. UsageError for a period that is none.
    """
    days = _DAYS.fullmatch(period.strip().lower())
    if days and int(days[1]):
        return today - dt.timedelta(days=int(days[1])), today - dt.timedelta(days=1)
    words = period.strip().lower().split()
    months = {"month": 1, "quarter": 3, "year": 12}.get(words[-1] if words else "", 0)
    if not months or words[:-1] not in (["this"], ["last", "full"]):
        raise UsageError(
            f"“{period}” is not a period relative to today.",
            remedy=f"There are: {', '.join(NAMED)}, with any number of days.",
        )
    begins = _month(today, -((today.month - 1) % months))
    if words[0] == "last":
        begins = _month(begins, -months)
    return begins, _month(begins, months) - dt.timedelta(days=1)


def _month(day: dt.date, later: int) -> dt.date:
    """The first day of the month so many months later."""
    number = day.year * 12 + day.month - 1 + later
    return dt.date(number // 12, number % 12 + 1, 1)
