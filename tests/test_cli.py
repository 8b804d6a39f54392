"""The command line as a user calls it: in a process of its own where exit codes matter, on the demo."""

import csv
import json
import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import openpyxl
from click.testing import CliRunner

from keen_trellis.cli import main
from keen_trellis.demo.files import LOANS_FILE, REGISTRY_FILE
from keen_trellis.demo.flow_names import WINTER_LOANS
from keen_trellis.demo.flows import FLOWS, LOAN_REPORT
from tests import demo_data


def call(*words: str | Path):
    return CliRunner().invoke(main, [str(word) for word in words])


def counts_of_sqlite(ignore: bool) -> dict[str, int]:
    """The demo's loans and objects, counted by SQLite."""
    base = sqlite3.connect(demo_data.folder() / REGISTRY_FILE)
    base.execute("ATTACH ':memory:' AS m")
    base.execute("CREATE TABLE m.loans (no TEXT, object TEXT)")
    base.executemany("INSERT INTO m.loans VALUES (?, ?)", [row[:2] for row in demo_data.scenario().loans])
    one, other = (
        ("upper(trim(l.object))", "upper(trim(o.accession))") if ignore else ("l.object", "o.accession")
    )
    base.execute(f"CREATE TABLE m.l AS SELECT no, {one} AS k FROM m.loans l")
    base.execute(f"CREATE TABLE m.o AS SELECT object_id, {other} AS k FROM main.objects o")
    base.executescript("CREATE INDEX m.lk ON l (k); CREATE INDEX m.ok ON o (k);")

    def number(query: str) -> int:
        return base.execute(query).fetchone()[0]

    exists = "EXISTS (SELECT 1 FROM m.{} x WHERE x.k = {}.k)"
    found = {
        "left_rows": number("SELECT count(*) FROM m.l"),
        "right_rows": number("SELECT count(*) FROM m.o"),
        "pairs": number("SELECT count(*) FROM m.l JOIN m.o ON l.k = o.k"),
        "left_matched": number(f"SELECT count(*) FROM m.l WHERE {exists.format('o', 'l')}"),
        "right_matched": number(f"SELECT count(*) FROM m.o WHERE {exists.format('l', 'o')}"),
        "left_blank": number("SELECT count(*) FROM m.l WHERE k IS NULL"),
        "right_blank": number("SELECT count(*) FROM m.o WHERE k IS NULL"),
        "left-outer": number("SELECT count(*) FROM m.l LEFT JOIN m.o ON l.k = o.k"),
        "full-outer": number("SELECT count(*) FROM m.l FULL JOIN m.o ON l.k = o.k"),
    }
    base.close()
    return found


class CommandCase(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.loans = f"{demo_data.folder() / LOANS_FILE}#Loans"
        self.objects = f"{demo_data.folder() / REGISTRY_FILE}#objects"

    def match(self, *words):
        return call("match", self.loans, self.objects, "--link", "Object no=accession", *words)


class Match(CommandCase):
    def test_counts_are_those_of_sqlite(self):
        for ignore in ((), ("--ignore", "case,outer-spaces")):
            found = json.loads(self.match("--json", *ignore).output)
            expected = counts_of_sqlite(bool(ignore))
            for name in (
                "left_rows",
                "right_rows",
                "pairs",
                "left_matched",
                "right_matched",
                "left_blank",
                "right_blank",
            ):
                self.assertEqual(found[name], expected[name], name)
            self.assertEqual(found["left_unmatched"], expected["left_rows"] - expected["left_matched"])
            self.assertEqual(found["right_unmatched"], expected["right_rows"] - expected["right_matched"])
            for kind in ("left-outer", "full-outer"):
                self.assertEqual(found["rows_by_type"][kind], expected[kind], kind)
            self.assertEqual(found["rows_by_type"]["cross"], expected["left_rows"] * expected["right_rows"])
            self.assertEqual(found["result_rows"], expected["left-outer"])
            self.assertEqual(found["cardinality"], "n:m")

    def test_the_planted_trouble_is_what_is_counted(self):
        found = json.loads(self.match("--json", "--ignore", "case,outer-spaces").output)
        planted = demo_data.scenario().planted
        self.assertEqual(found["left_unmatched"], len(planted.without_object))
        only_prepared = found["left_matched"] - found["matched_as_written"]
        self.assertEqual(only_prepared, len(planted.only_after_case_and_outer_spaces))
        self.assertEqual(len(found["rows_by_type"]), 10)
        self.assertEqual(set(found["seconds"]), {"read", "match"})

    def test_a_person_reads_the_counts_in_words(self):
        text = self.match("--ignore", "case,outer-spaces").output
        for words in (
            "8,303 of 8,352 loans found a partner (99.4 %)",
            "408 loans matched though written differently",
            "Unmatched Loans: 49 loans; 5 rows have a blank link field",
            "left anti join",
            "the loans without an object",
        ):
            self.assertIn(words, text)

    def test_several_links_and_names_with_an_equals_sign(self):
        (self.folder / "a.csv").write_text("k=1,d\nx,1\ny,2\n")
        (self.folder / "b.csv").write_text("q,d\nx,1\ny,3\n")
        words = (
            "match",
            f"First={self.folder / 'a.csv'}",
            self.folder / "b.csv",
            "--link",
            "k=1=q",
            "--link",
            "d",
            "--json",
        )
        found = json.loads(call(*words).output)
        self.assertEqual((found["pairs"], found["cardinality"]), (1, "1:1"))

    def test_the_result_is_written_under_the_names_given(self):
        target = self.folder / "unmatched.csv"
        named = f"Registry={self.objects}"
        result = call(
            "match",
            self.loans,
            named,
            "--link",
            "Object no=accession",
            "--type",
            "full-anti",
            "--write",
            target,
        )
        self.assertEqual(result.exit_code, 0, result.output)
        with target.open(newline="") as file:
            rows = list(csv.reader(file))
        self.assertEqual(rows[0][:3], ["Loan no", "Object no", "Venue"])
        self.assertIn("title", rows[0])
        found = json.loads(self.match("--json").output)
        self.assertEqual(len(rows) - 1, found["rows_by_type"]["full-anti"])

    def refused(self, code: int, words: str, *call_words):
        result = call(*call_words)
        self.assertEqual(result.exit_code, code, result.output)
        self.assertIn(words, result.output)
        self.assertNotIn("Traceback", result.output)

    def test_bad_requests_have_their_exit_codes(self):
        match = ("match", self.loans, self.objects, "--link")
        self.refused(2, "no field “Objekt no”", *match, "Objekt no=accession")
        self.refused(2, "Did you mean", *match, "Object no=accesion")
        self.refused(2, "no join type", *match, "Object no=accession", "--type", "outer")
        self.refused(2, "no join type", *match, "Object no=accession", "--type", "sideways")
        self.refused(2, "cannot be a cross join", *match, "Object no=accession", "--type", "cross")
        self.refused(
            2, "not something a link can ignore", *match, "Object no=accession", "--ignore", "colour"
        )
        self.refused(2, "Say with --link", "match", self.loans, self.objects)
        self.refused(
            2, "holds several tables", "match", demo_data.folder() / LOANS_FILE, self.objects, "--link", "a=b"
        )
        self.refused(4, "no such file", "match", self.folder / "gone.csv", self.objects, "--link", "a=b")
        self.refused(
            4,
            "no table “things”",
            "match",
            self.loans,
            f"{demo_data.folder() / REGISTRY_FILE}#things",
            "--link",
            "a=b",
        )
        self.refused(7, "can never be equal", *match, "Agreed value=accession")

    def test_an_existing_file_is_replaced_only_on_request(self):
        target = self.folder / "out.csv"
        target.write_text("mine")
        self.assertEqual(self.match("--write", target).exit_code, 5)
        self.assertEqual(target.read_text(), "mine")
        self.assertEqual(self.match("--write", target, "--replace").exit_code, 0)

    def test_a_source_is_never_overwritten(self):
        data = demo_data.copy(self.folder / "copy")
        before = (data / "returns-desk.csv").read_bytes()
        words = ("--link", "loan no", "--write", data / "returns-desk.csv", "--replace")
        result = call("match", data / "returns-desk.csv", f"R={data / 'returns-desk.csv'}", *words)
        self.assertEqual(result.exit_code, 5, result.output)
        self.assertEqual((data / "returns-desk.csv").read_bytes(), before)


class Run(CommandCase):
    def setUp(self):
        super().setUp()
        self.data = demo_data.copy(self.folder / "copy")
        self.flow = self.data / WINTER_LOANS

    def test_a_flow_is_run_with_the_counts_that_match_gives(self):
        result = call("run", self.flow, "--json")
        self.assertEqual(result.exit_code, 0, result.output)
        outcome = json.loads(result.output)
        first = outcome["knots"][0]
        matched = json.loads(self.match("--json", "--ignore", "case,outer-spaces").output)
        del matched["seconds"], matched["guards"], matched["remarks"]
        self.assertEqual({name: first[name] for name in matched}, matched)
        self.assertEqual((first["step"], first["name"]), ("loans-with-objects", "Loans with Objects"))
        (output,) = outcome["outputs"]
        self.assertEqual((output.pop("open_cells")["made"], output.pop("changed")), (49, []))
        self.assertEqual(
            output,
            {"path": str(self.data / LOAN_REPORT), "within": "sheet Loans", "rows": 8355, "fields": 16},
        )

    def test_the_report_holds_the_rows(self):
        call("run", self.flow)
        sheet = openpyxl.load_workbook(self.data / LOAN_REPORT, read_only=True)["Loans"]
        rows = list(sheet.iter_rows(values_only=True))
        self.assertEqual(len(rows), 8356)
        loans = demo_data.scenario().loans
        self.assertEqual([row[0] for row in rows[1:42]], [loan[0] for loan in loans[:41]])
        self.assertEqual(rows[42][0], loans[40][0])  # its object stands twice in the registry

    def test_to_another_folder_and_only_once(self):
        target = self.folder / "out"
        target.mkdir()
        self.assertEqual(call("run", self.flow, "--to", target).exit_code, 0)
        self.assertTrue((target / LOAN_REPORT).exists())
        again = call("run", self.flow, "--to", target)
        self.assertEqual(again.exit_code, 5)
        self.assertIn("exists already", again.output)
        self.assertEqual(call("run", self.flow, "--to", target, "--replace").exit_code, 0)

    def test_a_lost_source_is_exit_code_4_and_writes_nothing(self):
        (self.data / REGISTRY_FILE).unlink()
        result = call("run", self.flow)
        self.assertEqual(result.exit_code, 4)
        self.assertIn("no such file", result.output)
        self.assertFalse((self.data / LOAN_REPORT).exists())

    def test_a_broken_flow_is_exit_code_6(self):
        self.flow.write_text("{")
        self.assertEqual(call("run", self.flow).exit_code, 6)


class Changes(CommandCase):
    def setUp(self):
        super().setUp()
        self.flow = demo_data.written_as_text(demo_data.copy(self.folder / "copy") / WINTER_LOANS)

    def test_the_second_run_says_what_changed_since_the_first(self):
        first = json.loads(call("run", self.flow, "--json").output)
        self.assertNotIn("changes", first)
        self.assertIn("Nothing has changed since", call("run", self.flow, "--replace").output)
        demo_data.next_month(self.flow.parent)
        found = json.loads(call("run", self.flow, "--replace", "--json").output)["changes"]
        loans = found["sources"][0]
        self.assertEqual([loans[name] for name in ("added", "gone", "changed")], [96, 14, 61])
        self.assertEqual(loans["fields"], [{"change": "added", "name": "Packed by", "now": "", "before": ""}])
        self.assertEqual(found["knots"][0]["before"]["left_unmatched"], 49)
        self.assertGreater(found["knots"][0]["newly_unmatched_left"], 4)
        self.assertEqual(found["outputs"][0]["rows_after"], 8_437)

    def test_in_words(self):
        call("run", self.flow)
        demo_data.next_month(self.flow.parent)
        said = call("run", self.flow, "--replace").output
        self.assertIn("Loans: 8,434 loans, 96 added, 14 gone, 61 changed", said)
        self.assertIn("loans newly without a partner", said)

    def test_the_flow_is_left_alone_on_request(self):
        before = self.flow.read_bytes()
        call("run", self.flow, "--leave-flow")
        self.assertEqual(self.flow.read_bytes(), before)


class Look(CommandCase):
    def test_what_a_file_a_folder_and_a_database_hold(self):
        data = demo_data.folder()
        said = call("look", data / LOANS_FILE).output
        self.assertEqual(said.splitlines(), ["Loans  (sheet)", "Venues  (sheet)", "Venues!F3  (block)"])
        tables = json.loads(call("look", data / REGISTRY_FILE, "--json").output)["tables"]
        self.assertEqual(
            [entry["name"] for entry in tables], ["makers", "objects", "valuations", "objects_lately_valued"]
        )

    def test_a_table_as_json(self):
        found = json.loads(call("look", demo_data.folder() / "courier-logs", "--json").output)
        self.assertEqual(found["rows"], sum(map(len, demo_data.scenario().courier_logs.values())))
        cost = found["fields"][3]
        self.assertEqual((cost["name"], cost["type"], cost["blanks"]), ("cost", "decimal", 0))
        self.assertIn("currency", cost["doubts"][0]["text"])
        self.assertIn("2026-07.csv has a field more: note", found["notes"][0]["text"])

    def test_a_table_in_words(self):
        said = call("look", f"{demo_data.folder() / LOANS_FILE}#Venues").output
        self.assertIn("45 rows, 4 fields", said)
        self.assertIn("the header is in row 3, below", said)

    def test_a_query(self):
        query = "SELECT keeper, count(*) AS objects FROM objects GROUP BY keeper ORDER BY keeper"
        found = json.loads(
            call("look", demo_data.folder() / REGISTRY_FILE, "--query", query, "--json").output
        )
        keepers = {row[5] for row in demo_data.scenario().objects}
        self.assertEqual(
            (found["rows"], [entry["name"] for entry in found["fields"]]),
            (len(keepers), ["keeper", "objects"]),
        )
        refused = call("look", demo_data.folder() / REGISTRY_FILE, "--query", "DROP TABLE objects")
        self.assertEqual(refused.exit_code, 4)

    def test_every_way_to_name_a_source_can_be_matched(self):
        data = demo_data.folder()
        (self.folder / "v.jsonl").write_text('{"place": "Pier"}\n{"place": "Hall"}\n')
        for left, right, link in (
            (data / "courier-logs", self.folder / "v.jsonl", "venue=place"),
            (f"{data / LOANS_FILE}#Venues!A3:C48", f"{data / LOANS_FILE}#Venues!F3", "Region=Region"),
            (data / "courier-logs", f"{data / LOANS_FILE}#Venues", "venue=Short name"),
            (data / "courier-logs" / "2026-0*.csv", f"{data / 'visitors.ods'}#Opening days", "venue=Venue"),
        ):
            found = call("match", left, right, "--link", link, "--json")
            self.assertEqual(found.exit_code, 0, found.output)
            self.assertGreater(json.loads(found.output)["left_rows"], 40)


class Processes(unittest.TestCase):
    """The command in a process of its own."""

    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)

    def run_command(self, *words: str) -> subprocess.CompletedProcess[str]:
        kept = {
            name: value
            for name, value in os.environ.items()
            if name not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")
        }
        environment = {**kept, "XDG_DATA_HOME": str(self.folder / "data")}
        return subprocess.run(
            [sys.executable, "-m", "keen_trellis.cli", *words],
            capture_output=True,
            text=True,
            env=environment,
            timeout=120,
        )

    def test_the_demo_without_a_display_runs_writes_and_draws(self):
        done = self.run_command("demo")
        self.assertEqual(done.returncode, 0, done.stderr)
        folder = self.folder / "data" / "keen-trellis" / "demo"
        self.assertIn("8,303 of 8,352 loans found a partner", done.stdout)
        for name in (LOAN_REPORT, "Winter loans.png"):
            self.assertTrue((folder / name).exists(), name)
            self.assertIn(str(folder / name), done.stdout)
        self.assertEqual((folder / "Winter loans.png").read_bytes()[:4], b"\x89PNG")

    def test_errors_go_to_standard_error_with_their_code(self):
        done = self.run_command("run", str(self.folder / "gone.trellis"))
        self.assertEqual((done.returncode, done.stdout), (6, ""))
        self.assertTrue(done.stderr.startswith("keen-trellis: "))

    def test_open_without_a_display_says_so(self):
        done = self.run_command("open")
        self.assertEqual(done.returncode, 1)
        self.assertIn("no display", done.stderr)

    def test_only_data_and_flows_on_request(self):
        done = self.run_command("demo", "--data", str(self.folder / "here"))
        self.assertEqual(done.returncode, 0, done.stderr)
        here = {path for path in (self.folder / "here").rglob("*") if path.is_file()}
        self.assertEqual({Path(line) for line in done.stdout.splitlines()}, here)
        self.assertLessEqual(set(FLOWS), {path.name for path in here})
        shutil.rmtree(self.folder / "here")


if __name__ == "__main__":
    unittest.main()
