import unittest

from keen_trellis.core.insight.proposals import percent, propose
from keen_trellis.core.link import LinkField, Preparation
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
            "100 % of the sampled code values of Left stand in reference of Right",
            best.evidence("Left", "Right"),
        )

    def test_nothing_is_prepared_that_need_not_be(self):
        left, right = table(a=[f"k{n}" for n in range(30)]), table(b=[f"k{n}" for n in range(20)])
        best = propose(left, right)[0]
        self.assertEqual(best.link, LinkField("a", "b"))
        self.assertAlmostEqual(best.found, 20 / 30)

    def test_a_few_repeated_words_link_nothing(self):
        words = ["text", "a remark", "open"] * 20
        self.assertEqual(propose(table(status=words), table(status=words)), [])

    def test_a_few_chance_finds_in_a_unique_field_are_no_ground(self):
        people = [f"person {n}" for n in range(100)]
        left, right = table(maker=people), table(contact=[*people[:12], *(f"other {n}" for n in range(60))])
        self.assertEqual(propose(left, right), [])

    def test_nothing_is_proposed_without_ground(self):
        self.assertEqual(propose(table(a=["x", "y"]), table(b=["p", "q"])), [])
        self.assertEqual(propose(table(a=["x"]), table(b=[1])), [])

    def test_percentages_are_never_rounded_to_all_or_nothing(self):
        self.assertEqual(
            [percent(share) for share in (0, 0.00001, 0.5, 0.99999, 1)],
            ["0 %", "0.1 %", "50.0 %", "99.9 %", "100 %"],
        )


if __name__ == "__main__":
    unittest.main()
