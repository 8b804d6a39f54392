import datetime as dt
import unittest
from collections import Counter
from decimal import Decimal

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.insight.summary import Share, summary
from keen_trellis.core.table import ArrowTable
from tests.tables import table


class Summaries(unittest.TestCase):
    def test_text(self):
        found = summary(table(code=["LCM.00512", "LCM.00007", None, "lcm.00512", "LCM.00512"]), "code")
        self.assertEqual((found.rows, found.blanks, found.distinct, found.filled), (5, 1, 3, 4))
        self.assertEqual((found.least, found.greatest), ("LCM.00007", "lcm.00512"))
        self.assertEqual(found.commonest, (Share("LCM.00512", 2),))
        self.assertEqual(found.patterns, (Share("AAA.99999", 3), Share("aaa.99999", 1)))

    def test_long_runs_are_one_pattern(self):
        found = summary(table(name=["Ebbrick House", "Tidewell Inn", "Ó 1234567"]), "name")
        self.assertIn(Share("A 9+", 1), found.patterns)
        self.assertIn(Share("Aa+ Aaaaa", 1), summary(table(name=["Ebbrick House"]), "name").patterns)

    def test_numbers_dates_and_decimals(self):
        day = dt.date(2026, 2, 3)
        found = summary(table(day=[day, None, day]), "day")
        self.assertEqual((found.least, found.greatest, found.distinct), ("2026-02-03", "2026-02-03", 1))
        found = summary(table(cost=[Decimal("1.50"), Decimal("-2.25")]), "cost")
        self.assertEqual((found.least, found.greatest, found.is_unique), ("-2.25", "1.50", True))
        self.assertEqual(summary(table(n=[3, 10, 2]), "n").greatest, "10")

    def test_times_and_not_a_number(self):
        found = summary(table(at=[dt.time(9, 30), dt.time(7)]), "at")
        self.assertEqual((found.least, found.greatest), ("07:00:00", "09:30:00"))
        found = summary(table(n=[float("nan"), 1.5, 7.0]), "n")
        self.assertEqual((found.least, found.greatest, found.distinct), ("1.5", "7", 3))

    def test_nothing(self):
        found = summary(ArrowTable(pa.table({"x": pa.array([None, None], pa.large_string())})), "x")
        self.assertEqual((found.rows, found.blanks, found.distinct, found.least), (2, 2, 0, ""))
        self.assertEqual(summary(ArrowTable(pa.table({"x": pa.array([], pa.int64())})), "x").is_unique, False)

    @given(st.lists(st.one_of(st.none(), st.integers(-5, 5)), min_size=1, max_size=40))
    def test_counts_are_those_of_a_slow_count(self, values):
        found = summary(ArrowTable(pa.table({"n": pa.array(values, pa.int64())})), "n")
        filled = Counter(value for value in values if value is not None)
        self.assertEqual((found.distinct, found.blanks), (len(filled), values.count(None)))
        self.assertEqual(
            [share.rows for share in found.commonest],
            sorted((c for c in filled.values() if c > 1), reverse=True)[:5],
        )
        if filled:
            self.assertEqual((found.least, found.greatest), (str(min(filled)), str(max(filled))))


if __name__ == "__main__":
    unittest.main()
