"""Filters that are named once: where they are tied, what they leave, and what they do not reach."""

import datetime as dt
import unittest

import pyarrow as pa

from keen_trellis.core.day import this_day
from keen_trellis.core.errors import TrellisError
from keen_trellis.core.filtering import Comparison
from keen_trellis.core.relative_periods import NAMED, first_and_last
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.flow import edits, shared_filters
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.shared_filters import filter_said, ties, unreached
from keen_trellis.flow.snapshot import Snapshot
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import BlendMeasure, BlendSettings, OtherSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from tests.tables import table

TODAY = this_day()
TABLES = {
    "loans": table(no=["1", "2", "3", "4"], venue=["Pier", "Mill", "Pier", "Hall"]),
    "venues": table(name=["Pier", "Mill", "Hall"], region=["North", "South", "North"]),
    "trips": table(venue=["Pier", "Mill", "Mill"], cost=[10, 20, 30], Region=["North", "South", "South"]),
    "visits": table(venue=["Pier"], day=pa.array([TODAY])),
}


class _Shelf:
    """Snapshots of tables in memory."""

    def get(self, settings: SourceSettings, task: Task) -> Snapshot:
        return Snapshot(TABLES[settings.table], (), f"{settings.table} 1", 0.0)

    def known(self, settings: SourceSettings) -> Snapshot | None:
        return self.get(settings, Task())


class SharedCase(unittest.TestCase):
    def setUp(self):
        self.runner = Runner(KINDS, _Shelf())
        flow = Flow()
        for name in TABLES:
            flow, _ = edits.add_source(flow, SourceSettings("text", f"/{name}.csv", name), name.capitalize())
        joined = JoinSettings(links=(LinkSettings("venue", "name"),), type="left-outer", bring=("region",))
        self.flow, self.knot = edits.add_join(flow, Input("loans"), Input("venues"), joined)

    def shapes(self, flow=None):
        flow = flow or self.flow
        return {step.id: self.runner.shape(flow, Input(step.id)) for step in flow.steps}

    def shared(self, name="region", **changes) -> Flow:
        places = shared_filters.places_for(self.flow, name, self.shapes())
        flow, self.id = shared_filters.add_filter(self.flow, name, places, Comparison.ONE_OF)
        return shared_filters.change_filter(flow, self.id, **changes)

    def rows(self, flow, step):
        return self.runner.result(flow, step).rows

    def cells(self, flow, step, name):
        return self.rows(flow, step).column(name).values.to_pylist()


class Ties(SharedCase):
    def test_it_is_tied_behind_the_first_step_whose_rows_have_the_field(self):
        flow = self.shared()
        tied = ties(flow, self.id)
        self.assertEqual([step.inputs for step in tied], [(Input(self.knot),), (Input("trips"),)])
        self.assertEqual([KINDS.settings(step).of for step in tied], ["region", "Region"])
        self.assertEqual([step.name for step in tied], ["region of Loans with Venues", "region of Trips"])

    def test_a_rail_whose_field_was_joined_is_not_filtered_itself(self):
        flow = self.shared()
        self.assertNotIn(Input("venues"), [step.inputs[0] for step in ties(flow, self.id)])
        # Its rows pass the tie of the rail that joined them.
        self.assertEqual(unreached(flow, flow.filters[0]), ["visits"])

    def test_without_a_value_every_row_stays_and_with_one_fewer(self):
        flow = self.shared()
        loans, trips = (step.id for step in ties(flow, self.id))
        self.assertEqual(self.rows(flow, loans).rows, 4)
        flow = shared_filters.change_filter(flow, self.id, values=("South",))
        self.assertEqual(self.cells(flow, loans, "no"), ["2"])
        self.assertEqual(self.cells(flow, trips, "cost"), [20, 30])
        flow = shared_filters.change_filter(flow, self.id, is_="none-of")
        self.assertEqual(self.rows(flow, trips).rows, 1)

    def test_what_took_the_rows_takes_the_filtered_ones_and_removing_gives_them_back(self):
        measure = BlendMeasure("cost", "sum", "cost")
        blended = BlendSettings(others=(OtherSettings((LinkSettings("venue", "venue"),), (measure,)),))
        before, blend = edits.add_blend(self.flow, Input(self.knot), Input("trips"), blended.others[0])
        self.flow = before
        flow = self.shared(values=("North",))
        self.assertEqual(self.cells(flow, blend, "cost"), [10, 10, None])
        self.assertEqual(shared_filters.remove_filter(flow, self.id), before)

    def test_a_tie_to_a_filter_that_is_gone_says_so(self):
        flow = self.shared()
        tie = ties(flow, self.id)[0].id
        gone = type(flow)(flow.files, flow.steps, flow.extra, ())
        with self.assertRaisesRegex(TrellisError, "shared filter that it is tied to is gone"):
            self.rows(gone, tie)

    def test_a_tie_behind_a_blend_does_not_reach_the_tables_that_were_summed_up(self):
        other = OtherSettings((LinkSettings("venue", "venue"),), (BlendMeasure("cost", "sum", "cost"),))
        flow, blend = edits.add_blend(self.flow, Input(self.knot), Input("trips"), other)
        place = shared_filters.Place("loans", Input(blend), "region", FieldType.TEXT, "venues")
        flow, id_ = shared_filters.add_filter(flow, "region", [place], Comparison.ONE_OF)
        self.assertEqual(unreached(flow, flow.shared_filter(id_)), ["trips", "visits"])

    def test_a_field_of_another_type_is_not_bound(self):
        TABLES["numbers"] = table(region=[1, 2])
        self.addCleanup(TABLES.pop, "numbers")
        self.flow, _ = edits.add_source(self.flow, SourceSettings("text", "/n.csv", "numbers"), "Numbers")
        flow = self.shared()
        self.assertIn("numbers", unreached(flow, flow.filters[0]))

    def test_two_filters_of_one_name_are_told_apart(self):
        flow = self.shared()
        self.flow = flow
        flow = self.shared()
        self.assertEqual(
            [(entry.id, entry.name) for entry in flow.filters],
            [("region", "region"), ("region-2", "region 2")],
        )

    def test_it_is_said_in_words(self):
        for changes, said in (
            ({}, "region is anything"),
            ({"values": ("North",)}, "region is North"),
            ({"values": ("North", "South", "East")}, "region is North or South or 1 more"),
            ({"is_": "blank"}, "region is blank"),
            ({"is_": "between", "values": ("1", "5")}, "region is between 1 and 5"),
            ({"is_": "newer", "values": ("1",)}, "region"),
        ):
            with self.subTest(said=said):
                self.assertEqual(filter_said(self.shared(**changes).filters[0]), said)


class Periods(SharedCase):
    def test_a_period_is_told_from_today(self):
        places = shared_filters.places_for(self.flow, "day", self.shapes())
        flow, id_ = shared_filters.add_filter(self.flow, "day", places, Comparison.PERIOD)
        tie = ties(flow, id_)[0].id
        for period, rows in (
            ("this month", 1),
            ("this year", 1),
            ("last full month", 0),
            ("last 30 days", 0),
        ):
            with self.subTest(period=period):
                changed = shared_filters.change_filter(flow, id_, values=(period,))
                self.assertEqual(self.rows(changed, tie).rows, rows)

    def test_first_and_last_days(self):
        day = dt.date(2026, 3, 31)
        for period, first, last in (
            ("last full month", (2026, 2, 1), (2026, 2, 28)),
            ("this month", (2026, 3, 1), (2026, 3, 31)),
            ("last full quarter", (2025, 10, 1), (2025, 12, 31)),
            ("this quarter", (2026, 1, 1), (2026, 3, 31)),
            ("last full year", (2025, 1, 1), (2025, 12, 31)),
            ("this year", (2026, 1, 1), (2026, 12, 31)),
            ("last 30 days", (2026, 3, 1), (2026, 3, 30)),
            ("Last 1 days", (2026, 3, 30), (2026, 3, 30)),
        ):
            with self.subTest(period=period):
                self.assertEqual(first_and_last(period, day), (dt.date(*first), dt.date(*last)))

    def test_full_periods_lie_before_this_one_without_a_gap(self):
        for name in [name for name in NAMED if "full" in name]:
            this = name.replace("last full", "this")
            for number in range(0, 800, 7):
                day = dt.date(2024, 1, 1) + dt.timedelta(days=number)
                begins = first_and_last(this, day)
                self.assertEqual(first_and_last(name, day)[1] + dt.timedelta(days=1), begins[0])
                self.assertTrue(begins[0] <= day <= begins[1])

    def test_what_is_no_period_is_refused_with_those_there_are(self):
        for text in ("", "last month", "last 0 days", "this week", "full year"):
            with self.subTest(text=text), self.assertRaisesRegex(TrellisError, "last full month"):
                first_and_last(text, TODAY)

    def test_only_dates_are_in_a_period(self):
        flow = self.shared(is_="period", values=("this month",))
        with self.assertRaisesRegex(TrellisError, "is text; only dates"):
            self.rows(flow, ties(flow, self.id)[0].id)


if __name__ == "__main__":
    unittest.main()
