"""What the window tells others, and looks back at: reports, answers, runs, versions, a value followed."""

import json

import openpyxl
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMessageBox

from keen_trellis.flow.run_log import log_path, read
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.session import editing
from keen_trellis.session.reporting import Wanted
from keen_trellis.session.selection import Selection
from tests.desktop.driving import CTRL, SHIFT, WindowCase

KEY = Qt.Key
LOANS = "loan,venue\nL-1,Pier\nL-2,tower\nL-3,Hall\nL-4,\n"
VENUES = "venue,town\nPier,Wick\nTower,Wick\nQuay,Wick\n"


class LookingBack(WindowCase):
    def setUp(self):
        super().setUp()
        for name, text in (("loans.csv", LOANS), ("venues.csv", VENUES)):
            (self.folder / name).write_text(text)
        self.path = self.folder / "Winter.trellis"
        steps = [
            {
                "id": name,
                "kind": "source",
                "name": name.capitalize(),
                "settings": {"reader": "text", "path": f"{name}.csv"},
            }
            for name in ("loans", "venues")
        ]
        link = {"left": "venue", "right": "venue"}
        inputs = [{"step": "loans", "port": "rows"}, {"step": "venues", "port": "rows"}]
        joined = {"id": "joined", "kind": "join", "name": "Joined", "inputs": inputs}
        joined["settings"] = {"links": [link], "type": "left-outer"}
        self.path.write_text(json.dumps({"format": "keen-trellis/1", "steps": [*steps, joined]}))
        self.window.files.open_flow(self.path)
        self.rest()
        self.session.select(Selection("joined"))
        self.rest()

    @property
    def said(self):
        return self.window.status.shown.text()

    def choose(self, path):
        """Name a file in the dialog that asks for one."""
        self.enter_file(path)
        self.rest()

    def test_a_report_is_written_in_the_form_that_its_name_says(self):
        for form, begins in (("html", b"<!DOCTYPE html>"), ("pdf", b"%PDF-"), ("xlsx", b"PK")):
            self.press(KEY.Key_W, modifier=CTRL | SHIFT)
            path = self.folder / f"report.{form}"
            self.choose(path)
            self.assertTrue(path.read_bytes().startswith(begins), form)
            self.assertIn(f"Wrote the report to {path}", self.said)
        page = (self.folder / "report.html").read_text()
        self.assertIn("Why 3 loans have no partner in Venues", page)
        self.assertIn("data:image/svg+xml", page)

    def test_a_report_never_takes_the_place_of_what_is_read(self):
        self.press(KEY.Key_U, modifier=CTRL | SHIFT)
        self.choose(self.folder / "new.csv")
        self.assertIn("A report is a page, a paper or a workbook", self.warning())
        self.assertFalse((self.folder / "new.csv").exists())
        before = self.path.read_bytes()
        linked = self.folder / "flow.html"
        linked.symlink_to(self.path)
        self.window.match_reports.write(linked, Wanted())
        self.rest()
        self.warning()
        self.assertEqual(self.path.read_bytes(), before)

    def warning(self):
        box = self.dialog(QMessageBox)
        said = f"{box.text()} {box.informativeText()}"
        box.accept()
        return said

    def test_answers_that_come_back_are_one_edit(self):
        self.press(KEY.Key_W, modifier=CTRL | SHIFT)
        self.choose(self.folder / "report.xlsx")
        book = openpyxl.load_workbook(self.folder / "report.xlsx")
        book["Loans absent"]["C2"] = "absent"
        book["Loans written-differently"]["C2"] = "yes"
        book.save(self.folder / "back.xlsx")
        before = self.session.flow
        self.press(KEY.Key_I, modifier=CTRL | SHIFT)
        self.choose(self.folder / "back.xlsx")
        self.assertIn("1 value is corrected, 1 is accepted as absent", self.said)
        counts = self.session.outcome("joined").figures.counts
        self.assertEqual(counts.left_matched, 2)
        self.press(KEY.Key_Z, modifier=CTRL)
        self.assertEqual(self.session.flow, before)

    def test_a_field_is_left_out_of_reports_and_shown_again(self):
        self.window.bench.grid.setFocus()
        name = self.window.bench.field_here().name
        self.press(KEY.Key_X, modifier=CTRL | SHIFT)
        self.assertEqual(self.session.flow.confidential, (name,))
        self.press(KEY.Key_W, modifier=CTRL | SHIFT)
        self.choose(self.folder / "report.html")
        page = (self.folder / "report.html").read_text()
        self.assertIn(f"The values of {name}", page)
        for value in ("L-1", "L-3") if name == "loan" else ("Hall", "tower"):
            self.assertNotIn(value, page)
        self.press(KEY.Key_X, modifier=CTRL | SHIFT)
        self.assertEqual(self.session.flow.confidential, ())

    def test_a_value_is_followed_and_its_way_lit(self):
        editing.add_output(self.session, OutputSettings("text", str(self.folder / "out.csv")))
        self.rest()
        bench = self.window.bench
        bench.follow.follow("L-2")
        self.rest()
        view = bench.follow.view
        texts = [" ".join(row) for row in view.texts]
        self.assertIn("Loans 1 row in loan loans.csv, row 3", texts[0])
        self.assertTrue(any("found no venue: the same apart from case" in text for text in texts), texts)
        self.assertTrue(any(text.startswith("ends in out.csv 1 row") for text in texts), texts)
        self.assertEqual(self.session.lit["joined"], "1")
        faint = self.window.trellis.grab().toImage()
        self.press(KEY.Key_Down, KEY.Key_Return)
        self.rest()
        self.assertEqual(self.session.selection.step, "joined")
        self.assertEqual(bench.grid.current_row()[1] if bench.grid.current_row() else -1, 0)
        bench.follow.follow("L-2")
        self.rest()
        self.press(KEY.Key_Escape)
        self.rest()
        self.assertEqual(self.session.lit, {})
        self.assertNotEqual(self.window.trellis.grab().toImage(), faint)

    def test_a_value_that_is_asked_for_may_be_nowhere(self):
        self.window.bench.follow.ask()
        self.type("\b" * 10)
        self.target().setText("L-9")
        self.press(KEY.Key_Return)
        self.rest()
        self.assertIn("“L-9” is in no row", self.said)

    def test_the_runs_are_shown_and_two_compared(self):
        self.press(KEY.Key_F5, modifier=CTRL | SHIFT)
        self.assertIn("No run of this flow is remembered", self.said)
        for text in (LOANS, LOANS.replace("L-3,Hall\n", "")):
            (self.folder / "loans.csv").write_text(text)
            self.press(KEY.Key_F5)
            count = len(read(self.path).runs)
            self.rest(lambda count=count: len(read(self.path).runs) > count)
        self.assertTrue(log_path(self.path).exists())
        self.press(KEY.Key_F5, modifier=CTRL | SHIFT)
        self.rest()
        bench = self.window.bench
        view = bench.runs.view
        self.assertTrue(bench.runs.is_shown)
        self.assertEqual([row[1] for row in view.texts], ["refresh", "refresh"])
        self.assertEqual([row[5] for row in view.texts], ["2", "3"])
        self.assertEqual(view.pictures.layout().count(), 4)
        self.press(KEY.Key_Return)
        self.rest()
        self.assertTrue(bench.changes.is_shown)
        said = [row[2] for row in bench.changes.view.texts]
        self.assertTrue(any("1 loan gone" in text for text in said), said)
        self.assertTrue(any("2 unmatched Loans, was 3" in text for text in said), said)

    def test_an_edit_says_what_it_changed(self):
        self.press(KEY.Key_Y, modifier=CTRL | SHIFT)
        self.assertIn("No edit was made", self.said)
        self.press(KEY.Key_2)
        self.rest()
        self.press(KEY.Key_Y, modifier=CTRL | SHIFT)
        view = self.window.bench.edits.view
        self.assertEqual(view.texts, [["Ask for only loans with a venue"]])
        self.press(KEY.Key_Return)
        self.rest()
        versions = self.window.bench.versions.view
        said = [row[2].strip(" …") for row in versions.texts]
        self.assertIn("type: inner; was left-outer.", said)
        self.assertIn("3 rows gone", said)
        versions.table.selectRow(said.index("3 rows gone"))
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.window.bench.content.parts[0].rows.count, 3)

    def test_the_flow_is_compared_with_a_file(self):
        other = self.folder / "Before.trellis"
        other.write_text(self.path.read_text().replace("left-outer", "inner"))
        self.press(KEY.Key_V, modifier=CTRL | SHIFT)
        self.choose(other)
        said = [row[2].strip(" …") for row in self.window.bench.versions.view.texts]
        self.assertIn("type: left-outer; was inner.", said)
        self.assertIn("3 rows added", said)
