"""Next month's files on the command line: empty ones, and values that are not of a field's type."""

import json

from keen_trellis.flow.run_log import read
from tests.test_cli_flows import output, step, text
from tests.test_cli_runs import RunsCase

MAY = "museum,visitors,code\nAbel,12,A1\nBora,7,B2\n"
LINK = ({"left": "visitors", "right": "number"},)


class NextMonth(RunsCase):
    def setUp(self):
        super().setUp()
        self.write("month.csv", MAY)
        self.write("museums.csv", "number,town,code\n12,Wick,1\n7,Pier,2\n")
        steps = [
            text("month"),
            text("museums"),
            step("joined", "join", ["month", "museums"], links=LINK, type="left-outer"),
            step("twice", "compute", ["joined"], field="twice", expression="visitors * 2"),
        ]
        self.path = self.flow(*steps, output("twice"))
        self.run_flow()
        self.out = self.folder / "out.csv"

    def next_month(self, content, *words, code=0):
        self.write("month.csv", content)
        return self.run_flow(*words, code=code)

    def test_an_empty_month_breaks_nothing(self):
        for content in ("museum,visitors,code\n", "museum,visitors,code\nAbel,,\n"):
            said = self.next_month(content).stdout
            self.assertNotIn("BROKEN", said)
            self.assertNotIn("is text now", said)
            self.assertEqual(len(self.out.read_text().splitlines()), len(content.splitlines()))
        # And so does the month after it.
        self.assertNotIn("is text now", self.next_month(MAY).stdout)
        self.assertEqual(self.out.read_text().splitlines()[1], "Abel,12,A1,Wick,1,24")

    def test_a_value_that_does_not_fit_is_told_and_nothing_is_written(self):
        before = self.out.read_text()
        found = self.next_month("museum,visitors,code\nAbel,12,A1\nBora,A7,B2\n", code=3)
        said = "1 value is no integer, as “A7” (row 3); the field was integer when the flow last ran"
        self.assertIn(f"Guard BROKEN: visitors fits its type ({said}).", found.stdout)
        self.assertIn(f"Month: A guard does not hold: visitors fits its type: {said}.", found.stderr)
        self.assertNotIn("Doubtful", found.stdout)
        self.assertEqual(self.out.read_text(), before)
        noted = read(self.path).runs[-1]
        self.assertEqual(
            [(seen.step, seen.guard, seen.holds) for seen in noted.guards],
            [("month", "type=visitors", False)],
        )
        # The type is still the same the next time: it does not wear off.
        self.next_month("museum,visitors,code\nAbel,A8,A1\nBora,7,B2\n", code=3)

    def test_it_can_be_written_all_the_same(self):
        content = "museum,visitors,code\nAbel,12,A1\nBora,A7,B2\n"
        self.next_month(content, "--despite-guards", code=3)
        self.assertEqual(self.out.read_text().splitlines()[1:], ["Abel,12,A1,Wick,1,24", "Bora,,B2,,,"])

    def test_what_is_set_for_the_field_settles_it(self):
        content = "museum,visitors,code\nAbel,12,A1\nBora,A7,B2\n"
        for entry, line in (
            ({"correct": [["A7", "7"]]}, "Bora,7,B2,Pier,2,14"),
            ({"type": "integer"}, "Bora,,B2,,,"),
        ):
            members = json.loads(self.path.read_text())
            members["steps"][0]["settings"]["fields"] = [{"name": "visitors", **entry}]
            self.path.write_text(json.dumps(members))
            self.next_month(content)
            self.assertEqual(self.out.read_text().splitlines()[2], line)

    def test_codes_of_digits_stay_text_also_for_other_run_values(self):
        members = json.loads(self.path.read_text())
        members["values"] = [{"name": "venue", "value": "Pier"}]
        self.path.write_text(json.dumps(members))
        self.write("month.csv", "museum,visitors,code\nAbel,12,01\nBora,7,02\n")
        for words in ((), ("--set", "venue=Quay")):
            self.run_flow(*words)
            self.assertEqual(self.out.read_text().splitlines()[1], "Abel,12,01,Wick,1,24")

    def test_another_file_has_the_types_too(self):
        june = self.write("june.csv", "museum,visitors,code\nAbel,12,A1\nBora,A7,B2\n")
        self.run_flow("--set", f"month={june}", code=3)

    def test_a_report_says_so(self):
        self.write("month.csv", "museum,visitors,code\nAbel,12,A1\nBora,A7,B2\n")
        report = self.folder / "report.html"
        self.call("report", self.path, "--html", report)
        self.assertIn("as “A7” (row 3)", report.read_text())
