"""Flows from elsewhere: shown, and nothing reached, asked or written outside before they are accepted."""

import json
import os
import pty
import subprocess
import sys
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import keyring

from keen_trellis.core.task import Task
from keen_trellis.databases import secrets
from keen_trellis.flow import trust
from keen_trellis.flow.edits import add_source
from keen_trellis.flow.environment import QUERY_SECONDS
from keen_trellis.flow.file_format import load, save
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.sources.library import Library
from tests.false_server import FalseServer
from tests.postgres import PASSWORD, server
from tests.test_cli_flows import FlowCase, output, step, text


class TrustCase(FlowCase):
    def setUp(self):
        super().setUp()
        # Each test is another machine: nothing was accepted on it.
        self.enterContext(mock.patch.dict(os.environ, XDG_STATE_HOME=str(self.folder / "state")))
        self.enterContext(mock.patch.object(trust, "_here", set()))
        self.addCleanup(secrets.forget_all)
        self.write("loans.csv", "venue,crates\nPier,1\nMill,2\n")

    def elsewhere(self):
        place = TemporaryDirectory()
        self.addCleanup(place.cleanup)
        return Path(place.name)


class Servers(TrustCase):
    def setUp(self):
        super().setUp()
        self.false = FalseServer()
        self.addCleanup(self.false.close)
        self.flow_of_stranger = (
            step("theirs", "source", reader="database", path=self.false.address(), query="SELECT 1 AS one"),
            output("theirs"),
        )
        self.enterContext(mock.patch.dict(os.environ, {secrets.ENVIRONMENT: "open sesame"}))

    def test_nothing_is_connected_to_before_it_is_accepted(self):
        said = self.run_flow(*self.flow_of_stranger, code=2).stderr
        self.assertIn(f"connect to {self.false.address()}", said)
        self.assertIn("SELECT 1 AS one", said)
        self.assertIn("--trust", said)
        found = self.call("look", self.flow(*self.flow_of_stranger)).stdout
        self.assertIn("it does not connect to this server until you accept it", found)
        self.assertEqual(self.false.heard, [])
        self.assertFalse((self.folder / "out.csv").exists())

    def test_not_by_its_tables_in_the_margin_or_their_first_rows(self):
        library = Library()
        flow = load(self.flow(*self.flow_of_stranger), KINDS)
        library.waiting = trust.waiting(flow, KINDS, self.folder)
        settings = SourceSettings("database", self.false.address(), query="SELECT 1 AS one")
        for reach in (
            lambda: library.content(self.false.address()),
            lambda: library.first_rows(settings, Task()),
            lambda: library.get(settings, Task()),
            lambda: library.refresh(settings, Task()),
        ):
            self.assertRaises(trust.NotAccepted, reach)
        self.assertEqual(self.false.heard, [])

    def test_the_password_of_the_environment_goes_to_no_server_that_only_the_flow_names(self):
        said = self.run_flow(*self.flow_of_stranger, words=["--trust"], code=4).stderr
        self.assertEqual(self.false.passwords, [])
        self.assertNotEqual(self.false.heard, [])
        self.assertNotIn("open sesame", said)

    def test_a_password_is_never_sent_in_clear_unless_accepted(self):
        for words in ([], ["--allow-host", "127.0.0.1"]):
            with mock.patch.dict(os.environ, {secrets.FOR: "127.0.0.1"}):
                said = self.run_flow(*self.flow_of_stranger, words=["--trust", *words], code=4).stderr
        self.assertIn("asks for the password in clear", said)
        self.assertEqual(self.false.passwords, [])
        self.call("look", f"{self.false.address()}?clear_password=accepted", code=4)
        self.assertEqual(self.false.passwords, ["open sesame"])

    def test_a_password_of_the_database_library_is_not_taken_either(self):
        address = f"{self.false.address()}?clear_password=accepted"
        with mock.patch.dict(os.environ, {secrets.ENVIRONMENT: "", "PGPASSWORD": "open sesame"}):
            self.call("look", address, code=4)
        self.assertEqual([word for word in self.false.passwords if word], [])

    def test_one_in_the_flows_file_is_let_go_of(self):
        address = self.false.address().replace("keeper@", "keeper:s3same@")
        path = self.flow(step("theirs", "source", reader="database", path=address))
        self.assertNotIn("s3same", self.call("look", path).output)
        flow = load(path, KINDS)
        save(flow, path, KINDS)
        self.assertNotIn("s3same", path.read_text())
        for command in (["look", f"{address}#t"], ["look", address, "--query", "SELECT 1"]):
            self.assertNotIn("s3same", self.call(*command, code=4).output)


class Queries(TrustCase):
    def setUp(self):
        super().setUp()
        self.server = server()
        before = keyring.get_keyring()
        self.addCleanup(keyring.set_keyring, before)
        secrets.remember(self.server.address(), PASSWORD, lasting=False)

    def steps(self, query):
        place = self.server.address()
        return (step("theirs", "source", reader="database", path=place, query=query), output("theirs"))

    def test_an_accepted_flow_is_not_asked_about_again_until_it_changes(self):
        steps = self.steps("SELECT 1 AS one")
        self.run_flow(*steps, code=2)
        self.assertIn("accepted: connect to", self.run_flow(*steps, words=["--trust"]).stderr)
        self.assertEqual(self.written(), ["one", "1"])
        self.run_flow(*steps)
        self.run_flow(*self.steps("SELECT 2 AS one"), code=2)
        self.run_flow(*steps)

    def test_a_host_may_be_allowed_for_one_run(self):
        steps = self.steps("SELECT 1 AS one")
        self.run_flow(*steps, words=["--allow-host", "elsewhere"], code=2)
        self.run_flow(*steps, words=["--allow-host", f"127.0.0.1:{self.server.port}"])
        self.run_flow(*steps, code=2)

    def test_functions_that_may_reach_outside_are_asked_about(self):
        self.server.run("CREATE OR REPLACE FUNCTION spoil() RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT 1'")
        self.addCleanup(self.server.run, "DROP FUNCTION spoil()")
        allowed = ["--allow-host", "127.0.0.1"]
        for query, name in (
            ("SELECT pg_sleep(0) AS x", "pg_sleep"),
            ('SELECT "pg_sleep"(0) AS x', "pg_sleep"),
            ("SELECT PG_SLEEP /* why */ (0) AS x", "pg_sleep"),
            ("SELECT pg_catalog.pg_read_file('/etc/hostname') AS x", "pg_read_file"),
            ("SELECT query_to_xml('SELECT 1', true, true, '')::text AS x", "query_to_xml"),
            ("SELECT set_config('a.b', 'c', true) AS x", "set_config"),
            ("SELECT spoil() AS x", "spoil"),
            ("SELECT * FROM pg_ls_dir('.') AS x", "pg_ls_dir"),
        ):
            with self.subTest(query):
                said = self.run_flow(*self.steps(query), words=allowed, code=4).stderr
                self.assertIn(f"The query calls {name}()", said)
                self.assertIn(f"it calls {name}()", self.run_flow(*self.steps(query), code=2).stderr)
        self.call("look", self.server.address(), "--query", "SELECT spoil() AS x", code=4)
        self.call("look", self.server.address(), "--query", "SELECT spoil() AS x", "--trust")
        said = self.run_flow(*self.steps('SELECT U&"\\0070g_sleep"(0)'), words=allowed, code=4).stderr
        self.assertIn("U&", said)

    def test_what_computes_from_rows_alone_is_not_asked_about(self):
        query = (
            "SELECT upper(trim(name)) AS x, coalesce(length(name), 0) AS n, date_trunc('day', now()) AS d, "
            "count(*) OVER (ORDER BY name) AS c FROM (VALUES ('a'), ('b')) AS t(name)"
        )
        self.run_flow(*self.steps(query), words=["--allow-host", "127.0.0.1"])
        self.assertEqual(len(self.written()), 3)

    def test_a_statement_that_takes_too_long_or_waits_for_a_lock_ends(self):
        from keen_trellis.sources import connections

        slow = "SELECT pg_sleep(30)"
        with mock.patch.dict(os.environ, {QUERY_SECONDS: "1"}):
            found = self.call("look", self.server.address(), "--query", slow, "--trust", code=4)
        self.assertIn("longer than 1 seconds", found.stderr)
        self.assertIn(QUERY_SECONDS, found.stderr)
        import psycopg

        with psycopg.connect(self.server.owner) as other, mock.patch.object(connections, "LOCK_SECONDS", 1):
            other.execute("CREATE TABLE held AS SELECT 1 AS n")
            other.commit()
            other.execute("LOCK TABLE held")
            found = self.call("look", f"{self.server.address()}#public.held", code=4)
            self.assertIn("Another session has locked it", found.stderr)
            other.rollback()
            other.execute("DROP TABLE held")


class Outputs(TrustCase):
    def test_nothing_is_written_outside_the_flows_folder(self):
        other = self.elsewhere()
        steps = (text("loans"), output("loans", str(other / "out.csv")))
        said = self.run_flow(*steps, code=2).stderr
        self.assertIn(f"write {os.path.realpath(other)}/out.csv", said)
        self.assertEqual(list(other.iterdir()), [])
        self.run_flow(*steps, words=["--allow-write", self.folder], code=2)
        self.run_flow(*steps, words=["--allow-write", other])
        self.run_flow(*steps, words=["--to", self.folder / "to"])
        self.run_flow(*steps, words=["--trust"])
        self.run_flow(*steps)
        self.assertTrue((other / "out.csv").exists())

    def test_nor_through_a_link_or_into_a_hidden_folder(self):
        other = self.elsewhere()
        (self.folder / "link").symlink_to(other)
        (self.folder / ".config").mkdir()
        for place in ("link/out.csv", ".config/out.csv", "../out.csv"):
            self.run_flow(text("loans"), output("loans", place), code=2)
        self.assertEqual(list(other.iterdir()), [])

    def test_only_what_is_called_as_outputs_are(self):
        for name in ("autostart.desktop", "profile", "out.xlsx"):
            steps = (text("loans"), output("loans", name))
            self.assertIn("its name does not end in", self.run_flow(*steps, code=5).stderr)
            self.assertFalse((self.folder / name).exists())

    def test_what_this_program_saved_is_the_users_own(self):
        other = self.elsewhere()
        path = self.flow(text("loans"), output("loans", str(other / "out.csv")))
        trust.accept(load(path, KINDS), KINDS, self.folder)
        self.call("run", path)
        self.call("run", path, "--replace")  # its counts are in it now
        changed = json.loads(path.read_text())
        changed["steps"][0]["name"] = "Others"
        path.write_text(json.dumps(changed))
        self.call("run", path, "--replace", code=2)

    def test_a_state_folder_that_cannot_be_written_asks_and_goes_on(self):
        (self.folder / "state").write_text("no folder")
        steps = (text("loans"), output("loans", str(self.elsewhere() / "out.csv")))
        self.run_flow(*steps, words=["--trust"])


class Tables(TrustCase):
    """What a flow from elsewhere would write into a database waits as well."""

    def test_a_table_of_a_server_is_accepted_by_name(self):
        running = server()
        running.run("DROP TABLE IF EXISTS public.written")
        self.addCleanup(running.run, "DROP TABLE IF EXISTS public.written")
        self.addCleanup(secrets.forget_all)
        secrets.remember(running.address(), PASSWORD, lasting=False)
        target = {"writer": "database", "path": running.address(), "table": "public.written"}
        path = self.flow(text("loans"), step("out", "output", ["loans"], **target))
        for words in ((), ("--allow-host", "127.0.0.1"), ("--allow-write", "."), ("--allow-write", "/")):
            said = self.call("run", path, *words, code=2).output
            self.assertIn(f"write the table public.written of {running.address()}", said)
        self.call("run", path, "--trust")
        self.assertIn("has 2 rows, deleted before the new ones come", self.call("run", path, code=5).output)
        # Another table is another thing to accept.
        target["table"] = "public.others"
        self.call("run", self.flow(text("loans"), step("out", "output", ["loans"], **target)), code=2)

    def test_a_database_file_elsewhere(self):
        base = self.elsewhere() / "a.db"
        target = {"writer": "database", "path": str(base), "table": "loans"}
        path = self.flow(text("loans"), step("out", "output", ["loans"], **target))
        self.call("run", path, code=2)
        self.assertFalse(base.exists())
        self.call("run", path, "--allow-write", base.parent)
        self.assertTrue(base.exists())
        within = {"writer": "database", "path": "own.db", "table": "loans"}
        self.call("run", self.flow(text("loans"), step("out", "output", ["loans"], **within)))


class Asking(TrustCase):
    def test_at_a_terminal_the_user_is_asked(self):
        target = self.elsewhere() / "out.csv"
        path = self.flow(text("loans"), output("loans", str(target)))
        for answer, code, written in (("n", 2, False), ("y", 0, True)):
            ours, theirs = pty.openpty()
            command = [sys.executable, "-m", "keen_trellis.cli", "run", str(path)]
            quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.PIPE}
            with subprocess.Popen(command, stdin=theirs, text=True, **quiet) as run:
                os.write(ours, f"{answer}\n".encode())
                said = run.communicate()[1]
            os.close(ours)
            os.close(theirs)
            self.assertIn("Accept this, now and from now on?", said)
            self.assertEqual((run.returncode, target.exists()), (code, written))
        self.call("run", path, "--replace")


class LocalQueries(TrustCase):
    def test_the_query_of_a_database_file_waits_and_its_tables_do_not(self):
        import sqlite3

        base = self.folder / "a.sqlite"
        with sqlite3.connect(base) as connection:
            connection.execute("CREATE TABLE t AS SELECT 1 AS one")
        connection.close()
        table = step("t", "source", reader="sqlite", path="a.sqlite", table="t")
        self.run_flow(table, output("t"))
        asked = step("t", "source", reader="sqlite", path="a.sqlite", query="SELECT 2 AS two")
        self.run_flow(asked, output("t"), code=2)
        self.run_flow(asked, output("t"), words=["--trust"])

    def test_what_accepts_nothing_is_refused(self):
        for words in (["--trust"], ["--allow-host", "a"]):
            said = self.call("look", self.folder / "loans.csv", *words, code=2).output
            self.assertIn("say what a flow may reach", said)

    def test_the_store_keeps_what_was_asked_for_lately(self):
        flow = add_source(Flow(), SourceSettings("database", "postgresql://a@b/c"), "T")[0]
        with mock.patch.object(trust, "_KEPT", 3):
            for number in range(6):
                trust.accept_steps(f"steps {number}")
            trust.accept(flow, KINDS, self.folder)
        kept = list((self.folder / "state" / "keen-trellis" / "accepted").iterdir())
        self.assertEqual(len(kept), 3)
        self.assertEqual(trust.waiting(flow, KINDS, self.folder), frozenset())


if __name__ == "__main__":
    unittest.main()
