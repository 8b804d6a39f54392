"""The first hour: the first page, the guide in the program, where dialogs begin, and what a fault offers."""

import re
import sys
import tempfile
import unittest
from contextlib import redirect_stderr
from io import StringIO
from pathlib import Path

from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QGuiApplication
from PySide6.QtWidgets import QApplication, QFileDialog, QMessageBox

from keen_trellis.demo.flow_names import SAID
from keen_trellis.desktop.pictures import RecentOnly, settle
from keen_trellis.desktop.shell.guide import shown_text
from keen_trellis.desktop.shell.menus import made_window
from keen_trellis.desktop.shell.reports import report, without_data
from keen_trellis.handbook import GUIDE, NEWS, Chapter, document
from keen_trellis.logs import begin_log, last_lines, log
from keen_trellis.session.selection import Selection
from tests import demo_data
from tests.desktop.driving import CTRL, WindowCase

KEY = Qt.Key


class FirstPage(WindowCase):
    def setUp(self):
        super().setUp()
        self.page = self.window.first_page

    def test_it_stands_where_there_is_no_flow_and_goes_with_the_first_file(self):
        self.assertTrue(self.page.isVisible())
        self.assertFalse(self.window.trellis.isVisible())
        self.assertIs(QApplication.focusWidget(), self.page.drop_place.buttons[0])
        self.window.files.open_paths([demo_data.folder() / "cover-rates.csv"])
        self.rest()
        self.assertFalse(self.page.isVisible())
        self.assertTrue(self.window.trellis.hasFocus())
        self.press(KEY.Key_N, modifier=CTRL)
        self.answer("Discard")
        self.rest()
        self.assertTrue(self.page.isVisible())

    def test_each_demo_flow_is_there_with_what_it_shows_and_opens(self):
        names = [line.accessibleName() for line in self.page.lines]
        self.assertEqual(names, [f"Open {Path(name).stem}: {said}" for name, said in SAID.items()])
        self.assertEqual({path.name for path in demo_data.folder().glob("*.trellis")}, set(SAID))
        self.click(self.page.lines[4])
        self.rest(lambda: self.session.path is not None)
        self.assertEqual(self.session.name, "All couriers")
        self.assertFalse(self.page.isVisible())

    def test_files_are_dropped_on_it(self):
        path = demo_data.folder() / "returns-desk.csv"
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(path))])
        buttons = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        enter = QDragEnterEvent(QPoint(300, 90), Qt.DropAction.CopyAction, data, *buttons)
        QApplication.sendEvent(self.window, enter)
        self.assertTrue(self.page.drop_place.is_hot)
        drop = QDropEvent(QPointF(300, 90), Qt.DropAction.CopyAction, data, *buttons)
        QApplication.sendEvent(self.window, drop)
        self.rest()
        self.assertFalse(self.page.drop_place.is_hot)
        self.assertEqual(self.session.margin.paths(), [str(path)])

    def test_the_ways_to_begin_are_buttons(self):
        texts = [button.text() for button in self.page.drop_place.buttons]
        self.assertEqual(len(texts), 4)
        self.click(self.page.drop_place.buttons[-1])
        self.rest()
        self.assertEqual(self.session.flow.steps[0].name, "Typed table")


class UsedRecentOnly(WindowCase):
    def test_flows_used_lately_are_there_with_a_picture(self):
        remembered = RecentOnly(self.folder)
        window = made_window(remembered)
        window.show()
        self.addCleanup(window.deleteLater)
        self.addCleanup(window.jobs.close)
        for name in ("Sets", "Cover"):
            window.files.open_flow(demo_data.folder() / f"{name}.trellis")
            settle(window)
        window.files.new()
        settle(window)
        cards = window.first_page.cards
        self.assertEqual([card.shown.path.stem for card in cards], ["Cover", "Sets"])
        for card in cards:
            self.assertTrue(card.shown.picture.exists())
            self.assertGreater(len({card.grab().toImage().pixel(x, 60) for x in range(10, 250)}), 4)
        self.assertFalse(window.first_page.none_yet.isVisible())
        self.click(cards[1])
        settle(window)
        self.assertEqual(window.session.name, "Sets")

    def test_without_any_it_says_what_will_stand_there(self):
        self.assertTrue(self.window.first_page.none_yet.isVisible())
        self.assertEqual(self.window.first_page.cards, [])


class Guide(WindowCase):
    def opened(self):
        self.press(KEY.Key_F1)
        guide = self.window.helping.guide
        self.addCleanup(guide.close)
        return guide

    def test_f1_opens_it_where_it_speaks_of_what_is_selected(self):
        self.open_demo()
        bench = self.window.bench
        for step, chapter in (
            ("loans", Chapter.TABLES),
            ("loans-with-objects", Chapter.JOIN),
            ("compute-month", Chapter.STEPS),
            ("loan-report-xlsx", Chapter.REPORT),
        ):
            self.session.select(Selection(self.id_of(step)))
            self.rest()
            self.window.trellis.setFocus()
            guide = self.opened()
            self.assertEqual(guide.heading, chapter.value)
            self.assertEqual(guide.chapters.currentItem().text(), chapter.value)
            guide.close()
            self.back_to_window()
        self.session.select(Selection("loans-with-objects"))
        self.rest()
        bench.focus_rows()
        self.assertEqual(self.window.helping.chapter(), Chapter.COUNTS)
        bench.guards.show()
        self.rest()
        self.assertEqual(self.window.helping.chapter(), Chapter.HOLD)
        bench.attention.show_or_close()
        self.assertEqual(self.window.helping.chapter(), Chapter.WRONG)

    def id_of(self, step: str) -> str:
        return next(entry.id for entry in self.session.flow.steps if entry.id.startswith(step))

    def test_every_chapter_is_a_heading_and_the_other_way_round(self):
        headings = re.findall(r"^## (.+)$", document(GUIDE), re.MULTILINE)
        self.assertEqual(headings, [chapter.value for chapter in Chapter])

    def test_it_is_searched(self):
        guide = self.opened()
        guide.search.setText("zebra")
        self.assertEqual(guide.found.text(), "0 places")
        self.assertFalse(guide.after.isEnabled())
        guide.search.setText("stub")
        count = shown_text(document(GUIDE)).lower().count("stub")
        self.assertEqual(guide.found.text(), f"{count} places")
        seen = []
        for _ in range(count + 1):
            self.click(guide.after)
            seen.append(guide.text.textCursor().selectionStart())
            self.assertEqual(guide.text.textCursor().selectedText().lower(), "stub")
        self.assertEqual(len(set(seen)), count)
        self.assertEqual(seen[0], seen[-1])  # from the end on from the beginning

    def test_links_lead_to_chapters_and_pictures_are_left_out(self):
        guide = self.opened()
        guide.text.anchorClicked.emit(QUrl("#7-blend"))
        self.assertEqual(guide.heading, Chapter.BLEND.value)
        text = guide.text.toPlainText()
        self.assertNotIn("screenshots", guide.text.toMarkdown())
        self.assertNotIn("![", text)
        self.click(guide.chapters.viewport(), guide.chapters.visualItemRect(guide.chapters.item(2)).center())
        self.assertEqual(guide.heading, Chapter.JOIN.value)

    def test_all_keys_and_what_is_new(self):
        self.window.commands["keys"].trigger()
        guide = self.window.helping.guide
        self.addCleanup(guide.close)
        self.assertEqual(guide.chapters.currentItem().text(), "All keys")
        self.window.commands["news"].trigger()
        self.assertIn("What is new", guide.windowTitle())
        self.assertIn(document(NEWS).splitlines()[2].lstrip("# "), guide.text.toPlainText())

    def test_where_logs_and_settings_are(self):
        self.window.commands["places"].trigger()
        box = self.dialog(QMessageBox)
        self.assertIn("keen-trellis.log", box.informativeText())
        self.answer("Copy these places")
        self.assertIn("keen-trellis.log", QGuiApplication.clipboard().text())


class Dialogs(WindowCase):
    def test_they_begin_where_the_flow_is_and_suggest_a_name(self):
        path = self.open_demo(own=True)
        self.session.select(Selection("loans-with-objects", "unmatched_left"))
        self.rest()
        for command, name in (("output", "Loans with Objects.xlsx"), ("picture", "Winter loans.svg")):
            self.window.commands[command].trigger()
            dialog = self.dialog(QFileDialog)
            self.assertEqual(Path(dialog.directory().path()), path.parent, command)
            self.assertEqual([Path(file).name for file in dialog.selectedFiles()], [name])
            dialog.reject()
        self.window.commands["open"].trigger()
        dialog = self.dialog(QFileDialog)
        self.assertEqual(Path(dialog.directory().path()), path.parent)
        dialog.reject()

    def test_a_flow_that_was_never_saved_is_suggested_beside_its_first_file(self):
        self.window.files.open_paths([demo_data.copy(self.folder / "d") / "cover-rates.csv"])
        self.rest()
        self.press(KEY.Key_B, modifier=CTRL)
        self.rest()
        self.window.commands["save"].trigger()
        dialog = self.dialog(QFileDialog)
        self.assertEqual(Path(dialog.selectedFiles()[0]), self.folder / "d" / "Cover-rates.trellis")
        dialog.reject()


class Faults(WindowCase):
    def test_an_error_that_nobody_caught_offers_a_report_without_data(self):
        self.open_demo()
        begin_log(self.folder / "logs" / "l.log")
        self.addCleanup(begin_log, Path(tempfile.gettempdir()) / "keen-trellis-tests.log")
        log.info("before it")
        reports, silent = self.window.reports, lambda *_: None
        before, sys.__excepthook__ = sys.__excepthook__, silent
        self.addCleanup(setattr, sys, "__excepthook__", before)
        try:
            raise ValueError("never mind")
        except ValueError:
            reports.caught(*sys.exc_info())
            reports.caught(*sys.exc_info())  # one offer at a time
        box = self.dialog(QMessageBox)
        self.assertIn("should not have", box.text())
        told = box.detailedText()
        self.assertIn("ValueError: never mind", told)
        self.answer("Save a report…")
        self.enter_file(self.folder / "report.txt")
        saved = (self.folder / "report.txt").read_text()
        self.assertIn("ValueError: never mind", saved)
        self.assertIn("ValueError", last_lines(self.folder / "logs" / "l.log"))
        for word in ("Loan report", "registry.sqlite", "not in the registry", "Out date", str(Path.home())):
            self.assertNotIn(word, saved.split("== The end of the log")[0].split("== The flow")[1])
        self.assertRegex(saved, r"2\. \w+ from \[")

    def test_a_fault_on_a_thread_offers_one_too(self):
        self.window.reports.watch()
        begin_log(self.folder / "l.log")
        self.addCleanup(begin_log, Path(tempfile.gettempdir()) / "keen-trellis-tests.log")
        with redirect_stderr(StringIO()):
            self.session.jobs.start("failing", lambda _: 1 // 0, lambda _: None, self.session.failed.emit)
            self.rest()
        self.assertIn("ZeroDivisionError", self.dialog(QMessageBox).detailedText())
        self.assertIn("unexpected", self.window.status.shown.text())
        self.answer("Go on without")

    def test_no_text_of_a_step_is_in_a_report(self):
        found = without_data({"type": "inner", "path": "/a/x.csv", "of": [{"value": "Ann"}, 7, None]})
        hidden = {"type": "inner", "path": "(8 characters)", "of": [{"value": "(3 characters)"}, 7, None]}
        self.assertEqual(found, hidden)
        self.assertIn("no steps", report(self.session))


if __name__ == "__main__":
    unittest.main()
