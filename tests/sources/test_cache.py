"""What is kept in the cache folder, and what is cleaned up in it."""

import os
import random
import subprocess
import sys
import time
import unittest
from collections.abc import Iterator
from unittest import mock

import pyarrow as pa
from pyarrow import parquet

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.flow.temporary import mark
from keen_trellis.sources.cache import LIMIT_NAME, Cache
from keen_trellis.sources.content import of_blocks
from keen_trellis.sources.library import Library
from tests.sources.source_case import SourceCase, mark_of
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
        gone, living = (cache.folder / f"room-{start}x" for start in (mark_of(ended.pid, 1), mark()))
        for room in (gone, living):
            room.mkdir()
            (room / "rows.arrow").write_bytes(b"half")
        notes = sorted(cache.folder.glob("seen-*"))
        year_ago = time.time() - 365 * 24 * 3600
        os.utime(notes[0], (year_ago, year_ago))
        self.get(Library(Cache(self.folder / "cache")), 2)
        self.assertFalse(gone.exists())
        self.assertTrue(living.exists())
        self.assertFalse(notes[0].exists())
        self.assertEqual(len(list(cache.folder.glob("seen-*"))), 1)


class Content(SourceCase):
    def test_a_file_that_is_cut_short_while_it_is_looked_at(self):
        path = self.put("long.csv", b"x,y\n")
        os.truncate(path, 2**28)
        seen = []

        def look(pieces: Iterator[bytes]) -> None:
            for piece in pieces:
                if not seen:
                    os.truncate(path, 1_000)
                seen.append(len(piece))

        with self.assertRaisesRegex(SourceError, "being changed while it is read"):
            of_blocks(path, look, Task())

    def test_an_interrupt_is_not_hidden_by_a_block_that_is_still_looked_at(self):
        seen = []

        def look(pieces: Iterator[bytes]) -> None:
            seen.append(next(pieces)[:3])  # as a thread would still have it that was left behind
            raise KeyboardInterrupt

        with self.assertRaises(KeyboardInterrupt):
            of_blocks(self.put("trips.csv", "loan,crates\n"), look, Task())
        self.assertEqual(bytes(seen[0]), b"loa")


class Checked(SourceCase):
    def setUp(self):
        super().setUp()
        rows = [f"L-{row},{row},2026-01-{1 + row % 28:02d}" for row in range(2_000)]
        self.path = self.put("loans.csv", "loan,crates,day\n" + "\n".join(rows))
        self.key = self.read(self.path).content
        self.expected = rows_of(self.read(self.path).table)
        self.folder_of_rows = self.library.cache.folder

    def reopened(self):
        """As another process would find it."""
        return Library(Cache(self.folder / "cache"))

    def test_a_bit_that_is_not_as_it_was_written_is_seen_and_read_again_from_the_source(self):
        chance = random.Random(7)
        files = sorted(self.folder_of_rows.glob(f"{self.key}.*"))
        self.assertEqual(len(files), 2)
        for file in [*files, *self.folder_of_rows.glob("seen-*")] * 20:
            content = bytearray(file.read_bytes())
            content[chance.randrange(len(content))] ^= 1 << chance.randrange(8)
            file.write_bytes(content)
            library = self.reopened()
            self.assertIsNone(library.cache.find(self.key) if file in files else None)
            self.assertEqual(rows_of(library.get(self.settings(self.path), Task()).table), self.expected)

    def test_other_damage(self):
        rows, about = (self.folder_of_rows / f"{self.key}{end}" for end in (".arrow", ".json"))
        for damage in (
            lambda: rows.write_bytes(b""),
            lambda: os.truncate(rows, rows.stat().st_size // 2),
            lambda: about.write_bytes(b""),
            lambda: rows.unlink(),
            lambda: about.unlink(),
            lambda: about.write_text("{}"),
        ):
            damage()
            self.assertEqual(
                rows_of(self.reopened().get(self.settings(self.path), Task()).table), self.expected
            )

    def test_a_key_that_leads_elsewhere_finds_nothing(self):
        cache = self.library.cache
        for end in (".arrow", ".json"):
            (self.folder / f"x{end}").write_bytes((cache.folder / f"{self.key}{end}").read_bytes())
        self.assertIsNone(cache.find("../../x"))
        self.assertIsNotNone(cache.find(self.key))

    def test_the_limit_holds_while_a_table_is_read(self):
        bomb = self.folder / "bomb.parquet"
        table = pa.table({f"f{n}": pa.array(["x" * 1_000] * 100_000).dictionary_encode() for n in range(5)})
        parquet.write_table(table, bomb, row_group_size=5_000, compression="zstd")
        self.assertLess(bomb.stat().st_size, 500_000)
        with mock.patch.dict(os.environ, {LIMIT_NAME: str(40 * 2**20)}):
            library = self.reopened()
        largest = []
        task = Task(lambda *_: largest.append(sum(f.stat().st_size for f in library.cache.folder.rglob("*"))))
        with self.assertRaisesRegex(SourceError, "more than 0.0 GiB, which is all that the cache may hold"):
            library.get(library.content(bomb).settings(""), task)
        self.assertLess(max(largest), 250 * 2**20)
        self.assertEqual(list(library.cache.folder.glob("room-*")), [])


if __name__ == "__main__":
    unittest.main()
