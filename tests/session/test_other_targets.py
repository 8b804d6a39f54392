"""An output that is no file: a table of a database, written by a writer that only this test has."""

import sqlite3
import tempfile
import unittest
from contextlib import closing, contextmanager
from pathlib import Path
from unittest import mock

from keen_trellis.core.errors import OutputError
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.output import TARGETS, OutputSettings, Target
from keen_trellis.outputs import WRITERS
from keen_trellis.session.running import run_flow
from keen_trellis.sources.library import Library


class TableWriter:
    """Rows into a table `settings.sheet` of the SQLite database at `settings.path`; no ending, no draft."""

    name = "table"

    def place(self, settings):
        return f"{settings.path}, table {settings.sheet}"

    def inside(self, settings, folder):
        raise OutputError("It is no file.", where=self.place(settings))

    def would_replace(self, settings, kept):
        with closing(sqlite3.connect(settings.path)) as base:
            return bool(
                base.execute("SELECT 1 FROM sqlite_master WHERE name = ?", (settings.sheet,)).fetchone()
            )

    def goes_with(self, settings):
        return ""

    def check(self, settings, kept, *, replace):
        if self.would_replace(settings, kept) and not replace:
            raise OutputError("The table exists already.", where=self.place(settings))

    @contextmanager
    def staged(self, parts, task):
        yield [[] for _ in parts]
        for part in parts:
            self.put(part.table, part.settings)

    def put(self, table, settings):
        batches = [[cells.values.to_pylist() for cells in batch] for batch in table.batches(table.names)]
        with closing(sqlite3.connect(settings.path)) as base, base:
            base.execute(f'DROP TABLE IF EXISTS "{settings.sheet}"')
            base.execute(f'CREATE TABLE "{settings.sheet}" ({", ".join(table.names)})')
            for batch in batches:
                rows = zip(*batch, strict=True)
                base.executemany(
                    f'INSERT INTO "{settings.sheet}" VALUES ({", ".join("?" * len(batch))})', rows
                )


class Tables(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "loans.csv").write_text("loan,venue\nL-1,Pier\nL-2,Tower\n")
        self.base = str(self.folder / "register")  # a name without an ending
        for known, made in ((WRITERS, TableWriter()), (TARGETS, Target("a table", frozenset({"sheet"})))):
            patch = mock.patch.dict(known, {"table": made})
            patch.start()
            self.addCleanup(patch.stop)

    def run_into(self, *tables, replace=False, to=None):
        settings = SourceSettings("text", str(self.folder / "loans.csv"), "loans")
        flow, rail = edits.add_source(Flow(), settings, "loans")
        for table in tables:
            output = OutputSettings("table", self.base, sheet=table)
            flow, _ = edits.add_output(flow, Input(rail), output)
        return run_flow(flow, KINDS, Library(), replace=replace, folder=to)

    def rows(self, table):
        with closing(sqlite3.connect(self.base)) as base:
            return base.execute(f"SELECT * FROM {table}").fetchall()

    def test_two_tables_of_one_database(self):
        done = self.run_into("lent", "kept")
        self.assertEqual(
            [entry.place for entry in done.written], [f"{self.base}, table {n}" for n in ("lent", "kept")]
        )
        self.assertEqual(self.rows("lent"), [("L-1", "Pier"), ("L-2", "Tower")])
        self.assertEqual(self.rows("kept"), self.rows("lent"))

    def test_what_is_refused(self):
        with self.assertRaisesRegex(OutputError, "Two outputs write to it"):
            self.run_into("lent", "lent")
        with self.assertRaisesRegex(OutputError, "It is no file"):
            self.run_into("lent", to=self.folder)
        self.run_into("lent")
        with self.assertRaisesRegex(OutputError, "exists already"):
            self.run_into("lent")
        self.run_into("lent", replace=True)
        self.assertEqual(len(self.rows("lent")), 2)


if __name__ == "__main__":
    unittest.main()
