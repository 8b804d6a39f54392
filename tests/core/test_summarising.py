"""Summaries against the slow way, and what may not be lost in them."""

import datetime as dt
import math
import statistics
import unittest
from decimal import Decimal, localcontext

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.joining import FieldChoice
from keen_trellis.core.link import LinkField, Preparation
from keen_trellis.core.matching import match
from keen_trellis.core.measures import Function, Measure
from keen_trellis.core.summarising import Key, SummaryTable
from keen_trellis.core.table import ArrowTable
from tests.tables import joined, rows_of, table

F = Function
_NUMBERS = {
    pa.int64(): st.integers(-(2**61), 2**61) | st.integers(-3, 3),
    pa.decimal128(38, 2): st.decimals(-(10**9), 10**9, places=2)
    | st.decimals(-(10**34), 10**34, places=2, allow_nan=False),
}
_OTHERS = {
    pa.float64(): st.sampled_from([0.5, -1.0, 2.0, float("inf"), -0.0]),
    pa.large_string(): st.sampled_from(["a", "B", "é", "", "ab"]).map(lambda text: text or None),
    pa.date32(): st.dates(dt.date(1800, 1, 1), dt.date(2300, 1, 1)),
}


def summary(data, keys, *measures, **more):
    return SummaryTable(data, [key if isinstance(key, Key) else Key(key) for key in keys], measures, **more)


@st.composite
def grouped_values(draw):
    kind, values = draw(st.sampled_from([*_NUMBERS.items(), *_OTHERS.items()]))
    rows = draw(st.lists(st.tuples(st.sampled_from(["x", "y", None]), values | st.none()), max_size=12))
    data = ArrowTable(
        pa.table(
            {
                "k": pa.array([k for k, _ in rows], pa.large_string()),
                "v": pa.array([v for _, v in rows], kind),
            }
        )
    )
    return data, rows, kind


def expected(function, values, kind):
    """A measure the slow way. values: in row order, with blanks."""
    filled = [value for value in values if value is not None]
    if function is F.COUNT:
        return len(filled)
    if function is F.COUNT_DISTINCT:
        return len(set(filled))
    if not filled:
        return None
    if function is F.SUM:
        with localcontext(prec=60):
            return sum(filled)
    if function is F.MEAN:
        return float(sum(filled)) / len(filled)
    if function is F.MEDIAN:
        if kind in _NUMBERS:
            low, high = statistics.median_low(filled), statistics.median_high(filled)
            with localcontext(prec=60):
                return (Decimal(low) + Decimal(high)) / 2
        return statistics.median(filled) if kind == pa.float64() else statistics.median_low(filled)
    if function is F.LISTING:
        return None
    return {F.LEAST: min(filled), F.GREATEST: max(filled), F.FIRST: filled[0], F.LAST: filled[-1]}[function]


class AgainstTheSlowWay(unittest.TestCase):
    @given(grouped_values())
    def test_each_measure(self, case):
        data, rows, kind = case
        groups = list(dict.fromkeys(key for key, _ in rows))
        for function in F:
            numeric = kind in _NUMBERS or kind == pa.float64()
            if function is F.LISTING or (function in (F.SUM, F.MEAN) and not numeric):
                continue
            found = rows_of(summary(data, ["k"], Measure(function, "v", "m")))
            self.assertEqual([key for key, _ in found], groups)
            for key, value in found:
                wanted = expected(function, [v for k, v in rows if k == key], kind)
                if isinstance(wanted, float) and not math.isinf(wanted) and not math.isnan(wanted):
                    self.assertAlmostEqual(value, wanted, delta=abs(wanted) * 1e-12)
                elif not (isinstance(wanted, float) and math.isnan(wanted) and math.isnan(value)):
                    self.assertEqual(value, wanted, (function, key))


class Summaries(unittest.TestCase):
    DATA = table(
        venue=["Pier", "pier", None, "Mill", "Mill"],
        crates=[1, 2, 3, None, 5],
        cost=pa.array(
            [Decimal("0.10"), Decimal("0.20"), None, Decimal("1.00"), Decimal("1.00")], pa.decimal128(10, 2)
        ),
    )

    def test_groups_show_the_first_raw_value_and_stand_in_order_of_appearance(self):
        key = Key("venue", Preparation(case=True))
        found = summary(self.DATA, [key], Measure(F.COUNT, "", "rows"), Measure(F.LISTING, "crates", "all"))
        self.assertEqual(rows_of(found), [("Pier", 2, "1, 2"), (None, 1, "3"), ("Mill", 2, "5")])
        self.assertEqual([origin.row for origin in found.origins(2)], [4])

    def test_several_keys_and_expressions(self):
        keys = ["venue", Key("crates > 2")]
        found = rows_of(summary(self.DATA, keys, Measure(F.SUM, "cost * 2", "twice")))
        self.assertEqual(found[0], ("Pier", False, Decimal("0.20")))
        self.assertEqual(len(found), 5)

    def test_without_keys_all_rows_are_one_group(self):
        self.assertEqual(rows_of(summary(self.DATA, [], Measure(F.SUM, "crates", "s"))), [(11,)])
        empty = table(n=pa.array([], pa.int64()))
        self.assertEqual(rows_of(summary(empty, [], Measure(F.COUNT, "", "rows"))), [(0,)])

    def test_decimals_are_summed_exactly(self):
        many = table(d=pa.array([Decimal("0.1")] * 1_000, pa.decimal128(3, 1)))
        self.assertEqual(rows_of(summary(many, [], Measure(F.SUM, "d", "s"))), [(Decimal("100.0"),)])

    def test_overflow_is_an_error_and_not_a_wrap(self):
        large = table(n=[2**63 - 1, 1])
        with self.assertRaisesRegex(DataError, "total: a sum does not fit into 64 bits"):
            summary(large, [], Measure(F.SUM, "n", "total"))
        self.assertEqual(rows_of(summary(large, [], Measure(F.MEAN, "n", "m"))), [(float(2**62),)])
        wide = table(d=pa.array([Decimal("9" * 38)] * 2, pa.decimal128(38, 0)))
        with self.assertRaisesRegex(DataError, "38 digits"):
            summary(wide, [], Measure(F.SUM, "d", "total"))
        back = table(n=[2**63 - 1, 1, -1])
        self.assertEqual(rows_of(summary(back, [], Measure(F.SUM, "n", "total"))), [(2**63 - 1,)])

    def test_a_sum_of_no_rows_has_the_type_of_its_field(self):
        source = ArrowTable(pa.table({"v": pa.array([], pa.float64())}))
        made = SummaryTable(source, [], [Measure(Function.SUM, "v", "sum")])
        self.assertEqual(made.column("sum").values, pa.array([None], pa.float64()))

    def test_a_measure_is_without_partner_only_if_all_its_rows_are(self):
        left, right = table(k=[1, 2, 3], g=["a", "a", "b"]), table(k=[1], v=[7])
        links = [LinkField("k", "k")]
        rows = joined(left, right, match(left, right, links), links, JoinType.LEFT_OUTER, FieldChoice())
        found = summary(rows, ["g"], Measure(F.SUM, "v", "s"), Measure(F.COUNT, "v", "n"))
        sums, counts = found.take(None, ["s", "n"])
        self.assertEqual((sums.values.to_pylist(), sums.absent.tolist()), ([7, None], [False, True]))
        self.assertEqual((counts.values.to_pylist(), counts.absent.tolist()), ([1, None], [False, True]))
        self.assertEqual(found.no_partner, {"s": 2, "n": 2})

    def test_what_cannot_be_measured(self):
        for measure, error, said in (
            (Measure(F.SUM, "venue", "s"), DataError, "sum needs numbers, and venue is text"),
            (Measure(F.SUM, "", "s"), UsageError, "needs something to work on"),
            (Measure(F.LEAST, "vneue", "s"), UsageError, "no field “vneue”"),
        ):
            with self.assertRaisesRegex(error, said):
                summary(self.DATA, ["venue"], measure)

    def test_a_page_is_what_the_whole_is(self):
        data = table(k=np.arange(50) % 7, v=np.arange(50))
        found = summary(data, ["k"], Measure(F.SUM, "v", "s"))
        page = found.take(range(2, 5), ["s", "k"])
        self.assertEqual(
            [cells.values.to_pylist() for cells in page],
            [[row[i] for row in rows_of(found)[2:5]] for i in (1, 0)],
        )


if __name__ == "__main__":
    unittest.main()
