"""Three chapters of the guide, followed with a mouse alone: clicks, drags and menus."""

import unittest
from pathlib import Path

from PySide6.QtCore import QPoint, QPointF
from PySide6.QtWidgets import QApplication, QFileDialog, QListWidget, QPushButton

from keen_trellis.desktop.bench.grid_view import LINE_HEIGHT
from keen_trellis.desktop.bench.lines import BAND, PART
from keen_trellis.desktop.sentence.chooser import Chooser
from keen_trellis.flow.steps import KINDS
from tests import demo_data
from tests.desktop.driving import WindowCase


class Mouse(WindowCase):
    """A user without a keyboard, but for what is typed as text."""

    def setUp(self):
        super().setUp()
        self.data = demo_data.copy(self.folder / "demo")
        self.trellis = self.window.trellis

    def press(self, *keys, modifier=None):
        raise AssertionError("no key is pressed here")

    # --- what a hand does ---

    def place(self, text: str, role: str = "") -> QPointF:
        """Where something in the trellis is."""
        item = next(i for i in self.trellis.items if text in i.text and (not role or i.role == role))
        return self.trellis.on_screen(item.rect).center()

    def menu(self, text: str, role: str, *entries: str):
        """Pick an entry of the menu of something in the trellis."""
        self.pick_entry(self.right_click(self.trellis, self.place(text, role)), *entries)
        self.rest()

    def click_in(self, text: str):
        """Click a line of the open list."""
        self.rest(lambda: isinstance(QApplication.activePopupWidget(), Chooser))
        lines: QListWidget = self.chooser().list
        line = next(n for n in range(lines.count()) if text in lines.item(n).text())
        self.click(lines.viewport(), lines.visualItemRect(lines.item(line)).center())
        self.rest()

    def line(self, kind: str, text: str) -> int:
        """The line of the bench that heads a band or a reason."""
        grid = self.window.bench.grid
        for number in range(grid.lines.count):
            line = grid.lines.at(number)
            if line.kind == kind:
                said = (
                    grid.content.bands[line.band].text if kind == BAND else grid.content.parts[line.part].text
                )
                if text in said:
                    return number
        raise AssertionError(f"no line {text}")

    def on_line(self, kind: str, text: str) -> QPoint:
        return self.at_line(self.line(kind, text))

    def at_line(self, number: int) -> QPoint:
        """Where a line is, once the wheel has brought it into sight."""
        grid = self.window.bench.grid
        grid.verticalScrollBar().setValue(max(number - 4, 0))
        return QPoint(90, int(grid.line_top(number)) + LINE_HEIGHT // 2)

    def button(self, text: str) -> QPushButton:
        return next(b for b in self.window.findChildren(QPushButton) if b.isVisible() and text in b.text())

    def open_files(self, *names: str):
        """Open files with the button of the first page, or the menu of the trellis' ground."""
        if self.window.first_page.isVisible():
            self.click(self.button("Open files"))
        else:
            ground = QPointF(self.trellis.width() - 30, self.trellis.height() - 20)
            self.pick_entry(self.right_click(self.trellis, ground), "Open a flow or files…")
        dialog = self.dialog(QFileDialog)
        dialog.filesSelected.emit([str(self.data / name) for name in names])
        dialog.close()
        self.back_to_window()
        self.rest()

    # --- the chapters ---

    def join(self):
        """Chapters 1 and 2: open two files, begin a rail, drag a table onto it, answer the question."""
        self.open_files("loans-2026.xlsx", "registry.sqlite")
        self.double_click(self.trellis, self.place("Loans", "table"))
        self.rest()
        self.drag(self.trellis, self.place("objects", "table"), self.place("Loans", "rail"))
        self.rest(lambda: isinstance(QApplication.activePopupWidget(), Chooser))
        self.click_in("every loan, with its object where known")
        self.knot = self.session.selection.step
        self.assertEqual(KINDS.settings(self.session.flow.step(self.knot)).links[0].left, "Object no")

    def test_look_at_the_tables_and_join(self):
        self.join()
        self.assertEqual(self.bands[0][:15], "Unmatched Loans")
        self.menu("", "knot", "All join types side by side")
        self.assertTrue(self.window.bench.types.is_shown)
        self.click(self.button("Back to the rows"))
        self.rest()
        self.menu("", "knot", "Join type", "Left anti join")
        self.assertEqual(KINDS.settings(self.session.flow.step(self.knot)).type, "left-anti")
        self.menu("", "knot", "Change the join…")
        self.click_in("every loan, with its object where known")
        self.assertEqual(KINDS.settings(self.session.flow.step(self.knot)).type, "left-outer")

    def test_read_the_counts_and_find_out_why(self):
        self.join()
        grid = self.window.bench.grid
        before = self.bands[0]
        menu = self.right_click(grid.viewport(), self.on_line(PART, "apart from punctuation, as"))
        self.pick_entry(menu, "Mend what the line says")
        self.rest()
        self.assertNotEqual(self.bands[0], before)
        mended = self.bands[0]
        self.pick_entry(
            self.right_click(grid.viewport(), self.on_line(PART, "look-alike")), "Review likely partners"
        )
        self.rest()
        self.click(self.button("Accept the rest"))
        self.click(self.button("Apply"))
        self.rest()
        self.assertNotEqual(self.bands[0], mended)
        # A value that is nobody's slip is paired by hand.
        part = next(
            n for n, p in enumerate(grid.content.parts) if p.reason is not None and "not in Objects" in p.text
        )
        if not grid.states.shows(grid.content.parts[part]):
            self.click(grid.viewport(), self.on_line(PART, "not in Objects"))
            self.rest()
        number = self.line(PART, "not in Objects") + 1
        place = self.at_line(number)
        self.pick_entry(self.right_click(grid.viewport(), place), "Pair the row by hand…")
        self.rest(lambda: isinstance(QApplication.activePopupWidget(), Chooser))
        count = len(KINDS.settings(self.session.flow.step(self.knot)).links[0].correct)
        lines = self.chooser().list
        self.click(lines.viewport(), lines.visualItemRect(lines.item(0)).center())
        self.rest()
        self.assertEqual(len(KINDS.settings(self.session.flow.step(self.knot)).links[0].correct), count + 1)
        self.pick_entry(self.right_click(grid.viewport(), place), "Where the row comes from and goes")
        self.rest()
        self.click(self.button("Back to the rows"))

    def test_choose_what_comes_along_put_steps_and_report(self):
        self.join()
        grid = self.window.bench.grid
        number = next(n for n, c in enumerate(grid.content.columns) if c.field.name == "Venue")
        head = QPoint(grid.column_left(number) + 14, 12)
        self.pick_entry(self.right_click(grid.viewport(), head), "Filter by it…")
        self.rest(lambda: isinstance(QApplication.activePopupWidget(), Chooser))
        QApplication.activePopupWidget().close()
        self.rest()
        steps = [step.kind for step in self.session.flow.steps]
        self.assertEqual(steps[-1], "filter")
        filtered = self.session.selection.step
        bead = next(i for i in self.trellis.items if i.selection.step == filtered and i.role == "step")
        self.pick_entry(self.right_click(self.trellis, self.trellis.on_screen(bead.rect).center()), "Remove")
        self.rest()
        self.assertIsNone(self.session.flow.find(filtered))
        self.menu("", "knot", "Write these rows to a file…")
        dialog = self.dialog(QFileDialog)
        target = self.folder / "report.xlsx"
        dialog.fileSelected.emit(str(target))
        dialog.close()
        self.back_to_window()
        self.rest(lambda: target.exists())
        self.assertTrue(target.exists())
        self.assertEqual(Path(KINDS.settings(self.session.flow.steps[-1]).path), target)


if __name__ == "__main__":
    unittest.main()
