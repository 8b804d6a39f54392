"""The README's walk through, once by mouse and once by keyboard alone."""

import json
import unittest

import openpyxl
from PySide6.QtCore import Qt

from keen_trellis.core.join_type import JoinType
from keen_trellis.session import editing
from tests import demo_data
from tests.desktop.driving import CTRL, WindowCase

KNOT = "loans-with-objects"
KEY = Qt.Key


class WalkThrough(WindowCase):
    def setUp(self):
        super().setUp()
        self.data = demo_data.copy(self.folder / "lantern")

    def check_join(self):
        """What step 3 of the walk through promises."""
        settings = editing.join_settings(self.session, KNOT)
        self.assertEqual(
            [(link.left, link.right, link.ignore) for link in settings.links],
            [("Object no", "accession", ("case", "outer-spaces"))],
        )
        self.assertEqual(self.bands[0], "Unmatched Loans · 49 rows")
        self.assertEqual(self.bands[1], "Matched · 8,303 loans with 4,696 objects in 8,306 pairs")
        self.assertEqual(self.bands[2], "Unmatched Objects · 8,211 rows")
        self.assertIn("every loan, with its object where known", self.sentence)

    def check_files(self):
        """What the last steps promise."""
        members = json.loads((self.data / "My loans.trellis").read_text())
        self.assertEqual(members["steps"][2]["settings"]["bring"], ["title", "maker", "keeper"])
        sheet = openpyxl.load_workbook(self.data / "My loans.xlsx", read_only=True).worksheets[0]
        rows = list(sheet.iter_rows(values_only=True))
        self.assertEqual(rows[0][-3:], ("title", "maker", "keeper"))
        self.assertEqual(len(rows), 8356)
        self.assertFalse(self.session.unsaved)

    def test_by_mouse(self):
        trellis = self.window.trellis
        self.drop_files(self.data / "loans-2026.xlsx", self.data / "registry.sqlite")
        self.click(trellis, trellis.on_screen(self.item("Loans").rect).center())
        self.rest()
        self.assertIn("8,352 rows and 7 fields", self.sentence)
        self.double_click(trellis, trellis.on_screen(self.item("Loans").rect).center())
        self.rest()
        rail = self.item("Loans").rect
        self.drag(trellis, self.item("objects").rect.center(), rail.center())
        self.rest()
        self.assertIn(
            "are in accession of Objects", self.chooser().findChildren(type(self.window._title))[0].text()
        )
        self.pick("every loan, with its object where known")
        self.rest()
        self.check_join()

        self.click(self.chip("Preparation"))
        self.pick("ignore case")
        self.pick("ignore outer spaces")
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.bands[0], "Unmatched Loans · 457 rows")
        self.window._menus["Edit"].actions()[0].trigger()
        self.rest()
        self.check_join()

        part = self.knot_part(KNOT, "unmatched_left")
        self.click(trellis, trellis.on_screen(part.rect).center())
        self.rest()
        self.assertIs(editing.join_settings(self.session, KNOT).join_type, JoinType.INNER)
        self.click(trellis, trellis.on_screen(self.knot_part(KNOT, "unmatched_left").rect).center())
        self.rest()
        self.check_join()

        self.click(self.chip("Fields of Objects"))
        for name in ("object_id", "accession", "part_of", "made", "store"):
            self.pick(name)
        self.press(KEY.Key_Return)
        self.rest()
        self.assertIn("title, maker, keeper · 3 of 8 fields", self.sentence)

        self.press(KEY.Key_E, modifier=CTRL)
        self.enter_file(self.data / "My loans.xlsx")
        self.rest()
        self.window.commands["save"].trigger()
        self.enter_file(self.data / "My loans.trellis")
        self.rest()
        self.check_files()

    def test_by_keyboard_alone(self):
        self.press(KEY.Key_O, modifier=CTRL)
        self.enter_file(self.data / "loans-2026.xlsx")
        self.rest()
        self.assertIn("8,352 rows and 7 fields", self.sentence)
        self.press(KEY.Key_Return)
        self.rest()
        self.assertIn("Read sheet Loans of loans-2026.xlsx as Loans , header in row 1", self.sentence)
        self.press(KEY.Key_O, modifier=CTRL)
        self.enter_file(self.data / "registry.sqlite")
        self.rest()
        self.press(KEY.Key_Down)
        self.assertEqual(self.session.selection.table, "objects")
        self.press(KEY.Key_J, modifier=CTRL)
        self.assertEqual(self.lines(), ["Loans"])
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(len(self.lines()), 11)  # the questions, a union and a blend
        self.press(KEY.Key_1)
        self.rest()
        self.check_join()

        # The preparation chip is the fourth of the sentence.
        self.press(KEY.Key_F6)
        self.press(KEY.Key_Right, KEY.Key_Right, KEY.Key_Right)
        self.assertTrue(self.chip("Preparation").hasFocus())
        self.press(KEY.Key_Return)
        # Case is the second of the list, outer spaces the fifth.
        self.press(KEY.Key_Down, KEY.Key_Space, KEY.Key_Down, KEY.Key_Down, KEY.Key_Down, KEY.Key_Space)
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.bands[0], "Unmatched Loans · 457 rows")
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.check_join()

        self.press(KEY.Key_2)
        self.rest()
        self.assertIs(editing.join_settings(self.session, KNOT).join_type, JoinType.INNER)
        self.press(KEY.Key_1)
        self.rest()
        self.check_join()

        while not self.chip("Fields of Objects").hasFocus():
            self.press(KEY.Key_Right)
        self.press(KEY.Key_Return)
        for name in ("object_id", "accession", "part_of", "made", "store"):
            found = self.chooser().list
            while found.currentItem().text() != name:
                self.press(KEY.Key_Down)
            self.press(KEY.Key_Space)
        self.press(KEY.Key_Return)
        self.rest()
        self.assertIn("title, maker, keeper · 3 of 8 fields", self.sentence)

        self.press(KEY.Key_E, modifier=CTRL)
        self.enter_file(self.data / "My loans.xlsx")
        self.rest()
        self.press(KEY.Key_S, modifier=CTRL)
        self.enter_file(self.data / "My loans.trellis")
        self.rest()
        self.check_files()

    def test_the_readme_names_the_keys_that_work(self):
        readme = (demo_data.Path(__file__).parents[2] / "README.md").read_text()
        for name in ("open", "join", "output", "save", "undo", "find", "finder", "swap", "record"):
            keys = self.window.commands[name].shortcut().toString()
            self.assertIn(keys, readme, name)


if __name__ == "__main__":
    unittest.main()
