"""Guards: each kind holds where it should and is broken by just the rows that break it."""

import unittest
from decimal import Decimal

import msgspec
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import UsageError
from keen_trellis.core.insight.guards import Guarded, Past, check, check_text, in_words, proposals
from keen_trellis.core.insight.reasons import Asked
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import LinkField
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable
from tests.tables import joined, table

LINKS = (LinkField("k", "q"),)


def guarded(left, right, *, accepted=((), ()), kind=JoinType.LEFT_OUTER):
    found = match(left, right, LINKS)
    result = joined(left, right, found, LINKS, kind)
    return Guarded(
        result,
        lambda name: left if name in left.names else None,
        Asked(left, right, LINKS, accepted=accepted),
        found,
    )


def told(guard, subject):
    verdict = check(guard, subject)
    return verdict.holds, verdict.side, verdict.rows.tolist()


class EachKind(unittest.TestCase):
    def setUp(self):
        self.left = table(k=["a", "b", None, "d", "d"], n=[1, 2, 3, 4, 5])
        self.right = table(q=["a", "a", "b", "x"])
        self.subject = guarded(self.left, self.right)

    def test_rows_without_partner(self):
        self.assertEqual(told("all-left-match", self.subject), (False, "left", [2, 3, 4]))
        self.assertEqual(told("all-right-match", self.subject), (False, "right", [3]))
        for guard, holds in (
            ("left-unmatched<=3", True),
            ("left-unmatched <= 2", False),
            ("left-unmatched<=60%", True),
            ("left-unmatched<=59.9%", False),
            ("right-unmatched<=25%", True),
            ("right-unmatched<=0", False),
        ):
            self.assertEqual(check(guard, self.subject).holds, holds, guard)

    def test_what_is_accepted_as_absent_does_not_break_a_guard(self):
        subject = guarded(self.left, self.right, accepted=(("d",), ()))
        self.assertEqual(told("all-left-match", subject), (False, "left", [2]))
        self.assertTrue(check("left-unmatched<=1", subject).holds)

    def test_keys_blanks_and_rows(self):
        self.assertEqual(told("right-key-unique", self.subject), (False, "right", [0, 1]))
        self.assertEqual(told("left-key-unique", self.subject), (False, "left", [3, 4]))
        self.assertEqual(told("no-left-blanks", self.subject), (False, "left", [2]))
        self.assertEqual(told("no-right-blanks", self.subject), (True, "right", []))
        self.assertEqual(told("no-rows-added", self.subject), (False, "left", [0]))
        self.assertTrue(check("no-rows-added", guarded(self.left, table(q=["a"]))).holds)
        for guard, holds in (
            ("rows=6..6", True),
            ("rows=7..", False),
            ("rows=..5", False),
            ("rows=1..", True),
        ):
            self.assertEqual(check(guard, self.subject).holds, holds, guard)

    def test_the_grain(self):
        self.assertEqual(told("one-row-per:n", self.subject), (False, "result", [0, 1]))
        self.assertEqual(told("one-row-per: n, k", self.subject), (False, "result", [0, 1]))
        self.assertTrue(check("one-row-per:n", guarded(self.left, table(q=["a"]))).holds)

    def test_a_control_total_is_exact_for_decimals_and_close_for_reals(self):
        values = [Decimal("0.10"), Decimal("0.20"), Decimal("0.30")]
        left = ArrowTable(
            pa.table(
                {
                    "k": pa.array(["a", "b", "c"], pa.large_string()),
                    "v": pa.array(values),
                    "r": [0.1, 0.2, 0.3],
                }
            )
        )
        self.assertTrue(check("total:v", guarded(left, table(q=["a"]))).holds)
        self.assertTrue(check("total:r", guarded(left, table(q=["a"]))).holds)
        verdict = check("total:v", guarded(left, table(q=["a", "a"])))
        self.assertFalse(verdict.holds)
        self.assertIn("0.70", verdict.said)
        self.assertIn("0.60", verdict.said)
        with self.assertRaises(UsageError):
            check("total:k", guarded(left, table(q=["a"])))

    def test_what_is_no_guard_says_what_guards_there_are(self):
        for text in ("all match", "rows=..", "left-unmatched<=x", "total:", "one-row-per: ", "rows=a..b"):
            with self.assertRaisesRegex(UsageError, "all-left-match"):
                check_text(text)
        with self.assertRaisesRegex(UsageError, "guard for a join"):
            check("all-left-match", Guarded(self.left, lambda _: None))

    def test_guards_are_read_aloud(self):
        names = ("loans", "objects")
        for guard, words in (
            ("all-left-match", "all loans have a partner"),
            ("right-key-unique", "no link value repeats in objects"),
            ("left-unmatched<=0.5%", "at most 0.5 % of loans without a partner"),
            ("rows=8000..9000", "8,000 to 9,000 rows"),
            ("one-row-per:Loan no", "one row is one Loan no"),
            (
                "left-unmatched<=last:12",
                "no more loans without a partner than in the worst of the last 12 runs",
            ),
            ("right-unmatched<=last:1", "no more objects without a partner than in the last run"),
            ("rows=last:3", "as many rows as in the last 3 runs, give or take a tenth"),
        ):
            self.assertEqual(in_words(guard, names), words)


class AsBefore(unittest.TestCase):
    """Two of four left rows have no partner, and one right row has none."""

    def setUp(self):
        self.subject = guarded(table(k=["a", "b", "x", "y"]), table(q=["a", "b", "z"]))
        self.asked = []

    def verdict(self, guard, *past):
        def known(count):
            self.asked.append(count)
            return list(past)

        return check(guard, msgspec.structs.replace(self.subject, past=known))

    def test_unmatched_rows_are_compared_with_the_worst(self):
        guard = "left-unmatched <= last:12"
        worst = self.verdict(guard, Past(4, 1, 9), Past(4, 2, 9), Past(4, 0, 9))
        self.assertTrue(worst.holds)
        self.assertEqual(worst.said, "2 rows have no partner, 0 to 2 in the last 3 runs")
        better = self.verdict(guard, Past(4, 1, 9))
        self.assertFalse(better.holds)
        self.assertEqual((better.rows.tolist(), better.side), ([2, 3], "left"))
        self.assertFalse(self.verdict("right-unmatched<=last:2", Past(4, 9, 0)).holds)
        self.assertEqual(self.asked, [12, 12, 2])

    def test_rows_may_be_a_tenth_more_or_fewer(self):
        for least, most, holds in (
            (4, 4, True),
            (3, 3, True),
            (5, 5, True),
            (2, 2, False),
            (6, 6, False),
            (2, 9, True),
        ):
            found = self.verdict("rows=last:12", Past(least), Past(most))
            # Four rows: 3 may become 3.3, which is 4 rows at most; 5 may become 4.5, which is 4 at least.
            self.assertEqual(found.holds, holds, (least, most))

    def test_the_first_run_holds_and_says_that_it_is_the_first(self):
        for guard in ("left-unmatched<=last:12", "rows=last:12"):
            found = self.verdict(guard)
            self.assertTrue(found.holds)
            self.assertIn("no earlier run to compare with", found.said)

    def test_where_no_runs_are_kept_it_is_refused(self):
        with self.assertRaisesRegex(UsageError, "none are kept here"):
            check("rows=last:12", self.subject)
        with self.assertRaisesRegex(UsageError, "guard for a join"):
            check("left-unmatched<=last:12", Guarded(self.subject.result, lambda _: None, past=lambda _: []))
        for text in ("rows=last:0", "rows=last:", "rows<=last:3", "left-unmatched=last:3", "rows=last:12345"):
            with self.assertRaises(UsageError):
                check_text(text)

    def test_it_is_offered_where_runs_are_known_and_it_holds(self):
        def offered(*past):
            return [
                text
                for text in proposals(msgspec.structs.replace(self.subject, past=lambda _: past))
                if "last" in text
            ]

        self.assertEqual(offered(*[Past(4, 2, 1)] * 3), ["left-unmatched<=last:12", "rows=last:12"])
        self.assertEqual(offered(*[Past(9, 1, 1)] * 3), [])
        self.assertEqual(offered(*[Past(4, 2, 1)] * 2), [])


_KEYS = st.lists(st.one_of(st.none(), st.sampled_from("abcde")), max_size=8)


class Proposals(unittest.TestCase):
    @given(_KEYS, _KEYS)
    def test_what_is_proposed_holds_and_reads_back(self, left, right):
        one = ArrowTable(
            pa.table({"k": pa.array(left, pa.large_string()), "n": pa.array(range(len(left)), pa.int64())})
        )
        subject = guarded(one, ArrowTable(pa.table({"q": pa.array(right, pa.large_string())})))
        for guard in proposals(subject):
            self.assertEqual(check_text(guard), guard)
            self.assertTrue(check(guard, subject).holds, guard)
            self.assertTrue(in_words(guard))


if __name__ == "__main__":
    unittest.main()
