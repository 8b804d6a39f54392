"""Flows from elsewhere in the window, and names and values that look like markup."""

import json
import os
import time
from functools import partial
from unittest import mock

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel, QMessageBox, QTableWidget, QWidget

from keen_trellis.databases import secrets
from keen_trellis.desktop.plain import PlainLabel, tip
from keen_trellis.flow import edits, trust
from keen_trellis.flow.clipboard import copied
from keen_trellis.flow.file_format import load
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.outputs.targets import settings_for
from keen_trellis.session.autosave import Autosave
from keen_trellis.session.selection import Selection
from tests.desktop.driving import CTRL, SHIFT, WindowCase
from tests.false_server import FalseServer
from tests.test_cli_flows import output, step, text

_MARKUP = '<b>Loans</b> & <img src="file:///x"> [/2024]'


class Strangers(WindowCase):
    def setUp(self):
        super().setUp()
        self.enterContext(mock.patch.dict(os.environ, XDG_STATE_HOME=str(self.folder / "state")))
        self.enterContext(mock.patch.object(trust, "_here", set()))
        self.addCleanup(setattr, self.session.library, "waiting", frozenset())
        self.server = FalseServer()
        self.addCleanup(self.server.close)
        self.addCleanup(secrets.forget_all)
        self.elsewhere = self.folder / "elsewhere"
        self.elsewhere.mkdir()
        own = self.folder / "flow"
        own.mkdir()
        (own / "loans.csv").write_text("venue,crates\nPier,1\nMill,2\n")
        query = "SELECT spill_over() AS one"
        self.path = own / "a.trellis"
        self.steps = [
            text("loans"),
            step("theirs", "source", reader="database", path=self.server.address(), query=query),
            output("loans", str(self.elsewhere / "out.csv")),
        ]
        self.write(self.steps)

    def write(self, steps):
        self.path.write_text(json.dumps({"format": "keen-trellis/1", "steps": steps}))

    def box(self) -> QMessageBox | None:
        return next((box for box in self.window.findChildren(QMessageBox) if box.isVisible()), None)

    def open(self):
        self.window.files.open_flow(self.path)
        self.rest()

    def test_it_is_shown_its_files_are_read_and_it_reaches_nothing(self):
        self.open()
        said = self.box().informativeText()
        for part in (f"connect to {self.server.address()}", "SELECT spill_over()", "it calls spill_over()"):
            self.assertIn(part, said)
        self.assertIn(f"write {os.path.realpath(self.elsewhere)}/out.csv", said)
        self.answer("Not now")
        self.assertEqual(self.session.outcome("loans").result.rows.rows, 2)
        self.assertIsInstance(self.session.outcome("theirs").error, trust.NotAccepted)
        self.session.refresh()
        self.rest()
        self.session.select(Selection("theirs"))
        self.rest()
        self.assertEqual(self.server.heard, [])
        # Writing asks again, and writes nothing.
        self.window.writing.write_all()
        self.rest()
        self.assertIsNotNone(self.box())
        self.answer("Not now")
        self.assertEqual(list(self.elsewhere.iterdir()), [])

    def test_it_is_saved_and_still_not_accepted(self):
        self.open()
        self.answer("Not now")
        self.session.apply("Rename", lambda _: edits.rename(self.session.flow, "loans", "Loans of May"))
        self.session.save(self.path)
        self.open()
        self.assertIsNotNone(self.box())

    def test_accepted_it_is_not_asked_about_again(self):
        self.write([self.steps[0], self.steps[2]])
        self.open()
        self.answer("Accept")
        self.window.writing.write_all()
        self.rest(lambda: list(self.elsewhere.iterdir()))
        self.open()
        self.assertIsNone(self.box())
        # Edited and saved here it is the user's own; changed elsewhere it is not.
        self.session.apply("Rename", lambda _: edits.rename(self.session.flow, "loans", "Loans of May"))
        self.session.save(self.path)
        self.open()
        self.assertIsNone(self.box())
        self.path.write_text(self.path.read_text().replace("Loans of May", "Loans of June"))
        self.open()
        self.assertIsNotNone(self.box())
        self.answer("Not now")

    def test_by_the_keyboard_at_any_time(self):
        self.open()
        self.answer("Not now")
        self.press("R", modifier=CTRL | SHIFT)
        self.assertIn("connect to", self.box().informativeText())
        self.press(Qt.Key.Key_Escape)
        self.assertIsNone(self.box())
        self.back_to_window()
        self.window.files.new()
        self.rest()
        self.press("R", modifier=CTRL | SHIFT)
        self.assertIn("connects to no server", self.box().text())
        self.box().close()

    def test_what_the_user_adds_by_hand_is_not_asked_about(self):
        flow, new = edits.add_source(Flow(), SourceSettings("typed", ""), "Typed")
        self.session.apply("Add", lambda _: flow)
        target = settings_for(self.elsewhere / "out.csv")
        self.session.apply("Write", lambda _: edits.add_output(self.session.flow, Input(new), target)[0])
        self.session.save(self.folder / "own.trellis")
        self.window.files.open_flow(self.folder / "own.trellis")
        self.rest()
        self.assertIsNone(self.box())

    def test_steps_that_somebody_else_copied_wait_too(self):
        theirs = load(self.path, KINDS)
        QGuiApplication.clipboard().setText(copied(theirs, ["theirs"]))
        self.window.selected.paste()
        self.rest()
        self.assertEqual(self.server.heard, [])
        self.assertEqual({entry.sort for entry in self.session.library.waiting}, {trust.SERVER, trust.QUERY})

    def test_a_copy_that_was_not_saved_keeps_waiting(self):
        autosave = self.window.files.autosave = Autosave(self.session, self.folder / "drafts", wait=0)
        self.open()
        self.answer("Not now")
        self.session.apply("Rename", lambda _: edits.rename(self.session.flow, "loans", "Loans of May"))
        autosave.keep()
        about = json.loads(next((self.folder / "drafts").glob("*.json")).read_text())
        self.assertFalse(about["accepted"])
        self.session.recover(self.session.flow, self.path, accepted=False)
        self.rest()
        self.assertEqual(self.server.heard, [])


class TextIsText(WindowCase):
    def labels(self) -> list[QLabel]:
        return self.window.findChildren(QLabel)

    def test_names_and_values_that_look_like_markup_are_shown_as_they_are(self):
        source = self.folder / "a.csv"
        source.write_text(f'"{_MARKUP.replace(chr(34), chr(34) * 2)}",crates\n<i>Pier</i>,1\n')
        settings = self.session.library.content(source).settings("a")
        flow, new = edits.add_source(Flow(), settings, _MARKUP)
        self.session.apply(f"Begin {_MARKUP}", lambda _: flow, Selection(new))
        self.rest()
        self.assertIn("&&", self.window.commands["undo"].text())
        self.session.failed.emit(trust.NotAccepted(trust.Reach(trust.SERVER, _MARKUP)))
        self.rest()
        self.window.warn("Nothing was written", trust.NotAccepted(trust.Reach(trust.SERVER, _MARKUP)))
        box = next(box for box in self.window.findChildren(QMessageBox) if box.isVisible())
        self.assertIn("<img", box.informativeText())
        for label in self.labels():
            shown = label.text()
            rich = label.textFormat() != Qt.TextFormat.PlainText
            self.assertFalse(rich and "<" in shown, f"{label.objectName()} takes {shown!r} for markup")
            self.assertFalse(rich and label.isVisible(), f"{label} could take its text for markup: {shown!r}")
        box.close()
        for widget in self.window.findChildren(QWidget):
            self.assertNotIn("<img", widget.toolTip())
        for table in self.window.findChildren(QTableWidget):
            for row in range(table.rowCount()):
                for column in range(table.columnCount()):
                    item = table.item(row, column)
                    self.assertNotIn("<img", item.toolTip() if item else "")

    def test_a_tip_is_the_text_itself(self):
        self.assertEqual(tip("plain"), "plain")
        self.assertIn("&lt;b&gt;", tip("<b>x</b>"))
        self.assertLess(len(tip("x" * 10**6)), 3_000)
        self.assertEqual(PlainLabel("<b>").textFormat(), Qt.TextFormat.PlainText)

    def test_a_cell_of_a_million_lines_is_shown_at_once(self):
        source = self.folder / "long.csv"
        source.write_text('a,b\n1,"' + "x\n" * 1_000_000 + '"\n2,3\n')
        flow, new = edits.add_source(Flow(), self.session.library.content(source).settings("long"), "Long")
        self.session.apply("Begin", lambda _: flow, Selection(new))
        self.rest()
        began = time.process_time()
        self.window.bench.grid.repaint()
        self.window.grab()
        self.assertLess(time.process_time() - began, 5)


class Kept(WindowCase):
    def test_a_copy_is_written_soon_after_a_pause_and_at_the_latest_a_second_after_an_edit(self):
        drafts = self.folder / "drafts"
        self.window.files.autosave = Autosave(self.session, drafts)
        flow, _ = edits.add_source(self.session.flow, SourceSettings("typed", ""), "Once")
        began = time.monotonic()
        self.session.apply("Add", lambda _: flow)
        self.rest(lambda: list(drafts.glob("*.trellis")))
        self.assertLess(time.monotonic() - began, 1.0)
        # Edits that never pause for 300 ms: the copy is no older than a second.
        kept = {path: path.stat().st_mtime_ns for path in drafts.glob("*.trellis")}
        end, number = time.monotonic() + 1.5, 0
        while time.monotonic() < end:
            number += 1
            more = partial(edits.add_source, settings=SourceSettings("typed", ""), name=f"More {number}")
            self.session.apply("Add", more)
            QTest.qWait(50)
        self.assertNotEqual({path: path.stat().st_mtime_ns for path in drafts.glob("*.trellis")}, kept)
        self.window.files.autosave.close()
        self.window.files.autosave = None
