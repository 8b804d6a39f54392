"""Damaged files by the thousand, and files that are not what they seem."""

import os
import resource
import subprocess
import sys
import threading
import time
import unittest
import zipfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from hypothesis import settings

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.sources.library import Library
from tests.sources.damage import KINDS
from tests.sources.source_case import SourceCase

_ROOT = Path(__file__).parents[2]


class Damaged(unittest.TestCase):
    """60 damaged files of each kind, 4,000 with --long: read or refused, in time and in memory."""

    def test_files_that_were_not_refused_once(self):
        # An archive of a later version, and a row larger than the memory that there is.
        for kind, number in (("xlsx", 3650), ("ods", 2074), ("sqlite", 3254)):
            words = [sys.executable, "-m", "tests.sources.damage", kind, "1", str(number)]
            done = subprocess.run(words, cwd=_ROOT, capture_output=True, text=True)
            self.assertEqual(done.returncode, 0, f"{kind}\n{done.stdout[-2000:]}")

    def test_every_kind(self):
        count = settings.default.max_examples

        def run(kind: str) -> tuple[str, subprocess.CompletedProcess]:
            words = [sys.executable, "-m", "tests.sources.damage", kind, str(count), "1"]
            return kind, subprocess.run(words, cwd=_ROOT, capture_output=True, text=True)

        with ThreadPoolExecutor(2) as pool:
            for kind, done in pool.map(run, KINDS):
                with self.subTest(kind):
                    last = done.stderr.strip().splitlines()[-1:] or ["none"]
                    self.assertEqual(
                        done.returncode, 0, f"{kind}, last file {last[0]}\n{done.stdout[-2000:]}"
                    )


class NotWhatTheySeem(SourceCase):
    def test_a_zip_bomb(self):
        path = self.folder / "bomb.xlsx"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("xl/workbook.xml", "<workbook/>")
            with archive.open("xl/worksheets/sheet1.xml", "w", force_zip64=True) as part:
                block = b" " * 2**26
                for _ in range(140):
                    part.write(block)
        self.refused(path, "would unpack to 9 GiB")

    def test_a_pipe_a_device_and_a_folder(self):
        os.mkfifo(self.folder / "pipe.csv")
        self.refused(self.folder / "pipe.csv", "no ordinary file")
        self.refused("/dev/zero", "no ordinary file")
        (self.folder / "folder.csv").mkdir()
        self.refused(self.folder / "folder.csv", "It is a folder")

    def test_a_path_that_is_too_long_or_leads_nowhere(self):
        self.refused(self.folder / ("x" * 300), "cannot be opened")
        (self.folder / "loop.csv").symlink_to(self.folder / "loop.csv")
        self.refused(self.folder / "loop.csv", "cannot be opened")

    def test_a_file_that_grows_while_it_is_read(self):
        path = self.put("t.csv", "n,name\n" + "".join(f"{n},text {n}\n" for n in range(300_000)))
        source, done = self.settings(path), threading.Event()

        def grow() -> None:
            while not done.is_set():
                with path.open("a") as file:
                    file.write("1,more\n")
                time.sleep(0.002)

        writer = threading.Thread(target=grow)
        writer.start()
        try:
            with self.assertRaisesRegex(SourceError, "being changed while it is read"):
                self.library.get(source, Task())
        finally:
            done.set()
            writer.join()
        self.assertGreaterEqual(self.library.get(source, Task()).table.rows, 300_000)

    def test_a_disk_that_is_full(self):
        path = self.put("t.csv", "n,name\n" + "".join(f"{n},text {n}\n" for n in range(100_000)))
        source = self.settings(path)
        soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
        import signal

        before = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (200_000, hard))
        try:
            with self.assertRaisesRegex(SourceError, "cannot be kept|cannot be read"):
                self.library.get(source, Task())
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))
            signal.signal(signal.SIGXFSZ, before)
        self.assertEqual(list(self.library.cache.folder.glob("room-*")), [])
        self.assertEqual(Library(self.library.cache).get(source, Task()).table.rows, 100_000)

    def test_very_long_lines_and_many_fields(self):
        self.assertEqual(
            self.read(self.put("wide.csv", ",".join(f"f{n}" for n in range(5_000)) + "\n")).table.rows, 0
        )
        self.refused(self.put("one.csv", "a,b\n" + '"' + "x" * (17 * 2**20)), "[Qq]uotation|too long|larger")


if __name__ == "__main__":
    unittest.main()
