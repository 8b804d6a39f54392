"""A month's change of the demo data is reported exactly: by source, by knot, by output."""

import shutil
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

from keen_trellis.core.insight.changes import FieldChange, FieldChangeKind
from keen_trellis.core.task import Task
from keen_trellis.demo.flow_names import WINTER_LOANS
from keen_trellis.demo.next_month import next_month
from keen_trellis.flow import edits
from keen_trellis.flow.comparison import compare, run_as_it_is
from keen_trellis.flow.file_format import load, save
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.last_run import last_run, with_last_run
from keen_trellis.flow.report import change_lines, knot_words
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.snapshot import Earlier
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library
from tests import demo_data


class PassedOver(unittest.TestCase):
    def test_rows_passed_over_are_compared_too(self):
        with TemporaryDirectory() as place:
            folder = Path(place)
            (folder / "loans.csv").write_text("loan,object\nL-1,A\nL-2,B\n")
            (folder / "objects.csv").write_text("code,title\nA,Bell\nB,Bowl\n")
            flow, inputs = Flow(), []
            for name in ("loans", "objects"):
                settings = SourceSettings("text", str(folder / f"{name}.csv"))
                flow, step = edits.add_source(flow, settings, name.capitalize())
                inputs.append(Input(step))
            links = (LinkSettings("object", "code"),)
            flow, _ = edits.add_join(flow, *inputs, JoinSettings(links=links, type="inner", take="first"))
            cache = Cache(folder / "cache")
            library = Library(cache)
            last = run_as_it_is(flow, KINDS, Runner(KINDS, library), library, Task())
            (folder / "objects.csv").write_text("code,title\nA,Bell\nA,Bell II\nB,Bowl\nB,Bowl II\n")
            library = Library(cache)
            found = compare(flow, Runner(KINDS, library), library.before(flow, KINDS, last), last)
            (change,) = found.knots
            self.assertEqual((change.before.right_passed_over, change.after.right_passed_over), (0, 2))
            self.assertEqual(knot_words(change), "2 Objects passed over, was 0")
            members = found.as_members()["knots"][0]
            self.assertEqual(members["after"]["right_passed_over"], 2)


class Month(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = demo_data.copy(Path(folder.name) / "demo")
        cls.cache = Cache(Path(folder.name) / "cache")
        cls.path = cls.folder / WINTER_LOANS
        cls.flow = load(cls.path, KINDS)
        library = Library(cls.cache)
        runner = Runner(KINDS, library)
        cls.first = run_as_it_is(cls.flow, KINDS, runner, library, Task())
        save(with_last_run(cls.flow, cls.first), cls.path, KINDS)
        demo_data.next_month(cls.folder)
        cls.changed = next_month(demo_data.scenario())[1]

    def compared(self, cache=None):
        """The comparison as another start of the program makes it."""
        flow = load(self.path, KINDS)
        library = Library(cache or self.cache)
        before = library.before(flow, KINDS, last_run(flow))
        return compare(flow, Runner(KINDS, library), before, last_run(flow))

    def names(self, table, rows, field):
        return sorted(table.take(rows, [field])[0].values.to_pylist())

    def test_sources(self):
        loans, objects, venues, _ = self.compared().sources
        found, expected = loans.changes, self.changed
        self.assertEqual(found.key, ("Loan no",))
        self.assertEqual(self.names(loans.after, found.added, "Loan no"), expected.new_loans)
        self.assertEqual(self.names(loans.before, found.gone, "Loan no"), expected.dropped_loans)
        self.assertEqual(
            self.names(loans.after, found.changed[1], "Loan no"), sorted(expected.returned_loans)
        )
        self.assertEqual(found.by_field, (("Back date", 61), ("Status", 61)))
        self.assertEqual(loans.fields, (FieldChange(FieldChangeKind.ADDED, expected.new_field),))
        self.assertEqual(objects.changes.key, ("object_id",))
        gone = self.names(objects.before, objects.changes.gone, "accession")
        self.assertEqual(gone, expected.objects_taken_out)
        old, new = expected.renamed_venue
        self.assertEqual(self.names(venues.before, venues.changes.gone, "Venue"), [old])
        self.assertEqual(self.names(venues.after, venues.changes.added, "Venue"), [new])

    def test_knots(self):
        with_objects, with_venues = self.compared().knots
        newly = with_objects.newly["unmatched_left"]
        found = self.names(newly.table, newly.changes.added, "Loan no")
        self.assertEqual(found, self.changed.newly_without_object)
        newly = with_venues.newly["unmatched_left"]
        found = self.names(newly.table, newly.changes.added, "Loan no")
        self.assertEqual(found, self.changed.newly_without_venue)
        self.assertEqual((with_objects.before.left_unmatched, with_objects.after.left_rows), (49, 8_434))

    def test_outputs_and_words(self):
        comparison = self.compared()
        self.assertEqual((comparison.outputs[0].before, comparison.outputs[0].after), (8_355, 8_437))
        lines = list(change_lines(comparison))
        self.assertIn("Loans: 8,434 loans, 96 added, 14 gone, 61 changed", lines[0])
        self.assertIn("Packed by is new", lines[0])
        self.assertRegex(lines[3], r"^Loans with Objects: \d+ loans newly without a partner; ")

    def test_counts_are_compared_where_the_rows_are_gone(self):
        with TemporaryDirectory() as empty:
            comparison = self.compared(Cache(Path(empty)))
        loans = comparison.sources[0]
        self.assertIsNone(loans.changes)
        self.assertEqual((loans.before_rows, loans.after_rows), (8_352, 8_434))
        self.assertEqual(loans.fields, (FieldChange(FieldChangeKind.ADDED, self.changed.new_field),))
        self.assertEqual(comparison.knots[0].before.left_unmatched, 49)
        self.assertEqual(comparison.outputs[0].before, 8_355)

    def test_nothing_changed(self):
        library = Library(self.cache)
        runner = Runner(KINDS, library)
        now = run_as_it_is(self.flow, KINDS, runner, library, Task())
        flow = with_last_run(self.flow, now)
        comparison = compare(flow, runner, library.before(flow, KINDS, now), now)
        self.assertTrue(comparison.is_unchanged)
        self.assertEqual(list(change_lines(comparison)), [])

    def test_a_source_that_is_gone_is_said_and_the_rest_is_compared(self):
        with TemporaryDirectory() as place:
            copy = Path(place) / "demo"
            shutil.copytree(self.folder, copy)
            (copy / "registry.sqlite").unlink()
            flow = load(copy / WINTER_LOANS, KINDS)
            library = Library(self.cache)
            comparison = compare(flow, Runner(KINDS, library), Earlier({}), last_run(flow))
        loans, objects, *_ = comparison.sources
        self.assertEqual(loans.error, "")
        self.assertIn("There is no such file", objects.error)
        self.assertIn("There is no such file", comparison.knots[0].error)

    def test_the_file_remembers_one_item_a_line(self):
        text = self.path.read_text()
        self.assertIn('\n      "loans": {"rows": 8352,', text)
        self.assertIn('\n      "loans-with-objects": {"left_rows": 8352,', text)


if __name__ == "__main__":
    unittest.main()
