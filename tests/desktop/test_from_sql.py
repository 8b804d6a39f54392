"""A query is pasted into the window: its steps stand in the flow, what has no counterpart is said before."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QMessageBox

from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.flow.file_format import load
from keen_trellis.flow.steps import KINDS
from tests.desktop.driving import ALT, CTRL, SHIFT, WindowCase
from tests.tables import rows_of

KEY = Qt.Key
QUERY = (
    "SELECT l.no, v.region\nFROM loans l JOIN venues v ON l.venue = v.venue\nWHERE l.value > 6 ORDER BY l.no"
)


class FromSql(WindowCase):
    def setUp(self):
        super().setUp()
        for name, text in (
            ("loans", "no,venue,value\nL-2,Pier,7\nL-1,Hall,8\nL-3,Pier,1\n"),
            ("venues", "venue,region\nPier,North\nHall,South\n"),
        ):
            (self.folder / f"{name}.csv").write_text(text)
        self.window.files.open_paths([self.folder / "loans.csv", self.folder / "venues.csv"])
        self.rest()

    def paste(self, text: str):
        self.press(KEY.Key_S, modifier=CTRL | ALT | SHIFT)
        self.enter(text, lines=True)
        self.rest()

    def rows(self) -> list[tuple]:
        return rows_of(self.session.outcome(self.session.selection.step).result.rows)

    def test_its_steps_are_put_into_the_flow_undone_and_saved(self):
        self.paste(QUERY)
        kinds = [step.kind for step in self.session.flow.steps]
        self.assertEqual(kinds, ["source", "source", "join", "filter", "sort", "choose"])
        self.assertEqual(self.rows(), [("L-1", "South"), ("L-2", "North")])
        self.assertIn("The query stands in the flow", self.window.status.shown.text())
        self.session.save(self.folder / "a.trellis")
        self.assertEqual(load(self.folder / "a.trellis", KINDS), self.session.flow)
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.session.flow.steps, ())
        self.press(KEY.Key_Z, modifier=CTRL | SHIFT)
        self.rest()
        self.assertEqual(len(self.session.flow.steps), 6)

    def test_what_has_no_counterpart_is_said_before_anything_is_made(self):
        query = "SELECT no, RANK() OVER (ORDER BY value) AS r FROM loans WHERE value > 6"
        self.paste(query)
        self.assertIn("a function over a window", self.dialog(QMessageBox).informativeText())
        self.answer("Cancel")
        self.assertEqual(self.session.flow.steps, ())
        self.paste(query)
        self.dialog(QMessageBox)
        self.answer("Build the rest")
        self.rest()
        self.assertEqual(self.rows(), [("L-2",), ("L-1",)])

    def test_what_is_no_query_is_said_where_it_is_typed(self):
        self.press(KEY.Key_S, modifier=CTRL | ALT | SHIFT)
        self.enter("DROP TABLE loans", lines=True)
        entry = QApplication.activePopupWidget()
        self.assertIsInstance(entry, Entry)
        self.assertIn("no SELECT", entry.said.text())
        self.press(KEY.Key_Escape)

    def test_a_table_that_is_not_here_is_named(self):
        self.paste("SELECT no FROM lost")
        self.assertIn("“lost” is not here", self.window.status.shown.text())
        self.assertEqual(self.session.flow.steps, ())
