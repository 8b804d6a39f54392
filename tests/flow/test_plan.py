"""The plan of a flow: each step looked at once, the rest taken from before, and never the wrong rows."""

import sys
import threading
import unittest
from collections import Counter
from contextlib import ExitStack
from itertools import pairwise
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

from keen_trellis.core.errors import Cancelled, DataError, TrellisError
from keen_trellis.core.task import Task
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.compute import ComputeKind, ComputeSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.sort import SortKeySettings, SortSettings
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library
from tests.tables import rows_of


class PlanCase(unittest.TestCase):
    def setUp(self):
        place = TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.library = Library(Cache(self.folder / "cache"))
        self.runner = Runner(KINDS, self.library)

    def source(self, flow, name, content):
        path = self.folder / f"{name}.csv"
        path.write_text(content)
        return edits.add_source(flow, self.library.content(path).settings(""), name)

    def chain(self, length):
        """A rail with so many computed fields; the flow and the ids of its steps."""
        flow, rail = self.source(Flow(), "Loans", "venue,crates\nPier,1\nMill,2\n")
        steps = [rail]
        for number in range(length):
            settings = ComputeSettings(field=f"f{number}", expression="crates + 1")
            flow, new = edits.insert_after(flow, Input(steps[-1]), "compute", settings)
            steps.append(new)
        return flow, steps

    def counting(self, *names):
        """How often the kind of computed fields is asked, by what is asked."""
        stack = ExitStack()
        self.addCleanup(stack.close)
        return {
            name: stack.enter_context(
                mock.patch.object(ComputeKind, name, autospec=True, side_effect=getattr(ComputeKind, name))
            )
            for name in names
        }


class Once(PlanCase):
    def test_each_step_is_looked_at_once_whoever_asks(self):
        flow, steps = self.chain(30)
        asked = self.counting("problems", "fingerprint", "compute")
        for step in steps:
            self.runner.result(flow, step)
            self.runner.input_shapes(flow, flow.step(step))
            self.runner.shape(flow, Input(step))
        for name, mocked in asked.items():
            self.assertEqual(mocked.call_count, 30, name)

    def test_after_an_edit_only_what_it_changes_is_looked_at(self):
        flow, steps = self.chain(30)
        self.runner.result(flow, steps[-1])
        asked = self.counting("problems")
        edited = edits.change_settings(flow, steps[26], ComputeSettings(field="f25", expression="crates + 2"))
        self.runner.result(edited, steps[-1])
        self.assertEqual(asked["problems"].call_count, 1)
        # Back again: what is kept of the plan before is what the edit left, and results are found again.
        with mock.patch.object(ComputeKind, "compute", side_effect=AssertionError):
            self.runner.result(flow, steps[-1])

    def test_planning_costs_a_constant_for_each_step(self):
        def calls(length):
            """How many calls of Python planning a rail of that length takes."""
            flow, steps = self.chain(length)
            runner = Runner(KINDS, self.library)
            runner.snapshot(flow, flow.step(steps[0]))
            plan, made = runner.plan(flow), Counter()
            sys.setprofile(lambda frame, event, arg: made.update([event]))
            try:
                plan.planned(steps[-1], Task())
            finally:
                sys.setprofile(None)
            return made["call"]

        calls(10)
        # Each step has a field more than the one before; a walk upstream would make it dozens of times.
        self.assertLess(calls(240) / 24, 3 * calls(10))

    def test_a_rail_is_planned_while_the_source_of_another_one_cannot_be_read(self):
        flow, rail = self.source(Flow(), "Loans", "venue\nPier\n")
        other, lost = self.source(flow, "Venues", "venue\nPier\n")
        (self.folder / "Venues.csv").unlink()
        runner = Runner(KINDS, Library(Cache(self.folder / "other cache")))
        self.assertEqual([field.name for field in runner.shape(other, Input(rail)).fields], ["venue"])
        self.assertRaises(TrellisError, runner.shape, other, Input(lost))

    def test_several_threads_that_ask_at_once_get_the_same(self):
        flow, steps = self.chain(20)
        found, gate = [], threading.Barrier(4)

        def ask():
            gate.wait()
            found.append(self.runner.result(flow, steps[-1]).rows.names)

        threads = [threading.Thread(target=ask) for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(len(set(found)), 1)
        self.assertEqual(len(found), 4)


class AtTheSameMoment(PlanCase):
    """Several threads that ask for one result: it is computed once, whatever becomes of who computes it."""

    def setUp(self):
        super().setUp()
        self.flow, self.steps = self.chain(1)
        self.runner.result(self.flow, self.steps[0])
        self.begun, self.go_on = threading.Event(), threading.Event()
        self.times = 0
        compute = ComputeKind.compute

        def slow(kind, settings, inputs, context):
            self.times += 1
            self.begun.set()
            self.go_on.wait(10)
            context.task.checkpoint()
            if self.times == 1 and self.fails:
                raise DataError("It fails once.")
            return compute(kind, settings, inputs, context)

        self.fails = False
        self.enterContext(mock.patch.object(ComputeKind, "compute", slow))

    def asking(self, task=None):
        """A thread that asks; what it got, or what was raised, is in the list."""
        found = []

        def ask():
            try:
                found.append(self.runner.result(self.flow, self.steps[-1], task))
            except (TrellisError, Cancelled) as error:
                found.append(error)

        thread = threading.Thread(target=ask)
        thread.start()
        return thread, found

    def ends(self, *asking):
        for thread, _ in asking:
            thread.join(10)
        return [found[0] for _, found in asking]

    def test_it_is_computed_once(self):
        first = self.asking()
        self.begun.wait(10)
        others = [self.asking() for _ in range(3)]
        self.go_on.set()
        found = self.ends(first, *others)
        self.assertEqual(self.times, 1)
        self.assertTrue(all(entry is found[0] for entry in found))

    def test_where_the_first_is_cancelled_the_next_one_computes_it(self):
        task = Task()
        first = self.asking(task)
        self.begun.wait(10)
        second = self.asking()
        task.cancel()
        self.go_on.set()
        cancelled, found = self.ends(first, second)
        self.assertIsInstance(cancelled, Cancelled)
        self.assertEqual(found.rows.rows, 2)
        self.assertEqual(self.times, 2)

    def test_where_the_first_fails_the_next_one_tries(self):
        self.fails = True
        first = self.asking()
        self.begun.wait(10)
        second = self.asking()
        self.go_on.set()
        failed, found = self.ends(first, second)
        self.assertIsInstance(failed, DataError)
        self.assertEqual(found.rows.rows, 2)

    def test_who_waits_can_be_cancelled_while_the_first_goes_on(self):
        first = self.asking()
        self.begun.wait(10)
        task = Task()
        second = self.asking(task)
        task.cancel()
        self.assertIsInstance(self.ends(second)[0], Cancelled)
        self.go_on.set()
        self.assertEqual(self.ends(first)[0].rows.rows, 2)
        self.assertEqual(self.times, 1)


class NeverTheWrongRows(PlanCase):
    def test_a_skipped_step_keeps_the_ports_apart_that_it_passes_on(self):
        flow, left = self.source(Flow(), "Loans", "venue,n\nPier,1\nMill,2\n")
        flow, right = self.source(flow, "Venues", "venue\nPier\n")
        settings = JoinSettings(links=(LinkSettings("venue", "venue"),), type="left-outer")
        flow, knot = edits.add_join(flow, Input(left), Input(right), settings)
        ends = []
        for port in ("matched", "unmatched_left"):
            flow, skipped = edits.insert_after(
                flow, Input(knot, port), "sort", SortSettings(keys=(SortKeySettings("n"),))
            )
            flow = edits.skip(flow, skipped, skipped=True)
            flow, end = edits.insert_after(
                flow, Input(skipped), "sort", SortSettings(keys=(SortKeySettings("n"),))
            )
            ends.append(end)
        found = [rows_of(self.runner.result(flow, end).rows)[0][0] for end in ends]
        self.assertEqual(found, ["Pier", "Mill"])

    def test_a_source_that_changed_is_planned_anew_with_all_that_follows(self):
        flow, steps = self.chain(3)
        before = self.runner.result(flow, steps[-1]).rows
        (self.folder / "Loans.csv").write_text("venue,crates,day\nQuay,7,2026-01-02\n")
        self.library.refresh(KINDS.settings(flow.step(steps[0])), Task())
        after = self.runner.result(flow, steps[-1]).rows
        self.assertEqual(before.rows, 2)
        self.assertEqual(rows_of(after)[0][:2], ("Quay", 7))
        self.assertIn("day", [field.name for field in self.runner.shape(flow, Input(steps[-1])).fields])

    def test_names_and_ports_are_those_of_the_flow_of_the_moment(self):
        flow, left = self.source(Flow(), "Loans", "venue\nPier\n")
        flow, right = self.source(flow, "Venues", "venue\nPier\n")
        settings = JoinSettings(links=(LinkSettings("venue", "venue"),), type="inner")
        flow, knot = edits.add_join(flow, Input(left), Input(right), settings)
        self.assertEqual(self.runner.shape(flow, Input(knot, "unmatched_left")).name, "unmatched Loans")
        renamed = edits.rename(flow, left, "Crates")
        self.assertEqual(self.runner.shape(renamed, Input(knot, "unmatched_left")).name, "unmatched Crates")
        self.assertEqual(self.runner.shape(flow, Input(knot, "unmatched_left")).name, "unmatched Loans")

    def test_an_error_is_that_of_the_first_step_and_goes_with_it(self):
        flow, steps = self.chain(4)
        wrong = FilterSettings(conditions=(ConditionSettings(of="gone", is_="one-of", values=("1",)),))
        flow, bad = edits.insert_after(flow, Input(steps[1]), "filter", wrong)
        for step in (bad, *steps[2:]):
            with self.assertRaises(TrellisError) as caught:
                self.runner.result(flow, step)
            self.assertIn("gone", str(caught.exception))
        self.assertEqual(self.runner.result(flow, steps[1]).rows.rows, 2)
        mended = edits.change_settings(flow, bad, FilterSettings())
        self.assertEqual(self.runner.result(mended, steps[-1]).rows.rows, 2)

    def test_deep_and_rejoining_flows(self):
        flow, steps = self.chain(1)
        ends = [steps[-1]]
        for number in range(14):
            settings = JoinSettings(links=(LinkSettings("venue", "venue"),), type="left-semi")
            flow, knot = edits.add_join(flow, Input(ends[-1]), Input(ends[-1]), settings)
            ends.append(knot)
            self.assertEqual(len(list(self.runner.plan(flow).planned(knot, Task()).upstream())), number + 3)
        for one, other in pairwise(ends):
            self.assertEqual(
                self.runner.result(flow, one).rows.rows, self.runner.result(flow, other).rows.rows
            )


if __name__ == "__main__":
    unittest.main()
