import contextlib
import io
import time
import unittest

import numpy as np

from keen_trellis import speed


class Speed(unittest.TestCase):
    """That what is measured is what is said; never how fast it is."""

    def test_every_case_matches_as_sqlite_does(self):
        for case in speed.cases(3_000):
            found = speed._matched(case)
            for index in (False, True):
                base, query = speed._in_sqlite(case, index=index)
                (rows, _, _) = base.execute(query).fetchone()
                base.close()
                self.assertEqual(
                    rows, found.pairs + found.counts.left_unmatched, f"{case.name}, index {index}"
                )
            self.assertAlmostEqual(found.counts.left_matched / 3_000, 0.71, delta=0.05)

    def test_ratios_come_from_alternated_pairs(self):
        calls = []

        def slow():
            calls.append("slow")
            time.sleep(0.004)

        def quick():
            calls.append("quick")
            time.sleep(0.001)

        ours, theirs, ratio = speed.alternated(slow, quick)
        self.assertEqual(calls, ["slow", "quick"] * 5)
        self.assertGreater(ours, theirs)
        self.assertGreater(ratio, 1)

    def test_the_peak_is_what_is_held_at_a_time(self):
        held = speed.peak_above(lambda: [_hold() for _ in range(3)])
        self.assertGreater(held, 15 * 10**6)
        self.assertLess(held, 40 * 10**6)

    def test_the_report_is_whole(self):
        out = io.StringIO()
        with contextlib.redirect_stdout(out):
            speed.report(2_000)
        for words in (
            "text key",
            "in floors",
            "first page of the full outer join",
            "another join type, bench painted",
            "peak MB",
            "beside pyarrow",
            "beside python-calamine",
            "a folder of 12 files",
        ):
            self.assertIn(words, out.getvalue())


def _hold() -> float:
    numbers = np.ones(2_000_000)
    time.sleep(0.02)
    return float(numbers.sum())


if __name__ == "__main__":
    unittest.main()
