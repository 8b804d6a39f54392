"""What lies in a file is looked for once, as long as nobody touches the file."""

import os
import sqlite3
import unittest
from contextlib import closing

from keen_trellis.sources.listings import Listings
from tests.sources.source_case import SourceCase


class Remembered(SourceCase):
    def setUp(self):
        super().setUp()
        self.listings, self.looked = Listings(), 0

    def look(self):
        self.looked += 1
        return self.looked

    def old(self, path, seconds=10):
        """As if the file had been left alone for a while."""
        found = path.stat()
        os.utime(path, ns=(found.st_atime_ns, found.st_mtime_ns - seconds * 10**9))
        return path

    def test_a_file_that_stays_is_looked_into_once(self):
        path = self.old(self.put("a.csv", "a\n1\n"))
        self.assertEqual([self.listings.found("a", [path], self.look) for _ in range(3)], [1, 1, 1])
        self.assertEqual(self.listings.found("b", [path], self.look), 2)
        self.old(path)
        self.assertEqual(self.listings.found("a", [path], self.look), 3)

    def test_what_was_written_just_now_is_looked_into_again(self):
        path = self.put("a.csv", "a\n1\n")
        os.utime(path, ns=(2**62, 2**62))
        self.assertEqual([self.listings.found("a", [path], self.look) for _ in range(2)], [1, 2])

    def test_servers_typed_tables_and_files_that_are_gone_are_always_looked_into(self):
        for files in (None, [], [self.folder / "none.csv"]):
            self.assertNotEqual(
                self.listings.found("a", files, self.look), self.listings.found("a", files, self.look)
            )


class InTheLibrary(Remembered):
    def test_a_database_that_gained_a_table_shows_it(self):
        path = self.folder / "a.sqlite"
        with closing(sqlite3.connect(path)) as base:
            base.execute("create table loans (no)")
        self.old(path)
        before = self.library.content(path)
        self.assertIs(self.library.content(path), before)
        with closing(sqlite3.connect(path)) as base:
            base.execute("create table venues (no)")
        self.assertEqual([entry.name for entry in self.library.content(path).tables], ["loans", "venues"])


if __name__ == "__main__":
    unittest.main()
