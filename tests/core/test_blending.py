"""Blends: groups of other tables around a main one, and shares that add up to the last cent."""

import datetime as dt
import sqlite3
import unittest
from decimal import Decimal

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.blending import Keep, Other, Placed, Stands, blend, blend_fields
from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.link import LinkField, Operator, Preparation
from keen_trellis.core.measures import Function, Measure
from keen_trellis.core.table import ArrowTable
from tests.tables import rows_of, table

LOANS = table(
    venue=["Pier", "Pier", "Mill", "Hall", None],
    out=[
        dt.date(2026, 1, 5),
        dt.date(2026, 1, 9),
        dt.date(2026, 1, 7),
        dt.date(2026, 2, 1),
        dt.date(2026, 1, 1),
    ],
    value=[100, 200, 0, 50, 1],
)
TRIPS = table(
    place=["pier", "PIER", "mill", "Quay"],
    cost=pa.array(
        [Decimal("10.00"), Decimal("0.01"), Decimal("5.00"), Decimal("7.00")], pa.decimal128(10, 2)
    ),
)
VISITORS = table(venue=["Pier", "Pier", "Hall", "Quay"], month=[1, 2, 2, 3], visitors=[40, 50, 60, 70])
CASE = Preparation(case=True)
BY_PLACE = (LinkField("venue", "place", CASE),)


def trips(*measures, where=""):
    return Other("Trips", BY_PLACE, measures, where)


def cost(stands=Stands.EVERY, by=""):
    return Placed(Measure(Function.SUM, "cost", "total"), stands, by)


def column(found, name):
    cells = found.table.column(name)
    absent = np.zeros(found.table.rows, bool) if cells.absent is None else cells.absent
    values = cells.values.to_pylist()
    return ["none" if gone else value for value, gone in zip(values, absent, strict=True)]


class Blends(unittest.TestCase):
    def test_each_row_has_its_groups_measure_and_no_group_is_no_partner(self):
        count = Placed(Measure(Function.COUNT, "", "trips"))
        found = blend(LOANS, [TRIPS], [trips(cost(), count)], Keep.EVERY)
        self.assertEqual(found.table.names, ("venue", "out", "value", "total", "trips"))
        pier = Decimal("10.01")
        self.assertEqual(column(found, "total"), [pier, pier, Decimal("5.00"), "none", "none"])
        self.assertEqual(column(found, "trips"), [2, 2, 1, 0, 0])
        other = found.others[0]
        self.assertEqual((other.summary.rows, other.used.tolist()), (3, [True, True, False]))
        self.assertEqual(rows_of(other.unused), [("Quay", Decimal("7.00"), 1)])

    def test_where_belongs_to_the_other_table_before_the_blend(self):
        found = blend(LOANS, [TRIPS], [trips(cost(), where="cost > 6")], Keep.EVERY)
        self.assertEqual(column(found, "total"), [Decimal("10.00")] * 2 + ["none"] * 3)
        self.assertEqual(found.others[0].left_out, 2)
        empty = blend(LOANS, [TRIPS], [trips(cost(), where="cost > 99")], Keep.EVERY)
        self.assertEqual((empty.table.rows, column(empty, "total")), (5, ["none"] * 5))

    def test_expressions_link_tables_of_other_grain(self):
        links = (
            LinkField("venue", "venue"),
            LinkField("EXTRACT(MONTH FROM out)", "month", left_is_expression=True),
        )
        other = Other("Visitors", links, (Placed(Measure(Function.SUM, "visitors", "visitors")),))
        found = blend(LOANS, [VISITORS], [other], Keep.EVERY)
        self.assertEqual(column(found, "visitors"), [40, 40, "none", 60, "none"])
        two = blend(LOANS, [VISITORS, TRIPS], [other, trips(cost())], Keep.FOUND)
        self.assertEqual(column(two, "venue"), ["Pier", "Pier", "Mill", "Hall"])
        self.assertEqual(column(two, "total"), [Decimal("10.01")] * 2 + [Decimal("5.00"), "none"])
        self.assertEqual([origin.row for origin in two.table.origins(3)], [4])
        groups = blend(LOANS, [VISITORS, TRIPS], [other, trips(cost())], Keep.GROUPS)
        self.assertEqual(groups.table.names, ("venue", "EXTRACT(MONTH FROM out)", "visitors", "total"))
        self.assertEqual(rows_of(groups.table)[0], ("Pier", 1, 40, Decimal("10.01")))
        self.assertEqual(groups.table.rows, 4)

    def test_groups_that_only_others_have_stand_below_and_once(self):
        visitors = Other(
            "Visitors",
            (LinkField("venue", "venue", CASE),),
            (Placed(Measure(Function.SUM, "visitors", "v")),),
        )
        found = blend(LOANS, [TRIPS, VISITORS], [trips(cost()), visitors], Keep.ALL_GROUPS)
        self.assertEqual(column(found, "venue"), ["Pier", "Mill", "Hall", None, "Quay"])
        self.assertEqual(
            column(found, "total"), [Decimal("10.01"), Decimal("5.00"), "none", "none", Decimal("7.00")]
        )
        self.assertEqual(column(found, "v"), [90, "none", 60, "none", 70])
        fields = blend_fields(
            LOANS.fields, [TRIPS.fields, VISITORS.fields], [trips(cost()), visitors], Keep.ALL_GROUPS
        )
        self.assertEqual(fields, found.table.fields)

    def test_a_measure_on_the_first_row_of_its_group_only(self):
        found = blend(LOANS, [TRIPS], [trips(cost(Stands.FIRST))], Keep.EVERY)
        self.assertEqual(column(found, "total"), [Decimal("10.01"), None, Decimal("5.00"), "none", "none"])

    def test_shares_add_up_to_the_last_cent(self):
        found = blend(LOANS, [TRIPS], [trips(cost(Stands.SPREAD))], Keep.EVERY)
        self.assertEqual(column(found, "total")[:3], [Decimal("5.01"), Decimal("5.00"), Decimal("5.00")])
        three = table(venue=["Pier"] * 3, value=[1, 1, 4])
        found = blend(three, [TRIPS], [trips(cost(Stands.SPREAD, "value"))], Keep.EVERY)
        self.assertEqual(column(found, "total"), [Decimal("1.67"), Decimal("1.67"), Decimal("6.67")])

    def test_what_cannot_be_blended(self):
        cases = (
            (DataError, "all shares are zero", LOANS, trips(cost(Stands.SPREAD, "value")), Keep.EVERY),
            (DataError, "below zero", LOANS, trips(cost(Stands.SPREAD, "-value")), Keep.EVERY),
            (
                DataError,
                "only whole numbers and decimals",
                LOANS,
                trips(Placed(Measure(Function.MEAN, "cost", "m"), Stands.SPREAD)),
                Keep.EVERY,
            ),
            (
                UsageError,
                "two fields “value”",
                LOANS,
                trips(Placed(Measure(Function.SUM, "cost", "value"))),
                Keep.EVERY,
            ),
            (UsageError, "need not be spread", LOANS, trips(cost(Stands.FIRST)), Keep.GROUPS),
            (
                UsageError,
                "two fields “place”",
                LOANS,
                trips(Placed(Measure(Function.SUM, "cost", "place"))),
                Keep.EVERY,
            ),
            (
                UsageError,
                "two fields “venue”",
                LOANS,
                trips(Placed(Measure(Function.SUM, "cost", "venue"))),
                Keep.GROUPS,
            ),
            (UsageError, "not a condition", LOANS, trips(cost(), where="cost + 1"), Keep.EVERY),
            (UsageError, "no field “price”", LOANS, trips(cost(), where="price > 1"), Keep.EVERY),
            (
                UsageError,
                "links with =",
                LOANS,
                Other("Trips", (LinkField("venue", "place", operator=Operator.LESS),), (cost(),)),
                Keep.EVERY,
            ),
            (
                DataError,
                "never be equal",
                LOANS,
                Other("Trips", (LinkField("value", "place"),), (cost(),)),
                Keep.EVERY,
            ),
        )
        for error, said, main, other, keep in cases:
            with self.subTest(said), self.assertRaisesRegex(error, said):
                blend(main, [TRIPS], [other], keep)
        with self.assertRaisesRegex(UsageError, "no other table"):
            blend(LOANS, [], [], Keep.EVERY)

    @given(
        st.lists(st.tuples(st.sampled_from("ab"), st.integers(0, 10**9)), min_size=1, max_size=12),
        st.dictionaries(st.sampled_from("ab"), st.integers(-(10**17), 10**17), min_size=1),
        st.booleans(),
    )
    def test_shares_of_a_group_are_its_total(self, rows, totals, weighted):
        weights = {key: sum(w for k, w in rows if k == key) for key in "ab"}
        if weighted and any(k in totals and weights[k] == 0 for k, _ in rows):
            return
        main = table(k=[k for k, _ in rows], w=[w for _, w in rows])
        kind = pa.decimal128(20, 2)
        units = pa.array(list(totals.values()), pa.int64()).cast(pa.decimal128(19, 0))
        cents = pa.Array.from_buffers(kind, len(units), units.buffers())
        other = ArrowTable(pa.table({"k": pa.array(list(totals), pa.large_string()), "t": cents}))
        placed = Placed(Measure(Function.SUM, "t", "share"), Stands.SPREAD, "w" if weighted else "")
        found = blend(main, [other], [Other("O", (LinkField("k", "k"),), (placed,))], Keep.EVERY)
        shares = column(found, "share")
        for key, total in totals.items():
            of_key = [(share, w) for share, (k, w) in zip(shares, rows, strict=True) if k == key]
            if not of_key:
                continue
            self.assertEqual(sum(share for share, _ in of_key), Decimal(total) / 100)
            for share, w in of_key:
                exact = Decimal(total) * w / weights[key] if weighted else Decimal(total) / len(of_key)
                self.assertLess(abs(share * 100 - exact), 1)


OWN = (
    Placed(Measure(Function.SUM, "value", "of loans")),
    Placed(Measure(Function.COUNT, "", "loans")),
)


class OwnMeasures(unittest.TestCase):
    """The main table is measured, too, within its groups."""

    def test_a_sum_stands_on_each_row_of_its_group_and_blanks_are_one(self):
        found = blend(LOANS, [TRIPS], [trips(cost())], Keep.EVERY, own=OWN)
        self.assertEqual(found.table.names, ("venue", "out", "value", "of loans", "loans", "total"))
        self.assertEqual(column(found, "of loans"), [300, 300, 0, 50, 1])
        self.assertEqual(column(found, "loans"), [2, 2, 1, 1, 1])
        self.assertEqual(found.own_times, 5 / 4)

    def test_it_stands_once_where_that_is_asked(self):
        once = (Placed(OWN[0].measure, Stands.FIRST),)
        found = blend(LOANS, [TRIPS], [trips(cost())], Keep.EVERY, own=once)
        self.assertEqual(column(found, "of loans"), [300, None, 0, 50, 1])

    def test_rows_that_found_nothing_are_counted_before_they_are_left_out(self):
        found = blend(LOANS, [TRIPS], [trips(cost(), where="cost > 6")], Keep.FOUND, own=OWN)
        self.assertEqual(column(found, "of loans"), [300, 300])

    def test_one_row_a_group_has_the_groups_measures(self):
        found = blend(LOANS, [TRIPS], [trips(cost())], Keep.GROUPS, own=OWN)
        self.assertEqual(found.table.names, ("venue", "of loans", "loans", "total"))
        self.assertEqual(
            rows_of(found.table)[:2], [("Pier", 300, 2, Decimal("10.01")), ("Mill", 0, 1, Decimal("5.00"))]
        )

    def test_a_group_that_only_others_have_is_without_partner_and_counts_nothing(self):
        found = blend(LOANS, [TRIPS], [trips(cost())], Keep.ALL_GROUPS, own=OWN)
        self.assertEqual(column(found, "venue"), ["Pier", "Mill", "Hall", None, "Quay"])
        self.assertEqual(column(found, "of loans"), [300, 0, 50, 1, "none"])
        self.assertEqual(column(found, "loans"), [2, 1, 1, 1, 0])

    def test_its_fields_are_known_without_rows(self):
        for keep in Keep:
            fields = blend_fields(LOANS.fields, [TRIPS.fields], [trips(cost())], keep, OWN)
            found = blend(LOANS, [TRIPS], [trips(cost())], keep, own=OWN)
            self.assertEqual([field.name for field in fields], list(found.table.names))
            self.assertEqual([f.type for f in fields], [f.type for f in found.table.fields])

    def test_it_says_what_it_was_read_from(self):
        found = blend(LOANS, [TRIPS], [trips(cost())], Keep.EVERY, own=OWN)
        self.assertEqual(found.table.read_from("of loans"), [(found.table.own, "of loans")])
        self.assertEqual(found.table.own.read_from("of loans"), [(LOANS, "value")])

    def test_what_cannot_be_is_refused(self):
        spread = (Placed(OWN[0].measure, Stands.SPREAD),)
        for own, keep, said in (
            (spread, Keep.EVERY, "each row gets its share back"),
            ((Placed(OWN[0].measure, Stands.FIRST),), Keep.GROUPS, "need not be spread"),
            ((Placed(Measure(Function.SUM, "value", "total")),), Keep.EVERY, "two fields “total”"),
            ((Placed(Measure(Function.SUM, "venue", "x")),), Keep.EVERY, "venue"),
        ):
            with self.assertRaisesRegex((UsageError, DataError), said):
                blend(LOANS, [TRIPS], [trips(cost())], keep, own=own)

    @given(
        st.lists(
            st.tuples(st.sampled_from(["a", "b", None]), st.sampled_from([1, 2, None]), st.integers(-9, 9))
        ),
        st.lists(st.tuples(st.sampled_from(["a", "c", None]), st.sampled_from([1, 2, None]))),
        st.sampled_from(list(Keep)),
    )
    def test_as_sqlite_has_it(self, main, other, keep):
        types = (pa.large_string(), pa.int64(), pa.int64())

        def made(rows, names):
            columns = list(zip(*rows, strict=True)) or [()] * len(names)
            return ArrowTable(
                pa.table({n: pa.array(c, t) for n, c, t in zip(names, columns, types, strict=False)})
            )

        here, there = made(main, "kmv"), made(other, "km")
        links = (LinkField("k", "k"), LinkField("m", "m"))
        linked = Other("Other", links, (Placed(Measure(Function.COUNT, "", "others")),))
        own = (Placed(Measure(Function.SUM, "v", "total")), Placed(Measure(Function.COUNT, "", "rows")))
        found = blend(here, [there], [linked], keep, own=own)
        base = sqlite3.connect(":memory:")
        self.addCleanup(base.close)
        base.execute("CREATE TABLE main (k, m, v)")
        base.executemany("INSERT INTO main VALUES (?, ?, ?)", main)
        sums = {
            (k, m): (total, rows)
            for k, m, total, rows in base.execute("SELECT k, m, SUM(v), COUNT(*) FROM main GROUP BY k, m")
        }
        names = found.table.names
        for number, row in enumerate(rows_of(found.table)):
            told = dict(zip(names, row, strict=True))
            # Groups that only others have stand below; one with a blank in its key meets no other.
            theirs = keep is Keep.ALL_GROUPS and number >= len(sums)
            wanted = (None, 0) if theirs else sums[told["k"], told["m"]]
            self.assertEqual((told["total"], told["rows"]), wanted)


if __name__ == "__main__":
    unittest.main()
