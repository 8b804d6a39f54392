"""A row for each part of a text, against a plain account of it."""

import unittest
from unittest import mock

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core import joining
from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import LinkField
from keen_trellis.core.matching import match
from keen_trellis.core.splitting import fields_of_parts, rows_of_parts
from keen_trellis.core.task import Task
from tests.tables import joined, rows_of, table

TEXTS = st.none() | st.text("ab;  \u2003é-", max_size=8)


def expected(rows, between):
    """What becomes of (row number, text) pairs, a row at a time."""
    made = []
    for number, text in rows:
        parts = [part for part in map(str.strip, (text or "").split(between)) if part]
        made += [(number, part, place) for place, part in enumerate(parts, 1)] or [(number, None, None)]
    return made


class Splitting(unittest.TestCase):
    @given(st.lists(TEXTS, max_size=8), st.sampled_from((";", " ", "-", "; ", "ab")))
    def test_it_is_as_a_row_at_a_time_says(self, texts, between):
        source, rows = table(n=list(range(len(texts))), t=texts), list(enumerate(texts))
        made = rows_of_parts(source, "t", between, "no", Task())
        self.assertEqual(made.names, ("n", "t", "no"))
        self.assertEqual([tuple(row) for row in rows_of(made)], expected(rows, between))
        self.assertEqual(fields_of_parts(source.fields, "t", between, "no"), made.fields)

    def test_a_row_leads_back_to_its_cell_and_on_from_it(self):
        source = table(n=[1, 2], t=["a; b", None])
        made = rows_of_parts(source, "t", ";", "", Task())
        self.assertEqual(made.rows_from(source, np.array([0])).tolist(), [0, 1])
        self.assertEqual(
            [made.origins(row)[0].row for row in range(3)], [source.origins(r)[0].row for r in (0, 0, 1)]
        )
        self.assertEqual(made.read_from("t")[0][1], "t")

    def test_a_table_without_rows_or_values_stays_so(self):
        for texts in ([], [None, None]):
            made = rows_of_parts(table(t=texts), "t", ";", "no", Task())
            self.assertEqual(rows_of(made), [(None, None)] * len(texts))

    def test_what_has_no_partner_has_none_after(self):
        left, right = table(k=["x", "y"]), table(k=["x"], t=["a;b"])
        links = [LinkField("k", "k")]
        both = joined(left, right, match(left, right, links, Task()), links, JoinType.LEFT_OUTER)
        name = both.names[-1]
        made = rows_of_parts(both, name, ";", "no", Task())
        cells = made.column(name)
        self.assertEqual(cells.values.to_pylist(), ["a", "b", None])
        self.assertEqual(cells.absent.tolist(), [False, False, True])

    def test_there_is_a_limit(self):
        with mock.patch.object(joining, "MOST_RESULT_ROWS", 2), self.assertRaises(DataError) as caught:
            rows_of_parts(table(t=["a;b", "c"]), "t", ";", "", Task())
        self.assertIn("It would have 3 rows; the limit is 2.", str(caught.exception))

    def test_what_cannot_be_divided_is_refused(self):
        fields = table(t=["a"], n=[1]).fields
        for of, between, number, said in (
            ("", ";", "", "not said which text"),
            ("u", ";", "", "There is no field “u”"),
            ("n", ";", "", "n is integer, and no text"),
            ("t", "", "", "not said what divides"),
            ("t", ";", "n", "There is a field “n” already"),
        ):
            with self.assertRaises(UsageError) as caught:
                fields_of_parts(fields, of, between, number)
            self.assertIn(said, str(caught.exception))
