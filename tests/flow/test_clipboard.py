"""Steps that are copied and pasted, led to other rows, and given other fields."""

import unittest

from keen_trellis.core.errors import UsageError
from keen_trellis.flow import edits
from keen_trellis.flow.clipboard import are_steps, copied, pasted
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.compute import ComputeSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.sort import SortKeySettings, SortSettings

FILTER = FilterSettings(conditions=(ConditionSettings("venue", "one-of", ("venue", "Mill")),))
COMPUTE = ComputeSettings(field="long", expression='CHAR_LENGTH("venue") > 5 AND "a ""b""" = \'venue\'')


class StepsCase(unittest.TestCase):
    def setUp(self):
        flow = Flow()
        for name in ("Loans", "Trips"):
            flow, _ = edits.add_source(flow, SourceSettings("text", f"/{name}.csv", name), name)
        flow, self.filter = edits.insert_after(flow, Input("loans"), "filter", FILTER)
        flow, self.compute = edits.insert_after(flow, Input(self.filter), "compute", COMPUTE)
        flow, self.sort = edits.insert_after(
            flow, Input("trips"), "sort", SortSettings((SortKeySettings("a"),))
        )
        self.flow = edits.annotate(flow, self.filter, "only the pier")


class Pasting(StepsCase):
    def test_steps_on_a_rail_are_pasted_into_another_in_their_order(self):
        text = copied(self.flow, {self.compute, self.filter})
        self.assertTrue(are_steps(text))
        flow, new = pasted(self.flow, KINDS, text, Input("trips"))
        self.assertEqual(flow.step(new[0]).inputs, (Input("trips"),))
        self.assertEqual(flow.step(new[1]).inputs, (Input(new[0]),))
        self.assertEqual(flow.step(self.sort).inputs, (Input(new[1]),))
        self.assertEqual(flow.step(new[0]).note, "only the pier")
        self.assertEqual(KINDS.settings(flow.step(new[1])), COMPUTE)
        names = [step.name for step in flow.steps]
        self.assertEqual(len(set(names)), len(names))
        # What was there before is as it was.
        self.assertEqual(flow.step(self.compute), self.flow.step(self.compute))

    def test_a_whole_rail_is_pasted_beside_the_first(self):
        flow, new = pasted(self.flow, KINDS, copied(self.flow, {"loans", self.filter}), None)
        self.assertEqual([flow.step(step).inputs for step in new], [(), (Input(new[0]),)])
        self.assertEqual(flow.step(new[0]).name, "Loans 2")

    def test_a_knot_takes_the_rows_that_it_took(self):
        joined = JoinSettings(links=(LinkSettings("venue", "venue"),), type="inner")
        flow, knot = edits.add_join(self.flow, Input(self.compute), Input(self.sort), joined)
        changed, new = pasted(flow, KINDS, copied(flow, {knot}), None)
        self.assertEqual(changed.step(new[0]).inputs, flow.step(knot).inputs)

    def test_into_another_flow(self):
        other, rail = edits.add_source(Flow(), SourceSettings("text", "/x.csv", "x"), "X")
        text = copied(self.flow, {self.filter})
        with self.assertRaisesRegex(UsageError, "nothing here that it took them from"):
            pasted(other, KINDS, text, None)
        flow, new = pasted(other, KINDS, text, Input(rail))
        self.assertEqual(flow.step(new[0]).inputs, (Input(rail),))

    def test_what_holds_no_steps_is_refused(self):
        for text in ("", "venue\tcost\n", '{"format":"keen-trellis/steps/1"}', '{"format":"x","steps":[{}]}'):
            with self.subTest(text=text), self.assertRaisesRegex(UsageError, "holds no steps"):
                pasted(self.flow, KINDS, text, None)
            self.assertFalse(are_steps(text) and 'steps":' in text)


class Repairing(StepsCase):
    def test_a_step_is_led_to_other_rows_but_not_in_a_circle(self):
        flow = edits.remove_step(self.flow, "loans")
        self.assertEqual(flow.step(self.filter).inputs, (Input("loans"),))
        flow = edits.reconnect(flow, self.filter, 0, Input(self.sort))
        self.assertEqual(flow.step(self.filter).inputs, (Input(self.sort),))
        with self.assertRaisesRegex(UsageError, "circle"):
            edits.reconnect(flow, self.sort, 0, Input(self.compute))

    def test_another_field_is_used_wherever_the_old_one_was_named(self):
        flow = edits.replace_field(self.flow, self.filter, "venue", "place")
        condition = KINDS.settings(flow.step(self.filter)).conditions[0]
        self.assertEqual((condition.of, condition.values), ("place", ("venue", "Mill")))
        flow = edits.replace_field(self.flow, self.compute, "venue", 'the "place"')
        said = KINDS.settings(flow.step(self.compute)).expression
        self.assertEqual(said, 'CHAR_LENGTH("the ""place""") > 5 AND "a ""b""" = \'venue\'')


if __name__ == "__main__":
    unittest.main()
