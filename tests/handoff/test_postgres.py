"""Flows that run on a real PostgreSQL server, on tables that are there and files that are sent."""

import itertools
import random
import unittest

import psycopg
import sqlglot.expressions as exp
from hypothesis import settings as default_settings

from keen_trellis.core.errors import SourceError, TrellisError, UsageError
from keen_trellis.core.task import Task
from keen_trellis.databases import secrets
from keen_trellis.flow import edits
from keen_trellis.flow.file_format import load
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.in_sql.target import POSTGRESQL
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.compute import ComputeSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.handoff.postgres import postgres as session_on
from keen_trellis.handoff.proving import prove
from keen_trellis.handoff.running import HandOff, NotHandedOff
from tests import demo_data, postgres
from tests.flow.test_through_readers import CONTENTS, FULL, joins, on_a_rail, sources
from tests.flow.test_to_sql import odd_rows

_COLUMNS = "id serial PRIMARY KEY, k bigint, t text, d date, m numeric(12, 2)"
_EXAMPLES = 60
_numbers = itertools.count()


class OnServer(unittest.TestCase):
    """A server with tables, and flows of them."""

    @classmethod
    def setUpClass(cls):
        cls.server = postgres.server()
        cls.address = cls.server.address()
        secrets.remember(cls.address, postgres.PASSWORD)
        cls.sources = sources()
        cls.library = cls.sources.library

    def table(self, rows, columns=_COLUMNS):
        """The settings of a source for a table there; rows are numbered where they have a key."""
        if columns is _COLUMNS:
            rows = [(number, *row) for number, row in enumerate(rows, 1)]
        name = self.server.put(f"handed {next(_numbers)}", rows, columns)
        return SourceSettings("database", self.address, name)

    def here(self, rows):
        """The settings of a source for a file."""
        return self.sources.settings("a.parquet", rows)

    def handoff(self, flow, **more):
        return HandOff(flow, Runner(KINDS, self.library), POSTGRESQL, task=Task(), **more)

    def proven(self, flow, buckets=4096, task=None, **more):
        """The proof of a flow, of so many buckets."""
        task = task or Task()
        handoff = self.handoff(flow, **more)
        with session_on(self.address, task) as there:
            return prove(handoff, there, buckets, task)

    def temporary_tables(self):
        """How many temporary tables the server has, of all sessions."""
        with psycopg.connect(self.server.owner) as connection:
            query = "SELECT count(*) FROM pg_class WHERE relpersistence = 't'"
            return connection.execute(query).fetchone()[0]

    @staticmethod
    def joined(left, right, **more):
        flow, one = edits.add_source(Flow(), left, "Left")
        flow, other = edits.add_source(flow, right, "Right")
        return edits.add_step(flow, "join", "Knot", [Input(one), Input(other)], JoinSettings(**more))


def in_turn(cases, every):
    """Some of the cases in an ordinary run, all in a long one."""
    is_long = default_settings.default.max_examples > _EXAMPLES
    return [case for number, case in enumerate(cases) if is_long or number % every == 0]


class Generated(OnServer):
    def test_each_kind_and_join(self):
        tables = [self.table(rows) for rows in (*CONTENTS.values(), FULL, *map(odd_rows, range(3)))]
        files = [self.here(rows) for rows in (FULL, *map(odd_rows, range(3, 5)))]
        pairs = [
            (tables, tables),
            (tables, files),
            (files, tables),
        ]
        run = 0
        for number, (kind, settings) in enumerate(in_turn(list(on_a_rail()) + list(joins()), 2)):
            chosen = random.Random(number)
            left, right = (chosen.choice(some) for some in pairs[number % len(pairs)])
            flow, one = edits.add_source(Flow(), left, "Rail 0")
            flow, other = edits.add_source(flow, right, "Rail 1")
            inputs = [Input(one), Input(other)][: len(KINDS.find(kind).input_names)]
            flow, _ = edits.add_step(flow, kind, "Made", inputs, settings)
            with self.subTest(kind=kind, settings=settings):
                try:
                    for buckets in (4096, 1024):
                        proof = self.proven(flow, buckets)
                        self.assertTrue(proof.equal, f"{proof.statement} {proof.differs}")
                    run += 1
                except NotHandedOff:
                    continue
                except TrellisError as error:
                    # What cannot be computed here is an error here, too.
                    with self.assertRaises(TrellisError, msg=str(error)):
                        runner = Runner(KINDS, self.library)
                        for step in flow.steps:
                            runner.result(flow, step.id).rows.take(
                                None, runner.result(flow, step.id).rows.names
                            )
        self.assertGreater(run, 40)

    def test_a_chain_on_different_keys(self):
        rows = [(number % 97, f"LCM.{number % 61:03}", None, None) for number in range(2000)]
        others = [(number, f" lcm.{number:03}", None, None) for number in range(120)]
        flow, first = edits.add_source(Flow(), self.table(rows), "Loans")
        flow, second = edits.add_source(flow, self.table(others), "Objects")
        flow, third = edits.add_source(flow, self.table(others), "Venues")
        prepared = LinkSettings("t", "t", ("case", "outer-spaces"))
        flow, knot = edits.add_step(
            flow,
            "join",
            "By text",
            [Input(first), Input(second)],
            JoinSettings(links=(prepared,), type="left-outer"),
        )
        by_number = JoinSettings(links=(LinkSettings("k", "k"),), type="full-outer", take="last")
        flow, _ = edits.add_step(flow, "join", "By number", [Input(knot), Input(third)], by_number)
        proof = self.proven(flow, 512)
        self.assertTrue(proof.equal, proof.statement)
        taken = {entry.name: entry.rows for entry in proof.ran.sources}
        self.assertEqual(proof.restricted.remarks, [])
        # All partners of what was taken are in: none of the rows that were taken is without one.
        self.assertEqual([knot.there.left_unmatched for knot in proof.ran.knots], [0, 0])
        self.assertTrue(
            0 < taken["Loans"] < 1000 and 0 < taken["Objects"] < 60 and taken["Venues"] < 120, taken
        )

    def test_where_it_is_not_complete_is_said(self):
        rows = [(number % 7, f"x{number % 5}", None, None) for number in range(50)]
        flow, one = edits.add_source(Flow(), self.table(rows), "Loans")
        flow, other = edits.add_source(flow, self.table(rows), "Objects")
        join = JoinSettings(links=(LinkSettings("k", "k"),), type="inner")
        flow, knot = edits.add_step(flow, "join", "First", [Input(one), Input(other)], join)
        again = JoinSettings(links=(LinkSettings("t", "t"),), type="inner")
        flow, last = edits.add_step(flow, "join", "Second", [Input(knot), Input(other)], again)
        proof = self.proven(flow, 2048)
        self.assertTrue(proof.equal, proof.statement)
        self.assertIn("At Second rows were chosen by other values", proof.restricted.remarks[0])
        expression = JoinSettings(links=(LinkSettings("k + 1", "k", left_is_expression=True),), type="inner")
        flow, _ = edits.add_step(flow, "join", "Third", [Input(last), Input(other)], expression)
        self.assertIn("At Third no link", self.proven(flow, 2048).restricted.remarks[1])

    def test_the_demo(self):
        for path in demo_data.folder().glob("*.trellis"):
            try:
                proof = self.proven(load(path, KINDS))
            except NotHandedOff:
                continue
            with self.subTest(path.stem):
                self.assertTrue(proof.equal, proof.statement)


class Differences(OnServer):
    def test_a_difference_is_found_with_the_step_where_it_begins(self):
        flow, one = edits.add_source(
            Flow(), self.table([(n, f"x{n}", None, None) for n in range(9)]), "Loans"
        )
        flow, made = edits.insert_after(
            flow, Input(one), "compute", ComputeSettings(field="n", expression="k + 1")
        )
        filled = FilterSettings(conditions=(ConditionSettings("n", "filled"),))
        flow, _ = edits.insert_after(flow, Input(made), "filter", filled)
        handoff = self.handoff(flow)
        part = next(part for part in handoff.query.parts if part.planned.step.id == made)
        select = part.select
        # As if the server computed it otherwise.
        for entry in list(select.expressions):
            if entry.alias_or_name == "n":
                entry.replace(exp.cast(exp.Literal.number(2), "BIGINT").as_("n"))
        with session_on(self.address, Task()) as there:
            proof = prove(handoff, there, 4096, Task())
        self.assertFalse(proof.equal)
        self.assertEqual(proof.differs.step, made)
        self.assertIn("begin to differ at", proof.statement)
        self.assertEqual(len(proof.differs.only_there), 5)
        self.assertEqual(proof.differs.only_there[0][-1], "2")


class Faults(OnServer):
    def flow(self, **more):
        rows = [(n, f"x{n}", None, None) for n in range(50)]
        link = LinkSettings("k", "k")
        return self.joined(self.table(rows, **more), self.table(rows), links=(link,), type="inner")[0]

    def refused(self, error, flow, words, **more):
        with self.assertRaises(error) as raised:
            self.proven(flow, **more)
        self.assertRegex(str(raised.exception), words)
        self.assertEqual(self.temporary_tables(), 0)

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
