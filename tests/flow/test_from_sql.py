"""Queries that become steps: what these give is what SQLite gives for the query."""

import sqlite3
import tempfile
import unittest
from collections import Counter
from contextlib import closing
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from keen_trellis.core.errors import UsageError
from keen_trellis.flow.from_sql import finding, parsed, steps_of
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.steps import KINDS
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library
from tests.tables import rows_of

TABLES = {
    "loans": (
        "no TEXT, venue TEXT, object INTEGER, value INTEGER",
        [
            ("L-1", "Pier", 1, 100),
            ("L-2", "Pier", 2, 200),
            ("L-3", "Hall", 9, 50),
            ("L-4", None, 1, 5),
            ("L-5", "Quay", None, None),
            ("L-6", "pier", 2, 7),
        ],
    ),
    "venues": (
        "venue TEXT, region TEXT",
        [("Pier", "North"), ("Hall", "South"), ("Mill", "South"), (None, "None")],
    ),
    "objects": (
        "id INTEGER, title TEXT, value INTEGER",
        [(1, "Boat", 7), (2, "Net", 8), (3, "Oar", None), (2, "Net", 9)],
    ),
}


class QueryCase(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        place = tempfile.TemporaryDirectory()
        cls.addClassCleanup(place.cleanup)
        cls.path = Path(place.name) / "base.sqlite"
        with closing(sqlite3.connect(cls.path)) as base:
            for name, (columns, rows) in TABLES.items():
                base.execute(f"CREATE TABLE {name} ({columns})")
                signs = ", ".join("?" * (columns.count(",") + 1))
                base.executemany(f"INSERT INTO {name} VALUES ({signs})", rows)
            base.commit()
        cls.library = Library(Cache(Path(place.name) / "cache"))
        cls.runner = Runner(KINDS, cls.library)
        content = cls.library.content(cls.path)
        cls.named = {entry.name: content.settings(entry.name) for entry in content.tables}

    def made(self, text, flow=None):
        return steps_of(flow or Flow(), text, finding(self.named), self.runner.shape)

    def asked(self, text):
        """What SQLite gives: the names of its columns, and its rows."""
        with closing(sqlite3.connect(self.path)) as base:
            found = base.execute(text)
            return [entry[0] for entry in found.description], found.fetchall()

    def same(self, text, *, ordered=False):
        """The steps of a query give what SQLite gives for it; nothing of it lacks."""
        made = self.made(text)
        self.assertEqual(made.lacking, (), text)
        table = self.runner.result(made.flow, made.step).rows
        names, rows = self.asked(text)
        found = [tuple(map(_plain, row)) for row in rows_of(table)]
        rows = [tuple(map(_plain, row)) for row in rows]
        self.assertEqual(len(table.names), len(names), text)
        if ordered:
            self.assertEqual(found, rows, text)
        self.assertEqual(Counter(found), Counter(rows), text)
        return made, table


def _plain(value):
    return (
        float(value)
        if isinstance(value, int)
        else value
        if value is None or isinstance(value, str)
        else float(value)
    )


class Same(QueryCase):
    def test_joins_of_every_kind(self):
        for kind in (
            "JOIN",
            "INNER JOIN",
            "LEFT JOIN",
            "LEFT OUTER JOIN",
            "RIGHT JOIN",
            "FULL JOIN",
            "FULL OUTER JOIN",
        ):
            with self.subTest(kind):
                made, _ = self.same(
                    f"SELECT l.no, v.region FROM loans l {kind} venues v ON l.venue = v.venue"
                )
                (knot,) = [step for step in made.flow.steps if step.kind == "join"]
                self.assertEqual([link.left for link in KINDS.settings(knot).links], ["venue"])
        self.same("SELECT a.no, b.title FROM loans a CROSS JOIN objects b")
        self.same("SELECT no, title FROM loans, objects")
        self.same("SELECT l.no, o.title FROM loans l, objects o WHERE l.object = o.id AND o.value > 7")

    def test_conditions_of_joins(self):
        for on in (
            "l.object = o.id AND o.value > 7",
            "o.id = l.object",
            "l.object < o.id",
            "o.id <= l.object AND l.value > o.value",
            "l.object + 1 = o.id",
            "l.object = o.id OR l.value = o.value",
            "l.value BETWEEN o.id AND o.value",
            "l.object IS NOT DISTINCT FROM o.id",
        ):
            for kind in ("JOIN", "LEFT JOIN"):
                with self.subTest(on=on, kind=kind):
                    self.same(f"SELECT l.no, o.title FROM loans l {kind} objects o ON {on}")
        self.same("SELECT l.no, o.title FROM loans l JOIN objects o ON l.object = o.id AND l.value > 20")
        self.same("SELECT l.no, o.title FROM loans l JOIN objects o ON l.value + o.value > 100")
        self.same("SELECT l.no, o.id FROM loans l RIGHT JOIN objects o ON l.object = o.id AND l.value > 20")

    def test_using_and_stars(self):
        self.same("SELECT * FROM loans")
        self.same("SELECT * FROM loans JOIN venues USING (venue)")
        self.same("SELECT venue, no FROM loans LEFT JOIN venues USING (venue)")
        self.same("SELECT venue, no FROM loans RIGHT JOIN venues USING (venue)")
        self.same("SELECT v.*, l.no FROM loans l JOIN venues v ON v.venue = l.venue")
        _, table = self.same("SELECT * FROM loans l JOIN objects o ON l.object = o.id")
        self.assertEqual(table.names, ("no", "venue", "object", "value", "id", "title", "value of objects"))

    def test_a_table_with_itself(self):
        made, table = self.same(
            "SELECT a.no, b.no FROM loans a JOIN loans b ON a.venue = b.venue AND a.no < b.no"
        )
        self.assertEqual([step.name for step in made.flow.steps][:2], ["loans", "b"])
        self.assertEqual(table.names, ("no", "no of b"))

    def test_rows_and_columns(self):
        self.same(
            'SELECT "no" AS "Loan no", value * 2 AS twice, value FROM loans '
            "WHERE value > 6 AND venue IS NOT NULL"
        )
        self.same(
            "SELECT UPPER(venue) AS v, CASE WHEN value > 60 THEN 'much' ELSE 'little' END AS c FROM loans"
        )
        self.same("SELECT no FROM loans WHERE venue IN ('Pier', 'Hall') OR value BETWEEN 5 AND 7")
        self.same("SELECT no, LENGTH(venue) AS n, COALESCE(value, 0) AS w, object % 2 AS odd FROM loans")
        self.same("SELECT DISTINCT venue FROM loans")
        self.same("SELECT no FROM loans WHERE value IS NOT NULL ORDER BY value DESC LIMIT 2", ordered=True)
        self.same("SELECT no, value AS w FROM loans WHERE value > 0 ORDER BY 2, no", ordered=True)
        self.same(
            "SELECT no FROM loans WHERE venue IS NOT NULL ORDER BY LENGTH(venue), no DESC", ordered=True
        )
        self.same("SELECT value / 2.0 AS half FROM loans")

    def test_groups(self):
        self.same("SELECT venue, SUM(value) AS total, COUNT(*) AS n FROM loans GROUP BY venue")
        self.same(
            "SELECT COUNT(*), COUNT(value), COUNT(DISTINCT venue), AVG(value), MIN(no), MAX(value) FROM loans"
        )
        self.same("SELECT SUM(value) FROM loans WHERE value > 10000")
        self.same(
            "SELECT region, SUM(value) * 2 + 1 AS x FROM loans l JOIN venues v ON "
            "l.venue = v.venue GROUP BY 1"
        )
        self.same(
            "SELECT UPPER(venue) AS v, COUNT(*) AS n FROM loans GROUP BY UPPER(venue) ORDER BY n DESC, v"
        )
        self.same("SELECT UPPER(venue) AS v, COUNT(*) AS n FROM loans GROUP BY v HAVING COUNT(*) > 1")
        self.same(
            "SELECT venue FROM loans GROUP BY venue HAVING SUM(value) > 60 ORDER BY SUM(value) DESC",
            ordered=True,
        )
        self.same(
            "SELECT venue, SUM(value) FILTER (WHERE value > 60) AS much, COUNT(*) "
            "FILTER (WHERE value > 60) AS n "
            "FROM loans GROUP BY venue"
        )
        self.same("SELECT DISTINCT COUNT(*) AS n FROM loans GROUP BY venue")

    def test_queries_within_queries(self):
        self.same(
            "SELECT no FROM loans l WHERE EXISTS (SELECT 1 FROM objects o WHERE o.id = "
            "l.object AND o.value > 7)"
        )
        self.same("SELECT no FROM loans l WHERE NOT EXISTS (SELECT * FROM objects o WHERE o.id = l.object)")
        self.same(
            "SELECT no FROM loans WHERE venue IN (SELECT venue FROM venues WHERE region "
            "= 'North') AND value > 1"
        )
        self.same(
            "SELECT t.v, t.n FROM (SELECT venue AS v, COUNT(*) AS n FROM loans GROUP BY "
            "venue) t WHERE t.n > 1"
        )
        self.same(
            "WITH big AS (SELECT * FROM loans WHERE value > 20), some (a) AS (SELECT venue FROM big) "
            "SELECT big.no, some.a FROM big JOIN some ON big.venue = some.a"
        )
        self.same("SELECT no FROM loans UNION ALL SELECT title FROM objects")
        self.same("SELECT venue FROM loans UNION SELECT venue FROM venues ORDER BY venue")
        grouped = "SELECT max(no) FROM loans GROUP BY venue"
        both = f"SELECT no AS x FROM loans UNION ALL {grouped}"
        made = self.made(f"{both} ORDER BY 'a' || x DESC")
        self.assertEqual(made.lacking, ())
        # SQLite orders a union by its columns only.
        _, rows = self.asked(f"SELECT x FROM ({both}) ORDER BY 'a' || x DESC")
        self.assertEqual(rows_of(self.runner.result(made.flow, made.step).rows), rows)

    def test_conditions_and_groups_stand_in_steps_of_their_own(self):
        made = self.made(
            "SELECT v.region, SUM(l.value) AS total FROM loans l JOIN venues v ON l.venue = v.venue "
            "WHERE l.value > 6 GROUP BY v.region HAVING SUM(l.value) > 60 ORDER BY total LIMIT 3"
        )
        self.assertEqual(
            [step.kind for step in made.flow.steps],
            ["source", "source", "join", "filter", "summarise", "filter", "sort", "first"],
        )

    def test_a_rail_that_is_there_is_used(self):
        first = self.made("SELECT * FROM loans")
        again = self.made("SELECT no FROM Loans", first.flow)
        self.assertEqual([step.kind for step in again.flow.steps], ["source", "choose"])
        self.assertEqual(again.flow.steps[1].inputs[0].step, "loans")


_CONDITION = st.sampled_from(
    [
        "l.value > 20",
        "l.venue = 'Pier'",
        "l.object IS NULL",
        "l.value BETWEEN 5 AND 100",
        "NOT l.no = 'L-2'",
        "l.venue LIKE 'P%r'",
        "(l.value < 60 OR l.object = 2)",
    ]
)


class Generated(QueryCase):
    @settings(deadline=None)
    @given(
        st.sampled_from(["JOIN", "LEFT JOIN", "RIGHT JOIN", "FULL JOIN"]),
        st.sampled_from(
            [
                "l.object = o.id",
                "l.object = o.id AND l.value > o.value",
                "l.value = o.value",
                "l.object >= o.id",
            ]
        ),
        st.lists(_CONDITION, max_size=2),
        st.sampled_from(["l.no, o.title", "l.venue, SUM(o.value) AS s", "COUNT(*) AS n, MAX(o.title) AS m"]),
    )
    def test_queries_are_as_sqlite_has_them(self, kind, on, conditions, columns):
        where = f" WHERE {' AND '.join(conditions)}" if conditions else ""
        group = " GROUP BY l.venue" if "SUM" in columns else ""
        if "LIKE" in where:
            where = where.replace("LIKE 'P%r'", "= 'Quay'")  # SQLite takes no notice of case there
        self.same(f"SELECT {columns} FROM loans l {kind} objects o ON {on}{where}{group}")


class Lacking(QueryCase):
    def test_what_has_no_counterpart_is_said_and_the_rest_is_made(self):
        for text, said in (
            ("SELECT no, ROW_NUMBER() OVER (ORDER BY no) AS r FROM loans", "a function over a window"),
            ("SELECT no, (SELECT MAX(id) FROM objects) AS m FROM loans", "a query within an expression"),
            (
                "SELECT no FROM loans WHERE venue NOT IN (SELECT venue FROM venues)",
                "a query within an expression",
            ),
            ("SELECT no, SOUNDEX(venue) AS s FROM loans", "There is no function"),
            (
                "SELECT l.no FROM loans l LEFT JOIN venues v ON l.venue = v.venue AND l.value > 3",
                "no link of this join",
            ),
            (
                "SELECT venue, SUM(DISTINCT value) AS s FROM loans GROUP BY venue",
                "which measures each value once",
            ),
            ("SELECT venue, GROUP_CONCAT(no) AS s FROM loans GROUP BY venue", "there is no such measure"),
            ("SELECT no FROM loans LIMIT 2 OFFSET 1", "OFFSET"),
            (
                "SELECT venue, no, COUNT(*) AS n FROM loans GROUP BY venue",
                "neither a key of the groups nor measured",
            ),
            ("SELECT no FROM loans WHERE venue = 3", "WHERE"),
            ("SELECT no FROM loans FULL JOIN venues USING (venue)", "USING (venue)"),
        ):
            with self.subTest(text):
                made = self.made(text)
                self.assertTrue(made.lacking, text)
                if said != "WHERE":
                    self.assertIn(said, " | ".join(made.lacking))
                self.runner.result(made.flow, made.step)

    def test_what_differs_is_noted(self):
        self.assertIn("keep their fraction", self.made("SELECT value / 2 AS h FROM loans").notes[0])

    def test_what_is_no_query_on_these_tables_is_refused(self):
        for text, said in (
            ("", "There is no query"),
            ("DELETE FROM loans", "no SELECT"),
            ("SELECT no FROM loans; SELECT 1 FROM loans", "several statements"),
            ("SELECT no FROM (loans", "cannot be read"),
            ("SELECT 1", "names no table"),
            ("SELECT x FROM loans", "There is no field “x”"),
            ("SELECT value FROM loans JOIN objects ON object = id", "can be several fields"),
            ("SELECT no FROM lons", "“lons” is not here"),
            ("SELECT no FROM loans NATURAL JOIN venues", "has no counterpart here"),
            ("SELECT no FROM loans EXCEPT SELECT title FROM objects", "EXCEPT has no counterpart"),
            (
                "WITH RECURSIVE r AS (SELECT no FROM loans UNION ALL SELECT no FROM r) SELECT no FROM r",
                "recursive",
            ),
            ("SELECT no FROM loans UNION SELECT id, title FROM objects", "1 and 2 columns"),
            ("SELECT no FROM GENERATE_SERIES(1, 3) g", "is no table"),
        ):
            with self.subTest(text), self.assertRaisesRegex(UsageError, said):
                self.made(text)
        self.assertTrue(parsed("select 1 from t where a::int = 2 -- a comment"))
