import datetime as dt
import os
import threading
import time
import unittest
import zipfile
from pathlib import Path
from tempfile import TemporaryDirectory

import openpyxl
import xlsxwriter
import xlwt
from msoffcrypto.format.ooxml import OOXMLFile
from odf.opendocument import OpenDocumentSpreadsheet
from odf.table import Table as OdfTable
from odf.table import TableCell, TableRow
from odf.text import P

from keen_trellis.core.errors import Cancelled, SourceError
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.sources.library import Library
from tests.sources.xlsb import write_xlsb
from tests.tables import rows_of


class WorkbookCase(unittest.TestCase):
    def setUp(self):
        folder = TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def write(self, name: str = "book.xlsx", **sheets: list[list]) -> Path:
        path = self.folder / name
        book = openpyxl.Workbook()
        book.remove(book.active)
        for title, rows in sheets.items():
            sheet = book.create_sheet(title)
            for row in rows:
                sheet.append(row)
        book.save(path)
        return path

    def read(self, path: Path, table: str = ""):
        library = Library()
        content = library.content(path)
        return library.get(content.settings(table or content.tables[0].name), Task())

    def refused(self, path: Path, words: str):
        with self.assertRaisesRegex(SourceError, words) as caught:
            self.read(path)
        self.assertIn(str(path), str(caught.exception))
        self.assertTrue(caught.exception.remedy)


class Reading(WorkbookCase):
    def test_types_are_found_over_all_rows(self):
        header = ["code", "count", "share", "on", "at", "yes", "empty"]
        rows = [
            ["007", n, n / 2, dt.date(2026, 1, 1), dt.datetime(2026, 1, 1, 8, n % 60), True, None]
            for n in range(300)
        ]
        rows[299][1] = 2.5
        snapshot = self.read(self.write(S=[header, *rows]))
        kinds = [field.type for field in snapshot.table.fields]
        T = FieldType
        self.assertEqual(kinds, [T.TEXT, T.REAL, T.REAL, T.DATE, T.TIMESTAMP, T.BOOLEAN, T.TEXT])
        self.assertEqual(rows_of(snapshot.table)[7][:2], ("007", 7.0))

    def test_whole_numbers_are_integers_and_keep_their_value(self):
        table = self.read(self.write(S=[["n"], [2**53], [-1], [0]])).table
        self.assertEqual(table.fields[0].type, FieldType.INTEGER)
        self.assertEqual(rows_of(table), [(2**53,), (-1,), (0,)])

    def test_the_header_is_found_below_a_title_and_rows_know_their_numbers(self):
        sheet = [["A list of venues"], [], ["Venue", "Region"], ["Pier", "North"], [], ["Mill", "South"], []]
        snapshot = self.read(self.write(S=sheet))
        self.assertEqual(snapshot.table.names, ("Venue", "Region"))
        self.assertEqual(rows_of(snapshot.table), [("Pier", "North"), ("Mill", "South")])
        self.assertEqual([snapshot.table.origins(n)[0].row for n in (0, 1)], [4, 6])
        said = " ".join(map(str, snapshot.remarks))
        self.assertIn("row 3, below “A list of venues”", said)
        self.assertIn("1 blank row among the data", said)

    def test_a_table_that_begins_in_the_middle_of_the_sheet(self):
        path = self.folder / "offset.xlsx"
        with xlsxwriter.Workbook(path) as book:
            sheet = book.add_worksheet()
            for row, cells in enumerate([["a", "b"], [1, 2], [3, 4]]):
                sheet.write_row(row + 4, 2, cells)
        table = self.read(path).table
        self.assertEqual((table.names, rows_of(table)), (("a", "b"), [(1, 2), (3, 4)]))
        self.assertEqual(table.origins(0)[0].row, 6)

    def test_mixed_cells_become_text_and_are_counted_by_kind(self):
        sheet = [["m"], ["x"], [7], [7.5], [dt.date(2026, 1, 2)], [True]]
        snapshot = self.read(self.write(S=sheet))
        self.assertEqual(rows_of(snapshot.table), [("x",), ("7",), ("7.5",), ("2026-01-02",), ("true",)])
        remark = next(remark for remark in snapshot.remarks if remark.doubtful)
        self.assertEqual(remark.field, "m")
        self.assertIn("2 numbers", remark.text)

    def test_numbers_kept_as_text_are_doubtful(self):
        snapshot = self.read(self.write(S=[["code"], ["12"], ["345"]]))
        self.assertEqual(snapshot.table.fields[0].type, FieldType.TEXT)
        self.assertTrue(any(remark.doubtful and remark.field == "code" for remark in snapshot.remarks))

    def test_blank_and_repeated_headers_are_repaired_and_said(self):
        snapshot = self.read(self.write(S=[["a", None, "a"], ["x", "y", "z"], ["x", "y", "z"]]))
        self.assertEqual(snapshot.table.names, ("a", "field 2", "a 2"))
        self.assertEqual({remark.field for remark in snapshot.remarks}, {"field 2", "a 2"})

    def test_a_sheet_without_header_gets_numbered_fields(self):
        snapshot = self.read(self.write(S=[[1, 2], [3, 4]]))
        self.assertEqual(snapshot.table.names, ("field 1", "field 2"))
        self.assertEqual(rows_of(snapshot.table), [(1, 2), (3, 4)])

    def test_a_header_without_rows(self):
        table = self.read(self.write(S=[["a", "b"]])).table
        self.assertEqual((table.rows, table.names), (0, ("a", "b")))

    def test_every_sheet_is_listed_in_order(self):
        content = Library().content(self.write(Z=[["a"], ["x"]], A=[["b"], ["y"]]))
        self.assertEqual(
            [(entry.name, entry.sort) for entry in content.tables], [("Z", "sheet"), ("A", "sheet")]
        )

    def test_xls(self):
        book = xlwt.Workbook()
        sheet = book.add_sheet("Old")
        for row, cells in enumerate([["code", "n"], ["01", 2], ["02", 3.5]]):
            for column, cell in enumerate(cells):
                sheet.write(row, column, cell)
        book.save(str(self.folder / "old.xls"))
        table = self.read(self.folder / "old.xls").table
        self.assertEqual(rows_of(table), [("01", 2.0), ("02", 3.5)])

    def test_xlsb(self):
        path = self.folder / "binary.xlsb"
        write_xlsb(
            path, [("About", [["nothing"]]), ("Trips", [["venue", "n"], ["Pier", 1.0], ["Mill", 2.5]])]
        )
        library = Library()
        content = library.content(path)
        self.assertEqual([entry.name for entry in content.tables], ["About", "Trips"])
        table = library.get(content.settings("Trips"), Task()).table
        self.assertEqual(rows_of(table), [("Pier", 1.0), ("Mill", 2.5)])

    def test_ods(self):
        book = OpenDocumentSpreadsheet()
        sheet = OdfTable(name="Visits")
        for row in (["venue", "n"], ["Pier", 3]):
            line = TableRow()
            for value in row:
                kind = (
                    {"valuetype": "float", "value": value}
                    if isinstance(value, int)
                    else {"valuetype": "string"}
                )
                cell = TableCell(**kind)
                cell.addElement(P(text=str(value)))
                line.addElement(cell)
            sheet.addElement(line)
        book.spreadsheet.addElement(sheet)
        book.save(str(self.folder / "v.ods"))
        self.assertEqual(rows_of(self.read(self.folder / "v.ods").table), [("Pier", 3)])


class Trouble(WorkbookCase):
    def test_a_missing_file(self):
        self.refused(self.folder / "gone.xlsx", "no such file")

    def test_an_empty_file(self):
        (self.folder / "e.xlsx").touch()
        self.refused(self.folder / "e.xlsx", "The file is empty")

    def test_a_folder_with_the_name_of_a_file(self):
        (self.folder / "d.xlsx").mkdir()
        self.refused(self.folder / "d.xlsx", "a folder")

    def test_a_pipe(self):
        os.mkfifo(self.folder / "p.csv")
        self.refused(self.folder / "p.csv", "not an ordinary file")

    def test_an_empty_sheet(self):
        self.refused(self.write(S=[]), "The sheet “S” is empty")

    def test_cut_off_anywhere_it_is_refused_and_never_half_read(self):
        content = self.write(S=[["a", "b"], *([n, f"text {n}"] for n in range(2_000))]).read_bytes()
        for share in (0.05, 0.5, 0.9, 0.999):
            path = self.folder / f"cut{share}.xlsx"
            path.write_bytes(content[: int(len(content) * share)])
            self.refused(path, "damaged or cut off")

    def test_damaged_inside(self):
        path = self.write(S=[["a", "b"], *([n, f"text {n}"] for n in range(500))])
        content = bytearray(path.read_bytes())
        with zipfile.ZipFile(path) as archive:
            start = archive.getinfo("xl/worksheets/sheet1.xml").header_offset + 200
        for position in range(start, start + 800):
            content[position] ^= 0x5A
        path.write_bytes(content)
        self.refused(path, "damaged: its part xl/worksheets/sheet1.xml is not as it was written")

    def test_protected_by_a_password(self):
        plain, secret = self.write(S=[["a"], ["x"]]), self.folder / "secret.xlsx"
        with plain.open("rb") as file, secret.open("wb") as target:
            OOXMLFile(file).encrypt("lantern", target)
        self.refused(secret, "protected by a password")

    def test_a_file_that_may_not_be_read(self):
        path = self.write(S=[["a"], ["x"]])
        path.chmod(0)
        if os.access(path, os.R_OK):
            self.skipTest("this user may read everything")
        self.refused(path, "may not be read")

    def test_text_that_is_called_a_workbook_is_read_as_text_and_said(self):
        path = self.folder / "export.xls"
        path.write_text("a;b\nx;1\ny;2\n")
        snapshot = self.read(path)
        self.assertEqual(rows_of(snapshot.table), [("x", 1), ("y", 2)])
        self.assertIn("its name says xls workbook, but it is delimited text", str(snapshot.remarks[0]))

    def test_a_web_page_that_is_called_a_workbook(self):
        path = self.folder / "page.xls"
        path.write_text("<html><table><tr><td>1</td></tr></table></html>")
        self.refused(path, "web page")

    def test_an_archive_is_no_workbook(self):
        with zipfile.ZipFile(self.folder / "a.xlsx", "w") as archive:
            archive.writestr("readme.txt", "x")
        self.refused(self.folder / "a.xlsx", "an archive")

    def test_an_unknown_sheet_is_named_with_what_is_there(self):
        library = Library()
        content = library.content(self.write(S=[["a"], ["x"]]))
        with self.assertRaisesRegex(SourceError, "no sheet “T”.*“S”"):
            library.get(content.settings("T"), Task())

    def test_reading_stops_soon_after_it_is_cancelled(self):
        path = self.folder / "large.xlsx"
        with xlsxwriter.Workbook(path, {"constant_memory": True}) as book:
            sheet = book.add_worksheet()
            for row in range(60_000):
                sheet.write_row(row, 0, [f"text {row}", row, row * 1.5, "more"])
        task = Task()
        library = Library()
        settings = library.content(path).settings("Sheet1")
        threading.Timer(0.4, task.cancel).start()
        started = time.monotonic()
        with self.assertRaises(Cancelled):
            library.get(settings, task)
        self.assertLess(time.monotonic() - started, 3.0)
        self.assertIsNone(library.known(settings))


if __name__ == "__main__":
    unittest.main()
