"""Steps on a rail, put there and changed with real clicks and keys: filter, fill, distinct."""

import unittest
from functools import partial

from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from keen_trellis.desktop.bench.content import FILLED
from keen_trellis.desktop.sentence.expression import ExpressionEntry
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Input
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.fill import FillSettings
from keen_trellis.flow.steps.filter import ConditionSettings
from keen_trellis.flow.steps.first import FirstSettings
from keen_trellis.session import attention, combining, editing
from keen_trellis.session.selection import Selection
from tests.desktop.driving import ALT, CTRL, SHIFT
from tests.desktop.test_join_sentence import JoinCase
from tests.tables import rows_of

KEY = Qt.Key


class RailCase(JoinCase):
    def begin(self, rail: str, key, *, ask: bool = False):
        """Put a step behind the beginning of a rail. ask: leave open what it asks first."""
        self.session.select(Selection(rail))
        self.rest()
        self.press(key, modifier=CTRL | ALT)
        self.rest()
        self.step = self.session.selection.step
        if not ask:
            self.press(KEY.Key_Escape)
            self.rest()

    @property
    def set(self):
        return KINDS.settings(self.session.flow.step(self.step))

    @property
    def rows(self) -> int:
        return self.session.outcome(self.step).result.rows.rows

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
        self.begin("loans", KEY.Key_F, ask=True)
        self.assertEqual((self.rows, self.set.conditions), (3, ()))
        self.assertIn("Keep the rows of Loans in which choose what must hold All 3 rows stay.", self.sentence)
        self.narrow("venue")
        self.narrow("venue is")
        self.assertEqual(self.lines(), ["Pier", "Mill"])
        self.press(KEY.Key_Space, KEY.Key_Return)
        self.rest()
        self.assertEqual(self.set.conditions, (ConditionSettings("venue", "one-of", ("Pier",)),))
        self.assertEqual(self.session.flow.step(self.step).name, "venue is “Pier”")
        self.assertIn("2 of 3 rows stay.", self.sentence)
        # The knot takes the rows that are left, and still calls them Loans.
        self.assertEqual(self.session.flow.step(self.knot).inputs[0], Input(self.step))
        self.assertEqual(self.session.outcome(self.knot).inputs[0].name, "Loans")
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
        self.choose("Another condition", "object", "object is not blank")
        self.assertIn("and 1 more", self.sentence)
        self.choose("More conditions", "object is not blank")
        self.choose("Field", "remove this condition")
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
        self.session.change_settings(self.step, settings, "x")
        self.rest()
        self.click(self.chip("Values"))
        self.rest()
        self.assertEqual(self.lines(), ["Quay", "Pier", "Mill"])
        self.press(KEY.Key_Down, KEY.Key_Space, KEY.Key_Return)
        self.rest()
        self.assertEqual((self.set.conditions[0].values, self.rows), (("Quay", "Pier"), 1))


class Fills(RailCase):
    def test_a_fill_is_built_by_keyboard_and_marks_what_it_put_there(self):
        self.begin("loans", KEY.Key_G, ask=True)
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
        self.window.bench.record.show()
        table = self.window.bench.record.view.table
        texts = {table.item(row, 0).text(): table.item(row, 1).text() for row in range(table.rowCount())}
        self.assertEqual(texts["note"], "none yet   (filled in)")

    def test_nothing_is_filled_before_it_is_said_with_what(self):
        self.begin(self.knot, KEY.Key_G, ask=True)
        before = rows_of(self.session.outcome(self.knot).result.rows)
        self.narrow("note of Objects")
        self.press(KEY.Key_Escape)
        self.rest()
        self.assertEqual(self.set.fills, ())
        self.assertIn("choose a field to fill", self.sentence)
        self.assertIn("0 cells filled, 6 cells still open: year 2, from 2, note of Objects 2.", self.sentence)
        self.assertEqual(rows_of(self.session.outcome(self.step).result.rows), before)

    def test_all_fields_of_a_type_are_filled_but_some(self):
        self.begin("loans", KEY.Key_G)
        self.choose("Another fill", "note", "a value")
        self.enter("none yet")
        self.tick("Fields", "every text field")
        self.tick("Exceptions", "note")
        self.assertEqual((self.set.fills[0].types, self.set.fills[0].but), (("text",), ("note",)))
        self.assertIn("but not note", self.sentence)
        self.assertIn(
            "blank", [row[4] or "blank" for row in rows_of(self.session.outcome(self.step).result.rows)]
        )
        self.tick("Exceptions", "note")
        self.assertEqual(self.set.fills[0].but, ())
        self.assertIn("but not …", self.sentence)

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


class Parts(RailCase):
    """A row for each part of a text."""

    def test_a_row_for_each_part_from_the_list_to_the_number(self):
        (self.folder / "works.csv").write_text(
            "work,makers\nBell,Ada Olm; Ben Farr\nChart,Ada Olm\nJug,\nMap,Cy; Di; Eb\n"
        )
        self.window.files.open_paths([self.folder / "works.csv"])
        self.rest()
        self.press(KEY.Key_B, modifier=CTRL)
        self.rest()
        self.press(KEY.Key_P, modifier=CTRL | ALT | SHIFT)
        self.rest()
        self.assertEqual(self.lines(), ["work", "makers"])
        self.pick("makers")
        self.rest()
        self.step = self.session.selection.step
        self.assertEqual((self.set.of, self.set.between), ("makers", ";"))
        self.assertIn("4 rows become 7.", self.sentence)
        self.assertEqual(self.session.flow.step(self.step).name, "a row for each of makers")
        self.click(self.chip("Number"))
        self.enter("work")
        self.assertIn("There is a field “work” already.", QApplication.activePopupWidget().said.text())
        self.enter("place")
        self.assertEqual(
            rows_of(self.session.outcome(self.step).result.rows)[-4:],
            [("Jug", None, None), ("Map", "Cy", 1), ("Map", "Di", 2), ("Map", "Eb", 3)],
        )
        self.click(self.chip("Divider"))
        self.enter("/")
        self.assertIn("No text has several parts: 4 rows, as before.", self.sentence)
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.rows, 7)

    def test_left_without_an_answer_it_is_not_there(self):
        before = self.session.flow
        self.session.select(Selection("loans"))
        self.rest()
        self.press(KEY.Key_P, modifier=CTRL | ALT | SHIFT)
        self.rest()
        self.press(KEY.Key_Escape)
        self.rest()
        self.assertEqual(self.session.flow, before)


class Columns(RailCase):
    """Columns that become rows."""

    def test_columns_become_rows_under_names_of_their_own(self):
        (self.folder / "visits.csv").write_text("venue,Jan,Feb\nQuay,3,4\nPier,,6\n")
        self.window.files.open_paths([self.folder / "visits.csv"])
        self.rest()
        self.press(KEY.Key_B, modifier=CTRL)
        self.rest()
        self.press(KEY.Key_C, modifier=CTRL | ALT | SHIFT)
        self.rest()
        self.step = self.session.selection.step
        for name in ("Jan", "Feb"):
            self.chooser().list.setCurrentRow(self.lines().index(name))
            self.press(KEY.Key_Space)
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.session.flow.step(self.step).name, "Jan, Feb to rows")
        self.assertIn("2 rows become 4.", self.sentence)
        self.click(self.chip("Name"))
        self.enter("venue")
        self.assertIn("There is a field “venue” already.", QApplication.activePopupWidget().said.text())
        self.enter("month")
        self.click(self.chip("Value"))
        self.enter("visits")
        self.choose("Blanks", "none for blank cells")
        rows = self.session.outcome(self.step).result.rows
        self.assertEqual(rows.names, ("venue", "month", "visits"))
        self.assertEqual(rows_of(rows), [("Quay", "Jan", 3), ("Quay", "Feb", 4), ("Pier", "Feb", 6)])
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.rows, 4)


class Wide(RailCase):
    """Values of a field that become columns."""

    def setUp(self):
        super().setUp()
        (self.folder / "visitors.csv").write_text(
            "venue,month,visitors\nPier,2026-01,30\nPier,2026-02,40\nMill,2026-02,5\nMill,2026-03,7\n"
        )
        self.window.files.open_paths([self.folder / "visitors.csv"])
        self.rest()
        self.press(KEY.Key_B, modifier=CTRL)
        self.rest()
        self.press(KEY.Key_R, modifier=CTRL | ALT | SHIFT)
        self.rest()

    def test_a_column_for_each_month(self):
        self.pick("month")
        self.assertEqual(self.lines(), ["visitors", "how many rows", "venue"])
        self.pick("visitors")
        self.rest()
        self.step = self.session.selection.step
        self.assertEqual(self.made, [("Pier", 30, 40, None), ("Mill", None, 5, 7)])
        self.assertIn("4 rows become 2.", self.sentence)
        self.choose("Measure", "the maximum", "visitors")
        self.click(self.chip("Columns"))
        self.rest()
        self.chooser().list.setCurrentRow(self.lines().index("2026-03"))
        self.press(KEY.Key_Space, KEY.Key_Return)
        self.rest()
        self.assertEqual(self.made, [("Pier", 30, 40), ("Mill", None, 5)])
        self.assertIn("1 row has no column for month: 2026-03 1.", self.sentence)
        self.assertIn("no column", [need.what for need in attention.needs(self.session)])
        self.choose("Measure", "how many rows")
        self.tick("Keys", "venue")
        self.assertEqual(self.made, [(1, 2)])
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.made, [("Pier", 1, 1), ("Mill", 0, 1)])

    def test_a_text_is_listed_and_rows_are_counted_in_one_row(self):
        self.pick("month")
        self.pick("venue")
        self.rest()
        self.step = self.session.selection.step
        self.assertEqual((self.set.function, self.set.keys), ("listing", ("visitors",)))
        self.choose("Field", "venue", "how many rows")
        self.assertEqual(self.made, [(2, 2)])

    def test_left_without_an_answer_it_is_not_there(self):
        before = len(self.session.flow.steps)
        self.press(KEY.Key_Escape)
        self.rest()
        self.assertEqual(len(self.session.flow.steps), before - 1)

    @property
    def made(self) -> list:
        return rows_of(self.session.outcome(self.step).result.rows)


class Numbers(RailCase):
    """Rows that are numbered."""

    def test_a_rank_within_groups_from_the_list_to_another_name(self):
        (self.folder / "stays.csv").write_text(
            "venue,day,crates\nPier,2,3\nMill,1,4\nPier,1,5\nPier,2,\nMill,2,1\n"
        )
        self.window.files.open_paths([self.folder / "stays.csv"])
        self.rest()
        self.press(KEY.Key_B, modifier=CTRL)
        self.rest()
        self.press(KEY.Key_N, modifier=CTRL | ALT | SHIFT)
        self.rest()
        self.pick("the rank")
        # A rank without an order would say nothing.
        self.pick("day")
        self.rest()
        self.step = self.session.selection.step
        self.assertEqual(self.new("rank"), [3, 1, 1, 3, 3])
        self.tick("Groups", "venue")
        self.assertEqual((self.set.within, self.new("rank")), (("venue",), [2, 1, 1, 2, 2]))
        self.choose("Another number", "a running total", "crates")
        self.assertEqual(self.new("running total of crates"), [8, 4, 5, 8, 5])
        self.click(self.chip("Direction"))
        self.pick("largest first, blanks last")
        self.rest()
        self.assertEqual(self.new("running total of crates"), [3, 5, 8, 3, 1])
        self.click(self.numbers[1])
        self.pick("rename …")
        self.enter("rank")
        self.assertIn("There is a field “rank” already.", QApplication.activePopupWidget().said.text())
        self.enter("so far")
        self.assertIn("running total of crates as so far", self.sentence)
        # Another function keeps the name that was given.
        self.click(self.numbers[1])
        self.pick("a value of the row before")
        self.pick("crates")
        self.rest()
        self.assertEqual(self.new("so far"), [None, 1, None, 3, None])
        self.click(self.numbers[0])
        self.pick("do not add this")
        self.rest()
        self.assertEqual([entry.field for entry in self.set.added], ["so far"])
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.new("rank"), [1, 2, 3, 1, 1])

    def test_left_without_an_answer_it_is_not_there(self):
        before = self.session.flow
        self.session.select(Selection("loans"))
        self.rest()
        self.press(KEY.Key_N, modifier=CTRL | ALT | SHIFT)
        self.rest()
        self.press(KEY.Key_Escape)
        self.rest()
        self.assertEqual(self.session.flow, before)

    @property
    def numbers(self) -> list:
        return [chip for chip in self.window.sentence.view.chips if chip.chip.label == "Number"]

    def new(self, name: str) -> list:
        return self.session.outcome(self.step).result.rows.column(name).values.to_pylist()


class Walks(RailCase):
    def test_a_table_is_walked_to_the_top_from_the_list_to_the_order(self):
        (self.folder / "parts.csv").write_text(
            "part_of,accession,title\nA,B,Lid\n,A,Chest\nB,C,Hinge\nX,D,Key\nF,E,Ring\nE,F,Chain\n"
        )
        self.window.files.open_paths([self.folder / "parts.csv"])
        self.rest()
        self.press(KEY.Key_B, modifier=CTRL)
        self.rest()
        self.press(KEY.Key_W, modifier=CTRL | ALT | SHIFT)
        self.rest()
        self.pick("part_of")
        self.pick("accession")
        self.rest()
        self.step = self.session.selection.step
        self.assertEqual(
            [row[1:2] + row[3:] for row in self.made],
            [
                ("B", 1, "A / B", "A"),
                ("A", 0, "A", "A"),
                ("C", 2, "A / B / C", "A"),
                ("D", 0, "D", "D"),
                ("E", None, None, None),
                ("F", None, None, None),
            ],
        )
        self.assertIn("2 rows lead round in a circle by part_of, and have no top.", self.sentence)
        self.assertIn("1 row points to an accession that is not there.", self.sentence)
        self.assertIn("circle", [need.what for need in attention.needs(self.session)])
        self.click(self.chip("Circles"))
        self.rest()
        self.assertIn("2 parts in a circle", self.window.bench.banner.said.text())
        self.press(KEY.Key_Escape)
        self.rest()
        self.assertFalse(self.window.bench.shows_chosen_rows)
        self.choose("Order", "each whole before its parts")
        self.assertEqual([row[1] for row in self.made], ["A", "B", "C", "D", "E", "F"])
        self.tick("Brought", "title")
        self.assertEqual(self.made[2][-1], "Chest")
        self.click(self.chip("Path"))
        self.enter("title")
        self.assertIn("There is a field “title” already.", QApplication.activePopupWidget().said.text())
        self.press(KEY.Key_Escape)
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.set.bring, ())

    @property
    def made(self) -> list:
        return rows_of(self.session.outcome(self.step).result.rows)


class Distincts(RailCase):
    def test_one_row_a_key_the_latest(self):
        self.begin("objects", KEY.Key_D)
        self.assertEqual(
            (self.rows, self.sentence.split(" keep")[0]), (4, "Of objects with the same cells in all fields")
        )
        self.tick("Key", "accession")
        self.assertEqual((self.rows, self.session.flow.step(self.step).name), (3, "distinct accession"))
        self.choose("Kept", "the maximum", "year")
        self.assertEqual(self.set.keep, "greatest:year")
        self.assertIn("keep the one with the maximum year", self.sentence)
        self.assertIn("3 of 4 rows stay", self.sentence)
        self.tick("Key", "rows with a blank in the key all stay")
        self.assertTrue(self.set.blanks_stay)


class Firsts(RailCase):
    def test_so_many_of_each_group_in_an_order(self):
        self.begin("objects", KEY.Key_Q)
        self.assertIn("Keep the first 10 objects of all by the order they are in", self.sentence)
        self.choose("Another key", "year")
        self.assertEqual([(key.of, key.descending) for key in self.set.by], [("year", True)])
        self.click(self.chip("Count"))
        self.enter("none")
        self.assertIn("“none” is not a whole number from 1", QApplication.activePopupWidget().said.text())
        self.enter("1")
        self.tick("Groups", "accession")
        self.assertEqual((self.set.count, self.set.each), (1, ("accession",)))
        self.assertIn("3 of 4 rows stay", self.sentence)
        self.click(self.chip("Direction"))
        self.rest()
        self.assertFalse(self.set.by[0].descending)
        self.choose("Ties", "and those equal to the last")
        self.assertTrue(self.set.with_ties)
        self.choose("Key", "not by this")
        self.assertEqual((self.set.by, self.set.with_ties), ((), False))
        self.assertEqual(self.session.flow.step(self.step).name, "first 1 of each accession")


class Computes(RailCase):
    def test_a_field_is_computed_by_keyboard_with_completion_and_first_values(self):
        self.begin("loans", KEY.Key_U, ask=True)
        entry = QApplication.activePopupWidget()
        self.assertIsInstance(entry, ExpressionEntry)
        self.type("val")
        self.assertEqual(entry.popup.model().index(0, 0).data(), "value")
        QTest.keyClick(entry.popup, KEY.Key_Down)
        QTest.keyClick(entry.popup, KEY.Key_Return)
        self.assertEqual(entry.line.text(), "value")
        entry.line.setFocus()
        self.type(" * 2")
        self.rest(lambda: "“1000”" in entry.said.text())
        self.assertIn("integer; the first rows give “1000”, “3000”, “1800”", entry.said.text())
        self.press(KEY.Key_Return)
        self.enter("double")
        self.assertIsNone(QApplication.activePopupWidget())  # it is asked once
        self.assertEqual((self.set.field, self.set.expression), ("double", "value * 2"))
        self.assertEqual(self.session.flow.step(self.step).name, "compute double")
        self.assertIn("It is integer in 3 rows. Nothing is blank.", self.sentence)

    def test_an_error_is_marked_where_it_is(self):
        self.begin("loans", KEY.Key_U)
        self.click(self.chip("Expression"))
        entry = QApplication.activePopupWidget()
        entry.line.setText("value + EXP(2)")
        self.press(KEY.Key_Return)
        self.assertIn("There is no function EXP", entry.said.text())
        self.assertEqual((entry.line.selectedText(), entry.line.selectionStart()), ("E", 8))
        self.enter("CAST(object AS INTEGER)")
        self.press(KEY.Key_Escape)
        self.rest()
        self.assertIn("3 blank, 3 failed casts.", self.sentence)
        self.click(self.chip("Name"))
        self.enter("value")
        self.assertIn("a field “value” already", QApplication.activePopupWidget().said.text())


class Chooses(RailCase):
    def test_fields_are_dropped_moved_and_later_ones_kept_out(self):
        self.begin("loans", KEY.Key_C, ask=True)
        self.assertEqual(self.lines(), ["loan", "object", "venue", "value", "note"])
        self.chooser().list.setCurrentRow(4)
        self.press(KEY.Key_Space)
        self.chooser().list.setCurrentRow(3)
        self.press(KEY.Key_Up, modifier=ALT)
        self.press(KEY.Key_Return)
        self.rest()
        fields = self.session.outcome(self.step).result.rows.names
        self.assertEqual((fields, self.set.dropped), (("loan", "object", "value", "venue"), ("note",)))
        self.assertIn("keep loan, object and 2 more · 4 of 5 fields", self.sentence)
        self.choose("Others", "no others")
        self.assertFalse(self.set.others)

    def test_fields_are_moved_by_dragging(self):
        self.begin("loans", KEY.Key_C, ask=True)
        found = self.chooser().list
        places = [QPointF(found.visualItemRect(found.item(row)).center()) for row in range(5)]
        self.drag(found.viewport(), places[3], places[0])
        self.assertEqual(self.lines(), ["value", "loan", "object", "venue", "note"])
        self.assertTrue(all(choice.ticked for choice in self.chooser().choices))
        self.click(found.viewport(), places[4])
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(
            self.session.outcome(self.step).result.rows.names, ("value", "loan", "object", "venue")
        )

    def test_a_field_is_renamed_and_another_type_says_what_is_lost(self):
        self.begin("loans", KEY.Key_C)
        self.choose("Rename", "venue")
        self.enter("object")
        self.assertIn("two fields “object”", QApplication.activePopupWidget().said.text())
        self.enter("place")
        self.choose("Type", "object", "integer")
        rows = self.session.outcome(self.step).result.rows
        self.assertEqual(rows.names, ("loan", "object", "place", "value", "note"))
        self.assertIn("What could not be converted is blank now: 3 of object.", self.sentence)
        self.choose("Type", "object", "text")
        self.assertNotIn("could not be converted", self.sentence)

    def test_brought_fields_are_named_with_their_table_and_back(self):
        self.begin(self.knot, KEY.Key_C)
        self.choose("Rename", "all brought ones")
        names = self.session.outcome(self.step).result.rows.names
        self.assertIn("year of Objects", names)
        self.assertIn("note of Objects", names)
        self.click(self.chip("Rename"))
        self.chooser().list.setCurrentRow(len(self.lines()) - 1)
        self.press(KEY.Key_Return)
        self.rest()
        self.assertIn("year", self.session.outcome(self.step).result.rows.names)


class Sorts(RailCase):
    def test_by_two_fields_in_two_directions(self):
        self.begin("loans", KEY.Key_S, ask=True)
        self.narrow("venue")
        self.choose("Another key", "value")
        self.click(self.chip("Direction"))
        self.pick("largest first, blanks last")
        self.rest()
        self.assertEqual(
            [(key.of, key.descending) for key in self.set.keys], [("venue", True), ("value", False)]
        )
        table = self.session.outcome(self.step).result.rows
        self.assertEqual(table.column("loan").values.to_pylist(), ["L-1", "L-2", "L-3"])
        self.choose("Key", "do not sort by this")
        self.assertEqual(self.session.flow.step(self.step).name, "sort by value")


class Texts(RailCase):
    def cells(self, name: str) -> list:
        return self.session.outcome(self.step).result.rows.column(name).values.to_pylist()

    def test_text_is_mended_by_keyboard(self):
        self.begin("loans", KEY.Key_M, ask=True)
        self.assertEqual(self.lines(), ["loan", "object", "venue", "note"])
        self.chooser().list.setCurrentRow(1)
        self.press(KEY.Key_Space, KEY.Key_Return)
        self.rest()
        self.narrow("in capitals")
        self.assertEqual(self.cells("object"), ["LCM.1", "LCM.2", "LCM.O3"])
        self.assertIn("1 cell is changed.", self.sentence)
        self.choose("Another action", "replace …")
        self.enter("LCM. -> ")
        self.assertEqual(self.cells("object"), ["1", "2", "O3"])
        self.choose("Another action", "fill up on the left …")
        self.enter("0")
        self.assertIn("one character, and a width", QApplication.activePopupWidget().said.text())
        self.enter("0 -> 4")
        self.assertEqual(self.cells("object"), ["0001", "0002", "00O3"])
        self.choose("Action", "do not do this")
        self.assertEqual([action.how for action in self.set.actions], ["replace", "pad"])

    def test_values_are_corrected(self):
        self.begin("loans", KEY.Key_R, ask=True)
        self.chooser().list.setCurrentRow(2)
        self.press(KEY.Key_Space, KEY.Key_Return)
        self.rest()
        self.enter("Mill → Old Mill", lines=True)
        self.assertEqual(self.cells("venue"), ["Pier", "Pier", "Old Mill"])
        self.assertIn("In venue of Loans, correct 1 value . 1 cell is changed.", self.sentence)

    def test_a_text_is_split_where_it_most_likely_divides(self):
        self.begin("objects", KEY.Key_P, ask=True)
        self.narrow("accession")
        self.assertEqual((self.set.between, self.set.into), (".", ("accession 1", "accession 2")))
        self.click(self.chip("Parts"))
        self.enter("collection, note")
        self.assertIn("“note” already", QApplication.activePopupWidget().said.text())
        self.enter("collection, number")
        self.assertEqual(self.cells("number"), ["1", "1", "2", "03"])

    def test_a_step_that_is_left_before_it_can_work_is_not_put_there(self):
        for key in (KEY.Key_P, KEY.Key_B):
            self.begin("loans", key)
            self.assertIsNone(self.session.flow.find(self.step))
            self.assertEqual(self.counts.left_rows, 3)

    def test_fields_are_combined_in_their_order(self):
        self.begin("loans", KEY.Key_B, ask=True)
        for row in (2, 0):
            self.chooser().list.setCurrentRow(row)
            self.press(KEY.Key_Space)
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.cells("combined"), ["L-1 Pier", "L-2 Pier", "L-3 Mill"])
        self.click(self.chip("Between"))
        self.enter(", ")
        self.click(self.chip("Name"))
        self.enter("label")
        self.assertEqual(self.cells("label")[2], "L-3, Mill")


class Summaries(RailCase):
    def test_a_summary_is_built_by_keyboard(self):
        self.begin("loans", KEY.Key_K, ask=True)
        self.narrow("venue")
        self.assertIn("Make one row of each venue and … of Loans, with how many rows another", self.sentence)
        self.assertIn("3 rows become 2.", self.sentence)
        self.choose("Another measure", "the sum", "value")
        table = self.session.outcome(self.step).result.rows
        self.assertEqual(table.names, ("venue", "rows", "sum of value"))
        self.assertEqual(table.column("sum of value").values.to_pylist(), [2000, 900])
        # Groups are other rows: the knot behind speaks of them.
        self.assertEqual(self.session.outcome(self.knot).inputs[0].name, "Loans by venue")

    def test_measures_are_changed_renamed_and_taken_away(self):
        self.begin("loans", KEY.Key_K)
        self.choose("Another measure", "the sum", "value")
        measure = next(c for c in self.window.sentence.view.chips if "the sum" in c.chip.text)
        self.click(measure)
        self.pick("the maximum")
        self.rest()
        self.assertIn("the maximum of value another", self.sentence)
        self.click(next(c for c in self.window.sentence.view.chips if "the maximum" in c.chip.text))
        self.pick("rename …")
        self.enter("rows")
        self.assertIn("two fields “rows”", QApplication.activePopupWidget().said.text())
        self.enter("dearest")
        self.click(self.chip("Measure"))
        self.pick("do not measure this")
        self.rest()
        self.assertEqual([measure.name for measure in self.set.measures], ["dearest"])
        self.choose("Another key", "an expression …")
        self.enter("CHAR_LENGTH(venue)")
        self.assertEqual((self.set.keys, self.rows), (("CHAR_LENGTH(venue)",), 1))


class Beside(RailCase):
    def test_rows_are_put_next_to_others_or_it_says_why_not(self):
        self.session.select(Selection("loans"))
        self.press(KEY.Key_A, modifier=CTRL | ALT | SHIFT)
        self.narrow("Objects")
        both = self.session.selection.step
        self.assertIn("Next to each loan, put the object at the same place.", self.sentence)
        self.assertIn("Loans has 3 rows and Objects 4: they cannot be put next to each other", self.sentence)
        # Once both have as many, each loan has the object at its place.
        flow, _ = edits.insert_after(self.session.flow, Input("objects"), "first", FirstSettings(count=3))
        self.session.apply("test", lambda now: flow)
        self.session.select(Selection(both))
        self.rest()
        self.assertIn("3 rows, 9 fields.", self.sentence)
        knot = next(entry for entry in self.window.trellis.shown.knots if entry.step == both)
        self.assertEqual([part.rows for part in knot.parts], [3])


class Unions(RailCase):
    def test_rails_are_put_below_each_other_by_keyboard_and_more_follow(self):
        self.session.select(Selection("objects"))
        self.press(KEY.Key_A, modifier=CTRL | ALT)
        self.narrow("Loans")
        union = self.session.selection.step
        self.assertEqual(self.session.flow.step(union).kind, "union")
        rows = self.session.outcome(union).result.rows
        self.assertEqual((rows.rows, rows.names[:2]), (7, ("accession", "year")))
        self.assertIn("All rows of Objects, then of Loans; fields by name", self.sentence)
        knot = next(entry for entry in self.window.trellis.shown.knots if entry.step == union)
        self.assertEqual([(part.rows, dict(knot.hues)[part.name]) for part in knot.parts], [(4, 1), (3, 0)])
        whole = next(i for i in self.window.trellis.items if i.selection.step == union and i.part == "whole")
        self.click(self.window.trellis, self.window.trellis.on_screen(whole.rect).center())
        self.click(self.window.trellis, self.window.trellis.on_screen(whole.rect).center())
        self.click(self.chip("Differences"))
        self.assertIn("accession: Loans lacks it", self.lines())
        self.press(KEY.Key_Escape)
        self.click(self.chip("Rail field"))
        self.enter("note")
        self.assertIn("“note” already", QApplication.activePopupWidget().said.text())
        self.enter("from where")
        self.assertIn("from where names the rail", self.sentence)
        self.assertEqual(self.session.flow.step(self.knot).inputs[1], Input(union))

    def test_by_position_and_types_that_do_not_fit(self):
        self.session.select(Selection("loans"))
        self.press(KEY.Key_A, modifier=CTRL | ALT)
        self.narrow("Objects")
        union = self.session.selection.step
        self.choose("Lined up", "by position")
        self.assertIn("they cannot be one field", self.sentence)
        self.choose("Types", "what has no common type becomes text")
        self.assertEqual(
            self.session.outcome(union).result.rows.names, ("loan", "object", "venue", "value", "note")
        )

    def test_lists_that_share_their_key_only_are_compared_by_it(self):
        for name, content in (
            ("may", "loan,fee\nL-1,3\nL-2,4\nL-2,5\n"),
            ("june", "loan,town\nL-2,Wick\nL-9,Pier\n"),
        ):
            path = self.folder / f"{name}.csv"
            path.write_text(content)
            self.session.apply(
                "open", lambda flow, p=path, n=name: edits.add_source(flow, SourceSettings("text", str(p)), n)
            )
        combining.stack(self.session, Selection("june"), Selection("may"))
        self.rest()
        self.click(self.chip("Which has it"))
        self.rest()
        found = self.session.outcome(self.session.selection.step).result.rows
        self.assertEqual(rows_of(found), [("L-1", 1, 0), ("L-2", 2, 1), ("L-9", 0, 1)])
        self.assertEqual(found.names, ("loan", "may", "june"))
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        union = next(step for step in self.session.flow.steps if step.kind == "union")
        self.assertEqual(KINDS.settings(union).rail_field, "")

    def test_a_skipped_union_does_not_need_its_other_rails(self):
        combining.stack(self.session, Selection("objects"), Selection("loans"))
        self.rest()
        union = self.session.selection.step
        (self.folder / "objects.csv").unlink()
        self.window.session.library.forget_all()
        editing.skip_selected(self.session)
        self.rest()
        self.assertEqual(self.session.outcome(union).result.rows.rows, 3)
        knot = next(entry for entry in self.window.trellis.shown.knots if entry.step == union)
        self.assertEqual((knot.parts, knot.detail), ((), "skipped for now"))

    def test_dropping_a_rail_offers_a_union_with_its_rows(self):
        self.window.combining.join(Selection("objects"), Selection("loans"))
        self.rest()
        self.assertEqual(self.lines()[-2], "all loans, and all objects below them")
        self.press(KEY.Key_U)
        self.rest()
        step = self.session.flow.step(self.session.selection.step)
        self.assertEqual((step.kind, step.inputs), ("union", (Input("loans"), Input("objects"))))
        self.assertEqual(len(self.session.flow.steps), 4)
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(len(self.session.flow.steps), 3)


class Reconciling(RailCase):
    def test_two_rails_are_compared_in_one_command(self):
        theirs = "loan no,venue,paid value\nL-1,Pier,500\nL-2,Quay,1500\nL-9,Mill,7\n"
        (self.folder / "theirs.csv").write_text(theirs)
        settings = SourceSettings("text", str(self.folder / "theirs.csv"))
        flow, _ = edits.add_source(self.session.flow, settings, "Theirs")
        self.session.apply("open", lambda _: flow, Selection("loans"))
        self.rest()
        self.press(KEY.Key_E, modifier=CTRL | ALT)
        self.narrow("Theirs")
        self.rest()
        chosen = {choice.text: choice.detail for choice in self.chooser().choices if choice.ticked}
        self.assertEqual(
            chosen, {"venue with venue": "agree in 50.0 %", "value with paid value": "agree in 100 %"}
        )
        self.press(KEY.Key_Return)
        self.rest()
        rows = self.session.outcome(self.session.selection.step).result.rows
        self.assertEqual(
            rows.names[:6], ("stands", "differs in", "loan", "loan no of Theirs", "venue", "venue of Theirs")
        )
        found = {row[2] or row[3]: row[:2] for row in rows_of(rows)}
        self.assertEqual(
            found,
            {"L-2": ("in both", "venue"), "L-3": ("only in Loans", None), "L-9": ("only in Theirs", None)},
        )
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(len(self.session.flow.steps), 4)

    def test_lists_that_share_only_their_key_are_compared_by_what_each_has(self):
        for name, content in (("ours", "loan\nL-1\nL-2\nL-3\n"), ("theirs", "loan no\nL-2\nL-3\nL-9\n")):
            (self.folder / f"{name}.csv").write_text(content)
            settings = SourceSettings("text", str(self.folder / f"{name}.csv"))
            add = partial(edits.add_source, settings=settings, name=name.capitalize())
            self.session.apply("open", add, Selection("ours"))
            self.rest()
        self.press(KEY.Key_E, modifier=CTRL | ALT)
        self.narrow("Theirs")
        self.rest()
        self.assertIn("share no other field", self.window.status.shown.text())
        rows = self.session.outcome(self.session.selection.step).result.rows
        self.assertEqual(rows.names, ("stands", "loan", "loan no of Theirs"))
        self.assertEqual(rows_of(rows), [("only in Ours", "L-1", None), ("only in Theirs", None, "L-9")])

    def test_what_cannot_be_compared_is_said(self):
        (self.folder / "words.csv").write_text("a,b\nx,1\n")
        settings = SourceSettings("text", str(self.folder / "words.csv"))
        flow, words = edits.add_source(self.session.flow, settings, "Words")
        self.session.apply("open", lambda _: flow, Selection("loans"))
        self.rest()
        combining.reconcile(self.session, Selection(words), Selection("loans"), self.fail)
        self.rest()
        self.assertIn("not known which rows of Loans and Words are the same", self.window.status.shown.text())


class OnTheTrellis(RailCase):
    def test_a_bead_is_picked_walked_to_renamed_and_removed(self):
        self.begin("loans", KEY.Key_F)
        self.session.select(Selection("objects"))
        trellis = self.window.trellis
        bead = next(
            item for item in trellis.items if item.selection.step == self.step and item.rect.width() == 26
        )
        self.click(trellis, trellis.on_screen(bead.rect).center())
        self.assertEqual(self.session.selection, Selection(self.step))
        trellis.setFocus()
        self.press(KEY.Key_Right)
        self.press(KEY.Key_Left)
        self.assertEqual(self.session.selection, Selection(self.step))
        self.press(KEY.Key_Delete)
        self.rest()
        self.assertIsNone(self.session.flow.find(self.step))
        self.assertEqual(self.session.flow.step(self.knot).inputs, (Input("loans"), Input("objects")))

    def test_a_rail_keeps_its_hue_and_shows_its_count_behind_the_bead(self):
        self.begin("loans", KEY.Key_F)
        self.choose("Another condition", "note", "note is blank")
        layout = self.window.trellis.shown
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
        joined = self.session.flow.step(self.session.selection.step)
        self.assertEqual((joined.kind, joined.inputs), ("join", (Input(self.step), Input("objects"))))

    def test_a_step_is_skipped_and_used_again(self):
        self.begin("loans", KEY.Key_F)
        self.choose("Another condition", "note", "note is blank")
        self.assertEqual(self.counts.left_rows, 1)
        self.press(KEY.Key_K, modifier=CTRL | SHIFT)
        self.rest()
        self.assertEqual(self.counts.left_rows, 3)
        self.assertTrue(self.window.trellis.shown.beads[0].skipped)
        self.assertIn("is skipped for now; its rows pass through", self.sentence)
        self.assertEqual(self.window.attention.text(), "1 doubtful")
        self.click(self.chip("Again"))
        self.rest()
        self.assertEqual(self.counts.left_rows, 1)

    def test_a_skipped_knot_shows_its_left_rows(self):
        self.session.select(Selection(self.knot))
        self.press(KEY.Key_K, modifier=CTRL | SHIFT)
        self.rest()
        self.assertFalse(self.window.bench.content.is_knot)
        self.assertEqual(self.window.bench.content.left.rows, 3)
        self.session.select(Selection("loans"))
        self.press(KEY.Key_K, modifier=CTRL | SHIFT)
        self.assertIn("A source cannot be skipped", self.window.status.shown.text())

    def test_what_takes_the_unmatched_rows_of_a_skipped_knot_says_what_it_lacks(self):
        self.session.select(Selection(self.knot, "unmatched_left"))
        self.press(KEY.Key_S, modifier=CTRL | ALT)
        self.rest()
        self.press(KEY.Key_Escape)
        behind = self.session.selection.step
        self.session.select(Selection(self.knot))
        self.press(KEY.Key_K, modifier=CTRL | SHIFT)
        self.rest()
        self.assertIn("is skipped, and has no such rows now", str(self.session.outcome(behind).error))
        self.session.select(Selection(self.knot))
        self.press(KEY.Key_K, modifier=CTRL | SHIFT)
        self.rest()
        self.assertIn("Match object of Loans", self.sentence)
        self.assertIsNone(self.session.outcome(behind).error)

    def test_steps_are_moved_along_the_rail_by_keys(self):
        self.begin("loans", KEY.Key_F)
        first = self.step
        self.session.select(Selection(first))
        self.press(KEY.Key_S, modifier=CTRL | ALT)
        self.rest()
        self.press(KEY.Key_Escape)
        second = self.session.selection.step
        self.press(KEY.Key_Left, modifier=CTRL | ALT)
        self.rest()
        self.assertEqual(self.session.flow.step(first).inputs, (Input(second),))
        self.press(KEY.Key_Right, modifier=CTRL | ALT)
        self.rest()
        self.assertEqual(self.session.flow.step(second).inputs, (Input(first),))
        self.press(KEY.Key_Right, modifier=CTRL | ALT)
        self.assertIn("no step before it", self.window.status.shown.text())

    def test_a_note_is_written_shown_and_changed(self):
        self.session.select(Selection("loans"))
        self.press(KEY.Key_N, modifier=CTRL | ALT)
        self.enter("From the keepers,\nasked in May", lines=True)
        self.assertEqual(self.session.flow.step("loans").note, "From the keepers,\nasked in May")
        self.assertIn("note: From the keepers, asked in May", self.sentence)
        self.click(self.chip("Note"))
        self.enter("", lines=True)
        self.assertNotIn("note:", self.sentence)

    def test_an_output_has_nothing_behind_it(self):
        self.session.select(Selection())
        self.press(KEY.Key_F, modifier=CTRL | ALT)
        self.assertIn("Select a rail", self.window.status.shown.text())


if __name__ == "__main__":
    unittest.main()
