"""`hand-off` as a user calls it: the demo on a real PostgreSQL server."""

import json
import tempfile
import unittest
from pathlib import Path

import psycopg
from click.testing import CliRunner
from python_calamine import CalamineWorkbook

from keen_trellis.cli import main
from tests import demo_data, postgres


class HandOff(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = demo_data.copy(Path(place.name) / "demo")
        self.server = postgres.server()
        address = self.server.address()
        # A password in the address is taken out of it, and stands in nothing that is written.
        self.address = address.replace("@", f":{postgres.PASSWORD.replace('@', '%40')}@", 1)
        self.shown = address

    def call(self, flow, *words):
        words = ["hand-off", str(self.folder / f"{flow}.trellis"), "--on", self.address, *map(str, words)]
        return CliRunner().invoke(main, words)

    def there(self, query):
        with psycopg.connect(self.server.owner) as connection:
            return connection.execute(query).fetchall()

    def test_the_demo_is_proven_kept_there_and_fetched(self):
        report = self.folder / "handed.json"
        found = self.call(
            "Winter loans",
            *("--sample", "256", "--write", "Loan report.xlsx=winter loans"),
            *("--fetch", "--to", self.folder / "out", "--report", report, "--json"),
        )
        self.assertEqual(found.exit_code, 0, found.output)
        members = json.loads(found.stdout)
        self.assertTrue(members["proof"]["equal"])
        self.assertEqual(members["place"], self.shown)
        self.assertEqual(members, json.loads(report.read_text()))
        self.assertNotIn(postgres.PASSWORD, found.output + report.read_text())
        rows = members["whole"]["knots"][-1]["there"]["result_rows"]
        self.assertEqual(members["tables"], [{"table": "winter loans", "rows": rows}])
        self.assertEqual(self.there('SELECT count(*) FROM "winter loans"'), [(rows,)])
        # What is fetched is what a run writes here.
        CliRunner().invoke(
            main, ["run", str(self.folder / "Winter loans.trellis"), "--to", str(self.folder / "run")]
        )
        one, other = (
            CalamineWorkbook.from_path(self.folder / name / "Loan report.xlsx")
            .get_sheet_by_index(0)
            .to_python()
            for name in ("out", "run")
        )
        self.assertGreater(len(one), 8000)
        self.assertEqual(one, other)
        again = self.call("Winter loans", "--write", "Loan report.xlsx=winter loans")
        self.assertEqual(again.exit_code, 5)
        self.assertIn("There is a table “winter loans” already.", again.stderr)

    def test_what_it_came_to_here_stands_beside(self):
        flow = self.folder / "Returns desk.trellis"
        CliRunner().invoke(main, ["run", str(flow), "--to", str(self.folder)])
        found = self.call("Returns desk")
        self.assertEqual(found.exit_code, 0, found.output)
        self.assertIn("; the same here.", found.stdout)
        self.assertIn("It was not proven", found.stdout)
        self.assertIn(", sent.", found.stdout)

    def test_guards_are_not_passed_over(self):
        found = self.call("Guarded loans", "--fetch", "--to", self.folder / "out")
        self.assertEqual(found.exit_code, 3)
        self.assertIn("cannot be checked there", found.stderr)
        self.assertEqual(list((self.folder / "out").iterdir()), [])
        only_counted = self.call("Guarded loans")
        self.assertEqual(only_counted.exit_code, 0, only_counted.output)
        self.assertIn("were not checked there.", only_counted.stdout)
        kept = self.call("Guarded loans", "--fetch", "--to", self.folder / "out", "--despite-guards")
        self.assertEqual(kept.exit_code, 0, kept.output)

    def test_what_cannot_be_handed_off(self):
        for words, code, said in (
            (("Labels",), 2, "Labels with Makers: “maker like maker” compares how alike values are"),
            (("Winter loans", "--send-at-most", "1000"), 2, "Put it there as a table"),
            (("Winter loans", "--sample", "5000"), 2, "A proof takes 1 to 4,096 parts"),
            (("Winter loans", "--write", "Loans=x"), 2, "names no output and table"),
            (("Winter loans", "--write", "Loan report.xlsx="), 2, "names no output and table"),
            (("Winter loans", "--to", self.folder), 2, "give --fetch, too"),
            (("Winter loans", "--report", "x.pdf"), 2, "ends in .txt or .json"),
            (("Winter loans", "--report", self.folder / "Winter loans.trellis"), 2, "ends in .txt or .json"),
            (("Winter loans", "--set", "x=1"), 2, "no run value “x”"),
        ):
            with self.subTest(words):
                found = self.call(*words)
                self.assertEqual(found.exit_code, code, found.output)
                self.assertIn(said, found.stderr)
        for address, said in (
            ("mysql://a/b", "to PostgreSQL and to Spark"),
            ("x", "to PostgreSQL and to Spark"),
            ("postgresql://127.0.0.1:1/x", "No connection"),
        ):
            self.address = address
            found = self.call("Winter loans")
            self.assertIn(said, found.stderr)
            self.assertNotIn("Traceback", found.output)


if __name__ == "__main__":
    unittest.main()
