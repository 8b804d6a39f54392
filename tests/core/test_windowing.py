"""Numbers that rows have among others, against SQLite's window functions."""

import decimal
import itertools
import math
import sqlite3
import unittest

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import DataError, TrellisError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import LinkField
from keen_trellis.core.matching import match
from keen_trellis.core.sorting import SortKey
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.core.windowing import Window, Windowed, windowed, windowed_fields
from tests.tables import joined, rows_of, table

ALL = [Windowed(kind, "v" if kind.needs_value else "", kind.value) for kind in Window]
ROWS = st.lists(
    st.tuples(
        st.sampled_from(("a", "b", None)),
        st.integers(-3, 3) | st.none(),
        st.integers(-(2**40), 2**40) | st.none(),
    ),
    max_size=12,
)


def with_sqlite(rows, order: str):
    """What SQLite says of rows of (g, o, v), in their order."""
    frame = f"OVER (PARTITION BY g ORDER BY {order} rowid ROWS UNBOUNDED PRECEDING)"
    whole = f"OVER (PARTITION BY g ORDER BY {order} rowid)"
    peers = f"OVER (PARTITION BY g ORDER BY {order.rstrip(', ') or '1'})"
    database = sqlite3.connect(":memory:")
    database.execute("CREATE TABLE t (g, o, v)")
    database.executemany("INSERT INTO t VALUES (?, ?, ?)", rows)
    return database.execute(
        f"SELECT ROW_NUMBER() {whole}, RANK() {peers}, DENSE_RANK() {peers}, SUM(v) {frame}, "
        "v * 1.0 / NULLIF(SUM(v) OVER (PARTITION BY g), 0), "
        f"LAG(v) {whole}, LEAD(v) {whole} FROM t ORDER BY rowid"
    ).fetchall()


class AgainstSqlite(unittest.TestCase):
    @given(ROWS, st.sampled_from((("o IS NULL, o, ", False), ("o IS NULL, o DESC, ", True))))
    def test_it_is_what_window_functions_give(self, rows, order):
        source = ArrowTable(
            pa.table(
                {
                    "g": pa.array([row[0] for row in rows], pa.large_string()),
                    "o": pa.array([row[1] for row in rows], pa.int64()),
                    "v": pa.array([row[2] for row in rows], pa.int64()),
                }
            )
        )
        made = windowed(source, ["g"], [SortKey("o", descending=order[1])], ALL, Task())
        self.assertEqual(made.fields, windowed_fields(source.fields, ["g"], [SortKey("o")], ALL))
        said = with_sqlite(rows, order[0])
        for found, wanted in zip([row[3:] for row in rows_of(made)], said, strict=True):
            self.assertEqual(found[:4], wanted[:4])
            self.assertEqual(found[5:], wanted[5:])
            if wanted[4] is None:
                self.assertIsNone(found[4])
            else:
                self.assertTrue(math.isclose(found[4], wanted[4]))

    def test_without_an_order_rows_are_seen_as_they_stand_and_without_groups_all_together(self):
        source = table(g=["a", "b", "a"], o=[2, 1, 1], v=[5, 7, None])
        wanted = [entry for entry in ALL if not entry.window.needs_order]
        made = windowed(source, [], [], wanted, Task())
        self.assertEqual(
            [row[3:] for row in rows_of(made)],
            [(1, 5, 5 / 12, None, 7), (2, 12, 7 / 12, 5, None), (3, 12, None, 7, None)],
        )


class Totals(unittest.TestCase):
    def totals(self, values, kind, of="v", within=()):
        source = ArrowTable(pa.table({"v": pa.array(values, kind), "g": list(range(len(values)))}))
        made = windowed(source, within, [], [Windowed(Window.RUNNING_TOTAL, of, "total")], Task())
        return made.column("total").values.to_pylist()

    @given(st.lists(st.integers(-(10**36), 10**36) | st.none(), max_size=20))
    def test_decimals_are_added_exactly(self, units):
        values = [None if unit is None else decimal.Decimal(unit).scaleb(-2) for unit in units]
        with decimal.localcontext(prec=60):
            wanted = list(itertools.accumulate(value or 0 for value in values))
        known = list(itertools.accumulate(value is not None for value in values))
        wanted = [total if seen else None for total, seen in zip(wanted, known, strict=True)]
        self.assertEqual(self.totals(values, pa.decimal128(38, 2)), wanted)

    @given(st.lists(st.integers(-(2**63), 2**63 - 1), max_size=6))
    def test_what_leaves_64_bits_is_refused(self, values):
        wanted = list(itertools.accumulate(values))
        if all(-(2**63) <= total < 2**63 for total in wanted):
            self.assertEqual(self.totals(values, pa.int64()), wanted)
        else:
            with self.assertRaises(DataError) as caught:
                self.totals(values, pa.int64())
            self.assertIn("does not fit into 64 bits", str(caught.exception))

    def test_reals_of_one_group_leave_those_of_another_alone(self):
        source = table(g=["a", "b", "a", "b"], v=[1e300, 0.1, float("inf"), 0.2])
        made = windowed(source, ["g"], [], [Windowed(Window.RUNNING_TOTAL, "v", "t")], Task())
        self.assertEqual(made.column("t").values.to_pylist(), [1e300, 0.1, float("inf"), 0.1 + 0.2])

    def test_what_has_no_value_at_all_breaks_nothing(self):
        for rows in (0, 2):
            source = ArrowTable(pa.table({"v": pa.nulls(rows, pa.large_string())}), untyped=["v"])
            kinds = [entry for entry in ALL if not entry.window.needs_order]
            made = windowed(source, ["v"], [], kinds, Task())
            numbers = [(row + 1, None, None, None, None) for row in range(rows)]
            self.assertEqual([row[1:] for row in rows_of(made)], numbers)


class Kept(unittest.TestCase):
    def test_rows_lead_back_and_a_new_field_to_what_it_is_made_of(self):
        source = table(g=["a"], v=[1])
        made = windowed(source, ["g"], [], [Windowed(Window.BEFORE, "v + 1", "b")], Task())
        self.assertEqual(made.read_from("b"), [(source, "v")])
        self.assertEqual(made.rows_from(source, np.array([0])).tolist(), [0])

    def test_a_value_without_partner_stays_so_and_the_end_of_a_group_is_blank(self):
        left, right = table(k=["x", "y"]), table(k=["x"], t=["a"])
        links = [LinkField("k", "k")]
        both = joined(left, right, match(left, right, links, Task()), links, JoinType.LEFT_OUTER)
        made = windowed(both, [], [], [Windowed(Window.AFTER, both.names[-1], "next")], Task())
        self.assertEqual(made.column("next").absent.tolist(), [True, False])

    def test_what_cannot_be_made_is_refused(self):
        fields = table(t=["a"], n=[1]).fields
        for within, order, entry, said in (
            ((), (), Windowed(Window.RANK, "", "r"), "without an order"),
            ((), (), Windowed(Window.ROW_NUMBER, "", "n"), "There is a field “n” already"),
            ((), (), Windowed(Window.ROW_NUMBER, "n", "r"), "is made of no field"),
            ((), (), Windowed(Window.SHARE, "", "r"), "needs something to work on"),
            ((), (), Windowed(Window.SHARE, "t", "r"), "needs numbers, and t is text"),
            (("u",), (), Windowed(Window.ROW_NUMBER, "", "r"), "There is no field “u”"),
            ((), (SortKey("u"),), Windowed(Window.ROW_NUMBER, "", "r"), "There is no field “u”"),
        ):
            with self.assertRaises(TrellisError) as caught:
                windowed_fields(fields, within, order, [entry])
            self.assertIn(said, str(caught.exception))
