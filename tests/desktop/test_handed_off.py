"""The flow handed off from the window to a real PostgreSQL server, by keyboard and by mouse."""

import unittest

import psycopg
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QMessageBox

from keen_trellis.databases import secrets
from keen_trellis.desktop.sentence.entry import Entry
from tests import demo_data, postgres
from tests.desktop.driving import CTRL, SHIFT, WindowCase

KEY = Qt.Key


class HandedOff(WindowCase):
    def setUp(self):
        super().setUp()
        self.server = postgres.server()
        self.address = self.server.address()
        secrets.remember(self.address, postgres.PASSWORD)
        self.open_demo()
        self.view = self.window.bench.handed_off.view

    def entry(self):
        """The line that is asked for."""
        (found,) = self.window.findChildren(Entry)
        return found

    def typed(self, text):
        entry = self.entry()
        entry.line.setText(text)
        self.press(KEY.Key_Return)
        self.rest()

    def at_server(self):
        self.press(KEY.Key_F9, modifier=SHIFT)
        self.typed(self.address)
        self.assertTrue(self.window.bench.handed_off.is_shown)

    def lines(self):
        return [[cell.strip() for cell in row] for row in self.view.texts]

    def test_a_proof_with_the_counts_beside_those_here(self):
        self.at_server()
        self.assertFalse(self.view.copy_all.isVisible())
        self.press(KEY.Key_Return)  # the first of what can be asked: a proof
        self.typed("4096")
        self.assertTrue(self.lines()[0][0].startswith("Equal: all rows"), self.lines())
        counts = next(row for row in self.lines() if row[0] == "pairs")
        self.assertEqual(counts[1], counts[2])
        self.assertNotIn("differs", [row[3] for row in self.lines()])
        self.press(KEY.Key_C)
        self.assertIn("Equal: all rows", QGuiApplication.clipboard().text())
        self.press(KEY.Key_Escape)
        self.rest()
        self.assertFalse(self.window.bench.handed_off.is_shown)

    def test_tables_are_kept_there(self):
        self.at_server()
        self.press(KEY.Key_T)
        entry = self.entry()
        self.assertEqual(entry.lines.toPlainText(), "Loan report.xlsx = loan_report")
        entry.lines.setPlainText("Loan report.xlsx = kept from the window")
        self.press(KEY.Key_Return, modifier=CTRL)
        self.rest()
        self.assertIn("The new table kept from the window has", "".join(row[0] for row in self.lines()))
        with psycopg.connect(self.server.owner) as connection:
            (count,) = connection.execute('SELECT count(*) FROM "kept from the window"').fetchone()
        self.assertGreater(count, 8000)

    def test_what_cannot_be_handed_off_is_told(self):
        self.at_server()
        self.window.files.open_flow(demo_data.folder() / "Labels.trellis")
        self.rest()
        self.press(KEY.Key_F9, modifier=SHIFT)
        self.assertEqual(self.entry().line.text(), self.address)  # as it was last
        self.typed("mysql://a/b")
        self.assertIn("to PostgreSQL and to Spark", self.entry().said.text())
        self.typed(self.address)
        self.press(KEY.Key_A)
        self.rest()
        (box,) = self.window.findChildren(QMessageBox)
        self.assertIn("compares how alike values are", box.text() + box.informativeText())
        box.close()


if __name__ == "__main__":
    unittest.main()
