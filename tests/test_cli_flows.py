"""Small flows, written as their files say, looked at and run from the command line."""

import errno
import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
import unittest
import weakref
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import openpyxl
import pyarrow as pa
import xlsxwriter
from click.testing import CliRunner
from pyarrow import parquet

from keen_trellis.cli import group, main
from keen_trellis.core.errors import Cancelled
from keen_trellis.core.task import Task
from keen_trellis.outputs import WRITERS, files
from tests.outputs.reports import parts_of


def step(step_id, kind, inputs=(), **settings):
    """A step of a flow file; its inputs are `id` or `id:port`."""
    ends = [dict(zip(("step", "port"), (*entry.split(":"), "rows")[:2], strict=True)) for entry in inputs]
    return {"id": step_id, "kind": kind, "name": step_id.capitalize(), "inputs": ends, "settings": settings}


def text(name):
    """A source step that reads NAME.csv."""
    return step(name, "source", reader="text", path=f"{name}.csv")


def output(of, name="out.csv"):
    """An output step that writes what a step gives to a text file."""
    return step(f"{name}-output", "output", [of], writer="text", path=name)


class FlowCase(unittest.TestCase):
    def setUp(self):
        place = TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)

    def write(self, name, content):
        path = self.folder / name
        path.write_text(content)
        return path

    def flow(self, *steps):
        """Write a flow of these steps."""
        return self.write("a.trellis", json.dumps({"format": "keen-trellis/1", "steps": steps}))

    def call(self, *words, code=0):
        result = CliRunner().invoke(main, [str(word) for word in words])
        self.assertEqual(result.exit_code, code, result.output)
        self.assertNotIn("Traceback", result.output)
        return result

    def run_flow(self, *steps, words=(), code=0):
        return self.call("run", self.flow(*steps), "--replace", *words, code=code)

    def written(self, name="out.csv"):
        return (self.folder / name).read_text().splitlines()


class NotRead(FlowCase):
    def setUp(self):
        super().setUp()
        self.write("loans.csv", "venue,crates\nPier,1\nMill,2\n")
        wrong = step("summary", "summarise", ["loans"], key=["venue"])
        self.steps = (text("loans"), wrong, output("summary"))

    def test_a_misspelt_setting_is_named(self):
        said = self.run_flow(*self.steps).stderr
        self.assertIn(
            "Summary: “key” is not known to this version, and is not used. Did you mean “keys”?", said
        )
        found = self.run_flow(*self.steps, words=["--json"])
        self.assertEqual(len(json.loads(found.stdout)["unread"]), 1)

    def test_strict_runs_nothing(self):
        said = self.run_flow(*self.steps, words=["--strict"], code=6).output
        self.assertIn("“key”", said)
        self.assertFalse((self.folder / "out.csv").exists())

    def test_look_names_it_and_reads_the_flow_aloud(self):
        said = self.call("look", self.flow(*self.steps)).output
        self.assertIn("Not read: Summary: “key”", said)
        self.assertIn("Loans (source): Read loans.csv.", said)
        broken = self.flow(
            text("loans"), step("f", "filter", ["loans"], conditions=[{"of": "x", "is": "filled"}])
        )
        self.assertIn("Cannot work: There is no field “x”", self.call("look", broken).output)
        self.assertIn("no field", json.loads(self.call("look", broken, "--json").output)["steps"][1]["error"])


class Workbooks(FlowCase):
    def setUp(self):
        super().setUp()
        self.write("loans.csv", "venue,crates\nPier,1\n")
        self.book = self.folder / "report.xlsx"
        with xlsxwriter.Workbook(self.book) as book:
            for name in ("Data", "Notes", "Regions & more"):
                book.add_worksheet(name)
        report = step("report", "output", ["loans"], writer="xlsx", path="report.xlsx")
        self.steps = (text("loans"), report)

    def sheets(self):
        return openpyxl.load_workbook(self.book).sheetnames

    def test_what_happens_to_a_workbook_is_said_before_and_its_other_sheets_stay(self):
        before = parts_of(self.book)
        said = self.call("run", self.flow(*self.steps), code=5).output
        self.assertIn("Sheet Data is written anew; its 2 other sheets stay (Notes, Regions & more).", said)
        self.assertEqual(parts_of(self.book), before)
        said = self.run_flow(*self.steps).stderr
        self.assertIn("report.xlsx, sheet Data: Sheet Data is written anew; its 2 other sheets stay", said)
        self.assertEqual(self.sheets(), ["Data", "Notes", "Regions & more"])
        for part in ("xl/worksheets/sheet2.xml", "xl/worksheets/sheet3.xml"):
            self.assertEqual(parts_of(self.book)[part], before[part])
        self.assertIn("which has 2 rows, is written anew", self.run_flow(*self.steps).stderr)

    def test_several_outputs_to_one_workbook_are_written_together(self):
        def to(name, **settings):
            return step(name, "output", ["loans"], writer="xlsx", path="report.xlsx", **settings)

        some = to("a"), to("b", sheet="New", totals=True), to("c", sheet="Notes", cell="C5")
        found = self.run_flow(text("loans"), *some, words=["--json"])
        self.assertEqual(
            [(entry["path"], entry["within"]) for entry in json.loads(found.stdout)["outputs"]],
            [(str(self.book), where) for where in ("sheet Data", "sheet New", "C5 of sheet Notes")],
        )
        self.assertEqual(self.sheets(), ["Data", "Notes", "Regions & more", "New"])
        book = openpyxl.load_workbook(self.book)
        self.assertEqual([book["Notes"][cell].value for cell in ("C5", "D6")], ["venue", 1])
        self.assertEqual(book["New"]["B3"].value, "=SUBTOTAL(109,B2:B2)")
        before = self.book.read_bytes()
        # What one of them cannot do keeps the others from being written, too.
        wrong = to("d", table="Nothing")
        said = self.call("run", self.flow(text("loans"), *some, wrong), "--replace", code=5).output
        self.assertIn("no table and no named range “Nothing”", said)
        for again, why in (
            (to("e", sheet="notes", cell="C5"), "Two outputs write to it"),
            (to("e", sheet="NOTES", cell="D6"), "the same cells of sheet Notes: C5 of sheet Notes and D6 of"),
            (to("e", sheet="new", cell="A2"), "Two outputs write to the same cells of sheet New"),
        ):
            said = self.call("run", self.flow(text("loans"), *some, again), "--replace", code=5).output
            self.assertIn(why, said)
        self.assertEqual(self.book.read_bytes(), before)

    def matched(self, target, *words, code=0):
        words = ("--type", "cross", "--write", f"{self.book}{target}", *words)
        return self.call(
            "match", self.folder / "loans.csv", f"B={self.folder / 'loans.csv'}", *words, code=code
        )

    def test_by_the_other_commands_too(self):
        self.assertIn("its 2 other sheets stay", self.matched("", "--replace").stderr)
        said = self.matched("#Fresh", "--mode", "new", "--as-table", "--totals", "--describe").output
        self.assertIn("report.xlsx, sheet Fresh", said)
        book = openpyxl.load_workbook(self.book)
        self.assertEqual(book["Fresh"].tables["Fresh"].ref, "A1:D3")
        self.assertEqual(book.sheetnames[-2:], ["Fresh", "Fresh fields"])
        self.assertIn("It has Fresh already", self.matched("#Fresh", "--mode", "new", code=5).output)
        again = self.matched("#Fresh", "--mode", "new", "--as-table", code=5).output
        self.assertIn("It has a sheet “Fresh” already", again)
        self.assertIn("report.xlsx, Fresh", self.matched("#FRESH", "--mode", "append").output)
        self.assertEqual(openpyxl.load_workbook(self.book)["Fresh"].tables["Fresh"].ref, "A1:D4")
        self.matched("#'Regions & more'!B4", "--mode", "replace")
        self.assertEqual(openpyxl.load_workbook(self.book)["Regions & more"]["C5"].value, 1)

    def test_targets_that_say_nothing(self):
        for target, words, said in (
            ("#Data!B4", ("--totals",), "Only rows that have a sheet to themselves"),
            ("#Data", ("--mode", "update", "--key", "venue"), "“key” is set for it"),
            ("#Data", ("--mode", "update"), "There is no mode “update” of writing a workbook"),
        ):
            self.assertIn(said, self.matched(target, *words, code=2).output)
        files = self.folder / "loans.csv", f"B={self.folder / 'loans.csv'}"
        for words, said in (
            (("--write", self.folder / "a.csv#Data"), "a.csv has no sheets"),
            (("--write", self.folder / "a.csv", "--as-table"), "“as_table” is set for it"),
            (("--describe",), "--describe says how to write, and nothing is written"),
        ):
            self.assertIn(said, self.call("match", *files, "--type", "cross", *words, code=2).output)


class OpenCells(FlowCase):
    def test_an_output_says_how_many_cells_have_no_partner(self):
        self.write("loans.csv", "loan,object\n1,a\n2,b\n3,\n")
        self.write("objects.csv", "key,title,maker\na,Urn,\n")
        links = [{"left": "object", "right": "key"}]
        knot = step("knot", "join", ["loans", "objects"], type="left-outer", links=links)
        self.assertIn(
            "4 cells without a partner: title 2, maker 2.",
            self.run_flow(text("loans"), text("objects"), knot, output("knot")).output,
        )
        # Rows that are sorted, stacked or joined again are counted as well.
        more = step("more", "sort", ["knot"], keys=[{"of": "loan", "descending": True}])
        both = step("both", "union", ["more", "loans", "knot:unmatched_left"])
        found = self.run_flow(
            *(text("loans"), text("objects"), knot, more, both, output("both")), words=["--json"]
        )
        (written,) = json.loads(found.stdout)["outputs"]
        self.assertEqual((written["rows"], written["open_cells"]), (8, {"title": 2, "maker": 2}))


class Said(FlowCase):
    def test_a_folder_for_the_outputs_is_made(self):
        self.write("loans.csv", "venue\nPier\n")
        self.run_flow(text("loans"), output("loans"), words=["--to", self.folder / "a" / "b"])
        self.assertEqual(self.written("a/b/out.csv"), ["venue", "Pier"])
        (self.folder / "file").write_text("x")
        said = self.run_flow(text("loans"), words=["--to", self.folder / "file" / "b"], code=5).output
        self.assertIn("The folder cannot be made", said)

    def test_an_address_of_the_web_is_no_database(self):
        for address in ("https://host/loans.csv", "s3://bucket/loans.parquet", "FTP://host/x"):
            self.assertIn("Download the file", self.call("look", address, code=4).output)

    def test_doubts_are_said_by_every_command(self):
        parquet.write_table(pa.table({"k": [1.0, float("nan")]}), self.folder / "share.parquet")
        share = self.folder / "share.parquet"
        said = "1 value is NaN"
        self.assertIn(said, self.call("look", share).output)
        words = (share, f"B={share}", "--link", "k=k")
        self.assertIn(said, self.call("match", *words).output)
        found = json.loads(self.call("match", *words, "--json").output)
        self.assertEqual(len([line for line in found["remarks"] if said in line]), 2)
        found = json.loads(self.call("blend", *words, "--measure", "count(*) as n", "--json").output)
        self.assertIn(said, " ".join(found["remarks"]))
        source = step("share", "source", reader="columns", path="share.parquet")
        self.assertIn(said, self.run_flow(source).output)
        self.assertIn(said, json.loads(self.run_flow(source, words=["--json"]).stdout)["doubts"][0])

    def test_what_was_changed_on_the_way_out_stands_in_the_object_too(self):
        (self.folder / "sums.csv").write_text('k,note\n1,"=A1+1"\n2,plain\n')
        sums, target = self.folder / "sums.csv", self.folder / "out.csv"
        words = (sums, f"B={sums}", "--link", "k=k", "--write", target, "--replace", "--json")
        for command, more, changed in (("match", (), 2), ("blend", ("--measure", "count(*) as n"), 1)):
            (written,) = json.loads(self.call(command, *words, *more).stdout)["outputs"]
            self.assertEqual((written["path"], written["rows"]), (str(target), 2))
            self.assertEqual(len(written["changed"]), changed, written)
            self.assertIn("1 cell of note written with an apostrophe", written["changed"][0])
        broken = ("--guard", "rows=5..9")
        self.assertEqual(json.loads(self.call("match", *words, *broken, code=3).stdout)["outputs"], [])

    def test_look_keeps_names_and_types_on_a_narrow_terminal(self):
        long = "a field with a name of some length"
        self.write("loans.csv", f"{long},venue\n" + f"{'v' * 60},{'w' * 60}\n")
        for columns in (60, 80, 100, 160):
            result = CliRunner(env={"COLUMNS": str(columns)}).invoke(
                main, ["look", str(self.folder / "loans.csv")]
            )
            lines = result.output.splitlines()
            self.assertRegex(lines[1], "^Fie.* Type ")
            self.assertRegex(lines[2], "^a field w.* text ")
            self.assertRegex(lines[3], "^venue .* text ")
            self.assertLessEqual(max(len(line.rstrip()) for line in lines), columns)

    def test_help_does_nothing_else(self):
        script = Path(__file__).parents[1] / "trellis"
        for words in (["screenshots", "--help"], ["speed", "--help"]):
            done = subprocess.run([script, *words], capture_output=True, text=True, timeout=60)
            self.assertIn("Usage:", done.stdout)
        done = subprocess.run([script, "check", "--help"], capture_output=True, text=True, timeout=60)
        self.assertEqual(done.returncode, 2)


class Changes(FlowCase):
    def test_an_edit_of_the_flow_is_a_change(self):
        self.write("loans.csv", "venue\n" + "Pier\nMill\n" * 3 + "Hall\n")
        kept = step("kept", "filter", ["loans"], conditions=[{"of": "venue", "is": "filled"}])
        flow = self.flow(text("loans"), kept, output("kept"))
        self.call("run", flow, "--replace")
        self.assertIn("Nothing has changed since", self.call("run", flow, "--replace").output)
        edited = json.loads(flow.read_text())
        edited["steps"][1]["settings"]["conditions"][0] = {"of": "venue", "is": "one-of", "values": ["Pier"]}
        flow.write_text(json.dumps(edited))
        found = json.loads(self.call("run", flow, "--replace", "--leave-flow", "--json").stdout)["changes"]
        self.assertEqual((found["flow_edited"], found["outputs"][0]["rows_before"]), (True, 7))
        said = self.call("run", flow, "--replace").output
        self.assertIn("The flow itself was edited since", said)
        self.assertIn("out.csv-output: 7 rows before, 3 now", said.replace("Out.csv", "out.csv"))
        self.assertIn("Nothing has changed since", self.call("run", flow, "--replace").output)
        # Another name, or another place, is no edit that changes a row.
        edited = json.loads(flow.read_text())
        edited["steps"][1] |= {"name": "Only the pier", "note": "as they asked"}
        flow.write_text(json.dumps(edited))
        self.assertIn("Nothing has changed since", self.call("run", flow, "--replace").output)

    def test_a_month_without_values_breaks_nothing_and_changes_no_type(self):
        self.write("loans.csv", "loan,crates,out\n1,2,2026-01-05\n")
        self.write("venues.csv", "crates,name,day\n2,Pier,2026-01-05\n")
        links = [{"left": "crates", "right": "crates"}, {"left": "out", "right": "day"}]
        knot = step("knot", "join", ["loans", "venues"], type="full-outer", links=links)
        more = step("more", "compute", ["knot"], field="twice", expression="crates * 2")
        total = step(
            "total", "summarise", ["more"], measures=[{"name": "n", "function": "sum", "of": "twice"}]
        )
        steps = (text("loans"), text("venues"), knot, more, total, output("total"))
        flow = self.flow(*steps)
        self.call("run", flow, "--replace")
        self.assertEqual(self.written(), ["n", "4"])
        for content in ("loan,crates,out\n", "loan,crates,out\n1,,\n"):
            self.write("loans.csv", content)
            said = self.call("run", flow, "--replace").output
            self.assertEqual(self.written(), ["n", "4"])
            self.assertNotIn("was integer", said)


class TextIsText(FlowCase):
    def test_what_stands_in_cells_and_names_is_neither_markup_nor_obeyed(self):
        odd = "[/x][red]:smile: \x1b[31m\x9b\u202e"
        self.write("loans.csv", f"a[/b],v\n{odd},1\n{odd},2\n")
        said = self.call("look", self.folder / "loans.csv").output
        self.assertIn("a[/b]", said)
        self.assertIn("[/x][red]:s", said)
        path = self.folder / "loans.csv"
        for command in ("match", "explain"):
            said = self.call(command, path, f"[B]={path}", "--link", "v=v").output
            for sign in ("\x1b", "\x9b", "\u202e"):
                self.assertNotIn(sign, said)
        found = self.call("look", path, "--json").output
        self.assertNotIn("\x9b", found)
        self.assertEqual(json.loads(found)["fields"][0]["least"], odd)
        kept = step("kept", "filter", ["loans"], conditions=[{"of": "v", "is": "filled"}]) | {
            "name": "[/2024]\n\x1b"
        }
        self.assertIn("[/2024]␊␛", self.call("look", self.flow(text("loans"), kept)).output)

    def test_an_error_shows_what_it_speaks_of(self):
        self.assertIn("x␛[2J", self.call("look", self.folder / "x\x1b[2J", code=4).output)


class TwoWhoWrite(FlowCase):
    def setUp(self):
        super().setUp()
        self.write("loans.csv", "venue\nPier\n")
        self.path = self.flow(text("loans"), output("loans"))

    def test_what_somebody_saves_while_a_flow_runs_stays(self):
        from keen_trellis.session import running

        ran = running.run_flow

        def edited(*words, **options):
            members = json.loads(self.path.read_text())
            members["steps"].append(step("more", "sort", ["loans"], keys=[{"of": "venue"}]))
            self.path.write_text(json.dumps(members))
            return ran(*words, **options)

        with mock.patch("keen_trellis.session.running.run_flow", edited):
            self.call("run", self.path)
        members = json.loads(self.path.read_text())
        self.assertEqual([entry["id"] for entry in members["steps"]][-1], "more")
        self.assertIn("last", members)

    def test_a_flow_that_cannot_be_written_runs_and_says_so(self):
        before = self.path.read_bytes()
        refused = mock.patch(
            "keen_trellis.flow.file_format.whole_file", side_effect=OSError(30, "Read-only file system")
        )
        with refused:
            said = self.call("run", self.path).stderr
        self.assertIn("Its counts are not kept", said)
        self.assertEqual((self.path.read_bytes(), self.written()), (before, ["venue", "Pier"]))


class SourcesStay(FlowCase):
    """Nothing that a run reads is written, whatever it is called and whatever is asked for."""

    def setUp(self):
        super().setUp()
        self.write("loans.csv", "venue\nPier\n")

    def refused(self, path, said, *steps, code=5):
        path = self.folder / path
        before = path.read_bytes() if path.is_file() else None
        target = step("o", "output", [steps[0]["id"]], writer="text", path=str(path))
        self.assertIn(said, self.run_flow(*steps, target, code=code).output)
        self.assertEqual(path.read_bytes() if path.is_file() else None, before)

    def test_members_of_folders_and_patterns(self):
        logs = self.folder / "logs"
        logs.mkdir()
        for name in ("a.csv", "b.csv"):
            (logs / name).write_text("venue\nPier\n")
        for place in ("logs", "logs/*.csv"):
            folder = step("logs", "source", reader="folder", path=place)
            self.refused("logs/a.csv", "sources are never changed", folder)
            self.refused("logs/new.csv", "read as one table", folder)
        self.run_flow(folder, step("o", "output", ["logs"], writer="text", path="logs/kept.tsv"))

    def test_what_lies_beside_a_database(self):
        base = sqlite3.connect(self.folder / "w.sqlite")
        self.addCleanup(base.close)
        base.execute("PRAGMA journal_mode = WAL")
        base.execute("CREATE TABLE t (a)")
        base.execute("INSERT INTO t VALUES (7)")
        base.commit()
        source = step("t", "source", reader="sqlite", path="w.sqlite", table="t")
        for ending in ("-wal", "-shm", "-journal", ""):
            self.refused(f"w.sqlite{ending}", "sources are never changed", source)
        self.assertEqual(base.execute("SELECT a FROM t").fetchall(), [(7,)])

    def test_the_flow_itself_and_corrections(self):
        own = step("o", "output", ["loans"], writer="text", path="a.trellis")
        self.assertIn("never changed", self.run_flow(text("loans"), own, code=5).output)
        self.assertIn("keen-trellis/1", (self.folder / "a.trellis").read_text())
        fixes = self.write("fixes.csv", "wrong,right\nPir,Pier\n")
        loans = self.folder / "loans.csv"
        words = ("--link", "venue=venue", "--correct", fixes, "--write", fixes, "--replace")
        self.assertIn("never changed", self.call("match", loans, f"B={loans}", *words, code=5).output)

    def test_other_names_of_a_source(self):
        (self.folder / "twin.csv").hardlink_to(self.folder / "loans.csv")
        (self.folder / "link.csv").symlink_to(self.folder / "loans.csv")
        (self.folder / "room").symlink_to(self.folder)
        for name in ("twin.csv", "link.csv", "room/loans.csv", "./loans.csv"):
            self.refused(name, "sources are never changed", text("loans"))

    def test_links_pipes_and_devices_are_never_replaced(self):
        self.write("elsewhere.csv", "mine")
        (self.folder / "link.csv").symlink_to(self.folder / "elsewhere.csv")
        self.refused("link.csv", "It is a link to", text("loans"))
        os.mkfifo(self.folder / "pipe.csv")
        self.refused("pipe.csv", "not an ordinary file", text("loans"))
        self.assertEqual((self.folder / "elsewhere.csv").read_text(), "mine")


class Whole(FlowCase):
    """A run writes all of its outputs, or none."""

    def setUp(self):
        super().setUp()
        self.write("loans.csv", "loan,note\nL-1,new\n")
        self.write("a.csv", "as it was")
        self.write("c.csv", "as it was")
        book = step("b-output", "output", ["loans"], writer="xlsx", path="b.xlsx")
        self.path = self.flow(text("loans"), output("loans", "a.csv"), book, output("loans", "c.csv"))

    def as_it_was(self):
        for name in ("a.csv", "c.csv"):
            self.assertEqual((self.folder / name).read_text(), "as it was")
        self.assertFalse((self.folder / "b.xlsx").exists())
        self.assertEqual(list(self.folder.glob(".keen-trellis-*")), [])

    def test_one_that_cannot_be_written_leaves_all_as_they_were(self):
        self.write("loans.csv", f"loan,note\nL-1,{'long' * 10_000}\n")
        said = self.call("run", self.path, "--replace", code=5).output
        self.assertIn("32,767", said)
        self.as_it_was()

    def test_stopped_before_the_last_one_all_are_as_they_were(self):
        real = WRITERS["text"].write

        def write(writer, table, settings, draft, task):
            if settings.file_name == "c.csv":
                raise Cancelled
            return real(table, settings, draft, task)

        with mock.patch.object(type(WRITERS["text"]), "write", write):
            self.call("run", self.path, "--replace", code=1)
        self.as_it_was()

    def test_a_disk_that_is_full_at_the_end(self):
        def sync(path, real=files.sync):
            if "c.csv" in told[-1]:
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
            real(path)

        told, real_write = [], WRITERS["text"].write

        def write(writer, table, settings, draft, task):
            told.append(settings.file_name)
            return real_write(table, settings, draft, task)

        with (
            mock.patch.object(type(WRITERS["text"]), "write", write),
            mock.patch.object(files, "sync", sync),
        ):
            self.assertIn("No space left", self.call("run", self.path, "--replace", code=5).output)
        self.as_it_was()

    def test_all_are_written(self):
        self.call("run", self.path, "--replace")
        self.assertEqual((self.folder / "a.csv").read_text(), "loan,note\nL-1,new\n")
        self.assertEqual((self.folder / "c.csv").read_text(), (self.folder / "a.csv").read_text())
        self.assertTrue((self.folder / "b.xlsx").exists())


class Stopped(FlowCase):
    def test_signals_end_a_command_and_leave_nothing_half_done(self):
        path = self.write("many.csv", "a,b,c\n" + "".join(f"LCM.{n},{n},x{n}\n" for n in range(600_000)))
        cache = self.folder / "cache"
        environment = {**os.environ, "XDG_CACHE_HOME": str(cache)}
        for name in ("SIGINT", "SIGTERM", "SIGHUP"):
            process = subprocess.Popen(
                [sys.executable, "-m", "keen_trellis.cli", "look", path],
                env=environment,
                stderr=subprocess.PIPE,
                stdout=subprocess.DEVNULL,
                text=True,
                # Whoever runs the tests in the background may have told all below to ignore it.
                preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
            )
            while process.poll() is None and not list(cache.rglob("room-*")):
                pass  # until it reads
            process.send_signal(getattr(signal, name))
            said = process.communicate(timeout=60)[1]
            self.assertEqual((process.returncode, "stopped" in said), (1, True), (name, said))
            self.assertEqual(list(cache.rglob("room-*")) + list(cache.rglob("*.arrow")), [], name)

    def test_a_signal_is_heard_wherever_the_work_is(self):
        class Thing:
            pass

        for signalled in (signal.SIGTERM, signal.SIGHUP):
            thing = Thing()
            with self.assertRaises(Cancelled), group._stopped_by_signals():
                # What is raised in such a callback is lost.
                seen = weakref.ref(thing, lambda _, number=signalled: os.kill(os.getpid(), number))
                del thing
                self.assertIsNone(seen())
                Task().checkpoint()
            Task().checkpoint()  # what begins afterwards goes on

    def test_who_has_heard_it_tidies_up_without_being_interrupted(self):
        tidied = []
        with self.assertRaises(Cancelled), group._stopped_by_signals():
            os.kill(os.getpid(), signal.SIGTERM)
            try:
                Task().checkpoint()
            finally:
                time.sleep(2 * group._PATIENCE)
                tidied.append(True)
        self.assertEqual(tidied, [True])

    def test_what_has_no_checkpoint_is_interrupted(self):
        began = time.monotonic()
        with self.assertRaises(KeyboardInterrupt), group._stopped_by_signals():
            os.kill(os.getpid(), signal.SIGTERM)
            time.sleep(30)
        self.assertLess(time.monotonic() - began, 20)
        self.assertIs(signal.getsignal(signal.SIGALRM), signal.SIG_DFL)


class Ends(FlowCase):
    def test_a_field_that_is_gone_is_the_datas_fault(self):
        self.write("loans.csv", "place,crates\nPier,1\n")
        kept = step("kept", "filter", ["loans"], conditions=[{"of": "venue", "is": "filled"}])
        said = self.run_flow(text("loans"), kept, output("kept"), code=7).output
        self.assertIn("There is no field “venue”", said)

    def test_an_input_too_many_is_refused(self):
        self.write("loans.csv", "venue\nPier\n")
        both = step("both", "sort", ["loans", "loans"], keys=[{"of": "venue"}])
        self.assertIn("takes 1 input, and 2 rails", self.run_flow(text("loans"), both, code=6).output)


if __name__ == "__main__":
    unittest.main()
