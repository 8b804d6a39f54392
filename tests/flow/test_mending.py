"""Mends that are steps before or after a knot: each does what it said, and the rail keeps its name."""

import datetime as dt
import unittest

import msgspec

from keen_trellis.core.errors import UsageError
from keen_trellis.core.insight.reason import Way
from keen_trellis.core.task import Task
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.mending import explained, flow_after
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.summarise import SummariseSettings
from tests.flow.test_runner import Shelf
from tests.tables import rows_of, table


class StepMends(unittest.TestCase):
    def setUp(self):
        days = [dt.date(2026, 1, day) for day in (1, 9, 5, 3, 2)]
        by = ["Orrin", "Pell", "Orrin", None, "Pell"]
        valued = table(code=["A", "a", "B", None, None], value=[10, 30, 20, 1, 2], on=days, by=by)
        loans = table(no=["a", "B", None, "n/a", "x"], venue=["Pier", "Mill", "Pier", "Mill", None])
        flow, one = edits.add_source(Flow(), SourceSettings("text", "/l", "loans"), "Loans")
        flow, other = edits.add_source(flow, SourceSettings("text", "/v", "valued"), "Valuations")
        self.settings = JoinSettings(links=(LinkSettings("no", "code", ("case",)),), type="full-outer")
        self.flow, self.knot = edits.add_join(flow, Input(one), Input(other), self.settings)
        self.flow, self.output = edits.add_step(
            self.flow, "summarise", "All", [Input(self.knot)], SummariseSettings()
        )
        self.runner = Runner(KINDS, Shelf(loans=loans, valued=valued))

    def counts(self, flow: Flow):
        return self.runner.result(flow, self.knot).match.counts

    def mended(self, way: Way, said: str = "", flow: Flow | None = None):
        """The flow after the mend of this way, what it was said to gain, and the step to look at."""
        flow = flow or self.flow
        step = flow.step(self.knot)
        inputs = self.runner.input_shapes(flow, step)
        tables = [self.runner.result(flow, entry.step).rows for entry in step.inputs]
        found = self.runner.result(flow, self.knot).match
        reasons = explained(KINDS.settings(step), tables[0], tables[1], found, Task()).reasons
        reason, mend = next(
            (entry, mend)
            for entry in reasons
            for mend in entry.mends
            if mend.way is way and said in mend.said
        )
        return *flow_after(flow, self.knot, mend, reason, inputs), mend

    def test_one_row_a_key_before_the_knot(self):
        before = self.counts(self.flow)
        flow, shown, mend = self.mended(Way.DISTINCT)
        self.assertIn("the latest row by on of each code", mend.said)
        self.assertEqual(before.pairs - self.counts(flow).pairs, mend.gain)
        self.assertEqual(shown, self.knot)
        values = {row[2]: row[3] for row in rows_of(self.runner.result(flow, self.knot).rows) if row[2]}
        self.assertEqual((self.counts(flow).most_partners_of_left, values.get("a")), (1, None))
        # The blank codes are nobody's double.
        self.assertEqual(self.counts(flow).right_rows, 4)
        self.assertEqual(before.right_unmatched, self.counts(flow).right_unmatched)

    def test_blanks_and_placeholders_are_left_out_before_the_knot(self):
        for said, left in (("without no", 4), ("“n/a”", 4)):
            with self.subTest(said):
                flow, _, mend = self.mended(Way.FILTER, said)
                counts = self.counts(flow)
                self.assertEqual((counts.left_rows, mend.gain), (left, 1))
                self.assertEqual(counts.pairs, self.counts(self.flow).pairs)
        flow, _, _ = self.mended(Way.FILTER, "“n/a”")
        flow, _, _ = self.mended(Way.FILTER, "without no", flow)
        self.assertEqual(self.counts(flow).left_rows, 3)

    def test_what_rows_lack_is_filled_after_the_knot(self):
        flow = edits.change_settings(
            self.flow, self.knot, msgspec.structs.replace(self.settings, type="inner")
        )
        flow, shown, mend = self.mended(Way.FILL, flow=flow)
        self.assertEqual((mend.gain, flow.step(shown).kind), (0, "fill"))
        self.assertEqual(KINDS.settings(flow.step(self.knot)).type, "left-outer")
        # What took the knot's rows takes the filled ones.
        self.assertEqual(flow.step(self.output).inputs, (Input(shown),))
        found = self.runner.result(flow, shown).rows
        self.assertEqual(found.counts, {"by": 3})
        self.assertEqual([row[-1] for row in rows_of(found)][-3:], ["no valuation"] * 3)

    def test_where_no_text_is_brought_it_says_so(self):
        flow = edits.change_settings(
            self.flow, self.knot, msgspec.structs.replace(self.settings, bring=("value",))
        )
        with self.assertRaisesRegex(UsageError, "No text of Valuations comes along"):
            self.mended(Way.FILL, flow=flow)

    def test_a_step_on_a_rail_leaves_the_rail_its_name(self):
        flow, _, _ = self.mended(Way.FILTER, "without no")
        names = [shape.name for shape in self.runner.input_shapes(flow, flow.step(self.knot))]
        self.assertEqual(names, ["Loans", "Valuations"])

    def test_a_step_is_called_by_what_it_does_until_it_has_a_name(self):
        flow, _, _ = self.mended(Way.FILTER, "without no")
        (step,) = [entry for entry in flow.steps if entry.kind == "filter"]
        self.assertEqual(step.name, "no is not blank")
        other = FilterSettings(conditions=(ConditionSettings("venue", "one-of", ("Pier",)),))
        flow = edits.change_settings(flow, step.id, other)
        self.assertEqual(flow.step(step.id).name, "venue is “Pier”")
        flow = edits.rename(flow, step.id, "Pier only")
        flow = edits.change_settings(flow, step.id, FilterSettings())
        self.assertEqual(flow.step(step.id).name, "Pier only")

    def test_two_that_do_the_same_have_names_of_their_own(self):
        flow, first = edits.insert_after(self.flow, Input("loans"), "filter", FilterSettings())
        flow, second = edits.insert_before(flow, self.knot, 0, "filter", FilterSettings())
        self.assertEqual([flow.step(step).name for step in (first, second)], ["filter", "filter 2"])
        self.assertEqual(flow.step(second).inputs, (Input(first),))
        flow = edits.remove_step(flow, first)
        self.assertEqual(flow.step(second).inputs, (Input("loans"),))


class OfExpressions(unittest.TestCase):
    def test_a_filter_on_an_expression_keeps_what_it_cannot_read(self):
        """The placeholder of a link that is an expression is left out by that expression."""
        loans = table(no=["l-a", "l-n/a", None], venue=["Pier", "Mill", "Pier"])
        objects = table(code=["a", "b"])
        flow, one = edits.add_source(Flow(), SourceSettings("text", "/l", "loans"), "Loans")
        flow, other = edits.add_source(flow, SourceSettings("text", "/o", "objects"), "Objects")
        link = LinkSettings('SUBSTRING("no" FROM 3)', "code", left_is_expression=True)
        flow, knot = edits.add_join(flow, Input(one), Input(other), JoinSettings(links=(link,), type="inner"))
        runner = Runner(KINDS, Shelf(loans=loans, objects=objects))
        found = runner.result(flow, knot).match
        settings = KINDS.settings(flow.step(knot))
        reasons = explained(settings, loans, objects, found, Task()).reasons
        reason = next(entry for entry in reasons if entry.kind.value == "placeholder")
        (mend,) = (mend for mend in reason.mends if mend.way is Way.FILTER)
        inputs = runner.input_shapes(flow, flow.step(knot))
        flow, _ = flow_after(flow, knot, mend, reason, inputs)
        self.assertEqual(runner.result(flow, knot).match.counts.left_rows, 2)


if __name__ == "__main__":
    unittest.main()
