"""Flows that run on a real Spark Connect server, on Parquet files that it sees and files that are sent."""

import datetime as dt
import unittest
from pathlib import Path

import pyarrow as pa
from pyarrow import parquet

from keen_trellis.core.errors import Cancelled, OutputError, SourceError
from keen_trellis.core.task import Task
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps.join import LinkSettings
from keen_trellis.handoff.places import session_at
from keen_trellis.handoff.running import NotHandedOff
from tests import spark
from tests.flow.test_through_readers import FULL, NAMES
from tests.handoff.cases import Handed

_TYPES = (pa.int64(), pa.string(), pa.date32(), pa.decimal128(12, 2))


class OnCluster(Handed, unittest.TestCase):
    every = 6

    @classmethod
    def setUpClass(cls):
        cls.address = spark.address()
        cls.begin()

    def table(self, rows):
        path = self.path()
        columns = list(zip(*rows, strict=True)) or [()] * len(NAMES)
        made = [pa.array(column, kind) for column, kind in zip(columns, _TYPES, strict=True)]
        # Several groups of rows: they are in order for all that.
        parquet.write_table(pa.table(made, list(NAMES)), path, row_group_size=5)
        return SourceSettings("columns", str(path))

    def path(self):
        return Path(self.sources.folder) / f"seen {next(self.numbers)}.parquet"

    def session(self, task):
        return session_at(self.address, task, [Path(self.sources.folder)])

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

    def test_no_server(self):
        for address, said in (
            ("sc://127.0.0.1:1", "No connection to Spark"),
            ("sc://h:1/;token=a", "is like sc://host"),
        ):
            with self.assertRaisesRegex(SourceError, said), session_at(address, Task()):
                pass


if __name__ == "__main__":
    unittest.main()
