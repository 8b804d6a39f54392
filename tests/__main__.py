"""Runs the tests: `python -m tests [--long] [NAMES]`. The last line reads "N passed, N failed, N skipped".

The modules are shared out to one process more than there are cores (each waits now and then for a window, a
child process or a server), the slowest ones first; what fails is told at once, and again at the end.
"""

import argparse
import os
import sys
import tempfile

from tests import SHARED
from tests.running import modules, side_by_side


def main() -> int:
    parser = argparse.ArgumentParser(prog="./trellis test")
    parser.add_argument("--long", action="store_true", help="many more generated cases")
    parser.add_argument("--verbose", "-v", action="store_true", help="name every test, in one process")
    parser.add_argument("names", nargs="*", help="modules, classes or methods, as tests.core.test_values")
    words = parser.parse_args()
    profile = "long" if words.long else "quick"
    work = [(name, 2 if words.verbose else 1, profile) for name in words.names or modules()]
    results = []
    at_once = 1 if words.verbose else min((os.cpu_count() or 1) + 1, len(work))
    with tempfile.TemporaryDirectory(prefix="keen-trellis-tests-") as shared:
        os.environ[SHARED] = shared
        for result in side_by_side(work, at_once):
            print(result, result.told, sep="\n", end="", flush=True)
            results.append(result)
    for result in results if len(results) > 1 else ():
        print(result.told, end="")
    for why in dict.fromkeys(why for result in results for why in result.reasons):
        print(f"Skipped: {why}")
    failed = sum(result.failed for result in results)
    skipped = sum(result.skipped for result in results)
    passed = sum(result.run for result in results) - failed - skipped
    print(f"{max(passed, 0)} passed, {failed} failed, {skipped} skipped", flush=True)
    return 0 if failed == 0 and passed > 0 else 1


if __name__ == "__main__":
    sys.exit(main())
