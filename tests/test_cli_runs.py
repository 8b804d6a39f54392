"""What a flow came to over its runs: noted beside it by runs, refreshes and what is written, and printed."""

import json
import os
import string
from unittest import mock

import xlsxwriter
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st

from keen_trellis.cli import main
from keen_trellis.core.errors import UsageError
from keen_trellis.core.task import Task
from keen_trellis.flow import edits, guarding
from keen_trellis.flow.graph import Input
from keen_trellis.flow.run_log import log_path, read
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.session import noting
from tests.session.stepping import SessionCase
from tests.test_cli_flows import FlowCase, output, step, text

LOANS = "loan,venue\nL-1,Pier\nL-2,tower\nL-3,Hall\nL-4,\n"
VENUES = "venue,town\nPier,Wick\nTower,Wick\nQuay,Wick\n"
LINK = ({"left": "venue", "right": "venue"},)


class RunsCase(FlowCase):
    def setUp(self):
        super().setUp()
        self.write("loans.csv", LOANS)
        self.write("venues.csv", VENUES)
        self.steps = [
            text("loans"),
            text("venues"),
            step("joined", "join", ["loans", "venues"], links=LINK, type="left-outer"),
            output("joined"),
        ]
        self.path = self.flow(*self.steps)

    def call(self, *words, code=0):
        result = CliRunner().invoke(main, [str(word) for word in words], catch_exceptions=False)
        self.assertEqual(result.exit_code, code, result.output)
        return result

    def run_flow(self, *words, code=0):
        return self.call("run", self.path, "--replace", *words, code=code)

    def noted(self):
        return read(self.path).runs

    def guarded(self, *guards):
        self.steps[2]["settings"]["guards"] = guards
        self.path = self.flow(*self.steps)


class Noted(RunsCase):
    def test_a_run_is_noted_with_its_counts_reasons_and_outputs(self):
        self.run_flow()
        (run,) = self.noted()
        self.assertEqual((run.by, run.sources["loans"].rows, run.outputs), ("run", 4, {"out.csv-output": 4}))
        counts = run.knots["joined"]
        self.assertEqual((counts.left_matched, counts.left_unmatched, counts.right_unmatched), (1, 3, 2))
        left = {kind: rows for kind, rows in run.reasons["joined"].items() if kind.startswith("left ")}
        self.assertEqual(left, {"left blank": 1, "left written-differently": 1, "left absent": 1})
        self.assertEqual(sum(run.reasons["joined"].values()), 5)
        self.assertEqual(run.written, ("out.csv-output",))
        self.assertGreater(run.seconds, 0)
        self.assertEqual(run.names["joined"], "Joined")

    def test_guards_are_noted_with_what_they_keep_back(self):
        self.guarded("left-unmatched<=2", "rows=1..9")
        self.run_flow(code=3)
        (run,) = self.noted()
        self.assertEqual(
            [(entry.guard, entry.holds) for entry in run.guards],
            [("left-unmatched<=2", False), ("rows=1..9", True)],
        )
        self.assertEqual((run.written, run.held_back), ((), ("out.csv-output",)))
        said = self.call("runs", self.path).stdout
        self.assertIn("1 broken", said)
        self.assertIn("4 (held back)", said)

    def test_guards_compare_with_runs_in_which_they_held(self):
        self.guarded("left-unmatched<=last:12", "rows=last:12")
        self.assertIn("there is no earlier run to compare with", self.run_flow().stdout)
        self.run_flow()
        self.write("loans.csv", LOANS.replace("Pier", "Attic"))
        for _ in range(2):  # a run that broke it does not make it usual
            said = self.run_flow(code=3).stdout
            self.assertIn(
                "Guard BROKEN: no more loans without a partner than in the worst of the last 12", said
            )
            self.assertIn("4 rows have no partner, 3 in the last 2 runs", said)
        self.write("loans.csv", LOANS + "L-5,Pier\n")
        said = self.run_flow().stdout
        self.assertIn(
            "Guard holds: as many rows as in the last 12 runs, give or take a tenth (5 rows, 4 in", said
        )
        self.write("loans.csv", LOANS + "L-5,Pier\nL-6,Pier\nL-7,Pier\n")
        self.assertIn("7 rows, 4 to 5 in the last 3 runs", self.run_flow(code=3).stdout)

    def test_guards_that_need_a_log_break_where_there_is_none(self):
        self.guarded("rows=last:12")
        log_path(self.path).mkdir()
        self.assertIn("The log of runs cannot be read: ", self.run_flow(code=3).stdout)
        members = json.loads(self.path.read_text())
        self.path.write_text(json.dumps({**members, "keeps_log": False}))
        self.assertIn("none are kept here", self.run_flow(code=3).stdout)

    def test_nothing_is_noted_where_it_is_not_wanted(self):
        self.run_flow("--leave-flow")
        members = json.loads(self.path.read_text())
        self.path.write_text(json.dumps({**members, "keeps_log": False}))
        self.run_flow()
        self.assertFalse(log_path(self.path).exists())
        self.assertIs(json.loads(self.path.read_text())["keeps_log"], False)
        self.assertIn("keeps no log", self.call("runs", self.path).stdout)
        self.path.write_text(json.dumps({**members, "keeps_log": "no"}))
        said = self.run_flow(code=6).stderr
        self.assertIn("“keeps_log” is neither true nor false.", said)

    def test_a_log_that_the_flow_reads_is_never_written(self):
        self.run_flow()
        before = log_path(self.path).read_bytes()
        log = step("log", "source", reader="json-lines", path="a.runs.jsonl")
        self.path = self.flow(*self.steps, log)
        result = self.run_flow()
        self.assertIn("It is a source of this flow", result.stderr)
        self.assertEqual(log_path(self.path).read_bytes(), before)

    def test_no_output_takes_the_place_of_the_log(self):
        self.run_flow()
        before = log_path(self.path).read_bytes()
        target = step("lines", "output", ["joined"], writer="json-lines", path="a.runs.jsonl")
        self.path = self.flow(*self.steps, target)
        self.run_flow(code=5)
        self.assertEqual(log_path(self.path).read_bytes(), before)

    def test_a_run_that_cannot_be_noted_has_written_all_the_same(self):
        log_path(self.path).write_text("my own notes\n")
        result = self.run_flow()
        self.assertIn("It is not a log of runs.", result.stderr)
        self.assertTrue((self.folder / "out.csv").exists())
        self.assertEqual(log_path(self.path).read_text(), "my own notes\n")

    @settings(max_examples=10, deadline=None)
    @given(st.lists(st.text(string.ascii_letters, min_size=9, max_size=12), min_size=1, max_size=6))
    def test_no_cell_is_in_the_log(self, values):
        self.write("loans.csv", "loan,venue\n" + "".join(f"L-1,{value}\n" for value in values))
        self.run_flow()
        said = log_path(self.path).read_text()
        self.assertEqual([value for value in (*values, "Tower", "Quay") if value in said], [])


class Printed(RunsCase):
    def test_runs_are_compared_with_those_before(self):
        self.assertIn(
            "No run is remembered: “a.trellis” was not run yet.", self.call("runs", self.path).stdout
        )
        self.run_flow()
        self.assertIn("There is no run before it", self.call("runs", self.path).stdout)
        self.write("loans.csv", LOANS + "L-5,Attic\nL-6,Attic\n")
        self.run_flow()
        said = self.call("runs", self.path).stdout
        self.assertIn("2 runs are remembered in a.runs.jsonl:", said)
        self.assertIn("Matched now: 16.7 %, the lowest so far; 25.0 % in the run before.", said)
        self.assertIn("Loans without a partner now: 3 absent (1 in the run before), 1 blank, 1 written", said)
        self.write("loans.csv", "loan,venue\nL-1,Pier\n")
        self.run_flow()
        said = self.call("runs", self.path, "--last", 2).stdout
        self.assertIn("3 runs are remembered in a.runs.jsonl; the last 2 of them:", said)
        self.assertIn("Matched now: 100 %, the highest so far; 16.7 % in the run before.", said)

    def test_reasons_of_large_tables_are_looked_for_when_asked(self):
        with mock.patch.object(noting, "_MOST_EXPLAINED", 6):
            self.run_flow()
            self.assertEqual(self.noted()[-1].reasons, {})
            said = self.call("runs", self.path).stdout
            self.assertIn("Why rows have no partner was not looked for, since the tables are large", said)
            self.run_flow("--reasons")
        said = self.call("runs", self.path).stdout
        self.assertIn("Loans without a partner now: 1 absent, 1 blank, 1 written differently.", said)

    def test_json_has_all_that_is_known(self):
        self.run_flow()
        self.run_flow()
        found = json.loads(self.call("runs", self.path, "--json").stdout)
        self.assertEqual([run["knots"]["joined"]["left_rows"] for run in found["runs"]], [4, 4])
        self.assertTrue(found["keeps_log"])

    def test_a_step_that_is_gone_and_an_edit_are_said(self):
        self.run_flow()
        self.path = self.flow(*self.steps[:2], output("loans"))
        self.run_flow()
        said = self.call("runs", self.path).stdout
        self.assertRegex(said, r"run +\d+\.\d +edited")
        self.assertIn("Joined:", said)
        self.assertIn("left rows without a partner now: 1 absent", said)

    def test_lines_that_are_no_run_are_counted(self):
        self.run_flow()
        with log_path(self.path).open("a") as log:
            log.write("=======\n")
        result = self.call("runs", self.path)
        self.assertIn("1 line of it are not read", result.stderr)

    def test_names_from_elsewhere_obey_no_terminal(self):
        self.run_flow()
        log = log_path(self.path)
        log.write_text(
            log.read_text().replace("Joined", "\\u001b[2J").replace('"by":"run"', '"by":"\\u001b[3J"')
        )
        self.path = self.flow(*self.steps[:2])
        self.assertNotIn("\x1b", self.call("runs", self.path).stdout)


class InTheSession(SessionCase):
    def test_a_refresh_is_noted_once_the_flow_has_a_file(self):
        self.begin_rails(loans=LOANS)
        self.session.refresh()
        self.steps.rest()
        path = self.folder / "a.trellis"
        self.session.save(path)
        self.put("loans.csv", LOANS + "L-5,Attic\n")
        self.session.refresh()
        self.steps.rest()
        (run,) = read(path).runs
        self.assertEqual((run.by, [seen.rows for seen in run.sources.values()]), ("refresh", [5]))

    def test_guards_from_the_log_are_offered(self):
        self.begin_rails(loans=LOANS)
        path = self.folder / "a.trellis"
        self.session.apply(
            "Write",
            lambda flow: edits.add_output(
                flow, Input("loans"), OutputSettings("text", str(self.folder / "out.csv"))
            ),
        )
        self.steps.rest()
        output = self.session.flow.steps[-1]

        def offered():
            found = guarding.proposed(self.session.runner, self.session.flow, output, Task())
            return [text for text, _ in found if "last" in text]

        self.assertEqual(offered(), [])
        with self.assertRaisesRegex(UsageError, "has no file yet"):
            self.session.runner.past("loans", 12)
        self.session.save(path)
        for _ in range(3):
            self.assertEqual(offered(), [])
            self.session.refresh()
            self.steps.rest()
        self.assertEqual(offered(), ["rows=last:12"])

    def test_what_cannot_be_noted_is_said(self):
        self.begin_rails(loans=LOANS)
        path = self.folder / "a.trellis"
        self.session.save(path)
        os.mkfifo(log_path(path))
        said = []
        self.session.said.connect(said.append)
        self.session.refresh()
        self.steps.rest()
        self.assertIn("Not noted in the log of runs: ", said[-1])


class OtherSources(RunsCase):
    def setUp(self):
        super().setUp()
        self.write("june.csv", "loan,venue\nL-8,Quay\nL-9,Pier\n")

    def test_a_source_is_read_from_elsewhere_this_once(self):
        before = self.path.read_text()
        result = self.run_flow("--set", f"Loans={self.folder / 'june.csv'}", "--leave-flow")
        self.assertIn("Loans is read from", result.stderr)
        self.assertIn("L-8,Quay,Wick", (self.folder / "out.csv").read_text())
        self.assertEqual(self.path.read_text(), before)
        self.run_flow("--leave-flow")
        self.assertNotIn("L-8", (self.folder / "out.csv").read_text())

    def test_what_is_different_in_its_fields_is_said(self):
        self.write("other.csv", "loan,place,n\n7,Quay,1\n")
        said = self.run_flow("--set", f"loans={self.folder / 'other.csv'}", code=7).stderr
        self.assertIn("venue is gone", said)
        self.assertIn("place is new", said)
        self.assertIn("loan was text and is integer now", said)
        self.assertIn("There is no field “venue” in the left table.", said)

    def test_what_is_set_for_its_fields_stays(self):
        self.steps[0]["settings"]["fields"] = [{"name": "venue", "rename": "where"}]
        self.steps[2]["settings"]["links"] = ({"left": "where", "right": "venue"},)
        self.path = self.flow(*self.steps)
        self.run_flow("--set", f"loans={self.folder / 'june.csv'}")
        self.assertTrue((self.folder / "out.csv").read_text().startswith("loan,where,town"))
        (run,) = self.noted()
        self.assertEqual(run.sources["loans"].rows, 2)
        # The counts are noted in the flow, and what was read this once is not.
        self.assertNotIn("june", self.path.read_text())

    def test_of_several_tables_the_one_called_as_before_is_read(self):
        with xlsxwriter.Workbook(self.folder / "june.xlsx") as book:
            for name, loan in (("loans", "L-8"), ("other", "L-9")):
                sheet = book.add_worksheet(name)
                sheet.write_row(0, 0, ("loan", "venue"))
                sheet.write_row(1, 0, (loan, "Quay"))
        june = self.folder / "june.xlsx"
        self.steps[0]["settings"]["table"] = "loans"
        self.path = self.flow(*self.steps)
        self.run_flow("--set", f"Loans={june}")
        self.assertIn("L-8,Quay,Wick", (self.folder / "out.csv").read_text())
        self.run_flow("--set", f"Loans={june}#other")
        self.assertIn("L-9,Quay,Wick", (self.folder / "out.csv").read_text())

    def test_where_rows_are_stays_with_the_name_of_the_table(self):
        for name in ("may", "june"):
            with xlsxwriter.Workbook(self.folder / f"{name}.xlsx") as book:
                for sheet, header in (("Loans", 1), ("Others", 0)):
                    page = book.add_worksheet(sheet)
                    for row, cells in enumerate((("loan", "venue"), ("L-8", "Quay"), ("L-9", "Quay"))):
                        page.write_row(row + header, 0, cells)
        layout = {"header": 2}
        settings = {"reader": "workbook", "path": "may.xlsx", "table": "Loans", "layout": layout}
        self.steps[0]["settings"] = settings
        self.path = self.flow(*self.steps)
        for table in ("Loans", "Others"):
            self.run_flow("--set", f"Loans={self.folder / 'june.xlsx'}#{table}")
            self.assertIn("L-8,Quay,Wick", (self.folder / "out.csv").read_text())

    def test_what_names_no_source_is_refused(self):
        for typed, said in (
            ("Lent=x.csv", "The flow has no source “Lent”."),
            ("Joined=x.csv", "The flow has no source “Joined”."),
            ("Loans", "“Loans” sets nothing."),
        ):
            self.assertIn(said, self.run_flow("--set", typed, code=2).stderr)
        self.run_flow("--set", f"Loans={self.folder / 'none.csv'}", code=4)

    def test_what_a_set_source_is_read_from_is_not_written(self):
        june = (self.folder / "june.csv").read_bytes()
        self.steps[3]["settings"]["path"] = "june.csv"
        self.path = self.flow(*self.steps)
        self.run_flow("--set", f"Loans={self.folder / 'june.csv'}", code=5)
        self.assertEqual((self.folder / "june.csv").read_bytes(), june)
