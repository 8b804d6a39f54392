"""CURRENT_DATE is the day of the run, everywhere and on every thread."""

import datetime as dt
import unittest
from unittest import mock

from keen_trellis.core import day
from keen_trellis.core.parallel import each, side_by_side
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.snapshot import Snapshot
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import BlendMeasure, BlendSettings, OtherSettings
from keen_trellis.flow.steps.compute import ComputeKind, ComputeSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterKind, FilterSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.output import OutputSettings
from tests.tables import rows_of, table

MONDAY, TUESDAY = dt.date(2026, 3, 2), dt.date(2026, 3, 3)


class _Shelf:
    def get(self, settings, task):
        tables = {
            "loans": table(no=["1", "2"], on=[MONDAY, TUESDAY]),
            "days": table(day=[MONDAY, TUESDAY], name=["Monday", "Tuesday"]),
        }
        self.known = getattr(self, "known", {})
        return self.known.setdefault(settings, Snapshot(tables[settings.table], (), settings.table, 0.0))


class OfARun(unittest.TestCase):
    def setUp(self):
        self.runner = Runner(KINDS, _Shelf())
        self.flow, _ = edits.add_source(Flow(), SourceSettings("text", "/l", "loans"), "Loans")
        self.flow, _ = edits.add_source(self.flow, SourceSettings("text", "/d", "days"), "Days")

    def rows(self, step, day):
        self.runner.day = day
        return rows_of(self.runner.result(self.flow, step).rows)

    def test_a_link_by_the_day_is_matched_anew_on_another_day(self):
        link = LinkSettings("CURRENT_DATE", "day", left_is_expression=True)
        settings = JoinSettings(links=(link,), type="inner", bring=("name",))
        self.flow, knot = edits.add_join(self.flow, Input("loans"), Input("days"), settings)
        self.assertEqual({row[-1] for row in self.rows(knot, MONDAY)}, {"Monday"})
        self.assertEqual({row[-1] for row in self.rows(knot, TUESDAY)}, {"Tuesday"})
        self.assertEqual({row[-1] for row in self.rows(knot, MONDAY)}, {"Monday"})

    def test_blends_filters_and_fields_are_of_the_day(self):
        other = OtherSettings(
            links=(LinkSettings("on", "day"),),
            measures=(BlendMeasure("found", "count"),),
            where="day = CURRENT_DATE",
        )
        blended, blend = edits.add_blend(self.flow, Input("loans"), Input("days"), other)
        period = ConditionSettings("on", "period", ("last 1 days",))
        filtered, kept = edits.insert_after(
            self.flow, Input("loans"), FilterKind.name, FilterSettings(conditions=(period,))
        )
        field = ComputeSettings(field="today", expression="CURRENT_DATE")
        computed, made = edits.insert_after(self.flow, Input("loans"), ComputeKind.name, field)
        self.assertIsInstance(KINDS.settings(blended.step(blend)), BlendSettings)
        for today, counts, yesterday in ((MONDAY, [1, 0], []), (TUESDAY, [0, 1], ["1"])):
            self.flow = blended
            self.assertEqual([row[-1] for row in self.rows(blend, today)], counts)
            self.flow = filtered
            self.assertEqual([row[0] for row in self.rows(kept, today)], yesterday)
            self.flow = computed
            self.assertEqual({row[-1] for row in self.rows(made, today)}, {today})

    def test_a_run_over_midnight_has_one_day(self):
        last = "loans"
        for name in ("first", "second"):
            field = ComputeSettings(field=name, expression="CURRENT_DATE")
            self.flow, last = edits.insert_after(self.flow, Input(last), ComputeKind.name, field)
        self.flow, output = edits.add_output(self.flow, Input(last), OutputSettings("text", "/o.csv"))
        days = iter([TUESDAY, TUESDAY + dt.timedelta(1), TUESDAY + dt.timedelta(2)])
        self.runner.day = MONDAY
        with mock.patch.object(day, "this_day", lambda: next(days)):
            rows = rows_of(self.runner.result(self.flow, output).rows)
        self.assertEqual({value for row in rows for value in row[2:]}, {MONDAY})

    def test_it_is_the_day_on_every_thread(self):
        with day.as_of(MONDAY):
            self.assertEqual(each(lambda _: day.today(), range(5)), [MONDAY] * 5)
            self.assertEqual(set(side_by_side(lambda _: day.today(), 10**6)), {MONDAY})
        self.assertEqual(day.today(), day.this_day())


if __name__ == "__main__":
    unittest.main()
