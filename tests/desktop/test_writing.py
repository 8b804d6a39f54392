"""Files that are written from the window, and rows that are copied: what is asked and said."""

import unittest
from unittest import mock

import msgspec
import openpyxl
import xlsxwriter
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QApplication, QMessageBox

from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.run_log import read
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.outputs.targets import settings_for
from keen_trellis.session.selection import Selection
from tests.desktop.driving import ALT, CTRL, WindowCase
from tests.outputs.reports import by_xlsxwriter

KEY = Qt.Key
_LOANS = "loan,day,note\nL-1,2026-03-05,=1+1\nL-2,2026-01-20,plain\nL-3,2026-11-02,-5\nL-4,2026-01-20,\n"


class LoansCase(WindowCase):
    def setUp(self):
        super().setUp()
        (self.folder / "loans.csv").write_text(_LOANS)
        flow, self.rail = edits.add_source(
            Flow(), SourceSettings("text", str(self.folder / "loans.csv")), "Loans"
        )
        self.session.apply("open", lambda _: flow, Selection(self.rail))
        self.rest()

    def outputs(self, *names):
        """Lead the loans to files of these names."""
        flow = self.session.flow
        for name in names:
            writer = "xlsx" if name.endswith("xlsx") else "text"
            flow, _ = edits.add_output(
                flow, Input(self.rail), OutputSettings(writer, str(self.folder / name))
            )
        self.session.apply("write", lambda _: flow, Selection(self.rail))
        self.rest()

    @property
    def said(self) -> str:
        return self.window.status.shown.text()


class OtherFile(LoansCase):
    def choose(self, name):
        """Choose another file for the output that is selected, by its sentence."""
        self.click(self.chip("File"))
        self.enter_file(self.folder / name)
        self.rest()

    @property
    def settings(self):
        return KINDS.settings(self.session.flow.step(self.session.selection.step))

    def test_its_guards_stay_and_what_the_other_has_no_use_for_goes(self):
        guards, sheet = ("rows=1..9",), "Loans of winter"
        settings = OutputSettings("xlsx", str(self.folder / "a.xlsx"), sheet, guards=guards)
        flow, step = edits.add_output(self.session.flow, Input(self.rail), settings)
        self.session.apply("write", lambda _: flow, Selection(step))
        self.rest()
        for name, writer in (
            ("b.tsv", "text"),
            ("c.parquet", "parquet"),
            ("d.json", "json"),
            ("e.xlsx", "xlsx"),
        ):
            self.choose(name)
            now = self.settings
            self.assertEqual((now.writer, now.file_name, now.guards), (writer, name, guards))
            self.assertIsNone(self.session.outcome(step).error)
            self.assertIn(name, self.sentence)
            self.click(self.chip("Write"))
            self.rest()
            self.rest(lambda name=name: (self.folder / name).exists())
        self.session.undo()
        self.rest()
        self.assertEqual(self.settings.file_name, "d.json")


class OutputCase(LoansCase):
    @property
    def settings(self):
        return KINDS.settings(self.session.flow.step(self.session.selection.step))

    def output(self, name, **settings):
        flow, step = edits.add_output(
            self.session.flow,
            Input(self.rail),
            msgspec.structs.replace(settings_for(self.folder / name), **settings),
        )
        self.session.apply("write", lambda _: flow, Selection(step))
        self.rest()


class Sentence(OutputCase):
    """What is said of an output can be changed where it is said."""

    def test_the_place_in_a_workbook(self):
        by_xlsxwriter(self.folder / "report.xlsx")
        self.output("report.xlsx")
        self.click(self.chip("Place"))
        self.assertEqual(
            self.lines(), ["Data", "Report", "Loans", "Lent", "another sheet …", "from a cell on …"]
        )
        self.pick("Lent")
        self.rest()
        self.assertEqual((self.settings.table, self.settings.sheet), ("Lent", "Data"))
        self.choose("Place", "another sheet …")
        self.enter("Months")
        self.assertEqual((self.settings.table, self.settings.sheet), ("", "Months"))
        self.choose("Place", "from a cell on …")
        self.enter("4B")
        self.assertIn("“4B” is not a cell", QApplication.activePopupWidget().said.text())
        self.enter("b4")
        self.rest()
        self.assertEqual(self.settings.cell, "B4")
        self.assertIn("Months from B4", self.sentence)
        self.choose("Mode", "below what is there")
        self.rest()
        self.assertEqual(self.settings.mode, "append")
        self.assertTrue(self.sentence.startswith("Add Loans to sheet"))
        self.assertIsNone(self.session.outcome(self.session.selection.step).error)

    def test_fields_their_order_and_names(self):
        self.output("a.csv")
        self.tick("Fields", "day")
        self.rest()
        self.assertEqual([entry.of for entry in self.settings.fields], ["loan", "note"])
        self.assertIn("2 of 3 fields", self.sentence)
        self.tick("Fields", "write one under another name …")
        self.pick("note")
        self.enter("remark")
        self.rest()
        self.assertEqual(self.settings.fields[1].name, "remark")
        self.click(self.chip("Write"))
        self.rest()
        self.rest(lambda: (self.folder / "a.csv").exists())
        self.assertTrue((self.folder / "a.csv").read_text().startswith("loan,remark\n"))

    def test_how_text_is_written(self):
        self.output("a.csv")
        self.choose("Form", "Decimal sign", "a comma")
        self.rest()
        self.assertEqual((self.settings.decimal, self.settings.delimiter), (",", ";"))
        self.choose("Form", "Encoding", "windows-1252")
        self.choose("Form", "A blank is written as")
        self.enter("n/a")
        self.choose("Form", "Dates", "dd.mm.yyyy")
        self.rest()
        self.assertEqual((self.settings.blank, self.settings.dates), ("n/a", "dd.mm.yyyy"))
        self.assertIn("semicolons, windows-1252, decimal comma", self.sentence)
        self.session.undo()
        self.rest()
        self.assertEqual(self.settings.dates, "yyyy-mm-dd")

    def test_a_workbook_as_a_table_with_totals(self):
        self.output("a.xlsx")
        self.choose("Form", "A table with a filter")
        self.choose("Form", "A row of totals")
        self.rest()
        self.assertIn("as a table, with totals", self.sentence)
        self.choose("Form", "A row of totals")
        self.rest()
        self.assertFalse(self.settings.totals)

    def test_a_table_of_a_database(self):
        self.press(KEY.Key_B, modifier=CTRL | Qt.KeyboardModifier.ShiftModifier)
        self.enter(f"sqlite:{self.folder}/register.db#loans")
        self.rest()
        self.assertIn("to table loans of register.db", self.sentence)
        self.choose("Mode", "updating rows of the same key")
        self.chooser().list.setCurrentRow(self.lines().index("loan"))
        self.press(KEY.Key_Space)
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual((self.settings.mode, self.settings.key), ("update", ("loan",)))
        self.choose("Gone", "deleting rows that are gone")
        self.rest()
        self.assertEqual(self.settings.gone, "delete")
        self.click(self.chip("Write"))
        self.rest()
        self.rest(lambda: "Wrote 4 rows" in self.said)
        self.click(self.chip("Write"))
        self.rest()
        self.assertIn(
            "those with the same loan are updated; those that are gone are deleted",
            self.dialog(QMessageBox).informativeText(),
        )
        self.answer("Replace")
        self.rest(lambda: "0 new, 0 changed, 4 unchanged" in self.said)


class Preview(OutputCase):
    """What whoever opens the file will find."""

    def panel(self):
        self.press(KEY.Key_F7, modifier=Qt.KeyboardModifier.ShiftModifier)
        self.rest()
        self.assertTrue(self.window.bench.preview.is_shown)
        return self.window.bench.preview.view

    def test_lines_of_text(self):
        self.output("a.csv", delimiter=";", dates="dd.mm.yyyy")
        panel = self.panel()
        self.assertIn("What is written to a.csv: 4 rows", panel.title.text())
        self.assertEqual(panel.texts[:2], [["1", "loan;day;note"], ["2", "L-1;05.03.2026;'=1+1"]])
        self.choose("Form", "Quotation marks", "around every cell")
        self.rest()
        self.assertEqual(panel.texts[0][1], '"loan";"day";"note"')
        panel.setFocus()
        self.press(KEY.Key_Escape)
        self.assertFalse(self.window.bench.preview.is_shown)
        self.click(self.chip("Preview"))
        self.assertTrue(self.window.bench.preview.is_shown)

    def test_cells_and_types(self):
        self.output("a.xlsx", cell="B4")
        panel = self.panel()
        self.assertEqual(panel.texts[0], ["4", "loan", "day", "note"])
        self.assertEqual(panel.table.horizontalHeaderItem(1).text(), "B")
        self.output("a.parquet")
        panel = self.panel()
        self.assertEqual(panel.table.horizontalHeaderItem(1).text(), "day (date)")
        self.assertEqual(panel.texts[3], ["L-4", "2026-01-20", "null"])


class Together(LoansCase):
    def test_all_or_none(self):
        by_xlsxwriter(self.folder / "report.xlsx")
        self.outputs("a.csv", "report.xlsx")
        step = self.session.flow.steps[-1].id
        wrong = msgspec.structs.replace(settings_for(self.folder / "report.xlsx"), table="Lent")
        self.session.change_settings(step, wrong, "wrong")
        self.rest()
        self.press(KEY.Key_F9)
        self.rest()
        self.answer("Replace")
        self.rest()
        self.assertIn("Its columns are id, amount, twice", self.dialog(QMessageBox).text())
        self.answer("OK")
        self.assertFalse((self.folder / "a.csv").exists())
        right = msgspec.structs.replace(settings_for(self.folder / "report.xlsx"), sheet="Report", cell="B30")
        self.session.change_settings(step, right, "right")
        self.rest()
        self.press(KEY.Key_F9)
        self.rest()
        self.assertIn("from B30 on are written over", self.dialog(QMessageBox).informativeText())
        self.answer("Replace")
        self.rest(lambda: (self.folder / "a.csv").exists())
        self.assertIn("Wrote 2 outputs, 8 rows in all: a.csv, report.xlsx", self.said)


class Copying(LoansCase):
    def setUp(self):
        super().setUp()
        self.window.bench.grid.setFocus()

    def lines(self):
        return [line.split("\t") for line in QGuiApplication.clipboard().text().splitlines()]

    def test_all_rows_are_chosen_where_the_bench_has_the_keyboard(self):
        self.press(KEY.Key_A, modifier=CTRL)
        self.assertEqual(self.session.chosen, ())
        self.assertIn("4 lines are chosen", self.said)
        self.press(KEY.Key_C, modifier=CTRL)
        self.assertEqual([line[0] for line in self.lines()], ["loan", "L-1", "L-2", "L-3", "L-4"])
        self.assertIn("4 rows are on the clipboard", self.said)
        self.window.trellis.setFocus()
        self.press(KEY.Key_A, modifier=CTRL)
        self.assertEqual(self.session.chosen, (self.rail,))

    def test_a_formula_is_not_run_where_it_is_pasted(self):
        self.press(KEY.Key_A, modifier=CTRL)
        self.press(KEY.Key_C, modifier=CTRL)
        self.assertEqual([line[2] for line in self.lines()][1:4], ["'=1+1", "plain", "-5"])
        self.assertIn("1 cell has an apostrophe", self.said)

    def test_that_not_all_is_copied_is_said(self):
        with mock.patch("keen_trellis.desktop.bench.copying._MOST_COPIED", 2):
            self.press(KEY.Key_A, modifier=CTRL)
            self.press(KEY.Key_C, modifier=CTRL)
        self.assertEqual(len(self.lines()), 3)
        self.assertIn("2 rows are on the clipboard, the first of 4 lines; write them to a file", self.said)


class Writing(LoansCase):
    def test_what_is_replaced_is_asked_once_for_all_outputs(self):
        self.outputs("a.csv", "b.csv", "c.csv")
        for name in ("a.csv", "c.csv"):
            (self.folder / name).write_text("old")
        self.press(KEY.Key_F9)
        box = self.dialog(QMessageBox)
        self.assertIn("2 of the targets exist already", box.text())
        self.assertLess(box.informativeText().index("a.csv"), box.informativeText().index("c.csv"))
        self.answer("Write only the new ones")
        self.rest()
        self.assertEqual((self.folder / "a.csv").read_text(), "old")
        self.assertTrue((self.folder / "b.csv").exists())
        self.press(KEY.Key_F9)
        self.assertIn("3 of the targets exist already", self.dialog(QMessageBox).text())
        self.answer("Replace all")
        self.rest()
        self.assertNotEqual((self.folder / "a.csv").read_text(), "old")
        self.assertIsNone(QApplication.activeModalWidget())

    def test_what_was_written_is_noted_in_the_log_unless_the_flow_keeps_none(self):
        self.outputs("a.csv", "b.csv")
        path = self.folder / "flow.trellis"
        self.session.save(path)
        self.press(KEY.Key_F9)
        self.rest(lambda: read(path).runs)
        (run,) = read(path).runs
        self.assertEqual((run.by, sorted(run.outputs.values()), len(run.written)), ("output", [4, 4], 2))
        self.assertGreater(run.seconds, 0)
        self.press(KEY.Key_F5, modifier=CTRL | ALT)
        self.assertIn("no longer noted", self.said)
        self.press(KEY.Key_F5)
        self.rest()
        self.press(KEY.Key_Z, modifier=CTRL)
        self.assertTrue(self.session.flow.keeps_log)
        self.press(KEY.Key_F5)
        self.rest(lambda: len(read(path).runs) > 1)
        self.assertEqual([run.by for run in read(path).runs], ["output", "refresh"])

    def test_nothing_is_asked_where_nothing_is_there(self):
        self.outputs("a.csv", "b.csv")
        self.press(KEY.Key_F9)
        self.rest()
        self.assertTrue((self.folder / "b.csv").exists())

    def test_what_happens_to_a_workbook_is_said(self):
        with xlsxwriter.Workbook(self.folder / "report.xlsx") as book:
            for name in ("Data", "Notes"):
                book.add_worksheet(name)
        self.outputs("report.xlsx")
        for key in (KEY.Key_F9, None):
            if key is None:
                self.window.writing.write_output(self.session.flow.steps[-1].id)
            else:
                self.press(key)
            self.assertIn(
                "Sheet Data is written anew; its other sheet stays (Notes).",
                self.dialog(QMessageBox).informativeText(),
            )
            self.answer("Cancel")
        self.assertEqual(openpyxl.load_workbook(self.folder / "report.xlsx").sheetnames, ["Data", "Notes"])

    def test_what_a_file_cannot_hold_is_said(self):
        self.outputs("a.csv")
        self.press(KEY.Key_F9)
        self.rest()
        self.assertIn("Wrote 4 rows", self.said)
        self.assertIn("1 cell of note written with an apostrophe", self.said)


class HeldBack(LoansCase):
    """As `run` does, the window writes nothing behind a broken guard, and no two outputs to one file."""

    def guarded(self, *guards):
        self.outputs("a.csv")
        output = self.session.flow.steps[-1]
        settings = OutputSettings("text", str(self.folder / "a.csv"), guards=guards)
        self.session.apply("guard", lambda _: edits.change_settings(self.session.flow, output.id, settings))
        self.rest()

    def test_what_is_behind_a_broken_guard_is_written_only_on_request(self):
        self.guarded("rows=100..")
        for way in (lambda: self.press(KEY.Key_F9), lambda: self.window.writing.write_output("a-csv")):
            way()
            self.rest()
            box = self.dialog(QMessageBox)
            self.assertIn("a guard before it is broken", box.text())
            self.assertIn("100", box.informativeText())
            self.assertFalse((self.folder / "a.csv").exists())
            self.answer("Cancel")
        self.press(KEY.Key_F9)
        self.rest()
        self.dialog(QMessageBox)
        self.answer("Write it all the same")
        self.rest(lambda: (self.folder / "a.csv").exists())

    def test_a_guard_that_holds_asks_nothing(self):
        self.guarded("rows=1..")
        self.press(KEY.Key_F9)
        self.rest()
        self.assertTrue((self.folder / "a.csv").exists())

    def test_two_outputs_to_one_file(self):
        self.outputs("a.csv")
        flow, _ = edits.add_output(
            self.session.flow, Input(self.rail), OutputSettings("text", str(self.folder / "a.csv"))
        )
        self.session.apply("again", lambda _: flow, Selection(self.rail))
        self.rest()
        self.press(KEY.Key_F9)
        self.rest()
        self.assertIn("Two outputs write to it", self.dialog(QMessageBox).text())
        self.answer("OK")
        self.assertFalse((self.folder / "a.csv").exists())


class Values(LoansCase):
    def test_dates_are_listed_in_their_order(self):
        self.press(KEY.Key_H, modifier=CTRL | ALT)
        self.rest()
        self.pick("day")
        self.rest()
        self.assertEqual(super().lines(), ["2026-01-20", "2026-03-05", "2026-11-02"])


if __name__ == "__main__":
    unittest.main()
