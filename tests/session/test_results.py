"""What steps come to: asked for anew, late, stopped at any point, and told with the steps concerned."""

import gc
import unittest
from unittest import mock

import msgspec

from keen_trellis.core.memory_use import buffers_of
from keen_trellis.core.task import Task
from keen_trellis.flow import edits
from keen_trellis.flow.kinds import encode_settings
from keen_trellis.flow.source_settings import FieldSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.compute import ComputeKind, ComputeSettings
from keen_trellis.flow.steps.join import JoinKind
from keen_trellis.session import combining, editing
from keen_trellis.session.explaining import Explanations
from keen_trellis.session.selection import Selection
from tests.session.stepping import SessionCase

LOANS = "loan,venue,crates\nL-1,Pier,2\nL-2,Tower,3\nL-3,Hall,4\n"
VENUES = "venue,town\nPier,Northhaven\nTower,Wick\nQuay,Wick\n"


class Joined(SessionCase):
    """Two rails that meet in a knot."""

    def setUp(self):
        super().setUp()
        self.begin_rails(loans=LOANS, venues=VENUES)
        combining.join(self.session, Selection("venues"), Selection("loans"), lambda _: None)
        self.steps.rest()
        self.knot = self.kind("join").id

    def rows(self):
        """How many rows each step has come to."""
        known = self.session.results.by_step
        return {step: outcome.figures.rows["rows"] for step, outcome in known.items() if outcome.figures}


class Asking(Joined):
    def test_what_was_asked_before_comes_too_late(self):
        self.session.results.by_step.clear()
        self.session.results.compute()
        self.steps.waiting.pop()()  # it is done, and has not been told
        source = self.session.sources()["loans"]
        self.put("loans.csv", LOANS + "L-4,Quay,5\n")
        self.session.library.refresh(source, Task())
        self.session.results.compute()  # of the same flow
        self.steps.turn()
        self.assertEqual(self.rows(), {})
        self.steps.rest()
        self.assertEqual(self.rows()["loans"], 4)

    def test_only_the_latest_refresh_is_told(self):
        shown = []
        self.session.refreshing.compared.connect(lambda: shown.append(1))
        self.session.refresh()
        self.session.refresh()
        self.steps.rest()
        self.assertEqual(shown, [1])

    def test_a_table_that_was_looked_at_before_a_refresh_is_not_shown_after_it(self):
        stump = Selection(path=str(self.folder / "loans.csv"), table="loans")
        self.session.select(stump)
        self.steps.waiting.pop()()  # read, and not yet told
        self.put("loans.csv", LOANS + "L-4,Quay,5\n")
        self.session.library.refresh(self.session.sources()["loans"], Task())
        self.session.margin.look_again()
        self.steps.turn()
        self.assertIsNone(self.session.selected_outcome())
        self.steps.rest()
        self.assertEqual(self.session.selected_outcome().result.rows.rows, 4)

    def test_it_is_told_once_a_turn_and_of_which_steps(self):
        told = []
        self.session.outcomes_changed.connect(told.append)
        editing.change_join(self.session, self.knot, "Take", take="last")
        self.steps.rest()
        self.assertEqual(told, [frozenset({self.knot})])
        self.assertTrue(self.session.is_about_selected(told[0]))
        self.session.select(Selection("loans"))
        self.assertFalse(self.session.is_about_selected(told[0]))
        self.assertTrue(self.session.is_about_selected(frozenset({"loans"})))

    def test_an_edit_computes_only_what_it_changed(self):
        settings = ComputeSettings(field="double", expression="crates * 2")
        editing.insert(self.session, ComputeKind.name, settings, "Compute")
        self.steps.rest()
        with mock.patch.object(JoinKind, "compute") as computed:
            settings = ComputeSettings(field="double", expression="crates * 5")
            self.session.change_settings(self.session.selection.step, settings, "Change")
            self.steps.rest()
        computed.assert_not_called()
        self.assertEqual(self.session.selected_outcome().step.settings, encode_settings(settings))

    def test_a_source_that_is_gone_is_taken_out(self):
        self.session.apply("Remove", lambda flow: edits.remove_step(flow, self.knot))
        self.steps.rest()
        self.assertEqual(set(self.rows()), {"loans", "venues"})


class Stopped(Joined):
    def test_stopped_at_any_point_it_goes_on_where_it_was(self):
        """Cancel at the first checkpoint, at the second, and so on until there are no more."""
        expected, real = self.rows(), Task.checkpoint
        stopped = 0
        for last in range(10_000):
            self.begin_anew()
            left = last

            def checkpoint(task, *told):
                nonlocal left
                left -= 1
                if left < 0:
                    task.cancel()
                real(task, *told)

            self.told.clear()
            self.session.results.compute()
            with mock.patch.object(Task, "checkpoint", checkpoint):
                self.steps.rest()
            if left >= 0:
                break
            stopped += 1
            self.assertIn("Stopped. Press F5 to continue.", self.told)
            self.assertTrue(self.session.results.stopped)
            self.session.refresh()
            self.steps.rest()
            self.assertEqual(self.rows(), expected)
        self.assertGreater(stopped, 10)
        self.assertEqual(self.rows(), expected)

    def begin_anew(self):
        self.session.results.by_step.clear()
        kept = self.session.runner.kept
        limit, kept.limit = kept.limit, 0
        kept.shrink()
        kept.limit = limit


class LittleMemory(Joined):
    """Results that no longer fit are really let go of; what is looked at stays, and figures stay known."""

    def setUp(self):
        super().setUp()
        settings = ComputeSettings(field="double", expression="crates * 2")
        for _ in range(4):
            editing.insert(self.session, ComputeKind.name, settings, "Compute")
            settings = ComputeSettings(field=f"{settings.field} again", expression="crates * 3")
        self.steps.rest()
        self.last = self.session.selection.step
        self.session.runner.kept.limit = 0
        self.session.runner.kept.shrink()
        gc.collect()

    def held(self):
        return {step for step, outcome in self.session.results.by_step.items() if outcome.result is not None}

    def test_what_is_looked_at_stays_and_comes_back(self):
        self.assertIn(self.last, self.held())
        self.session.select(Selection("venues"))
        gc.collect()
        self.session.select(Selection(self.knot))
        self.assertIsNone(self.session.selected_outcome().result)
        self.steps.rest()
        self.assertEqual(self.session.selected_outcome().result.rows.rows, 3)
        self.assertEqual(len(self.session.selected_outcome().tables), 2)

    def test_counts_stay_known(self):
        self.session.select(Selection("venues"))
        gc.collect()
        self.assertNotIn(self.knot, self.held())
        known = self.session.outcome(self.knot).figures
        self.assertEqual((known.rows["rows"], known.counts.left_matched), (3, 2))
        self.session.save(self.folder / "joined.trellis")
        self.assertEqual(self.session.refreshing.last.knots[self.knot].left_matched, 2)

    def test_reasons_are_looked_for_again(self):
        explanations = Explanations(self.session)
        for _ in range(2):
            self.session.select(Selection(self.knot))
            self.steps.rest()
            self.assertIsNone(explanations.of(self.session.selected_outcome()))
            self.steps.rest()
            self.assertTrue(explanations.of(self.session.selected_outcome()).reasons)
            self.session.runner.result(self.session.flow, self.last)
            self.assertEqual(len(self.session.runner.kept), 1)


class Sources(Joined):
    def test_what_is_no_longer_used_is_let_go_of(self):
        library, first = self.session.library, self.session.sources()["loans"]
        fields = (FieldSettings("crates", type="text"),)
        self.session.change_settings("loans", msgspec.structs.replace(first, fields=fields), "As text")
        self.steps.rest()
        self.assertIsNone(library.known(first))
        self.assertNotIn(first, library._locks)
        self.session.undo()
        self.steps.rest()
        self.assertIsNotNone(library.known(first))

    def test_columns_that_are_read_as_another_type_take_their_part_of_the_memory(self):
        kept, first = self.session.runner.kept, self.session.sources()["loans"]
        self.assertEqual(self.session.library.held, 0)
        before = kept.held
        fields = (FieldSettings("crates", type="text"),)
        self.session.change_settings("loans", msgspec.structs.replace(first, fields=fields), "As text")
        self.steps.rest()
        self.assertGreater(self.session.library.held, 0)
        self.assertGreaterEqual(kept.held, before + self.session.library.held)
        kept.limit = self.session.library.held
        kept.shrink()
        self.assertEqual(len(kept), 1)

    def test_what_a_comparison_holds_takes_its_part_of_the_memory(self):
        kept = self.session.runner.kept
        self.put("loans.csv", LOANS + "".join(f"L-{n},Nowhere {n},1\n" for n in range(4, 2_000)))
        self.session.refresh()
        self.steps.rest()
        self.session.select(Selection("venues"))
        self.steps.rest()
        (knot,) = self.session.refreshing.comparison.knots
        self.assertEqual(max(newly.rows for newly in knot.newly.values()), 1_996)
        kept.limit = 0
        kept.shrink()
        held = buffers_of(self.session.refreshing.comparison)
        self.assertGreater(sum(held.values()), 1_996 * 8)
        self.assertGreaterEqual(kept.held, sum(held.values()))
        before = kept.held
        self.session.refreshing.comparison = None
        self.assertLess(kept.held, before)


class Saved(Joined):
    def test_what_the_flow_came_to_is_saved_with_it_and_compared(self):
        path = self.folder / "joined.trellis"
        self.session.save(path)
        self.put("loans.csv", LOANS + "L-4,Quay,5\n")
        self.session.open(path)
        self.steps.rest()
        (knot,) = self.session.refreshing.comparison.knots
        self.assertEqual((knot.before.left_matched, knot.after.left_matched), (2, 3))
        self.assertIn("The sources have changed since this flow was saved: Shift+F5 shows what.", self.told)

    def test_a_file_that_somebody_else_changed_is_not_overwritten(self):
        path = self.folder / "joined.trellis"
        self.session.save(path)
        path.write_text(path.read_text() + "\n")
        with self.assertRaisesRegex(Exception, "was changed by somebody else"):
            self.session.save(path)
        self.session.save(path, overwrite=True)
        self.assertFalse(self.session.unsaved)
        self.assertEqual(KINDS.settings(self.session.flow.step(self.knot)).type, "left-outer")


if __name__ == "__main__":
    unittest.main()
