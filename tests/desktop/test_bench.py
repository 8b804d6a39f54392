import unittest
from collections import Counter

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QApplication, QMenu

from keen_trellis.core.join_type import QUESTION_TYPES, JoinType
from keen_trellis.core.task import Task
from keen_trellis.desktop.bench.grid_view import HEADER_HEIGHT, LINE_HEIGHT
from keen_trellis.desktop.bench.lines import BAND, MORE, PART, ROW
from keen_trellis.desktop.kinds import CUTTINGS
from keen_trellis.desktop.trellis.layout import plan
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Input
from keen_trellis.flow.reviewing import Verdict
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.session import editing
from keen_trellis.session.selection import Selection
from keen_trellis.sources.library import Library, resolve
from tests import demo_data
from tests.desktop.driving import CTRL, SHIFT, WindowCase

_LIBRARY = Library()
KNOT = "loans-with-objects"
KEY = Qt.Key


class BenchCase(WindowCase):
    def setUp(self):
        super().setUp()
        self.open_demo()
        self.grid = self.window.bench.grid
        self.grid.setFocus()

    def kinds(self) -> list[str]:
        return [self.grid.lines.at(number).kind for number in range(self.grid.lines.count)]

    def line(self, number: int) -> QPointF:
        """A point in the grid's line with this number, near its left."""
        top = self.grid.verticalScrollBar().value()
        return QPointF(120, HEADER_HEIGHT + (number - top + 0.5) * LINE_HEIGHT)

    def part(self, prefix: str) -> int:
        """The number of the part whose key begins so."""
        return next(n for n, part in enumerate(self.grid.content.parts) if part.key.startswith(prefix))

    def head(self, prefix: str) -> int:
        """The number of the line that heads a part."""
        return self.grid.lines.part_head(self.part(prefix))

    def first_row(self, prefix: str) -> int:
        """The number of the line that shows the first row of a part."""
        return self.grid.lines.row(self.part(prefix), 0)

    def ids(self, prefix: str) -> set[str]:
        """The loan numbers of all rows of a part."""
        part = self.grid.content.parts[self.part(prefix)]
        rows = range(part.rows.count)
        return {self.grid.content.cells(part, n // 64)[0][n % 64].text for n in rows}

    def shown(self, column: str, part: int = 0, places: int = 5) -> list[str]:
        content = self.grid.content
        number = next(n for n, entry in enumerate(content.columns) if entry.field.name == column)
        return [cell.text for cell in content.cells(content.parts[part], 0)[number][:places]]


class Bands(BenchCase):
    def test_every_band_shows_a_few_rows_at_first(self):
        few, fewer = [ROW] * 5 + [MORE], [ROW] * 3 + [MORE]
        left = [BAND, PART, *fewer, *[PART] * 4]
        matched = [BAND, PART, PART, *few, PART, PART, *few]
        self.assertEqual(self.kinds(), [*left, *matched, BAND, PART, *fewer, *[PART] * 3])

    def test_matched_as_written_stands_apart(self):
        texts = [part.text for part in self.grid.content.parts]
        for text in (
            "214 pairs match only by ignoring case",
            "194 pairs match only by ignoring outer spaces",
            "7,898 as written",
        ):
            self.assertIn(text, texts)
        rows = self.ids("prepared:ignoring case") | self.ids("prepared:ignoring outer spaces")
        self.assertEqual(rows, demo_data.scenario().planted.only_after_case_and_outer_spaces)

    def test_unmatched_rows_are_the_planted_ones(self):
        parts = [part.key for part in self.grid.content.parts if part.key.startswith("unmatched_left:")]
        self.assertEqual(len(parts), 5)
        rows = set().union(*map(self.ids, parts))
        self.assertEqual(rows, demo_data.scenario().planted.without_object)

    def test_bands_and_parts_open_and_close_by_click_and_key(self):
        self.click(self.grid.viewport(), self.line(0))
        self.assertEqual(self.kinds()[:3], [BAND, BAND, PART])
        self.press(KEY.Key_Return)
        self.assertEqual(self.kinds()[:3], [BAND, PART, ROW])
        self.click(self.grid.viewport(), self.line(1))
        self.assertEqual(self.kinds()[:3], [BAND, PART, PART])
        self.press(KEY.Key_Space)
        self.assertEqual(self.kinds()[:3], [BAND, PART, ROW])

    def test_all_rows_of_a_part_are_shown_on_request_and_fewer_again(self):
        self.click(self.grid.viewport(), self.line(5))
        self.assertEqual(self.kinds()[:21], [BAND, PART, *[ROW] * 17, MORE, PART])
        self.grid.move_to(19)
        self.press(KEY.Key_Space)
        self.assertEqual(self.kinds()[5], MORE)

    def test_keys_jump_between_bands(self):
        self.grid.move_to(0)
        places = []
        for _ in range(3):
            self.press(KEY.Key_Down, modifier=CTRL)
            places.append(self.grid.current)
        self.assertEqual(places, [1, 6, 7])
        self.press(KEY.Key_Up, modifier=CTRL)
        self.assertEqual(self.grid.current, 6)

    def test_a_band_is_sent_elsewhere_from_its_head(self):
        rect = self.grid.chooser_rect(self.grid.line_top(0))
        self.click(self.grid.viewport(), rect.center())
        menu = QApplication.activePopupWidget()
        self.assertIsInstance(menu, QMenu)
        self.assertEqual([action.text() for action in menu.actions()], ["stay in the result", "left out"])
        menu.actions()[1].trigger()
        menu.close()
        self.rest()
        self.assertIs(editing.join_settings(self.session, KNOT).join_type, JoinType.INNER)

    def test_every_choice_of_every_band_is_what_it_says(self):
        content = self.grid.content
        for kind in QUESTION_TYPES:
            for band in content.bands:
                for destination in content.destinations(band, kind):
                    after = destination.goes
                    if destination.text == "left out" and band.key == "unmatched_left":
                        self.assertFalse(after.keeps_unmatched_left)
                    if destination.text == "every pair":
                        self.assertTrue(after.keeps_pairs)
                        self.assertEqual(after.keeps_unmatched_right, kind.keeps_unmatched_right)

    def test_flipping_through_the_types_leaves_the_bench_where_it_is(self):
        self.grid.move_to(17)
        self.grid.verticalScrollBar().setValue(4)
        content = self.grid.content
        for key in range(KEY.Key_1, KEY.Key_9 + 1):
            self.press(KEY(key))
            self.rest()
            self.assertIs(
                editing.join_settings(self.session, KNOT).join_type, QUESTION_TYPES[key - KEY.Key_1]
            )
            self.assertIs(self.grid.content, content)
            self.assertEqual((self.grid.current, self.grid.verticalScrollBar().value()), (17, 4))

    def test_other_links_show_other_rows_in_the_same_place(self):
        self.grid.verticalScrollBar().setValue(3)
        editing.change_join(self.session, KNOT, "test", links=())
        self.rest()
        self.assertIn("no link field yet", self.bench_text())
        self.session.undo()
        self.rest()
        self.assertEqual(self.bands[0], "Unmatched Loans · 49 rows")


class Rows(BenchCase):
    def test_the_origin_of_the_current_row_is_said(self):
        self.grid.move_to(2)
        self.assertEqual(self.window.status.origin.text(), "this row: loans-2026.xlsx, Loans, row 152")
        self.grid.move_to(self.first_row("prepared:ignoring case"))
        self.assertRegex(
            self.window.status.origin.text(),
            r"loans-2026.xlsx, Loans, row 7 with registry.sqlite, objects, row [\d,]+",
        )
        self.grid.move_to(0)
        self.assertEqual(self.window.status.origin.text(), "")

    def test_a_key_opens_all_fields_of_the_row_and_its_partners(self):
        number = next(
            n
            for n, row in enumerate(demo_data.scenario().loans)
            if row[1] in demo_data.scenario().planted.repeated_accessions
        )
        repeated = self.part("repeated")
        part = self.grid.content.parts[repeated]
        sides = [self.grid.content.row_sides(part, place)[0] for place in range(part.rows.count)]
        self.assertEqual(len(sides), 6)
        self.grid.show_row(repeated, sides.index(number))
        self.press(KEY.Key_F4)
        record = self.window.bench.record.view.table
        self.assertEqual(record.columnCount(), 6)
        names = {record.item(row, 2).text() for row in range(record.rowCount()) if record.item(row, 2)}
        self.assertIn("store", names)  # not brought
        codes = {record.item(1, column).text() for column in (3, 5)}
        self.assertEqual(len(codes), 1)
        self.assertIn("2 partners", self.window.bench.record.view.title.text())
        self.press(KEY.Key_Escape)
        self.assertTrue(self.grid.isVisible())
        self.assertTrue(self.grid.hasFocus())

    def test_enter_on_a_row_does_the_same_and_says_when_there_is_no_partner(self):
        self.grid.move_to(2)
        self.press(KEY.Key_Return)
        self.assertIn("no partner", self.window.bench.record.view.title.text())

    def test_sorting_by_a_click_on_a_head_goes_up_down_and_back(self):
        first = self.shown("Venue")
        zone = self.grid.columns.zones[0]
        number = [column.field.name for column in self.grid.content.columns].index("Venue")
        left = next(left for n, left, width in self.grid.column_lefts(zone) if n == number)
        key = self.grid.content.parts[0].key
        everything = sorted(row[2] for row in demo_data.scenario().loans if row[0] in self.ids(key))
        for expected in (everything[:5], everything[::-1][:5], first):
            self.click(self.grid.viewport(), QPointF(left + 20, 10))
            self.rest()
            self.assertEqual(self.shown("Venue"), expected)

    def test_sorting_by_key_uses_the_current_column_and_puts_blanks_last(self):
        self.grid.column = [column.field.name for column in self.grid.content.columns].index("Back date")
        self.press(KEY.Key_L, modifier=CTRL)
        self.rest()
        part = self.grid.content.parts[0]
        dates = [cell.text for cell in self.grid.content.cells(part, 0)[self.grid.column]]
        filled = [date for date in dates if date]
        self.assertEqual(filled, sorted(filled))
        self.assertEqual(dates[len(filled) :], [""] * (len(dates) - len(filled)))

    def test_find_goes_round_and_opens_what_hides_a_row(self):
        self.press(KEY.Key_F, modifier=CTRL)
        self.type("l-8352")
        self.press(KEY.Key_Return)
        self.rest()
        part, place = self.grid.current_row()
        self.assertEqual(self.grid.content.cells(part, place // 64)[0][place % 64].text, "L-8352")
        self.press(KEY.Key_A, modifier=CTRL)
        self.type("L-0151")
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.grid.current, 2)
        self.press(KEY.Key_F3)
        self.rest()
        self.assertEqual(self.grid.current, 2)

    def test_find_says_when_there_is_nothing(self):
        self.press(KEY.Key_F, modifier=CTRL)
        self.type("no such text")
        self.press(KEY.Key_Return)
        self.rest()
        self.assertIn("in none of these rows", self.window.bench.finding.said.text())
        self.press(KEY.Key_Escape)
        self.assertFalse(self.window.bench.finding.line.isVisible())

    def test_find_backwards_finds_the_other_rows(self):
        self.window.bench.finding.open()
        self.window.bench.finding.line.setText("Varnepoint")
        forwards, backwards = [], []
        for found, key in ((forwards, SHIFT), (backwards, Qt.KeyboardModifier.NoModifier)):
            self.grid.move_to(1)
            for _ in range(3):
                self.window.bench.finding.go_on(backwards=key is SHIFT)
                self.rest()
                found.append((self.grid.current_line.part, self.grid.current_line.place))
        self.assertEqual(len({*forwards, *backwards}), 6)

    def test_rows_are_copied_as_tab_separated_text(self):
        self.grid.move_to(2)
        self.press(KEY.Key_Down, modifier=SHIFT)
        self.press(KEY.Key_C, modifier=CTRL)
        lines = QGuiApplication.clipboard().text().splitlines()
        self.assertEqual(lines[0].split("\t")[:2], ["Loan no", "Venue"])
        self.assertEqual([line.split("\t")[0] for line in lines[1:]], ["L-0151", "L-0456"])
        self.assertIn("accession", lines[0])

    def test_the_cursor_goes_through_all_columns(self):
        last = len(self.grid.content.columns) - 1
        self.press(*[KEY.Key_Right] * (last + 3))
        self.assertEqual(self.grid.column, last)
        self.press(*[KEY.Key_Left] * (last + 3))
        self.assertEqual(self.grid.column, 0)

    def test_each_side_scrolls_by_itself(self):
        bars = self.grid.bars
        self.assertTrue(bars["left"].isVisible() and bars["right"].isVisible())
        bars["left"].setValue(40)
        self.assertEqual(bars["right"].value(), 0)

    def test_amounts_are_grouped_and_keys_and_years_are_not(self):
        self.grid.column = 0
        value = {
            text
            for text in self.shown("Agreed value", part=self.part("as_written"), places=60)
            if len(text) > 3
        }
        self.assertTrue(value and all("," in text for text in value), value)
        self.assertTrue(
            all("," not in text for text in self.shown("made", part=self.part("as_written"), places=60))
        )
        self.session.select(Selection("objects"))
        self.rest()
        content = self.grid.content
        ids = [cell.text for cell in content.cells(content.parts[0], 100)[0]]
        self.assertEqual(ids[0], "6401")

    def test_the_rows_of_other_steps(self):
        for selection, rows in (
            (Selection("venues"), 45),
            (Selection(KNOT, "unmatched_right"), 8211),
            (Selection("loan-report-xlsx"), 8355),
        ):
            self.session.select(selection)
            self.rest()
            self.assertEqual((len(self.grid.content.bands), self.grid.lines.count), (1, rows))
            self.assertEqual(self.kinds()[:1], [ROW])


class Mending(BenchCase):
    LEFT = "unmatched_left:"

    @property
    def settings(self):
        return editing.join_settings(self.session, KNOT)

    def left_parts(self) -> list[str]:
        return [part.text for part in self.grid.content.parts if part.key.startswith(self.LEFT)]

    def test_enter_mends_and_the_rows_are_shown_where_they_went(self):
        self.grid.move_to(self.head(f"{self.LEFT}written-differently:the same apart from punctuation and"))
        self.press(KEY.Key_Return)
        self.rest()
        (link,) = self.settings.links
        self.assertEqual(set(link.ignore), {"case", "outer-spaces", "punctuation", "inner-spaces"})
        self.assertEqual(self.bands[0], "Unmatched Loans · 18 rows")
        self.assertEqual(self.grid.current, self.head("prepared:ignoring punctuation"))
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.bands[0], "Unmatched Loans · 49 rows")

    def test_a_click_on_the_mend_mends_and_one_beside_it_opens_the_reason(self):
        number = self.head(f"{self.LEFT}written-differently:the same apart from punctuation and")
        rect = self.grid.mend_rect(self.grid.line_top(number), self.grid.content.parts[1])
        self.click(self.grid.viewport(), QPointF(rect.left() - 40, rect.center().y()))
        self.assertEqual(self.grid.lines.at(number + 1).kind, ROW)
        self.click(self.grid.viewport(), rect.center())
        self.rest()
        self.assertEqual(self.bands[0], "Unmatched Loans · 18 rows")

    def test_all_offered_mends_leave_the_blank_and_the_really_absent(self):
        planted = demo_data.scenario().planted
        self.grid.move_to(self.head(f"{self.LEFT}written-differently:the same apart from punctuation and"))
        self.press(KEY.Key_Return)
        self.rest()
        self.grid.move_to(self.head(f"{self.LEFT}look-alike"))
        self.press(KEY.Key_Return)
        review = self.window.bench.mends.view
        self.assertTrue(review.isVisible())
        self.assertEqual([pair.verdict.value for pair in review.review.pairs], ["yes"] * 6)
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.left_parts(), ["7 rows: not in Objects", "5 rows: the link field is blank"])
        rest = self.ids(f"{self.LEFT}absent") | self.ids(f"{self.LEFT}blank")
        self.assertTrue(rest <= planted.without_object)
        self.assertEqual(self.grid.current, self.head("prepared:corrections"))

    def test_what_is_accepted_as_absent_is_said_apart(self):
        self.grid.move_to(self.head(f"{self.LEFT}absent"))
        self.press(KEY.Key_Return)
        self.rest()
        self.assertIn("7 rows: accepted as absent", self.left_parts())
        (accepted,) = self.settings.accepted
        self.assertEqual((accepted.side, len(accepted.values)), ("left", 7))

    def test_why_values_are_absent_is_noted_and_taken_back_with_them(self):
        self.grid.move_to(self.head(f"{self.LEFT}absent"))
        self.press(KEY.Key_Return)
        self.enter("never registered")
        self.assertEqual(self.settings.accepted[0].note, "never registered")
        self.click(self.chip("Accepted as absent"))
        self.assertTrue(self.lines()[0].startswith("7 of Loans: "), self.lines())
        self.press(KEY.Key_Return)
        self.enter("never registered, the keepers say")
        self.assertEqual(self.settings.accepted[0].note, "never registered, the keepers say")
        self.choose("Accepted as absent", "    accept them no longer")
        self.assertEqual(self.settings.accepted, ())
        self.assertIn("7 rows: not in Objects", self.left_parts())

    def test_rows_are_left_out_before_the_knot_and_filled_after_it(self):
        self.grid.move_to(self.head(f"{self.LEFT}blank"))
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.bands[0], "Unmatched Loans · 44 rows")
        self.assertEqual(self.session.selection, Selection(KNOT))
        self.grid.move_to(self.head(f"{self.LEFT}absent"))
        self.press(KEY.Key_Down, modifier=Qt.KeyboardModifier.AltModifier)
        QApplication.activePopupWidget().actions()[1].trigger()
        QApplication.activePopupWidget().close()
        self.rest()
        self.assertIn("put “no object”", self.sentence)
        self.assertIn("132 cells filled, 44 cells still open: made 44.", self.sentence)
        self.press(KEY.Key_Z, KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.session.select(Selection(KNOT))
        self.rest()
        self.assertEqual(self.bands[0], "Unmatched Loans · 49 rows")

    def test_where_nothing_matches_the_patterns_face_each_other_and_the_other_link_is_offered(self):
        links = (LinkSettings("Loan no", "accession"),)
        editing.change_join(self.session, KNOT, "Match by loan no", links=links)
        self.rest()
        (text,) = self.left_parts()
        self.assertEqual(text, "8,352 rows: Loan no looks like “A-9999” and accession like “AAA.99999”")
        self.grid.move_to(self.head(f"{self.LEFT}nothing-alike"))
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(
            [(link.left, link.right) for link in self.settings.links], [("Object no", "accession")]
        )

    def test_that_nothing_is_wrong_is_said_on_the_matched_band(self):
        self.assertEqual(self.grid.content.bands[1].effect, "")
        links = (LinkSettings("Loan no", "Loan no"),)
        flow, twin = edits.add_source(self.session.flow, self.session.sources()["loans"], "Twins")
        flow, knot = edits.add_join(
            flow, Input("loans"), Input(twin), JoinSettings(links=links, type="inner")
        )
        self.session.apply("Join with itself", lambda _: flow, Selection(knot))
        self.rest()
        self.assertEqual(self.grid.content.bands[1].effect, "every loan found exactly one twin")

    def test_of_several_mends_one_is_chosen_from_a_menu(self):
        self.grid.move_to(self.head("repeated"))
        self.press(KEY.Key_Down, modifier=Qt.KeyboardModifier.AltModifier)
        menu = QApplication.activePopupWidget()
        self.assertEqual(
            [action.text() for action in menu.actions()],
            [
                "Take the first match, 3 rows fewer",
                "Take the last match, 3 rows fewer",
                "Keep only the first row of each accession before the join, 3 rows fewer",
            ],
        )
        menu.actions()[1].trigger()
        menu.close()
        self.rest()
        self.assertEqual(self.settings.take, "last")


class Clusters(BenchCase):
    def test_rows_of_a_reason_are_counted_by_the_current_field(self):
        absent = "unmatched_left:absent"
        ids = self.ids(absent)
        self.grid.move_to(self.head(absent))
        self.grid.column = [column.field.name for column in self.grid.content.columns].index("Venue")
        self.press(KEY.Key_L, modifier=CTRL | SHIFT)
        self.rest()
        view = self.window.bench.clusters.view
        self.assertTrue(view.isVisible())
        loans = demo_data.scenario().loans
        counts = Counter(row[2] for row in loans if row[0] in ids)
        everything = Counter(row[2] for row in loans)
        shown = {row[0]: (row[1], row[2]) for row in view.texts}
        self.assertEqual(shown, {name: (str(n), str(everything[name])) for name, n in counts.items()})
        self.press(KEY.Key_Escape)
        self.grid.column = len(self.grid.content.columns) - 1
        self.press(KEY.Key_L, modifier=CTRL | SHIFT)
        self.assertIn("no such field", self.window.status.shown.text())


class Reviewing(BenchCase):
    def setUp(self):
        super().setUp()
        self.press(KEY.Key_R, modifier=CTRL)
        self.view = self.window.bench.mends.view

    def verdicts(self) -> list[str]:
        return [pair.verdict.value for pair in self.view.review.pairs]

    def test_pairs_are_decided_one_by_one_by_group_and_the_rest(self):
        self.assertEqual(self.view.texts[0], ["6 values", "", "", "6", "“O” read as “0”"])
        self.press(KEY.Key_R)
        self.assertEqual(self.verdicts(), ["no"] + ["yes"] * 5)
        self.press(KEY.Key_O)
        self.assertEqual(self.verdicts(), ["no", ""] + ["yes"] * 4)
        self.press(KEY.Key_R, modifier=SHIFT)
        self.assertEqual(self.verdicts(), ["no", "no"] + ["yes"] * 4)
        self.view.table.setCurrentCell(0, 0)
        self.press(KEY.Key_A)
        self.assertEqual(self.verdicts(), ["yes"] * 6)
        self.click(self.view.buttons["Reject"])
        self.assertEqual(self.verdicts().count("no"), 1)

    def test_rejected_pairs_are_remembered_and_can_be_changed_later(self):
        self.press(KEY.Key_R, KEY.Key_Return)
        self.rest()
        settings = editing.join_settings(self.session, KNOT)
        self.assertEqual((len(settings.links[0].correct), len(settings.rejected)), (5, 1))
        parts = [part.key for part in self.grid.content.parts]
        self.assertFalse([key for key in parts if "look-alike" in key], parts)
        self.press(KEY.Key_R, modifier=CTRL)
        self.assertEqual(sorted(self.verdicts()), ["no"] + ["yes"] * 5)
        self.press(KEY.Key_A, modifier=SHIFT)
        number = self.verdicts().index("no")
        self.view.show_review(self.view.review.decided([number], Verdict.ACCEPTED))
        self.press(KEY.Key_Return)
        self.rest()
        settings = editing.join_settings(self.session, KNOT)
        self.assertEqual((len(settings.links[0].correct), settings.rejected), (6, ()))

    def test_the_review_is_exported_and_its_answers_are_read_back(self):
        for name in ("review.xlsx", "review.csv"):
            path = self.folder / name
            self.window.bench.mends.export(path)
            table = _LIBRARY.get(resolve(str(path), _LIBRARY).settings, Task()).table
            self.assertEqual(table.names, ("read", "as", "rows", "difference", "answer"))
        wrong = [pair.read for pair in self.view.review.pairs]
        answers = self.folder / "answers.csv"
        lines = [
            f"{wrong[0]},{self.view.review.pairs[0].meant},no",
            f"{wrong[1]},{self.view.review.pairs[1].meant},LCM.00001",
        ]
        answers.write_text("\n".join(["read,as,answer", *lines]))
        self.window.bench.mends.read_answers(answers)
        self.rest()
        self.assertEqual(self.verdicts()[:1], ["no"])
        self.assertIn("LCM.00001", [pair.meant for pair in self.view.review.pairs])
        (self.folder / "other.csv").write_text("a,b\n1,2\n")
        self.window.bench.mends.read_answers(self.folder / "other.csv")
        self.rest()
        self.assertIn("no column read", self.window.status.shown.text())


class Tracing(BenchCase):
    def test_a_written_row_is_followed_back_and_gone_to(self):
        self.session.select(Selection("loan-report-xlsx"))
        self.rest()
        self.grid.move_to(150)
        self.press(KEY.Key_F4, modifier=SHIFT)
        self.rest()
        view = self.window.bench.trace.view
        self.assertEqual(
            [row[1].strip() for row in view.texts],
            [
                "Loan report.xlsx",
                "Loans with Objects and Venues with Visitors",
                "compute month",
                "fill title and 2 more",
                "Loans with Objects and Venues",
                "Loans with Objects",
                "Loans",
                "Objects",
                "Venues",
                "Visitors",
            ],
        )
        self.assertEqual(view.texts[6][2], "loans-2026.xlsx, Loans, row 151")
        self.assertEqual([row[3] for row in view.texts][:2], ["Loan no: L-0150", "Loan no: L-0150"])
        self.assertEqual([row[3] for row in view.texts][6:], ["Loan no: L-0150", "", "", ""])
        view.table.setCurrentCell(5, 0)
        self.press(KEY.Key_Return)
        self.rest()
        both = "this row: loans-2026.xlsx, Loans, row 151 with registry.sqlite, objects, row 6,107"
        self.assertEqual(self.window.status.origin.text(), both)
        self.press(KEY.Key_F4, modifier=SHIFT)
        self.rest()
        self.assertEqual([row[1].strip() for row in view.texts], ["Loans", "Objects"])
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.window.status.origin.text(), "this row: loans-2026.xlsx, Loans, row 151")
        self.press(KEY.Key_F4, modifier=SHIFT)
        self.rest()
        self.assertEqual([row[0] for row in view.texts][:1], ["goes to"])
        self.assertIn("matched in 1 pair, in 1 row", [row[2] for row in view.texts])
        self.press(KEY.Key_Escape)
        self.assertTrue(self.grid.isVisible())


class Types(BenchCase):
    def test_all_types_stand_side_by_side_and_one_is_chosen(self):
        self.press(KEY.Key_Return, modifier=CTRL | SHIFT)
        view = self.window.bench.types.view
        self.assertTrue(view.isVisible())
        self.assertEqual(view.texts[1][1:5], ["8,306", "49", "8,211", "0"])
        self.press(KEY.Key_Down, KEY.Key_Return)
        self.rest()
        self.assertIs(editing.join_settings(self.session, KNOT).join_type, JoinType.INNER)
        self.assertIs(view.current, JoinType.INNER)
        self.press(KEY.Key_5)
        self.rest()
        self.assertIs(view.current, JoinType.FULL_OUTER)
        self.press(KEY.Key_Escape)
        self.assertTrue(self.grid.isVisible())
        self.click(self.chip("Join types side by side"))
        self.assertTrue(view.isVisible())
        rect = view.table.visualRect(view.table.model().index(0, 0))
        self.click(view.table.viewport(), rect.center())
        self.rest()
        self.assertIs(editing.join_settings(self.session, KNOT).join_type, JoinType.LEFT_OUTER)


class Guards(BenchCase):
    def setUp(self):
        super().setUp()
        self.view = self.window.bench.guards.view

    def shown_guards(self) -> list[tuple[str, str]]:
        return [(texts[0], texts[1]) for texts in self.view.texts]

    def test_two_keys_set_a_guard_that_holds_now(self):
        self.press(KEY.Key_G, modifier=CTRL)
        self.rest()
        self.assertEqual(self.shown_guards()[0], ("could be set", "at most 49 of loans without a partner"))
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(editing.join_settings(self.session, KNOT).guards, ("left-unmatched<=49",))
        self.assertEqual(self.shown_guards()[0], ("holds", "at most 49 of loans without a partner"))
        self.press(KEY.Key_Delete)
        self.rest()
        self.assertEqual(editing.join_settings(self.session, KNOT).guards, ())

    def test_a_broken_guard_is_loud_and_shows_its_rows(self):
        self.press(KEY.Key_G, modifier=CTRL)
        self.rest()
        self.view.entry.setFocus()
        self.type("right-key-unique")
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.shown_guards()[0], ("broken", "no link value repeats in objects"))
        words = [entry for entry in plan(self.session, 1280, CUTTINGS).words if entry.notch]
        self.assertEqual(
            [(entry.text, entry.alarm) for entry in words],
            [("guard broken: 2 values repeat, in 4 rows", True)],
        )
        self.view.table.setFocus()
        self.view.table.setCurrentCell(0, 0)
        self.press(KEY.Key_Return)
        self.assertEqual(self.grid.lines.count, 4)
        self.assertEqual(set(self.shown("accession")), set(demo_data.scenario().planted.repeated_accessions))
        self.press(KEY.Key_F4, modifier=SHIFT)
        self.assertIn("shown on their own", self.window.status.shown.text())
        self.press(KEY.Key_Escape)
        self.rest()
        self.assertTrue(self.view.isVisible())

    def test_a_guard_that_a_refresh_breaks_is_loud_at_once(self):
        self.open_demo(own=True)
        self.session.select(Selection(KNOT))
        for guard in ("left-unmatched<=49", "rows=8000..8400", "total:Agreed value"):
            self.window.bench.guards.add(guard)
            self.rest()
        self.assertEqual([entry.holds for entry in self.session.outcome(KNOT).guards], [True, True, False])
        demo_data.next_month(self.folder / "demo")
        self.press(KEY.Key_F5)
        self.rest(lambda: self.session.refreshing.comparison is not None)
        guards = self.session.outcome(KNOT).guards
        self.assertEqual([entry.holds for entry in guards], [False, False, False])
        words = [entry for entry in plan(self.session, 1280, CUTTINGS).words if entry.notch]
        self.assertEqual([(entry.text, entry.alarm) for entry in words], [("3 guards broken", True)])

    def test_what_is_no_guard_is_said(self):
        self.window.bench.guards.add("all fine")
        self.assertIn("is not a guard", self.window.status.shown.text())
        self.session.select(Selection("venues"))
        self.press(KEY.Key_G, modifier=CTRL)
        self.assertIn("knots and outputs", self.window.status.shown.text())


if __name__ == "__main__":
    unittest.main()
