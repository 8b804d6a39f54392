"""Dates, intervals and functions of expressions, against Python and the definitions of the standard."""

import calendar
import datetime as dt
import math
import re
import unittest

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions.expression import Notes
from keen_trellis.core.expressions.parsing import parse
from keen_trellis.core.table import ArrowTable
from tests.tables import table

DATES = st.dates(dt.date(1, 1, 1), dt.date(9999, 12, 31))
MOMENTS = st.datetimes(dt.datetime(1900, 1, 1), dt.datetime(2100, 1, 1))


def value(text, notes=None, **columns):
    """What an expression gives for one row of these values."""
    kinds = {dt.date: pa.date32(), dt.datetime: pa.timestamp("us"), str: pa.large_string(), int: pa.int64()}
    arrays = {name: pa.array([cell], kinds.get(type(cell))) for name, cell in columns.items()}
    rows = ArrowTable(pa.table(arrays or {"x": [1]}))
    return parse(text, rows.fields).column(rows, None, notes or Notes()).to_pylist()[0]


def months_later(day, months):
    """The day so many months later, None where there is none."""
    month = day.year * 12 + day.month - 1 + months
    year, number = divmod(month, 12)
    if not 1 <= year <= 9999 or day.day > calendar.monthrange(year, number + 1)[1]:
        return None
    return day.replace(year=year, month=number + 1)


class Intervals(unittest.TestCase):
    @given(DATES, st.integers(-30_000, 30_000))
    def test_a_date_is_moved_by_months_years_and_days(self, day, count):
        for sign, by in (("+", count), ("-", -count)):
            self.assertEqual(value(f"d {sign} INTERVAL '{count}' MONTH", d=day), months_later(day, by))
            self.assertEqual(value(f"d {sign} n * INTERVAL '1' MONTH", d=day, n=count), months_later(day, by))
            self.assertEqual(value(f"d {sign} INTERVAL '{count}' YEAR", d=day), months_later(day, 12 * by))
            try:
                wanted = day + dt.timedelta(days=by)
            except OverflowError:
                wanted = None
            self.assertEqual(value(f"d {sign} INTERVAL '{count}' DAY", d=day), wanted)

    @given(MOMENTS, st.integers(-9_999, 9_999))
    def test_a_timestamp_is_moved_by_hours_and_less_too(self, moment, count):
        for unit, span in (("HOUR", 3600), ("MINUTE", 60), ("SECOND", 1), ("DAY", 86_400)):
            wanted = moment + dt.timedelta(seconds=span * count)
            self.assertEqual(value(f"d + INTERVAL '{count}' {unit}", d=moment), wanted)
        self.assertEqual(value(f"INTERVAL '{count}' MONTH + d", d=moment), months_later(moment, count))

    @given(MOMENTS, MOMENTS)
    def test_what_lies_between_two_moments(self, one, other):
        apart = (one - other) / dt.timedelta(microseconds=1)
        for unit, span in (("DAY", 86_400), ("HOUR", 3600), ("MINUTE", 60), ("SECOND", 1)):
            wanted = int(math.copysign(abs(int(apart)) // (span * 10**6), apart))
            self.assertEqual(value(f"EXTRACT({unit} FROM (a - b) {unit})", a=one, b=other), wanted)
        months = (one.year - other.year) * 12 + one.month - other.month
        self.assertEqual(value("EXTRACT(MONTH FROM (a - b) MONTH)", a=one, b=other), months)
        self.assertEqual(value("EXTRACT(YEAR FROM (a - b) YEAR)", a=one, b=other), one.year - other.year)
        days = (one.date() - other.date()).days
        self.assertEqual(value("EXTRACT(DAY FROM (a - b) DAY)", a=one.date(), b=other.date()), days)

    @given(DATES)
    def test_parts_of_a_date_are_those_of_iso_8601(self, day):
        year, week, weekday = day.isocalendar()
        told = [value(f"EXTRACT({part} FROM d)", d=day) for part in ("ISOYEAR", "WEEK", "ISODOW", "QUARTER")]
        self.assertEqual(told, [year, week, weekday, (day.month + 2) // 3])
        first = "d - (EXTRACT(DAY FROM d) - 1) * INTERVAL '1' DAY"
        self.assertEqual(value(first, d=day), day.replace(day=1))

    def test_a_date_that_is_not_there_is_blank_and_counted(self):
        notes = Notes()
        self.assertIsNone(value("d + INTERVAL '1' MONTH", notes, d=dt.date(2026, 1, 31)))
        self.assertIsNone(value("d + INTERVAL '1' DAY", notes, d=dt.date(9999, 12, 31)))
        self.assertEqual(notes.out_of_range, 2)

    def test_what_is_no_interval_or_alone_is_refused(self):
        for text, said in (
            ("d + INTERVAL '1-2' YEAR TO MONTH", "An interval has one unit here"),
            ("d + INTERVAL '1.5' DAY", "is no whole number"),
            ("d + INTERVAL '1' HOUR", "A date has no HOUR"),
            ("n + INTERVAL '1' DAY", "An interval is added to a date"),
            ("INTERVAL '1' DAY", "cannot be used in an expression"),
            ("INTERVAL '1' DAY - d", "."),
            ("(d - d) DAY", "An interval alone cannot be kept"),
            ("EXTRACT(MONTH FROM (d - d) DAY)", "An interval of DAY has no MONTH"),
            ("EXTRACT(DAY FROM (d + d) DAY)", "A unit behind brackets"),
            ("EXTRACT(HOUR FROM (d - d) HOUR)", "A date has no HOUR"),
            ("EXTRACT(DAY FROM (n - d) DAY)", "no interval between integer"),
            ("d + 1.5 * INTERVAL '1' DAY", "multiplied by a whole number"),
        ):
            with self.subTest(text), self.assertRaisesRegex(UsageError, said):
                value(text, d=dt.date(2026, 1, 1), n=1)


class Functions(unittest.TestCase):
    TEXTS = st.text("abé 1", max_size=8)

    @given(TEXTS, st.integers(0, 9), st.text("xy0", min_size=1, max_size=3))
    def test_padding(self, text, length, pad):
        missing = max(length - len(text), 0)
        filling = (pad * 9)[:missing]
        text = text or None  # an empty text is blank
        for left, function in ((True, "LPAD"), (False, "RPAD")):
            wanted = None
            if text is not None:
                wanted = (filling + text if left else text + filling)[:length] if missing else text[:length]
            found = parse(f"{function}(t, {length}, '{pad}')", table(t=[text, "z"]).fields)
            self.assertEqual(found.column(table(t=[text, "z"]), None, Notes()).to_pylist()[0], wanted)

    @given(TEXTS, st.integers(1, 9), st.integers(0, 4))
    def test_overlay_is_what_the_standard_defines(self, text, start, length):
        if not text:
            return
        wanted = text[: start - 1] + "XY" + text[start - 1 + length :]
        self.assertEqual(value(f"OVERLAY(t PLACING 'XY' FROM {start} FOR {length})", t=text), wanted)
        by_itself = text[: start - 1] + "XY" + text[start + 1 :]
        self.assertEqual(value(f"OVERLAY(t PLACING 'XY' FROM {start})", t=text), by_itself)

    @given(st.integers(-9, 9), st.integers(-9, 9), st.integers(-9, 9))
    def test_greatest_least_and_sign(self, one, other, third):
        self.assertEqual(value("GREATEST(a, b, c)", a=one, b=other, c=third), max(one, other, third))
        self.assertEqual(value("LEAST(a, b, c)", a=one, b=other, c=third), min(one, other, third))
        self.assertEqual(value("SIGN(a)", a=one), (one > 0) - (one < 0))

    def test_one_blank_makes_the_greatest_blank_and_texts_and_dates_have_one_too(self):
        self.assertIsNone(value("GREATEST(1, NULL, 3)"))
        self.assertEqual(value("GREATEST('a', 'b')"), "b")
        self.assertEqual(value("LEAST(DATE '2026-01-02', DATE '2026-01-01')"), dt.date(2026, 1, 1))
        self.assertEqual(value("GREATEST(1, 2.5)"), 2.5)
        with self.assertRaisesRegex(UsageError, "GREATEST meets integer and text"):
            value("GREATEST(1, 'a')")

    def test_powers_that_are_not_there_are_blank_and_counted(self):
        notes = Notes()
        self.assertEqual([value("POWER(2, 10)"), value("SQRT(9)"), value("POWER(4, -0.5)")], [1024, 3, 0.5])
        for text in ("SQRT(-1)", "POWER(-8, 0.5)", "POWER(0, -1)", "POWER(10, 400)"):
            self.assertIsNone(value(text, notes), text)
        self.assertEqual(notes.out_of_range, 4)

    @given(st.text("aA1_. -\n\r", max_size=6))
    def test_regular_expressions_match_a_part(self, text):
        if not text:
            return
        for pattern, plain in (
            ("a.1", r"a[^\n\r]1"),
            (r"^[a-z]+\d{1,2}$", r"^[a-z]+\d{1,2}\Z"),
            (r"\s[^a]", r"[ \t\n\r][^a]"),
            (r"(a|A)\.?1*", r"(a|A)\.?1*"),
            (r"\p{Lu}", "[A-Z]"),
            (r"[]a]", r"[]a]"),
        ):
            told = value(f"t LIKE_REGEX '{pattern}'", t=text)
            self.assertEqual(told, re.search(plain, text) is not None, (pattern, text))
            self.assertEqual(value(f"NOT t LIKE_REGEX '{pattern}'", t=text), not told)

    def test_what_re2_reads_otherwise_is_refused(self):
        for pattern in (
            r"\bx",
            r"(?i)x",
            r"\w",
            r"[a-z-[aeiou]]",
            r"\1",
            r"\A",
            r"\x41",
            "[[:alpha:]]",
            "a\\",
        ):
            with self.subTest(pattern), self.assertRaises(UsageError) as caught:
                value(f"t LIKE_REGEX '{pattern}'", t="x")
            self.assertIn("not computed here as the standard says", str(caught.exception))
        for pattern in ("(", "a{3,2}", "*"):
            with self.subTest(pattern), self.assertRaisesRegex(UsageError, "is no regular expression"):
                value(f"t LIKE_REGEX '{pattern}'", t="x")

    def test_padding_is_refused_where_it_cannot_be(self):
        for text, said in (
            ("LPAD('a', 3, '')", "something to pad with"),
            ("LPAD('a', 1000000)", "100,000 characters at most"),
            ("LPAD(1, 3)", "LPAD needs text"),
            ("RPAD('a', -1)", "plain whole number"),
        ):
            with self.subTest(text), self.assertRaisesRegex(UsageError, said):
                value(text)
        self.assertEqual(len(value("LPAD('a', 1000)")), 1000)
