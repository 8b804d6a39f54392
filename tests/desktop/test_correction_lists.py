"""Lists of corrections in the window: kept, used, proposed where they apply, looked through and pruned."""

import json

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog

from keen_trellis.flow.corrections import corrections_in
from keen_trellis.flow.file_format import load
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.correction_lists import KnownLists
from keen_trellis.session.selection import Selection
from tests.desktop.driving import ALT, CTRL, SHIFT
from tests.desktop.test_sources import SourcesCase
from tests.tables import rows_of
from tests.test_cli_flows import step, text

KEY = Qt.Key
LINK = {"left": "venue", "right": "venue"}
OTHER = {"links": [LINK], "measures": [{"function": "count", "name": "venues"}]}
LIST_CHIP = "List of corrections"


class ListsCase(SourcesCase):
    corrected = ()

    def setUp(self):
        super().setUp()
        self.session.lists.remembered = KnownLists(self.folder / "known.json")
        self.text_file("loan,venue\nL-1,Pier\nL-2,Twr\nL-3,Kai\nL-4,Kai\n", "loans.csv")
        self.text_file("venue,town\nPier,Wick\nTower,Wick\nQuay,Wick\n", "venues.csv")
        steps = [
            text("loans"),
            text("venues"),
            step(
                "joined",
                "join",
                ["loans", "venues"],
                links=[{**LINK, "correct": self.corrected}],
                type="left-outer",
            ),
            step("blended", "blend", ["loans", "venues"], others=[OTHER]),
        ]
        self.path = self.folder / "a.trellis"
        self.path.write_text(json.dumps({"format": "keen-trellis/1", "steps": steps}))

    def begin_flow(self):
        self.window.files.open_flow(self.path)
        self.session.select(Selection("joined"))
        self.rest()

    def list_of(self, lines: str, name: str = "venues.corrections.csv"):
        return self.text_file(f"read,meant,by,on\n{lines}", name)

    def matched(self) -> int:
        return self.session.outcome("joined").figures.counts.left_matched


class Kept(ListsCase):
    corrected = (("Kai", "Quay"), ("Twr", "Tower"))

    def test_what_was_corrected_is_kept_in_a_new_list_and_used_from_there(self):
        self.begin_flow()
        self.click(self.chip("Keep corrections"))
        path = self.folder / "towns.corrections.csv"
        self.dialog(QFileDialog)
        self.enter_file(path)
        self.rest()
        self.assertEqual([entry.read for entry in corrections_in(path)], ["Kai", "Twr"])
        self.assertTrue(all(entry.by and entry.on for entry in corrections_in(path)))
        self.assertEqual(self.matched(), 4)
        self.assertIn("the list towns · 2 pairs", self.sentence)
        link = KINDS.settings(self.session.flow.step("joined")).links[0]
        self.assertEqual((link.correct, link.lists), ((), ("towns",)))
        # It is saved by its name, and opened again.
        self.session.save(self.path)
        self.assertEqual(load(self.path, KINDS), self.session.flow)
        self.assertNotIn("Quay", self.path.read_text())
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertIn("2 corrections", self.sentence)
        self.assertEqual(self.matched(), 4)
        self.press(KEY.Key_Z, modifier=CTRL | SHIFT)
        self.rest()
        self.assertIn("the list towns", self.sentence)

    def test_what_a_list_says_otherwise_is_said_anew(self):
        path = self.list_of("Kai,Pier,Ada,2026-01-01T00:00:00Z\n")
        self.begin_flow()
        self.click(self.chip("Keep corrections"))
        self.pick("venues")
        self.rest()
        self.assertEqual(
            [(e.read, e.meant) for e in corrections_in(path)], [("Kai", "Quay"), ("Twr", "Tower")]
        )


class Used(ListsCase):
    def setUp(self):
        super().setUp()
        self.list = self.list_of("Kai,Quay,Ada,2026-05-01T08:00:00Z\nPir,Pier,Ada,\n")

    def test_it_is_proposed_where_its_values_occur(self):
        self.list_of("Nowhere,Quay,,\nTwr,Elsewhere,,\n", "other.corrections.csv")
        self.begin_flow()
        self.rest(lambda: "use the list" in self.sentence)
        self.assertIn("use the list venues: 1 of its pairs for 2 rows", self.sentence)
        self.assertNotIn("use the list other", self.sentence)
        self.click(self.chip("Proposed list"))
        self.rest()
        self.assertEqual(self.matched(), 3)
        self.assertNotIn("use the list", self.sentence)
        self.assertIn("the list venues · 2 pairs", self.sentence)
        self.assertEqual(self.session.lists.remembered.all(), (str(self.list),))
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual((self.matched(), self.session.flow.lists), (1, ()))

    def use(self):
        self.begin_flow()
        self.session.lists.use("joined", 0, str(self.list))
        self.rest()

    def test_it_is_chosen_by_hand_and_left_again(self):
        self.begin_flow()
        self.tick("Preparation", "use a list of corrections …")
        self.rest()
        self.pick("venues")
        self.rest()
        self.assertEqual(self.matched(), 3)
        self.click(self.chip(LIST_CHIP))
        self.pick("do without the list venues")
        self.rest()
        self.assertEqual((self.matched(), self.session.flow.lists), (1, ()))

    def test_it_is_looked_through_pruned_and_put_back(self):
        self.use()
        self.click(self.chip(LIST_CHIP))
        self.pick("look through it …")
        view = self.window.bench.correction_list.view
        self.assertEqual(view.texts[0], ["Kai", "Quay", "Ada", "2026-05-01 08:00:00", ""])
        self.assertIn("2 pairs, used by Joined", view.title.text())
        self.press(KEY.Key_Delete)
        self.rest()
        self.assertEqual([entry.read for entry in corrections_in(self.list)], ["Pir"])
        self.assertEqual(view.texts[0][4], "taken out")
        self.assertEqual(self.matched(), 1)
        self.assertEqual(view.switch.text().split("  ")[0], "Put it back")
        self.press(KEY.Key_Delete)
        self.rest()
        self.assertEqual(self.matched(), 3)
        entry = next(entry for entry in corrections_in(self.list) if entry.read == "Kai")
        self.assertEqual((entry.by, entry.on), ("Ada", "2026-05-01T08:00:00Z"))
        self.press(KEY.Key_Insert)
        self.enter("Twr")
        self.enter("Tower")
        self.rest()
        self.assertEqual(self.matched(), 4)
        self.press(KEY.Key_Escape)
        self.assertFalse(self.window.bench.correction_list.is_shown)

    def test_it_is_opened_from_the_menu(self):
        self.begin_flow()
        self.press(KEY.Key_L, modifier=CTRL | ALT | SHIFT)
        self.assertEqual(self.lines(), ["venues", "another list …"])
        self.pick("venues")
        self.assertTrue(self.window.bench.correction_list.is_shown)
        self.assertIn("not used in this flow", self.window.bench.correction_list.view.title.text())

    def test_what_others_change_is_taken_with_a_refresh(self):
        self.use()
        self.session.save(self.path)
        self.list_of("Kai,Quay,,\nTwr,Tower,,\n")
        self.assertEqual(self.matched(), 3)
        self.session.refresh()
        self.rest()
        self.assertEqual(self.matched(), 4)
        self.assertFalse(self.session.unsaved)

    def test_one_that_is_gone_says_so_and_can_be_left(self):
        self.use()
        self.list.unlink()
        self.session.refresh()
        self.rest()
        self.assertIn("cannot be used: There is no such file", self.sentence)
        self.click(self.chip("List"))
        self.rest()
        self.assertEqual(self.matched(), 1)

    def test_a_blend_and_a_rung_use_one(self):
        self.begin_flow()
        self.session.lists.use("blended", 0, str(self.list))
        self.rest()
        self.assertEqual(
            [row[-1] for row in rows_of(self.session.outcome("blended").result.rows)], [1, 0, 1, 1]
        )
        self.session.select(Selection("joined"))
        self.rest()
        self.choose("Another rung", "by the same fields, prepared")
        self.rest()
        self.choose("Rung 2", "use a list of corrections …", "venues")
        self.rest()
        self.assertEqual(self.session.outcome("joined").figures.rungs, (1, 2))
        self.choose("Rung 2", "do without the list venues")
        self.rest()
        self.assertEqual(self.session.outcome("joined").figures.rungs, (1,))
