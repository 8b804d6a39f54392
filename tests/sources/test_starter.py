"""Children that read files are begun by one process, which has the libraries; each is one of its own."""

import os
import signal
import subprocess
import sys
import threading
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import xlsxwriter

from keen_trellis.core.errors import Cancelled, SourceError
from keen_trellis.core.task import Task
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.sources import child
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library
from tests.sources.source_case import SourceCase

_SHEETS = 6
_READING = """
import sys
from keen_trellis.core.task import Task
from keen_trellis.sources.library import Library, resolve
library = Library()
for table in ("few 0", "few 1", "many"):
    print(table, flush=True)
    library.get(resolve(f"{sys.argv[1]}#{table}", library).settings, Task())
"""


def below(process: int) -> list[int]:
    """The living processes that a process began, and those that these began."""
    found = []
    for place in Path("/proc").iterdir():
        with suppress(OSError, ValueError, IndexError):
            state, parent = (place / "stat").read_text().rpartition(")")[2].split()[:2]
            if int(parent) == process and state != "Z":
                found += [int(place.name), *below(int(place.name))]
    return found


def wait_until(holds, said):
    end = time.monotonic() + 30
    while not holds():
        if time.monotonic() > end:
            raise AssertionError(said)
        time.sleep(0.01)


class Starter(SourceCase):
    @classmethod
    def setUpClass(cls):
        place = TemporaryDirectory()
        cls.addClassCleanup(place.cleanup)
        cls.path = Path(place.name) / "book.xlsx"
        with xlsxwriter.Workbook(cls.path, {"constant_memory": True}) as book:
            for name, rows in [
                *((f"few {number}", number + 1) for number in range(_SHEETS)),
                ("many", 40_000),
            ]:
                sheet = book.add_worksheet(name)
                sheet.write_row(0, 0, ["n", "name"])
                for row in range(rows):
                    sheet.write_row(row + 1, 0, [row, f"Pier {row}"])

    def setUp(self):
        super().setUp()
        # One of its own, that others in this process have not begun.
        self.starter = child._Starter()
        self.addCleanup(self.starter._end)
        self.enterContext(mock.patch.object(child, "_STARTER", self.starter))

    def rows(self, table, task=None):
        library = Library(Cache(self.folder / f"cache of {table}"))
        return library.get(SourceSettings("workbook", str(self.path), table), task or Task()).table.rows

    def test_several_at_once_each_get_their_own_answer(self):
        with ThreadPoolExecutor(_SHEETS) as pool:
            found = list(pool.map(self.rows, [f"few {number}" for number in range(_SHEETS)]))
        self.assertEqual(found, [number + 1 for number in range(_SHEETS)])
        # Told to whoever asked, and gone.
        self.assertEqual(below(self.starter._process.pid), [])

    def test_one_that_was_ended_is_begun_again(self):
        self.assertEqual(self.rows("few 0"), 1)
        first = self.starter._process
        first.kill()
        first.wait()
        self.assertEqual(self.rows("few 1"), 2)
        self.assertNotEqual(self.starter._process.pid, first.pid)

    def test_one_that_ends_while_it_reads_is_an_error_and_the_next_reading_goes_on(self):
        self.rows("few 0")
        starter = self.starter._process

        def end():
            wait_until(lambda: below(starter.pid), "nothing reads")
            starter.kill()

        ending = threading.Thread(target=end)
        ending.start()
        with self.assertRaisesRegex(SourceError, "ended unexpectedly"):
            self.rows("many")
        ending.join()
        self.assertEqual(self.rows("few 2"), 3)

    def test_who_stops_waits_for_no_child(self):
        self.rows("few 0")
        for wait in (False, True):
            task = Task()

            def stop(task=task, wait=wait):
                if wait:
                    wait_until(lambda: below(self.starter._process.pid), "nothing reads")
                task.cancel()

            stopping = threading.Thread(target=stop)
            stopping.start()
            with self.assertRaises(Cancelled):
                self.rows("many", task)
            stopping.join()
            wait_until(lambda: not below(self.starter._process.pid), "it reads on")

    def test_all_end_with_the_program(self):
        process = subprocess.Popen(
            [sys.executable, "-c", _READING, self.path], stdout=subprocess.PIPE, text=True
        )
        with process.stdout:
            while process.stdout.readline().strip() != "many":
                pass
            wait_until(lambda: len(below(process.pid)) > 1, "nothing reads")
            mine = below(process.pid)
            process.send_signal(signal.SIGKILL)
            process.wait()
        alive = lambda number: Path(f"/proc/{number}").exists() and _state(number) != "Z"  # noqa: E731
        wait_until(lambda: not any(map(alive, mine)), "something reads on")

    def test_it_gets_no_password(self):
        secret = {"KEEN_TRELLIS_PASSWORD": "lantern", "PGPASSWORD": "lantern"}
        with mock.patch.dict(os.environ, secret):
            self.rows("few 0")
        self.assertNotIn(b"lantern", Path(f"/proc/{self.starter._process.pid}/environ").read_bytes())


def _state(process: int) -> str:
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0]
    except OSError:
        return "Z"


if __name__ == "__main__":
    unittest.main()
