"""How values spread: every row is in one bar, bounds are exact, several series share one scale."""

import datetime as dt
import unittest
from decimal import Decimal

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.insight.distribution import MOST_RANGES, MOST_VALUES, distribution
from keen_trellis.core.table import Cells


def of(*columns, kind=None):
    if kind is None and any(isinstance(value, str) for column in columns for value in column):
        kind = pa.large_string()
    return distribution("f", [(f"s{n}", Cells(pa.array(column, kind))) for n, column in enumerate(columns)])


_KINDS = {
    "integers": (st.integers(-(10**17), 10**17), pa.int64()),
    "small": (st.integers(-30, 30), pa.int64()),
    "reals": (st.floats(allow_nan=False, allow_infinity=False, width=32), pa.float64()),
    "decimals": (st.decimals(-9999, 9999, places=2), pa.decimal128(12, 2)),
    "dates": (st.dates(dt.date(1, 1, 1), dt.date(9990, 1, 1)), pa.date32()),
    "near": (st.dates(dt.date(2026, 1, 1), dt.date(2026, 3, 1)), pa.date32()),
    "moments": (st.datetimes(dt.datetime(1900, 1, 1), dt.datetime(2200, 1, 1)), pa.timestamp("us")),
    "texts": (st.sampled_from([*"abcdefghijklmnopqrst", "", "é"]), pa.large_string()),
}


class Spreading(unittest.TestCase):
    @given(st.data(), st.sampled_from(sorted(_KINDS)))
    def test_every_row_is_counted_once_and_where_it_belongs(self, data, name):
        values, kind = _KINDS[name]
        columns = [data.draw(st.lists(st.one_of(st.none(), values), max_size=60)) for _ in range(2)]
        found = of(*columns, kind=kind)
        self.assertEqual(found.rows, tuple(map(len, columns)))
        self.assertEqual(found.blanks, tuple(column.count(None) for column in columns))
        self.assertLessEqual(len(found.bars), MOST_RANGES + 1 if found.ordered else MOST_VALUES)
        held = pa.array(columns[0], kind).to_pylist()
        for bar in found.bars:
            if found.ordered:
                low, high = bar.low, bar.high
                if name == "moments":
                    low, high = (dt.datetime.combine(edge, dt.time()) for edge in (low, high))
                mine = sum(value is not None and low <= value < high for value in held)
                self.assertEqual(bar.counts[0], mine, bar)
            elif name == "texts":
                self.assertEqual(bar.counts[0], columns[0].count(bar.text))
        if found.ordered:
            for one, other in zip(found.bars, found.bars[1:], strict=False):
                self.assertEqual(one.high, other.low)
            self.assertEqual(len({bar.said for bar in found.bars}), len(found.bars))

    def test_ranges_begin_at_round_numbers(self):
        found = of(list(range(7, 480)))
        self.assertEqual((found.bars[0].said, found.bars[-1].said), ("0 to 20", "460 to 480"))
        cents = of([Decimal(n) / 100 for n in range(5, 130)], kind=pa.decimal128(8, 2))
        self.assertEqual(cents.bars[0].said, "0 to 0.1")
        self.assertEqual(cents.bars[1].counts, (10,))  # 0.10 to 0.19, exactly

    def test_dates_are_shown_by_days_months_or_years(self):
        day = dt.date(2026, 1, 5)
        for span, first in (
            (20, "2026-01-05"),
            (300, "2026-01"),
            (6000, "2026"),
            (100, "2026-01-05 to 2026-01-11"),
        ):
            found = of([day + dt.timedelta(n) for n in range(span)])
            self.assertEqual(found.bars[0].said, first)

    def test_few_values_stand_by_themselves_in_their_order(self):
        found = of([10, 2, 2, 9, None])
        self.assertEqual(
            [(bar.said, bar.counts) for bar in found.bars], [("2", (2,)), ("9", (1,)), ("10", (1,))]
        )
        texts = of(["b", "b", "a", None])
        self.assertEqual([bar.said for bar in texts.bars], ["b", "a"])

    def test_what_only_one_side_has_often_is_seen_too(self):
        left, right = [f"l{n % 30}" for n in range(300)], ["only here"] * 5
        found = of(left, right)
        self.assertIn(("only here", (0, 5)), [(bar.said, bar.counts) for bar in found.bars])
        self.assertEqual(sum(counts[0] for _, counts in found.lines()), 300)

    def test_sides_of_other_types_are_shown_as_texts(self):
        found = distribution(
            "f", [("a", Cells(pa.array([1, 2]))), ("b", Cells(pa.array(["2", "3"], pa.large_string())))]
        )
        self.assertEqual(
            {bar.said: bar.counts for bar in found.bars}, {"1": (1, 0), "2": (1, 1), "3": (0, 1)}
        )

    def test_many_texts_can_be_shown_in_ranges(self):
        left, right = [f"k{n:03d}" for n in range(300)], [f"k{n:03d}" for n in range(150, 450)] * 2
        series = [
            (name, Cells(pa.array(side, pa.large_string()))) for name, side in (("l", left), ("r", right))
        ]
        found = distribution("f", series, in_ranges=True)
        self.assertEqual((found.rows, found.ordered), ((300, 600), True))
        self.assertEqual(found.bars[0].counts[1], 0)  # where they do not meet
        self.assertEqual(found.bars[-1].counts[0], 0)
        for bar in found.bars:
            mine = sum(bar.low <= text and (bar.high is None or text < bar.high) for text in left)
            self.assertEqual(bar.counts[0], mine)

    def test_nothing_and_blank_throughout_and_what_is_not_finite(self):
        self.assertEqual(of([], kind=pa.int64()).bars, ())
        self.assertEqual(of([None, None], kind=pa.int64()).blanks, (2,))
        odd = of([float("nan"), float("inf"), *map(float, range(20))])
        self.assertEqual(odd.rows, (22,))


if __name__ == "__main__":
    unittest.main()
