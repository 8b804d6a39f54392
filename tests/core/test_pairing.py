"""What a row without partner may be paired with by hand: the likeliest first, all of it searchable."""

import random
import unittest
from importlib.metadata import distributions

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import UsageError
from keen_trellis.core.insight.pairing import can_be_paired, candidates
from keen_trellis.core.link import LinkField, Operator
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable
from tests.tables import table

_TEXTS = st.lists(
    st.sampled_from(["Ebb Hall", "ebb-hall", "Fenn", "fen", "0151", "", "Zürich", None]), max_size=9
)


def found(left, right, *links, side="left", row=0, number=0):
    return candidates((left, right), links, match(left, right, links), side, row, number)


def texts(column) -> ArrowTable:
    return ArrowTable(pa.table({"k": pa.array(column, pa.large_string())}))


class Candidates(unittest.TestCase):
    def test_the_likeliest_is_first_however_it_is_written(self):
        right = table(k=["Limpet Hall", "House of Ebbrick", "Ebbrick-House", "Fenn Court"])
        likely = found(table(k=["ebbrick house"]), right, LinkField("k", "k"))
        self.assertEqual(likely.texts.to_pylist()[:2], ["Ebbrick-House", "House of Ebbrick"])
        self.assertEqual(likely.likeness[0], 100)
        self.assertEqual(list(likely.first[:2]), [2, 1])

    def test_rows_that_agree_in_the_other_link_fields_come_before_likelier_ones(self):
        left = table(k=["harbour"], town=["Ebb"])
        right = table(k=["harbor", "old quay"], town=["Fenn", "Ebb"])
        plain = found(left, right, LinkField("k", "k"))
        self.assertEqual(plain.texts.to_pylist(), ["harbor", "old quay"])
        both = found(left, right, LinkField("k", "k"), LinkField("town", "town"))
        self.assertEqual(both.texts.to_pylist(), ["old quay", "harbor"])
        self.assertEqual(both.agrees.tolist(), [True, False])

    def test_numbers_are_paired_by_how_they_are_written(self):
        likely = found(table(k=[1510]), table(k=[77, 1501, 1511]), LinkField("k", "k"))
        self.assertEqual(set(likely.texts.to_pylist()[:2]), {"1501", "1511"})
        self.assertEqual(likely.value, "1510")

    def test_it_says_how_many_other_rows_would_be_read_so(self):
        left = table(k=["a", "a", "a", "b"], t=["x", "y", "x", "x"])
        right = table(k=["a", "c"], t=["y", "x"])
        likely = found(left, right, LinkField("k", "k"), LinkField("t", "t"))
        self.assertEqual(likely.others, (2, 1))

    def test_a_blank_means_nothing(self):
        with self.assertRaises(UsageError) as caught:
            found(table(k=[None, "a"]), table(k=["a"]), LinkField("k", "k"))
        self.assertIn("blank", str(caught.exception))

    def test_only_what_is_compared_with_equal_is_paired(self):
        links = [LinkField("k", "k", operator=Operator.LESS), LinkField("t", "t")]
        self.assertEqual(can_be_paired(links), [1])

    @given(_TEXTS, _TEXTS, st.sampled_from(["", "hall", "FEN", "0", "ü"]))
    def test_every_value_of_the_other_side_is_there_once_and_found(self, mine, theirs, asked):
        left, right = texts(mine), texts(theirs)
        for row, value in enumerate(mine):
            if not value:
                continue
            likely = found(left, right, LinkField("k", "k"), row=row)
            listed = likely.texts.to_pylist()
            self.assertEqual(sorted(listed), sorted({entry for entry in theirs if entry is not None}))
            self.assertTrue(all(a >= b for a, b in zip(likely.likeness, likely.likeness[1:], strict=False)))
            for place, text in enumerate(listed):
                self.assertEqual(likely.rows[place], theirs.count(text))
                self.assertEqual(theirs[likely.first[place]], text)
            held = [listed[place] for place in likely.holding(asked, 100)]
            self.assertEqual(held, [text for text in listed if asked.casefold() in text.casefold()])


class OfRealNames(unittest.TestCase):
    def test_what_somebody_mistyped_is_among_the_first(self):
        """Texts that nobody chose for this: what the installed packages say of themselves."""
        said = (entry.metadata.get("Summary") for entry in distributions())
        names = sorted({text[:60] for text in said if text})
        chance = random.Random(7)
        first = among = 0
        asked = chance.sample([name for name in names if len(name) > 12], 30)
        for name in asked:
            at = chance.randrange(1, len(name) - 1)
            typed = name[:at] + chance.choice("aeiou") + name[at + 1 + chance.randrange(2) :]
            listed = found(texts([typed.upper()]), texts(names), LinkField("k", "k")).texts.to_pylist()
            first += listed[0] == name
            among += name in listed[:5]
        self.assertGreaterEqual(first, 28)
        self.assertEqual(among, len(asked))


if __name__ == "__main__":
    unittest.main()
