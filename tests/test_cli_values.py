"""Run values on the command line: given by words, asked for, and a table with a row for each run."""

import json
import os
import pty
import subprocess
import sys

from keen_trellis.flow.run_log import read
from tests.test_cli_flows import output, step, text
from tests.test_cli_runs import RunsCase

VALUES = [
    {"name": "venue", "value": "Pier", "said": "Which venue?", "choices": ["Pier", "Hall", "Quay"]},
    {"name": "limit", "type": "number", "value": "9"},
]


class ValuesCase(RunsCase):
    def setUp(self):
        super().setUp()
        keep = [{"of": "venue", "is": "one-of", "values": [":venue"]}]
        out = output("kept", ":venue.csv")
        out["settings"]["guards"] = ["rows=..:limit"]
        self.steps = [text("loans"), step("kept", "filter", ["loans"], conditions=keep), out]
        self.path = self.flow_of(VALUES)

    def flow_of(self, values):
        path = self.flow(*self.steps)
        members = json.loads(path.read_text())
        path.write_text(json.dumps({**members, "values": values}))
        return path

    def out(self, name):
        path = self.folder / f"{name}.csv"
        return path.read_text().splitlines() if path.exists() else None


class Given(ValuesCase):
    def test_a_run_has_the_flows_values_unless_it_is_given_others(self):
        self.run_flow()
        self.assertEqual(self.out("Pier"), ["loan,venue", "L-1,Pier"])
        before = self.path.read_text()
        said = self.run_flow("--set", "venue=Hall").stdout
        self.assertEqual(self.out("Hall"), ["loan,venue", "L-3,Hall"])
        # It says nothing of a change since a run with another value, and does not count as the last one.
        self.assertNotIn("changed since", said)
        self.assertEqual(self.path.read_text(), before)
        self.assertEqual([run.values["venue"] for run in read(self.path).runs], ["Pier", "Hall"])

    def test_a_guard_has_its_limit_from_a_value(self):
        self.assertIn("BROKEN", self.run_flow("--set", "limit=0", code=3).stdout)

    def test_what_cannot_be_a_value_is_refused_before_anything_is_written(self):
        for words, said in (
            ("venue=Tower", "venue cannot be “Tower”. It can be: Pier, Hall, Quay."),
            ("limit=many", "limit is a number, and “many” is none"),
            ("venu=Pier", "The flow has no source “venu”"),
        ):
            self.assertIn(said, self.run_flow("--set", words, code=2).stderr)
        self.assertIsNone(self.out("Pier"))

    def test_a_value_that_would_lead_to_another_folder_is_refused(self):
        self.path = self.flow_of([{"name": "venue"}, VALUES[1]])
        said = self.run_flow("--set", "venue=../Pier", code=2).stderr
        self.assertIn("cannot be part of a file's name", said)

    def test_a_value_that_is_lacking_is_asked_for_or_said(self):
        self.path = self.flow_of([{**VALUES[0], "value": ""}, VALUES[1]])
        said = self.run_flow(code=2).stderr
        self.assertIn("The flow has no value for venue. Give --set venue=…", said)
        ours, theirs = pty.openpty()
        command = [sys.executable, "-m", "keen_trellis.cli", "run", str(self.path)]
        quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.PIPE}
        with subprocess.Popen(command, stdin=theirs, text=True, **quiet) as run:
            os.write(ours, b"Tower\nHall\n")
            said = run.communicate()[1]
        os.close(ours)
        os.close(theirs)
        self.assertIn("venue (Which venue?) (Pier, Hall, Quay): ", said)
        self.assertEqual(self.out("Hall"), ["loan,venue", "L-3,Hall"])

    def test_a_name_of_a_value_and_a_source_is_not_guessed(self):
        self.path = self.flow_of([{"name": "loans", "value": "x"}, *VALUES])
        self.assertIn("Both a run value and a source", self.run_flow("--set", "loans=y", code=2).stderr)


class ARowARun(ValuesCase):
    def test_each_row_has_its_own_output_and_line_in_the_log(self):
        self.write("venues-to-do.csv", "venue,limit\nPier,9\nHall,\nQuay,9\n")
        result = self.run_flow("--values", self.folder / "venues-to-do.csv", "--json")
        told = json.loads(result.stdout)["runs"]
        self.assertEqual([run["values"]["venue"] for run in told], ["Pier", "Hall", "Quay"])
        self.assertEqual([run["outputs"][0]["rows"] for run in told], [1, 1, 0])
        self.assertEqual((self.out("Pier")[1:], self.out("Hall")[1:]), (["L-1,Pier"], ["L-3,Hall"]))
        self.assertEqual([run.row for run in read(self.path).runs], ["Pier", "Hall", "Quay"])
        listed = self.call("runs", self.path).stdout
        self.assertRegex(listed, r"run +\d\.\d +.*venue = Pier, limit = 9\n")
        self.assertIn("venue = Quay, limit = 9", listed)

    def test_one_that_fails_keeps_no_other_from_being_run(self):
        self.write("todo.csv", "venue,limit\nPier,0\nHall,9\n")
        result = self.run_flow("--values", self.folder / "todo.csv", code=3)
        self.assertIn("venue = Pier, limit = 0:", result.stdout)
        self.assertIn("1 of 2 runs failed or have broken guards", result.stderr)
        self.assertIsNone(self.out("Pier"))
        self.assertEqual(self.out("Hall"), ["loan,venue", "L-3,Hall"])

    def test_runs_for_a_row_are_compared_among_themselves(self):
        self.steps[2]["settings"]["guards"] = ["rows=last:3"]
        self.path = self.flow_of(VALUES)
        self.write("todo.csv", "venue\nPier\nQuay\n")
        for _ in range(2):
            self.run_flow("--values", self.folder / "todo.csv")
        # Quay has no loan, and had none before: that is not judged by Pier's.
        self.write("loans.csv", "loan,venue\n" + "L,Quay\n" * 9)
        said = self.run_flow("--values", self.folder / "todo.csv", code=3).stdout
        self.assertIn("9 rows", said)

    def test_what_cannot_be_run_is_said_before_anything_is_written(self):
        for content, said in (
            ("venue,month\nPier,1\n", "no run value “month”, which is a column"),
            ("venue,limit\n", "has 0 rows of values"),
            ("venue,limit\n,9\n", "Row 1 of"),
            ("limit\n9\n8\n", "The runs for 9 and 8 would both write"),
            ("venue\nPier\nTower\n", "venue cannot be “Tower”"),
        ):
            self.write("todo.csv", content)
            self.assertIn(said, self.run_flow("--values", self.folder / "todo.csv", code=2).stderr)
            self.assertIsNone(self.out("Pier"))
