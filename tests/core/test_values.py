import datetime as dt
import unittest
from decimal import Context, Decimal

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.values import (
    FieldType,
    as_text,
    common_exact_type,
    comparable,
    held_as,
    shortest_number,
)


class AsText(unittest.TestCase):
    def check(self, values, kind, expected):
        self.assertEqual(as_text(pa.array(values, kind)).to_pylist(), expected)

    def test_numbers_are_written_in_their_shortest_form(self):
        self.check([7.0, -0.0, 1.5, None, 0.1], pa.float64(), ["7", "0", "1.5", None, "0.1"])
        self.check([7, None], pa.int64(), ["7", None])

    def test_decimals_keep_their_scale_and_have_no_exponent(self):
        self.check([Decimal("1.50"), Decimal("0.00")], pa.decimal128(9, 2), ["1.50", "0.00"])
        small = [Decimal("0.00000001"), Decimal("-0.00000020"), Decimal("1234.5"), None, Decimal(0)]
        texts = ["0.00000001", "-0.00000020", "1234.50000000", None, "0.00000000"]
        self.check(small, pa.decimal128(12, 8), texts)
        self.assertEqual(as_text(pa.array(small, pa.decimal128(12, 8)).slice(1, 2)).to_pylist(), texts[1:3])

    def test_moments_are_iso_without_empty_fractions(self):
        self.check([dt.date(1850, 3, 1)], pa.date32(), ["1850-03-01"])
        moments = [dt.datetime(2026, 1, 2, 3, 4, 5), dt.datetime(2026, 1, 2, 0, 0, 0, 250_000)]
        self.check(moments, pa.timestamp("us"), ["2026-01-02 03:04:05", "2026-01-02 00:00:00.250000"])
        self.check([dt.time(9, 30)], pa.time64("us"), ["09:30:00"])

    def test_booleans(self):
        self.check([True, False, None], pa.bool_(), ["true", "false", None])

    def test_single_numbers(self):
        texts = [shortest_number(value) for value in (7.0, 1.25, 3, Decimal("1E-8"), 1e20)]
        self.assertEqual(texts, ["7", "1.25", "3", "0.00000001", "1e+20"])


class Types(unittest.TestCase):
    def test_what_can_be_equal(self):
        self.assertTrue(comparable(FieldType.INTEGER, FieldType.DECIMAL))
        self.assertTrue(comparable(FieldType.DATE, FieldType.TIMESTAMP))
        self.assertFalse(comparable(FieldType.TEXT, FieldType.INTEGER))
        self.assertFalse(comparable(FieldType.BOOLEAN, FieldType.INTEGER))

    def test_common_exact_types(self):
        self.assertEqual(common_exact_type(pa.date32(), pa.timestamp("us")), pa.timestamp("us"))
        self.assertEqual(common_exact_type(pa.int64(), pa.decimal128(5, 2)), pa.decimal128(21, 2))
        self.assertIsNone(common_exact_type(pa.int64(), pa.float64()))
        self.assertIsNone(common_exact_type(pa.decimal128(38, 0), pa.decimal128(38, 10)))


class HeldAs(unittest.TestCase):
    @given(
        st.lists(st.integers(-(10**38) + 1, 10**38 - 1), min_size=1, max_size=4),
        st.integers(0, 38),
        st.integers(0, 38),
    )
    def test_decimals_keep_their_value_or_are_refused(self, units, scale, to_scale):
        # As large as they come: Arrow's own cast keeps the low bits of what has no room.
        made = pa.array(
            [Decimal(unit).scaleb(-scale, Context(prec=76)) for unit in units], pa.decimal128(38, scale)
        )
        try:
            found = held_as(made, pa.decimal128(38, to_scale)).to_pylist()
        except pa.ArrowInvalid:
            return
        self.assertEqual(found, made.to_pylist())

    def test_what_arrow_would_wrap_round_is_refused(self):
        value = pa.array([Decimal("9652789902.5")], pa.decimal128(38, 1))
        with self.assertRaises(pa.ArrowInvalid):
            held_as(value, pa.decimal128(38, 33))
        self.assertEqual(
            held_as(pa.array([None, None], pa.large_string()), pa.date32()), pa.nulls(2, pa.date32())
        )


if __name__ == "__main__":
    unittest.main()
