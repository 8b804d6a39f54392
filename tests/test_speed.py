import contextlib
import io
import time
import unittest
from unittest import mock

import numpy as np
from click.testing import CliRunner

import benchmarks.__main__ as command
from benchmarks import answering, insight, likeness, matching, measures, real_lists, report, starting
from benchmarks.measures import alternated, peak_above
from keen_trellis.core.blending import Keep, blend
from keen_trellis.core.matching import match


class Speed(unittest.TestCase):
    """That what is measured is what is said; never how fast it is."""

    def test_every_case_matches_as_sqlite_does(self):
        for case in matching.cases(3_000):
            found = matching.matched(case)
            for index in (False, True):
                base, query = matching.in_sqlite(case, index=index)
                (rows, _, _) = base.execute(query).fetchone()
                base.close()
                self.assertEqual(
                    rows, found.pairs + found.counts.left_unmatched, f"{case.name}, index {index}"
                )
            if "n:m" not in case.name:
                self.assertAlmostEqual(found.counts.left_matched / 3_000, 0.71, delta=0.05)

    def test_periods_chains_and_blends_are_what_they_are_called(self):
        for long, most in ((False, 1), (True, 2)):
            left, right, links = matching.periods(2_000, 100, long=long)
            self.assertEqual(match(left, right, links).counts.most_partners_of_left, most)
        self.assertEqual(matching.chain(matching.chain_tables(1_000)).rows, 1_000)
        main, other, how = matching.blend_tables(2_000)
        base = matching.blend_in_sqlite(main, other)
        (theirs,) = base.execute(matching.BLEND_QUERY).fetchall()
        base.close()
        table = blend(main, [other], [how], Keep.EVERY).table
        sums = [sum(v or 0 for v in table.column(f"m{n}").values.to_pylist()) for n in range(5)]
        cents = [round(value * 100) if number in (0, 3) else value for number, value in enumerate(sums)]
        self.assertEqual((table.rows, *cents), theirs)

    def test_what_is_accepted_by_default_is_right_and_most_of_what_is_planted_is_found(self):
        for slips, ask in ((True, insight.slips_of), (False, insight.names_of)):
            case = insight.planted(20_000, slips=slips)
            right, found, accepted = insight.judged(case, ask(case))
            self.assertGreaterEqual(right, 0.98)
            self.assertGreaterEqual(found, 0.9)
            self.assertGreater(accepted, 1_000)
        left, _ = insight.unmatched_tables(20_000)
        self.assertEqual(left.rows, 20_000)

    def test_what_is_nearly_the_same_is_found_rightly_among_planted_names_and_real_ones(self):
        told = likeness.judged(likeness.planted(5_000))
        self.assertGreaterEqual(told.found, 0.85)
        self.assertGreaterEqual(told.right, 0.95)
        names = dict(real_lists.lists())["country names"]
        told = likeness.judged(likeness.of_list("country names", names))
        self.assertGreaterEqual(told.found, 0.85)
        self.assertGreaterEqual(told.right, 0.95)

    def test_the_quick_form_measures_all_cases_on_fewer_rows(self):
        with mock.patch.object(command, "report") as measured:
            for words, rows in (([], 5_000_000), (["--quick"], 200_000), (["--rows", "1000"], 1_000)):
                self.assertEqual(CliRunner().invoke(command.speed, words).exit_code, 0)
                measured.assert_called_with(rows)
        for words in (["--quick", "--rows", "9"], ["--growing", "--hand-off"], ["--large-files", "--quick"]):
            self.assertEqual(CliRunner().invoke(command.speed, words).exit_code, 2, words)

    def test_ratios_come_from_alternated_pairs(self):
        calls = []

        def slow():
            calls.append("slow")
            time.sleep(0.004)

        def quick():
            calls.append("quick")
            time.sleep(0.001)

        ours, theirs, ratio = alternated(slow, quick)
        self.assertEqual(calls, ["slow", "quick"] * 5)
        self.assertGreater(ours, theirs)
        self.assertGreater(ratio, 1)

    def test_the_peak_is_what_is_held_at_a_time(self):
        held = peak_above(lambda: [_hold() for _ in range(3)])
        self.assertGreater(held, 15 * 10**6)
        self.assertLess(held, 40 * 10**6)

    def test_the_report_is_whole(self):
        out = io.StringIO()
        # What is measured matters here, not how steady the figures are.
        with (
            contextlib.redirect_stdout(out),
            mock.patch.object(measures, "PAIRS", 1),
            mock.patch.object(answering, "_AT_LEAST", 40),
            mock.patch.object(answering, "_REDRAWN", 5),
            mock.patch.object(answering, "_FRAMES", 5),
            mock.patch.object(starting, "_TIMES", 1),
        ):
            report.report(2_000)
        for words in (
            "text key",
            "in floors",
            "first page of the full outer join",
            "another join type, bench painted",
            "peak MB",
            "not ASCII",
            "a chain of three joins",
            "five measures",
            "beside pyarrow",
            "beside python-calamine",
            "a folder of 12 files",
            "right of accepted",
            "other names",
            "40 fields a side",
            "while computing",
            "distinct, the latest of each key",
            "57 steps on 15 rails painted",
            "dragged anywhere",
            "a window with an empty flow",
            "one thread s",
        ):
            self.assertIn(words, out.getvalue())


def _hold() -> float:
    numbers = np.ones(2_000_000)
    time.sleep(0.02)
    return float(numbers.sum())


if __name__ == "__main__":
    unittest.main()
