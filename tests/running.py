"""Runs the tests of one module, in any process, and tells what came of it."""

import io
import sys
import time
import unittest
from dataclasses import dataclass
from pathlib import Path

from hypothesis import settings

settings.register_profile("quick", max_examples=60, deadline=None)
settings.register_profile("long", max_examples=4_000, deadline=None)

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
    told, started = io.StringIO(), time.perf_counter()
    runner = unittest.TextTestRunner(sys.stderr if verbosity > 1 else told, verbosity=verbosity)
    result = runner.run(unittest.defaultTestLoader.loadTestsFromName(name))
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    traces = "" if result.wasSuccessful() else told.getvalue()
    reasons = tuple(dict.fromkeys(why for _, why in result.skipped))
    seconds = time.perf_counter() - started
    return Ran(name, result.testsRun, failed, len(result.skipped), seconds, traces, reasons)


def modules() -> list[str]:
    """The names of all modules with tests, those that take long first."""
    here = Path(__file__).resolve().parent
    paths = (path.relative_to(here.parent).with_suffix("") for path in here.rglob("test_*.py"))
    found = [".".join(path.parts) for path in paths]
    places = {name: place for place, name in reversed(list(enumerate(_LONG_ONES)))}
    first = {name: min((places[o] for o in places if name.startswith(o)), default=99) for name in found}
    return sorted(found, key=lambda name: (first[name], name))
