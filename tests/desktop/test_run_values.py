"""Run values in the window: added, changed, used, renamed, removed, and asked about before a run."""

import unittest

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QApplication, QMessageBox

from keen_trellis.flow import edits
from keen_trellis.flow.graph import Input, RunValue
from keen_trellis.flow.run_log import read
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.session.selection import Selection
from tests.desktop.driving import ALT, CTRL, SHIFT
from tests.desktop.test_join_sentence import JoinCase
from tests.tables import rows_of

KEY = Qt.Key


class ValuesCase(JoinCase):
    def add(self, name="where"):
        self.press(KEY.Key_V, modifier=CTRL | ALT | SHIFT)
        self.rest()
        self.enter(name)

    def value(self, name="where") -> RunValue:
        return next(value for value in self.session.flow.values if value.name == name)

    def filtered(self) -> str:
        """A filter of loans by the run value."""
        keep = FilterSettings(conditions=(ConditionSettings("venue", "one-of", (":where",)),))
        flow, step = edits.insert_after(self.session.flow, Input("loans"), "filter", keep)
        self.session.apply("test", lambda _: flow)
        self.rest()
        return step

    def rows(self, step: str) -> list[tuple]:
        return rows_of(self.session.outcome(step).result.rows)


class Values(ValuesCase):
    def test_one_is_added_changed_and_used_and_undone(self):
        self.add()
        self.assertIn("Nothing uses it yet: write :where in an expression", self.sentence)
        self.assertEqual(self.window.bench.run_values.view.texts[0][:3], [":where", "not set", "text"])
        self.click(self.chip("Value"))
        self.enter("Pier")
        step = self.filtered()
        self.assertEqual(len(self.rows(step)), 2)
        self.session.select(Selection(value="where"))
        self.rest()
        self.assertIn("uses it", self.sentence)
        self.click(self.chip("Value"))
        self.enter("Mill")
        self.assertEqual([row[2] for row in self.rows(step)], ["Mill"])
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(len(self.rows(step)), 2)

    def test_it_can_be_one_of_a_list_or_a_value_of_a_field(self):
        self.add()
        self.choose("Choices", "one of a list …")
        self.enter("Mill\nPier\n", lines=True)
        self.assertEqual((self.value().choices, self.value().value), (("Mill", "Pier"), "Mill"))
        self.choose("Value", "Pier")
        self.assertEqual(self.value().value, "Pier")
        self.choose("Choices", "a value of a field …", "value of Loans")
        value = self.value()
        self.assertEqual((value.type, value.choices, value.field), ("number", (), "value"))
        self.assertEqual(value.value, "", "Pier is no number")
        self.click(self.chip("Value"))
        self.rest()
        self.assertEqual(self.lines()[-1], "another …")
        self.pick(self.lines()[0])
        self.rest()
        self.assertNotEqual(self.value().value, "")

    def test_a_value_that_does_not_fit_its_type_is_refused_where_it_is_typed(self):
        self.add("limit")
        self.choose("Type", "number")
        self.click(self.chip("Value"))
        self.enter("many")
        self.assertIn("limit is a number, and “many” is none", QApplication.activePopupWidget().said.text())
        self.enter("12")
        self.assertEqual(self.value("limit").value, "12")
        self.choose("Type", "date")
        self.assertEqual(self.value("limit").type, "number", "12 is no date")
        self.assertIn("limit is a date, and “12” is none", self.window.status.shown.text())

    def test_it_is_renamed_wherever_it_is_used_and_stays_while_it_is(self):
        self.add()
        self.click(self.chip("Value"))
        self.enter("Pier")
        step = self.filtered()
        self.session.select(Selection(value="where"))
        self.rest()
        self.press(KEY.Key_F2)
        self.rest()
        self.enter("venue name")
        self.assertIn("cannot be called", QApplication.activePopupWidget().said.text())
        self.enter("place")
        self.assertEqual(KINDS.settings(self.session.flow.step(step)).conditions[0].values, (":place",))
        self.assertEqual(len(self.rows(step)), 2)
        self.press(KEY.Key_Delete)
        self.rest()
        self.assertEqual([value.name for value in self.session.flow.values], ["place"])
        self.assertIn(":place is used by", self.window.status.shown.text())
        self.session.apply("test", lambda flow: edits.remove_step(flow, step), Selection(value="place"))
        self.press(KEY.Key_Delete)
        self.rest()
        self.assertEqual(self.session.flow.values, ())

    def test_it_is_at_the_start_of_the_trellis_and_a_double_click_changes_it(self):
        self.add()
        self.session.select(Selection())
        (line,) = self.window.trellis.shown.values
        self.assertEqual((line.name, line.text, line.alarm), (":where", "not set", True))
        item = next(i for i in self.window.trellis.items if i.selection == Selection(value="where"))
        self.window.trellis.opened.emit(item.selection)
        self.rest()
        self.enter("Hall")
        (line,) = self.window.trellis.shown.values
        self.assertEqual((line.text, line.alarm), ("Hall", False))
        self.click(self.window.trellis, self.window.trellis.on_screen(item.rect).center())
        self.rest()
        self.assertEqual(self.session.selection, Selection(value="where"))
        self.assertTrue(self.window.bench.run_values.is_shown)

    def test_the_page_opens_and_closes_and_lists_all(self):
        self.add()
        self.window.run_values.add()
        self.enter("limit")
        self.press(KEY.Key_V, modifier=CTRL | ALT | SHIFT)
        self.rest()
        view = self.window.bench.run_values.view
        if not self.window.bench.run_values.is_shown:
            self.press(KEY.Key_V, modifier=CTRL | ALT | SHIFT)
            self.rest()
        self.assertEqual([row[0] for row in view.texts], [":where", ":limit"])
        view.table.setCurrentCell(0, 0)
        self.press(KEY.Key_Return)
        self.rest()
        self.enter("Quay")
        self.assertEqual(self.value().value, "Quay")


class Written(ValuesCase):
    def setUp(self):
        super().setUp()
        self.add()
        self.click(self.chip("Value"))
        self.enter("Pier")
        output = OutputSettings("text", str(self.folder / "out-:where.csv"))
        flow, _ = edits.add_step(self.session.flow, "output", "Out", [Input("loans")], output)
        self.session.apply("test", lambda _: flow)
        self.rest()

    def box(self) -> QMessageBox:
        found = [w for w in QGuiApplication.instance().topLevelWidgets() if isinstance(w, QMessageBox)]
        return next(box for box in found if box.isVisible())

    def test_it_is_asked_once_with_which_values_outputs_are_written(self):
        self.press(KEY.Key_F9)
        self.rest()
        box = self.box()
        self.assertEqual(box.informativeText(), "where = Pier")
        self.assertFalse((self.folder / "out-Pier.csv").exists())
        self.click(next(button for button in box.buttons() if button.text() == "Write with these"))
        self.rest()
        self.assertTrue((self.folder / "out-Pier.csv").exists())
        (self.folder / "out-Pier.csv").unlink()
        self.window.commands["write"].trigger()
        self.rest()
        self.assertTrue((self.folder / "out-Pier.csv").exists(), "with the same values it is not asked again")

    def test_the_runs_say_with_which_values_they_were(self):
        self.session.save(self.folder / "out.trellis")
        self.press(KEY.Key_F9)
        self.rest()
        self.click(next(button for button in self.box().buttons() if button.text() == "Write with these"))
        self.rest(lambda: read(self.folder / "out.trellis").runs)
        self.window.commands["runs"].trigger()
        self.rest()
        self.assertEqual(self.window.bench.runs.view.texts[0][-1], "where = Pier")

    def test_they_can_be_changed_then(self):
        self.press(KEY.Key_F9)
        self.rest()
        self.click(next(button for button in self.box().buttons() if button.text() == "Change them…"))
        self.rest()
        self.assertTrue(self.window.bench.run_values.is_shown)
        self.assertFalse((self.folder / "out-Pier.csv").exists())
        (end,) = self.window.trellis.shown.ends
        self.assertEqual(end.name, "out-Pier.csv")


if __name__ == "__main__":
    unittest.main()
