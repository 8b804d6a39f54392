"""Sources in the window: opened, looked at, settled, refreshed, broken and repaired."""

import datetime as dt
import os
import shutil
import unittest
from pathlib import Path

import pyarrow as pa
import xlsxwriter
from pyarrow import parquet
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QMessageBox
from xlsxwriter.utility import xl_cell_to_rowcol

from keen_trellis.core.day import today
from keen_trellis.core.values import FieldType
from keen_trellis.databases import secrets
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.flow.source_settings import FieldSettings, Layout, SourceSettings, TypedTable
from keen_trellis.session import editing
from keen_trellis.session.selection import Selection
from tests import demo_data
from tests.desktop.driving import ALT, CTRL, SHIFT, WindowCase
from tests.postgres import PASSWORD, server
from tests.tables import rows_of

KEY = Qt.Key
LOANS, VENUES = "loans", "venues"


class SourcesCase(WindowCase):
    def settings(self, step: str) -> SourceSettings:
        return self.session.sources()[step]

    def rows(self, step: str) -> list[tuple]:
        return rows_of(self.session.outcome(step).result.rows)

    def begin(self, path, table: str = "") -> str:
        """Open a file and begin a rail with a table of it; the step's id."""
        self.window.files.open_paths([path])
        self.rest()
        if table:
            self.session.select(Selection(path=str(path), table=table))
            self.rest()
        self.press(KEY.Key_B, modifier=CTRL)
        self.rest()
        return self.session.selection.step

    def text_file(self, content: str, name: str = "trips.csv"):
        path = self.folder / name
        path.write_text(content)
        return path

    def enter(self, text: str, *keys):
        """Type into the line that is open and press Enter."""
        entry = QApplication.activePopupWidget()
        self.assertIsInstance(entry, Entry)
        entry.line.selectAll()
        QTest.keyClicks(entry.line, text)
        QTest.keyClick(entry.line, KEY.Key_Return)
        QApplication.processEvents()


def write_sheets(path: Path, **sheets: dict[str, list[list]]):
    """A workbook with tables in its sheets, each at a cell: a title or several rows."""
    with xlsxwriter.Workbook(path) as book:
        for name, tables in sheets.items():
            sheet = book.add_worksheet(name)
            for cell, rows in tables.items():
                row, column = xl_cell_to_rowcol(cell)
                for number, values in enumerate(rows):
                    sheet.write_row(row + number, column, values)


class Names(SourcesCase):
    """A rail is called what people call its table."""

    def test_a_block_is_called_after_the_title_above_it(self):
        path = self.folder / "plans.xlsx"
        venues = [["venue", "region"], ["Ebb", "North"], ["Fenn", "South"]]
        regions = [["regions of the coast"], ["region", "head"], ["North", "A. Olm"], ["South", "B. Farr"]]
        write_sheets(path, Venues={"A1": venues, "E1": regions})
        self.window.files.open_paths([path])
        self.rest()
        self.assertIn("regions of the coast", [stump.name for stump in self.window.trellis.shown.stumps])
        place = next(s.selection for s in self.window.trellis.shown.stumps if s.name.startswith("regions"))
        self.assertEqual(place.table, "Venues!E2")
        editing.begin_rail(self.session, place)
        self.rest()
        step = self.session.flow.step(self.session.selection.step)
        self.assertEqual(step.name, "Regions of the coast")
        self.assertEqual(self.rows(step.id), [("North", "A. Olm"), ("South", "B. Farr")])

    def test_a_folder_of_workbooks_is_called_after_the_folder(self):
        folder = self.folder / "month-ends"
        folder.mkdir()
        for month in ("2026-01", "2026-02"):
            write_sheets(folder / f"{month}.xlsx", Sheet1={"A1": [["venue", "visitors"], ["Ebb", 7]]})
        step = self.begin(folder)
        self.assertEqual(self.session.flow.step(step).name, "Month-ends")
        self.assertEqual(len(self.rows(step)), 2)


class Looking(SourcesCase):
    def test_a_folder_is_one_table_and_says_which_file_is_odd(self):
        self.open_demo(own=True)
        step = self.begin(self.folder / "demo" / "courier-logs")
        self.assertIn("Read courier-logs as Courier-logs , every file", self.sentence)
        self.assertIn("5,014 rows", self.sentence)
        self.assertIn("Doubtful: 2026-07.csv has a field more: note.", self.sentence)
        self.click(self.chip("File fields"))
        self.press(KEY.Key_Space, KEY.Key_Return)
        self.rest()
        self.assertEqual(self.session.outcome(step).result.rows.names[0], "file")
        self.click(self.chip("Files"))
        self.pick("only the newest file")
        self.rest()
        self.assertEqual(len({row[0] for row in self.rows(step)}), 1)
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(len({row[0] for row in self.rows(step)}), 12)

    def test_the_fields_and_what_they_hold(self):
        self.open_demo()
        self.session.select(Selection(LOANS))
        self.press(KEY.Key_F7)
        self.rest()
        rows = self.window.bench.fields.view.texts
        self.assertEqual(rows[0][:4], ["Loan no", "text", "0", "every row"])
        self.assertEqual(rows[1][2], "5")
        self.assertIn("A-9999 (8,352)", rows[0][9])
        self.press(KEY.Key_Escape)
        self.assertIs(self.window.bench._stack.currentWidget(), self.window.bench.grid)

    def test_a_stump_can_be_looked_at_before_it_is_used(self):
        self.open_demo()
        self.session.select(self.stump("returns-desk"))
        self.rest()
        self.press(KEY.Key_F7)
        self.rest()
        self.assertEqual(self.window.bench.fields.view.texts[0][0], "loan no")
        self.assertFalse(self.window.bench.fields.view.change.isVisible())

    def test_the_first_rows_of_a_large_file_are_shown_at_once(self):
        count = 600_000
        text = self.text_file("n,name\n" + "".join(f"{n},text {n}\n" for n in range(count)))
        columns = self.folder / "large.parquet"
        parquet.write_table(pa.table({"n": range(count), "square": [n * n for n in range(count)]}), columns)
        for path in (text, columns):
            with self.subTest(path.suffix):
                seen = []

                def see(_: object, seen: list = seen) -> None:
                    found = self.session.selected_outcome()
                    if found is not None and found.result:
                        seen.append((found.partial, found.result.rows.rows))

                self.session.outcomes_changed.connect(see)
                self.window.files.open_paths([path])
                self.rest()
                self.session.outcomes_changed.disconnect(see)
                partial = [rows for is_partial, rows in seen if is_partial]
                self.assertTrue(partial)
                self.assertLess(partial[-1], count)
                self.assertEqual(seen[-1], (False, count))

    def test_a_second_table_of_a_sheet_stands_in_the_margin(self):
        self.open_demo()
        self.session.select(self.stump("Venues!F3"))
        self.rest()
        self.assertIn("has 4 rows and 3 fields", self.sentence)


class Formats(SourcesCase):
    def test_parquet_json_lines_and_a_workbook_are_joined_refreshed_and_broken(self):
        parquet.write_table(pa.table({"no": ["A", "B"], "value": [1, 2]}), self.folder / "loans.parquet")
        (self.folder / "objects.jsonl").write_text(
            '{"no": "A", "title": "Bell"}\n{"no": "C", "title": "Jug"}\n'
        )
        loans, objects = self.begin(self.folder / "loans.parquet"), self.begin(self.folder / "objects.jsonl")
        self.window.combining.join(Selection(objects), Selection(loans))
        self.rest()
        self.press(KEY.Key_Return)
        self.rest()
        knot = self.session.selection.step
        self.assertEqual(rows_of(self.session.outcome(knot).result.rows), [("A", 1, "Bell"), ("B", 2, None)])
        parquet.write_table(pa.table({"no": ["A", "C"], "value": [1, 3]}), self.folder / "loans.parquet")
        self.press(KEY.Key_F5)
        self.rest(lambda: self.session.refreshing.comparison is not None)
        self.assertEqual(rows_of(self.session.outcome(knot).result.rows)[1], ("C", 3, "Jug"))
        change = self.session.refreshing.comparison.sources[0].changes
        self.assertEqual((len(change.added), len(change.gone)), (1, 1))
        (self.folder / "objects.jsonl").write_text("no json\n")
        self.session.library.forget_all()
        self.session.compute_again()
        self.rest()
        self.assertIn("holds a delimited text now", str(self.session.outcome(objects).error))


class Settling(SourcesCase):
    def test_raw_cells_and_their_keys(self):
        step = self.begin(self.text_file("Trips\n\nvenue,n\nPier,1\nMill,2\nEnd of list,\n"))
        self.press(KEY.Key_F7, modifier=SHIFT)
        raw = self.window.bench.raw.view
        roles = [row[-1] for row in raw.texts]
        self.assertEqual(roles, ["above the header", "blank", "header", "", "", ""])
        raw.table.setCurrentCell(4, 0)
        self.press(KEY.Key_L)
        self.rest()
        self.assertEqual(self.rows(step), [("Pier", 1), ("Mill", 2)])
        self.assertIs(self.window.bench._stack.currentWidget(), raw)
        raw.table.setCurrentCell(3, 0)
        self.press(KEY.Key_H)
        self.rest()
        self.assertEqual(self.session.outcome(step).result.rows.names, ("Pier", "1"))
        self.press(KEY.Key_N)
        self.rest()
        self.assertEqual(self.settings(step).layout.header, 0)
        for _ in range(3):
            self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.settings(step).layout, Layout())

    def test_the_header_s_row_can_be_typed(self):
        step = self.begin(self.text_file("a,b\nvenue,n\nPier,1\n"))
        self.click(self.chip("Header"))
        self.pick("Header in row …")
        self.enter("x")
        self.assertIn("not a row number", QApplication.activePopupWidget().said.text())
        self.enter("2")
        self.rest()
        self.assertEqual(self.session.outcome(step).result.rows.names, ("venue", "n"))
        self.assertIn("header in row 2", self.sentence)
        self.click(self.chip("Header"))
        self.pick("As detected")
        self.rest()
        self.assertIn("header in row 1", self.sentence)

    def test_how_a_text_file_is_written(self):
        step = self.begin(self.text_file("venue;cost\nPier;1,234\nMill;2,345\n"))
        self.assertIn("semicolons between cells, utf-8", self.sentence)
        self.assertEqual(self.rows(step)[0], ("Pier", "1,234"))
        self.click(self.chip("Writing"))
        self.pick("Mark of decimals")
        self.pick("comma: 1.234,5")
        self.rest()
        self.assertEqual(float(self.rows(step)[0][1]), 1.234)
        self.click(self.chip("Writing"))
        self.pick("Counted as blank …")
        self.enter("Pier, none")
        self.rest()
        self.assertIsNone(self.rows(step)[0][0])

    def test_a_type_says_what_it_would_lose_before_it_is_set(self):
        step = self.begin(self.text_file("venue,n\nPier,1\nMill,many\nHall,3\n"))
        self.click(self.chip("Fields"))
        self.pick("n")
        self.rest()
        details = {choice.text: choice.detail for choice in self.chooser()._choices}
        self.assertEqual(details["read as integer"], "1 of 3 would be blank")
        self.assertEqual(details["read as text"], "as it is now")
        self.pick("read as integer")
        self.rest()
        self.assertEqual([row[1] for row in self.rows(step)], [1, None, 3])
        self.assertIn("1 value is no integer, as “many” (row 3)", self.sentence)

    def test_a_field_is_renamed_left_out_and_brought_back(self):
        step = self.begin(self.text_file("venue,n\nPier,1\n"))
        self.press(KEY.Key_F7)
        self.rest()
        self.press(KEY.Key_Return)
        self.rest()
        self.pick("rename …")
        self.enter("place")
        self.rest()
        self.assertEqual(self.session.outcome(step).result.rows.names, ("place", "n"))
        self.assertEqual(self.window.bench.fields.view.texts[0][0], "place")
        self.click(self.chip("Fields"))
        self.pick("n")
        self.rest()
        self.pick("leave it out")
        self.rest()
        self.assertEqual(self.session.outcome(step).result.rows.names, ("place",))
        self.click(self.chip("Fields"))
        self.pick("n")
        self.rest()
        self.assertEqual(self.session.outcome(step).result.rows.names, ("place", "n"))

    def test_a_query_of_a_database(self):
        self.open_demo()
        self.session.select(Selection("objects"))
        self.click(self.chip("Query"))
        entry = QApplication.activePopupWidget()
        entry.lines.setPlainText("DELETE FROM objects")
        QTest.keyClick(entry.lines, KEY.Key_Return, CTRL)
        self.assertIn("not a SELECT", entry.said.text())
        entry.lines.setPlainText("SELECT accession, title FROM objects ORDER BY accession LIMIT 7")
        QTest.keyClick(entry.lines, KEY.Key_Return, CTRL)
        self.rest()
        self.assertEqual(len(self.rows("objects")), 7)
        self.click(self.chip("No query"))
        self.rest()
        self.assertEqual(len(self.rows("objects")), 12_907)


class Typed(SourcesCase):
    def test_a_table_is_pasted_and_edited(self):
        self.press(KEY.Key_T, modifier=CTRL | SHIFT)
        self.rest()
        step = self.session.selection.step
        QGuiApplication.clipboard().setText("from\tto\nEbbrick\tEbbrick Hall\nx\ty\n")
        table = self.window.bench.typing.view.table
        self.press(KEY.Key_V, modifier=CTRL)
        self.rest()
        self.assertEqual(self.rows(step), [("Ebbrick", "Ebbrick Hall"), ("x", "y")])
        table.item(2, 0).setText("7")
        table.item(2, 1).setText("")
        self.rest()
        self.assertEqual(
            self.settings(step).typed, TypedTable(("from", "to"), (("Ebbrick", "Ebbrick Hall"), ("7", "")))
        )
        self.assertIs(self.window.bench._stack.currentWidget(), self.window.bench.typing.view)
        # Delete empties the cell that is stood on; elsewhere it would remove the step.
        table.setCurrentCell(2, 0)
        self.press(KEY.Key_Delete)
        self.rest()
        self.assertEqual(self.settings(step).typed.rows, (("Ebbrick", "Ebbrick Hall"),))
        for _ in range(3):
            self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.rows(step)[1], ("x", "y"))
        self.press(KEY.Key_Escape)
        self.assertEqual(self.window.bench.grid.lines.count, 2)
        self.assertIn("typed into this flow", self.sentence)

    def test_it_is_saved_with_the_flow(self):
        self.window.sources.type_table()
        self.rest()
        step = self.session.selection.step
        typed = TypedTable(("a", "b"), (("1", "x"),))
        self.session.change_settings(step, SourceSettings("typed", typed=typed), "test")
        self.session.save(self.folder / "f.trellis")
        self.window.files.open_flow(self.folder / "f.trellis")
        self.rest()
        self.assertEqual(self.rows(step), [(1, "x")])


class Calendars(SourcesCase):
    def test_a_calendar_is_added_and_changed_in_its_sentence(self):
        self.press(KEY.Key_D, modifier=CTRL | ALT | SHIFT)
        self.rest()
        step = self.session.selection.step
        year = today().year
        self.assertEqual(self.rows(step)[0][0], dt.date(year, 1, 1))
        self.assertIn(f"Calendar: a row for each day from {year}-01-01 to {year}-12-31", self.sentence)
        self.click(self.chip("First day"))
        self.enter(f"{year + 1}-01-01")
        self.assertIn("is before its first", QApplication.activePopupWidget().said.text())
        self.enter(f"{year - 1}-12-31")
        self.choose("Row", "month")
        self.assertEqual(len(self.rows(step)), 13)
        self.session.save(self.folder / "c.trellis")
        self.window.files.open_flow(self.folder / "c.trellis")
        self.rest()
        self.assertEqual(len(self.rows(step)), 13)
        self.assertIn("in the flow itself", [line.text for line in self.window.trellis.shown.files])


class Refreshing(SourcesCase):
    def test_a_month_later(self):
        path = self.open_demo(own=True)
        demo_data.next_month(path.parent)
        self.press(KEY.Key_F5)
        self.rest(lambda: self.session.refreshing.comparison is not None)
        view = self.window.bench.changes.view
        self.assertIs(self.window.bench._stack.currentWidget(), view)
        said = [row[2].strip(" …") for row in view.texts]
        self.assertIn("96 loans added", said)
        self.assertIn("14 loans gone", said)
        self.assertIn("61 loans changed: Back date in 61, Status in 61", said)
        self.assertIn("field Packed by is new", said)
        self.assertTrue(any("newly without a partner" in text for text in said))
        view.table.setCurrentCell(said.index("14 loans gone"), 0)
        self.press(KEY.Key_Return)
        self.assertEqual(self.window.bench.grid.lines.count, 14)
        self.assertIn("14 loans gone", self.window.bench.banner.said.text())
        self.press(KEY.Key_Escape)
        self.assertIs(self.window.bench._stack.currentWidget(), view)
        view.table.setCurrentCell(len(said) - 1, 0)
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.session.selection.step, "loan-report-xlsx")

    def test_the_comparison_survives_closing(self):
        path = self.open_demo(own=True)
        self.session.save(path)
        self.session.new()
        self.rest()
        demo_data.next_month(path.parent)
        self.window.files.open_flow(path)
        self.rest(lambda: self.session.refreshing.comparison is not None)
        self.assertIn("Shift+F5 shows what", self.window.status.shown.text())
        self.press(KEY.Key_F5, modifier=SHIFT)
        self.assertIn("96 loans added   …", [row[2] for row in self.window.bench.changes.view.texts])
        self.assertFalse(self.session.unsaved)

    def test_nothing_changed(self):
        self.open_demo(own=True)
        self.press(KEY.Key_F5)
        self.rest(lambda: self.session.refreshing.comparison is not None)
        self.assertIn("Nothing changed", self.window.bench.changes.view.title.text())

    def test_one_source_alone(self):
        path = self.open_demo(own=True)
        demo_data.next_month(path.parent)
        self.session.select(Selection(VENUES))
        self.press(KEY.Key_F5, modifier=CTRL)
        self.rest(lambda: self.session.refreshing.comparison is not None)
        changed = [
            source.step for source in self.session.refreshing.comparison.sources if not source.is_unchanged
        ]
        self.assertEqual(changed, [VENUES])

    def test_a_refresh_that_fails_keeps_the_last_good_rows_marked_as_old(self):
        path = self.open_demo(own=True)
        (path.parent / "registry.sqlite").unlink()
        self.press(KEY.Key_F5)
        self.rest(lambda: self.session.refreshing.comparison is not None)
        self.assertEqual(len(self.rows("objects")), 12_907)
        self.session.select(Selection("objects"))
        self.assertIn("These are the rows from before", self.sentence)
        source = next(s for s in self.session.refreshing.comparison.sources if s.step == "objects")
        self.assertIn("There is no such file", source.old)

    def test_a_source_that_is_lost_when_the_flow_is_opened_shows_its_rows_from_before(self):
        path = self.open_demo(own=True)
        self.session.save(path)
        self.session.new()
        self.rest()
        self.session.library.forget_all()
        (path.parent / "registry.sqlite").rename(path.parent / "moved.sqlite")
        self.window.files.open_flow(path)
        self.rest(lambda: self.session.refreshing.comparison is not None)
        self.assertEqual(len(self.rows("objects")), 12_907)
        self.session.select(Selection("objects"))
        self.assertIn("These are the rows from before", self.sentence)
        self.assertIn("12,907 · old", [head.count for head in self.window.trellis.shown.heads])
        self.click(self.chip("File"))
        self.enter_file(path.parent / "moved.sqlite")
        self.rest()
        self.assertNotIn("from before", self.sentence)

    def test_a_change_of_a_watched_file_is_offered_as_refresh(self):
        path = self.open_demo(own=True)
        self.assertTrue(self.window.sources.watching.on)
        with (path.parent / "loans-2026.xlsx").open("ab") as file:
            os.utime(file.fileno())
        self.rest(lambda: "F5 refreshes" in self.window.status.shown.text())
        self.assertIn("loans-2026.xlsx has changed", self.window.status.shown.text())
        self.window.sources.switch_watching()
        self.assertEqual(self.window.sources.watching._watcher.files(), [])


class Broken(SourcesCase):
    def registry(self):
        """A flow of a text file joined with another, both in one folder."""
        data = self.folder / "data"
        data.mkdir()
        (data / "loans.csv").write_text("no,object,value\nL1,A,10\nL2,B,20\nL3,C,30\n")
        (data / "objects.csv").write_text("code,title,keeper\nA,Bell,Ada\nB,Chart,Ben\nC,Jug,Cora\n")
        (data / "other.csv").write_text("x,y\n1,2\n")
        self.begin(data / "loans.csv")
        self.begin(data / "objects.csv")
        self.begin(data / "other.csv")
        self.window.combining.join(Selection("objects"), Selection("loans"))
        self.rest()
        self.press(KEY.Key_Return)
        self.rest()
        knot = self.session.selection.step
        from keen_trellis.session import editing

        editing.change_join(self.session, knot, "test", bring=("title", "keeper"))
        self.rest()
        return data, knot

    def test_a_renamed_field_breaks_only_what_uses_it_and_is_called_as_before(self):
        data, knot = self.registry()
        (data / "objects.csv").write_text("code,name,keeper\nA,Bell,Ada\nB,Chart,Ben\nC,Jug,Cora\n")
        self.press(KEY.Key_F5)
        self.rest(lambda: self.session.refreshing.comparison is not None)
        fields = next(s for s in self.session.refreshing.comparison.sources if s.step == "objects").fields
        self.assertEqual([str(change) for change in fields], ["title is called name now"])
        self.assertIn("no field “title”", str(self.session.outcome(knot).error))
        self.assertIsNone(self.session.outcome("other").error)
        self.session.select(Selection(knot))
        self.click(self.chip("Renamed"))
        self.assertEqual(self.lines()[0], "name")
        self.pick("name")
        self.rest()
        self.assertIsNone(self.session.outcome(knot).error)
        self.assertEqual(self.settings("objects").fields, (FieldSettings("name", rename="title"),))

    def test_a_field_that_is_gone_can_be_done_without(self):
        data, knot = self.registry()
        (data / "objects.csv").write_text("code,title\nA,Bell\nB,Chart\nC,Jug\n")
        self.press(KEY.Key_F5)
        self.rest(lambda: self.session.refreshing.comparison is not None)
        self.session.select(Selection(knot))
        self.click(self.chip("Without"))
        self.rest()
        self.assertIsNone(self.session.outcome(knot).error)
        self.assertNotIn("keeper", self.session.outcome(knot).result.rows.names)

    def test_a_field_that_has_another_type_now_is_read_as_before(self):
        data, knot = self.registry()
        (data / "objects.csv").write_text("code,title,keeper\n1,Bell,Ada\n2,Chart,Ben\n3,Jug,Cora\n")
        self.press(KEY.Key_F5)
        self.rest(lambda: self.session.refreshing.comparison is not None)
        self.assertIn("they can never be equal", str(self.session.outcome(knot).error))
        self.session.select(Selection(knot))
        found = [c for c in self.window.sentence.view.chips if c.chip.text == "read code as text"]
        self.click(found[0])
        self.rest()
        self.assertIsNone(self.session.outcome(knot).error)
        self.assertEqual(self.settings("objects").fields, (FieldSettings("code", type="text"),))

    def test_sources_that_moved_are_asked_for_once(self):
        data, knot = self.registry()
        moved = self.folder / "moved"
        shutil.move(data, moved)
        self.session.library.forget_all()
        self.session.compute_again()
        self.rest()
        self.session.select(Selection("loans"))
        self.click(self.chip("File"))
        self.enter_file(moved / "loans.csv")
        box = self.dialog(QMessageBox)
        self.assertIn("objects.csv and other.csv are there", box.text())
        self.answer("Use them")
        self.rest()
        self.assertEqual(
            {settings.path for settings in self.session.sources().values()},
            {str(p) for p in moved.iterdir()},
        )
        self.assertIsNone(self.session.outcome(knot).error)

    def test_a_source_that_lies_beside_the_flow_is_offered(self):
        data, _ = self.registry()
        self.session.save(self.folder / "f.trellis")
        shutil.move(data / "other.csv", self.folder / "other.csv")
        self.session.library.forget_all()
        self.session.compute_again()
        self.rest()
        self.session.select(Selection("other"))
        self.click(self.chip("Beside"))
        self.rest()
        self.assertEqual(self.settings("other").path, str(self.folder / "other.csv"))


class Servers(SourcesCase):
    def test_a_database_is_opened_by_address_and_asks_for_its_password(self):
        running = server()
        running.run(
            "DROP TABLE IF EXISTS shelves; CREATE TABLE shelves (shelf text PRIMARY KEY, size integer);"
        )
        running.run("INSERT INTO shelves VALUES ('A1', 3), ('A2', 4)")
        self.addCleanup(secrets.forget_all)
        secrets.forget_all()
        self.press(KEY.Key_O, modifier=CTRL | SHIFT)
        self.enter(running.address())
        self.rest()
        self.assertIn("asks for a password", self.sentence)
        self.click(self.chip("Password"))
        self.enter(PASSWORD)
        self.rest()
        self.session.select(Selection(path=running.address(), table="public.shelves"))
        self.rest()
        self.press(KEY.Key_B, modifier=CTRL)
        self.rest()
        step = self.session.selection.step
        self.assertEqual(self.rows(step), [("A1", 3), ("A2", 4)])
        self.assertEqual(self.session.outcome(step).result.rows.field("size").type, FieldType.INTEGER)
        self.session.save(self.folder / "f.trellis")
        self.assertNotIn(PASSWORD, (self.folder / "f.trellis").read_text())
        self.assertIn(f'"{running.address()}"', (self.folder / "f.trellis").read_text())

    def test_what_is_no_address_is_refused_where_it_is_typed(self):
        self.press(KEY.Key_O, modifier=CTRL | SHIFT)
        self.enter("/nowhere/at/all.csv")
        self.assertIn("no such file", QApplication.activePopupWidget().said.text())


class OtherSorts(SourcesCase):
    def test_places_of_columns_are_set_and_found_again(self):
        step = self.begin(
            self.text_file("0001PIER  20260101\n0002HALL  20260102\n0003QUAY  20260103\n", "packed.dat")
        )
        self.choose("Header", "No header: the first row is data")
        self.click(self.chip("Writing"))
        self.pick("Columns at fixed places …")
        self.enter("5, 1", KEY.Key_Return)
        self.assertIsInstance(QApplication.activePopupWidget(), Entry)  # it says that these are none
        self.press(KEY.Key_A, modifier=CTRL)
        self.enter("1, 5, 11", KEY.Key_Return)
        self.rest()
        self.assertEqual(self.rows(step)[1], ("0002", "HALL", 20260102))
        self.assertIn("3 columns at fixed places", self.sentence)
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(len(self.rows(step)[1]), 2)

    def test_the_lists_of_a_document_are_tables_that_are_linked(self):
        text = '[{"no": "L-1", "objects": [{"acc": 7}, {"acc": 8}]}, {"no": "L-2", "objects": [{"acc": 9}]}]'
        path = self.text_file(text, "loans.json")
        loans = self.begin(path, "loans")
        objects = self.begin(path, "objects")
        self.assertEqual(self.rows(objects), [(1, 7), (1, 8), (2, 9)])
        self.session.select(Selection(loans))
        self.press(KEY.Key_J, modifier=CTRL)
        self.type("objects")
        self.press(KEY.Key_Return)
        self.rest()
        self.press(KEY.Key_Return)
        self.rest()
        self.assertIn("Match row of Loans with row of loans of Objects", self.sentence)

    def test_files_that_are_picked_are_one_table(self):
        for name in ("may", "june", "july"):
            self.text_file(f"n,of\n1,{name}\n", f"{name}.csv")
        self.press(KEY.Key_F, modifier=CTRL | ALT | SHIFT)
        dialog = self.dialog(QFileDialog)
        dialog.filesSelected.emit([str(self.folder / "may.csv"), str(self.folder / "july.csv")])
        dialog.close()
        self.back_to_window()
        self.rest()
        path = str(self.folder / "{july.csv,may.csv}")
        self.assertIn(path, self.session.margin.paths())
        self.press(KEY.Key_B, modifier=CTRL)
        self.rest()
        self.assertEqual(self.rows(self.session.selection.step), [(1, "july"), (1, "may")])
        self.assertIn(f"2 files of {self.folder.name}", self.sentence)


if __name__ == "__main__":
    unittest.main()
