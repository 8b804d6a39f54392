"""Runs the tests: `python -m tests [--long] [NAMES]`. The last line reads "N passed, N failed, N skipped"."""

import argparse
import os
import sys
import unittest

from hypothesis import settings

settings.register_profile("quick", max_examples=60, deadline=None)
settings.register_profile("long", max_examples=4_000, deadline=None)


def main() -> int:
    parser = argparse.ArgumentParser(prog="./trellis test")
    parser.add_argument("--long", action="store_true", help="many more generated cases")
    parser.add_argument("--verbose", "-v", action="store_true", help="name every test")
    parser.add_argument("names", nargs="*", help="modules, classes or methods, as tests.core.test_values")
    words = parser.parse_args()
    settings.load_profile("long" if words.long else "quick")
    loader = unittest.TestLoader()
    top = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
    suite = (
        loader.loadTestsFromNames(words.names) if words.names else loader.discover("tests", top_level_dir=top)
    )
    result = unittest.TextTestRunner(verbosity=2 if words.verbose else 1).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    passed = result.testsRun - failed - skipped
    print(f"{max(passed, 0)} passed, {failed} failed, {skipped} skipped", flush=True)
    return 0 if failed == 0 and passed > 0 else 1


if __name__ == "__main__":
    sys.exit(main())
