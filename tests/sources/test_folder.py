import datetime as dt
import os
import unittest
from decimal import Decimal

import xlsxwriter

from keen_trellis.core.values import FieldType
from keen_trellis.flow.source_settings import NEWEST_FILE, FieldSettings, Gathering
from tests import demo_data
from tests.sources.source_case import SourceCase
from tests.tables import rows_of

T = FieldType


class Texts(SourceCase):
    def setUp(self):
        super().setUp()
        self.logs = self.folder / "logs"
        for month in (1, 2, 10):
            self.put(f"logs/part {month}.csv", f"venue,crates\nPier,{month}\nMill,2\n")

    def test_files_are_read_as_one_in_the_order_of_their_numbers(self):
        table = self.read(self.logs).table
        self.assertEqual([row[1] for row in rows_of(table)], [1, 2, 2, 2, 10, 2])
        origins = [str(table.origins(row)[0]) for row in (0, 3, 4)]
        self.assertEqual(origins, ["part 1.csv, row 2", "part 2.csv, row 3", "part 10.csv, row 2"])

    def test_fields_are_lined_up_by_name_and_what_differs_is_said(self):
        self.put("logs/part 3.csv", "crates,Venue ,note\n7,Tower,late\n")
        snapshot = self.read(self.logs)
        self.assertEqual(snapshot.table.names, ("venue", "crates", "note"))
        self.assertEqual(rows_of(snapshot.table)[4], ("Tower", 7, "late"))
        self.assertEqual(rows_of(snapshot.table)[0], ("Pier", 1, None))
        self.assertIn("part 3.csv has a field more: note", self.said(snapshot))
        self.put("logs/part 4.csv", "venue\nHall\n")
        self.library.take_anew()
        self.assertIn("part 4.csv lacks a field: crates", self.said(self.read(self.logs)))

    def test_types_are_found_over_all_files(self):
        for month, days in ((1, "01/02/2026"), (2, "31/01/2026"), (10, "03/04/2026")):
            self.put(
                f"logs/part {month}.csv", f"venue,on,cost\nPier,{days},{'£' if month == 2 else ''}1.50\n"
            )
        snapshot = self.read(self.logs)
        self.assertEqual([field.type for field in snapshot.table.fields], [T.TEXT, T.DATE, T.DECIMAL])
        self.assertEqual(rows_of(snapshot.table)[0][1:], (dt.date(2026, 2, 1), Decimal("1.50")))

    def test_name_and_date_of_the_file_as_fields(self):
        self.put("logs/2026-07.csv", "venue,crates\nPier,9\n")
        table = self.read(self.logs, gathering=Gathering(name_field="file", date_field="month")).table
        self.assertEqual(table.names, ("file", "month", "venue", "crates"))
        self.assertEqual(table.fields[1].type, T.DATE)
        self.assertIn(("2026-07.csv", dt.date(2026, 7, 1), "Pier", 9), rows_of(table))

    def test_a_field_of_the_files_that_is_called_so_too(self):
        self.put("other/a.csv", "file,n\nx,1\n")
        table = self.read(self.folder / "other", gathering=Gathering(name_field="file")).table
        self.assertEqual((table.names, rows_of(table)), (("file 2", "file", "n"), [("a.csv", "x", 1)]))

    def test_only_the_newest(self):
        for number, month in enumerate((10, 1, 2)):
            os.utime(self.logs / f"part {month}.csv", (number, number))
        snapshot = self.read(self.logs, gathering=Gathering(which=NEWEST_FILE))
        self.assertEqual([row[1] for row in rows_of(snapshot.table)], [2, 2])
        self.assertIn("part 2.csv is the newest of 3 files", self.said(snapshot))

    def test_a_pattern(self):
        self.put("logs/other.csv", "a,b\n1,2\n")
        self.assertEqual(self.read(self.logs / "part *.csv").table.rows, 6)

    def test_files_of_another_kind_are_named_and_left_out(self):
        self.put("logs/picture.bin", b"\x00\x01" * 50)
        self.put("logs/.hidden.csv", "x,y\n1,2\n")
        snapshot = self.read(self.logs)
        self.assertEqual(snapshot.table.rows, 6)
        self.assertIn("of another kind and not read: picture.bin", self.said(snapshot))

    def test_ragged_rows_are_said_with_their_file(self):
        self.put("logs/part 2.csv", "venue,crates\nPier,2,more\nMill\n")
        snapshot = self.read(self.logs)
        self.assertIn("part 2.csv: 1 row has fewer than 2 cells", self.said(snapshot))
        self.assertEqual(rows_of(snapshot.table)[2], ("Pier", 2, "more"))

    def test_a_type_set_for_all_files(self):
        table = self.read(self.logs, fields=(FieldSettings("crates", type="text"),)).table
        self.assertEqual([row[1] for row in rows_of(table)], ["1", "2", "2", "2", "10", "2"])

    def test_nothing_to_read(self):
        (self.folder / "empty").mkdir()
        self.refused(self.folder / "empty", "neither text files nor workbooks")
        self.refused(self.folder / "gone *.csv", "neither text files nor workbooks")

    def test_a_new_file_is_read_when_the_folder_is_read_again(self):
        settings = self.settings(self.logs)
        before = self.read(self.logs)
        self.put("logs/part 11.csv", "venue,crates\nPier,11\n")
        self.library.take_anew()
        self.assertIsNone(self.library.known(settings))
        self.assertEqual(self.read(self.logs).table.rows, before.table.rows + 1)


class Workbooks(SourceCase):
    def book(self, name, rows, sheet="Trips"):
        path = self.folder / "books" / name
        path.parent.mkdir(exist_ok=True)
        with xlsxwriter.Workbook(path) as book:
            book.add_worksheet("About").write(0, 0, "nothing")
            page = book.add_worksheet(sheet)
            for number, row in enumerate(rows):
                page.write_row(number, 0, row)
        return path

    def test_one_sheet_of_every_workbook(self):
        self.book("a 1.xlsx", [["venue", "n"], ["Pier", 1]])
        self.book("a 2.xlsx", [["A title", None], [None], ["venue", "n"], ["Mill", 2.5], ["Hall", 3]])
        snapshot = self.read(self.folder / "books", "Trips")
        self.assertEqual(rows_of(snapshot.table), [("Pier", 1.0), ("Mill", 2.5), ("Hall", 3.0)])
        self.assertEqual(str(snapshot.table.origins(1)[0]), "a 2.xlsx, Trips, row 4")
        self.assertIn("a 2.xlsx: the header is in row 3", self.said(snapshot))

    def test_a_field_of_another_type_in_one_of_them_becomes_text_and_is_said(self):
        self.book("1.xlsx", [["venue", "n"], ["Pier", 1]])
        self.book("2.xlsx", [["venue", "n"], ["Mill", "many"]])
        snapshot = self.read(self.folder / "books", "Trips")
        self.assertEqual(rows_of(snapshot.table), [("Pier", "1"), ("Mill", "many")])
        self.assertIn("n: cells of several kinds (1 numbers, 1 text)", self.said(snapshot))

    def test_a_workbook_without_the_sheet_is_named(self):
        self.book("1.xlsx", [["venue", "n"], ["Pier", 1]])
        self.book("2.xlsx", [["venue", "n"], ["Pier", 1]], sheet="Other")
        error = self.refused(self.folder / "books", "no sheet “Trips”", "Trips")
        self.assertIn("2.xlsx", error.where)


class Demo(SourceCase):
    def test_the_courier_logs_come_in_right_without_a_setting(self):
        snapshot = self.read(demo_data.folder() / "courier-logs")
        kinds = {field.name: field.type for field in snapshot.table.fields}
        self.assertEqual(
            kinds, {"venue": T.TEXT, "date": T.DATE, "crates": T.INTEGER, "cost": T.DECIMAL, "note": T.TEXT}
        )
        logs = demo_data.scenario().courier_logs
        self.assertEqual(snapshot.table.rows, sum(map(len, logs.values())))
        self.assertEqual(snapshot.table.column("cost").values.null_count, 0)
        said = self.said(snapshot)
        self.assertIn(f"{demo_data.scenario().planted.file_with_a_field_more} has a field more: note", said)
        self.assertEqual(sum(remark.doubtful for remark in snapshot.remarks), 1)


if __name__ == "__main__":
    unittest.main()
