"""Texts as whole numbers, and whole numbers as codes: the same answers as texts give, only sooner."""

import random
import tracemalloc
import unittest
from itertools import pairwise
from unittest import mock

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core import coding, comparing, hashing, packing, parallel
from keen_trellis.core.comparing import ordered_as
from keen_trellis.core.encoding import encode, numbered, prepare_links
from keen_trellis.core.folding import Folded
from keen_trellis.core.hashing import Numbering, own_codes
from keen_trellis.core.link import LinkField
from keen_trellis.core.packing import packed, packed_alike, shape_of
from keen_trellis.core.preparing import prepare
from keen_trellis.core.table import ArrowTable, Cells
from tests.core import test_matching_against_sqlite

ODD = (
    None, "", "odd", " LCM.1", "LCM.0000١", "LCM.-0001", "LCM.", "LCM.00615", "00615", "\0", "LCM.0\0",
    "LCM.0", "LCM.00615\0", "LCM.0061", "LCM.006150", "longer than two words are", "ä", "日本語",
    "\U0001f600", "2026-05", "GB-LND", "gb-lnd", "L-0151", "+1", "0" * 16, "9" * 16, "9" * 17,
)  # fmt: skip
SHAPES = {
    "digits": lambda chosen: f"LCM.{chosen.randrange(100_000):05}",
    "many digits": lambda chosen: f"{chosen.randrange(10**16):016}",
    "months": lambda chosen: f"20{chosen.randrange(100):02}-{chosen.randrange(1, 13):02}",
    "days": lambda chosen: f"{chosen.choice(('2025', '2026'))}-{chosen.randrange(1, 13):02}-11",
    "letters": lambda chosen: "".join(chosen.choices("ABCDEFGHIJKLMNOPQRSTUVWXYZ", k=12)),
    "places": lambda chosen: "GB-" + "".join(chosen.choices("ABXYZ", k=3)),
    "any length": lambda chosen: f"L-{chosen.randrange(10 ** chosen.randrange(1, 7))}",
    "long beginning": lambda chosen: f"Lantern Coast Museums, object {chosen.randrange(10**6):06}",
    "common end": lambda chosen: f"LCM.{chosen.randrange(10**6):06}/catalogue of the museums",
    "end only": lambda chosen: f"{''.join(chosen.choices('ABXYZ', k=4))} museum",
    "two words": lambda chosen: "".join(chosen.choices("aBc-XyZ09ä", k=chosen.randrange(1, 15))),
    "long NUL": lambda chosen: "LCM longer" + chosen.choice(("", "\0", "\0\0", "b", "b\0", "\0b")),
    "NUL": lambda chosen: "a" + chosen.choice(("", "\0", "\0\0", "b", "b\0", "\0b")),
    "bytes": lambda chosen: chosen.choice(("ä", "é", "a", "zz", "日本", "ß")) * chosen.randrange(3),
    "none": lambda chosen: "".join(chosen.choices("abc ", k=chosen.randrange(30))),
    "one": lambda chosen: "x",
    "empty": lambda chosen: "",
}


def small(test):
    """A test for which few texts are as good as many."""
    test.enterContext(mock.patch.object(packing, "_WORTH_IT", 0))
    test.enterContext(mock.patch.object(parallel, "_WORTH_IT", 50))
    for name, value in (("_MANY", 2), ("_SAMPLE", 4), ("_BLOCK", 3)):
        test.enterContext(mock.patch.object(comparing, name, value))
    for name, value in (("_PART", 3), ("_STRETCH", 16)):
        test.enterContext(mock.patch.object(coding, name, value))


def texts_of(name, count, seed, odd=0):
    """Texts of a shape, with some that have not got it at odd places, the last of all among them."""
    chosen = random.Random(seed)
    texts = [SHAPES[name](chosen) for _ in range(count)]
    for _ in range(odd):
        texts.insert(chosen.randrange(len(texts) + 1), chosen.choice(ODD))
    return texts + [chosen.choice(ODD)] * (odd > 0)


def column(texts):
    return pa.array(texts, pa.large_string())


class Packing(unittest.TestCase):
    def setUp(self):
        small(self)

    def check(self, texts):
        """Packed texts are equal, and ordered, as they are; a blank never fits."""
        values = column(texts)
        shape = shape_of(values)
        if shape is None:
            return 0.0
        for held in (values, pa.concat_arrays([column(["before", None]), values]).slice(2)):
            made = packed(held, shape)
            numbers = zip(*(part.tolist() for part in made.numbers), strict=True)
            pairs = zip(texts, numbers, made.fits.tolist(), strict=True)
            fitting = sorted((text.encode(), number) for text, number, fits in pairs if fits)
            for (text, number), (other, its) in pairwise(fitting):
                self.assertEqual((text == other, text < other), (number == its, number < its), (text, other))
        return len(fitting) / len(texts)

    def test_each_shape(self):
        for name in SHAPES:
            for count, odd in ((1, 0), (2, 1), (50, 3), (3_000, 0), (3_000, 40)):
                with self.subTest(name, count=count, odd=odd):
                    found = self.check(texts_of(name, count, count, odd))
                    if count == 3_000 and name not in ("none", "NUL", "long NUL"):
                        self.assertGreater(found, 0.9)

    @given(
        st.lists(st.none() | st.sampled_from(ODD) | st.text(max_size=12), max_size=40),
        st.sampled_from(list(SHAPES)),
    )
    def test_any_texts(self, texts, name):
        self.check([*texts, *texts_of(name, 60, 1)])
        self.check(texts)

    def test_what_has_no_shape_or_is_few(self):
        self.assertIsNone(shape_of(column([])))
        self.assertIsNone(shape_of(column([None, None])))
        self.assertIsNone(shape_of(pa.array([1, 2])))
        with mock.patch.object(packing, "_WORTH_IT", 100):
            self.assertIsNone(packed_alike(column(["a"] * 99)))
            self.assertIsNotNone(packed_alike(column(["a"] * 50), column(["b"] * 50)))

    def test_codes_are_those_of_texts(self):
        for name in SHAPES:
            for odd in (0, 30):
                left, right = texts_of(name, 2_000, 1, odd), texts_of(name, 300, 2, odd)
                with self.subTest(name, odd=odd):
                    one, other = (ArrowTable(pa.table({"k": column(texts)})) for texts in (left, right))
                    found = encode(prepare_links(one, other, [LinkField("k", "k")]))
                    codes = dict(zip(right, found.right.tolist(), strict=True))
                    told = [code for code in codes.values() if code >= 0]
                    self.assertEqual(len({*told}), len(told))
                    for text, code in zip(left, found.left.tolist(), strict=True):
                        # An empty text is a blank.
                        self.assertEqual(code >= 0 and code == codes.get(text), bool(text) and text in codes)
                        self.assertLess(code, found.size)
                    alone, size = numbered(prepare(Cells(column(left)), LinkField("k", "k").preparation))
                    by_text = {}
                    for text, code in zip(left, alone.tolist(), strict=True):
                        self.assertEqual(by_text.setdefault(text or None, code), code)
                    self.assertEqual(len({*by_text.values()}), len(by_text))
                    self.assertTrue(alone.min() >= 0 and alone.max() < size)

    def test_ranks_are_in_the_order_of_texts(self):
        for name in SHAPES:
            for odd in (0, 30):
                texts = [text for text in texts_of(name, 500, 3, odd) if text is not None]
                with self.subTest(name, odd=odd):
                    ranks = ordered_as(column([*texts, None])).tolist()[:-1]
                    order = sorted(range(len(texts)), key=lambda row: texts[row].encode())
                    for one, other in pairwise(order):
                        self.assertEqual(ranks[one] == ranks[other], texts[one] == texts[other])
                        self.assertLessEqual(ranks[one], ranks[other])


_SPACED = st.text(" \t\n\v\f\r\0\x1fAZaz@[`{.-019", max_size=12)


class FoldedTexts(unittest.TestCase):
    """Case and outer spaces ignored where text is read, beside the same by Python."""

    def setUp(self):
        small(self)

    def check(self, left, right, case, outer):
        def one(text):
            if text is not None:
                text = text.lower() if case else text
                text = text.strip(" \t\n\v\f\r") if outer else text
            return text or None

        sides = []
        for texts in (left, right):
            held = pa.concat_arrays([column(["before", None]), column(texts), column([" "])])
            made = Folded(held.slice(2, len(texts)), case=case, outer_spaces=outer)
            expected = [one(text) for text in texts]
            self.assertEqual(made.written.to_pylist(), expected)
            self.assertEqual(made.filled.tolist(), [text is not None for text in expected])
            sides.append((made, expected))
        codes, size = coding.codes_of(*(made for made, _ in sides))
        known = dict(zip(sides[1][1], codes[1].tolist(), strict=True))
        known.pop(None, None)
        # What the smaller side has not may be without a code.
        told = [code for code in known.values() if code >= 0]
        self.assertEqual(len({*told}), len(told))
        for text, code in zip(sides[0][1], codes[0].tolist(), strict=True):
            self.assertLess(code, size)
            self.assertEqual(code >= 0 and code == known.get(text), text is not None and text in known)
        (alone,), _ = coding.codes_of(sides[0][0])
        pairs = {*zip(sides[0][1], alone.tolist(), strict=True)}
        self.assertEqual(len({text for text, _ in pairs}), len(pairs))
        self.assertEqual(len({code for _, code in pairs}), len(pairs))

    @given(
        st.lists(st.none() | _SPACED, min_size=1, max_size=40),
        st.lists(st.none() | _SPACED, min_size=1, max_size=30),
        st.sampled_from(list(SHAPES)),
        st.booleans(),
        st.booleans(),
    )
    def test_any_texts(self, left, right, name, case, outer):
        chosen = random.Random(len(left))
        shaped = [text for text in texts_of(name, 60, 1) if text.isascii()]
        for texts in (left, right):
            for text in chosen.sample(shaped, len(shaped) // 2):
                spaced = " " * chosen.randrange(3) + chosen.choice((text, text.upper(), text.lower()))
                texts.insert(chosen.randrange(len(texts) + 1), spaced + "\t " * chosen.randrange(2))
        self.check(left, right, case, outer)

    def test_filled_up_to_one_length_and_nothing_but_spaces(self):
        self.check([f"{n:<40}" for n in range(300)], [f"{n:>40}" for n in range(200, 400)], True, True)
        self.check(["   ", None, "\t", "a"], [None, None], True, True)
        many = " " * 100_000
        self.check([many, f"{many}a", f"b{many}", f"{many}c{many}", "d"], ["A", " B", "c", None], True, True)
        self.check([None], [" ", ""], False, True)

    def test_signs_next_to_letters_are_not_letters(self):
        texts = [f"K{sign}{number}" for sign in "@[`{AaZz" for number in range(40)]
        self.check(texts, [text.swapcase() for text in texts], True, False)


class Codes(unittest.TestCase):
    def test_pairs_of_numbers(self):
        chance = np.random.default_rng(2026)
        for most in (3, 200, 2**62):
            ones, others = (chance.integers(-most, most, 20_000) for _ in range(2))
            numbering = Numbering(ones, others)
            codes = numbering.find(ones, others)
            pairs = [*zip(ones.tolist(), others.tolist(), strict=True)]
            by_pair = dict(zip(pairs, codes.tolist(), strict=True))
            self.assertEqual((len({*by_pair.values()}), numbering.count), (len(by_pair), len(by_pair)))
            found = numbering.find(others, ones)
            swapped = zip(others.tolist(), ones.tolist(), strict=True)
            self.assertEqual(found.tolist(), [by_pair.get(pair, -1) for pair in swapped])

    def test_combinations_with_the_same_hash(self):
        chance = np.random.default_rng(2026)
        with mock.patch.object(hashing, "_hashes", lambda numbers: numbers[0].view(np.uint64) % 3 << 62):
            for most in (2, 9, 2**62):
                ones, others = (chance.integers(0, most, 300) for _ in range(2))
                numbering = Numbering(ones, others)
                pairs = [*zip(ones.tolist(), others.tolist(), strict=True)]
                by_pair = dict(zip(pairs, numbering.find(ones, others).tolist(), strict=True))
                self.assertEqual(sorted(by_pair.values()), [*range(len({*pairs}))])
                self.assertEqual(numbering.count, len(by_pair))
                self.assertEqual(numbering.find(ones, -1 - others).tolist(), [-1] * 300)

    def test_few_that_come_again_and_others_behind_them(self):
        for distinct, more in ((10, 0), (10, 3), (3_000, 40_000)):
            numbers = np.append(np.arange(50_000) % distinct * 2**40, np.arange(more) - 2**62)
            self.check(numbers, np.append(numbers[::7], [-1, 5]))

    def test_what_is_held_is_a_few_words_for_each_number(self):
        numbers = np.arange(100_000) * 2**40
        for work, most in ((own_codes, 32), (Numbering, 96)):
            tracemalloc.start()
            held = work(numbers)
            peak = tracemalloc.get_traced_memory()[1]
            tracemalloc.stop()
            self.assertLess(peak / len(numbers), most)
            del held

    def test_one_column_gets_codes_whether_most_are_distinct_or_not(self):
        for numbers in (np.arange(20_000) * 2**40, np.arange(20_000) % 7 * 2**40, np.zeros(0, np.int64)):
            for parts in ((numbers,), (numbers, -numbers)):
                codes, count = own_codes(*parts)
                distinct = {*zip(numbers.tolist(), codes.tolist(), strict=True)}
                self.assertEqual(sorted(code for _, code in distinct), [*range(count)])
                self.assertEqual(len({number for number, _ in distinct}), count)

    def check(self, numbers, others):
        numbering = Numbering(numbers)
        codes = numbering.find(numbers)
        distinct, place = np.unique(numbers, return_inverse=True)
        self.assertEqual(numbering.count, len(distinct))
        self.assertEqual(len({*zip(place.tolist(), codes.tolist(), strict=True)}), len(distinct))
        found = numbering.find(others)
        self.assertTrue(((found >= 0) == np.isin(others, numbers)).all())
        by_code = np.zeros(numbering.count, np.int64)
        by_code[codes] = numbers
        self.assertTrue((by_code[found[found >= 0]] == others[found >= 0]).all())

    @given(st.lists(st.integers(-(2**63), 2**63 - 1) | st.integers(-3, 3), max_size=60))
    def test_any_numbers(self, numbers):
        self.check(np.array(numbers, np.int64), np.array([*numbers, 0, 1, 2**63 - 1], np.int64))

    def test_many_and_such_as_differ_in_few_bits(self):
        row = np.arange(30_000)
        for numbers in (row, row << 32, row << 44, (row << 20) | 7, row % 100, -row, row * (2**31 + 1)):
            self.check(numbers, numbers[::3] + 1)


class AgainstSqlite(test_matching_against_sqlite.AgainstSqlite):
    """The generated comparisons with few texts packed, too."""

    def setUp(self):
        super().setUp()
        small(self)


if __name__ == "__main__":
    unittest.main()
