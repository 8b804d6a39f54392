"""`sql` as a user calls it, on the demo."""

import json
import tempfile
import unittest
from pathlib import Path

from click.testing import CliRunner

from keen_trellis.cli import main
from tests import demo_data


class Sql(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = demo_data.copy(Path(place.name) / "demo")

    def call(self, *words):
        return CliRunner().invoke(main, ["sql", *map(str, words)])

    def test_each_output_as_a_query_with_a_part_for_each_step(self):
        found = self.call(self.folder / "All couriers.trellis")
        self.assertEqual(found.exit_code, 0, found.output)
        self.assertIn("-- Couriers: courier-logs, with its rows numbered in the column place\n", found.stdout)
        self.assertIn('WITH "All trips" AS (\n', found.stdout)
        self.assertTrue(found.stdout.rstrip().endswith('"All couriers.xlsx"."place" ASC NULLS LAST;'))

    def test_the_dialects_differ(self):
        flow = self.folder / "All couriers.trellis"
        said = {name: self.call(flow, "--dialect", name).stdout for name in ("ansi", "postgresql", "spark")}
        self.assertIn('ORDER BY "by venue, month"."venue" COLLATE "C" ASC', said["postgresql"])
        self.assertNotIn("COLLATE", said["ansi"])
        self.assertIn("`by venue, month`.`venue`", said["spark"])
        wrong = self.call(flow, "--dialect", "klingon")
        self.assertEqual(wrong.exit_code, 2)
        self.assertIn("There are: ansi, postgresql, spark, sqlite.", wrong.stderr)

    def test_a_step_and_its_prepared_values(self):
        flow = self.folder / "Winter loans.trellis"
        found = self.call(flow, "--step", "Loans with Objects", "--json")
        (query,) = json.loads(found.stdout)["queries"]
        self.assertEqual(query["step"], "Loans with Objects")
        self.assertEqual({entry["source"] for entry in query["tables"]}, SOURCES)
        self.assertEqual(len(query["prepared"]), 2)
        self.assertIn("ignoring case", query["prepared"][0]["table"])
        self.assertIn("LEFT JOIN", query["sql"])

    def test_what_no_sql_says_is_named_step_by_step(self):
        found = self.call(self.folder / "Labels.trellis")
        self.assertEqual(found.exit_code, 2)
        self.assertEqual(found.stdout, "")
        self.assertIn(
            "Not in SQL: Labels with Makers: “maker like maker” compares how alike values are", found.stderr
        )
        told = json.loads(self.call(self.folder / "Labels.trellis", "--json").stdout)
        (query,) = told["queries"]
        self.assertIsNone(query["sql"])
        self.assertEqual(query["refused"][0]["step"], "Labels with Makers")

    def test_run_values_stand_in_it_and_must_be_known(self):
        flow = self.folder / "Region by region.trellis"
        (query,) = json.loads(self.call(flow, "--set", "region=South", "--json").stdout)["queries"]
        self.assertEqual(query["parameters"], {"region": "South", "since": "2026-01-01"})
        self.assertEqual(query["written"], {})
        self.assertIn("-- :region: a run value, here South\n", query["sql"])
        self.assertRegex(query["sql"], r"(=|IN \() *:region")
        self.assertNotIn("'South'", query["sql"])
        wrong = self.call(flow, "--set", "nothing=North")
        self.assertEqual(wrong.exit_code, 2)
        self.assertIn("no run value “nothing”", wrong.stderr)


SOURCES = {"Loans of loans-2026.xlsx", "objects of registry.sqlite"}


if __name__ == "__main__":
    unittest.main()
