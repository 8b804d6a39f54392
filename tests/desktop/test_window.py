import sqlite3
import threading
import time
import unittest
from unittest import mock

import numpy as np
import pyarrow as pa
import pyarrow.csv as pa_csv
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QApplication, QInputDialog, QLineEdit, QMessageBox

from keen_trellis.desktop import theme as looks
from keen_trellis.desktop.pictures import settle
from keen_trellis.desktop.shell.menus import made_window
from keen_trellis.desktop.shell.settings import Remembered
from keen_trellis.flow import edits
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.session.selection import Selection
from keen_trellis.sources.delimited import DelimitedReader
from keen_trellis.sources.readers import READERS
from tests import demo_data
from tests.desktop.driving import CTRL, SHIFT, WindowCase

KNOT = "loans-with-objects"
KEY = Qt.Key


class Flows(WindowCase):
    def test_in_an_empty_window_what_needs_rows_is_greyed(self):
        self.assertIn("Ctrl+O", self.sentence)
        self.assertFalse(self.window.commands["join"].isEnabled())

    def test_undo_and_redo_have_names_and_go_all_the_way(self):
        self.open_demo()
        first = self.session.flow
        for key in (KEY.Key_2, KEY.Key_3, KEY.Key_5):
            self.press(key)
        last = self.session.flow
        self.assertEqual(
            self.window.commands["undo"].text(),
            "&Undo Ask for every loan and every object, paired where they match",
        )
        self.press(*[KEY.Key_Z] * 3, modifier=CTRL)
        self.assertEqual(self.session.flow, first)
        self.assertFalse(self.session.unsaved)
        self.press(*[KEY.Key_Z] * 3, modifier=CTRL | SHIFT)
        self.assertEqual(self.session.flow, last)
        self.assertTrue(self.session.unsaved)

    def test_closing_with_unsaved_changes_asks_first(self):
        path = self.open_demo(own=True)
        self.press(KEY.Key_2)
        self.window.close()
        self.answer("Cancel")
        self.assertTrue(self.window.isVisible())
        self.window.close()
        self.answer("Save")
        self.assertFalse(self.window.isVisible())
        self.assertIn('"type": "inner"', path.read_text())

    def test_changes_can_be_given_up(self):
        path = self.open_demo(own=True)
        before = path.read_text()
        self.press(KEY.Key_2)
        self.press(KEY.Key_N, modifier=CTRL)
        self.answer("Discard")
        self.assertEqual((self.session.flow.steps, path.read_text()), ((), before))

    def test_a_saved_flow_opens_as_it_was(self):
        self.open_demo()
        self.press(KEY.Key_4)
        self.press(KEY.Key_S, modifier=CTRL | SHIFT)
        self.enter_file(self.folder / "copy.trellis")
        flow = self.session.flow
        self.window.files.new()
        self.window.files.open_flow(self.folder / "copy.trellis")
        self.rest()
        self.assertEqual(self.session.flow, flow)
        self.assertEqual(self.session.outcome(KNOT).result.rows.rows, 8303)

    def test_opening_again_reads_what_has_changed_and_nothing_else(self):
        path = self.open_demo(own=True)
        loans = self.session.library.known(self.session.sources()["loans"])
        base = sqlite3.connect(path.parent / "registry.sqlite")
        base.execute("DELETE FROM valuations")
        base.execute("DELETE FROM objects WHERE object_id > 100")
        base.commit()
        base.close()
        self.assertEqual(self.session.outcome("objects").result.rows.rows, 12_907)
        self.window.files.open_flow(path)
        self.rest()
        self.assertEqual(self.session.outcome("objects").result.rows.rows, 100)
        self.assertIs(self.session.library.known(self.session.sources()["loans"]), loans)

    def test_a_broken_flow_is_refused_and_the_open_one_stays(self):
        self.open_demo()
        flow = self.session.flow
        (self.folder / "bad.trellis").write_text('{"format": "keen-trellis/9"}')
        self.window.files.open_flow(self.folder / "bad.trellis")
        self.answer("OK")
        self.assertIs(self.session.flow, flow)

    def test_rename_remove_and_what_hangs_on_it(self):
        self.open_demo()
        self.press(KEY.Key_F2)
        dialog = self.dialog(QInputDialog)
        line = dialog.findChild(QLineEdit)
        line.setText("Known loans")
        dialog.accept()
        self.rest()
        self.back_to_window()
        self.assertEqual(self.session.flow.step(KNOT).name, "Known loans")
        self.session.select(Selection("objects"))
        self.window.trellis.setFocus()
        self.press(KEY.Key_Delete)
        self.rest()
        self.assertIn("is missing", str(self.session.outcome(KNOT).error))
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertIsNone(self.session.outcome(KNOT).error)

    def test_the_finder_runs_commands_and_goes_to_steps_and_fields(self):
        self.open_demo()
        self.press(KEY.Key_K, modifier=CTRL)
        self.type("swap left")
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.session.history.undo_name, "Swap sides")
        self.press(KEY.Key_K, modifier=CTRL)
        self.type("region in venues")
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.session.selection, Selection("venues"))

    def test_every_command_stands_in_a_menu_and_no_key_is_given_twice(self):
        actions = self.window.commands.all
        in_menus = {action for menu in self.window._menus.values() for action in menu.actions()}
        self.assertLessEqual(set(actions), in_menus)
        keys = [action.shortcut().toString() for action in actions if not action.shortcut().isEmpty()]
        self.assertEqual(len(keys), len(set(keys)))

    def test_f6_goes_round_the_panes_and_f8_gives_the_bench_the_window(self):
        self.open_demo()
        self.window.trellis.setFocus()
        self.press(KEY.Key_F6)
        self.assertTrue(self.window.sentence.view.chips[0].hasFocus())
        self.press(KEY.Key_F6)
        self.assertTrue(self.window.bench.grid.hasFocus())
        self.press(KEY.Key_F6)
        self.assertTrue(self.window.trellis.hasFocus())
        height = self.window.bench.grid.height()
        self.press(KEY.Key_F8)
        self.assertGreater(self.window.bench.grid.height(), height + 200)
        self.press(KEY.Key_F8)
        self.assertTrue(self.window.trellis.isVisible())


class Trouble(WindowCase):
    def test_a_lost_source_is_said_where_it_stands_and_the_rest_works(self):
        data = demo_data.copy(self.folder / "demo")
        (data / "registry.sqlite").rename(data / "elsewhere.sqlite")
        self.window.files.open_flow(data / "Winter loans.trellis")
        self.rest()
        self.session.select(Selection("objects"))
        self.assertIn("no such file", self.sentence)
        self.assertIn("no such file", self.bench_text())
        self.assertIsNone(self.session.outcome("venues").error)
        self.session.select(Selection("venues"))
        self.rest()
        self.assertEqual(self.window.bench.grid.lines.count, 45)
        self.session.select(Selection("objects"))
        self.click(self.chip("File"))
        self.enter_file(data / "elsewhere.sqlite")
        self.rest()
        self.assertEqual(self.session.outcome(KNOT).result.match.counts.left_matched, 8303)

    def test_a_source_that_was_put_back_is_tried_again(self):
        data = demo_data.copy(self.folder / "demo")
        (data / "registry.sqlite").rename(data / "elsewhere.sqlite")
        self.window.files.open_flow(data / "Winter loans.trellis")
        self.rest()
        (data / "elsewhere.sqlite").rename(data / "registry.sqlite")
        self.session.select(Selection("objects"))
        self.click(self.chip("Again"))
        self.rest()
        self.assertEqual(self.session.outcome(KNOT).result.match.counts.left_matched, 8303)

    def test_a_file_that_cannot_be_read_says_so_in_the_margin(self):
        bad = self.folder / "cut.xlsx"
        bad.write_bytes(b"PK\x03\x04" + bytes(200))
        self.drop_files(bad)
        self.assertIn("cannot be read", self.item("cut.xlsx").text)
        self.assertIn("damaged or cut off", self.sentence)
        self.press(KEY.Key_Delete)
        self.assertEqual(self.session.flow.files, ())

    def test_settings_that_cannot_be_read_do_not_break_the_window(self):
        path = self.open_demo(own=True)
        path.write_text(path.read_text().replace('"type": "left-outer"', '"type": 7', 1))
        self.window.files.open_flow(path)
        self.rest()
        self.assertIn("settings cannot be read", self.sentence)
        self.session.select(Selection("loans"))
        self.rest()
        self.assertEqual(self.window.bench.grid.lines.count, 8352)

    def test_an_output_that_cannot_be_read_is_said_at_its_end(self):
        path = self.open_demo(own=True)
        path.write_text(path.read_text().replace('"writer": "xlsx"', '"writer": 7'))
        self.window.files.open_flow(path)
        self.rest()
        self.session.select(Selection("loan-report-xlsx"))
        self.rest()
        self.assertIn("settings cannot be read", self.sentence)
        self.assertEqual(self.window.trellis.shown.ends[0].detail, "cannot be written")

    def test_steps_of_an_unknown_kind_are_shown_and_kept(self):
        path = self.open_demo(own=True)
        path.write_text(path.read_text().replace('"kind": "output"', '"kind": "sculpture"'))
        self.window.files.open_flow(path)
        self.rest()
        self.session.select(Selection("loan-report-xlsx"))
        self.rest()
        self.assertIn("does not know the kind of step “sculpture”", self.sentence)
        self.press(KEY.Key_S, modifier=CTRL)
        self.assertIn('"kind": "sculpture"', path.read_text())

    def test_a_table_dropped_on_another_begins_both_rails(self):
        data = demo_data.folder()
        self.drop_files(data / "loans-2026.xlsx", data / "registry.sqlite")
        trellis = self.window.trellis
        self.drag(trellis, self.item("objects").rect.center(), self.item("Loans").rect.center())
        self.rest()
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(
            [step.name for step in self.session.flow.steps], ["Loans", "Objects", "Loans with Objects"]
        )
        self.assertEqual(self.bands[0], "Unmatched Loans · 49 rows")

    def test_tables_without_anything_in_common_are_joined_by_hand(self):
        (self.folder / "a.csv").write_text("colour,n\nred,1\nblue,2\n")
        (self.folder / "b.csv").write_text("shape,k\nround,x\nflat,y\n")
        self.drop_files(self.folder / "a.csv", self.folder / "b.csv")
        self.session.select(self.stump("a"))
        self.window.selected.begin_rail()
        self.rest()
        self.window.combining.join(self.stump("b"), Selection("a"))
        self.rest()
        self.assertIn("choose the link fields", self.sentence)
        self.click(self.chip("Link fields"))
        self.pick("colour")
        self.pick("shape")
        self.rest()
        self.assertEqual(self.bands[1], "Matched · 0 A rows with 0 B rows in 0 pairs")


class Outputs(WindowCase):
    def test_an_existing_file_is_replaced_only_after_asking(self):
        path = self.open_demo(own=True)
        target = path.parent / "Loan report.xlsx"
        target.write_text("mine")
        self.session.select(Selection("loan-report-xlsx"))
        self.click(self.chip("Write"))
        self.answer("Cancel")
        self.rest()
        self.click(self.chip("Write"))
        self.answer("Replace")
        self.rest()
        self.assertIn(
            "It is not an xlsx workbook, though it is called like one", self.dialog(QMessageBox).text()
        )
        self.answer("OK")
        self.assertEqual(target.read_text(), "mine")
        target.write_bytes((path.parent / "loans-2026.xlsx").read_bytes())
        self.click(self.chip("Write"))
        self.answer("Replace")
        self.rest()
        self.assertGreater(target.stat().st_size, 100_000)
        self.assertIn("Wrote 8,355 rows of 16 fields", self.window.status.shown.text())

    def test_a_source_is_never_written_to(self):
        path = self.open_demo(own=True)
        before = (path.parent / "returns-desk.csv").read_bytes()
        self.press(KEY.Key_E, modifier=CTRL)
        self.enter_file(path.parent / "returns-desk.csv")
        self.rest()
        self.answer("OK")
        self.assertEqual((path.parent / "returns-desk.csv").read_bytes(), before)

    def test_the_rows_of_a_stub_are_written(self):
        path = self.open_demo(own=True)
        self.session.select(Selection(KNOT, "unmatched_left"))
        self.rest()
        self.click(self.chip("Write"))
        self.enter_file(path.parent / "lost.csv")
        self.rest()
        self.assertEqual(len((path.parent / "lost.csv").read_text().splitlines()), 50)
        self.assertEqual(self.session.flow.steps[-1].inputs[0].port, "unmatched_left")


class Responsiveness(WindowCase):
    def large_files(self, rows: int) -> list:
        """Two text files that take a while to read."""
        keys = pa.array([f"key {number}" for number in range(50_000)])
        paths = []
        for name in ("a", "b"):
            column = keys.take(pa.array(np.arange(rows) % 50_000))
            paths.append(self.folder / f"{name}.csv")
            pa_csv.write_csv(pa.table({name: column, "n": pa.array(np.arange(rows))}), paths[-1])
        return paths

    def test_work_runs_off_the_interfaces_thread_and_the_window_answers(self):
        on_main = set()
        real = self.session.library.get

        def watched(*words):
            on_main.add(threading.current_thread() is threading.main_thread())
            return real(*words)

        self.session.library.get = watched
        self.addCleanup(setattr, self.session.library, "get", real)
        for path in self.large_files(1_000_000):
            self.drop_files(path)
        flow = self.session.flow
        for name in ("a", "b"):
            flow, _ = edits.add_source(
                flow, self.session.margin.stump_settings(self.stump(name)), name.upper()
            )
        self.session.apply("test", lambda _: flow, Selection("a"))
        longest = 0.0
        end = time.monotonic() + 30
        while self.window.jobs.under_way and time.monotonic() < end:
            before = time.monotonic()
            QApplication.processEvents()
            longest = max(longest, time.monotonic() - before)
        self.assertFalse(self.window.jobs.under_way)
        self.assertEqual(on_main, {False})
        self.assertLess(longest, 1.0)
        self.assertIsNone(self.session.outcome("a").error)

    def test_what_takes_long_shows_progress_and_can_be_stopped_and_gone_on_with(self):
        class Slow(DelimitedReader):
            """Reads as slowly as a network drive."""

            def read(self, settings, room, task):
                for row in range(4_000 if not self.quick else 1):
                    task.checkpoint(row, 4_000, "rows of slow.csv")
                    threading.Event().wait(0.005)
                return super().read(settings, room, task)

        slow = Slow()
        slow.quick = False
        before = READERS["text"]
        READERS._made["text"] = slow
        self.addCleanup(READERS._made.__setitem__, "text", before)
        (self.folder / "slow.csv").write_text("n\n1\n2\n")
        source = SourceSettings("text", str(self.folder / "slow.csv"))
        flow, step = edits.add_source(self.session.flow, source, "Slow")
        self.session.apply("test", lambda _: flow, Selection(step))
        end = time.monotonic() + 20
        status = self.window.status

        def is_shown():
            # Another job may say for a moment that it waits for this one, and a first row is 0 % of it.
            read = "rows of" in status.doing.text() and status.progress.value() > 0
            return status.cancel.isVisible() and read

        while not is_shown() and time.monotonic() < end:
            QApplication.processEvents()
        self.assertRegex(self.window.status.doing.text(), r"rows of slow.csv [\d,]+ of 4,000")
        self.assertGreater(self.window.status.progress.value(), 0)
        # The trellis shows it at the step, too.
        while step not in self.session.results.under_way and time.monotonic() < end:
            QApplication.processEvents()
        self.assertTrue(0 < self.session.results.under_way[step] < 1)
        self.click(self.window.status.cancel)
        self.rest()
        self.assertEqual(self.session.results.under_way, {})
        self.assertIn("Stopped before these rows were known", self.bench_text())
        self.assertFalse(self.window.status.cancel.isVisible())
        slow.quick = True
        self.press(KEY.Key_F5)
        self.rest()
        self.assertEqual(self.session.outcome(step).result.rows.rows, 2)
        self.assertEqual(self.window.bench.grid.lines.count, 2)

    def test_a_locked_database_is_waited_for_off_the_thread(self):
        path = demo_data.copy(self.folder / "demo") / "registry.sqlite"
        base = sqlite3.connect(path)
        self.addCleanup(base.close)
        # Other content than any that was read before: that would be in the cache.
        base.execute("CREATE TABLE another (a)")
        base.commit()
        base.execute("BEGIN EXCLUSIVE")
        self.enterContext(mock.patch("keen_trellis.sources.sqlite_files._WAIT_SECONDS", 0.2))
        self.window.files.open_flow(path.parent / "Winter loans.trellis")
        self.rest()
        self.assertIn("locked the database", str(self.session.outcome("objects").error))


class Remembering(WindowCase):
    def test_size_theme_and_recent_flows_survive_a_restart(self):
        path = self.open_demo(own=True)
        first = made_window(Remembered())
        first.show()
        first.resize(1180, 720)
        first.files.open_flow(path)
        settle(first)
        first.splitter.moveSplitter(230, 1)  # as somebody does who drags it
        first.switch_theme()
        first.close()
        second = made_window(Remembered())
        self.addCleanup(looks.use, looks.LIGHT)
        self.addCleanup(second.close)
        second.show()
        second.files.open_flow(path)
        settle(second)
        self.assertEqual(second.height(), 720)  # the width is cut to the screen's
        self.assertEqual(first.splitter.sizes()[0], 230)
        self.assertEqual(second.splitter.sizes(), first.splitter.sizes())
        self.assertEqual(looks.theme().name, "dark")
        self.assertEqual(second.remembered.recent[0], path)
        second._fill_recent()
        self.assertIn("Winter loans", second._recent.actions()[0].text())
        path.unlink()
        self.assertNotIn(path, second.remembered.recent)


class Themes(unittest.TestCase):
    def test_text_has_a_contrast_of_at_least_4_5(self):
        for theme in looks.THEMES.values():
            for ground in (theme.ground, theme.paper, theme.margin, theme.band, theme.link, theme.selected):
                for ink in (theme.ink, theme.soft, theme.alarm):
                    self.assertGreaterEqual(
                        contrast(ink, ground), 4.5, f"{theme.name}: {ink.name()} on {ground.name()}"
                    )
            for ground in (theme.ground, theme.paper):
                self.assertGreaterEqual(contrast(theme.accent, ground), 4.5, theme.name)
            for hue in theme.hues:
                self.assertGreaterEqual(
                    contrast(QColor("white"), hue.mark), 4.5, f"{theme.name}: {hue.mark.name()}"
                )
                self.assertGreaterEqual(contrast(theme.ink, hue.chip), 4.5, theme.name)


def contrast(one: QColor, other: QColor) -> float:
    """The contrast ratio of WCAG 2.2."""

    def luminance(colour: QColor) -> float:
        parts = [colour.redF(), colour.greenF(), colour.blueF()]
        linear = [part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    light, dark = sorted((luminance(one), luminance(other)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


if __name__ == "__main__":
    unittest.main()
