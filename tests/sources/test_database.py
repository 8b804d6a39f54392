import sqlite3
import threading
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library
from tests.tables import rows_of

T = FieldType


class Database(unittest.TestCase):
    def setUp(self):
        folder = TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "registry of objects.sqlite"
        self.base = sqlite3.connect(self.path, check_same_thread=False)
        self.addCleanup(self.base.close)

    def read(self, table: str):
        library = Library()
        return library.get(library.content(self.path).settings(table), Task())

    def test_tables_and_views_are_listed(self):
        self.base.executescript(
            'CREATE TABLE "odd ""name""" (a); CREATE TABLE b (c); CREATE VIEW v AS SELECT c FROM b;'
        )
        found = [(entry.name, entry.sort) for entry in Library().content(self.path).tables]
        self.assertEqual(sorted(found), [("b", "table"), ('odd "name"', "table"), ("v", "view")])

    def test_rows_come_in_the_order_of_the_primary_key(self):
        self.base.executescript(
            "CREATE TABLE t (k TEXT PRIMARY KEY, n INTEGER); INSERT INTO t VALUES ('b', 1), ('a', 2);"
        )
        self.base.commit()
        self.assertEqual(rows_of(self.read("t").table), [("a", 2), ("b", 1)])

    def test_odd_names(self):
        self.base.executescript(
            'CREATE TABLE "odd ""name""" ("select" INTEGER, "ä:b" TEXT);'
            'INSERT INTO "odd ""name""" VALUES (1, \'x\');'
        )
        table = self.read('odd "name"').table
        self.assertEqual((table.names, rows_of(table)), (("select", "ä:b"), [(1, "x")]))

    def test_types(self):
        self.base.execute("CREATE TABLE t (i INTEGER, r REAL, b BOOLEAN, d DATE, s TEXT, m, z TEXT)")
        self.base.execute(
            "INSERT INTO t VALUES (9007199254740993, 1.0, 1, '2026-01-02', '2026-01-02 03:04:05', 1, '007')"
        )
        self.base.execute("INSERT INTO t VALUES (NULL, 2.0, 0, NULL, NULL, 'x', '12')")
        self.base.commit()
        snapshot = self.read("t")
        kinds = [field.type for field in snapshot.table.fields]
        self.assertEqual(kinds, [T.INTEGER, T.REAL, T.BOOLEAN, T.DATE, T.TIMESTAMP, T.TEXT, T.TEXT])
        self.assertEqual(rows_of(snapshot.table)[0][0], 9007199254740993)
        self.assertIn("m: cells of several kinds", " ".join(map(str, snapshot.remarks)))

    def test_binary_fields_are_left_out_and_said(self):
        self.base.execute("CREATE TABLE t (a INTEGER, picture BLOB)")
        self.base.execute("INSERT INTO t VALUES (1, x'00ff')")
        self.base.commit()
        snapshot = self.read("t")
        self.assertEqual(snapshot.table.names, ("a",))
        self.assertIn("picture: holds binary data", str(snapshot.remarks[0]))

    def test_an_empty_table_keeps_its_fields(self):
        self.base.execute("CREATE TABLE t (a INTEGER, b TEXT)")
        table = self.read("t").table
        self.assertEqual((table.names, table.rows), (("a", "b"), 0))

    def test_an_unknown_table_is_named_with_what_is_there(self):
        self.base.execute("CREATE TABLE here (a)")
        with self.assertRaisesRegex(SourceError, "no table “gone”.*“here”"):
            self.read("gone")

    def test_rows_that_go_through_files_are_the_same(self):
        self.base.execute("CREATE TABLE t (k INTEGER PRIMARY KEY, s TEXT, m, d TEXT, r REAL)")
        kinds = (1, 2.5, "x", None)
        rows = [(n, f"L-{n}", kinds[n % 4], "2026-11-23", n / 2) for n in range(300)]
        self.base.executemany("INSERT INTO t VALUES (?, ?, ?, ?, ?)", rows)
        self.base.commit()
        whole = self.read("t")
        with (
            mock.patch("keen_trellis.sources.cell_columns.SPILLED_BYTES", 500),
            mock.patch("keen_trellis.sources.database._BATCH_ROWS", 7),
            TemporaryDirectory() as cache,
        ):
            library = Library(Cache(Path(cache)))
            parts = library.get(library.content(self.path).settings("t"), Task())
            self.assertEqual(rows_of(parts.table), rows_of(whole.table))
            self.assertEqual([f.type for f in parts.table.fields], [f.type for f in whole.table.fields])
            self.assertEqual(parts.remarks, whole.remarks)
            left = list(Path(cache).rglob("*.cells"))
        self.assertEqual(left, [])

    def test_a_locked_database_says_so(self):
        self.base.executescript("CREATE TABLE t (a);")
        self.base.execute("BEGIN EXCLUSIVE")
        with self.assertRaisesRegex(SourceError, "locked the database"):
            self.read("t")

    def test_a_damaged_database(self):
        self.base.execute("CREATE TABLE t (a)")
        self.base.executemany("INSERT INTO t VALUES (?)", [("x" * 200,)] * 500)
        self.base.commit()
        self.base.close()
        content = self.path.read_bytes()
        self.path.write_bytes(content[: len(content) // 2])
        with self.assertRaisesRegex(SourceError, "damaged or cut off"):
            self.read("t")

    def test_what_is_read_is_of_one_moment_while_another_writes(self):
        self.base.execute("PRAGMA journal_mode = WAL")
        self.base.execute("CREATE TABLE t (n INTEGER PRIMARY KEY, generation INTEGER)")
        self.base.executemany("INSERT INTO t VALUES (?, 0)", [(n,) for n in range(60_000)])
        self.base.commit()
        writing, stop = threading.Event(), threading.Event()

        def write():
            generation = 0
            while not stop.is_set():
                generation += 1
                self.base.execute("UPDATE t SET generation = ?", (generation,))
                self.base.commit()
                writing.set()

        writer = threading.Thread(target=write)
        writer.start()
        try:
            writing.wait(10)
            generations = [
                set(self.read("t").table.column("generation").values.to_pylist()) for _ in range(3)
            ]
        finally:
            stop.set()
            writer.join()
        for seen in generations:
            self.assertEqual(len(seen), 1)

    def test_the_file_is_never_changed(self):
        self.base.executescript("CREATE TABLE t (a); INSERT INTO t VALUES (1);")
        self.base.close()
        before = self.path.read_bytes()
        self.read("t")
        self.assertEqual(self.path.read_bytes(), before)
        self.assertEqual([entry.name for entry in self.path.parent.iterdir()], [self.path.name])


if __name__ == "__main__":
    unittest.main()
