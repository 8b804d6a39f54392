import unittest
from itertools import pairwise

from PySide6.QtCore import Qt

from keen_trellis.core.join_type import JoinType
from keen_trellis.desktop.trellis.knots import SMALLEST_PART
from keen_trellis.desktop.trellis.shapes import thickness
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import LinkSettings
from keen_trellis.session import editing
from keen_trellis.session.selection import Selection
from tests.desktop.driving import CTRL, WindowCase

KNOT = "loans-with-objects"
SECOND = "loans-with-objects-with-venues"
BLEND = "loans-with-objects-and-venues-with-visitors"
KEY = Qt.Key


class DemoCase(WindowCase):
    def setUp(self):
        super().setUp()
        self.open_demo()
        self.trellis = self.window.trellis
        self.layout = self.trellis.shown

    def kind(self, knot: str = KNOT) -> JoinType:
        return editing.join_settings(self.session, knot).join_type


class Picture(DemoCase):
    def test_the_margin_holds_files_rail_heads_and_stumps(self):
        self.assertEqual(
            [head.name for head in self.layout.heads], ["Loans", "Venues", "Objects", "Visitors"]
        )
        self.assertEqual([head.mark.letters for head in self.layout.heads], ["Lo", "Ve", "Ob", "Vi"])
        self.assertEqual([head.count for head in self.layout.heads], ["8,352", "45", "12,907", "540"])
        stumps = [stump.name for stump in self.layout.stumps]
        self.assertEqual(stumps, ["returns-desk.csv"])
        files = {line.text: line.more for line in self.layout.files}
        more = {
            "loans-2026.xlsx": "1 more table",
            "registry.sqlite": "3 more tables",
            "visitors.ods": "1 more table",
        }
        self.assertEqual(files, more)

    def test_a_knot_is_cut_in_proportion_and_no_part_is_too_small(self):
        knot = self.layout.knots[0]
        sizes = {part.name: part.bottom - part.top for part in knot.parts}
        self.assertEqual([part.rows for part in knot.parts], [49, 8303, 8211])
        self.assertGreaterEqual(min(sizes.values()), SMALLEST_PART)
        self.assertAlmostEqual(sizes["matched"] / sizes["unmatched_right"], 8303 / 8211, places=2)
        self.assertEqual(knot.caption, "every loan, with its object where known")
        self.assertEqual(knot.detail, "left outer join · 99.4 % of Loans found one")

    def test_what_is_left_out_leaves_as_a_stub_with_its_count(self):
        self.assertEqual(
            [stub.text for stub in self.layout.stubs],
            ["8,211 unmatched Objects", "8 groups of Visitors with no loan"],
        )

    def test_multiplied_rows_are_said(self):
        self.assertEqual(self.layout.words[0].text, "8,355 rows, 3 more by repeated keys")
        self.assertTrue(self.layout.words[0].alarm)

    def test_thickness_grows_with_rows_and_is_never_less_than_two(self):
        sizes = [thickness(rows) for rows in (-1, 0, 1, 45, 8_352, 5_000_000)]
        self.assertEqual(sizes, sorted(sizes))
        self.assertEqual(min(sizes), 2.0)
        self.assertLess(sizes[-1], 26)

    def test_lanes_and_captions_do_not_collide(self):
        heights = sorted(head.y for head in self.layout.heads)
        self.assertTrue(all(b - a >= 24 for a, b in pairwise(heights)))
        self.assertGreater(min(knot.top - 30 for knot in self.layout.knots), 0)
        for stub in self.layout.stubs:
            self.assertTrue(all(abs(stub.end[1] - head.y) > 10 for head in self.layout.heads))

    def test_nothing_left_is_said_with_the_step_that_emptied_it(self):
        editing.change_join(
            self.session, KNOT, "test", links=(LinkSettings("Venue", "accession"),), type="inner"
        )
        self.rest()
        self.assertEqual(self.trellis.shown.words[0].text, "0 rows, emptied by this join")
        self.assertIn("0 % of Loans", self.trellis.shown.knots[0].detail)


class Picking(DemoCase):
    def test_clicking_a_part_of_the_selected_knot_keeps_it_or_leaves_it_out(self):
        for part, expected in (
            ("unmatched_right", JoinType.FULL_OUTER),
            ("matched", JoinType.FULL_ANTI),
            ("unmatched_left", JoinType.RIGHT_ANTI),
            ("matched", JoinType.RIGHT_OUTER),
        ):
            self.click(self.trellis, self.trellis.on_screen(self.knot_part(KNOT, part).rect).center())
            self.rest()
            self.assertIs(self.kind(), expected)

    def test_the_last_part_cannot_be_left_out(self):
        editing.change_join_type(self.session, KNOT, JoinType.LEFT_ANTI)
        self.rest()
        self.click(self.trellis, self.trellis.on_screen(self.knot_part(KNOT, "unmatched_left").rect).center())
        self.rest()
        self.assertIs(self.kind(), JoinType.LEFT_ANTI)
        self.assertIn("keeps at least one part", self.window.status.shown.text())

    def test_the_first_click_on_another_knot_only_selects_it(self):
        self.click(self.trellis, self.trellis.on_screen(self.knot_part(SECOND, "matched").rect).center())
        self.assertEqual(self.session.selection, Selection(SECOND))
        self.assertIs(self.kind(SECOND), JoinType.LEFT_OUTER)

    def test_a_stub_shows_its_rows(self):
        self.click(self.trellis, self.trellis.on_screen(self.item("8,211 unmatched").rect).center())
        self.rest()
        self.assertEqual(self.session.selection, Selection(KNOT, "unmatched_right"))
        self.assertIn("8,211 objects that found no loan. They are left out", self.sentence)

    def test_a_stub_is_not_removed_without_its_knot(self):
        self.session.select(Selection(KNOT, "unmatched_right"))
        before = self.session.flow
        self.press(KEY.Key_Delete)
        self.assertIs(self.session.flow, before)
        self.assertIn("belongs to its knot", self.window.status.shown.text())

    def test_arrows_walk_from_the_first_rail_to_the_output(self):
        self.trellis.setFocus()
        self.session.select(Selection("loans"))
        seen = []
        for _ in range(14):
            seen.append(self.session.selection.step)
            self.press(KEY.Key_Right)
        on_the_rail = ["fill-title-and-2-more", "compute-month", BLEND]
        self.assertEqual(list(dict.fromkeys(seen)), ["loans", KNOT, SECOND, *on_the_rail, "loan-report-xlsx"])
        self.session.select(Selection("loans"))
        self.press(KEY.Key_Down)
        self.assertEqual(self.session.selection, Selection("venues"))

    def test_enter_leads_from_a_knot_to_its_sentence(self):
        self.trellis.setFocus()
        self.press(KEY.Key_Return)
        self.assertTrue(self.window.sentence.view.chips[0].hasFocus())

    def test_a_rail_dropped_beside_all_rails_joins_nothing(self):
        before = self.session.flow
        rail = self.item("Loans").rect.center()
        from PySide6.QtCore import QPointF

        self.drag(self.trellis, rail, QPointF(900, 300))
        self.assertIs(self.session.flow, before)
        self.assertIn("Drop it on a rail", self.window.status.shown.text())

    def test_a_renamed_knot_shows_its_name_and_twins_are_numbered(self):
        self.session.select(Selection(KNOT))
        editing.rename_selected(self.session, "Loans in the registry")
        self.rest()
        self.assertIn("Loans in the registry", {knot.caption for knot in self.trellis.shown.knots})
        self.session.undo()
        editing.rename_selected(self.session, "Loans with Objects 2")
        self.rest()
        knot = next(knot for knot in self.trellis.shown.knots if knot.step == KNOT)
        self.assertIn("2", knot.caption)
        self.assertEqual(knot.short_caption, "with Objects 2")

    def test_dropping_a_stump_on_a_joined_rail_puts_a_knot_into_it(self):
        target = next(
            item
            for item in self.trellis.items
            if item.selection == Selection(SECOND) and item.target and item.rect.width() > 60
        )
        self.drag(self.trellis, self.item("returns-desk.csv").rect.center(), target.rect.center())
        self.rest()
        self.assertEqual(len(self.lines()), 11)  # the questions, a union and a blend
        self.press(KEY.Key_Return)
        self.rest()
        knot = self.session.selection.step
        self.assertEqual(
            [entry.step for entry in self.session.flow.step(knot).inputs], [SECOND, "returns-desk"]
        )
        self.assertEqual(self.session.flow.step("fill-title-and-2-more").inputs[0].step, knot)
        self.assertIs(self.kind(knot), JoinType.LEFT_OUTER)

    def test_a_rail_dropped_on_a_rail_is_joined_into_it(self):
        heads = {item.text: item.rect.center() for item in self.trellis.items if item.rect.right() < 210}
        self.drag(self.trellis, heads["Venues"], heads["Objects"])
        self.rest()
        # No field of one stands in a field of the other: nothing is guessed, and no question asked yet.
        knot = self.session.selection.step
        self.assertEqual([entry.step for entry in self.session.flow.step(knot).inputs], ["objects", "venues"])
        self.assertEqual(self.session.flow.step(KNOT).inputs[1].step, knot)
        self.assertIn("choose the link fields", self.sentence)
        self.assertIn("no link field yet", self.bench_text())

    def test_escape_at_the_question_takes_the_join_back_without_a_trace(self):
        before = self.session.flow
        self.session.select(self.stump("returns-desk"))
        self.press(KEY.Key_J, modifier=CTRL)
        self.press(KEY.Key_Return)
        self.rest()
        self.assertNotEqual(self.session.flow, before)
        self.press(KEY.Key_Escape)
        self.rest()
        self.assertEqual(self.session.flow, before)
        self.assertEqual(self.session.history.redo_name, "")


class Sentences(DemoCase):
    def test_a_knot_is_read_as_one_sentence(self):
        self.assertEqual(
            self.sentence,
            "Match Object no of Loans with accession of Objects , ignoring case and outer spaces and … "
            "those left … Each loan takes every match . "
            "Keep all 7 fields of Loans , bring title, maker, keeper and 1 more · 4 of 8 fields "
            "from Objects. This answers: every loan, with its object where known 8,355 rows; "
            "keys 1 to 9 ask others, or see all side by side",
        )

    def test_a_link_field_is_chosen_from_the_fields_of_its_side(self):
        self.click(self.chip("Link field of Loans"))
        self.assertEqual(self.lines()[:3], ["Loan no", "Object no", "Venue"])
        self.pick("Loan no")
        self.rest()
        self.assertEqual(editing.join_settings(self.session, KNOT).links[0].left, "Loan no")
        self.assertEqual(self.session.history.undo_name, "Match Loan no with accession")
        self.assertTrue(self.bands[0].startswith("Unmatched Loans · 8,352"))

    def test_it_grows_at_its_open_end_and_shrinks_again(self):
        self.click(self.chip("More"))
        self.pick("Agreed value")
        self.assertIn("made", self.lines())
        self.pick("made")
        self.rest()
        self.assertEqual(len(editing.join_settings(self.session, KNOT).links), 2)
        self.assertIn("and Agreed value of Loans with made of Objects", self.sentence)
        self.click(self.window.sentence.view.chips[0])
        self.pick("remove this link")
        self.rest()
        self.assertEqual(
            [link.left for link in editing.join_settings(self.session, KNOT).links], ["Agreed value"]
        )

    def test_many_links_fold_and_two_lines_are_enough(self):
        for width in (1100, 1280):
            self.window.resize(width, 700)
            links = tuple(
                LinkSettings(left, right)
                for left, right in (
                    ("Object no", "accession"),
                    ("Venue", "title"),
                    ("Status", "store"),
                    ("Loan no", "keeper"),
                )
            )
            editing.change_join(self.session, KNOT, f"four links at {width}", links=links, bring=None)
            self.rest()
            self.assertIn("and 3 more pairs", self.sentence)
            bottom = max(chip.geometry().bottom() for chip in self.window.sentence.view.chips)
            self.assertLess(bottom, self.window.sentence.view.height())
            self.session.undo()

    def test_a_mismatch_of_types_is_said_and_mended_there(self):
        self.click(self.chip("Link field of Objects"))
        # Before an expression, and the way to do without the link.
        detail = self.chooser()._choices[-4].detail
        self.assertIn("integer, cannot equal text", detail)
        self.pick("made")
        self.rest()
        self.assertIn("can never be equal", self.sentence)
        self.assertIn("can never be equal", self.bench_text())
        self.assertEqual(self.trellis.shown.knots[1].detail, "cannot be computed")
        self.click(self.chip("Link field of Objects"))
        self.pick("accession")
        self.rest()
        self.assertEqual(self.bands[0], "Unmatched Loans · 49 rows")

    def test_the_question_names_types_rows_and_signs(self):
        self.click(self.chip("Question"))
        choices = self.chooser()._choices
        self.assertEqual(
            (choices[2].text, choices[2].detail), ("the loans without an object", "49 rows · left anti join")
        )
        self.press(KEY.Key_3)
        self.rest()
        self.assertIs(self.kind(), JoinType.LEFT_ANTI)
        self.assertIn("49 rows", self.sentence)

    def test_a_list_narrows_while_typing(self):
        self.click(self.chip("Fields of Objects"))
        self.type("mak")
        self.assertEqual(self.lines(), ["maker"])
        self.press(KEY.Key_Escape)
        self.assertEqual(
            editing.join_settings(self.session, KNOT).bring, ("title", "maker", "keeper", "made")
        )

    def test_brought_fields_are_reordered_and_named_on_request(self):
        self.click(self.chip("Fields of Objects"))
        self.chooser().list.setFocus()
        self.press(KEY.Key_Down, modifier=Qt.KeyboardModifier.AltModifier)
        found = self.chooser().list
        while found.currentItem().text() != "name them all “… of Objects”":
            self.press(KEY.Key_Down)
        self.press(KEY.Key_Space, KEY.Key_Return)
        self.rest()
        settings = editing.join_settings(self.session, KNOT)
        self.assertEqual((settings.bring[:2], settings.name_all), (("maker", "title"), True))
        names = self.session.outcome(KNOT).result.rows.names
        self.assertIn("maker of Objects", names)

    def test_swapping_says_what_changes(self):
        self.press(KEY.Key_T, modifier=CTRL)
        self.rest()
        self.assertIs(self.kind(), JoinType.RIGHT_OUTER)
        self.assertIn(
            "Objects is on the left now (left outer join became right outer join)",
            self.window.status.shown.text(),
        )
        self.assertEqual(self.bands[0], "Unmatched Objects · 8,211 rows")
        self.assertEqual(self.session.outcome(KNOT).result.rows.rows, 8355)

    def test_a_source_says_where_its_header_was_and_what_stands_beside_it(self):
        self.session.select(Selection("venues"))
        self.rest()
        said = "Read sheet Venues of loans-2026.xlsx as Venues , header in row 3 , 4 fields , 45 rows."
        self.assertIn(said, self.sentence)
        self.assertIn("below “Lantern Coast Museums: venues", self.sentence)
        self.click(self.chip("Remarks"))
        self.assertEqual(len(self.lines()), 2)
        self.assertIn("another table is in the sheet, from F3: “Venues!F3”", self.lines()[1])
        self.press(KEY.Key_Escape)

    def test_another_sheet_is_chosen_in_the_sentence(self):
        self.session.select(Selection("venues"))
        self.rest()
        self.click(self.chip("Table"))
        self.pick("Loans")
        self.rest()
        self.assertEqual(KINDS.settings(self.session.flow.step("venues")).table, "Loans")
        self.session.undo()
        self.rest()
        self.assertIn("45 rows", self.sentence)

    def test_text_outputs_say_what_happens_to_formulas(self):
        from keen_trellis.outputs.targets import settings_for

        self.session.select(Selection("loans"))
        editing.add_output(self.session, settings_for(self.folder / "loans.csv"))
        self.rest()
        self.assertIn("formulas made harmless", self.sentence)
        self.choose("Form", "Text that looks like a formula", "as it is")
        self.rest()
        self.assertFalse(KINDS.settings(self.session.flow.step("loans-csv")).harmless)


if __name__ == "__main__":
    unittest.main()
