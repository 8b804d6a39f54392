"""What is kept in the cache folder, and what is cleaned up in it."""

import os
import subprocess
import sys
import time
import unittest
from unittest import mock

from keen_trellis.core.task import Task
from keen_trellis.sources.cache import LIMIT_NAME, Cache
from keen_trellis.sources.content import of_blocks
from keen_trellis.sources.library import Library
from tests.sources.source_case import SourceCase
from tests.tables import rows_of


class Cleaning(SourceCase):
    def text(self, number: int) -> str:
        path = self.folder / f"trips {number}.csv"
        path.write_text("loan,crates\n" + "".join(f"L-{row},{number}\n" for row in range(2_000)))
        os.utime(path, (1_700_000_000, 1_700_000_000))
        return str(path)

    def get(self, library: Library, number: int):
        return library.get(library.content(self.text(number)).settings(""), Task())

    def kept(self, cache: Cache) -> int:
        return len(list(cache.folder.glob("*.arrow")))

    def test_what_was_not_used_for_longest_goes_first(self):
        with mock.patch.dict(os.environ, {LIMIT_NAME: "250000"}):
            cache = Cache(self.folder / "small")
        first = self.get(Library(cache), 1)
        for number in (2, 3):
            self.get(Library(cache), number)
        for path in cache.folder.glob("*.json"):
            os.utime(path, (time.time() - 60, time.time() - 60))
        self.assertEqual(self.kept(cache), 3)
        again = self.get(Library(cache), 1)  # looked at, so that it stays
        self.get(Library(cache), 4)
        sizes = sum(path.stat().st_size for path in cache.folder.iterdir() if "seen" not in path.name)
        self.assertLessEqual(sizes, 250_000)
        self.assertIsNotNone(cache.find(again.content))
        # What is in use stays readable, whatever went.
        self.assertEqual(rows_of(first.table)[-1], ("L-1999", 1))

    def test_rooms_of_processes_that_are_gone_and_old_notes(self):
        cache = self.library.cache
        ended = subprocess.Popen([sys.executable, "-c", ""])
        ended.wait()
        self.get(self.library, 1)
        gone, living = (cache.folder / f"room-{process}-x" for process in (ended.pid, os.getpid()))
        for room in (gone, living):
            room.mkdir()
            (room / "rows.arrow").write_bytes(b"half")
        notes = sorted(cache.folder.glob("seen-*"))
        year_ago = time.time() - 365 * 24 * 3600
        os.utime(notes[0], (year_ago, year_ago))
        self.get(self.library, 2)
        self.assertFalse(gone.exists())
        self.assertTrue(living.exists())
        self.assertFalse(notes[0].exists())
        self.assertEqual(len(list(cache.folder.glob("seen-*"))), 1)


class Content(SourceCase):
    def test_an_interrupt_is_not_hidden_by_a_block_that_is_still_looked_at(self):
        seen = []

        def look(block: memoryview) -> None:
            seen.append(block[:3])  # as a thread would still have it that was left behind
            raise KeyboardInterrupt

        with self.assertRaises(KeyboardInterrupt):
            of_blocks(self.put("trips.csv", "loan,crates\n"), look, Task())
        self.assertEqual(bytes(seen[0]), b"loa")


if __name__ == "__main__":
    unittest.main()
