import unittest

from keen_trellis.core.errors import UsageError
from keen_trellis.core.join_type import JoinType
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.history import History
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.fill import FillSettings, FillStepSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.steps.sort import SortSettings
from tests.flow.test_runner import Shelf
from tests.tables import rows_of, table

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

    def test_removing_a_knot_leaves_the_outputs_of_its_stubs_saying_what_they_lack(self):
        flow, knot = joined()
        flow, output = edits.add_output(
            flow, Input(knot, "unmatched_right"), OutputSettings("text", "/out.csv")
        )
        self.assertEqual(edits.remove_step(flow, knot).step(output).inputs, (Input(knot, "unmatched_right"),))

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


class AlongTheRail(unittest.TestCase):
    def setUp(self):
        self.runner = Runner(KINDS, Shelf(loans=table(v=[3, None, 1], w=["a", "b", None])))
        self.flow, self.loans = edits.add_source(Flow(), SourceSettings("text", "/l", "loans"), "Loans")
        self.flow, self.fill = edits.insert_after(
            self.flow, Input(self.loans), "fill", FillStepSettings((FillSettings(fields=("v",), of="2"),))
        )
        conditions = (ConditionSettings("v", "filled"),)
        self.flow, self.filter = edits.insert_after(
            self.flow, Input(self.fill), "filter", FilterSettings(conditions=conditions)
        )
        self.flow, self.out = edits.add_output(
            self.flow, Input(self.filter), OutputSettings("text", "/o.csv")
        )

    def rows(self, flow) -> list:
        return [row[0] for row in rows_of(self.runner.result(flow, self.out).rows)]

    def test_two_steps_change_places_and_back(self):
        self.assertEqual(self.rows(self.flow), [3, 2, 1])
        moved = edits.move_earlier(self.flow, self.filter)
        self.assertEqual(self.rows(moved), [3, 1])
        self.assertEqual(moved.step(self.out).inputs, (Input(self.fill),))
        self.assertEqual(edits.move_later(moved, self.filter), self.flow)

    def test_where_a_step_cannot_be_moved_it_says_why(self):
        branched, _ = edits.add_step(self.flow, "sort", "Branch", [Input(self.fill)], SortSettings())
        for work, said in (
            (lambda: edits.move_earlier(self.flow, self.fill), "no step before it"),
            (lambda: edits.move_earlier(self.flow, self.out), "end of its rail"),
            (lambda: edits.move_later(self.flow, self.filter), "end of its rail"),
            (lambda: edits.move_earlier(branched, self.filter), "a branch begins"),
            (lambda: edits.move_later(branched, self.fill), "no single step after"),
        ):
            with self.subTest(said), self.assertRaisesRegex(UsageError, said):
                work()

    def test_a_skipped_step_lets_rows_pass_and_keeps_its_settings(self):
        skipped = edits.skip(self.flow, self.fill, skipped=True)
        self.assertEqual(self.rows(skipped), [3, 1])
        self.assertEqual(edits.skip(skipped, self.fill, skipped=False), self.flow)
        # What a skipped step lacks is no trouble.
        broken = edits.change_settings(
            skipped, self.fill, FillStepSettings((FillSettings(fields=("gone",)),))
        )
        self.assertEqual(self.rows(broken), [3, 1])
        with self.assertRaisesRegex(UsageError, "source cannot be skipped"):
            edits.skip(self.flow, self.loans, skipped=True)

    def test_a_skipped_knot_leaves_the_left_rows_as_they_are(self):
        settings = JoinSettings(links=(LinkSettings("v", "v"),), type="inner")
        flow, knot = edits.add_join(self.flow, Input(self.filter), Input(self.loans), settings)
        skipped = edits.skip(flow, knot, skipped=True)
        self.assertEqual(self.rows(skipped), [3, 2, 1])
        self.assertEqual(self.runner.shape(skipped, Input(knot)).name, "Loans")

    def test_a_note_is_the_users_own(self):
        noted = edits.annotate(self.flow, self.fill, "  asked the keepers ")
        self.assertEqual(noted.step(self.fill).note, "asked the keepers")
        self.assertEqual(self.rows(noted), [3, 2, 1])
        self.assertEqual(edits.annotate(noted, self.fill, ""), self.flow)


if __name__ == "__main__":
    unittest.main()
