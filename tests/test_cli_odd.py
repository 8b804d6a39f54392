"""Odd names, settings, encodings and environments: each an error of ours that says what is wrong, or read."""

import os
import random
import resource
import signal
import sqlite3
import subprocess
import sys
import unittest
import zipfile
from contextlib import suppress
from pathlib import Path
from unittest import mock

from hypothesis import settings

from keen_trellis.flow.file_format import load
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.whole_file import whole_file
from tests.sources.source_case import mark_of
from tests.test_cli_flows import FlowCase, output, step, text


class OddCase(FlowCase):
    def setUp(self):
        super().setUp()
        self.write("loans.csv", "venue,crates\nPier,1\nMill,2\n")

    def settled(self, code, **settings):
        source = step("loans", "source", reader="text", path="loans.csv", **settings)
        return self.run_flow(source, output("loans"), code=code).output


class Flows(OddCase):
    def test_what_is_no_flow(self):
        begin = b'{"format":"keen-trellis/1","steps":'
        source = b'[{"id":"a","kind":"source","name":"%s","settings":{"reader":"text"%s}}]}'
        for content, said in (
            (begin + b"[" * 100_000 + b"]" * 100_000 + b"}", "nested too deeply"),
            (begin + b'[],"x":' + b"[" * 100_000 + b"]" * 100_000 + b"}", "nested too deeply"),
            (begin + source % (b"A", b',"x":' + b"[" * 50_000 + b"]" * 50_000), "nested too deeply"),
            (begin + source % (b"A\xff", b""), "not UTF-8"),
            (begin + b'[],"x\xff":1}', "can't decode|not UTF-8"),
            (begin + source % (b"A", b',"path":"a\\u0000b"'), "path in it is not valid: “a␀b”"),
        ):
            (self.folder / "a.trellis").write_bytes(content)
            for command in ("run", "look"):
                self.assertRegex(self.call(command, self.folder / "a.trellis", code=6).output, said)

    def test_a_source_without_a_path(self):
        for reader in ("text", "sqlite", "workbook", "folder", "database", "columns"):
            self.run_flow(step("loans", "source", reader=reader), output("loans"), code=4)

    def test_a_pipe_is_no_flow_and_is_not_waited_for(self):
        os.mkfifo(self.folder / "a.trellis")
        self.assertIn("not an ordinary file", self.call("run", self.folder / "a.trellis", code=6).output)


class Settings(OddCase):
    def test_a_dialect_that_no_text_is_written_in(self):
        for name, values in (
            ("delimiter", ("ab", "\n", "\r", "\0", "é", "x", "7")),
            ("quote", ("ab", "\n", "é", "\0", "q")),
            ("comment", ("x" * 11, "a\nb")),
        ):
            for value in values:
                self.assertIn(f"“{name}” is “", self.settled(6, dialect={name: value}))
        self.assertIn("are both “;”", self.settled(6, dialect={"delimiter": ";", "quote": ";"}))
        names = (
            "nonsense",
            "base64",
            "rot13",
            "zip",
            "a\0b",
            "punycode",
            "idna",
            "unicode_escape",
            "undefined",
        )
        for name in names:
            self.assertIn("There is no encoding", self.settled(4, dialect={"encoding": name}))
        self.assertIn("It is not written in utf-16", self.settled(4, dialect={"encoding": "utf-16"}))
        self.settled(0, dialect={"encoding": "cp1252", "delimiter": ",", "quote": "'", "comment": "##"})

    def test_layouts_and_words_that_are_none(self):
        self.assertIn("ends with row 3", self.settled(4, layout={"header": 99}))
        self.assertIn("is above its first", self.settled(6, layout={"first": 5, "last": 2}))
        for columns in ("zz:%", ":", "A:", "1:2"):
            self.assertIn("The layout’s columns are", self.settled(6, layout={"columns": columns}))
        for name, word in (("decimal", "xx"), ("decimal", "1"), ("dates", "zzz")):
            self.assertIn(f"“{name}” is “{word}”", self.settled(6, writing={name: word}))

    def test_outputs(self):
        for mark in ("é", "\0", "", "ab", "x", '"'):
            written = step("out", "output", ["loans"], writer="text", path="out.csv", delimiter=mark)
            self.assertIn("cannot be between cells", self.run_flow(text("loans"), written, code=7).output)
        written = step("out", "output", ["loans"], writer="clay", path="out.csv")
        self.assertIn("does not know the writer “clay”", self.run_flow(text("loans"), written, code=5).output)
        for sheet, code in (("😀" * 16, 5), ("😀" * 15, 0)):
            written = step("out", "output", ["loans"], writer="xlsx", path="out.xlsx", sheet=sheet)
            self.run_flow(text("loans"), written, code=code)

    def test_the_environment(self):
        for name in ("KEEN_TRELLIS_CACHE_BYTES", "KEEN_TRELLIS_READER_BYTES", "KEEN_TRELLIS_READER_SECONDS"):
            for value in ("abc", "-1", "0", "1e9", "9" * 30):
                if "READER" in name:
                    import pyarrow as pa
                    from pyarrow import parquet

                    parquet.write_table(pa.table({"n": [int(value == "abc")]}), self.folder / "n.parquet")
                path = self.folder / ("n.parquet" if "READER" in name else "loans.csv")
                with mock.patch.dict(os.environ, {name: value}):
                    self.assertIn(f"{name} is “", self.call("look", path, code=2).output)


class Names(OddCase):
    def test_a_name_that_is_not_utf8_is_refused_by_every_command(self):
        odd = Path(os.fsdecode(os.fsencode(self.folder) + b"/n\xff.csv"))
        odd.write_text("a,b\n1,2\n")
        self.assertIn("n<FF>.csv: Its name is not UTF-8", self.call("look", odd, code=4).output)
        self.call("match", odd, self.folder / "loans.csv", "--link", "a=crates", code=4)
        self.assertIn("is not UTF-8", self.call("look", self.folder, code=4).output)
        folder = Path(os.fsdecode(os.fsencode(self.folder) + b"/\xff"))
        folder.mkdir()
        flow = self.flow(text("loans"), output("loans")).rename(folder / "a.trellis")
        self.assertIn("is not UTF-8", self.call("run", flow, code=6).output)

    def test_the_longest_names_that_there_are(self):
        longest = "x" * 251 + ".csv"
        self.write(longest, "a,b\n1,2\n")
        self.call("look", self.folder / longest)
        self.run_flow(text("loans"), output("loans", longest.replace("x", "y")))
        for name in ("y" * 252 + ".csv", "/".join(["z" * 200] * 30) + ".csv"):
            said = self.run_flow(text("loans"), output("loans", name), code=5).output
            self.assertIn("File name too long", said)

    def test_encodings_that_are_recognised(self):
        rows = "a,b\n" + "1,e\n" * 50
        for encoding in ("utf-32", "utf-32-le", "utf-32-be", "utf-16", "utf-16-le", "utf-16-be", "utf-8-sig"):
            (self.folder / "e.csv").write_bytes(rows.encode(encoding))
            self.assertIn("50 rows, 2 fields", self.call("look", self.folder / "e.csv").output)
        mark = b"\xef\xbb\xbf"
        for content in (mark + mark + b"a,b\n1,2\n3,4\n", mark + b"a,b\n1,2\n" + mark + b"3,4\n"):
            (self.folder / "e.csv").write_bytes(content)
            found = self.call("look", self.folder / "e.csv").output
            self.assertRegex(found, r"a +integer +0 +2 +1 +3")
            self.assertIn("marks of byte order are in the middle of it", found)
        (self.folder / "e.csv").write_bytes(b"a,b\n" + b"1,2\n" * 9_000 + b"\0\0,3\n")
        self.assertIn("2 characters are none (NUL)", self.call("look", self.folder / "e.csv").output)


class Databases(OddCase):
    def test_addresses(self):
        with mock.patch.dict(os.environ, {"KEEN_TRELLIS_PASSWORD": "sesame"}):
            for address, said in (
                ("postgresql://me@host:xx/db", "not the number of a port"),
                ("sqlite://", "names no file"),
                (f"sqlite:///{self.folder}/new.db", "There is no such file"),
                (f"sqlite://me:sesame@/{self.folder}/new.db", "There is no such file"),
            ):
                found = self.call("look", address, code=4).output
                self.assertIn(said, found)
                self.assertNotIn("sesame", found)
        self.assertFalse((self.folder / "new.db").exists())
        flow = (step("t", "source", reader="database", path=f"sqlite:///{self.folder}/new.db"), output("t"))
        self.run_flow(*flow, code=4)
        self.assertFalse((self.folder / "new.db").exists())

    def test_an_address_of_a_file_reads_the_file(self):
        self.base().close()
        self.assertIn("3 rows", self.call("look", f"sqlite:///{self.folder}/a.db#t").output)

    def base(self, mode="delete"):
        base = sqlite3.connect(self.folder / "a.db")
        self.addCleanup(base.close)
        base.execute(f"PRAGMA journal_mode = {mode}")
        base.execute("CREATE TABLE t (n INTEGER)")
        base.executemany("INSERT INTO t VALUES (?)", [(1,), (2,), (3,)])
        base.commit()
        return base

    def beside(self):
        return sorted(path.name for path in self.folder.glob("a.db*"))

    def test_a_database_with_a_log_is_opened_without_a_trace(self):
        self.base("wal").close()
        self.assertEqual(self.beside(), ["a.db"])
        self.assertIn("3 rows", self.call("look", self.folder / "a.db#t").output)
        self.assertEqual(self.beside(), ["a.db"])

    def test_one_that_is_written_to_now_is_read_as_it_is_now(self):
        base = self.base("wal")
        base.execute("INSERT INTO t VALUES (4)")
        base.commit()
        before = self.beside()
        self.assertIn("4 rows", self.call("look", self.folder / "a.db#t").output)
        self.assertEqual(self.beside(), before)

    def test_a_log_without_its_index_is_read_from_a_copy(self):
        base = self.base("wal")
        log = (self.folder / "a.db-wal").read_bytes()
        whole = (self.folder / "a.db").read_bytes()
        base.close()
        (self.folder / "a.db").write_bytes(whole)
        (self.folder / "a.db-wal").write_bytes(log)
        self.assertIn("3 rows", self.call("look", self.folder / "a.db#t").output)
        self.assertEqual(self.beside(), ["a.db", "a.db-wal"])
        self.assertEqual((self.folder / "a.db").read_bytes(), whole)

    def test_a_query_only_reads(self):
        self.base().close()
        for query in (
            "SELECT load_extension('/x')",
            "WITH x AS (SELECT 1) SELECT * FROM pragma_journal_mode('wal')",
        ):
            self.call("look", self.folder / "a.db", "--query", query, code=4)


class FailingMachines(OddCase):
    def run_limited(self, size, *words, **environment):
        """The command in a process whose files may be no larger."""

        def limit():
            signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
            resource.setrlimit(resource.RLIMIT_FSIZE, (size, size))

        command = [sys.executable, "-m", "keen_trellis.cli", *map(str, words)]
        done = subprocess.run(
            command, capture_output=True, text=True, preexec_fn=limit, env={**os.environ, **environment}
        )
        self.assertNotIn("Traceback", done.stderr)
        return done

    def test_a_disk_that_is_full_while_outputs_are_written(self):
        self.write("many.csv", "venue,crates\n" + "".join(f"Pier {n},{n}\n" for n in range(20_000)))
        for name in ("out.xlsx", "out.csv"):
            writer = {"out.xlsx": "xlsx", "out.csv": "text"}[name]
            out = step("out", "output", ["many"], writer=writer, path=name)
            path = self.flow(text("many"), out)
            self.call("run", path, "--to", self.folder / "first")  # its rows are in the cache now
            done = self.run_limited(100_000, "run", path)
            self.assertEqual(done.returncode, 5, done.stderr)
            self.assertIn("cannot be written", done.stderr)
            self.assertFalse((self.folder / name).exists())
            self.assertEqual([entry.name for entry in self.folder.glob(".keen-trellis-*")], [])

    def test_a_temporary_folder_that_is_not_there(self):
        out = step("out", "output", ["loans"], writer="xlsx", path="out.xlsx")
        path = self.flow(text("loans"), out)
        self.call("run", path, "--to", self.folder / "first")
        with mock.patch("tempfile.tempdir", str(self.folder / "gone")):
            self.assertIn("cannot be written", self.call("run", path, code=5).output)

    def test_a_full_disk_for_the_cache_is_not_blamed_on_the_source(self):
        self.write("many.csv", "venue,crates\n" + "".join(f"Pier {n},{n}\n" for n in range(50_000)))
        cache = str(self.folder / "cache")
        done = self.run_limited(200_000, "look", self.folder / "many.csv", XDG_CACHE_HOME=cache)
        self.assertEqual(done.returncode, 4)
        self.assertIn("cannot be kept in the cache folder", done.stderr)

    def test_drafts_of_processes_that_were_killed_are_cleared(self):
        ended = subprocess.Popen([sys.executable, "-c", ""])
        ended.wait()
        left = self.write(f".keen-trellis-{mark_of(ended.pid, 1)}abc.part", "half")
        folder = self.folder / f"keen-trellis-{mark_of(ended.pid, 1)}abc"
        folder.mkdir()
        # Another machine may use the same disk: what is there belongs to a process of it, unless it is old.
        theirs = [self.write(f".keen-trellis-00000000.1.1.{age}.part", "half") for age in ("new", "old")]
        os.utime(theirs[1], (1_700_000_000, 1_700_000_000))
        with whole_file(self.folder / "mine.txt") as draft, mock.patch("tempfile.tempdir", str(self.folder)):
            self.run_flow(text("loans"), output("loans"))
            self.assertTrue(draft.exists())
            draft.write_text("mine")
        self.assertFalse(left.exists())
        self.assertEqual([path.exists() for path in theirs], [True, False])
        self.assertFalse(folder.exists())
        self.assertEqual((self.folder / "mine.txt").read_text(), "mine")

    def test_a_killed_run_leaves_nothing_that_the_next_one_does_not_clear(self):
        """Once while it writes; with --long, twenty times at any moment."""
        self.write("many.csv", "venue,crates\n" + "".join(f"Pier {n},{n}\n" for n in range(200_000)))
        out = step("out", "output", ["many"], writer="xlsx", path="out.xlsx")
        path = self.flow(text("many"), out)
        whole = path.read_bytes(), (self.folder / "many.csv").read_bytes()
        places = {"XDG_CACHE_HOME": str(self.folder / "cache"), "TMPDIR": str(self.folder / "tmp")}
        (self.folder / "tmp").mkdir()
        command = [sys.executable, "-m", "keen_trellis.cli", "run", str(path), "--replace"]
        quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "env": {**os.environ, **places}}
        chance = random.Random(7)
        for number in range(max(settings.default.max_examples // 200, 1)):
            run = subprocess.Popen(command, **quiet)
            if number:
                with suppress(subprocess.TimeoutExpired):
                    run.wait(chance.uniform(0.3, 4))
            else:
                while run.poll() is None and not list(self.folder.glob(".keen-trellis-*.part")):
                    pass
            run.kill()
            run.wait()
            if not number:
                self.assertEqual(len(list(self.folder.glob(".keen-trellis-*.part"))), 1)
            self.assertEqual((self.folder / "many.csv").read_bytes(), whole[1])
            load(path, KINDS)
            if (self.folder / "out.xlsx").exists():
                self.assertTrue(zipfile.is_zipfile(self.folder / "out.xlsx"))
            else:
                self.assertEqual(path.read_bytes(), whole[0])
        self.write("many.csv", "venue,crates\nPier,1\n")
        subprocess.run(command, check=True, **quiet)
        self.assertEqual(list(self.folder.glob(".keen-trellis-*")), [])
        self.assertEqual(list((self.folder / "tmp").iterdir()), [])
        self.assertEqual(list((self.folder / "cache").rglob("room-*")), [])


if __name__ == "__main__":
    unittest.main()
