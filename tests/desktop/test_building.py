"""Demo flows built from nothing in the window, two by mouse and two by keyboard alone.

Saved, opened again, and run from the command line, they come to what the demo's own flows come to.
"""

import json
import unittest
from pathlib import Path

import python_calamine
from click.testing import CliRunner
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QMenuBar

from keen_trellis.cli import main
from keen_trellis.desktop.sentence.chooser import Chooser
from keen_trellis.desktop.sentence.expression import ExpressionEntry
from tests import demo_data
from tests.desktop.driving import ALT, CTRL, SHIFT, WindowCase

KEY = Qt.Key


class BuildingCase(WindowCase):
    def setUp(self):
        super().setUp()
        self.data = demo_data.copy(self.folder / "lantern")

    # --- by mouse ---

    def menu(self, title: str, text: str):
        """Click a command in a menu of the menu bar."""
        bar = self.window.findChild(QMenuBar)
        action = next(entry for entry in bar.actions() if entry.text().replace("&", "") == title)
        self.click(bar, bar.actionGeometry(action).center())
        menu = action.menu()
        wanted = next(entry for entry in menu.actions() if entry.text().replace("&", "").startswith(text))
        self.assertTrue(wanted.isEnabled(), text)
        self.click(menu, menu.actionGeometry(wanted).center())
        self.rest()

    def lead(self, dragged: str, onto: str):
        """Drag a stump or rail head of the margin on the rail that ends in a step."""
        trellis = self.window.trellis
        start = next(i.rect.center() for i in trellis.items if i.text == dragged and i.rect.right() < 210)
        target = [i for i in trellis.items if i.selection.step == onto and i.target and i.rect.left() > 200]
        self.assertTrue(target, [(i.text, i.selection) for i in trellis.items])
        end = max(target, key=lambda item: item.rect.right())
        self.drag(trellis, start, end.rect.center())
        self.rest()

    def pick_one(self, text: str):
        """Click the line of the open list that begins so, by way of the filter where it is long."""
        chooser = self.chooser()
        if chooser.filter.isVisible():
            self.click(chooser.filter)
            self.type(text)
        line = next(line for line in self.lines() if line.startswith(text))
        self.pick(line)
        self.rest()

    def untick_all_but(self, *names: str):
        for choice in self.chooser().choices:
            if choice.ticked and choice.text not in names:
                self.pick(choice.text)
        self.press(KEY.Key_Return)
        self.rest()

    # --- by keyboard ---

    def open_by_keys(self, name: str):
        self.press(KEY.Key_O, modifier=CTRL)
        self.enter_file(self.data / name)
        self.rest()

    def go_to(self, what: str):
        """Go to a step or table with the finder."""
        self.press(KEY.Key_G, modifier=CTRL | SHIFT)
        self.narrow(what)

    def narrow(self, *texts: str):
        """In one open list after the other, type until a line is left, or walk to it, and choose it."""
        for text in texts:
            chooser = self.chooser()
            self.assertIsInstance(QApplication.activePopupWidget(), Chooser)
            if chooser.filter.isVisible():
                self.type(text)
            row = next(row for row, line in enumerate(self.lines()) if line.startswith(text))
            while chooser.list.currentRow() < row:
                self.press(KEY.Key_Down)
            while chooser.list.currentRow() > row:
                self.press(KEY.Key_Up)
            self.press(KEY.Key_Return)
            self.rest()

    def at_chip(self, label: str):
        """Walk to a chip of the sentence and open it."""
        self.window.trellis.setFocus()
        self.press(KEY.Key_F6)
        for _ in range(30):
            if self.chip(label).hasFocus():
                break
            self.press(KEY.Key_Right)
        self.assertTrue(self.chip(label).hasFocus(), label)
        self.press(KEY.Key_Return)
        self.rest()

    def expression(self, text: str):
        """Type into the open entry for an expression."""
        entry = QApplication.activePopupWidget()
        self.assertIsInstance(entry, ExpressionEntry)
        self.type(text)
        entry.popup.hide()
        self.press(KEY.Key_Return)
        self.rest()

    # --- what came of it ---

    def finish(self, name: str, saved_as: str, *, compared: bool = False) -> dict:
        """Save, open again, run from the command line: its counts. compared: so are the rows written."""
        path = self.data / saved_as
        self.press(KEY.Key_S, modifier=CTRL)
        self.enter_file(path)
        self.rest()
        self.assertFalse(self.session.unsaved)
        rows = {
            step.id: o.result.rows.rows
            for step in self.session.flow.steps
            if (o := self.session.outcome(step.id))
        }
        self.window.files.new()
        self.window.files.open_flow(path)
        self.rest()
        again = {step.id: self.session.outcome(step.id).result.rows.rows for step in self.session.flow.steps}
        self.assertEqual(again, rows)
        demo = self.data / f"{name}.trellis"
        if not compared:
            demo_data.written_as_text(demo)
        own, theirs = self.run_of(path), self.run_of(demo)
        self.assertEqual(
            [output["rows"] for output in own["outputs"]], [output["rows"] for output in theirs["outputs"]]
        )
        counts = ("left_rows", "pairs", "left_unmatched", "right_unmatched")
        knots = [[tuple(knot[key] for key in counts) for knot in found["knots"]] for found in (own, theirs)]
        self.assertEqual(*knots)
        return own

    def run_of(self, flow: Path) -> dict:
        (self.folder / flow.stem).mkdir(exist_ok=True)
        said = CliRunner().invoke(
            main, ["run", str(flow), "--to", str(self.folder / flow.stem), "--json", "--leave-flow"]
        )
        self.assertEqual(said.exit_code, 0, said.output)
        return json.loads(said.output)

    def write_to(self, name: str):
        self.press(KEY.Key_E, modifier=CTRL)
        self.enter_file(self.data / name)
        self.rest()


class ByMouse(BuildingCase):
    def test_winter_loans(self):
        self.drop_files(
            *(self.data / name for name in ("loans-2026.xlsx", "registry.sqlite", "visitors.ods"))
        )
        self.double_click(
            self.window.trellis, self.window.trellis.on_screen(self.item("Loans").rect).center()
        )
        self.rest()
        self.lead("objects", "loans")
        self.pick("every loan, with its object where known")
        self.rest()
        self.click(self.chip("Fields of Objects"))
        self.untick_all_but("title", "maker", "keeper", "made")
        self.lead("Venues", self.session.selection.step)
        self.pick("every loan, with its venue where known")
        self.rest()
        self.click(self.chip("Fields of Venues"))
        self.untick_all_but("Short name", "Region", "Contact")
        self.menu("Step", "Fill gaps")
        self.fill_what_is_absent()
        self.menu("Step", "Compute a field")
        self.compute_the_month()
        self.lead("Visitors", self.session.selection.step)
        self.pick_letter("B")
        self.assertIn("month", self.sentence)
        self.write_to("Mine.xlsx")
        own = self.finish("Winter loans", "My loans.trellis", compared=True)
        self.assertEqual(own["outputs"][0]["rows"], 8355)
        sheets = [
            python_calamine.CalamineWorkbook.from_path(self.folder / folder / file).get_sheet_by_index(0)
            for folder, file in (("My loans", "Mine.xlsx"), ("Winter loans", "Loan report.xlsx"))
        ]
        cells = [sheet.to_python() for sheet in sheets]
        heads = [rows[0] for rows in cells]
        self.assertEqual(set(heads[0]), set(heads[1]))
        places = [heads[0].index(name) for name in heads[1]]
        self.assertEqual([[row[n] for n in places] for row in cells[0][1:]], cells[1][1:])

    def pick_letter(self, letter: str):
        """Click the line of the open list that a letter chooses."""
        line = next(choice.text for choice in self.chooser().choices if choice.letter == letter)
        self.pick(line)
        self.rest()

    def fill_what_is_absent(self):
        self.pick_one("title")
        self.pick_one("a value")
        self.enter("not in the registry")
        self.click(self.chip("Fields"))
        for name in ("maker", "keeper"):
            self.pick(name)
        self.press(KEY.Key_Return)
        self.rest()
        self.click(self.chip("Gaps"))
        self.pick_one("has no partner")

    def compute_the_month(self):
        self.expression('SUBSTRING(CAST("Out date" AS VARCHAR) FROM 1 FOR 7)')
        self.enter("month")

    def test_all_couriers(self):
        self.menu("File", "Open a folder")
        self.enter_file(self.data / "courier-logs")
        self.rest()
        self.menu("Flow", "Start a rail")
        self.menu("File", "Type or paste a table")
        typed = "venue\tdate\tcrates\tcost\nPier\t2026-03-04\t2\t61.50\nEbbrick\t2026-11-19\t1\t38.00\n"
        QApplication.clipboard().setText(typed)
        self.window.bench.typing.view.setFocus()
        self.press(KEY.Key_V, modifier=CTRL)
        self.rest()
        self.lead("Typed table", "courier-logs")
        self.pick_letter("U")
        self.click(self.chip("Rail field"))
        self.enter("from")
        self.menu("Step", "Compute a field")
        self.expression("EXTRACT(MONTH FROM date)")
        self.enter("month")
        popup = QApplication.activePopupWidget()
        self.assertIsNone(popup, popup and popup.said.text())
        self.menu("Step", "Summarise by keys")
        self.pick_one("venue")
        self.choose("Another key", "month")
        for function, of in (("the sum", "crates"), ("the sum", "cost")):
            self.choose("Another measure", function, of)
        self.write_to("Mine.xlsx")
        self.finish("All couriers", "My couriers.trellis")


class ByKeyboard(BuildingCase):
    def test_returns_desk(self):
        self.open_by_keys("loans-2026.xlsx")
        self.go_to("Loans of loans-2026.xlsx")
        self.press(KEY.Key_B, modifier=CTRL)
        self.rest()
        self.press(KEY.Key_F, modifier=CTRL | ALT)
        self.rest()
        self.narrow("Back date", "Back date is not blank")
        self.open_by_keys("returns-desk.csv")
        self.go_to("Back date is not blank")
        self.press(KEY.Key_E, modifier=CTRL | ALT)
        self.narrow("returns-desk of returns-desk.csv")
        ticked = [choice.text for choice in self.chooser().choices if choice.ticked]
        self.assertIn("Back date with returned", ticked)
        while (line := self.chooser().choices[self.chooser().list.currentRow()]).ticked:
            if line.text != "Back date with returned":
                self.press(KEY.Key_Space)
            self.press(KEY.Key_Down)
        self.press(KEY.Key_Return)
        self.rest()
        self.write_to("Mine.xlsx")
        own = self.run_and_compare()
        self.assertEqual(len(own["knots"]), 1)

    def run_and_compare(self) -> dict:
        return self.finish("Returns desk", "My returns.trellis")

    def test_sets(self):
        self.open_by_keys("registry.sqlite")
        self.go_to("objects of registry.sqlite")
        self.press(KEY.Key_B, modifier=CTRL)
        self.rest()
        self.press(KEY.Key_F, modifier=CTRL | ALT)
        self.rest()
        self.narrow("part_of", "part_of is not blank")
        self.press(KEY.Key_J, modifier=CTRL)
        self.narrow("objects of registry.sqlite")
        self.press(KEY.Key_1)
        self.rest()
        self.assertIn("of Objects 2", self.sentence)
        if "Match part_of of Objects with accession of Objects 2" not in self.sentence:
            self.at_chip("Link field of Objects")
            self.narrow("part_of")
            self.at_chip("Link field of Objects 2")
            self.narrow("accession")
        self.press(KEY.Key_K, modifier=CTRL | ALT)
        self.rest()
        self.narrow("part_of")
        self.at_chip("Another measure")
        self.narrow("the first", "title of Objects 2")
        self.at_chip("Another measure")
        self.narrow("all values, listed", "title")
        self.press(KEY.Key_S, modifier=CTRL | ALT)
        self.rest()
        self.narrow("rows")
        self.write_to("Mine.xlsx")
        own = self.finish("Sets", "My sets.trellis")
        self.assertEqual(own["outputs"][0]["rows"], self.sets())

    def sets(self) -> int:
        return len({row[4] for row in demo_data.scenario().objects if row[4]})


if __name__ == "__main__":
    unittest.main()
