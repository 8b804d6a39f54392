import datetime as dt
import unittest
from decimal import Decimal

import pyarrow as pa
from hypothesis import example, given
from hypothesis import strategies as st

from keen_trellis.core.values import as_text, shown_text

_MOMENTS = st.datetimes(dt.datetime(1, 1, 1), dt.datetime(9999, 12, 31))
_NEAR = st.datetimes(dt.datetime(2025, 12, 30), dt.datetime(2026, 1, 3))


class WrittenOut(unittest.TestCase):
    """Whole columns become the text that Python writes of each value."""

    def check(self, values, kind, write):
        expected = [None if value is None else write(value) for value in values]
        array = pa.array(values, kind)
        self.assertEqual(as_text(array).to_pylist(), expected)
        turned = pa.concat_arrays([array, array]).slice(1, len(values))
        self.assertEqual(as_text(turned).to_pylist(), expected[1:] + expected[:1])

    @given(
        st.lists(st.integers(-(10**18), 10**18) | st.integers(-120, 120) | st.none(), min_size=1),
        st.integers(0, 18),
    )
    @example([5, -5, 0, None, -100, 100], 2)
    @example([10**18 - 1, -(10**18 - 1)], 17)
    def test_decimals(self, units, scale):
        values = [None if unit is None else Decimal(unit).scaleb(-scale) for unit in units]
        self.check(values, pa.decimal128(38, scale), lambda value: f"{value:.{scale}f}")

    @given(st.lists(_MOMENTS | _NEAR | st.none(), min_size=1))
    @example([dt.datetime(2026, 2, day) for day in (1, 2, 1, 3)])
    def test_dates(self, values):
        dates = [value and value.date() for value in values]
        self.check(dates, pa.date32(), dt.date.isoformat)

    @given(st.lists(_NEAR | st.none(), min_size=1) | st.lists(_MOMENTS, min_size=1, max_size=3))
    @example([dt.datetime(2026, 2, day, 23, 59, 59) for day in (1, 2, 1, 3)])
    @example([dt.datetime(1, 1, 1), None])
    def test_moments(self, values):
        values = [value and value.replace(microsecond=0) for value in values]
        self.check(values, pa.timestamp("us"), lambda value: value.isoformat(" ", "seconds"))

    def test_for_reading_decimals_have_their_own_places(self):
        places = pa.array(
            [Decimal("41.1304722"), Decimal("41.130472213765001"), None, Decimal(7), Decimal("-0.5")]
        )
        self.assertEqual(
            shown_text(places).to_pylist(), ["41.1304722", "41.130472213765001", None, "7", "-0.5"]
        )
        amounts = pa.array([Decimal("1.50"), Decimal("2.00"), Decimal("100.00")])
        self.assertEqual(shown_text(amounts).to_pylist(), ["1.50", "2.00", "100.00"])


if __name__ == "__main__":
    unittest.main()
