"""What is set for a source and its reader does not use is refused, and not passed over."""

import sqlite3
import unittest
from contextlib import closing

import msgspec
import xlsxwriter
from pyarrow import csv, feather, parquet

from keen_trellis.core.errors import FlowFileError, SourceError
from keen_trellis.core.task import Task
from keen_trellis.flow.source_settings import (
    CalendarSettings,
    Dialect,
    FieldSettings,
    Gathering,
    Layout,
    Sampling,
    SourceSettings,
    TypedTable,
    Writing,
)
from keen_trellis.sources.readers import READERS
from tests.sources.source_case import SourceCase

# One value for each member that can be set, other than what it is where nothing is set.
_SET = {
    "query": {"query": "SELECT 1 AS x"},
    "layout.header": {"layout": Layout(header=1)},
    "layout.header_rows": {"layout": Layout(header_rows=1)},
    "layout.first": {"layout": Layout(first=2)},
    "layout.last": {"layout": Layout(last=3)},
    "layout.columns": {"layout": Layout(columns="A:A")},
    "dialect.encoding": {"dialect": Dialect(encoding="utf-8")},
    "dialect.delimiter": {"dialect": Dialect(delimiter=",")},
    "dialect.quote": {"dialect": Dialect(quote='"')},
    "dialect.comment": {"dialect": Dialect(comment="#")},
    "dialect.begins": {"dialect": Dialect(begins=(1, 3))},
    "writing.decimal": {"writing": Writing(decimal=".")},
    "writing.dates": {"writing": Writing(dates="day")},
    "writing.blanks": {"writing": Writing(blanks=("none",))},
    "gathering.which": {"gathering": Gathering(which="newest")},
    "gathering.name_field": {"gathering": Gathering(name_field="file")},
    "gathering.date_field": {"gathering": Gathering(date_field="day")},
    "typed.names": {"typed": TypedTable(names=("x", "y"), rows=(("1", "2"),))},
    "typed.rows": {"typed": TypedTable(names=("x", "y"), rows=(("1", "2"),))},
    "calendar.first": {"calendar": CalendarSettings("2026-01-01", "2026-02-01")},
    "calendar.last": {"calendar": CalendarSettings("2026-01-01", "2026-02-01")},
    "calendar.by": {"calendar": CalendarSettings("2026-01-01", "2026-02-01", "week")},
    "sample.by": {"sample": Sampling("x", 5)},
    "sample.parts": {"sample": Sampling("x", 5)},
}
_READ_HERE = ("text.csv", "texts", "base.sqlite")


class Settings(SourceCase):
    def setUp(self):
        super().setUp()
        text = self.put("text.csv", "x,y\n1,2\n3,4\n")
        rows = csv.read_csv(text)
        parquet.write_table(rows, self.folder / "columns.parquet")
        feather.write_feather(rows, self.folder / "columns.arrow")
        self.put("lines.jsonl", '{"x": 1, "y": 2}\n{"x": 3, "y": 4}\n')
        self.put("list.json", '[{"x": 1, "y": 2}, {"x": 3, "y": 4}]')
        self.put("list.xml", "<rows><row><x>1</x></row><row><x>3</x></row></rows>")
        for place in ("book.xlsx", "books/book.xlsx"):
            (self.folder / place).parent.mkdir(exist_ok=True)
            with xlsxwriter.Workbook(self.folder / place) as book:
                sheet = book.add_worksheet("S")
                for number, row in enumerate((("x", "y"), (1, 2), (3, 4))):
                    sheet.write_row(number, 0, row)
        (self.folder / "texts").mkdir()
        self.put("texts/text.csv", "x,y\n1,2\n3,4\n")
        self.database("base.sqlite")
        self.sources = [
            SourceSettings(reader, str(self.folder / place), table)
            for reader, place, table in (
                ("text", "text.csv", ""),
                ("columns", "columns.parquet", ""),
                ("columns", "columns.arrow", ""),
                ("json-lines", "lines.jsonl", ""),
                ("json", "list.json", ""),
                ("xml", "list.xml", ""),
                ("workbook", "book.xlsx", "S"),
                ("folder", "books", "S"),
                ("folder", "texts", ""),
                ("sqlite", "base.sqlite", "t"),
            )
        ]
        self.sources.append(SourceSettings("typed", typed=TypedTable(("x", "y"), (("1", "2"),))))
        self.sources.append(SourceSettings("calendar", calendar=CalendarSettings("2026-01-01", "2026-02-01")))

    def database(self, name):
        with closing(sqlite3.connect(self.folder / name)) as base:
            base.execute("CREATE TABLE t (x INTEGER, y INTEGER)")
            base.executemany("INSERT INTO t VALUES (?, ?)", [(1, 2), (3, 4)])
            base.commit()

    def test_every_member_is_tried(self):
        parts = ("layout", "dialect", "writing", "gathering", "typed", "calendar", "sample")
        plain = SourceSettings("text")
        members = {f"{part}.{member}" for part in parts for member in getattr(plain, part).__struct_fields__}
        self.assertEqual(set(_SET), members | {"query"})
        known = set().union(*(reader.uses for reader in READERS.values()))
        self.assertEqual(known, set(_SET))

    def test_what_a_reader_does_not_use_is_refused_by_its_name(self):
        seen = set()
        for source in self.sources:
            uses = set(READERS[source.reader].uses)
            if source.path.endswith("texts"):
                uses.discard("layout.columns")
            if source.path.endswith("books"):
                uses -= {member for member in _SET if member.startswith("dialect.")}
            for member, changes in _SET.items():
                with self.subTest(source.path or source.reader, member=member):
                    changed = msgspec.structs.replace(source, **changes)
                    if member in uses:
                        if source.path.endswith(_READ_HERE):  # others take a process for each
                            self.assertGreater(self.library.get(changed, Task()).table.rows, 0)
                        continue
                    seen.add(source.reader)
                    with self.assertRaises(SourceError) as raised:
                        self.library.get(changed, Task())
                    self.assertIn(f"“{member}”", str(raised.exception))
                    self.assertIn("does not use", str(raised.exception))
        self.assertGreaterEqual(
            seen,
            {
                "text",
                "columns",
                "json-lines",
                "json",
                "xml",
                "workbook",
                "folder",
                "sqlite",
                "typed",
                "calendar",
            },
        )

    def test_a_field_that_is_given_a_type_is_read_as_it_is_written(self):
        source = self.sources[1]
        fields = (FieldSettings("x", type="text"),)
        changed = msgspec.structs.replace(source, writing=Writing(decimal=","), fields=fields)
        self.assertEqual(self.library.get(changed, Task()).table.rows, 2)

    def test_which_files_of_a_folder_is_one_of_two_words(self):
        changed = msgspec.structs.replace(self.sources[6], gathering=Gathering(which="oldest"))
        with self.assertRaisesRegex(FlowFileError, "“oldest”"):
            self.library.get(changed, Task())


if __name__ == "__main__":
    unittest.main()
