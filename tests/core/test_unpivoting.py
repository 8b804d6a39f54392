"""Columns to rows, against a plain account of it."""

import unittest
from unittest import mock

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core import joining
from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.core.unpivoting import unpivoted, unpivoted_fields
from keen_trellis.core.values import FieldType
from tests.tables import rows_of, table

CELLS = st.none() | st.integers(-3, 3)


class Unpivoting(unittest.TestCase):
    @given(
        st.lists(st.tuples(CELLS, CELLS, CELLS), max_size=6),
        st.permutations(["a", "b", "c"]),
        st.integers(1, 3),
        st.booleans(),
    )
    def test_it_is_as_a_row_at_a_time_says(self, cells, names, many, blanks):
        columns = {name: [row[n] for row in cells] for n, name in enumerate("abc")}
        columns["n"] = list(range(len(cells)))
        data = {name: pa.array(columns[name], pa.int64()) for name in "nabc"}
        source = ArrowTable(pa.table(data))
        of = names[:many]
        made = unpivoted(source, of, "of", "is", Task(), blanks=blanks)
        others = [name for name in ("n", "a", "b", "c") if name not in of]
        expected = [
            {
                **{name: columns[name][n] for name in others},
                "of": one,
                "is": columns[one][n],
            }
            for n in range(len(cells))
            for one in of
            if blanks or columns[one][n] is not None
        ]
        self.assertEqual([dict(zip(made.names, row, strict=True)) for row in rows_of(made)], expected)
        self.assertEqual(unpivoted_fields(source.fields, of, "of", "is"), made.fields)

    def test_the_new_fields_stand_where_the_first_stood(self):
        made = unpivoted(table(k=["x"], jan=[1], note=["n"], feb=[2]), ["feb", "jan"], "month", "is", Task())
        self.assertEqual(made.names, ("k", "month", "is", "note"))
        self.assertEqual(rows_of(made), [("x", "feb", 2, "n"), ("x", "jan", 1, "n")])

    def test_each_row_knows_its_cell_and_a_row_its_rows(self):
        source = table(k=["x", "y"], jan=[1, 3], feb=[2, None])
        made = unpivoted(source, ["jan", "feb"], "month", "is", Task(), blanks=False)
        self.assertEqual(made.rows_from(source, np.array([0])).tolist(), [0, 1])
        self.assertEqual(made.rows_from(source, np.array([1])).tolist(), [2])
        for row, cell in ((0, "jan"), (1, "feb"), (2, "jan")):
            ((stacked, within),) = made.parents(row)
            ((part, place),) = stacked.parents(int(within[0]))
            self.assertEqual(part.read_from("is"), [(source, cell)])
            self.assertEqual(source.origins(int(place[0])), made.origins(row))

    def test_numbers_of_two_types_become_the_one_that_holds_both(self):
        data = pa.table({"a": [1], "b": [1.5], "c": pa.nulls(1, pa.large_string())})
        made = unpivoted(ArrowTable(data, untyped=["c"]), ["a", "b", "c"], "of", "is", Task())
        self.assertEqual(made.field("is").type, FieldType.REAL)
        self.assertEqual([row[1] for row in rows_of(made)], [1.0, 1.5, None])

    def test_there_is_a_limit(self):
        with mock.patch.object(joining, "MOST_RESULT_ROWS", 2), self.assertRaises(DataError) as caught:
            unpivoted(table(a=[1], b=[2], c=[3]), ["a", "b", "c"], "of", "is", Task())
        self.assertIn("It would have 3 rows; the limit is 2.", str(caught.exception))

    def test_what_cannot_be_is_refused(self):
        fields = table(t=["a"], n=[1], k=["x"]).fields
        for of, name, value, kind, said in (
            ((), "of", "is", UsageError, "not said which fields"),
            (("u",), "of", "is", UsageError, "There is no field “u”"),
            (("n", "n"), "of", "is", UsageError, "twice"),
            (("n",), "k", "is", UsageError, "There is a field “k” already"),
            (("n",), "is", "is", UsageError, "There is a field “is” already"),
            (("n",), "", "is", UsageError, "no name"),
            (("n", "t"), "of", "is", DataError, "integer and text: they cannot be one field"),
        ):
            with self.assertRaises(kind) as caught:
                unpivoted_fields(fields, of, name, value)
            self.assertIn(said, str(caught.exception))
        # A new field may take the name of one that became rows.
        self.assertEqual(unpivoted_fields(fields, ("n",), "n", "t2")[1].name, "n")
