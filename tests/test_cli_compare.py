"""Two versions of a flow compared: steps in words, and the rows that come out differently."""

import json

from keen_trellis.demo.flow_names import WINTER_LOANS
from tests import demo_data
from tests.test_cli_flows import output, step, text
from tests.test_cli_runs import LINK, RunsCase


class CompareCase(RunsCase):
    def other(self, *steps, **members):
        return self.write("b.trellis", json.dumps({"format": "keen-trellis/1", "steps": steps, **members}))

    def compare(self, *steps, words=(), code=0, **members):
        return self.call("compare", self.path, self.other(*steps, **members), *words, code=code)

    def members(self, *steps, words=()):
        return json.loads(self.compare(*steps, words=("--json", *words)).stdout)


class Steps(CompareCase):
    def test_the_same_is_said_to_be_the_same_in_another_folder_too(self):
        self.assertIn("Both versions say the same", self.compare(*self.steps).stdout)
        self.assertTrue(self.members(*self.steps)["same"])
        folder = self.folder / "copy"
        folder.mkdir()
        for name in ("loans.csv", "venues.csv", "a.trellis"):
            (folder / name).write_bytes((self.folder / name).read_bytes())
        self.assertIn(
            "Both versions say the same", self.call("compare", self.path, folder / "a.trellis").stdout
        )
        (folder / "loans.csv").write_text("loan,venue\nL-1,Pier\n")
        said = self.call("compare", self.path, folder / "a.trellis").stdout
        self.assertIn("The steps are the same; they read other rows.", said)
        self.assertIn("4 rows before, 1 after", said)

    def test_each_way_a_step_changes_is_said(self):
        loans, venues, joined, _ = self.steps
        fill = step(
            "fill", "fill", ["joined"], fills=[{"fields": ["town"], "of": "unknown", "gaps": "no-partner"}]
        )
        changed = {**joined, "name": "With towns", "note": "asked by the desk"}
        changed["settings"] = {"links": [{**LINK[0], "ignore": ["case"]}], "type": "inner"}
        found = self.members(loans, venues, changed, fill, {**output("fill"), "skipped": True})
        by_step = {entry["step"]: entry for entry in found["steps"]}
        self.assertEqual(
            {name: entry["change"] for name, entry in by_step.items()},
            {"joined": "changed", "fill": "new", "out.csv-output": "changed"},
        )
        said = by_step["joined"]["said"]
        self.assertEqual(said[0], "It was called Joined.")
        self.assertIn("ignoring case", said[2])
        self.assertEqual(
            said[3:],
            [
                "links 1, ignore: case; was nothing.",
                "type: inner; was left-outer.",
                "Its note is another one.",
            ],
        )
        self.assertEqual(by_step["out.csv-output"]["said"][0], "It is skipped now.")
        self.assertIn("It took rows from Joined, now from Fill.", by_step["out.csv-output"]["said"])
        back = json.loads(self.call("compare", self.folder / "b.trellis", self.path, "--json").stdout)
        self.assertEqual({entry["step"]: entry["change"] for entry in back["steps"]}["fill"], "gone")

    def test_a_port_that_is_taken_instead_is_a_change(self):
        found = self.members(*self.steps[:3], output("joined:unmatched_left"))
        self.assertEqual(
            found["steps"][0]["said"][0],
            "It took rows from Joined, now from unmatched left of Joined.",
        )
        self.assertEqual((found["outputs"][0]["rows_before"], found["outputs"][0]["rows_after"]), (4, 3))

    def test_a_step_with_another_id_is_the_same_if_only_it_has_the_name(self):
        loans, venues, joined, out = self.steps
        found = self.members(
            {**loans, "id": "lent"},
            venues,
            {**joined, "inputs": [{"step": "lent", "port": "rows"}, {"step": "venues", "port": "rows"}]},
            out,
        )
        self.assertTrue(found["same"], found)

    def test_a_new_source_in_place_of_one_that_is_gone_is_said_at_the_join(self):
        self.write("halls.csv", "venue,town\nPier,Wick\n")
        loans, _, joined, out = self.steps
        inputs = [{"step": "loans", "port": "rows"}, {"step": "halls", "port": "rows"}]
        found = self.members(loans, text("halls"), {**joined, "inputs": inputs}, out)
        said = {entry["step"]: entry["said"] for entry in found["steps"]}
        self.assertEqual(said["joined"][0], "It took rows from Loans and Venues, now from Loans and Halls.")

    def test_shared_filters_are_compared(self):
        shared = {"id": "s", "name": "Season", "is": "one-of", "values": ["Pier"]}
        said = self.compare(*self.steps, filters=[shared]).stdout
        self.assertIn("The shared filter Season is new.", said)


class Rows(CompareCase):
    def joined(self, **settings):
        loans, venues, joined, out = self.steps
        changed = {**joined["settings"], **settings}
        return loans, venues, {**joined, "settings": changed}, out

    def test_rows_are_found_again_and_compared_field_by_field(self):
        found = self.members(*self.joined(links=[{**LINK[0], "ignore": ["case"]}]))["outputs"][0]
        self.assertEqual((found["key"], found["added"], found["gone"], found["changed"]), (["loan"], 0, 0, 1))
        self.assertEqual(found["by_field"], {"town": 1})
        (row,) = found["rows_changed"]
        self.assertEqual(
            (row["before"]["town"], row["after"]["town"], row["after"]["loan"]), (None, "Wick", "L-2")
        )
        said = self.compare(*self.joined(links=[{**LINK[0], "ignore": ["case"]}])).stdout
        self.assertIn("changed: “L-2”: town: “Wick”, was blank", said)

    def test_how_many_rows_are_shown_can_be_said(self):
        found = self.members(*self.joined(type="inner"), words=("--rows", 2))["outputs"][0]
        self.assertEqual((found["gone"], len(found["rows_gone"])), (3, 2))
        found = self.members(*self.joined(type="inner"), words=("--rows", 0))["outputs"][0]
        self.assertEqual((found["gone"], found["rows_gone"]), (3, []))

    def test_a_key_is_used_or_refused(self):
        steps = self.joined(links=[{**LINK[0], "ignore": ["case"]}])
        found = self.members(*steps, words=("--key", "loan"))["outputs"][0]
        self.assertEqual(found["key"], ["loan"])
        self.assertIn(
            "town does not tell the rows of Out.csv-output apart, or is blank in some.",
            self.compare(*steps, words=("--key", "town"), code=2).stderr,
        )
        self.assertIn("has no field “lent”", self.compare(*steps, words=("--key", "lent"), code=2).stderr)

    def test_what_cannot_be_computed_is_said_and_the_rest_compared(self):
        steps = self.joined(links=[{"left": "pier", "right": "venue"}])
        other = {**output("loans", "loans-out.csv")}
        self.path = self.flow(*self.steps, other)
        found = self.members(*steps, other)
        self.assertIn("Its rows cannot be compared: ", found["outputs"][0]["error"])
        self.assertEqual((found["outputs"][1]["error"], found["outputs"][1]["rows_after"]), ("", 4))
        self.assertFalse(found["same"])

    def test_rails_that_lead_nowhere_are_compared_too(self):
        self.path = self.flow(*self.steps[:3])
        found = self.members(*self.joined(type="inner")[:3])["outputs"]
        self.assertEqual([(end["name"], end["gone"]) for end in found], [("Joined", 3)])


class OfTheDemo(CompareCase):
    def test_repeated_rows_do_not_hide_which_fields_changed(self):
        path = demo_data.copy(self.folder / "demo") / WINTER_LOANS
        members = json.loads(path.read_text())
        (knot,) = (entry for entry in members["steps"] if entry["id"] == "loans-with-objects")
        knot["settings"]["links"][0]["ignore"].append("punctuation")
        other = path.with_name("other.trellis")
        other.write_text(json.dumps(members))
        found = json.loads(self.call("compare", path, other, "--json").stdout)["outputs"][0]
        self.assertEqual((found["key"], found["added"], found["gone"]), (["Loan no"], 0, 0))
        self.assertEqual(found["by_field"]["title"], found["changed"])
        self.assertGreater(found["changed"], 0)


if __name__ == "__main__":
    import unittest

    unittest.main()
