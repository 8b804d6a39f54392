"""Rows in the order of numbers: as NumPy's own sorts by several keys have them."""

import unittest
from unittest import mock

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core import match, ordering, parallel, ragged
from keen_trellis.core.ordering import among, dense_ranks, distinct_numbers, in_order
from keen_trellis.core.ragged import repeated, running_total

TYPES = (np.bool_, np.int8, np.int16, np.uint16, np.int32, np.uint32, np.int64, np.uint64)
REALS = st.floats(width=32) | st.sampled_from((0.0, -0.0, float("nan"), float("inf"), float("-inf"), 5e-324))


@st.composite
def keys(draw):
    """Up to four vectors of one length, of any types, with values that come again."""
    rows = draw(st.integers(0, 40))
    found = []
    for kind in draw(st.lists(st.sampled_from((*TYPES, np.float32, np.float64)), min_size=1, max_size=4)):
        if np.issubdtype(kind, np.floating):
            some = REALS
        elif kind is np.bool_:
            some = st.booleans()
        else:
            bounds = np.iinfo(kind)
            some = st.integers(int(bounds.min), int(bounds.max)) | st.integers(0, 3)
        found.append(np.array(draw(st.lists(some, min_size=rows, max_size=rows)), kind))
    return found


class Ordering(unittest.TestCase):
    def setUp(self):
        # Few rows are worked off as many are.
        self.enterContext(mock.patch.object(parallel, "_WORTH_IT", 2))
        for module in (parallel, ordering):
            self.enterContext(mock.patch.object(module, "BLOCK", 3))

    @given(keys(), st.sampled_from((64, 40, 16, 9)))
    def test_any_keys(self, some, bits):
        with mock.patch.object(ordering, "_BITS", bits):  # fewer of them take more rounds
            self.assertEqual(in_order(*some).tolist(), np.lexsort(some[::-1]).tolist())

    @given(keys())
    def test_ranks(self, some):
        order, ranks = np.lexsort(some[::-1]), dense_ranks(*some)
        rank = 0
        for before, row in zip([None, *order], order, strict=False):
            rank += before is not None and not all(
                np.array_equal(key[before], key[row], equal_nan=key.dtype.kind == "f") for key in some
            )
            self.assertEqual(ranks[row], rank)

    @given(keys())
    def test_each_once(self, some):
        for numbers in some:
            if numbers.dtype.kind != "f":
                before = numbers.copy()
                found = distinct_numbers(numbers)
                self.assertEqual((found.dtype, found.tolist()), (numbers.dtype, sorted({*numbers.tolist()})))
                self.assertTrue((numbers == before).all())

    @given(st.lists(st.integers(-(2**63), 2**63 - 1) | st.integers(0, 9)), st.lists(st.integers(0, 9)))
    def test_among(self, numbers, some):
        some += numbers[::2]
        found = among(np.array(numbers, np.int64), np.array(some, np.int64))
        self.assertEqual(found.tolist(), [number in some for number in numbers])

    @given(st.lists(st.integers(0, 5)))
    def test_so_many_times_each_and_running_totals(self, counts):
        given_counts = np.array(counts, np.int64)
        with mock.patch.object(ragged, "_PIECE", 3):
            found = repeated(np.arange(len(counts)), given_counts)
        self.assertEqual(found.tolist(), np.repeat(np.arange(len(counts)), given_counts).tolist())
        for kind in (np.int8, np.int64):
            total = running_total(given_counts.astype(kind))
            self.assertEqual(
                (total.dtype, total.tolist()), (np.int64, [0, *np.cumsum(given_counts).tolist()])
            )

    @given(st.lists(st.integers(0, 6)))
    def test_first_and_last_of_each_code(self, codes):
        held = np.array(codes, np.int32)
        with mock.patch.object(match, "_STRETCH", 3):
            first, last = match.first_of_codes(held, 8), match.last_of_codes(held, 8)
        for code in range(8):
            rows = [row for row, own in enumerate(codes) if own == code]
            self.assertEqual((first[code], last[code]), (rows[0], rows[-1]) if rows else (len(codes), -1))
        values = np.arange(10, 18)
        self.assertEqual(parallel.gathered(values, held - 1).tolist(), values[held - 1].tolist())

    def test_many_rows(self):
        chance = np.random.default_rng(2026)
        rows = 30_000
        for some in (
            [chance.integers(0, 50, rows), chance.integers(-(2**63), 2**63 - 1, rows)],
            [chance.integers(0, 7, rows).astype(np.int32), chance.normal(size=rows).round(2)],
            [np.zeros(rows, np.int64)],
        ):
            self.assertTrue((in_order(*some) == np.lexsort(some[::-1])).all())


if __name__ == "__main__":
    unittest.main()
