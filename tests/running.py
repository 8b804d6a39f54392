"""Runs the tests of one module, in any process, and tells what came of it."""

import faulthandler
import io
import multiprocessing
import sys
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import FIRST_COMPLETED, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from pathlib import Path

from hypothesis import HealthCheck, settings

# A process may run the tests of a class and those of one that inherits them.
_BOTH = [HealthCheck.differing_executors]
settings.register_profile("quick", max_examples=60, deadline=None, suppress_health_check=_BOTH)
settings.register_profile("long", max_examples=4_000, deadline=None, suppress_health_check=_BOTH)

# Seconds after which it is told where the tests of a module stand, and after which they are given up.
_LATE, _NEVER = 900, 1_800

# Begun first, so that no core is left alone with a long one at the end.
_LONG_ONES = (
    "tests.handoff.test_spark",
    "tests.sources.test_hostile",
    "tests.test_cli",
    "tests.test_speed",
    "tests.flow.test_through_readers",
    "tests.desktop",
    "tests.sources",
    "tests.core.test_reasons",
    "tests.outputs",
)


@dataclass
class Ran:
    """What came of the tests of one name. told: failures and errors with their traces.  reasons: why
    some were skipped, each once.
    """

    name: str
    run: int
    failed: int
    skipped: int
    seconds: float
    told: str
    reasons: tuple[str, ...] = ()

    def __str__(self) -> str:
        said = f"{self.failed} FAILED of {self.run}" if self.failed else f"{self.run} ok"
        return (
            f"{self.name}: {said}{f', {self.skipped} skipped' if self.skipped else ''}, {self.seconds:.1f} s"
        )


def run(work: tuple[str, int, str]) -> Ran:
    """Run the tests of one name, in this process."""
    name, verbosity, profile = work
    settings.load_profile(profile)
    faulthandler.enable()
    if profile == "quick":
        faulthandler.dump_traceback_later(_LATE, repeat=True)
    told, started = io.StringIO(), time.perf_counter()
    runner = unittest.TextTestRunner(sys.stderr if verbosity > 1 else told, verbosity=verbosity)
    result = runner.run(unittest.defaultTestLoader.loadTestsFromName(name))
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    traces = "" if result.wasSuccessful() else told.getvalue()
    reasons = tuple(dict.fromkeys(why for _, why in result.skipped))
    seconds = time.perf_counter() - started
    faulthandler.cancel_dump_traceback_later()
    return Ran(name, result.testsRun, failed, len(result.skipped), seconds, traces, reasons)


def side_by_side(work: list[tuple[str, int, str]], at_once: int) -> Iterator[Ran]:
    """Run the tests of each name, so many at once, and hand out what came of each as it ends. Names whose
    process died, or that do not end, have failed.
    """
    limit = None if any(profile == "long" for _, _, profile in work) else _NEVER
    pool = ProcessPoolExecutor(at_once, multiprocessing.get_context("spawn"))
    waiting = {pool.submit(run, each): each[0] for each in work}
    while waiting:
        done, _ = wait(waiting, limit, FIRST_COMPLETED)
        if not done:
            for process in list(pool._processes.values()):
                process.terminate()
            pool.shutdown(wait=False, cancel_futures=True)
            yield from (_failed(name, f"did not end in {limit} s") for name in waiting.values())
            return
        for future in done:
            name = waiting.pop(future)
            try:
                yield future.result()
            except BrokenProcessPool:
                yield _failed(name, "was running, or was to run, when a process of the tests died")
    pool.shutdown()


def _failed(name: str, why: str) -> Ran:
    return Ran(name, 1, 1, 0, 0.0, f"{name} {why}\n")


def modules() -> list[str]:
    """The names of all modules with tests, those that take long first."""
    here = Path(__file__).resolve().parent
    paths = (path.relative_to(here.parent).with_suffix("") for path in here.rglob("test_*.py"))
    found = [".".join(path.parts) for path in paths]
    places = {name: place for place, name in reversed(list(enumerate(_LONG_ONES)))}
    first = {name: min((places[o] for o in places if name.startswith(o)), default=99) for name in found}
    return sorted(found, key=lambda name: (first[name], name))
