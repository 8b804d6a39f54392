"""Drives the real window with real key presses, clicks, drags and drops."""

import os
import sys
import time
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

from PySide6.QtCore import QCoreApplication, QEvent, QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QContextMenuEvent, QDragEnterEvent, QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QApplication,
    QDialog,
    QFileDialog,
    QLineEdit,
    QMenu,
    QMessageBox,
    QPushButton,
    QWidget,
)

from keen_trellis.desktop.pictures import new_window, settle
from keen_trellis.desktop.plain import without_keys
from keen_trellis.desktop.sentence.chooser import Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.shell.window import MainWindow
from keen_trellis.flow.runner import Kept
from keen_trellis.session.selection import Selection
from keen_trellis.sources.library import Library
from tests import demo_data

CTRL, SHIFT, ALT = (
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.AltModifier,
)
# Shared, so that the demo's own files are read only once in all tests, and its knots explained once.
_LIBRARY = Library()
_KEPT = Kept()
_PLAIN = Qt.KeyboardModifier.NoModifier


class WindowCase(unittest.TestCase):
    """A window of its own for each test, and a copy of the demo where a test asks for it."""

    # Where results are kept; a test that looks at how they are computed has its own.
    kept: Kept | None = _KEPT

    def setUp(self):
        place = TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        # What one test's flows confirm, another one does not know.
        self.enterContext(mock.patch.dict(os.environ, XDG_DATA_HOME=str(self.folder / "data")))
        self._unexpected: list[BaseException] = []
        before = sys.excepthook
        sys.excepthook = lambda kind, error, trace: (
            self._unexpected.append(error),
            before(kind, error, trace),
        )
        self.addCleanup(setattr, sys, "excepthook", before)
        self.addCleanup(self._nothing_unexpected)
        self.window: MainWindow = new_window(library=_LIBRARY, kept=self.kept)
        self.addCleanup(self._close)
        self.window.activateWindow()
        self.session = self.window.session

    def _nothing_unexpected(self):
        """An error inside an event handler would otherwise only be printed."""
        self.assertEqual(self._unexpected, [])

    def _close(self):
        while (popup := QApplication.activePopupWidget()) is not None:
            popup.close()
        self.window.jobs.close()
        self.window.hide()
        self.window.deleteLater()
        QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)

    def open_demo(self, *, own: bool = False) -> Path:
        """Open the demo flow; its path. own: a copy that the test may change and write beside."""
        data = demo_data.copy(self.folder / "demo") if own else demo_data.folder()
        self.window.files.open_flow(data / "Winter loans.trellis")
        self.rest()
        return data / "Winter loans.trellis"

    def rest(self, until=None):
        """Let the window work until nothing is under way."""
        settle(self.window, until)

    # --- keys ---

    def target(self) -> QWidget:
        """What has the keyboard."""
        popup = QApplication.activePopupWidget()
        if popup is not None:
            return popup.focusWidget() or popup
        dialog = QApplication.activeModalWidget()
        if dialog is not None:
            return dialog.focusWidget() or dialog
        return self.window.focusWidget() or self.window

    def press(self, *keys, modifier=_PLAIN):
        """Press keys one after the other."""
        for key in keys:
            QTest.keyClick(self.target(), key, modifier)
            QCoreApplication.processEvents()

    def type(self, text: str):
        """Type text where the keyboard is."""
        QTest.keyClicks(self.target(), text)
        QCoreApplication.processEvents()

    # --- mouse ---

    def click(self, widget: QWidget, point: QPointF | QPoint | None = None, modifier=_PLAIN):
        place = point.toPoint() if isinstance(point, QPointF) else point or widget.rect().center()
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, modifier, place)
        QCoreApplication.processEvents()

    def double_click(self, widget: QWidget, point: QPointF):
        QTest.mouseDClick(widget, Qt.MouseButton.LeftButton, _PLAIN, point.toPoint())
        QCoreApplication.processEvents()

    def right_click(self, widget: QWidget, point: QPointF | QPoint) -> QMenu:
        """The menu that the right button opens there."""
        place = point.toPoint() if isinstance(point, QPointF) else point
        QTest.mouseClick(widget, Qt.MouseButton.RightButton, _PLAIN, place)
        reason = QContextMenuEvent.Reason.Mouse
        QApplication.sendEvent(widget, QContextMenuEvent(reason, place, widget.mapToGlobal(place)))
        QCoreApplication.processEvents()
        menu = QApplication.activePopupWidget()
        self.assertIsInstance(menu, QMenu)
        return menu

    def pick_entry(self, menu: QMenu, *texts: str):
        """Click an entry of a menu, or of a menu in it."""
        for text in texts:
            action = next(action for action in menu.actions() if without_keys(action.text()) == text)
            self.assertTrue(action.isEnabled(), f"{text}: {action.toolTip()}")
            further = action.menu()
            self.click(menu, menu.actionGeometry(action).center())
            if further is not None:
                # A menu in a menu opens after a moment.
                end = time.monotonic() + 1
                while not further.isVisible() and time.monotonic() < end:
                    QTest.qWait(10)
                self.assertTrue(further.isVisible(), text)
                menu = further
        self.rest()

    def drag(self, widget: QWidget, start: QPointF, end: QPointF):
        """Press, move in steps, let go."""
        QTest.mousePress(widget, Qt.MouseButton.LeftButton, _PLAIN, start.toPoint())
        for step in range(1, 6):
            self._move(widget, start + (end - start) * (step / 5))
        QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, _PLAIN, end.toPoint())
        QCoreApplication.processEvents()

    def _move(self, widget: QWidget, point: QPointF):
        from PySide6.QtGui import QMouseEvent

        place = widget.mapToGlobal(point)
        event = QMouseEvent(
            QEvent.Type.MouseMove, point, place, Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton, _PLAIN
        )
        QApplication.sendEvent(widget, event)

    def drop_files(self, *paths: Path):
        """Drop files on the window."""
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
        buttons = Qt.MouseButton.LeftButton
        enter = QDragEnterEvent(QPoint(300, 200), Qt.DropAction.CopyAction, data, buttons, _PLAIN)
        QApplication.sendEvent(self.window, enter)
        self.assertTrue(enter.isAccepted())
        drop = QDropEvent(QPointF(300, 200), Qt.DropAction.CopyAction, data, buttons, _PLAIN)
        QApplication.sendEvent(self.window, drop)
        self.rest()

    # --- the trellis ---

    def item(self, text: str, part: str = ""):
        """The item of the trellis with this text, the longest one if there are several."""
        found = [
            item
            for item in self.window.trellis.items
            if text in item.text and (not part or item.part == part)
        ]
        self.assertTrue(found, f"{text} is not in {[item.text for item in self.window.trellis.items]}")
        return max(found, key=lambda item: item.rect.width())

    def knot_part(self, step: str, part: str):
        """One part of a knot."""
        return next(i for i in self.window.trellis.items if i.part == part and i.selection.step == step)

    def stump(self, table: str) -> Selection:
        """The stump of a table, out of its file's line if it is folded into that."""
        margin = self.session.margin
        for path in margin.paths():
            if table in margin.unused(path) and table not in margin.listed(path):
                margin.list_or_fold(path)
                self.rest()
        return next(i.selection for i in self.window.trellis.items if i.selection.table == table)

    # --- sentence and lists ---

    def chip(self, label: str):
        """The chip with this label."""
        found = [chip for chip in self.window.sentence.view.chips if chip.chip.label == label]
        self.assertTrue(
            found, f"{label} is not in {[chip.chip.label for chip in self.window.sentence.view.chips]}"
        )
        return found[0]

    @property
    def sentence(self) -> str:
        return self.window.sentence.view.text

    def chooser(self) -> Chooser:
        """The list that is open."""
        popup = QApplication.activePopupWidget()
        self.assertIsInstance(popup, Chooser)
        return popup

    def lines(self) -> list[str]:
        """The lines of the open list."""
        found = self.chooser().list
        return [found.item(row).text() for row in range(found.count())]

    def pick(self, text: str):
        """Click a line of the open list."""
        found = self.chooser().list
        item = next(found.item(row) for row in range(found.count()) if found.item(row).text() == text)
        self.click(found.viewport(), found.visualItemRect(item).center())

    def choose(self, label: str, *texts: str):
        """Open a chip and click lines of the lists that follow."""
        self.click(self.chip(label))
        for text in texts:
            self.pick(text)
        self.rest()

    def tick(self, label: str, *texts: str):
        """Open a chip, tick lines of its list by keyboard and apply."""
        self.click(self.chip(label))
        for text in texts:
            self.chooser().list.setCurrentRow(self.lines().index(text))
            self.press(Qt.Key.Key_Space)
        self.press(Qt.Key.Key_Return)
        self.rest()

    def enter(self, text: str, *, lines: bool = False):
        """Type into the entry that is open."""
        entry = QApplication.activePopupWidget()
        self.assertIsInstance(entry, Entry)
        if lines:
            entry.lines.setPlainText(text)
            self.press(Qt.Key.Key_Return, modifier=CTRL)
        else:
            entry.line.selectAll()
            self.type(text)
            self.press(Qt.Key.Key_Return)
        self.rest()

    # --- dialogs ---

    def dialog(self, kind=QDialog) -> QDialog:
        """The dialog that is open."""
        end = time.monotonic() + 5
        while time.monotonic() < end:
            QCoreApplication.processEvents()
            found = [w for w in QApplication.topLevelWidgets() if isinstance(w, kind) and w.isVisible()]
            if found:
                return found[-1]
        raise AssertionError("no dialog is open")

    def enter_file(self, path: Path):
        """Type a path into the open file dialog and accept it."""
        dialog = self.dialog(QFileDialog)
        line = dialog.findChild(QLineEdit, "fileNameEdit")
        dialog.activateWindow()
        line.setFocus()
        end = time.monotonic() + 5
        while line.text() != str(path) and time.monotonic() < end:  # it still marks the name that it suggests
            QCoreApplication.processEvents()
            line.clear()
            QTest.keyClicks(line, str(path))
        QTest.keyClick(line, Qt.Key.Key_Return)
        if dialog.isVisible():  # it is not always the active window here, without a window manager
            accept = next(b for b in dialog.findChildren(QPushButton) if b.isDefault())
            self.click(accept)
        self.back_to_window()

    def back_to_window(self):
        """Do what a window manager does once a dialog is closed."""
        QCoreApplication.processEvents()
        self.window.activateWindow()
        QCoreApplication.processEvents()

    def answer(self, text: str):
        """Click a button of the open message box."""
        box = self.dialog(QMessageBox)
        button = next(b for b in box.findChildren(QPushButton) if b.text().replace("&", "") == text)
        self.click(button)
        self.back_to_window()

    # --- the bench ---

    @property
    def bands(self) -> list[str]:
        """The bands' heads."""
        return [band.text for band in self.window.bench.content.bands]

    def bench_text(self) -> str:
        """What the message in place of rows says."""
        return self.window.bench.message.text()
