"""A flow is made of a query on the command line, and run."""

import json

from tests.test_cli_runs import RunsCase

QUERY = "SELECT l.loan, v.town FROM loans l LEFT JOIN venues v ON l.venue = v.venue WHERE l.loan <> 'L-4'"


class Made(RunsCase):
    def make(self, query, *words, code=0):
        path = self.write("query.sql", query)
        sources = [self.folder / "loans.csv", f"venues={self.folder / 'venues.csv'}"]
        return self.call("from-sql", path, *sources, *words, code=code)

    def test_a_flow_is_written_that_runs(self):
        target = self.folder / "made.trellis"
        said = self.make(QUERY, "--flow", target).stdout
        self.assertIn("Read loans.csv.", said)
        self.assertIn(f"Wrote {target}.", said)
        members = json.loads(self.make(QUERY, "--json").stdout)
        self.assertEqual(
            [entry["kind"] for entry in members["steps"]], ["source", "source", "join", "filter", "choose"]
        )
        self.assertEqual((members["lacking"], members["notes"]), ([], []))
        self.call("run", target)
        self.assertIn("It exists", self.make(QUERY, "--flow", target, code=6).stderr)
        self.make(QUERY, "--flow", target, "--replace")

    def test_nothing_is_made_where_something_lacks_unless_that_is_asked(self):
        target = self.folder / "made.trellis"
        query = "SELECT loan, RANK() OVER (ORDER BY loan) AS r FROM loans"
        said = self.make(query, "--flow", target, code=2).stderr
        self.assertIn("No counterpart: RANK() OVER (ORDER BY loan) AS r: a function over a window", said)
        self.assertFalse(target.exists())
        self.make(query, "--flow", target, "--partly")
        self.assertTrue(target.exists())

    def test_what_is_wrong_with_the_query_is_said(self):
        for query, said in (("SELECT loan FROM lons", "“lons” is not here"), ("UPDATE loans", "no SELECT")):
            self.assertIn(said, self.make(query, code=2).stderr)
        none = ("from-sql", self.folder / "none.sql", self.folder / "loans.csv")
        self.assertIn("cannot be read", self.call(*none, code=4).stderr)
