"""PostgreSQL, on a real server: schemas, types, keys, queries, rights, passwords, and a connection that is
lost.
"""

import datetime as dt
import os
import threading
import time
import unittest
from decimal import Decimal
from unittest import mock

import keyring
from keyring.backend import KeyringBackend

from keen_trellis.core.errors import Cancelled, SourceError
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.databases import secrets
from keen_trellis.databases.engines import PasswordNeeded
from keen_trellis.flow.addresses import parse
from keen_trellis.flow.remark import ForeignKey
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.trust import accept_queries, reached_by
from keen_trellis.sources.queries import checked_query
from tests.postgres import PASSWORD, server
from tests.sources.source_case import SourceCase
from tests.tables import rows_of

T = FieldType
_SCHEMA = """
DROP SCHEMA IF EXISTS store CASCADE;
DROP SCHEMA public CASCADE; -- with what other tests of this process left there
CREATE SCHEMA public;
GRANT USAGE ON SCHEMA public TO PUBLIC;
CREATE TABLE objects (accession text PRIMARY KEY, title text, made integer);
INSERT INTO objects VALUES ('LCM.2', 'Grey figurehead', 1790), ('LCM.1', '', NULL);
CREATE TABLE loans (loan_no text, object_no text REFERENCES objects (accession), UNIQUE (loan_no));
CREATE VIEW lately AS SELECT accession FROM objects;
CREATE SCHEMA store;
CREATE TABLE store.shelves (shelf text PRIMARY KEY, size numeric(6,2));
INSERT INTO store.shelves VALUES ('A1', 12.50), ('A2', NULL);
CREATE TABLE everything (
    i bigint, s smallint, n numeric, r double precision, b boolean, d date, t time, ts timestamp,
    tz timestamptz, u uuid, j jsonb, a text[], v varchar(9), raw bytea, nothing text);
INSERT INTO everything VALUES (9007199254740993, 7, 1.50, 0.1, true, '2026-02-03', '08:30',
    '2026-02-03 04:05:06', '2026-02-03 04:05:06+02', '00000000-0000-0000-0000-000000000001', '{"a": [1]}',
    '{x,y}', 'word', 'x', NULL);
GRANT SELECT ON objects TO guest;
"""


class MemoryKeyring(KeyringBackend):
    """A keyring like a desktop's, in memory."""

    priority = 1

    def __init__(self):
        super().__init__()
        self.kept = {}

    def get_password(self, service, username):
        return self.kept.get((service, username))

    def set_password(self, service, username, password):
        self.kept[service, username] = password

    def delete_password(self, service, username):
        self.kept.pop((service, username), None)


class PostgresCase(SourceCase):
    def setUp(self):
        super().setUp()
        self.server = server()
        self.server.run(_SCHEMA)
        before = keyring.get_keyring()
        self.keyring = MemoryKeyring()
        keyring.set_keyring(self.keyring)
        self.addCleanup(keyring.set_keyring, before)
        self.addCleanup(secrets.forget_all)
        self.address = self.server.address()
        secrets.remember(self.address, PASSWORD)


class Reading(PostgresCase):
    def test_tables_and_views_of_all_schemas_are_listed(self):
        found = [(entry.name, entry.sort) for entry in self.library.content(self.address).tables]
        self.assertEqual(
            found,
            [
                ("public.everything", "table"),
                ("public.loans", "table"),
                ("public.objects", "table"),
                ("public.lately", "view"),
                ("store.shelves", "table"),
            ],
        )

    def test_rows_stand_in_the_order_of_the_key(self):
        snapshot = self.read(self.address, "public.objects")
        self.assertEqual(rows_of(snapshot.table), [("LCM.1", None, None), ("LCM.2", "Grey figurehead", 1790)])
        self.assertEqual(snapshot.key, ("accession",))
        self.assertEqual(rows_of(self.read(self.address, "objects").table), rows_of(snapshot.table))

    def test_types(self):
        snapshot = self.read(self.address, "public.everything")
        kinds = {field.name: field.type for field in snapshot.table.fields}
        self.assertEqual(
            list(kinds.values()),
            [T.INTEGER, T.INTEGER, T.DECIMAL, T.REAL, T.BOOLEAN, T.DATE, T.TIME, T.TIMESTAMP, T.TIMESTAMP]
            + [T.TEXT] * 5,
        )
        row = dict(zip(kinds, rows_of(snapshot.table)[0], strict=True))
        self.assertEqual(
            (row["i"], row["n"], row["d"]), (9007199254740993, Decimal("1.50"), dt.date(2026, 2, 3))
        )
        self.assertEqual((row["tz"], row["t"]), (dt.datetime(2026, 2, 3, 2, 5, 6), dt.time(8, 30)))
        self.assertEqual((row["j"], row["a"]), ('{"a": [1]}', '["x", "y"]'))
        self.assertIn("tz: moments with a time zone; shown in UTC", self.said(snapshot))
        self.assertIn("raw: holds binary data", self.said(snapshot))

    def test_another_schema_and_an_empty_table(self):
        self.assertEqual(
            rows_of(self.read(self.address, "store.shelves").table), [("A1", Decimal("12.50")), ("A2", None)]
        )
        empty = self.read(self.address, "public.loans")
        self.assertEqual((empty.table.rows, empty.table.names), (0, ("loan_no", "object_no")))
        self.assertEqual(empty.foreign_keys, (ForeignKey(("object_no",), "public.objects", ("accession",)),))
        self.assertIn("no primary key", self.said(empty))

    def test_a_query(self):
        query = (
            "SELECT title, made + 1 AS next, made + 1 AS next FROM objects WHERE title <> ':x' ORDER BY 1;"
        )
        snapshot = self.read(self.address, "objects", query=query)
        self.assertEqual(snapshot.table.names, ("title", "next", "next 2"))
        self.assertEqual(rows_of(snapshot.table)[-1], ("Grey figurehead", 1791, 1791))
        self.assertEqual(self.said(snapshot), "")
        self.assertIn("says no order", self.said(self.read(self.address, "objects", query="SELECT 1 AS one")))

    def test_what_is_no_single_select_is_refused(self):
        for query, said in (
            ("DELETE FROM objects", "not a SELECT"),
            ("SELECT 1; DROP TABLE objects", "2 statements"),
            (
                "WITH gone AS (DELETE FROM objects RETURNING *) SELECT * FROM gone",
                "does more than read: DELETE",
            ),
            ("SELECT * INTO copy FROM objects", "does more than read"),
            ("SELEC 1", "The query cannot be read|no SELECT"),
            ("SELECT title FROM objects WHERE (", "The query cannot be read"),
            ("", "no query"),
        ):
            with self.assertRaisesRegex(SourceError, said, msg=query):
                checked_query(query, self.address)

    def test_the_session_cannot_write_even_if_a_query_would(self):
        body = "DELETE FROM objects; SELECT 1"
        self.server.run(f"CREATE OR REPLACE FUNCTION spoil() RETURNS int LANGUAGE sql AS $$ {body} $$")
        query = "SELECT spoil()"
        accept_queries(reached_by(SourceSettings("database", self.address, query=query)))
        self.refused(self.address, "read-only", "objects", query=query)
        self.assertEqual(self.read(self.address, "objects").table.rows, 2)

    def test_rows_arrive_in_batches_with_progress(self):
        self.server.run(
            "CREATE TABLE IF NOT EXISTS many AS SELECT n, 'text ' || n AS t FROM generate_series(1, 50000) n"
        )
        self.addCleanup(self.server.run, "DROP TABLE many")
        source = self.settings(self.address, "public.many")
        self.assertEqual(self.library.first_rows(source, Task()).table.rows, 200)
        seen = []
        task = Task(lambda done, total, what: seen.append((done, total)))
        snapshot = self.library.get(self.settings(self.address, "public.many"), task)
        self.assertEqual(snapshot.table.rows, 50_000)
        self.assertIn((20_000, 50_000), seen)


class Odd(PostgresCase):
    def test_values_that_no_field_can_hold_are_blank_and_counted(self):
        self.server.run(
            "CREATE TABLE odd AS SELECT * FROM (VALUES "
            "(1, 'infinity'::date, '24:00'::time, '-infinity'::timestamptz, 'Infinity'::numeric), "
            "(2, '0044-03-15 BC'::date, '08:30'::time, '12000-01-01'::timestamptz, 'NaN'::numeric), "
            "(3, '2026-02-03'::date, NULL, '2026-02-03 04:05+00'::timestamptz, 1.5)) AS v(n, d, t, ts, x) "
            "ORDER BY n"
        )
        self.addCleanup(self.server.run, "DROP TABLE odd")
        found = self.read(self.address, "public.odd")
        self.assertEqual(
            rows_of(found.table),
            [
                (1, None, None, None, None),
                (2, None, dt.time(8, 30), None, None),
                (3, dt.date(2026, 2, 3), None, dt.datetime(2026, 2, 3, 4, 5), Decimal("1.5")),
            ],
        )
        said = self.said(found)
        for field, count in (("d", "2 values are"), ("t", "1 value is"), ("ts", "2 values are")):
            self.assertIn(f"{field}: {count} blank, since no field can hold it", said)
        self.assertIn("x: 2 values are blank", said)

    def test_points_in_names_of_schemas_and_tables(self):
        self.server.run(
            'DROP SCHEMA IF EXISTS "s.p" CASCADE; DROP SCHEMA IF EXISTS s CASCADE; '
            'CREATE SCHEMA "s.p"; CREATE TABLE "s.p".t AS SELECT 1 AS n; '
            'CREATE SCHEMA s; CREATE TABLE s."p.t" AS SELECT 2 AS n'
        )
        self.addCleanup(self.server.run, 'DROP SCHEMA "s.p" CASCADE; DROP SCHEMA s CASCADE')
        names = [entry.name for entry in self.library.content(self.address).tables]
        self.assertLessEqual({'"s.p".t', "s.p.t"}, set(names))
        self.assertEqual(rows_of(self.read(self.address, '"s.p".t').table), [(1,)])
        self.assertEqual(rows_of(self.read(self.address, "s.p.t").table), [(2,)])

    def test_a_query_that_no_person_writes(self):
        for query in ("SELECT " + "(" * 500 + "1" + ")" * 500, "SELECT 1" + " " * 200_000):
            with self.assertRaisesRegex(SourceError, "at most"):
                checked_query(query, self.address)


class Trouble(PostgresCase):
    def test_a_table_that_is_gone(self):
        settings = self.settings(self.address, "public.objects")
        self.server.run("DROP TABLE objects CASCADE")
        with self.assertRaisesRegex(SourceError, "no table “public.objects” in it"):
            self.library.get(settings, Task())
        self.refused(self.address, "was not found", "public.everything", query="SELECT * FROM objects")

    def test_a_table_that_may_not_be_read(self):
        guest = self.server.address("guest")
        secrets.remember(guest, PASSWORD)
        self.assertEqual(self.read(guest, "public.objects").table.rows, 2)
        self.refused(guest, "This user may not read it", "public.everything")

    def test_no_server(self):
        error = self.refused("postgresql://keeper@127.0.0.1:1/registry", "No connection to the database")
        self.assertIn("Is the server running", error.remedy)

    def test_a_database_that_is_not_there(self):
        address = self.server.address(database="gone")
        secrets.remember(address, PASSWORD)
        self.refused(address, "not there|No connection")

    def test_a_driver_that_is_not_installed(self):
        self.refused("mysql://keeper@127.0.0.1/registry", "driver for mysql databases is not installed")
        self.refused("nonsense://x", "driver for nonsense databases is not installed")

    def test_a_connection_that_is_lost_midway(self):
        query = "SELECT pg_sleep(0.002), n FROM generate_series(1, 100000) n"
        settings = SourceSettings("database", self.address, query=query)
        accept_queries(reached_by(settings))
        caught = []

        def read():
            try:
                self.library.get(settings, Task())
            except SourceError as error:
                caught.append(error)

        reader = threading.Thread(target=read)
        reader.start()
        kill = (
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
            "WHERE pid <> pg_backend_pid() AND (query LIKE 'FETCH%' OR query LIKE '%pg_sleep(0.002)%')"
        )
        end = time.monotonic() + 20
        while reader.is_alive() and time.monotonic() < end:
            self.server.run(kill)
        reader.join(5)
        self.assertIn("connection was lost", str(caught[0]))

    def test_a_long_query_stops_soon_after_it_is_cancelled(self):
        settings = SourceSettings("database", self.address, query="SELECT pg_sleep(60)")
        accept_queries(reached_by(settings))
        task = Task()
        threading.Timer(0.5, task.cancel).start()
        started = time.monotonic()
        with self.assertRaises(Cancelled):
            self.library.get(settings, task)
        self.assertLess(time.monotonic() - started, 10)


class Passwords(PostgresCase):
    def setUp(self):
        super().setUp()
        secrets.forget_all()
        self.keyring.kept.clear()

    def test_a_missing_or_wrong_one_is_asked_for(self):
        with self.assertRaises(PasswordNeeded) as caught:
            self.read(self.address, "objects")
        self.assertEqual(caught.exception.address, self.address)
        self.assertIn("asks for a password", str(caught.exception))
        secrets.remember(self.address, "wrong:secret")
        with self.assertRaisesRegex(PasswordNeeded, "refuses the password") as caught:
            self.read(self.address, "objects")
        self.assertNotIn("wrong", str(caught.exception))
        self.assertNotIn("wrong", repr(caught.exception.__cause__))

    def test_it_is_kept_in_the_keyring(self):
        self.assertTrue(secrets.remember(self.address, PASSWORD))
        secrets.forget_all()
        self.assertEqual(self.read(self.address, "objects").table.rows, 2)
        secrets.forget(self.address)
        self.assertIsNone(secrets.find(self.address))

    def test_it_may_stand_in_the_environment(self):
        told = {secrets.ENVIRONMENT: PASSWORD, secrets.FOR: "127.0.0.1"}
        with mock.patch.dict(os.environ, told):
            self.assertEqual(self.read(self.address, "objects").table.rows, 2)

    def test_one_in_the_address_is_taken_out_of_it(self):
        whole = self.address.replace("keeper@", "keeper:lantern%3Acoast%401@")
        address, password = parse(whole)
        self.assertEqual((str(address), password), (self.address, PASSWORD))
        content = self.library.content(whole)
        self.assertEqual(content.path, self.address)
        self.assertEqual(self.read(self.address, "objects").table.rows, 2)


if __name__ == "__main__":
    unittest.main()
