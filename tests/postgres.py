"""A real PostgreSQL server on loopback for the tests that need one, started once and stopped at the end."""

import atexit
import os
import pwd
import shutil
import signal
import socket
import subprocess
import tempfile
import time
import unittest
from functools import cache
from pathlib import Path

PASSWORD = "lantern:coast@1"
_BINARIES = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"), key=lambda path: int(path.parts[4]))


class Server:
    """A server with one database, its owner `keeper` and a user `guest` who may read little."""

    def __init__(self, folder: Path, port: int, process: subprocess.Popen) -> None:
        self.folder, self.port, self.process = folder, port, process

    def stop(self) -> None:
        """Stop it at once, as if its machine went down."""
        self.process.send_signal(signal.SIGQUIT)
        self.process.wait()

    def address(self, user: str = "keeper", database: str = "registry") -> str:
        """The address of a database, without a password."""
        return f"postgresql://{user}@127.0.0.1:{self.port}/{database}"

    def run(self, sql: str) -> None:
        """Run statements as the server's owner."""
        import psycopg

        with psycopg.connect(self.owner, autocommit=True) as connection:
            connection.execute(sql)

    def put(self, name: str, rows: list, columns: str) -> str:
        """A table of rows, a value for each of the columns, which are said as in SQL; its name in a flow."""
        import psycopg

        with psycopg.connect(self.owner) as connection, connection.cursor() as cursor:
            cursor.execute(f'CREATE TABLE "{name}" ({columns})'.encode())
            with cursor.copy(f'COPY "{name}" FROM STDIN'.encode()) as copy:
                for row in rows:
                    copy.write_row(row)
        return f"public.{name}"

    @property
    def owner(self) -> str:
        """What libpq needs to connect as the server's owner."""
        return f"host=127.0.0.1 port={self.port} user=keeper dbname=registry password={PASSWORD}"


def server() -> Server:
    """The running server; skips the test, saying why, where PostgreSQL is not installed."""
    if not _BINARIES:
        raise unittest.SkipTest("PostgreSQL's server is not installed (Debian: postgresql)")
    return _started()


def another() -> Server:
    """A server of one's own, that may be stopped."""
    server()
    return _started.__wrapped__()


@cache
def _started() -> Server:
    binaries = _BINARIES[-1].parent
    folder = Path(tempfile.mkdtemp(prefix="keen-trellis-postgres-"))
    atexit.register(shutil.rmtree, folder, True)
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    secret = folder / "password"
    secret.write_text(PASSWORD)
    who = {}
    if os.geteuid() == 0:
        # The server refuses to run as root.
        owner = pwd.getpwnam("postgres")
        who = {"user": owner.pw_uid, "group": owner.pw_gid, "extra_groups": []}
        for path in (folder, secret):
            os.chown(path, owner.pw_uid, owner.pw_gid)
    base = folder / "base"
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "cwd": folder, **who}
    subprocess.run(
        [
            binaries / "initdb",
            "-D",
            base,
            "-U",
            "keeper",
            "--pwfile",
            secret,
            "-A",
            "scram-sha-256",
            "-E",
            "UTF8",
            "--no-sync",
        ],
        check=True,
        **quiet,
    )
    words = f"-p {port} -k {folder} -c listen_addresses=127.0.0.1 -c fsync=off -c shared_buffers=16MB"
    process = subprocess.Popen([binaries / "postgres", "-D", base, *words.split()], **quiet)
    atexit.register(_stop, process)
    found = Server(folder, port, process)
    _wait_for(found, process)
    return found


def _wait_for(found: Server, process: subprocess.Popen) -> None:
    import psycopg

    end = time.monotonic() + 30
    words = f"host=127.0.0.1 port={found.port} user=keeper dbname=postgres password={PASSWORD}"
    while True:
        try:
            with psycopg.connect(words, autocommit=True) as connection:
                connection.execute("CREATE DATABASE registry")
                connection.execute(f"CREATE ROLE guest LOGIN PASSWORD '{PASSWORD}'")
            return
        except psycopg.OperationalError:
            if time.monotonic() > end or process.poll() is not None:
                raise
            process.poll()


def _stop(process: subprocess.Popen) -> None:
    process.terminate()
    process.wait()
