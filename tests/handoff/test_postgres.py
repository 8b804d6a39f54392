"""Flows that run on a real PostgreSQL server, on tables that are there and files that are sent."""

import threading
import time
import unittest

import psycopg

from keen_trellis.core.errors import Cancelled, SourceError, UsageError
from keen_trellis.core.task import Task
from keen_trellis.databases import secrets
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.sort import SortKeySettings, SortSettings
from keen_trellis.flow.to_sql import selected
from keen_trellis.handoff import report
from keen_trellis.handoff.postgres import postgres as session_on
from keen_trellis.handoff.proving import as_lines, prove
from keen_trellis.handoff.running import whole_columns
from keen_trellis.handoff.whole import Wanted, hand_off
from tests import postgres
from tests.flow.test_through_readers import FULL
from tests.handoff.cases import Handed

_COLUMNS = "id serial PRIMARY KEY, k bigint, t text, d date, m numeric(12, 2)"


class OnServer(Handed, unittest.TestCase):
    """A server with tables."""

    @classmethod
    def setUpClass(cls):
        cls.server = postgres.server()
        cls.address = cls.server.address()
        secrets.remember(cls.address, postgres.PASSWORD)
        cls.begin()

    def table(self, rows, columns=_COLUMNS):
        """Rows are numbered where they have a key."""
        if columns is _COLUMNS:
            rows = [(number, *row) for number, row in enumerate(rows, 1)]
        name = self.server.put(f"handed {next(self.numbers)}", rows, columns)
        return SourceSettings("database", self.address, name)

    def temporary_tables(self):
        """How many temporary tables the server has, of all sessions, once those that ended are gone."""
        query, end = "SELECT count(*) FROM pg_class WHERE relpersistence = 't'", time.monotonic() + 20
        with psycopg.connect(self.server.owner, autocommit=True) as connection:
            while (count := connection.execute(query).fetchone()[0]) and time.monotonic() < end:
                pass
            return count

    def flow(self, **more):
        rows = [(n, f"x{n}", None, None) for n in range(50)]
        link = LinkSettings("k", "k")
        return self.joined(self.table(rows, **more), self.table(rows), links=(link,), type="inner")[0]

    def refused(self, error, flow, words, **more):
        with self.assertRaises(error) as raised:
            self.proven(flow, **more)
        self.assertRegex(str(raised.exception), words)
        self.assertEqual(self.temporary_tables(), 0)

    def test_each_type_that_a_table_has_there(self):
        columns = (
            "id serial PRIMARY KEY, small smallint, single real, double double precision, yes boolean, "
            'at time, moment timestamp, zoned timestamptz, "short text" varchar(10), ident uuid, day date, '
            "bare numeric"
        )
        ident = "6f9619ff-8b86-d011-b42d-00cf4fc964ff"
        rows = [
            (
                1,
                7,
                0.1,
                0.1,
                True,
                "09:30",
                "2026-01-02 03:04:05.123456",
                "2026-01-02 03:04+02",
                "pier",
                ident,
                "2026-01-02",
                "1.5",
            ),
            (
                2,
                -7,
                "NaN",
                "Infinity",
                False,
                "23:59:59.999999",
                "0001-01-01",
                "1999-12-31 23:59-05",
                "",
                ident,
                "infinity",
                "-2.25",
            ),
            (3, *(None,) * 11),
            (
                4,
                0,
                "-0.0",
                1e300,
                None,
                "24:00",
                "infinity",
                "-infinity",
                " a ",
                None,
                "0044-03-15 BC",
                "100",
            ),
        ]
        settings = self.table(rows, columns)
        flow, one = edits.add_source(Flow(), settings, "Loans")
        flow, _ = edits.insert_after(flow, Input(one), "sort", SortSettings((SortKeySettings("short text"),)))
        backslash = FilterSettings(conditions=(ConditionSettings("\"short text\" || '\\' <> '\\x'", "true"),))
        flow, _ = edits.insert_after(flow, Input(flow.steps[-1].id), "filter", backslash)
        # Whatever somebody has set for the user.
        for setting in (
            "standard_conforming_strings = off",
            "datestyle = 'German'",
            "timezone = 'Asia/Tokyo'",
            "extra_float_digits = -15",
        ):
            self.server.run(f"ALTER ROLE keeper SET {setting}")
            self.addCleanup(self.server.run, f"ALTER ROLE keeper RESET {setting.partition(' ')[0]}")
        proof = self.proven(flow)
        self.assertTrue(proof.equal, f"{proof.statement} {proof.differs}")
        handoff = self.handoff(flow)
        here = Runner(KINDS, self.library).result(flow, handoff.ends[0]).rows
        with session_on(self.address, Task()) as there:
            handoff.run(there, Task())
            (end,) = handoff.query.ends
            fetched = there.rows(selected(end), end.fields, "all", Task())
        # What is read here by the reader of databases is what stands in place there.
        one, other = (as_lines(table, end.fields) for table in (whole_columns(here), fetched))
        self.assertEqual(one.to_pylist(), other.to_pylist())

    def test_a_table_that_is_linked_with_itself_by_another_field(self):
        """Both sources read the same table, and other rows of it are taken of each."""
        settings = self.table([(n * 7 % 300, f"x{n}", None, None) for n in range(300)])
        link = LinkSettings("k", "id")
        flow, _ = self.joined(settings, settings, links=(link,), type="full-outer")
        proof = self.proven(flow, 512)
        self.assertTrue(proof.equal, proof.statement)
        self.assertTrue(all(0 < entry.rows < 150 for entry in proof.ran.sources), proof.ran.sources)

    def test_a_source_by_itself(self):
        settings = self.table(FULL)
        flow, source = edits.add_source(Flow(), settings, "Loans")
        name = f"kept {settings.table}".replace("public.", "")
        wanted = Wanted(self.address, 4096, tables={source: name})
        done = hand_off(self.handoff(flow), "flow", wanted, Task())
        self.assertEqual(done.kept, ((name, len(FULL)),))
        with psycopg.connect(self.server.owner) as connection:
            (count,) = connection.execute(f'SELECT count(*) FROM "{name}"').fetchone()
        self.assertEqual(count, len(FULL))
        self.assertIn("Made the table", " ".join(report.lines(done)))

    def not_proven(self, handoff, words, task=None, **more):
        """A proof ends with an error that says this, and leaves nothing there."""
        task = task or Task()
        with (
            self.assertRaisesRegex(SourceError, words),
            session_on(self.address, task, **more) as there,
        ):
            prove(handoff, there, 4096, task)
        self.assertEqual(self.temporary_tables(), 0)

    def test_a_large_file_is_not_sent(self):
        flow = self.joined(self.here(FULL), self.table(FULL), links=(LinkSettings("k", "k"),), type="inner")[
            0
        ]
        self.refused(UsageError, flow, "2 rows at most are sent.*Put it there", most_sent=2)

    def test_a_column_of_another_type(self):
        settings = self.table([(1, "a", None, None)])
        flow = self.joined(settings, settings, links=(LinkSettings("k", "k"),), type="inner")[0]
        handoff = self.handoff(flow)
        name = settings.table.partition(".")[2]
        self.server.run(f'ALTER TABLE "{name}" ALTER COLUMN k TYPE text USING k::text')
        self.not_proven(handoff, "“k” is text there, and integer here")

    def test_a_decimal_with_more_places(self):
        settings = self.table([(1, "1.5")], "k bigint, m numeric")
        flow = self.joined(settings, settings, links=(LinkSettings("k", "k"),), type="inner")[0]
        handoff = self.handoff(flow)
        name = settings.table.partition(".")[2]
        for value in ("2.25", "'NaN'"):
            self.server.run(f'INSERT INTO "{name}" VALUES (2, {value})')
            self.not_proven(handoff, "have more places there")
            self.server.run(f'DELETE FROM "{name}" WHERE k = 2')

    def test_a_table_that_is_locked(self):
        flow = self.flow()
        handoff = self.handoff(flow)
        name = handoff.query.sources[0].settings.table.partition(".")[2]
        with psycopg.connect(self.server.owner) as other:
            other.execute(f'LOCK TABLE "{name}"')
            self.not_proven(handoff, "Another session has locked it", lock_seconds=1)

    def test_a_server_that_stops(self):
        own = postgres.another()
        self.addCleanup(setattr, self, "server", self.server)
        self.server, self.address = own, own.address()
        secrets.remember(self.address, postgres.PASSWORD)
        handoff = self.handoff(self.flow())
        task = Task(lambda done, total, what: own.stop() if what.startswith("computing") else None)
        with (
            self.assertRaisesRegex(SourceError, "Knot, .*connection was lost"),
            session_on(self.address, task) as there,
        ):
            prove(handoff, there, 4096, task)

    def test_what_must_match_one_says_what_does_not(self):
        several = self.table([(7, "a", None, None), (7, "b", None, None)])
        rows = [(7, "a", None, None), (8, "b", None, None)]
        link = LinkSettings("k", "k")
        flow, _ = self.joined(self.table(rows), several, links=(link,), type="inner", take="one")
        handoff = self.handoff(flow)
        said = "^Knot: Each row must match one at most, and several match 7[.]$"
        with self.session(Task()) as there, self.assertRaisesRegex(SourceError, said):
            handoff.run(there, Task())

    def test_work_that_is_stopped(self):
        """A query that would take minutes ends at once, and leaves nothing."""
        rows = [(n % 2, f"x{n}", None, None) for n in range(3000)]
        settings = self.table(rows)
        link = LinkSettings("k", "k")
        flow, knot = self.joined(settings, settings, links=(link,), type="inner")
        flow, _ = edits.add_step(
            flow, "join", "Larger", [Input(knot), Input(knot)], JoinSettings(links=(link,), type="inner")
        )
        handoff = self.handoff(flow)
        task = Task()
        threading.Timer(1.0, task.cancel).start()
        with self.assertRaises(Cancelled), session_on(self.address, task) as there:
            handoff.run(there, task)
        self.assertEqual(self.temporary_tables(), 0)

    def test_a_connection_that_is_cut(self):
        handoff = self.handoff(self.flow())

        def cut(done, total, what):
            if "counting" in what:
                self.server.run(
                    "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
                    "WHERE pid <> pg_backend_pid() AND datname = 'registry'"
                )

        task = Task(cut)
        self.not_proven(handoff, "connection was lost", task=task)


if __name__ == "__main__":
    unittest.main()
