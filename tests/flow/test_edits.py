import unittest

from keen_trellis.core.errors import UsageError
from keen_trellis.core.join_type import JoinType
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.history import History
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.output import OutputSettings

JOIN = JoinSettings(links=(LinkSettings("a", "b"),), type="left-anti", keep=("a",))


def source(flow: Flow, name: str) -> tuple[Flow, str]:
    return edits.add_source(flow, SourceSettings("text", f"/data/{name}.csv"), name)


def joined() -> tuple[Flow, str]:
    flow, loans = source(Flow(), "Loans")
    flow, objects = source(flow, "Objects")
    return edits.add_join(flow, Input(loans), Input(objects), JOIN)


class Edits(unittest.TestCase):
    def test_ids_and_names_are_never_given_twice(self):
        flow, first = source(Flow(), "Loans")
        flow, second = source(flow, "Loans")
        self.assertEqual((first, second), ("loans", "loans-2"))
        self.assertEqual([step.name for step in flow.steps], ["Loans", "Loans 2"])

    def test_the_old_flow_stays_as_it_was(self):
        flow, _ = source(Flow(), "Loans")
        before = flow
        edits.rename(flow, "loans", "Other")
        self.assertEqual(flow, before)

    def test_a_knot_is_put_into_the_rail_it_is_made_on(self):
        flow, knot = joined()
        flow, output = edits.add_output(flow, Input("loans"), OutputSettings("text", "/out.csv"))
        flow, venues = source(flow, "Venues")
        flow, second = edits.add_join(flow, Input("loans"), Input(venues), JOIN)
        self.assertEqual(flow.step(knot).inputs[0], Input(second))
        self.assertEqual(flow.step(output).inputs, (Input(second),))
        self.assertEqual([step.id for step in flow.in_order()][-2:], [knot, output])

    def test_a_rail_joined_with_what_was_made_from_it_does_not_go_in_a_circle(self):
        flow, knot = joined()
        flow, again = edits.add_join(flow, Input("loans"), Input(knot), JOIN)
        self.assertEqual(flow.step(knot).inputs[0], Input("loans"))
        self.assertEqual([step.id for step in flow.in_order()][-2:], [knot, again])

    def test_a_table_joined_with_itself(self):
        flow, objects = source(Flow(), "Objects")
        flow, knot = edits.add_join(flow, Input(objects), Input(objects), JOIN)
        self.assertEqual(flow.step(knot).inputs, (Input(objects), Input(objects)))
        self.assertEqual(len(list(flow.in_order())), 2)

    def test_removing_a_knot_leads_its_rail_on(self):
        flow, knot = joined()
        flow, output = edits.add_output(flow, Input(knot), OutputSettings("text", "/out.csv"))
        flow = edits.remove_step(flow, knot)
        self.assertEqual(flow.step(output).inputs, (Input("loans"),))

    def test_removing_a_knot_takes_the_outputs_of_its_stubs_with_it(self):
        flow, knot = joined()
        flow, output = edits.add_output(
            flow, Input(knot, "unmatched_right"), OutputSettings("text", "/out.csv")
        )
        self.assertIsNone(edits.remove_step(flow, knot).find(output))

    def test_removing_a_source_leaves_the_knot_saying_what_it_lacks(self):
        flow, knot = joined()
        flow = edits.remove_step(flow, "objects")
        self.assertEqual(flow.step(knot).inputs[1], Input("objects"))

    def test_swapping_keeps_the_question(self):
        flow, knot = joined()
        swapped = KINDS.settings(edits.swap_sides(flow, knot, JOIN).step(knot))
        self.assertIs(swapped.join_type, JoinType.RIGHT_ANTI)
        self.assertEqual(swapped.links, (LinkSettings("b", "a"),))
        self.assertEqual((swapped.keep, swapped.bring), (None, ("a",)))
        self.assertEqual(swapped.swapped, JOIN)

    def test_a_name_must_be_free_and_not_empty(self):
        flow, _ = joined()
        for name, words in (("Objects", "called “Objects” already"), ("  ", "needs a name")):
            with self.assertRaisesRegex(UsageError, words):
                edits.rename(flow, "loans", name)

    def test_files_stand_in_the_margin_once(self):
        flow, _ = source(Flow(), "Loans")
        self.assertEqual(edits.add_file(flow, "/data/Loans.csv").files, ("/data/Loans.csv",))
        self.assertEqual(edits.remove_file(flow, "/data/Loans.csv").files, ())


class Undo(unittest.TestCase):
    def test_undo_and_redo_go_through_all_edits_by_name(self):
        history = History(Flow())
        for number in range(3):
            history.push(edits.add_file(history.flow, f"/{number}"), f"edit {number}")
        self.assertEqual([history.undo() for _ in range(3)], ["edit 2", "edit 1", "edit 0"])
        self.assertEqual((history.flow, history.undo_name, history.redo_name), (Flow(), "", "edit 0"))
        self.assertEqual(history.redo(), "edit 0")
        self.assertEqual(history.flow.files, ("/0",))

    def test_a_new_edit_forgets_what_was_undone(self):
        history = History(Flow())
        history.push(edits.add_file(history.flow, "/a"), "a")
        history.undo()
        history.push(edits.add_file(history.flow, "/b"), "b")
        self.assertEqual(history.redo_name, "")

    def test_an_edit_that_changes_nothing_is_none(self):
        history = History(Flow())
        history.push(Flow(), "nothing")
        self.assertEqual(history.undo_name, "")


if __name__ == "__main__":
    unittest.main()
