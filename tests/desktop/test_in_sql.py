"""The rows that are selected as SQL on the bench, by keyboard and by mouse."""

import unittest

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication

from keen_trellis.session.selection import Selection
from tests import demo_data
from tests.desktop.driving import ALT, CTRL, SHIFT, WindowCase

KEY = Qt.Key


class InSql(WindowCase):
    def setUp(self):
        super().setUp()
        self.open_demo()

    def text(self):
        return self.window.bench.in_sql.view.text.toPlainText()

    def shown(self, step):
        self.session.select(Selection(step))
        self.rest()
        self.press(KEY.Key_Q, modifier=CTRL | ALT | SHIFT)
        self.rest()
        self.assertTrue(self.window.bench.in_sql.is_shown)

    def test_a_knot_is_shown_in_each_dialect_and_copied(self):
        self.shown("loans-with-objects")
        self.assertIn('WITH "Loans with Objects" AS (', self.text())
        self.press(KEY.Key_2)
        self.rest()
        self.assertIn("PostgreSQL", self.window.bench.in_sql.view.head.said.text())
        self.press(KEY.Key_3)
        self.rest()
        self.assertIn("WITH `Loans with Objects` AS (", self.text())
        self.press(KEY.Key_4)
        self.rest()
        self.assertIn("SQLite", self.window.bench.in_sql.view.head.said.text())
        self.press(KEY.Key_C)
        self.assertEqual(QGuiApplication.clipboard().text(), self.text())
        self.press(KEY.Key_Escape)
        self.rest()
        self.assertFalse(self.window.bench.in_sql.is_shown)

    def test_what_cannot_be_said_is_listed_and_not_copied(self):
        self.window.files.open_flow(demo_data.folder() / "Labels.trellis")
        self.rest()
        output = next(step.id for step in self.session.flow.steps if step.kind == "output")
        self.shown(output)
        self.assertIn(
            "• Labels with Makers: “maker like maker” compares how alike values are",
            self.text(),
        )
        self.assertFalse(self.window.bench.in_sql.view.copy.isVisible())
        QGuiApplication.clipboard().setText("before")
        self.press(KEY.Key_C)
        self.assertEqual(QGuiApplication.clipboard().text(), "before")


if __name__ == "__main__":
    unittest.main()
