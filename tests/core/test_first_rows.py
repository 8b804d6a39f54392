"""The first rows of all and of each group: against SQLite, and what may not be lost in them."""

import sqlite3
import unittest

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import Cancelled, UsageError
from keen_trellis.core.first_rows import first_rows
from keen_trellis.core.sorting import SortKey
from keen_trellis.core.summarising import Key
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from tests.tables import table

ROWS = st.lists(
    st.tuples(
        st.sampled_from(["a", "b", "c", None]),
        st.none() | st.integers(0, 3),
        st.none() | st.sampled_from([0.5, 1.5]),
    ),
    max_size=14,
)


def of(rows):
    return ArrowTable(
        pa.table(
            {
                "k": pa.array([row[0] for row in rows], pa.large_string()),
                "n": pa.array([row[1] for row in rows], pa.int64()),
                "r": pa.array([row[2] for row in rows], pa.float64()),
            }
        )
    )


class AgainstSqlite(unittest.TestCase):
    @given(ROWS, st.integers(1, 5), st.booleans(), st.booleans(), st.booleans(), st.booleans())
    def test_windows_say_the_same(self, rows, count, grouped, descending, blanks_first, ties):
        base = sqlite3.connect(":memory:")
        self.addCleanup(base.close)
        base.execute("create table t (k text, n integer, r real)")
        base.executemany("insert into t values (?, ?, ?)", rows)
        blanks = "first" if blanks_first else "last"
        order = f"n {'desc' if descending else 'asc'} nulls {blanks}, r asc nulls last"
        part = "partition by k" if grouped else ""
        ranked = (
            f"rank() over ({part} order by {order})"
            if ties
            else (f"row_number() over ({part} order by {order}, rowid)")
        )
        first = f"min(rowid) over ({part or 'partition by 1'})"
        query = f"""
            select rowid - 1 from (select rowid, {ranked} as place, {first} as begins, n, r from t)
            where place <= ? order by begins, {order}, rowid
        """
        expected = [row[0] for row in base.execute(query, (count,))]
        by = [SortKey("n", descending, blanks_first), SortKey("r")]
        each = [Key("k")] if grouped else []
        found = first_rows(of(rows), count, by, each, Task(), with_ties=ties)
        self.assertEqual(found.tolist(), expected)

    @given(ROWS, st.integers(1, 5))
    def test_without_an_order_they_come_as_they_stand(self, rows, count):
        found = first_rows(of(rows), count, [], [], Task()).tolist()
        self.assertEqual(found, list(range(min(count, len(rows)))))


class Asked(unittest.TestCase):
    def test_what_cannot_be_kept(self):
        data = table(v=[1])
        for count, by, each, ties, said in (
            (0, [], [], False, "0 rows cannot be kept"),
            (-1, [], [], False, "cannot be kept"),
            (1, [], [], True, "Without an order no rows are equal"),
            (1, [SortKey("w")], [], False, "no field “w”"),
            (1, [], [Key("w")], False, "no field “w”"),
        ):
            with self.subTest(said), self.assertRaisesRegex(UsageError, said):
                first_rows(data, count, by, each, Task(), with_ties=ties)

    def test_it_can_be_cancelled(self):
        task = Task()
        task.cancel()
        with self.assertRaises(Cancelled):
            first_rows(table(v=[1, 2]), 1, [SortKey("v")], [], task)


if __name__ == "__main__":
    unittest.main()
