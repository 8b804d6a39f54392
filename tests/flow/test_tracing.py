"""The way of a row: back to its sources and on to the outputs, each the other's mirror."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.join_type import QUESTION_TYPES
from keen_trellis.core.task import Task
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import BlendMeasure, BlendSettings, OtherSettings
from keen_trellis.flow.steps.fill import FillSettings, FillStepSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.steps.summarise import MeasureSettings, SummariseSettings
from keen_trellis.flow.tracing import back, forward
from tests.flow.test_runner import Shelf
from tests.tables import table

_KEYS = st.lists(st.sampled_from("abc"), min_size=1, max_size=6)


def joined(left, right, kind):
    """Two sources, a knot of a type, an output."""
    shelf = Shelf(loans=table(k=left), objects=table(q=right))
    flow, loans = edits.add_source(Flow(), SourceSettings("text", "/l", "loans"), "Loans")
    flow, objects = edits.add_source(flow, SourceSettings("text", "/o", "objects"), "Objects")
    settings = JoinSettings(links=(LinkSettings("k", "q"),), type=kind)
    flow, knot = edits.add_join(flow, Input(loans), Input(objects), settings)
    flow, output = edits.add_output(flow, Input(knot), OutputSettings("text", "/out.csv"))
    return Runner(KINDS, shelf), flow, knot, output


class Ways(unittest.TestCase):
    @given(_KEYS, _KEYS, st.sampled_from(QUESTION_TYPES))
    def test_back_and_forward_mirror_each_other(self, left, right, kind):
        runner, flow, knot, output = joined(left, right, kind.value)
        rows = runner.result(flow, knot).rows
        for row in range(rows.rows):
            way = back(runner, flow, output, "rows", row, Task())
            self.assertEqual([entry.step for entry in way[:2]], [output, knot])
            sources = [entry for entry in way if entry.origin is not None]
            self.assertEqual(tuple(entry.origin for entry in sources), rows.origins(row))
            for entry in sources:
                onward = forward(runner, flow, entry.step, entry.row, Task())
                self.assertEqual(onward[-1].step, output)
                self.assertGreaterEqual(onward[-1].row, 0)
                self.assertLessEqual(onward[-1].row, row)
        for name, values in (("loans", left), ("objects", right)):
            for row in range(len(values)):
                at = forward(runner, flow, name, row, Task())[1]
                self.assertEqual(at.row < 0, "left out" in at.said, at)

    def test_what_became_of_a_row_is_said(self):
        runner, flow, _, _ = joined(["a", "a", "x"], ["a", "q"], "left-outer")
        for step, row, said in (
            ("loans", 0, "matched in 1 pair, in 1 row"),
            ("loans", 2, "unmatched, found no objects; in 1 row"),
            ("objects", 0, "matched in 2 pairs, in 2 rows"),
            ("objects", 1, "unmatched, found no loans; left out"),
        ):
            self.assertEqual(forward(runner, flow, step, row, Task())[1].said, said)

    def test_a_group_comes_from_all_of_its_rows(self):
        shelf = Shelf(loans=table(k=["a", "b", "a"]), trips=table(q=["a", "b", "a", "a"], n=[1, 2, 3, 4]))
        flow, loans = edits.add_source(Flow(), SourceSettings("text", "/l", "loans"), "Loans")
        flow, trips = edits.add_source(flow, SourceSettings("text", "/t", "trips"), "Trips")
        measures = (BlendMeasure(name="sum", function="sum", of="n"),)
        other = OtherSettings(links=(LinkSettings("k", "q"),), measures=measures)
        flow, knot = edits.add_step(
            flow, "blend", "Blended", [Input(loans), Input(trips)], BlendSettings(others=(other,))
        )
        runner = Runner(KINDS, shelf)
        way = back(runner, flow, knot, "rows", 2, Task())
        self.assertEqual(
            [(e.step, e.row) for e in way], [(knot, 2), (loans, 2), (trips, 0), (trips, 2), (trips, 3)]
        )
        self.assertEqual(forward(runner, flow, trips, 3, Task())[1].said, "in 2 rows")
        summary = SummariseSettings(
            keys=("q",), measures=(MeasureSettings(name="c", function="count", of="q"),)
        )
        flow, groups = edits.add_step(flow, "summarise", "Groups", [Input(trips)], summary)
        way = back(runner, flow, groups, "rows", 1, Task())
        self.assertEqual([(e.step, e.row) for e in way], [(groups, 1), (trips, 1)])


class Cells(unittest.TestCase):
    def test_a_cell_is_followed_through_names_and_steps(self):
        loans = table(no=["a", "b"], title=["mine", None], venue=[None, "Pier"])
        objects = table(code=["a", "c"], title=["Boat", "Bell"])
        flow, one = edits.add_source(Flow(), SourceSettings("text", "/l", "loans"), "Loans")
        flow, other = edits.add_source(flow, SourceSettings("text", "/o", "objects"), "Objects")
        settings = JoinSettings(links=(LinkSettings("no", "code"),), type="left-outer")
        flow, knot = edits.add_join(flow, Input(one), Input(other), settings)
        fills = (FillSettings(fields=("title",), how="field", of="venue"),)
        flow, filled = edits.insert_after(flow, Input(knot), "fill", FillStepSettings(fills))
        runner = Runner(KINDS, Shelf(loans=loans, objects=objects))

        def cells(row, field):
            way = back(runner, flow, filled, "rows", row, Task(), field)
            return {entry.step: entry.cell for entry in way}

        brought = "title of Objects"
        self.assertEqual(
            cells(0, brought),
            {filled: f"{brought}: Boat", knot: f"{brought}: Boat", one: "", other: "title: Boat"},
        )
        self.assertEqual(
            cells(1, brought), {filled: f"{brought}: no partner", knot: f"{brought}: no partner", one: ""}
        )
        self.assertEqual(
            cells(1, "title"),
            {filled: "title: Pier", knot: "title: blank; venue: Pier", one: "title: blank; venue: Pier"},
        )
        # The link field stands once, and is read from both sides.
        self.assertEqual((cells(0, "no")[one], cells(0, "no")[other]), ("no: a", "code: a"))

    def test_a_measure_is_read_from_what_it_measures(self):
        shelf = Shelf(trips=table(q=["a", "a"], n=[1, 2], m=[5, 5]))
        flow, trips = edits.add_source(Flow(), SourceSettings("text", "/t", "trips"), "Trips")
        measures = (MeasureSettings(name="sum", function="sum", of='"n" + "m"'),)
        flow, groups = edits.add_step(
            flow, "summarise", "Groups", [Input(trips)], SummariseSettings(keys=("q",), measures=measures)
        )
        way = back(Runner(KINDS, shelf), flow, groups, "rows", 0, Task(), "sum")
        self.assertEqual([entry.cell for entry in way], ["sum: 13", "n: 1; m: 5", "n: 2; m: 5"])


if __name__ == "__main__":
    unittest.main()
