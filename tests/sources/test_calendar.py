"""Calendars as sources, against the dates of the standard library."""

import calendar
import datetime as dt
import itertools

from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.task import Task
from keen_trellis.flow.source_settings import CalendarSettings, SourceSettings
from tests.sources.source_case import SourceCase
from tests.tables import rows_of


class Calendars(SourceCase):
    def read(self, first, last, by="day"):
        settings = SourceSettings("calendar", calendar=CalendarSettings(first, last, by))
        return self.library.get(settings, Task())

    @given(st.dates(dt.date(1, 1, 8), dt.date(9999, 11, 1)), st.integers(0, 40))
    def test_days_are_what_the_standard_library_says(self, first, more):
        last = first + dt.timedelta(days=more)
        table = self.read(first.isoformat(), last.isoformat()).table
        wanted = []
        for number in range(more + 1):
            day = first + dt.timedelta(days=number)
            year, week, weekday = day.isocalendar()
            month = (day.year, (day.month + 2) // 3, day.month, calendar.month_name[day.month])
            texts = (day.isoformat()[:7], day.day, year, week, f"{year:04}-W{week:02}")
            wanted.append((day, *month, *texts, weekday, calendar.day_name[day.weekday()]))
        self.assertEqual(rows_of(table), wanted)

    @given(st.dates(dt.date(1900, 1, 1), dt.date(2100, 1, 1)), st.integers(0, 99))
    def test_weeks_and_months_are_whole_and_without_a_gap(self, first, more):
        last = first + dt.timedelta(days=more)
        for by in ("week", "month"):
            table = self.read(first.isoformat(), last.isoformat(), by).table
            spans = [(row[0], row[1]) for row in rows_of(table)]
            self.assertTrue(spans[0][0] <= first <= spans[0][1] and spans[-1][0] <= last <= spans[-1][1])
            for one, other in itertools.pairwise(spans):
                self.assertEqual(one[1] + dt.timedelta(days=1), other[0])
            for begin, end in spans:
                self.assertEqual((begin.weekday(), (end - begin).days) == (0, 6), by == "week")
                self.assertEqual(begin.day == 1 and (end + dt.timedelta(days=1)).day == 1, by == "month")

    def test_a_month_has_its_days_and_a_row_says_where_it_is_from(self):
        table = self.read("2024-02-29", "2024-03-01", "month").table
        self.assertEqual(table.column("days").values.to_pylist(), [29, 31])
        self.assertEqual(str(table.origins(1)[0]), "calendar, row 2")

    def test_what_is_no_span_is_refused(self):
        for first, last, by, said in (
            ("", "2026-01-01", "day", "no first or last day"),
            ("2026-1-1", "2026-01-02", "day", "first day is “2026-1-1”"),
            ("2026-01-01", "2025-02-30", "day", "last day is “2025-02-30”"),
            ("2026-01-02", "2026-01-01", "day", "is before its first"),
            ("2026-01-01", "2026-01-02", "hour", "a row for each “hour”"),
        ):
            with self.assertRaisesRegex(TrellisError, said):
                self.read(first, last, by)
