"""A real Spark Connect server on loopback for the tests that need one, started once, stopped at the end."""

import atexit
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from functools import cache
from importlib.util import find_spec
from pathlib import Path

_STARTED = "Spark Connect server started"
_SECONDS = 120


# Small queries are not worth the time to compile them.
_NOT_COMPILED = {"spark.sql.codegen.wholeStage": "false", "spark.sql.codegen.factoryMode": "NO_CODEGEN"}


def address(*, compiled: bool = False) -> str:
    """The address of the running server; skips the test, saying why, where none can be started.

    compiled: whether it compiles its queries, which is worth the time for many rows only.
    """
    spec = find_spec("pyspark")
    home = Path(spec.origin).parent if spec is not None and spec.origin else None
    if home is None or not (home / "bin" / "spark-submit").exists():
        raise unittest.SkipTest("Spark is not installed (./trellis test --hand-off installs it)")
    if shutil.which("java") is None:
        raise unittest.SkipTest("Java is not installed (Debian: openjdk-17-jre-headless)")
    return _started(home, compiled)


@cache
def _started(home: Path, compiled: bool) -> str:
    folder = Path(tempfile.mkdtemp(prefix="keen-trellis-spark-"))
    atexit.register(shutil.rmtree, folder, True)
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    settings = {
        "spark.driver.host": "127.0.0.1",
        "spark.driver.bindAddress": "127.0.0.1",
        "spark.connect.grpc.binding.address": "127.0.0.1",
        "spark.connect.grpc.binding.port": port,
        "spark.ui.enabled": "false",
        "spark.sql.warehouse.dir": folder / "warehouse",
        "spark.local.dir": folder / "local",
        # Few rows: a part for each core, and not 200 of them.
        "spark.sql.shuffle.partitions": 2,
        **({} if compiled else _NOT_COMPILED),
    }
    words = [word for name, value in settings.items() for word in ("--conf", f"{name}={value}")]
    log = folder / "log"
    with log.open("wb") as said:
        process = subprocess.Popen(
            [
                home / "bin" / "spark-submit",
                *("--master", "local[2]", "--driver-memory", "8g" if compiled else "2g", *words),
                *("--class", "org.apache.spark.sql.connect.service.SparkConnectServer", "spark-internal"),
            ],
            stdout=said,
            stderr=said,
            cwd=folder,
            env={
                **os.environ,
                "SPARK_HOME": str(home),
                "SPARK_LOCAL_IP": "127.0.0.1",
                "PYSPARK_PYTHON": sys.executable,
            },
            start_new_session=True,
        )
    atexit.register(_stop, process)
    end = time.monotonic() + _SECONDS
    while _STARTED not in log.read_text(errors="replace"):
        if process.poll() is not None or time.monotonic() > end:
            raise RuntimeError(f"Spark did not start: {log.read_text(errors='replace')[-2000:]}")
        time.sleep(0.2)
    return f"sc://127.0.0.1:{port}"


def _stop(process: subprocess.Popen) -> None:
    os.killpg(process.pid, signal.SIGTERM)
    try:
        process.wait(20)
    except subprocess.TimeoutExpired:
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()
