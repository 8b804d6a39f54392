import datetime as dt
import unittest
from decimal import Decimal

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.conversion import (
    DECIMALS,
    INTEGERS,
    ISO_DATES,
    ISO_TIMESTAMPS,
    WAYS,
    Notation,
    converted,
    fits,
)
from keen_trellis.core.values import ARROW_TYPES, FieldType, as_text

T = FieldType


def text(*values: str | None) -> pa.Array:
    return pa.array(values, pa.large_string())


_DIGITS = st.text("0123456789", min_size=1, max_size=19)
_WRITTEN = (
    st.text("0123456789.+-e ", max_size=8)
    | _DIGITS
    | st.none()
    | st.builds("{}{}.{}".format, st.sampled_from(["", "-"]), _DIGITS, _DIGITS)
    | st.builds("{:04}-{:02}-{:02}".format, st.integers(0, 9999), st.integers(0, 13), st.integers(0, 32))
    | st.builds(
        "{:04}-05-{:02}{}{:02}:{:02}{}".format,
        st.integers(0, 9999),
        st.integers(0, 32),
        st.sampled_from("T _"),
        st.integers(0, 24),
        st.integers(0, 60),
        st.sampled_from(["", ":59", ":60", ":", ":00.5", ":07.123456", ":07.1234567", ":07.12345-"]),
    )
)


class Ways(unittest.TestCase):
    @given(st.lists(_WRITTEN, min_size=1, max_size=6))
    def test_the_quick_way_says_what_the_slow_way_says(self, values):
        array = text(*values)
        for way in (INTEGERS, DECIMALS, ISO_DATES, ISO_TIMESTAMPS):
            quick = way.quickly(array)
            if quick is not None:
                self.assertNotIn(False, fits(array, way).to_pylist(), (way.what, values))
                self.assertEqual(quick.to_pylist(), way.convert(array).to_pylist(), values)

    @given(st.lists(st.decimals(0, 10**9, allow_nan=False, places=3), min_size=1, max_size=8))
    def test_decimals_are_read_as_they_are_written(self, values):
        array = text(*(f"{value.normalize():f}" for value in values))
        made = DECIMALS.quickly(array)
        expected = DECIMALS.convert(array).to_pylist()
        self.assertEqual(expected, values)
        if made is not None:
            self.assertEqual(made.to_pylist(), values)

    @given(st.lists(st.integers(1 - 10**17, 10**17) | st.none(), min_size=1, max_size=8))
    def test_whole_numbers_are_read_the_quick_way(self, values):
        made = INTEGERS.quickly(text(*(None if value is None else str(value) for value in values)))
        self.assertEqual(made.to_pylist() if made is not None else [None] * len(values), values)

    @given(st.lists(st.dates() | st.none(), min_size=1, max_size=8))
    def test_dates_are_read_the_quick_way(self, values):
        made = ISO_DATES.quickly(text(*(None if value is None else str(value) for value in values)))
        self.assertEqual(made.to_pylist() if made is not None else [None] * len(values), values)

    @given(st.lists(st.datetimes() | st.none(), min_size=1, max_size=8), st.booleans())
    def test_moments_are_read_the_quick_way(self, values, whole):
        if whole:
            values = [value and value.replace(microsecond=0) for value in values]
        part = "seconds" if whole else "microseconds"
        made = ISO_TIMESTAMPS.quickly(text(*(value and value.isoformat(" ", part) for value in values)))
        self.assertEqual(made.to_pylist() if made is not None else [None] * len(values), values)

    def test_a_slice_is_read_from_where_it_begins(self):
        array = text("9.9", "1.25", "7.5", "x").slice(1, 2)
        self.assertEqual(DECIMALS.quickly(array).to_pylist(), [Decimal("1.25"), Decimal("7.50")])
        self.assertEqual(INTEGERS.quickly(text("x", "12", "7").slice(1)).to_pylist(), [12, 7])

    def test_each_way_has_at_most_one_twin(self):
        for way in WAYS:
            self.assertLessEqual(sum(way.is_twin_of(other) for other in WAYS), 1)


class Conversions(unittest.TestCase):
    def check(self, values, to, expected, lost, notation=None):
        found = converted(values, to, notation)
        self.assertEqual((found.values.to_pylist(), found.count), (expected, lost))
        self.assertEqual(
            found.lost.tolist(),
            [v is not None and e is None for v, e in zip(values.to_pylist(), expected, strict=True)],
        )

    def test_text_to_numbers(self):
        values = text("7", "1,234.5", "£12.50", "50 %", "x", None)
        expected = [Decimal("7.00"), Decimal("1234.50"), Decimal("12.50"), Decimal("0.50"), None, None]
        self.check(values, T.DECIMAL, expected, 1)
        self.check(values, T.INTEGER, [7, None, None, None, None, None], 4)
        self.check(values, T.REAL, [7.0, 1234.5, 12.5, 0.5, None, None], 1)
        self.check(text("1.234,5", "2"), T.REAL, [1234.5, 2.0], 0, Notation(decimal=","))

    def test_text_to_dates_and_times(self):
        days = text("2026-02-03", "3.2.2026", "2026-02-30")
        self.check(days, T.DATE, [dt.date(2026, 2, 3)] * 2 + [None], 1)
        self.check(text("2/3/2026"), T.DATE, [dt.date(2026, 2, 3)], 0, Notation(dates="month"))
        self.check(text("08:30", "x"), T.TIME, [dt.time(8, 30), None], 1)
        self.check(text("2026-02-03"), T.TIMESTAMP, [dt.datetime(2026, 2, 3)], 0)

    def test_numbers_to_numbers(self):
        reals = pa.array([1.5, 2.0, float("inf"), 1e300, None])
        self.check(reals, T.INTEGER, [None, 2, None, None, None], 3)
        self.check(pa.array([0.1, 2.0]), T.DECIMAL, [Decimal("0.1"), Decimal("2.0")], 0)
        self.check(pa.array([Decimal("1.50"), Decimal("2.00")]), T.INTEGER, [None, 2], 1)
        self.check(pa.array([1, 2]), T.REAL, [1.0, 2.0], 0)

    def test_moments_and_booleans(self):
        moments = pa.array([dt.datetime(2026, 1, 2), dt.datetime(2026, 1, 2, 3)], ARROW_TYPES[T.TIMESTAMP])
        self.check(moments, T.DATE, [dt.date(2026, 1, 2), None], 1)
        self.check(pa.array([0, 1, 2]), T.BOOLEAN, [False, True, None], 1)
        self.check(pa.array([True, None]), T.INTEGER, [1, None], 0)
        self.check(pa.array([True, None]), T.DATE, [None, None], 1)

    def test_decimals_without_room_are_lost_and_never_others(self):
        long, fine = "123456789012345678901234567890", "0.12345678901234567890"
        self.check(text(long, fine), T.DECIMAL, [None, Decimal(fine)], 1)
        self.check(text("9" * 38, "0.5"), T.DECIMAL, [None, Decimal("0.5")], 1)
        self.check(text("1e30", "2.5e-3", "1e40"), T.DECIMAL, [Decimal(10**30), Decimal("0.0025"), None], 1)
        self.check(pa.array([2**53 + 1, 2**53, 2**63 - 1]), T.REAL, [None, 2.0**53, None], 2)

    @given(
        st.lists(
            st.builds(
                "{}{}{}".format,
                st.integers(-(10**30), 10**30),
                st.sampled_from(["", ".5", ".000000000000000000001", ".00"]),
                st.sampled_from(["", "e3", "E-12", "e+25", "e-0", "e200"]),
            ),
            max_size=6,
        )
    )
    def test_a_decimal_is_what_was_written_or_lost(self, written):
        found = converted(text(*written), T.DECIMAL)
        for one, value in zip(written, found.values.to_pylist(), strict=True):
            self.assertIn(value, (None, Decimal(one)))

    @given(st.sampled_from(list(FieldType)), st.lists(st.integers(-5, 5), max_size=5))
    def test_to_text_and_back_loses_nothing(self, kind, values):
        array = converted(pa.array(values, pa.int64()), kind).values
        again = converted(as_text(array), kind)
        self.assertEqual(again.values.to_pylist(), array.to_pylist())
        self.assertEqual(again.count, 0)


if __name__ == "__main__":
    unittest.main()
