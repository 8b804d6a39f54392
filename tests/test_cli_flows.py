"""Small flows, written as their files say, looked at and run from the command line."""

import json
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

from click.testing import CliRunner

from keen_trellis.cli import main


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
