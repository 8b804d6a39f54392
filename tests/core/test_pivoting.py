"""Rows to columns, against SQLite's sums with a condition, and back to rows."""

import sqlite3
import unittest

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.measures import Function, Measure
from keen_trellis.core.pivoting import PivotedTable, pivoted_fields
from keen_trellis.core.summarising import Key
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.core.unpivoting import unpivoted
from tests.tables import rows_of, table

SUM = Measure(Function.SUM, "v", "v")
COUNT = Measure(Function.COUNT, "", "rows")
ROWS = st.lists(
    st.tuples(
        st.sampled_from(("a", "b", None)), st.integers(0, 4) | st.none(), st.integers(-99, 99) | st.none()
    ),
    max_size=12,
)


def typed(rows) -> ArrowTable:
    kinds = (pa.large_string(), pa.int64(), pa.int64())
    columns = [pa.array([row[place] for row in rows], kind) for place, kind in enumerate(kinds)]
    return ArrowTable(pa.table(dict(zip("gov", columns, strict=True))))


class Pivoting(unittest.TestCase):
    @given(ROWS, st.permutations(("0", "1", "3")), st.sampled_from((SUM, COUNT)))
    def test_it_is_what_sums_with_a_condition_give(self, rows, columns, measure):
        source = typed(rows)
        made = PivotedTable(source, [Key("g")], "o", columns, measure, Task())
        self.assertEqual(made.fields, pivoted_fields(source.fields, [Key("g")], "o", columns, measure))
        database = sqlite3.connect(":memory:")
        database.execute("CREATE TABLE t (g, o, v)")
        database.executemany("INSERT INTO t VALUES (?, ?, ?)", rows)
        what = "SUM(v)" if measure is SUM else "COUNT(*)"
        each = ", ".join(f"{what} FILTER (WHERE o = {column})" for column in columns)
        wanted = database.execute(f"SELECT g, {each} FROM t GROUP BY g ORDER BY MIN(rowid)").fetchall()
        self.assertEqual(rows_of(made), wanted)
        elsewhere = [number for number, row in enumerate(rows) if row[1] not in (0, 1, 3)]
        self.assertEqual(made.elsewhere.tolist(), elsewhere)
        self.assertEqual(sum(made.counts.values()), len(elsewhere))

    @given(st.dictionaries(st.tuples(st.sampled_from("ab"), st.sampled_from("xyz")), st.integers(0, 9)))
    def test_columns_made_rows_again_are_the_rows_that_were_there(self, cells):
        source = table(
            g=[key[0] for key in cells], o=[key[1] for key in cells], v=[int(v) for v in cells.values()]
        )
        if not cells:
            return
        wide = PivotedTable(source, [Key("g")], "o", ("x", "y", "z"), SUM, Task())
        long = unpivoted(wide, ("x", "y", "z"), "o", "v", Task(), blanks=False)
        self.assertEqual(sorted(rows_of(long)), sorted(rows_of(source)))

    def test_what_has_no_column_is_counted_by_value_and_blanks_too(self):
        source = table(o=["x", None, "y", "y", *"abcdefg"], g=[1] * 11)
        made = PivotedTable(source, [Key("g")], "o", ("x",), COUNT, Task())
        self.assertEqual(made.counts, {"y": 2, "": 1, "a": 1, "b": 1, "c": 1, "4 others": 4})

    def test_a_column_leads_back_to_its_fields_and_a_row_to_its_rows(self):
        source = table(g=["a", "b", "a"], o=["x", "x", "z"], v=[1, 2, 3])
        made = PivotedTable(source, [Key("g")], "o", ("x",), SUM, Task())
        self.assertEqual(made.read_from("x"), [(source, "o"), (source, "v")])
        self.assertEqual(made.rows_from(source, np.array([0])).tolist(), [0])
        self.assertEqual(made.rows_from(source, np.array([2])).tolist(), [], "it is in no column")

    def test_without_rows_or_values_it_has_its_columns_all_the_same(self):
        nothing = ArrowTable(pa.table({"o": pa.nulls(2, pa.large_string())}), untyped=["o"])
        made = PivotedTable(nothing, [], "o", ("2026-01", "2026-02"), COUNT, Task())
        self.assertEqual((rows_of(made), made.counts), ([(0, 0)], {"": 2}))
        self.assertEqual(rows_of(PivotedTable(table(o=[]), [Key("o")], "o", ("x",), COUNT, Task())), [])

    def test_what_cannot_be_made_is_refused(self):
        fields = table(o=["a"], n=[1]).fields
        for of, columns, measure, said in (
            ("", ("a",), COUNT, "not said whose values"),
            ("o", (), COUNT, "not said which values of o"),
            ("u", ("a",), COUNT, "There is no field “u”"),
            ("o", ("a", "a"), COUNT, "“a” and “a” are the same o"),
            ("o", ("n",), COUNT, "There is a field “n” already"),
            ("n", ("one",), COUNT, "n is integer, and “one” is not"),
            ("n", ("1", "1.0"), COUNT, "“1” and “1.0” are the same n"),
            ("o", ("a",), Measure(Function.SUM, "o", "x"), "needs numbers"),
        ):
            with self.assertRaises(TrellisError) as caught:
                pivoted_fields(fields, [Key("n")], of, columns, measure)
            self.assertIn(said, str(caught.exception))
