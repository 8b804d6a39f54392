import datetime as dt
import unittest
from decimal import Decimal
from unittest import mock

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core import coding, parallel
from keen_trellis.core.encoding import encode, prepare_links, side_counts
from keen_trellis.core.link import LinkField, Preparation
from keen_trellis.core.preparations import PREPARATIONS
from keen_trellis.core.preparing import WHITE_SPACE, prepare
from keen_trellis.core.table import ArrowTable, Cells


def pairs(left: pa.Array, right: pa.Array, preparation: Preparation | None = None) -> set[tuple[int, int]]:
    """The rows that get the same code."""
    one, other = ArrowTable(pa.table({"a": left})), ArrowTable(pa.table({"b": right}))
    coded = encode(prepare_links(one, other, [LinkField("a", "b", preparation or Preparation())]))
    return {(i, j) for i, x in enumerate(coded.left) for j, y in enumerate(coded.right) if x >= 0 and x == y}


def decimals(*texts: str | None, precision: int = 20, scale: int = 4) -> pa.Array:
    return pa.array([None if t is None else Decimal(t) for t in texts], pa.decimal128(precision, scale))


# Rows of three link fields, some of them blank; integers far apart, so that none are narrow by themselves.
COMBINED = st.lists(
    st.tuples(*(st.sampled_from([None, 0, 1, -(2**62), 2**61, 2**62]) for _ in range(3))), max_size=6
)


class AcrossTypes(unittest.TestCase):
    def test_integers_beyond_double_precision_equal_only_themselves_as_reals(self):
        left = pa.array([2**53 + 1, 2**53, 7], pa.int64())
        self.assertEqual(pairs(left, pa.array([float(2**53), 7.0, 7.5])), {(1, 0), (2, 1)})

    def test_nan_equals_nan_and_minus_zero_equals_zero(self):
        left = pa.array([float("nan"), -0.0, None])
        self.assertEqual(pairs(left, pa.array([0.0, float("nan"), None])), {(0, 1), (1, 0)})

    def test_infinity_is_no_integer(self):
        self.assertEqual(pairs(pa.array([float("inf"), 1.0]), pa.array([2**63 - 1, 1], pa.int64())), {(1, 1)})

    def test_decimals_of_different_scale_compare_by_value(self):
        left = decimals("1.50", "2", None)
        self.assertEqual(pairs(left, decimals("1.5", "2.0000", scale=1)), {(0, 0), (1, 1)})

    def test_decimals_and_integers_compare_by_value(self):
        self.assertEqual(pairs(decimals("3", "3.0001"), pa.array([3, 4], pa.int64())), {(0, 0)})

    def test_decimals_too_large_for_64_bits_still_compare(self):
        large = "123456789012345678901.5"
        left = decimals(large, "1.5", precision=30)
        self.assertEqual(pairs(left, decimals("1.50", large, precision=30, scale=2)), {(0, 1), (1, 0)})

    def test_a_decimal_equals_the_real_nearest_to_it(self):
        self.assertEqual(pairs(decimals("0.1", "0.3"), pa.array([0.1, 0.1 + 0.2])), {(0, 0)})

    @given(st.decimals(min_value=-(10**12), max_value=10**12, places=6))
    def test_a_decimal_equals_its_correctly_rounded_double(self, number):
        left = pa.array([number], pa.decimal128(24, 6))
        self.assertEqual(pairs(left, pa.array([float(number)])), {(0, 0)})

    def test_a_date_meets_a_timestamp_at_midnight(self):
        dates = pa.array([dt.date(1850, 3, 1), dt.date(2400, 1, 1)], pa.date32())
        moments = pa.array([dt.datetime(1850, 3, 1), dt.datetime(2400, 1, 1, 8)], pa.timestamp("us"))
        self.assertEqual(pairs(dates, moments), {(0, 0)})

    def test_times_and_booleans(self):
        times = pa.array([dt.time(8), None], pa.time64("us"))
        self.assertEqual(pairs(times, pa.array([dt.time(8)], pa.time64("us"))), {(0, 0)})
        self.assertEqual(pairs(pa.array([True, False, None]), pa.array([False])), {(1, 0)})

    def test_sparse_integers_at_both_ends_of_the_range(self):
        left = pa.array([-(2**63), 2**63 - 1, 0], pa.int64())
        self.assertEqual(pairs(left, pa.array([2**63 - 1, -(2**63)], pa.int64())), {(0, 1), (1, 0)})

    def test_narrow_integers_do_not_overflow_against_far_ones(self):
        left = pa.array([-(2**63), 2**63 - 1, 2], pa.int64())
        self.assertEqual(pairs(left, pa.array([2, 3, None], pa.int64())), {(2, 0)})


class PreparedText(unittest.TestCase):
    def prepared(self, *texts, **what) -> list:
        return prepare(Cells(pa.array(texts, pa.large_string())), Preparation(**what)).of_rows.to_pylist()

    def test_case_is_folded_fully(self):
        self.assertEqual(self.prepared("Straße", "ΣΑΣ", "ﬁ", case=True), ["strasse", "σασ", "fi"])

    def test_every_unicode_space_is_taken_off_outside_only(self):
        for space in WHITE_SPACE:
            self.assertEqual(self.prepared(f"{space}a b{space}é", outer_spaces=True), [f"a b{space}é"])

    def test_white_space_is_what_unicode_says(self):
        self.assertTrue(all(character.isspace() for character in WHITE_SPACE))
        self.assertEqual(len(set(WHITE_SPACE)), 25)

    def test_empty_afterwards_is_blank(self):
        self.assertEqual(self.prepared("  ", "", None, outer_spaces=True), [None, None, None])

    @given(st.lists(st.one_of(st.none(), st.text(max_size=6)), max_size=8), st.booleans(), st.booleans())
    def test_preparing_twice_changes_nothing_more(self, texts, case, spaces):
        once = prepare(Cells(pa.array(texts, pa.large_string())), Preparation(case, spaces)).of_rows
        again = prepare(Cells(once), Preparation(case, spaces)).of_rows
        self.assertEqual(again.to_pylist(), once.to_pylist())

    @given(
        st.lists(st.none() | st.text(st.sampled_from("aB0 .-\t7_$\x1f"), max_size=7), max_size=8),
        st.sets(st.sampled_from(sorted(PREPARATIONS))),
    )
    def test_text_in_ascii_is_prepared_as_any_other(self, texts, names):
        preparation = Preparation.ignoring(names)
        once, among = (
            prepare(Cells(pa.array(values, pa.large_string()).slice(1)), preparation).of_rows.to_pylist()
            for values in (["x", *texts], ["x", *texts, "\u0416"])
        )
        self.assertEqual(once, among[:-1])

    @given(st.lists(st.text(max_size=6), max_size=8))
    def test_folding_all_values_at_once_folds_each(self, texts):
        expected = [text.casefold() or None for text in texts]
        self.assertEqual(self.prepared(*texts, case=True), expected)

    def test_numbers_are_not_prepared(self):
        values = pa.array([1, 2], pa.int64())
        self.assertIs(prepare(Cells(values), Preparation(case=True)).values, values)


class SeveralFields(unittest.TestCase):
    def test_gluing_cannot_confuse_two_keys(self):
        left = ArrowTable(
            pa.table(
                {"a": pa.array(["x", "xy"], pa.large_string()), "b": pa.array(["yz", "z"], pa.large_string())}
            )
        )
        prepared = prepare_links(left, left, [LinkField("a", "a"), LinkField("b", "b")])
        coded = encode(prepared)
        self.assertNotEqual(coded.left[0], coded.left[1])

    def test_a_blank_in_any_field_matches_nothing_and_is_counted_once(self):
        left = ArrowTable(
            pa.table({"a": pa.array([1, None, None], pa.int64()), "b": pa.array([None, 2, None], pa.int64())})
        )
        prepared = prepare_links(left, left, [LinkField("a", "a"), LinkField("b", "b")])
        coded = encode(prepared)
        self.assertEqual(coded.left.tolist(), [-1, -1, -1])
        self.assertEqual(side_counts([entry.left for entry in prepared]).blank, 3)

    @given(COMBINED, COMBINED, st.booleans(), st.integers(1, 3))
    def test_combinations_are_equal_where_all_of_their_fields_are(self, left, right, hashed, block):
        def table(rows: list[tuple[int | None, ...]]) -> ArrowTable:
            columns = list(zip(*rows, strict=True)) or [()] * 3
            kinds = (pa.int64(), pa.large_string(), pa.int64())
            named = zip("abc", columns, kinds, strict=True)
            return ArrowTable(pa.table({name: pa.array(some).cast(kind) for name, some, kind in named}))

        links = [LinkField(name, name) for name in "abc"]
        is_narrow = coding._is_narrow
        with (
            mock.patch.object(coding, "_is_narrow", lambda *given: not hashed and is_narrow(*given)),
            mock.patch.object(parallel, "BLOCK", block),
            mock.patch.object(parallel, "_WORTH_IT", 2),
        ):
            coded = encode(prepare_links(table(left), table(right), links))
        for place, one in enumerate(left):
            for number, other in enumerate(right):
                equal = coded.left[place] == coded.right[number] >= 0
                self.assertEqual(equal, one == other and None not in one, (one, other))
        self.assertLess(max([*coded.left.tolist(), *coded.right.tolist()], default=-1), max(coded.size, 1))

    def test_more_combinations_than_32_bits_number(self):
        row = np.arange(70_000)
        left = ArrowTable(pa.table({"a": row, "b": row * 7_919 % 70_000}))
        right = ArrowTable(pa.table({"a": row, "b": (row * 7_919 + (row % 3 == 0)) % 70_000}))
        coded = encode(prepare_links(left, right, [LinkField("a", "a"), LinkField("b", "b")]))
        equal = np.isin(coded.left, coded.right[coded.right >= 0])
        self.assertEqual(equal.tolist(), (row % 3 != 0).tolist())
        self.assertTrue((coded.left[equal] == coded.right[equal]).all())


if __name__ == "__main__":
    unittest.main()
