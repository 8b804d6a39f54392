"""Reasons for unmatched rows: each kind is planted and found with its count, and clean data gives none."""

import unittest

from keen_trellis.core.insight.reason import Kind
from keen_trellis.core.insight.reasons import Asked, explain, of_other_types
from keen_trellis.core.link import LinkField, Operator, Preparation, Taken
from keen_trellis.core.matching import match
from tests.tables import table

LINK = (LinkField("k", "q"),)


def reasons(left, right, links=LINK):
    return explain(Asked(left, right, links), match(left, right, links))


def told(found, side="left"):
    """Kind and rows of each reason of a side."""
    return [(entry.kind.value, entry.rows, entry.values) for entry in found if entry.side == side]


class Reasons(unittest.TestCase):
    def test_nothing_wrong_is_said_and_nothing_else(self):
        (only,) = reasons(table(k=["a", "b"]), table(q=["b", "a"]))
        self.assertEqual((only.kind, only.rows), (Kind.NOTHING_WRONG, 2))

    def test_the_smallest_preparation_that_helps_and_what_it_gains(self):
        left = table(k=["lcm.1", "LCM.1 ", "lcm-1", "LCM.2", "Äther", "LCM.9", "LCM.9"])
        right = table(q=["LCM.1", "LCM.2", "ather"])
        found = reasons(left, right)
        self.assertEqual(
            told(found),
            [
                ("absent", 2, 1),
                ("written-differently", 1, 1),
                ("written-differently", 1, 1),
                ("written-differently", 1, 1),
                ("written-differently", 1, 1),
            ],
        )
        mends = {entry.mends[0].said: entry for entry in found if entry.side == "left" and entry.mends}
        self.assertEqual(
            set(mends),
            {
                "ignore case",
                "ignore outer spaces",
                "ignore case and punctuation",
                "ignore accents and case",
                "accept as absent",
            },
        )
        example = mends["ignore case and punctuation"].examples[0]
        self.assertEqual((example.value, example.other), ("lcm-1", "LCM.1"))
        for said, entry in mends.items():
            mend = entry.mends[0]
            if said == "accept as absent":
                continue
            before = match(left, right, LINK).counts.left_matched
            after = match(left, right, mend.links, take=mend.take).counts.left_matched
            self.assertLessEqual(entry.rows, after - before)

    def test_a_preparation_that_makes_keys_of_the_other_side_one_says_so(self):
        (entry,) = (e for e in reasons(table(k=["ab"]), table(q=["AB", "Ab", "x"])) if e.side == "left")
        self.assertEqual(entry.mends[0].merged, 1)

    def test_blanks_placeholders_and_what_could_not_be_converted(self):
        found = reasons(table(k=[None, "n/a", "0000", "-", "7"]), table(q=["7"]))
        self.assertEqual(told(found), [("placeholder", 3, 3), ("blank", 1, 0)])
        links = (LinkField("k", "q", Preparation(compare_as="number")),)
        found = reasons(table(k=["7", "seven", None]), table(q=[7]), links)
        self.assertEqual(told(found), [("blank", 1, 0), ("not-converted", 1, 1)])

    def test_letters_that_look_like_digits_and_never_another_digit(self):
        left = table(k=["LCM.O482", "LCM.O482", "LCM.0483", "LCM.l2", "BOB"])
        right = table(q=["LCM.0482", "LCM.0484", "LCM.12", "LCM-12.", "808"])
        found = reasons(left, right)
        # Two values look like “LCM.l2”, so that it is left to be judged by hand.
        self.assertEqual(told(found), [("look-alike", 3, 2), ("absent", 2, 2)])
        entry = found[0]
        self.assertEqual((entry.examples[0].value, entry.examples[0].other), ("LCM.O482", "LCM.0482"))
        mend = entry.mends[0]
        self.assertEqual((mend.gain, match(left, right, mend.links).counts.left_matched), (3, 3))

    def test_agreeing_on_all_links_but_one(self):
        left = table(venue=["Pier", "Pier", "Mill", "Quay"], month=[1, 2, 3, 9])
        right = table(venue=["Pier", "Mill"], month=[1, 4])
        links = (LinkField("venue", "venue"), LinkField("month", "month"))
        found = reasons(left, right, links)
        self.assertEqual(told(found), [("all-but-one", 2, 2), ("absent", 1, 1)])
        self.assertIn("they agree on venue, but not on month", found[0].said)
        self.assertEqual(found[0].examples[0].value, "Pier – 2")

    def test_repeated_keys_and_their_mend(self):
        left, right = table(k=["a", "a", "b"]), table(q=["a", "a", "a", "b"])
        (entry,) = reasons(left, right)
        self.assertEqual((entry.kind, entry.rows, entry.values), (Kind.REPEATED, 2, 1))
        mend = entry.mends[0]
        self.assertEqual((mend.gain, mend.take.kind), (4, Taken.FIRST))
        pairs = match(left, right, mend.links, take=mend.take).pairs
        self.assertEqual(match(left, right, LINK).pairs - pairs, mend.gain)

    def test_types_that_never_match(self):
        left, right = table(k=["7", "8", "x"]), table(q=[7, 8])
        (entry,) = of_other_types(Asked(left, right, LINK))
        self.assertEqual(entry.kind, Kind.OTHER_TYPE)
        self.assertEqual(
            [(mend.said, mend.gain) for mend in entry.mends],
            [("compare as text", 2), ("compare as number", 2)],
        )
        self.assertEqual(of_other_types(Asked(left, table(q=["7"]), LINK)), [])

    def test_range_links_have_reasons_too(self):
        links = (LinkField("k", "q", operator=Operator.GREATER),)
        found = reasons(table(k=[1, None, 2]), table(q=[5]), links)
        self.assertEqual(told(found), [("below-first", 2, 2), ("blank", 1, 0)])


if __name__ == "__main__":
    unittest.main()
