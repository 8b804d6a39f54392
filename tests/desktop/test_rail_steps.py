"""Steps on a rail, put there and changed with real clicks and keys: filter, fill, distinct."""

import unittest

from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication

from keen_trellis.desktop import editing
from keen_trellis.desktop.bench.content import FILLED
from keen_trellis.desktop.document import Selection
from keen_trellis.flow.graph import Input
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.fill import FillSettings
from keen_trellis.flow.steps.filter import ConditionSettings
from tests.desktop.driving import ALT, CTRL
from tests.desktop.test_join_sentence import JoinCase

KEY = Qt.Key


class RailCase(JoinCase):
    def begin(self, rail: str, key):
        """Put a step behind the beginning of a rail, with the keyboard."""
        self.document.select(Selection(rail))
        self.rest()
        self.press(key, modifier=CTRL | ALT)
        self.rest()
        self.step = self.document.selection.step

    @property
    def set(self):
        return KINDS.settings(self.document.flow.step(self.step))

    @property
    def rows(self) -> int:
        return self.document.outcome(self.step).result.rows.rows

    def narrow(self, text: str):
        """Type into the open list until one line is left, and choose it."""
        chooser = self.chooser()
        if chooser.filter.isVisible():
            self.type(text)
        else:
            chooser.list.setCurrentRow(self.lines().index(text))
        self.press(KEY.Key_Return)
        self.rest()


class Filters(RailCase):
    def test_a_filter_is_built_by_keyboard_alone(self):
        self.begin("loans", KEY.Key_F)
        self.assertEqual((self.rows, self.set.conditions), (3, ()))
        self.assertIn("Keep the rows of Loans in which choose what must hold All 3 rows stay.", self.sentence)
        self.window.sentence.view.setFocus()
        self.press(KEY.Key_Return)
        self.narrow("venue")
        self.narrow("venue is")
        self.assertEqual(self.lines(), ["Pier", "Mill"])
        self.press(KEY.Key_Space, KEY.Key_Return)
        self.rest()
        self.assertEqual(self.set.conditions, (ConditionSettings("venue", "one-of", ("Pier",)),))
        self.assertEqual(self.document.flow.step(self.step).name, "venue is “Pier”")
        self.assertIn("2 of 3 rows stay.", self.sentence)
        # The knot takes the rows that are left, and still calls them Loans.
        self.assertEqual(self.document.flow.step(self.knot).inputs[0], Input(self.step))
        self.assertEqual(self.document.outcome(self.knot).inputs[0].name, "Loans")
        self.assertEqual(self.counts.left_rows, 2)
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.rows, 3)

    def test_several_conditions_all_or_any(self):
        self.begin("loans", KEY.Key_F)
        self.choose("Another condition", "value", "value is more than")
        self.enter("1000")
        self.choose("Another condition", "note", "note is blank")
        self.assertEqual(self.rows, 1)
        self.choose("All or any", "or")
        self.assertTrue(self.set.any_of)
        self.choose("Another condition", "venue", "venue begins with")
        self.enter("Mi")
        self.assertEqual((self.rows, len(self.set.conditions)), (2, 3))
        self.choose("Another condition", "object", "object is filled")
        self.assertIn("and 1 more", self.sentence)
        self.choose("More conditions", "object is filled")
        self.choose("Field", "do not ask for this")
        self.assertEqual([entry.of for entry in self.set.conditions], ["note", "venue"])

    def test_what_cannot_be_compared_is_said_where_it_is_typed(self):
        self.begin("loans", KEY.Key_F)
        self.choose("Another condition", "value", "value is between")
        self.enter("a lot; 5")
        said = QApplication.activePopupWidget().said.text()
        self.assertIn("value is integer, and “a lot” is not", said)
        self.enter("600; 2000")
        self.assertEqual(self.rows, 2)

    def test_an_expression_must_be_a_condition(self):
        self.begin("loans", KEY.Key_F)
        self.choose("Another condition", "an expression …")
        self.enter("value + 1")
        self.assertIn("is integer, not a condition", QApplication.activePopupWidget().said.text())
        self.enter("value > 600 AND note IS NOT NULL")
        self.assertEqual(self.rows, 1)

    def test_a_value_that_stands_in_no_row_any_more_stays_ticked(self):
        self.begin("loans", KEY.Key_F)
        condition = ConditionSettings("venue", "none-of", ("Quay",))
        settings = type(self.set)(conditions=(condition,))
        self.document.change_settings(self.step, settings, "x")
        self.rest()
        self.click(self.chip("Values"))
        self.rest()
        self.assertEqual(self.lines(), ["Quay", "Pier", "Mill"])
        self.press(KEY.Key_Down, KEY.Key_Space, KEY.Key_Return)
        self.rest()
        self.assertEqual((self.set.conditions[0].values, self.rows), (("Quay", "Pier"), 1))


class Fills(RailCase):
    def test_a_fill_is_built_by_keyboard_and_marks_what_it_put_there(self):
        self.begin("loans", KEY.Key_G)
        self.window.sentence.view.setFocus()
        self.press(KEY.Key_Return)
        self.narrow("note")
        self.narrow("a value")
        self.enter("none yet")
        self.assertEqual(self.set.fills, (FillSettings(fields=("note",), of="none yet"),))
        self.assertIn("1 cell filled, none still open.", self.sentence)
        content = self.window.bench.content
        column = [entry.field.name for entry in content.columns].index("note")
        cells = content.cells(content.parts[0], 0)[column]
        self.assertEqual([(cell.text, cell.state) for cell in cells][1], ("none yet", FILLED))
        self.window.bench.grid.move_to(1)
        self.window.bench.show_record()
        table = self.window.bench.record.table
        texts = {table.item(row, 0).text(): table.item(row, 1).text() for row in range(table.rowCount())}
        self.assertEqual(texts["note"], "none yet   (filled in)")

    def test_gaps_fields_and_values_are_changed(self):
        self.begin(self.knot, KEY.Key_G)
        self.choose("Another fill", "note", "the row before")
        self.assertEqual(self.set.fills[0].how, "before")
        self.choose("Gaps", "has no partner")
        self.assertEqual(self.set.fills[0].gaps, "no-partner")
        self.tick("Fields", "every integer field")
        self.assertEqual(self.set.fills[0].types, ("integer",))
        self.choose("Filled with", "another field", "venue")
        self.assertIn("venue is text and value is integer", self.sentence)
        self.choose("Filled with", "nothing: leave the row out")
        self.assertIn("rows stay", self.sentence)
        self.choose("Fields", "do not fill these")
        self.assertEqual(self.set.fills, ())

    def test_a_value_of_another_type_is_refused_where_it_is_typed(self):
        self.begin("loans", KEY.Key_G)
        self.choose("Another fill", "value", "a value")
        self.enter("dear")
        self.assertIn("value is integer, and “dear” is not", QApplication.activePopupWidget().said.text())


class Distincts(RailCase):
    def test_one_row_a_key_the_latest(self):
        self.begin("objects", KEY.Key_D)
        self.assertEqual(
            (self.rows, self.sentence.split(" keep")[0]), (4, "Of objects with the same cells in all fields")
        )
        self.tick("Key", "accession")
        self.assertEqual((self.rows, self.document.flow.step(self.step).name), (3, "distinct accession"))
        self.choose("Kept", "the greatest", "year")
        self.assertEqual(self.set.keep, "greatest:year")
        self.assertIn("keep the one with the greatest year", self.sentence)
        self.assertIn("3 of 4 rows stay", self.sentence)
        self.tick("Key", "rows with a blank in the key all stay")
        self.assertTrue(self.set.blanks_stay)


class OnTheTrellis(RailCase):
    def test_a_bead_is_picked_walked_to_renamed_and_removed(self):
        self.begin("loans", KEY.Key_F)
        self.document.select(Selection("objects"))
        trellis = self.window.trellis
        bead = next(
            item for item in trellis.items if item.selection.step == self.step and item.rect.width() == 26
        )
        self.click(trellis, bead.rect.center())
        self.assertEqual(self.document.selection, Selection(self.step))
        trellis.setFocus()
        self.press(KEY.Key_Right)
        self.press(KEY.Key_Left)
        self.assertEqual(self.document.selection, Selection(self.step))
        self.press(KEY.Key_Delete)
        self.rest()
        self.assertIsNone(self.document.flow.find(self.step))
        self.assertEqual(self.document.flow.step(self.knot).inputs, (Input("loans"), Input("objects")))

    def test_a_rail_keeps_its_hue_and_shows_its_count_behind_the_bead(self):
        self.begin("loans", KEY.Key_F)
        self.choose("Another condition", "note", "note is blank")
        layout = self.window.trellis._layout
        rails = {rail.selection.step: rail for rail in layout.rails}
        self.assertEqual(rails[self.step].hue, rails["loans"].hue)
        self.assertIn("1 row", [words.text for words in layout.words])
        self.assertGreater(min(knot.x for knot in layout.knots), layout.beads[0].x + 60)

    def test_another_rail_can_be_dropped_on_what_a_step_leaves(self):
        self.begin("loans", KEY.Key_F)
        trellis = self.window.trellis
        bead = next(
            item for item in trellis.items if item.selection.step == self.step and item.rect.width() == 26
        )
        head = self.item("Objects")
        self.drag(trellis, head.rect.center(), QPointF(bead.rect.center()))
        self.rest()
        self.press(KEY.Key_Return)
        self.rest()
        joined = self.document.flow.step(self.document.selection.step)
        self.assertEqual((joined.kind, joined.inputs), ("join", (Input(self.step), Input("objects"))))

    def test_an_output_has_nothing_behind_it(self):
        self.document.select(Selection())
        editing.insert_filter(self.document)
        self.assertIn("Select a rail", self.window.status.shown.text())


if __name__ == "__main__":
    unittest.main()
