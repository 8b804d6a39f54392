import unittest
from decimal import Decimal

import numpy as np
import pyarrow as pa

from keen_trellis.core.insight.profile import profile
from keen_trellis.core.insight.proposal import Known, percent, why_none
from keen_trellis.core.insight.proposals import SAMPLE_ROWS, propose
from keen_trellis.core.link import LinkField, Preparation
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable, ChosenRows, spread_rows
from keen_trellis.core.task import Task
from tests.tables import table


class Proposals(unittest.TestCase):
    def test_values_win_over_names(self):
        codes = [f"C{n}" for n in range(40)]
        left = table(number=list(range(40)), code=[code.lower() + " " for code in codes], name=["x"] * 40)
        right = table(number=list(range(40)), reference=codes, name=[f"other {n}" for n in range(40)])
        best = propose(left, right)[0]
        self.assertEqual(best.link, LinkField("code", "reference", Preparation(case=True, outer_spaces=True)))
        self.assertEqual((best.found, best.unique), (1.0, 1.0))
        self.assertIn(
            "100 % of the sampled code values of Left are in reference of Right",
            best.evidence("Left", "Right"),
        )

    def test_nothing_is_prepared_that_need_not_be(self):
        left, right = table(a=[f"k{n}" for n in range(30)]), table(b=[f"k{n}" for n in range(20)])
        best = propose(left, right)[0]
        self.assertEqual(best.link, LinkField("a", "b"))
        self.assertAlmostEqual(best.found, 20 / 30)

    def test_a_few_repeated_words_link_nothing(self):
        words = ["text", "a remark", "open"] * 20
        (found,) = propose(table(status=words), table(status=words))
        self.assertFalse(found.firm)
        self.assertIn("Not a sure link", found.evidence("Left", "Right"))

    def test_a_few_chance_finds_in_a_unique_field_are_no_ground(self):
        people = [f"person {n}" for n in range(100)]
        left, right = table(maker=people), table(contact=[*people[:12], *(f"other {n}" for n in range(60))])
        (found,) = propose(left, right)
        self.assertEqual((found.firm, found.found), (False, 0.12))

    def test_where_hardly_any_values_are_shared_it_says_how_few(self):
        left = table(k=[f"a{n}" for n in range(60)] + ["x"])
        (weak,) = propose(left, table(j=[f"b{n}" for n in range(80)] + ["x"]))
        self.assertFalse(weak.firm)
        self.assertIn("only 1 of the 61 k values looked at in A is in j of B", weak.evidence("A", "B"))

    def test_what_a_sample_misses_is_found_among_all_values(self):
        texts = [f"a{n}" for n in range(3 * SAMPLE_ROWS)]
        texts[7] = "x"  # no sample that is spread evenly has it
        left, right = table(k=texts), table(j=[f"b{n}" for n in range(80)] + ["x"])
        self.assertNotIn("x", [texts[row] for row in spread_rows(len(texts), SAMPLE_ROWS)])
        (weak,) = propose(left, right)
        self.assertEqual((weak.counted, weak.firm), ((1, len(texts)), False))

    def test_a_table_with_itself_is_linked_from_part_to_whole(self):
        keys = [f"LCM.{n:05d}" for n in range(400)]
        parts = [keys[n // 3] if n % 4 else None for n in range(400)]
        objects = table(accession=keys, title=[f"a {n % 7}" for n in range(400)], part_of=parts)
        for left in (objects, ChosenRows(objects, np.arange(0, 300)), objects.with_origin("parts")):
            found = propose(left, objects)
            self.assertEqual((found[0].link.left, found[0].link.right), ("part_of", "accession"))
            itself = next(entry for entry in found if entry.link.left == entry.link.right == "accession")
            self.assertTrue(itself.itself)
            self.assertIn("each row is linked with itself", itself.evidence("Parts", "Sets"))
        other = table(accession=keys, title=[f"a {n % 7}" for n in range(400)], part_of=parts)
        best = propose(objects, other)[0]  # another table with the same fields, as of the month before
        self.assertEqual((best.link.left, best.link.right), ("accession", "accession"))

    def test_what_little_there_is_is_offered_with_how_much(self):
        left = table(First=["Betty", "Betty", "Jon", "Mia"], Last=["Olm", "Farr", "Olm", "Nkemba"])
        right = table(First=["Betty", "Betty", "Jon", "Per"], Last=["Olm", "Farr", "Olm", "Dahl"])
        best = propose(left, right)[0]
        self.assertEqual([(link.left, link.right) for link in best.links], [("First",) * 2, ("Last",) * 2])
        self.assertEqual((best.firm, best.found), (True, 0.75))
        for one, other in (
            (list("abcdefg"), list("abvwxyz")),
            ([1, 2, 3, 4, 5, 6, 7], [1, 2, 33, 34, 35, 36, 37]),
        ):
            (weak,) = propose(table(k=one), table(j=other))
            self.assertEqual((weak.firm, weak.link), (False, LinkField("k", "j")))
            self.assertIn("28.6 % of the sampled k values", weak.evidence("A", "B"))
        (running,) = propose(table(k=[1, 2, 3]), table(j=[1, 2, 3, 4]))
        self.assertEqual((running.firm, running.found), (False, 1.0))

    def test_decimals_of_several_widths_are_compared_by_their_values(self):
        prices = [Decimal(n) + Decimal("0.25") for n in range(1000, 1040)]
        left = ArrowTable(
            pa.table(
                {
                    "price": pa.array(prices, pa.decimal128(8, 3)),
                    "cost": pa.array([Decimal("1.50")] * 40, pa.decimal128(4, 2)),
                    "wide": pa.array([Decimal(10) ** 30] * 40, pa.decimal128(38, 0)),
                }
            )
        )
        right = ArrowTable(pa.table({"price": pa.array(prices, pa.decimal128(6, 2))}))
        best = propose(left, right)[0]
        self.assertEqual((best.link.left, best.link.right, best.found), ("price", "price", 1.0))
        scale = ArrowTable(pa.table({"rate": pa.array([Decimal("0.1")], pa.decimal128(38, 38))}))
        self.assertEqual(propose(left, scale), [])

    def test_nothing_is_proposed_without_ground(self):
        self.assertEqual(propose(table(a=["x", "y"]), table(b=["p", "q"])), [])
        self.assertEqual(propose(table(a=["x"]), table(b=[1])), [])

    def test_what_is_known_comes_first_with_what_the_values_say(self):
        codes = [f"c{n}" for n in range(40)]
        left = table(code=codes, number=[n % 7 for n in range(40)])
        right = table(reference=codes, id=list(range(40)))
        key = Known((LinkField("number", "id"),), "A foreign key of left in a.sqlite")
        gone = Known((LinkField("code", "not there"),), "Linked so before")
        first, second = propose(left, right, known=[gone, key, key])[:2]
        self.assertEqual((first.links, first.found, first.unique), (key.links, 1.0, 1.0))
        self.assertTrue(
            first.evidence("Left", "Right").startswith("A foreign key of left in a.sqlite. 100 %")
        )
        self.assertEqual(second.link, LinkField("code", "reference"))

    def test_counting_values_beforehand_changes_no_proposal(self):
        left = table(code=[f"c{n}" for n in range(40)], n=list(range(40)), w=["a", None] * 20)
        right = table(reference=[f"C{n % 20}" for n in range(40)], m=list(range(40)), v=["a", "b"] * 20)
        before = propose(left, right)
        for data in (left, right):
            profile(data, Task())
        self.assertEqual(right.known_distinct("reference"), 20)
        self.assertEqual(left.with_origin("s").known_distinct("w"), 1)
        self.assertEqual(propose(left, right), before)

    def test_two_fields_that_only_together_tell_rows_apart(self):
        venues = [f"venue {n}" for n in range(12)]
        months = [f"2026-{n + 1:02d}" for n in range(12)]
        right = table(venue=[v for v in venues for _ in months], month=months * 12, n=list(range(500, 644)))
        left = table(place=venues * 12, when=[month for month in months for _ in venues])
        best = propose(left, right)[0]
        self.assertEqual(
            {(link.left, link.right) for link in best.links}, {("place", "venue"), ("when", "month")}
        )
        self.assertEqual((best.found, best.unique), (1.0, 1.0))
        self.assertIn("which together are unique there", best.evidence("Loans", "Visitors"))

    def test_a_single_field_that_tells_rows_apart_is_enough(self):
        codes = [f"c{n}" for n in range(40)]
        words = ["a", "b"] * 20
        found = propose(table(k=codes, w=words), table(q=codes, w=words))
        self.assertTrue(all(len(entry.links) == 1 for entry in found))

    def test_a_value_between_two_that_are_named_as_ends(self):
        left = table(value=[150, 250, 990, 10])
        right = table(**{"value from": [0, 200, 500], "value to": [199, 499, 999], "rate": [1, 2, 3]})
        best = propose(left, right)[0]
        self.assertEqual(
            [(link.left, link.operator.value, link.right) for link in best.links],
            [("value", ">=", "value from"), ("value", "<=", "value to")],
        )
        self.assertEqual(best.found, 1.0)
        self.assertIn(
            "between value from and value to of Rates, in one row each", best.evidence("Loans", "Rates")
        )
        turned = table(**{"value from": [5, 200], "value to": [1, 499]})
        self.assertEqual(propose(left, turned), [])

    def test_first_and_last_name_are_proposed_for_a_full_name_either_way(self):
        people = table(first=["Ada", "Bo", "Cy", "Di"], last=["Moss", "Lee", "Fay", "Orr"], n=[1, 2, 3, 4])
        full = table(name=["Ada Moss", "Bo Lee", "Cy Fay", "Di Orr"], m=[5, 6, 7, 8])
        joined = '"first" || \' \' || "last"'
        for left, right, sides in ((people, full, (joined, "name")), (full, people, ("name", joined))):
            best = propose(left, right)[0]
            self.assertEqual((best.link.left, best.link.right, best.found), (*sides, 1.0))
            self.assertEqual(match(left, right, best.links).counts.cardinality, "1:1")

    def test_why_there_is_none_is_said(self):
        self.assertEqual(
            why_none("Loans", "Rates"), "No field of Loans has values that are in a field of Rates."
        )

    def test_percentages_are_never_rounded_to_all_or_nothing(self):
        self.assertEqual(
            [percent(share) for share in (0, 0.00001, 0.5, 0.99999, 1)],
            ["0 %", "0.1 %", "50.0 %", "99.9 %", "100 %"],
        )


if __name__ == "__main__":
    unittest.main()
