"""Text whose columns stand at fixed places: found out, set, and told apart from other text."""

import datetime as dt

from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import FlowFileError, UsageError
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.flow.patterns import picked_together
from keen_trellis.flow.source_settings import Dialect, Layout
from keen_trellis.sources.fixed_width import places_in
from tests.sources.source_case import SourceCase
from tests.tables import rows_of

LOANS = (
    "Loan    Venue           Out date    Value\n"
    "L-0001  Pier Gallery    2026-01-02    120\n"
    "L-0002  Old Customs, H  2026-01-03   1200\n"
    "L-0003                  2026-01-05     90\n"
    "\n"
    "L-0004  Æbelø House     2026-01-09  12000\n"
)
PACKED = "0001PIER  20260101\r\n0002HALL  20260102\r\n0003QUAY  20260103\r\n"


class FixedWidth(SourceCase):
    def test_its_columns_are_found_with_header_and_types(self):
        for encoding in ("utf-8", "utf-8-sig", "utf-16"):
            with self.subTest(encoding):
                found = self.read(self.put(f"{encoding}.txt", LOANS.encode(encoding)))
                self.assertEqual(found.table.names, ("Loan", "Venue", "Out date", "Value"))
                rows = rows_of(found.table)
                self.assertEqual(rows[1], ("L-0002", "Old Customs, H", dt.date(2026, 1, 3), 1200))
                self.assertEqual(rows[2], ("L-0003", None, dt.date(2026, 1, 5), 90))
                self.assertEqual(rows[3][1], "Æbelø House")
                self.assertEqual(found.settled.dialect.begins, (1, 9, 25, 37))
                self.assertEqual(found.settled.dialect.delimiter, "")
                self.assertEqual(str(found.table.origins(3)[0]).rpartition(", ")[2], "row 6")

    def test_where_no_space_tells_it_is_set(self):
        path = self.put("packed.dat", PACKED)
        self.assertEqual(len(self.read(path).table.fields), 2)
        dialect = Dialect(begins=(1, 5, 11))
        found = self.read(path, dialect=dialect, layout=Layout(header=0))
        self.assertEqual(
            rows_of(found.table),
            [("0001", "PIER", 20260101), ("0002", "HALL", 20260102), ("0003", "QUAY", 20260103)],
        )

    def test_other_text_is_read_as_before(self):
        for text, fields in (
            ("a,b\n1,2  3\n4,5  6\n", 2),
            ("name\nAbel Olm\nBora Lind\nCora Venn\n", 1),
            ("a\tb\n1  \t2\n3  \t4\n", 2),
            ("a  b\n1  2\n", 1),  # two lines tell nothing
        ):
            with self.subTest(text):
                self.assertEqual(places_in(text) if "," not in text else (), ())
                found = self.read(self.put(f"{len(text)}{fields}.txt", text))
                self.assertEqual((len(found.table.fields), found.settled.dialect.begins), (fields, ()))

    def test_what_cannot_be_so(self):
        path = self.put("t.txt", LOANS)
        for dialect, said in (
            (Dialect(begins=(5, 3)), "columns begin at 5, 3"),
            (Dialect(begins=(0, 3)), "columns begin at 0, 3"),
            (Dialect(begins=(1, 3), delimiter=","), "stand at fixed places, and have a delimiter"),
        ):
            with self.assertRaisesRegex(FlowFileError, said):
                self.read(path, dialect=dialect)
        self.refused(
            self.put("u.txt", LOANS.replace("Pier", "Pi\x1fr")),
            "unit separator",
            dialect=Dialect(begins=(1, 9)),
        )

    def test_a_folder_of_such_files_is_one_table(self):
        for month in (1, 2):
            self.put(f"logs/2026-0{month}.txt", LOANS.replace("2026-01", f"2026-0{month}"))
        found = self.read(self.folder / "logs")
        self.assertEqual((found.table.rows, len(found.table.fields)), (8, 4))

    @given(
        st.lists(
            st.tuples(*[st.text(st.sampled_from("abcÆ,;'\"xyz"), min_size=1, max_size=5)] * 3),
            min_size=4,
            max_size=9,
        )
    )
    def test_what_stands_in_columns_is_read_back(self, rows):
        text = "".join("".join(cell.ljust(8) for cell in row).rstrip() + "\n" for row in rows)
        path = self.folder / "t.txt"
        path.write_text(text)
        self.library.forget_all()
        settings = self.settings(path, dialect=Dialect(begins=(1, 9, 17)), layout=Layout(header=0))
        found = self.library.get(settings, Task()).table
        self.assertEqual(rows_of(found), rows)
        self.assertTrue(all(field.type is FieldType.TEXT for field in found.fields))


class PickedByHand(SourceCase):
    def setUp(self):
        super().setUp()
        for name, cell in (("may", 1), ("june", 2), ("july", 3)):
            self.put(f"logs/{name}.csv", f"n,of\n{cell},{name}\n")

    def picked(self, *names):
        return picked_together([str(self.folder / "logs" / name) for name in names])

    def test_those_that_were_picked_are_one_table(self):
        place = self.picked("may.csv", "july.csv")
        found = self.read(place)
        self.assertEqual(rows_of(found.table), [(3, "july"), (1, "may")])
        self.assertEqual(self.library.content(place).tables[0].name, "logs")
        self.assertEqual(self.settings(place).file_name, "2 files of logs")
        self.assertEqual(str(found.table.origins(1)[0]), "may.csv, row 2")

    def test_one_that_is_gone_is_named(self):
        place = self.picked("may.csv", "july.csv")
        settings = self.settings(place)
        (self.folder / "logs" / "may.csv").unlink()
        with self.assertRaisesRegex(
            Exception, "There is no file may.csv, which is one of those that were picked"
        ):
            self.library.get(settings, Task())

    def test_from_several_folders_and_with_signs(self):
        self.put("more/x.csv", "n,of\n4,x\n")
        place = self.picked("may.csv", "../more/x.csv")
        self.assertEqual(self.read(place).table.rows, 2)
        self.assertEqual(self.read(self.folder / "logs/{ma*,jul?}.csv").table.rows, 2)
        self.assertEqual(self.picked("may.csv"), str(self.folder / "logs/may.csv"))
        for name in ("a,b.csv", "a{b.csv", "a*.csv"):
            with self.assertRaisesRegex(UsageError, "cannot be picked with others"):
                self.picked("may.csv", name)
