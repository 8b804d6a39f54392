"""Damaged files by the thousand, and files that are not what they seem."""

import copy
import json
import os
import resource
import sqlite3
import subprocess
import sys
import threading
import time
import unittest
import zipfile
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path
from unittest import mock

import numpy as np
import pyarrow as pa
import xlsxwriter
from click.testing import CliRunner
from hypothesis import settings
from pyarrow import feather, parquet

from keen_trellis.cli import main
from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.flow.environment import QUERY_SECONDS
from keen_trellis.sources.child import MEMORY_NAME, SECONDS_NAME
from keen_trellis.sources.library import Library
from keen_trellis.sources.looking import look
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
            archive.writestr("xl/worksheets/sheet1.xml", b" " * 2**26)
            # Many parts that share their packed bytes, as such files are made.
            for number in range(2, 141):
                twin = copy.copy(archive.filelist[-1])
                twin.filename = f"xl/worksheets/sheet{number}.xml"
                archive.filelist.append(twin)
        self.refused(path, "would unpack to 9 GiB")

    def test_a_pipe_a_device_and_a_folder(self):
        os.mkfifo(self.folder / "pipe.csv")
        self.refused(self.folder / "pipe.csv", "not an ordinary file")
        self.refused("/dev/zero", "not an ordinary file")
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


class Small(SourceCase):
    """Small files that took minutes or gigabytes: linear, or refused with a number."""

    def timed(self, path: Path, most: float):
        """Read and look at a file, in so many seconds of computing."""
        began = time.process_time()
        try:
            snapshot = self.read(path)
            look(snapshot.table, snapshot.remarks, Task())
        except SourceError as error:
            return error
        finally:
            self.assertLess(time.process_time() - began, most)
        return snapshot

    def test_many_fields(self):
        names = ",".join(f"f{n}" for n in range(2_500))
        self.assertEqual(len(self.timed(self.put("a.csv", f"{names}\n1\n"), 15).table.fields), 2_500)
        same = ",".join(["f"] * 2_500)
        self.assertEqual(self.timed(self.put("b.csv", f"{same}\n"), 15).table.names[-1], "f 2500")
        wide = ",".join(f"f{n}" for n in range(100_000))
        for name, content in (
            ("c.csv", f"{wide}\n1\n"),
            ("d.csv", "a,b\n1,2\n" + "," * 100_000 + "\n"),
            ("e.jsonl", "".join(json.dumps({f"k{n}": n}) + "\n" for n in range(20_000))),
        ):
            self.assertIn("more than 10,000 fields", str(self.timed(self.put(name, content), 10)))
        lines = "".join(json.dumps({f"k{n % 1_500}": n}) + "\n" for n in range(6_000))
        self.assertEqual(self.timed(self.put("f.jsonl", lines), 15).table.rows, 6_000)

    def test_a_cell_of_very_many_lines(self):
        content = 'a,b\n1,"' + "\n" * (2**24 - 10) + '"\n2,3\n'
        self.assertEqual(self.timed(self.put("a.csv", content), 15).table.rows, 2)
        path = self.put("b.csv", 'a,b\n1,"' + "x\n" * 1_000_000 + '"\n2,3\n')
        began = time.process_time()
        shown = CliRunner().invoke(main, ["look", str(path)]).output
        self.assertLess(time.process_time() - began, 10)
        self.assertLess(len(shown), 10_000)

    def test_folders_that_the_system_makes_up(self):
        for place in ("/proc", "/proc/self", "/proc/self/fd"):
            began = time.process_time()
            self.assertIn(CliRunner().invoke(main, ["look", place]).exit_code, (0, 4))
            self.assertLess(time.process_time() - began, 10)

    def test_workbooks_that_would_take_all_memory(self):
        far = self.folder / "far.xlsx"
        with xlsxwriter.Workbook(far) as book:
            sheet = book.add_worksheet("S")
            sheet.write(0, 0, "a")
            sheet.write(1_048_575, 16_383, 1)
        spaces = self.folder / "spaces.xlsx"
        with (
            zipfile.ZipFile(far) as source,
            zipfile.ZipFile(spaces, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as packed,
        ):
            for name in source.namelist():
                content = source.read(name)
                if name.endswith("sheet1.xml"):
                    content = content.replace(b"<sheetData>", b"<sheetData>" + b" " * 2**29)
                packed.writestr(name, content)
        with mock.patch.dict(os.environ, {MEMORY_NAME: str(2**28)}):
            for path in (far, spaces):
                self.refused(path, "0.2 GiB of memory|no progress", "S")
        children = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss * 1024
        self.assertLess(children, 3 * 2**30)

    def test_a_reader_without_progress_is_ended(self):
        strings = self.folder / "strings.xlsx"
        with xlsxwriter.Workbook(self.folder / "s.xlsx") as book:
            book.add_worksheet("S").write(0, 0, "a")
        with (
            zipfile.ZipFile(self.folder / "s.xlsx") as source,
            zipfile.ZipFile(strings, "w", zipfile.ZIP_DEFLATED) as packed,
        ):
            for name in source.namelist():
                content = source.read(name)
                if name.endswith("sharedStrings.xml"):
                    content = content.replace(b"</sst>", b"<si><t>x</t></si>" * 5_000_000 + b"</sst>")
                packed.writestr(name, content)
        with mock.patch.dict(os.environ, {SECONDS_NAME: "1"}):
            self.refused(strings, "no progress in 1 seconds of computing", "S")

    def test_a_view_without_end_is_ended(self):
        path = self.folder / "v.sqlite"
        with closing(sqlite3.connect(path)) as base:
            base.execute(
                "CREATE VIEW v AS WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) "
                "SELECT max(i) AS most FROM n"
            )
            base.commit()
        with mock.patch.dict(os.environ, {QUERY_SECONDS: "1"}):
            self.refused(path, "longer than 1 seconds", "v")


class CutShort(SourceCase):
    def test_a_file_that_is_cut_short_while_it_is_read_ends_nothing(self):
        code = "import sys; from keen_trellis.cli import main; main(['look', sys.argv[1]])"
        texts = pa.array(["text"]).take(pa.nulls(2_000_000, pa.int64()).fill_null(0))
        table = pa.table({"n": pa.array(np.arange(2_000_000)), "t": texts})
        for kind in ("csv", "arrow", "parquet"):
            for wait in (0.0, 0.15):
                path = self.folder / f"t.{kind}"
                if kind == "csv":
                    path.write_bytes(b"n,t\n" + b"1,text\n" * 4_000_000)
                elif kind == "arrow":
                    feather.write_feather(table, path, compression="uncompressed")
                else:
                    parquet.write_table(table, path)
                quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.PIPE, "text": True}
                words = [sys.executable, "-c", code, str(path)]
                with subprocess.Popen(words, cwd=_ROOT, **quiet) as reader:
                    time.sleep(0.9 + wait)
                    os.truncate(path, 100_000)
                    said = reader.communicate()[1]
                self.assertIn(reader.returncode, (0, 4), f"{kind}: {said}")
                self.assertNotIn("Traceback", said)


if __name__ == "__main__":
    unittest.main()
