"""Every join type on generated tables gives the rows that SQLite gives."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.join_type import QUESTION_TYPES, JoinType
from keen_trellis.core.link import LinkField, Operator, Preparation
from keen_trellis.core.matching import match
from keen_trellis.core.values import FieldType
from tests.tables import Judge, as_judged, columns, joined, rows_of

_KINDS = [FieldType.TEXT, FieldType.INTEGER, FieldType.REAL, FieldType.DATE]
_SIDES = st.sampled_from(
    [
        ([FieldType.TEXT], [FieldType.TEXT]),
        ([FieldType.INTEGER], [FieldType.INTEGER]),
        ([FieldType.INTEGER], [FieldType.REAL]),
        ([FieldType.REAL], [FieldType.INTEGER]),
        ([FieldType.REAL], [FieldType.REAL]),
        ([FieldType.DATE], [FieldType.DATE]),
        ([FieldType.TEXT, FieldType.INTEGER], [FieldType.TEXT, FieldType.REAL]),
        (
            [FieldType.INTEGER, FieldType.DATE, FieldType.TEXT],
            [FieldType.INTEGER, FieldType.DATE, FieldType.TEXT],
        ),
    ]
)


@st.composite
def two_tables(draw):
    left_kinds, right_kinds = draw(_SIDES)
    links = []
    for number in range(len(left_kinds)):
        # Equality most of the time, as in life.
        sign = draw(st.just(Operator.EQUAL) | st.sampled_from(list(Operator)))
        blanks = sign in (Operator.EQUAL, Operator.UNEQUAL) and draw(st.booleans())
        links.append(LinkField(f"k{number}", f"k{number}", operator=sign, blanks=blanks))
    return draw(columns(left_kinds)), draw(columns(right_kinds)), links


class AgainstSqlite(unittest.TestCase):
    @given(two_tables(), st.booleans())
    def test_every_join_type_has_the_rows_that_sqlite_has(self, tables, any_of):
        left, right, links = tables
        found = match(left, right, links, any_of=any_of)
        judge = Judge(left, right)
        self.addCleanup(judge.close)
        for kind in QUESTION_TYPES:
            ours = rows_of(joined(left, right, found, links, kind))
            theirs = judge.rows(kind, links, left.names, right.names, any_of=any_of)
            self.assertEqual(as_judged(ours), theirs, kind)
            self.assertEqual(found.counts.rows_under(kind), len(ours), kind)
        judge.close()

    @given(two_tables())
    def test_rows_stand_in_left_order_then_right_order(self, tables):
        left, right, links = tables
        found = match(left, right, links)
        for kind in QUESTION_TYPES:
            table = joined(left, right, found, links, kind)
            ours, theirs = table.all_pairs
            last = len(left.fields) * 0 + right.rows
            order = [
                (one if one >= 0 else left.rows, other if other >= 0 else last)
                for one, other in zip(ours, theirs, strict=True)
            ]
            self.assertEqual(order, sorted(order), kind)

    @given(two_tables())
    def test_a_page_shows_what_the_whole_shows(self, tables):
        left, right, links = tables
        found = match(left, right, links)
        for kind in QUESTION_TYPES:
            table = joined(left, right, found, links, kind)
            whole = [cells.values.to_pylist() for cells in table.take(None, table.names)]
            for start in range(0, table.rows, 3):
                page = table.take(range(start, min(start + 3, table.rows)), table.names)
                for all_cells, cells in zip(whole, page, strict=True):
                    self.assertEqual(cells.values.to_pylist(), all_cells[start : start + 3], kind)

    @given(two_tables())
    def test_swapping_the_sides_mirrors_every_type(self, tables):
        left, right, links = tables
        found = match(left, right, links)
        swapped = match(right, left, [link.swapped for link in links])
        for kind in QUESTION_TYPES:
            self.assertEqual(found.counts.rows_under(kind), swapped.counts.rows_under(kind.mirrored), kind)
        self.assertEqual(found.counts.left_blank, swapped.counts.right_blank)

    @given(two_tables())
    def test_types_add_up(self, tables):
        left, right, links = tables
        counts = match(left, right, links).counts
        rows = counts.rows_under
        self.assertEqual(rows(JoinType.LEFT_OUTER), rows(JoinType.INNER) + rows(JoinType.LEFT_ANTI))
        self.assertEqual(rows(JoinType.FULL_OUTER), rows(JoinType.LEFT_OUTER) + rows(JoinType.RIGHT_ANTI))
        self.assertEqual(rows(JoinType.LEFT_SEMI) + rows(JoinType.LEFT_ANTI), left.rows)
        self.assertEqual(rows(JoinType.FULL_ANTI), rows(JoinType.LEFT_ANTI) + rows(JoinType.RIGHT_ANTI))
        self.assertEqual(rows(JoinType.CROSS), left.rows * right.rows)

    @given(columns([FieldType.TEXT]), columns([FieldType.TEXT]), st.booleans(), st.booleans())
    def test_preparation_is_what_comparing_prepared_text_gives(self, left, right, case, spaces):
        preparation = Preparation(case=case, outer_spaces=spaces)
        found = match(left, right, [LinkField("k0", "k0", preparation)])
        pairs, written = set(), 0
        for one in rows_of(left):
            for other in rows_of(right):
                texts = [_prepared(value, preparation) for value in (one[0], other[0])]
                if texts[0] and texts[0] == texts[1]:
                    pairs.add((one[1], other[1]))
                    written += one[0] == other[0]
        ours, theirs = found.pair_rows(np.arange(found.pairs))
        self.assertEqual(set(zip(ours.tolist(), theirs.tolist(), strict=True)), pairs)
        self.assertEqual(found.counts.pairs_as_written, written)
        kept = found.pair_numbers_as_written
        self.assertEqual(len(kept) + len(found.pair_numbers_only_prepared), found.pairs)
        self.assertEqual(len(kept), written)


def _prepared(value, preparation):
    if value is None:
        return None
    if preparation.case:
        value = value.casefold()
    return value.strip() if preparation.outer_spaces else value


if __name__ == "__main__":
    unittest.main()
