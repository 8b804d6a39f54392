"""Next month's file in the window: a field keeps its type, and what does not fit it is asked about."""

import json

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QMessageBox

from keen_trellis.core.values import FieldType
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.flow.file_format import load
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.attention import needs
from keen_trellis.session.selection import Selection
from tests.desktop.driving import CTRL, SHIFT
from tests.desktop.test_sources import SourcesCase
from tests.tables import rows_of
from tests.test_cli_flows import output, step, text

KEY = Qt.Key
LINK = ({"left": "visitors", "right": "number"},)
OTHER = {"links": LINK, "measures": [{"function": "count", "name": "museums"}]}


class Misfits(SourcesCase):
    def setUp(self):
        super().setUp()
        self.text_file("museum,visitors\nAbel,12\nBora,7\nCora,3\nDora,4\n", "month.csv")
        self.text_file("number,town\n12,Wick\n7,Pier\n", "museums.csv")
        steps = [
            text("month"),
            text("museums"),
            step("joined", "join", ["month", "museums"], links=LINK, type="left-outer"),
            step("blended", "blend", ["month", "museums"], others=[OTHER]),
            output("joined"),
        ]
        self.path = self.folder / "months.trellis"
        files = ["month.csv", "museums.csv"]
        self.path.write_text(json.dumps({"format": "keen-trellis/1", "files": files, "steps": steps}))
        self.window.files.open_flow(self.path)
        self.rest()
        self.session.save(self.path)
        self.rest()

    def refreshed(self, content: str):
        """Another month's file is there, and the sources are refreshed."""
        self.text_file(content, "month.csv")
        self.session.select(Selection("month"))
        self.session.refresh()
        self.rest()

    def misfit(self):
        self.refreshed("museum,visitors\nAbel,12\nBora,A7\nCora,3\nDora,x 4\n")

    def open_needs(self) -> list[tuple[str, str, bool]]:
        return [(need.name, need.what, need.alarm) for need in needs(self.session)]

    def matched(self) -> int:
        return self.session.outcome("joined").figures.counts.left_matched

    def test_it_is_said_with_its_rows_and_everything_still_works(self):
        self.misfit()
        self.assertIn("2 values are no integer, as “A7” (row 3)", self.sentence)
        self.assertIn("No output behind it is written until you say what is meant:", self.sentence)
        self.assertIn(("Month", "does not fit", True), self.open_needs())
        self.assertNotIn("guard broken", [what for _, what, _ in self.open_needs()])
        self.assertIsNone(self.session.outcome("joined").error)
        self.assertEqual(self.matched(), 1)

    def test_an_empty_month_breaks_nothing(self):
        self.refreshed("museum,visitors\n")
        self.assertEqual([need for need in self.open_needs() if need[2]], [])
        self.assertEqual(self.session.outcome("month").result.rows.field("visitors").type, FieldType.INTEGER)

    def test_its_outputs_are_held_back_until_it_is_settled(self):
        self.misfit()
        self.session.select(Selection("out"))
        self.rest()
        self.press(KEY.Key_F9)
        self.rest()
        self.assertFalse((self.folder / "out.csv").exists())
        self.assertIn("visitors fits its type", self.dialog(QMessageBox).informativeText())
        self.answer("Cancel")

    def test_each_value_is_corrected_and_undone(self):
        self.misfit()
        self.click(self.chip("Correct"))
        self.assertEqual(self.lines(), ["A7", "x 4"])
        self.pick("A7")
        self.enter("seven")
        # It is no number, so that the line stays open and says so.
        self.assertIsInstance(QApplication.activePopupWidget(), Entry)
        self.press(KEY.Key_A, modifier=CTRL)
        self.enter("7")
        self.rest()
        self.assertIn("1 value is no integer, as “x 4” (row 5)", self.sentence)
        self.click(self.chip("Correct"))
        self.enter("4")
        self.rest()
        self.assertNotIn("no integer", self.sentence)
        self.assertEqual([row[1] for row in self.rows("month")], [12, 7, 3, 4])
        self.session.save(self.path)
        kept = KINDS.settings(load(self.path, KINDS).step("month")).fields
        self.assertEqual(
            [(entry.name, entry.correct) for entry in kept], [("visitors", (("A7", "7"), ("x 4", "4")))]
        )
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertIn("as “x 4” (row 5)", self.sentence)
        self.press(KEY.Key_Z, modifier=CTRL | SHIFT)
        self.rest()
        self.assertNotIn("no integer", self.sentence)

    def test_they_can_be_left_blank(self):
        self.misfit()
        self.click(self.chip("Blank"))
        self.rest()
        self.assertIn("and blank now", self.sentence)
        self.assertEqual([row[1] for row in self.rows("month")], [12, None, 3, None])
        self.assertIn(("Month", "doubtful", False), self.open_needs())

    def test_they_are_read_as_text_on_both_sides(self):
        self.misfit()
        self.click(self.chip("Text"))
        self.rest()
        self.assertEqual([row[1] for row in self.rows("month")], ["12", "A7", "3", "x 4"])
        self.assertIsNone(self.session.outcome("joined").error)
        self.assertEqual(self.matched(), 1)
        blended = rows_of(self.session.outcome("blended").result.rows)
        self.assertEqual([row[-1] for row in blended], [1, 0, 0, 0])
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual([row[1] for row in self.rows("month")], [12, None, 3, None])

    def test_the_types_are_those_of_the_last_time_it_was_saved_whatever_is_undone(self):
        self.session.apply("Skip it", lambda flow: flow)
        self.press(KEY.Key_Z, modifier=CTRL)
        self.misfit()
        self.assertIn("as “A7” (row 3)", self.sentence)
        self.assertFalse(self.session.unsaved)
