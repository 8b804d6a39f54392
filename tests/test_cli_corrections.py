"""Lists of corrections on the command line: looked through, added to, pruned, used by flows and by match."""

import json

from tests.test_cli_flows import output, step, text
from tests.test_cli_runs import RunsCase

LIST = "venues.corrections.csv"


class Lists(RunsCase):
    def setUp(self):
        super().setUp()
        self.list = self.write(LIST, "read,meant,by,on\ntower,Tower,Ada,2026-05-01T08:00:00Z\n")
        link = {"left": "venue", "right": "venue", "lists": ["venues"]}
        self.joined = step("joined", "join", ["loans", "venues"], links=[link], type="left-outer")
        self.flow_with(self.joined)

    def flow_with(self, *steps):
        self.path = self.flow(text("loans"), text("venues"), *steps, output(steps[-1]["id"]))
        members = {**json.loads(self.path.read_text()), "lists": [{"id": "venues", "path": LIST}]}
        self.path.write_text(json.dumps(members))

    def towns(self):
        return [line.split(",") for line in (self.folder / "out.csv").read_text().splitlines()[1:]]

    def test_a_run_uses_it(self):
        self.run_flow()
        self.assertEqual([row[2] for row in self.towns()], ["Wick", "Wick", "", ""])
        self.call("corrections", self.list, "--add", "Hall=Quay")
        said = self.run_flow().stdout
        self.assertEqual([row[2] for row in self.towns()], ["Wick", "Wick", "Wick", ""])
        self.assertIn("flow", said)

    def test_the_flow_is_saved_as_it_was(self):
        self.run_flow()
        members = json.loads(self.path.read_text())
        self.assertEqual(members["lists"], [{"id": "venues", "path": LIST}])
        self.assertEqual(members["steps"][2]["settings"]["links"][0]["lists"], ["venues"])
        self.assertNotIn("Tower", self.path.read_text())

    def test_a_blend_and_a_rung_use_it(self):
        links = [{"left": "venue", "right": "venue", "lists": ["venues"]}]
        other = {"links": links, "measures": [{"function": "count", "name": "n"}]}
        self.flow_with(step("blended", "blend", ["loans", "venues"], others=[other]))
        self.run_flow()
        self.assertEqual([row[2] for row in self.towns()], ["1", "1", "0", "0"])
        rung = {"links": links}
        plain = [{"left": "venue", "right": "venue"}]
        self.flow_with(
            step("laddered", "join", ["loans", "venues"], links=plain, rungs=[rung], type="left-semi")
        )
        self.run_flow()
        self.assertEqual([row[0] for row in self.towns()], ["L-1", "L-2"])

    def test_one_that_cannot_be_read_says_so_at_the_step(self):
        self.list.unlink()
        said = self.run_flow(code=4).stderr
        self.assertIn("Joined: The list of corrections “venues” cannot be used: There is no such file.", said)
        self.write(LIST, "read,meant\na,b\na,c\n")
        self.assertIn("as “b” in row 2, and as “c” in row 3", self.run_flow(code=4).stderr)
        members = {**json.loads(self.path.read_text()), "lists": []}
        self.path.write_text(json.dumps(members))
        self.assertIn("“venues” is not in this flow", self.run_flow(code=4).stderr)

    def test_a_flow_with_two_of_one_id_is_refused(self):
        entry = {"id": "venues", "path": LIST}
        self.path.write_text(json.dumps({**json.loads(self.path.read_text()), "lists": [entry, entry]}))
        self.assertIn("Two lists of corrections have the same id", self.run_flow(code=6).stderr)

    def test_it_is_looked_through_and_pruned(self):
        said = self.call("corrections", self.list).stdout
        self.assertIn("1 pair", said)
        self.assertRegex(said, r"tower\s+Tower\s+Ada\s+2026-05-01 08:00:00")
        made = self.call("corrections", self.list, "--add", "Kai=Quay", "--remove", "tower", "--json").stdout
        (pair,) = json.loads(made)["pairs"]
        self.assertEqual((pair["read"], pair["meant"]), ("Kai", "Quay"))
        self.assertTrue(pair["by"] and pair["on"])
        before = self.list.read_bytes()
        self.assertIn(
            "no pair for “tower”", self.call("corrections", self.list, "--remove", "tower", code=2).stderr
        )
        self.assertIn("write READ=MEANT", self.call("corrections", self.list, "--add", "Kai", code=2).stderr)
        self.assertEqual(self.list.read_bytes(), before)
        self.call("corrections", self.folder / "none.csv", code=4)

    def test_it_takes_what_a_flow_says(self):
        link = {"left": "venue", "right": "venue", "correct": [["Hall", "Quay"]]}
        self.flow_with(step("joined", "join", ["loans", "venues"], links=[link], type="inner"))
        other = self.folder / "new.corrections.csv"
        self.call("corrections", other, "--from-flow", self.path)
        self.assertIn("Hall,Quay,", other.read_text())

    def test_no_output_goes_where_the_list_lies(self):
        members = json.loads(self.path.read_text())
        members["steps"][-1]["settings"]["path"] = LIST
        self.path.write_text(json.dumps(members))
        before = self.list.read_bytes()
        self.assertIn("sources are never changed", self.run_flow(code=5).stderr)
        self.assertEqual(self.list.read_bytes(), before)

    def test_match_takes_a_list(self):
        words = ("match", self.folder / "loans.csv", self.folder / "venues.csv", "--link", "venue=venue")
        counts = json.loads(self.call(*words, "--correct", self.list, "--json").stdout)
        self.assertEqual(counts["left"]["matched"] if "left" in counts else counts["left_matched"], 2)
