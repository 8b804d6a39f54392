"""Links by likeness and nearness, and ladders of links, against plain accounts of them."""

import datetime as dt
import unittest
from decimal import Decimal

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st
from rapidfuzz import fuzz

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.joining import FieldChoice, JoinedTable, plan_fields
from keen_trellis.core.laddering import Rung, ladder
from keen_trellis.core.likeness import Texts, alike
from keen_trellis.core.link import Likeness, LinkField, Operator, Preparation, Take, Taken
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from tests.tables import rows_of, table

NAMES = (
    *("Ada Olm", "Ada Olmen", "Ben Farr", "Clara Winterbourne", "Dorothea Quill", "Hugo Marsh", "Ida Lund"),
    *("Pier Gallery", "Harbour Museum", "Harbor Museum", "Skerrow Library", "Limpet Hall", "Ebbrick House"),
)
TEXTS = st.one_of(
    st.sampled_from(NAMES),
    st.text("abcd ,.é", min_size=1, max_size=6),
    st.builds(lambda name, at: name[:at] + name[at + 1 :], st.sampled_from(NAMES), st.integers(0, 5)),
)


def pairs(found) -> list[tuple[int, int]]:
    return list(zip(*(side.tolist() for side in found.all_pairs()), strict=True))


class Alike(unittest.TestCase):
    def found(self, left, right, at_least=85, groups=None):
        sides = [
            Texts(pa.array(side, pa.large_string()), np.array(groups[n] if groups else [0] * len(side)))
            for n, side in enumerate((left, right))
        ]
        made = alike(*sides, at_least, Task())
        return {
            (left[one], right[other]): round(float(score), 3)
            for one, other, score in zip(made.left, made.right, made.score, strict=True)
        }

    @given(st.sets(TEXTS, max_size=10), st.sets(TEXTS, max_size=10), st.sampled_from((60, 85, 100)))
    def test_what_is_found_is_so_much_alike_and_equal_texts_always_are(self, left, right, at_least):
        left, right = sorted(left), sorted(right)
        found = self.found(left, right, at_least)
        for (one, other), score in found.items():
            self.assertGreaterEqual(score, at_least)
            plain = max(fuzz.ratio(one, other), fuzz.token_sort_ratio(one, other))
            if score != 95.0:  # that of names which agree by initials
                self.assertAlmostEqual(score, plain, places=2)
        for text in set(left) & set(right):
            self.assertEqual(found[text, text], 100)

    @given(st.sampled_from(NAMES), st.integers(0, 40), st.sampled_from("xq "))
    def test_a_character_too_many_or_missing_is_found(self, name, at, letter):
        at %= len(name)
        for slip in (name[:at] + name[at + 1 :], name[:at] + letter + name[at:]):
            wanted = fuzz.ratio(slip, name)
            self.assertEqual((slip, name) in self.found([slip], list(NAMES), 80), wanted >= 80, slip)

    def test_words_in_another_order_and_initials_are_found(self):
        found = self.found(
            ["Olm, Ada", "A. Olm", "Winterbourne Clara"], ["Ada Olm", "Clara Winterbourne", "Olm"]
        )
        self.assertEqual(
            found,
            {
                ("Olm, Ada", "Ada Olm"): round(fuzz.token_sort_ratio("Olm, Ada", "Ada Olm"), 3),
                ("A. Olm", "Ada Olm"): 95.0,
                ("Winterbourne Clara", "Clara Winterbourne"): 100.0,
            },
        )

    def test_texts_of_other_groups_are_not_compared(self):
        found = self.found(["Ada Olm", "Ada Olm"], ["Ada Olm", "Ada Olmen"], groups=([0, 1], [1, 1]))
        self.assertEqual(found, {("Ada Olm", "Ada Olm"): 100.0, ("Ada Olm", "Ada Olmen"): 87.5})

    def test_an_equal_text_is_found_among_many_that_are_nearly_it(self):
        many = ["a", *(f"a{letter}" for letter in "bcdefghijklmnopqrstuvwxyz0123456789éèà")]
        self.assertEqual(self.found(["a"], many, 100), {("a", "a"): 100.0})

    def test_without_rows_nothing_is_found(self):
        self.assertEqual(self.found([], ["a"]), {})
        self.assertEqual(self.found(["a"], []), {})


class Near(unittest.TestCase):
    """Numbers and dates that are near, against all pairs."""

    @given(
        st.lists(st.tuples(st.integers(0, 1), st.integers(-6, 6) | st.none()), max_size=8),
        st.lists(st.tuples(st.integers(0, 1), st.integers(-6, 6) | st.none()), max_size=8),
        st.sampled_from(("0", "2", "")),
        st.sampled_from(("both", "before", "after")),
        st.booleans(),
        st.sampled_from(("integer", "decimal", "real", "date")),
    )
    def test_it_is_what_all_pairs_say(self, left, right, within, side, best, kind):
        if not within and not best:
            return
        start = dt.date(2026, 5, 1)
        made = {
            "integer": (lambda n: n, pa.int64()),
            "decimal": (lambda n: Decimal(n) / 10, pa.decimal128(9, 1)),
            "real": (float, pa.float64()),
            "date": (lambda n: start + dt.timedelta(days=n), pa.date32()),
        }[kind]
        unit = 10 if kind == "decimal" else 1

        def sided(rows):
            values = pa.array([None if n is None else made[0](n) for _, n in rows], made[1])
            return ArrowTable(pa.table({"g": pa.array([g for g, _ in rows], pa.int64()), "v": values}))

        likeness = Likeness(within=str(Decimal(within) / unit) if within else "", side=side, best=best)
        links = [LinkField("g", "g"), LinkField("v", "v", likeness=likeness)]
        found = match(sided(left), sided(right), links, Task())
        wanted, distances = [], []
        for number, (group, value) in enumerate(left):
            fits = [
                (other, abs(there - value))
                for other, (other_group, there) in enumerate(right)
                if group == other_group
                and None not in (value, there)
                and (not within or abs(there - value) <= int(within))
                and (side == "both" or (there <= value if side == "before" else there >= value))
            ]
            least = min((distance for _, distance in fits), default=0)
            kept = [fit for fit in fits if not best or fit[1] == least]
            wanted += [(number, other) for other, _ in kept]
            distances += [distance / unit for _, distance in kept]
        self.assertEqual(pairs(found), wanted)
        self.assertTrue(np.allclose(found.scores, distances))

    def test_the_nearest_of_large_numbers_is_told_to_the_last_digit(self):
        left, right = table(v=[2**60]), table(v=[2**60 - 3, 2**60 + 1, 2**60 - 1, 2**60 + 2])
        found = match(left, right, [LinkField("v", "v", likeness=Likeness(within="2", best=True))], Task())
        self.assertEqual(pairs(found), [(0, 1), (0, 2)])
        nearest = LinkField("v", "v", likeness=Likeness(within="any", best=True))
        self.assertEqual(pairs(match(left, right, [nearest], Task())), [(0, 1), (0, 2)])
        self.assertEqual(found.scores.tolist(), [1, 1])

    def test_one_to_one_takes_the_best_pairs_first(self):
        left, right = table(v=[1, 4, 9]), table(v=[3, 5, 30])
        links = [LinkField("v", "v", likeness=Likeness(within="6"))]
        found = match(left, right, links, Task(), take=Take(Taken.PAIR_OFF))
        self.assertEqual(pairs(found), [(0, 1), (1, 0)], "4 and 3 are nearer than 1 and 3")
        self.assertEqual(found.scores.tolist(), [4, 1])
        self.assertEqual(found.counts.left_passed_over, 1)

    def test_what_cannot_be_compared_so_is_refused(self):
        one, other = table(t=["a"], n=[1]), table(t=["b"], n=[2])
        for links, said in (
            ([LinkField("n", "n", likeness=Likeness())], "not said how near"),
            ([LinkField("n", "n", likeness=Likeness(within="any"))], "not said how near"),
            ([LinkField("n", "n", likeness=Likeness(within="far"))], "is no distance"),
            ([LinkField("n", "n", likeness=Likeness(within="-1"))], "is no distance"),
            ([LinkField("n", "n", likeness=Likeness(within="1", side="up"))], "is no side"),
            ([LinkField("t", "n", likeness=Likeness())], "neither alike nor near"),
            ([LinkField("t", "t", likeness=Likeness(at_least=0))], "1 to 100 alike"),
            ([LinkField("t", "t", likeness=Likeness(within="1"))], "have no distance"),
            (
                [LinkField("t", "t", operator=Operator.LESS, likeness=Likeness())],
                "compared by likeness, and also",
            ),
            (
                [
                    LinkField("t", "t", likeness=Likeness()),
                    LinkField("n", "n", likeness=Likeness(within="1")),
                ],
                "Two",
            ),
        ):
            with self.assertRaises(TrellisError) as caught:
                match(one, other, links, Task())
            self.assertIn(said, str(caught.exception))
        huge = table(n=[2**63 - 1])
        with self.assertRaisesRegex(TrellisError, "too large to be compared by its distance"):
            match(huge, other, [LinkField("n", "n", likeness=Likeness(within="1"))], Task())


class Ladders(unittest.TestCase):
    RUNGS = (
        Rung((LinkField("a", "x"),)),
        Rung((LinkField("a", "x", Preparation(case=True)),)),
        Rung((LinkField("b", "y"),)),
    )

    @given(
        st.lists(st.tuples(st.sampled_from("aAbBc"), st.integers(0, 3) | st.none()), max_size=8),
        st.lists(st.tuples(st.sampled_from("aAbBc"), st.integers(0, 3) | st.none()), max_size=8),
    )
    def test_each_row_is_matched_by_the_first_rung_that_finds_it(self, left, right):
        one, other = self.sided("ab", left), self.sided("xy", right)
        found = ladder(one, other, self.RUNGS, Take(), Task())
        wanted, rungs = [], []
        for number, (a, b) in enumerate(left):
            ways = (
                [n for n, (x, _) in enumerate(right) if x == a],
                [n for n, (x, _) in enumerate(right) if x.lower() == a.lower()],
                [n for n, (_, y) in enumerate(right) if y is not None and y == b],
            )
            rung = next((place for place, partners in enumerate(ways) if partners), None)
            rungs.append(0 if rung is None else rung + 1)
            wanted += [(number, partner) for partner in (ways[rung] if rung is not None else ())]
        self.assertEqual(pairs(found), wanted)
        self.assertEqual(found.rung_of_left.tolist(), rungs)
        self.assertEqual(found.counts.left_matched, sum(rung > 0 for rung in rungs))

    @staticmethod
    def sided(names, rows) -> ArrowTable:
        kinds = (pa.large_string(), pa.int64())
        columns = [pa.array([row[place] for row in rows], kind) for place, kind in enumerate(kinds)]
        return ArrowTable(pa.table(dict(zip(names, columns, strict=True))))

    def test_fields_say_which_rung_it_was_and_how_alike(self):
        left, right = table(a=["Ada Olm", "Ben Fahr", "Cy"]), table(x=["Ada Olm", "Ben Farr"])
        rungs = (self.RUNGS[0], Rung((LinkField("a", "x", likeness=Likeness()),)))
        found = ladder(left, right, rungs, Take(), Task())
        choice = FieldChoice(rungs=("exact", "alike"), score=True)
        plan = plan_fields(left.fields, right.fields, (), JoinType.FULL_OUTER, choice, "R", any_of=True)
        rows = JoinedTable(left, right, found, JoinType.FULL_OUTER, plan)
        self.assertEqual(rows.names, ("a", "x", "matched by", "likeness"))
        self.assertEqual(
            rows_of(rows),
            [
                ("Ada Olm", "Ada Olm", "exact", None),
                ("Ben Fahr", "Ben Farr", "alike", 87.5),
                ("Cy", None, None, None),
            ],
        )
        self.assertEqual(rows.column("matched by").absent.tolist(), [False, False, True])

    def test_what_is_paired_off_is_not_used_again(self):
        left, right = table(a=["x", "X", "x"], b=[1, 1, 1]), table(x=["x"], y=[1])
        found = ladder(left, right, self.RUNGS, Take(Taken.PAIR_OFF), Task())
        self.assertEqual(pairs(found), [(0, 0)])
        # Two rows are found by the first rung, and one of them is passed over; the third finds nothing left.
        self.assertEqual(found.rung_of_left.tolist(), [1, 0, 1])
