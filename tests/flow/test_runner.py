import threading
import unittest
from unittest import mock

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.errors import Cancelled, TrellisError
from keen_trellis.core.memory_use import buffers_of
from keen_trellis.core.task import Task
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input, Step
from keen_trellis.flow.runner import Kept, Runner
from keen_trellis.flow.snapshot import Snapshot
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps import join as join_step
from keen_trellis.flow.steps.blend import BlendMeasure, BlendSettings, OtherSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.steps.summarise import MeasureSettings, SummariseSettings
from tests.tables import rows_of, table


class Shelf:
    """Snapshots that lie ready."""

    def __init__(self, **tables) -> None:
        self.tables = tables
        self.generation = 0

    def get(self, settings: SourceSettings, task: Task) -> Snapshot:
        return Snapshot(self.tables[settings.table], (), f"{settings.table} {self.generation}", 0.0)


class RunnerCase(unittest.TestCase):
    def setUp(self):
        self.shelf = Shelf(
            loans=table(no=["A", "B", "a "], value=[1, 2, 3]),
            objects=table(code=["A", "C"], title=["Bell", "Chart"]),
        )
        self.runner = Runner(KINDS, self.shelf)
        flow, loans = edits.add_source(Flow(), SourceSettings("text", "/l", "loans"), "Loans")
        flow, objects = edits.add_source(flow, SourceSettings("text", "/o", "objects"), "Objects")
        self.settings = JoinSettings(links=(LinkSettings("no", "code"),), type="left-outer")
        self.flow, self.knot = edits.add_join(flow, Input(loans), Input(objects), self.settings)

    def changed(self, **changes) -> Flow:
        return edits.change_settings(self.flow, self.knot, msgspec.structs.replace(self.settings, **changes))

    def matches_made(self):
        return mock.patch.object(join_step, "match", wraps=join_step.match)


class Results(RunnerCase):
    def test_a_join_by_its_ports(self):
        ports = self.runner.result(self.flow, self.knot).ports
        self.assertEqual(rows_of(ports["rows"]), [("A", 1, "Bell"), ("B", 2, None), ("a ", 3, None)])
        self.assertEqual(rows_of(ports["matched"]), [("A", 1, "Bell")])
        self.assertEqual(rows_of(ports["unmatched_left"]), [("B", 2), ("a ", 3)])
        self.assertEqual(rows_of(ports["unmatched_right"]), [("C", "Chart")])

    def test_rows_passed_over_have_a_port_of_their_own(self):
        self.shelf.tables["objects"] = table(code=["A", "A"], title=["Bell", "Bowl"])
        ports = self.runner.result(self.changed(take="last"), self.knot).ports
        self.assertEqual(rows_of(ports["matched"]), [("A", 1, "Bowl")])
        self.assertEqual(rows_of(ports["passed_over"]), [("A", None, "Bell")])

    def test_a_chain_of_knots_keeps_blank_and_no_partner_apart(self):
        self.shelf.tables["titles"] = table(heading=["Bell", "none"], size=[1, 2])
        flow, titles = edits.add_source(self.flow, SourceSettings("text", "/t", "titles"), "Titles")
        link = LinkSettings(
            "CASE WHEN PARTNER_FOUND('Objects') THEN title ELSE 'none' END",
            "heading",
            left_is_expression=True,
        )
        settings = JoinSettings(links=(link,), type="left-outer", bring=("size",))
        flow, second = edits.add_join(flow, Input(self.knot), Input(titles), settings)
        rows = self.runner.result(flow, second).rows
        self.assertEqual(rows_of(rows), [("A", 1, "Bell", 1), ("B", 2, None, 2), ("a ", 3, None, 2)])
        title, size = rows.take(None, ["title", "size"])
        self.assertEqual((title.absent.tolist(), size.absent), ([False, True, True], None))

    def test_a_blend_and_a_summary_are_steps_like_others(self):
        measure = BlendMeasure("objects", "count")
        other = OtherSettings((LinkSettings("no", "code", ("case", "outer-spaces")),), (measure,))
        inputs = [Input("loans"), Input("objects")]
        flow, blend = edits.add_step(self.flow, "blend", "Blended", inputs, BlendSettings(others=(other,)))
        found = self.runner.result(flow, blend)
        self.assertEqual(rows_of(found.rows), [("A", 1, 1), ("B", 2, 0), ("a ", 3, 1)])
        self.assertEqual(rows_of(found.ports["unused:1"]), [("C", 1)])
        keys = SummariseSettings(keys=("objects",), measures=(MeasureSettings("values", "listing", "value"),))
        flow, summary = edits.add_step(flow, "summarise", "By objects", [Input(blend)], keys)
        self.assertEqual(rows_of(self.runner.result(flow, summary).rows), [(1, "1, 3"), (0, "2")])
        for step, names in ((blend, ("no", "value", "objects")), (summary, ("objects", "values"))):
            shape = self.runner.shape(flow, Input(step))
            self.assertEqual(tuple(field.name for field in shape.fields), names)
        unused = self.runner.shape(flow, Input(blend, "unused:1"))
        self.assertEqual([field.name for field in unused.fields], ["code", "objects"])

    def test_fields_know_the_source_they_came_from(self):
        fields = self.runner.result(self.flow, self.knot).rows.fields
        self.assertEqual([field.origin for field in fields], ["loans", "loans", "objects"])

    def test_shapes_are_known_without_matching(self):
        with self.matches_made() as made:
            shape = self.runner.shape(self.flow, Input(self.knot, "unmatched_right"))
        self.assertEqual(shape.name, "unmatched Objects")
        self.assertEqual([field.name for field in shape.fields], ["code", "title"])
        made.assert_not_called()

    def test_a_stub_can_be_joined_on(self):
        flow, second = edits.add_join(
            self.flow, Input(self.knot, "unmatched_left"), Input("objects"), self.settings
        )
        self.assertEqual(self.runner.result(flow, second).rows.rows, 2)

    def test_both_rails_of_a_self_join_keep_their_own_origin(self):
        flow, other = edits.add_source(self.flow, SourceSettings("text", "/o", "objects"), "Objects")
        flow, knot = edits.add_join(
            flow,
            Input("objects"),
            Input(other),
            JoinSettings(links=(LinkSettings("code", "code"),), type="inner"),
        )
        fields = self.runner.result(flow, knot).rows.fields
        self.assertEqual(
            [(f.name, f.origin) for f in fields],
            [("code", "objects"), ("title", "objects"), ("title of Objects 2", "objects-2")],
        )


class Fingerprints(RunnerCase):
    def test_what_is_taken_and_how_links_hold_are_matched_anew_and_kept_apart(self):
        with self.matches_made() as made:
            for changes in ({}, {"take": "first"}, {"any_of": True}, {}, {"take": "first"}):
                self.runner.result(self.changed(**changes), self.knot)
        self.assertEqual(made.call_count, 3)

    def test_type_and_fields_never_match_again(self):
        with self.matches_made() as made:
            self.runner.result(self.flow, self.knot)
            for changes in (
                {"type": "inner"},
                {"type": "full-anti"},
                {"bring": ()},
                {"keep": ("value",)},
                {"name_all": True},
            ):
                self.runner.result(self.changed(**changes), self.knot)
        self.assertEqual(made.call_count, 1)

    def test_links_and_preparation_match_again_and_undo_does_not(self):
        with self.matches_made() as made:
            self.runner.result(self.flow, self.knot)
            prepared = self.changed(links=(LinkSettings("no", "code", ("case", "outer-spaces")),))
            self.assertEqual(self.runner.result(prepared, self.knot).match.counts.left_matched, 2)
            self.runner.result(self.flow, self.knot)
        self.assertEqual(made.call_count, 2)

    def test_names_and_notes_compute_nothing_anew(self):
        first = self.runner.result(self.flow, self.knot)
        renamed = edits.rename(self.flow, self.knot, "Another name")
        self.assertIs(self.runner.result(renamed, self.knot), first)

    def test_another_snapshot_is_matched_again(self):
        first = self.runner.result(self.flow, self.knot)
        self.shelf.generation += 1
        self.assertIsNot(self.runner.result(self.flow, self.knot), first)

    def test_the_least_recently_used_goes_first(self):
        made = {name: np.zeros(100) for name in "abc"}
        kept = Kept(limit=1_600)
        kept.keep("a", made["a"])
        kept.keep("b", made["b"])
        kept.find("a")
        kept.keep("c", made["c"])
        self.assertIsNone(kept.find("b"))
        self.assertIs(kept.find("a"), made["a"])
        self.assertEqual(kept.held, 1_600)

    def test_what_shares_buffers_is_counted_once_and_goes_together(self):
        first = np.zeros(100)
        kept = Kept(limit=1_600)
        kept.keep("a", first)
        kept.keep("rows of a", [first, first[10:20]])
        self.assertEqual(kept.held, 800)
        kept.keep("b", np.zeros(100))
        kept.keep("c", np.zeros(100))
        self.assertEqual(
            [kept.find(name) is None for name in ("a", "rows of a", "b", "c")], [True, True, False, False]
        )

    def test_the_latest_stays_however_large(self):
        kept = Kept(limit=10)
        kept.keep("a", np.zeros(100))
        kept.keep("b", np.zeros(1_000))
        self.assertEqual((kept.find("a"), kept.held), (None, 8_000))

    def test_the_buffers_of_a_result_are_found_through_tables_and_matches(self):
        result = self.runner.result(self.flow, self.knot)
        held = buffers_of(result)
        self.assertTrue(held)
        self.assertEqual(sum(held.values()), sum(buffers_of([result, result]).values()))
        self.assertLessEqual(sum(buffers_of(result.rows).values()), sum(held.values()))


class Trouble(RunnerCase):
    def with_knot(self, step: Step) -> Flow:
        """The flow with another step in the knot's place."""
        steps = (step if entry.id == step.id else entry for entry in self.flow.steps)
        return msgspec.structs.replace(self.flow, steps=tuple(steps))

    def failing(self, flow: Flow, words: str, step: str = ""):
        with self.assertRaisesRegex(TrellisError, words) as caught:
            self.runner.result(flow, step or self.knot)
        return caught.exception

    def test_an_error_names_its_step(self):
        error = self.failing(self.changed(links=(LinkSettings("number", "code"),)), "no field “number”")
        self.assertEqual(error.where, "Loans with Objects")

    def test_a_removed_input_is_said(self):
        self.failing(edits.remove_step(self.flow, "objects"), "objects.*is missing")

    def test_a_cross_join_by_type_is_refused(self):
        self.failing(self.changed(type="cross"), "cannot be a cross join")

    def test_an_unknown_type_is_named(self):
        self.failing(self.changed(type="outer"), "no join type “outer”.*left-outer")

    def test_types_that_differ_are_refused_without_reading_a_row(self):
        self.failing(
            self.changed(links=(LinkSettings("value", "code"),)), "value is integer and code is text"
        )

    def test_settings_that_cannot_be_read(self):
        step = msgspec.structs.replace(self.flow.step(self.knot), settings=b'{"type": 5}')
        flow = msgspec.structs.replace(self.flow, steps=(*self.flow.steps[:2], step))
        self.failing(flow, "settings cannot be read")

    def test_a_delimiter_must_be_one_character(self):
        for delimiter in ("", ";;", '"', "\n"):
            settings = OutputSettings("text", "/out.csv", delimiter=delimiter)
            flow, output = edits.add_output(self.flow, Input(self.knot), settings)
            self.failing(flow, "cannot be between cells", output)

    def test_an_unknown_kind_is_said(self):
        step = msgspec.structs.replace(self.flow.step(self.knot), kind="sculpt")
        flow = msgspec.structs.replace(self.flow, steps=(*self.flow.steps[:2], step))
        error = self.failing(flow, "does not know the kind of step “sculpt”")
        self.assertIn("This one knows: beside, blend, choose,", error.remedy)

    def test_a_mistyped_input_names_the_step_that_has_it_and_what_was_probably_meant(self):
        knot = self.flow.step(self.knot)
        step = msgspec.structs.replace(knot, inputs=(knot.inputs[0], Input("objekts")))
        error = self.failing(self.with_knot(step), "The step “objekts” that it takes rows from is missing")
        self.assertEqual(error.where, knot.name)
        self.assertIn("Did you mean “objects”?", error.remedy)

    def test_an_unknown_port_lists_those_that_there_are(self):
        flow, output = edits.add_output(
            self.flow, Input(self.knot, "unmatched"), OutputSettings("text", "/out.csv")
        )
        error = self.failing(flow, "has no port “unmatched”", output)
        self.assertIn("It has: rows, unmatched_left", error.remedy)

    def test_cancelled_work_stops_and_keeps_nothing(self):
        rows = 400_000
        keys = pa.array([f"key {n}" for n in range(rows)], pa.large_string())
        from keen_trellis.core.table import ArrowTable

        self.shelf.tables = {
            "loans": ArrowTable(pa.table({"no": keys})),
            "objects": ArrowTable(pa.table({"code": keys})),
        }
        task = Task(lambda done, total, what: task.cancel() if "comparing" in what else None)
        with self.assertRaises(Cancelled):
            self.runner.result(self.flow, self.knot, task)
        self.assertEqual(self.runner.result(self.flow, self.knot).rows.rows, rows)

    def test_two_threads_may_ask_at_once(self):
        found = []
        threads = [
            threading.Thread(target=lambda: found.append(self.runner.result(self.flow, self.knot).rows.rows))
            for _ in range(4)
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(found, [3, 3, 3, 3])


if __name__ == "__main__":
    unittest.main()
