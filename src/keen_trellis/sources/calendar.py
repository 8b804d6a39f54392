"""A calendar: a row for each day, week or month between two dates, with names and numbers of ISO 8601."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.core.values import ARROW_TYPES, FieldType
from keen_trellis.flow.source_settings import CalendarSettings, SourceSettings
from keen_trellis.sources.about import About
from keen_trellis.sources.locations import CALENDAR
from keen_trellis.sources.reading import CALENDAR_SPAN, InFlowReader, ReadTable

_TEXT, _DATE, _INTEGER = (ARROW_TYPES[kind] for kind in (FieldType.TEXT, FieldType.DATE, FieldType.INTEGER))
Days = np.ndarray[Any, np.dtype[np.datetime64]]
_MONTHS = (
    *("January", "February", "March", "April", "May", "June"),
    *("July", "August", "September", "October", "November", "December"),
)
_WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
# The day from which numpy counts was a Thursday.
_MONDAY = np.datetime64("1969-12-29", "D")


class CalendarReader(InFlowReader):
    """Makes the rows of a calendar; weeks and months are whole ones, those of the two dates too."""

    name = CALENDAR
    said = "a calendar"
    uses = CALENDAR_SPAN

    def read(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable:
        span = settings.calendar
        if not (span.first and span.last):
            raise SourceError("The calendar has no first or last day.", remedy="Choose both days.")
        columns = _WAYS[span.by](*(np.datetime64(text, "D") for text in (span.first, span.last)))
        return ReadTable(pa.table(columns), About(file="calendar"))


def _by_day(first: Any, last: Any) -> dict[str, pa.Array]:
    days = np.arange(first, last + 1)
    weekday = (days - _MONDAY).astype(np.int64) % 7
    return {
        "date": _dates(days),
        **_of_month(days),
        "day": _numbers(pc.day(_dates(days))),
        **_of_week(days),
        "weekday": _numbers(pa.array(weekday + 1)),
        "weekday name": pa.array(_WEEKDAYS, _TEXT).take(pa.array(weekday)),
    }


def _by_week(first: Any, last: Any) -> dict[str, pa.Array]:
    mondays = np.arange(first - (first - _MONDAY).astype(np.int64) % 7, last + 1, 7)
    return {"first day": _dates(mondays), "last day": _dates(mondays + 6), **_of_week(mondays)}


def _by_month(first: Any, last: Any) -> dict[str, pa.Array]:
    months = np.arange(first.astype("M8[M]"), last.astype("M8[M]") + 1)
    begins, ends = months.astype("M8[D]"), (months + 1).astype("M8[D]")
    return {
        "first day": _dates(begins),
        "last day": _dates(ends - 1),
        **_of_month(begins),
        "days": _numbers(pa.array((ends - begins).astype(np.int64))),
    }


def _of_month(days: Days) -> dict[str, pa.Array]:
    dates = _dates(days)
    month = pc.month(dates)
    return {
        "year": _numbers(pc.year(dates)),
        "quarter": _numbers(pc.quarter(dates)),
        "month": _numbers(month),
        "month name": pa.array(_MONTHS, _TEXT).take(pc.subtract(month, 1)),
        "year and month": pa.array(np.datetime_as_string(days, unit="M").tolist(), _TEXT),
    }


def _of_week(days: Days) -> dict[str, pa.Array]:
    week = pc.iso_calendar(_dates(days))
    year, number = week.field("iso_year"), week.field("iso_week")
    padded = pc.utf8_lpad(number.cast(_TEXT), width=2, padding="0")
    # ISO 8601 writes years with four digits.
    whole = pc.utf8_lpad(year.cast(_TEXT), width=4, padding="0")
    return {
        "ISO year": _numbers(year),
        "ISO week": _numbers(number),
        "year and week": pc.binary_join_element_wise(whole, padded, pa.scalar("-W", _TEXT)),
    }


def _dates(days: Days) -> pa.Array:
    return pa.array(days, pa.date32()).cast(_DATE)


def _numbers(values: pa.Array) -> pa.Array:
    return values.cast(_INTEGER)


_WAYS = {"day": _by_day, "week": _by_week, "month": _by_month}
assert set(_WAYS) == set(CalendarSettings.WAYS)
