"""Tables of databases, written and read back: SQLite files, and a real PostgreSQL server."""

import datetime as dt
import sqlite3
import tempfile
import unittest
from contextlib import closing
from decimal import Decimal
from pathlib import Path
from unittest import mock

import msgspec
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from keen_trellis.core.errors import Cancelled, OutputError, UsageError
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.databases import secrets
from keen_trellis.databases.engines import PasswordNeeded
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.output import check_settings
from keen_trellis.outputs import write
from keen_trellis.outputs.database import connecting, filling
from keen_trellis.outputs.targets import read_target
from keen_trellis.session.running import run_flow
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library
from tests.postgres import PASSWORD, server
from tests.tables import rows_of, table

_TEXTS = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=6)
_ROWS = st.lists(
    st.tuples(
        _TEXTS | st.sampled_from(["", '"', "a\nb", "\\N", "\\.", "%", "NULL"]) | st.none(),
        st.integers(-(2**63), 2**63 - 1) | st.none(),
        st.decimals(-(10**9), 10**9, places=4) | st.none(),
        st.floats(allow_nan=False) | st.none(),
        st.booleans() | st.none(),
        st.dates(dt.date(1, 1, 1)) | st.none(),
        st.datetimes() | st.none(),
    ),
    max_size=6,
)
_TYPES = {
    "text": pa.large_string(),
    'whole "number"': pa.int64(),
    "cost %": pa.decimal128(20, 4),
    "share": pa.float64(),
    "lent?": pa.bool_(),
    "day": pa.date32(),
    "at:moment": pa.timestamp("us"),
}


def made(rows):
    columns = list(zip(*rows, strict=True)) or [[] for _ in _TYPES]
    arrays = [pa.array(column, kind) for column, kind in zip(columns, _TYPES.values(), strict=True)]
    return ArrowTable(pa.table(arrays, names=list(_TYPES)))


def loans(*rows):
    """Loans by number, with their crates and cost."""
    numbers, crates, costs = zip(*rows, strict=True) if rows else ((), (), ())
    columns = {
        "loan": pa.array(numbers, pa.large_string()),
        "crates": pa.array(crates, pa.int64()),
        "cost": pa.array([Decimal(cost) if cost else None for cost in costs], pa.decimal128(9, 2)),
    }
    return ArrowTable(pa.table(columns))


class EachDatabase:
    """What holds of SQLite and of PostgreSQL. target: a table.  query: rows of a statement."""

    def write(self, found, *, replace=True, target=None, **chosen):
        wanted = msgspec.structs.replace(read_target(target or self.target), **chosen)
        check_settings(wanted)
        return write(found, wanted, replace=replace).changed

    def rows(self):
        return sorted(self.query(f"SELECT loan, crates, cost FROM {self.table}"))

    def refuse(self, said, found, **chosen):
        before = self.rows()
        with self.assertRaisesRegex((OutputError, UsageError), said):
            self.write(found, **chosen)
        self.assertEqual(self.rows(), before)

    def come_back(self, rows):
        """Values of every type are what they were."""
        self.drop()
        self.write(made(rows))
        found = self.read()
        self.assertEqual(found.names, tuple(_TYPES))
        expected = [tuple(self.held(value) for value in row) for row in rows]
        self.assertEqual([tuple(map(self.held, row)) for row in rows_of(found)], expected)

    def test_modes(self):
        first = loans(("L-1", 1, "1.50"), ("L-2", 2, None))
        self.assertEqual(self.write(first, replace=False, key=("loan",)), ())
        self.refuse("exists already.*has 2 rows, deleted before", first, replace=False)
        self.refuse("has a table .*already", first, mode="new", replace=False)
        self.write(loans(("L-3", 3, "3")), mode="append", replace=False)
        self.assertEqual([row[0] for row in self.rows()], ["L-1", "L-2", "L-3"])
        said = self.write(
            loans(("L-1", 1, "1.5"), ("L-2", 9, None), ("L-4", 4, None)), mode="update", key=("loan",)
        )
        self.assertEqual(said, ("1 new, 1 changed, 1 unchanged, 1 left that these rows do not have",))
        self.assertEqual([row[:2] for row in self.rows()], [("L-1", 1), ("L-2", 9), ("L-3", 3), ("L-4", 4)])
        said = self.write(loans(("L-1", None, "7")), mode="update", key=("loan",), gone="delete")
        self.assertEqual(said, ("0 new, 1 changed, 0 unchanged, 3 deleted",))
        self.assertEqual(self.rows(), [("L-1", None, self.cost("7.00"))])
        self.assertEqual(self.write(first), ("1 row deleted before",))
        self.assertEqual(len(self.rows()), 2)

    def test_what_does_not_fit_is_refused_with_the_difference(self):
        self.write(loans(("L-1", 1, "1")), key=("loan",), index=("crates",))
        for found, chosen, said in (
            (table(loan=["x"], crates=["many"], cost=[1]), {}, "“crates” is .*int.* there and text here"),
            (
                table(loan=["x"], crate=[1]),
                {},
                "no column “crate”, these rows have no “crates”, these rows have no “cost”",
            ),
            (table(crates=[1]), {"mode": "append"}, "these rows have no “loan”"),
            (
                loans(("L-2", 1, None), ("L-2", 2, None)),
                {"mode": "update", "key": ("loan",)},
                "Several of these rows have the key L-2",
            ),
            (loans((None, 1, None)), {"mode": "update", "key": ("loan",)}, "blank in some of these rows"),
            (loans(), {"mode": "update"}, "Nothing says which rows are the same"),
            (loans(), {"mode": "update", "key": ("lone",)}, "no field “lone”"),
            (loans(), {"gone": "delete"}, "Only an update leaves out"),
            (loans(("L-1", 1, None)), {"mode": "append"}, "(?i)unique"),
        ):
            with self.subTest(said):
                self.refuse(said, found, **chosen)

    def test_a_change_of_some_fields_leaves_the_others(self):
        self.write(loans(("L-1", 1, "1"), ("L-2", 2, "2")))
        said = self.write(table(loan=["L-2"], crates=[7]), mode="update", key=("loan",))
        self.assertEqual(said[0][:30], "0 new, 1 changed, 0 unchanged,")
        self.assertEqual(self.rows()[1], ("L-2", 7, self.cost("2.00")))

    def test_a_view_and_a_stop(self):
        self.write(loans(("L-1", 1, "1")))
        self.run_sql(f"CREATE VIEW {self.view} AS SELECT * FROM {self.table}")
        self.refuse("is a view", loans(), target=self.target.replace("loans", "seen"))
        task = Task(lambda *_: task.cancel())
        with self.assertRaises(Cancelled):
            write(loans(("L-9", 1, None)), read_target(self.target), replace=True, task=task)
        self.assertEqual([row[0] for row in self.rows()], ["L-1"])

    def test_all_outputs_of_a_database_or_none(self):
        source = self.folder / "loans.csv"
        source.write_text("loan,crates,cost\nL-1,1,1.5\n")
        flow, rail = edits.add_source(Flow(), SourceSettings("text", str(source), "loans"), "loans")
        one, other = (read_target(self.target.replace("loans", name)) for name in ("loans", "kept"))
        flow, _ = edits.add_output(flow, Input(rail), one)
        flow, _ = edits.add_output(
            flow, Input(rail), msgspec.structs.replace(other, mode="update", key=("crates",))
        )
        library = Library(Cache(self.folder / "cache"))
        done = run_flow(flow, KINDS, library)
        self.assertEqual([entry.within for entry in done.written], [one.table, other.table])
        # The second one cannot take its rows, so that the first one stays as it was, too.
        source.write_text("loan,crates,cost\nL-1,1,1.5\nL-2,1,2.5\n")
        with self.assertRaisesRegex(OutputError, "Several of these rows have the key 1"):
            run_flow(flow, KINDS, Library(Cache(self.folder / "cache")), replace=True)
        self.assertEqual(len(self.rows()), 1)


class Sqlite(EachDatabase, unittest.TestCase):
    table, view = "loans", "seen"

    def setUp(self):
        folder = tempfile.TemporaryDirectory(prefix="keen-trellis-tests-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.file = self.folder / "register.db"
        self.target = f"sqlite:{self.file}#loans"

    def drop(self):
        self.file.unlink(missing_ok=True)

    def query(self, statement):
        with closing(sqlite3.connect(self.file)) as base:
            return base.execute(statement).fetchall()

    run_sql = query

    def cost(self, text):
        return float(text)

    def held(self, value):
        return float(value) if isinstance(value, Decimal) else value

    def read(self):
        with closing(sqlite3.connect(self.file)) as base:
            cursor = base.execute("SELECT * FROM loans")
            names = [entry[0] for entry in cursor.description]
            columns = list(zip(*cursor.fetchall(), strict=True)) or [[] for _ in names]
        arrays = [
            pa.array(map(_typed(kind), column), pa.float64() if pa.types.is_decimal(kind) else kind)
            for column, kind in zip(columns, _TYPES.values(), strict=True)
        ]
        return ArrowTable(pa.table(arrays, names=names))

    @settings(max_examples=30, deadline=None)
    @given(_ROWS)
    def test_values_of_every_type_come_back(self, rows):
        self.come_back(rows)

    def test_our_own_reader_finds_the_types(self):
        at = dt.datetime(2026, 1, 2, 3, 4, 5)
        self.write(made([("a", 1, Decimal("1.5"), 0.5, True, at.date(), at)]))
        library = Library(Cache(self.folder / "cache"))
        found = library.get(SourceSettings("sqlite", str(self.file), "loans"), Task()).table
        self.assertEqual(rows_of(found)[0][5:], (at.date(), at))

    def test_what_sqlite_does_not_hold(self):
        self.write(loans())
        long = ArrowTable(pa.table({"v": pa.array([Decimal("1234567890.12345678")], pa.decimal128(30, 8))}))
        self.refuse("Row 1 of v .*more than 15 digits", long, target=f"sqlite:{self.file}#other")
        said = self.write(table(v=[1.5, float("nan")]), target=f"sqlite:{self.file}#reals")
        self.assertEqual(said, ("1 cell of v left blank: no number (NaN), which SQLite does not hold",))

    def test_a_new_file_is_whole_or_not_there(self):
        with self.assertRaisesRegex(OutputError, "no field"):
            self.write(ArrowTable(pa.table({})))
        self.assertEqual(list(self.folder.iterdir()), [])
        self.write(loans())
        self.assertEqual([path.name for path in self.folder.iterdir()], ["register.db"])

    def test_a_source_is_not_written_and_a_locked_one_says_so(self):
        self.write(loans(("L-1", 1, "1")))
        flow, rail = edits.add_source(Flow(), SourceSettings("sqlite", str(self.file), "loans"), "loans")
        flow, _ = edits.add_output(flow, Input(rail), read_target(f"sqlite:{self.file}#copy"))
        with self.assertRaisesRegex(OutputError, "a source of this flow"):
            run_flow(flow, KINDS, Library(Cache(self.folder / "cache")))
        with closing(sqlite3.connect(self.file)) as base:
            base.execute("BEGIN IMMEDIATE")
            self.refuse("Another program has locked the database", loans(), mode="append")
        self.file.write_bytes(b"no database, but long enough to be looked at" * 9)
        with self.assertRaisesRegex(OutputError, "damaged or cut off"):
            self.write(loans())

    def test_as_it_is_put_into_databases_that_are_neither(self):
        """Of these there is none here: their way is gone with SQLite's."""
        with mock.patch.multiple(filling, _put_into_sqlite=filling._put, _for_sqlite=filling._plain):
            self.write(table(**{"a:b": ["x", None], "n%": [1, 2]}), replace=False)
            self.write(table(**{"a:b": ["y"], "n%": [3]}), mode="append")
        self.assertEqual(self.query('SELECT "a:b", "n%" FROM loans'), [("x", 1), (None, 2), ("y", 3)])

    def test_targets(self):
        for text, path in (
            (f"{self.file}#loans", self.file),
            (f"sqlite:{self.folder}/a#loans", self.folder / "a"),
        ):
            found = read_target(text)
            self.assertEqual((found.writer, found.path, found.table), ("database", str(path), "loans"))
        for text in ("sqlite:a", "postgresql://keeper@host/base"):
            with self.assertRaisesRegex(UsageError, "names no table"):
                read_target(text)


def _typed(kind):
    """What turns a value of SQLite into one of this type."""
    if pa.types.is_date(kind):
        return lambda value: value and dt.date.fromisoformat(value)
    if pa.types.is_timestamp(kind):
        return lambda value: value and dt.datetime.fromisoformat(value)
    if pa.types.is_boolean(kind):
        return lambda value: None if value is None else bool(value)
    return lambda value: value


class Postgres(EachDatabase, unittest.TestCase):
    table, view = "outputs.loans", "outputs.seen"

    def setUp(self):
        self.server = server()
        folder = tempfile.TemporaryDirectory(prefix="keen-trellis-tests-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.addCleanup(secrets.forget_all)
        secrets.remember(self.server.address(), PASSWORD, lasting=False)
        self.target = f"{self.server.address()}#outputs.loans"
        # A schema of its own: the server is shared with other tests.
        self.server.run("DROP SCHEMA IF EXISTS outputs CASCADE; CREATE SCHEMA outputs")
        self.addCleanup(self.server.run, "DROP SCHEMA outputs CASCADE")

    def drop(self):
        self.server.run("DROP TABLE IF EXISTS outputs.loans")

    def query(self, statement):
        import psycopg

        with psycopg.connect(self.server.owner) as connection:
            return connection.execute(statement).fetchall()

    def run_sql(self, statement):
        self.server.run(statement)

    def cost(self, text):
        return Decimal(text)

    def held(self, value):
        return value

    def read(self):
        rows = self.query("SELECT * FROM outputs.loans")
        return made(rows)

    @settings(max_examples=30, deadline=None)
    @given(_ROWS)
    def test_values_of_every_type_come_back(self, rows):
        self.come_back(rows)

    def test_the_table_has_the_types_the_key_and_the_index(self):
        self.write(made([]), key=('whole "number"',), index=("day", "text"))
        found = self.query(
            "SELECT column_name, data_type, numeric_precision, numeric_scale FROM information_schema.columns "
            "WHERE (table_schema, table_name) = ('outputs', 'loans') ORDER BY ordinal_position"
        )
        self.assertEqual([row[0] for row in found], list(_TYPES))
        self.assertEqual(found[2], ("cost %", "numeric", 20, 4))
        self.assertEqual([row[1] for row in found][5:], ["date", "timestamp without time zone"])
        indexes = "SELECT count(*) FROM pg_indexes WHERE (schemaname, tablename) = ('outputs', 'loans')"
        self.assertEqual(self.query(indexes), [(2,)])

    def test_what_postgresql_does_not_hold(self):
        self.write(loans())
        self.refuse("Row 2 of loan has the sign of number zero", loans(("a", 1, None), ("b\0c", 1, None)))
        self.drop()
        self.run_sql("CREATE TABLE outputs.loans (loan text, crates integer, cost numeric)")
        self.refuse("out of range", table(loan=["x"], crates=[2**40], cost=[1]), mode="append")

    def test_who_may_not_and_who_is_not_known(self):
        self.write(loans(("L-1", 1, "1")))
        self.server.run("GRANT USAGE ON SCHEMA outputs TO guest")
        guest = self.server.address("guest")
        secrets.remember(guest, PASSWORD, lasting=False)
        self.refuse("may not write to it", loans(), target=f"{guest}#outputs.loans", mode="append")
        secrets.forget_all()
        with self.assertRaisesRegex(PasswordNeeded, "asks for a password"):
            self.write(loans())

    def test_a_table_that_is_read_is_not_written(self):
        self.write(loans(("L-1", 1, "1")))
        source = SourceSettings("database", self.server.address(), "outputs.loans")
        flow, rail = edits.add_source(Flow(), source, "loans")
        same, other = (
            edits.add_output(flow, Input(rail), read_target(self.target.replace("loans", name)))[0]
            for name in ("loans", "kept")
        )
        library = Library(Cache(self.folder / "cache"))
        with self.assertRaisesRegex(OutputError, "a source of this flow"):
            run_flow(same, KINDS, library, replace=True)
        run_flow(other, KINDS, library)
        self.assertEqual(self.query("SELECT count(*) FROM outputs.kept"), [(1,)])

    def test_another_session_holds_it(self):
        import psycopg

        self.write(loans(("L-1", 1, "1")))
        with psycopg.connect(self.server.owner) as connection:
            connection.execute("LOCK TABLE outputs.loans")
            with (
                mock.patch.object(connecting, "LOCK_SECONDS", 1),
                self.assertRaisesRegex(OutputError, "Another session has locked it"),
            ):
                self.write(loans(), mode="append")


if __name__ == "__main__":
    unittest.main()
