"""Flows that run on a real Spark Connect server, on Parquet files that it sees and files that are sent."""

import datetime as dt
import io
import itertools
import unittest
from contextlib import redirect_stderr
from pathlib import Path

import pyarrow as pa
from pyarrow import parquet

from keen_trellis.core.errors import Cancelled, OutputError, SourceError, TrellisError
from keen_trellis.core.task import Task
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import FieldSettings, SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.choose import ChooseSettings
from keen_trellis.flow.steps.join import LinkSettings
from keen_trellis.handoff.places import session_at, target_at
from keen_trellis.handoff.proving import prove
from keen_trellis.handoff.running import HandOff, NotHandedOff
from keen_trellis.handoff.spark import spark as spark_session
from keen_trellis.sources.recognise import TEXT
from tests import spark
from tests.cut import Cut
from tests.flow import test_to_sql
from tests.flow.test_through_readers import FULL, NAMES, sources
from tests.handoff.cases import Handed

_ONE_OF = 40  # of the cases that are said in SQL, in an ordinary run
_TYPES = (pa.int64(), pa.string(), pa.date32(), pa.decimal128(12, 2))


class OnCluster(Handed, unittest.TestCase):
    every = 20

    @classmethod
    def setUpClass(cls):
        cls.address = spark.address()
        cls.begin()
        cls.seen = Path(cls.sources.folder) / "seen"
        cls.seen.mkdir()

    def table(self, rows):
        path = self.path()
        columns = list(zip(*rows, strict=True)) or [()] * len(NAMES)
        made = [pa.array(column, kind) for column, kind in zip(columns, _TYPES, strict=True)]
        # Several groups of rows: they are in order for all that.
        parquet.write_table(pa.table(made, list(NAMES)), path, row_group_size=5)
        return SourceSettings("columns", str(path))

    def path(self):
        return self.seen / f"{next(self.numbers)}.parquet"

    def session(self, task):
        return session_at(self.address, task, [self.seen])

    def knot(self):
        """A flow of a table there and a file."""
        link = LinkSettings("k", "k")
        return self.joined(self.table(FULL), self.here(FULL), links=(link,), type="inner")

    def test_tables_that_stay(self):
        flow, knot = self.knot()
        handoff = self.handoff(flow)
        with self.session(Task()) as there:
            ran, _ = handoff.run(there, Task())
            (end,) = handoff.query.ends
            there.check_free(["kept_here"], Task())
            there.keep([("kept_here", end)], Task())
            with self.assertRaisesRegex(OutputError, "already"):
                there.check_free(["kept_here"], Task())
            # The second cannot be made: the first is taken back.
            with self.assertRaisesRegex(OutputError, "already"):
                there.keep([("first", end), ("kept_here", end)], Task())
            there.check_free(["first"], Task())
        with self.session(Task()) as there:
            self.assertEqual(there._session.sql("SELECT * FROM kept_here").count(), ran.outputs[knot])

    def test_many_values_are_prepared_by_the_workers(self):
        rows = [(n, f" Lcm.{n:03} ", None, None) for n in range(200)]
        others = [(n, f"LCM.{n:03}", None, None) for n in range(0, 300, 2)]
        for link in (
            LinkSettings("t", "t", ("case", "outer-spaces")),
            LinkSettings("k", "k", compare_as="text"),
        ):
            flow, _ = self.joined(self.table(rows), self.table(others), links=(link,), type="full-outer")
            handoff = self.handoff(flow)
            with spark_session(self.address, Task(), [self.seen], most_fetched=10) as there:
                proof = prove(handoff, there, 4096, Task())
            self.assertTrue(proof.equal, proof.statement)
            self.assertEqual(proof.ran.knots[0].there.pairs, 100)
            self.assertEqual(there.sent, 0)

    def test_texts_that_the_cluster_sees(self):
        text = self.seen / "loans.csv"
        lines = ["k;t;d;m", *(f"{n % 60};{n};2026-05-{n % 28 + 1:02};{n},50" for n in range(500))]
        text.write_text("\n".join([*lines, '7;"two\nlines; and a ""quote""";;', "8;;;", ""]), "utf-8")
        source = SourceSettings(
            TEXT,
            str(text),
            fields=(FieldSettings("t", rename="note"), FieldSettings("d", left_out=True)),
        )
        numbers = [(n, f"LCM.{n:03}", None, None) for n in range(0, 90, 2)]
        link = LinkSettings("k", "k")
        flow, _ = self.joined(source, self.table(numbers), links=(link,), type="full-outer")
        proof = self.proven(flow, 512)
        self.assertTrue(proof.equal, proof.statement)
        self.assertEqual([entry.how for entry in proof.ran.sources], ["in place", "in place"])
        self.assertEqual(proof.ran.sent, 0)
        self.assertLess(proof.ran.sources[0].rows, 200)
        handoff = self.handoff(flow)
        text.write_text("k;t;d;m\na;b;;\n", "utf-8")
        with (
            self.session(Task()) as there,
            self.assertRaisesRegex(SourceError, "no longer has the field “k”"),
        ):
            handoff.run(there, Task())

    def test_a_field_of_another_type(self):
        settings = self.table(FULL)
        handoff = self.handoff(edits.add_source(Flow(), settings, "Loans")[0])
        parquet.write_table(pa.table({"k": ["a"]}), settings.path)
        with self.session(Task()) as there, self.assertRaisesRegex(SourceError, "“k” is string there"):
            handoff.run(there, Task())

    def test_a_time_is_said_to_have_no_type_there(self):
        path = self.path()
        parquet.write_table(pa.table({"at": pa.array([dt.time(9)], pa.time64("us"))}), path)
        with self.assertRaisesRegex(NotHandedOff, "“at” holds a time, which spark has not"):
            self.handoff(edits.add_source(Flow(), SourceSettings("columns", str(path)), "Loans")[0])

    def test_work_that_is_stopped(self):
        handoff = self.handoff(self.knot()[0])

        def stop(done, total, what):
            if what.startswith("computing"):
                task.cancel()

        task = Task(stop)
        with self.assertRaises(Cancelled), self.session(task) as there:
            handoff.run(there, task)

    def test_a_connection_that_is_cut(self):
        flow, _ = self.joined(
            self.table([(n, str(n), None, None) for n in range(20_000)]),
            self.table([(n, str(n), None, None) for n in range(20_000)]),
            links=(LinkSettings("k", "k"),),
            type="inner",
        )
        handoff = self.handoff(flow)
        port = int(self.address.rpartition(":")[2])
        for when, count in (("computing", 0), ("fetching", 20_000)):
            cut = Cut(port)
            task = Task(
                lambda done, total, what, cut=cut, when=when, count=count: (
                    cut.after(count) if what.startswith(when) else None
                )
            )
            with (
                self.subTest(when),
                self.assertRaisesRegex(SourceError, "No connection to Spark, or it was lost"),
                session_at(f"sc://127.0.0.1:{cut.port}", task, [self.seen]) as there,
            ):
                prove(handoff, there, 4096, task)
            cut.now()
        with self.session(Task()) as there:  # what was there goes on
            there.check_free(["nothing"], Task())

    def test_sessions_share_nothing_that_one_closes_for_another(self):
        from pyspark.sql.connect.client.reattach import ExecutePlanResponseReattachableIterator

        flow, _ = self.knot()
        handoff = self.handoff(flow)
        with self.session(Task()) as there:
            handoff.run(there, Task())
            # What its client has for all sessions: each closes it when it is found to be garbage, wherever
            # that is.
            self.assertIsNone(ExecutePlanResponseReattachableIterator._release_thread_pool_instance)

    def test_no_server(self):
        for address, said in (
            ("sc://127.0.0.1:1", "No connection to Spark"),
            ("sc://h:1/;token=a", "is like sc://host"),
        ):
            with self.assertRaisesRegex(SourceError, said), session_at(address, Task()):
                pass


class SaidOnCluster(test_to_sql.InPostgres):
    """What is said in SQL, step by step, is the same on the cluster; some of the cases in an ordinary run."""

    test_each_kind_on_a_rail = test_joins_and_unions = test_the_demo = None  # among the cases of the other
    test_walks = None  # it has no queries that read what they make

    @classmethod
    def setUpClass(cls):
        cls.address = spark.address()
        cls.sources = sources()
        cls.numbers = itertools.count()

    def compared_alone(self, flow, step, settings, port="rows"):
        if next(self.numbers) % (1 if test_to_sql.is_long() else _ONE_OF):
            return
        if port != "rows":
            flow, step = edits.insert_after(flow, Input(step, port), "choose", ChooseSettings())
        handoff = HandOff(flow, Runner(KINDS, self.sources.library), target_at(self.address), task=Task())
        with self.subTest(settings):
            try:
                with session_at(self.address, Task()) as there:
                    proof = prove(handoff, there, 4096, Task())
            except TrellisError as error:
                with self.assertRaises(TrellisError, msg=str(error)):
                    result = Runner(KINDS, self.sources.library).result(flow, step)
                    result.rows.take(None, result.rows.names)
                return
            self.assertTrue(proof.equal, f"{proof.statement} {proof.differs}")

    def stopped(self, flow, step, port, said):
        if next(self.numbers) % (1 if test_to_sql.is_long() else _ONE_OF):
            return
        if port != "rows":
            flow, step = edits.insert_after(flow, Input(step, port), "choose", ChooseSettings())
        handoff = HandOff(flow, Runner(KINDS, self.sources.library), target_at(self.address), task=Task())
        printed = io.StringIO()
        with (
            session_at(self.address, Task()) as there,
            self.assertRaisesRegex(SourceError, said),
            redirect_stderr(printed),
        ):
            handoff.run(there, Task())
        self.assertEqual(printed.getvalue(), "")


if __name__ == "__main__":
    unittest.main()
