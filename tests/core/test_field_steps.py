"""Compute, choose, sort, mend text, split, combine, union: against SQLite and the slow way."""

import datetime as dt
import sqlite3
import unittest
from decimal import Decimal

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.choosing import Chosen, chosen_fields, with_fields
from keen_trellis.core.computing import BLANK, BY_ZERO, NOT_CAST, computed
from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import LinkField
from keen_trellis.core.matching import match
from keen_trellis.core.sorting import SortKey, sorted_rows
from keen_trellis.core.stacking import StackedTable, plan_stack
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.core.text_actions import Action, How, combined, corrected, mended, split
from keen_trellis.core.values import FieldType
from tests.tables import joined, rows_of, table

_FAR = st.sampled_from([-(2**63), -(2**62), 2**40, 2**61, 2**63 - 1])
_TEXTS = st.sampled_from(["a", "b c", " d", "e-f-g", "-h", "", "É-x", "007"]).map(lambda text: text or None)


def pages_are_the_whole(case, made):
    """A page of any table is what the whole is there; no row has no partner anywhere."""
    whole = made.take(None, made.names)
    for row in range(made.rows):
        for cells, page in zip(whole, made.take(np.array([row, -1]), made.names), strict=True):
            case.assertEqual(page.values[0], cells.values[row])
            case.assertEqual(page.absent.tolist()[1], True)


def without_partner():
    """Two loans, the second without an object."""
    left, right = table(no=["a", "b"], n=[1, 2]), table(no=["a"], title=[" Boat "], made=[1890])
    links = [LinkField("no", "no")]
    return joined(left, right, match(left, right, links), links, JoinType.LEFT_OUTER)


class Computing(unittest.TestCase):
    def test_a_field_by_an_expression_and_what_gave_blank(self):
        data = table(v=[4, 0, None], w=["1", "x", "2"])
        made = computed(data, "q", "CAST(w AS INTEGER) / v", Task())
        self.assertEqual([row[2] for row in rows_of(made)], [0.25, None, None])
        self.assertEqual(made.counts, {BLANK: 2, NOT_CAST: 1})
        self.assertEqual(computed(data, "q", "1 / v", Task()).counts, {BLANK: 2, BY_ZERO: 1})
        pages_are_the_whole(self, made)
        self.assertEqual(made.read_from("q"), [(data, "w"), (data, "v")])

    def test_a_constant_and_whether_a_partner_was_found(self):
        data = without_partner()
        made = computed(computed(data, "one", "1", Task()), "has", "PARTNER_FOUND('Right')", Task())
        self.assertEqual([row[-2:] for row in rows_of(made)], [(1, True), (1, False)])
        pages_are_the_whole(self, made)

    def test_what_cannot_be_computed(self):
        data = table(v=[1])
        for name, text, said in (("v", "1", "a field “v” already"), (" ", "1", "no name"), ("x", "w", "“w”")):
            with self.subTest(name), self.assertRaisesRegex(UsageError, said):
                computed(data, name, text, Task())


class Choosing(unittest.TestCase):
    def chosen(self, data, *entries, **how):
        return with_fields(data, chosen_fields(data.fields, entries, **how), Task())

    def test_order_names_and_the_others(self):
        data = table(a=[1], b=[2], c=[3], d=[4])
        made = self.chosen(data, Chosen("c"), Chosen("a", "first"), others=True, dropped=["d"])
        self.assertEqual((made.names, rows_of(made)), (("c", "first", "b"), [(3, 1, 2)]))
        made = self.chosen(data, Chosen("b", "a"), Chosen("a", "b"))
        self.assertEqual((made.names, rows_of(made)), (("a", "b"), [(2, 1)]))
        self.assertEqual(made.read_from("a"), [(data, "b")])

    def test_other_types_and_what_is_lost(self):
        data = table(t=["1,5", "2026-02-03", None, "7"], n=[1, 0, None, 7])
        made = self.chosen(data, Chosen("t", "x", FieldType.DECIMAL), Chosen("n", type=FieldType.TEXT))
        self.assertEqual([row[0] for row in rows_of(made)], [Decimal("1.5"), None, None, 7])
        self.assertEqual([row[1] for row in rows_of(made)], ["1", "0", None, "7"])
        self.assertEqual(made.counts, {"x": 1})
        self.assertEqual(made.fields[0].arrow_type, made.column("x").values.type)
        pages_are_the_whole(self, made)

    def test_decimals_that_would_have_to_be_rounded_are_lost(self):
        made = self.chosen(table(t=["0.1234567891", "0.123456789"]), Chosen("t", type=FieldType.DECIMAL))
        self.assertEqual(rows_of(made), [(None,), (Decimal("0.123456789"),)])
        self.assertEqual(made.counts, {"t": 1})

    def test_without_partner_stays_without_partner(self):
        made = self.chosen(without_partner(), Chosen("made", "year", FieldType.TEXT))
        self.assertEqual(made.column("year").absent.tolist(), [False, True])

    def test_what_cannot_be_chosen(self):
        data = table(a=[1], b=[2])
        for entries, said in (
            ([Chosen("z")], "no field “z”"),
            ([Chosen("a", "b"), Chosen("b")], "two fields “b”"),
        ):
            with self.subTest(said), self.assertRaisesRegex(UsageError, said):
                self.chosen(data, *entries)


class Sorting(unittest.TestCase):
    @given(
        # Near ones, and so far apart that ranks are not one number, or not even a difference.
        st.lists(st.tuples(st.integers(-2, 2) | _FAR | st.none(), _TEXTS), max_size=9),
        st.booleans(),
        st.booleans(),
        st.booleans(),
    )
    def test_as_sqlite_sorts(self, rows, down, blanks, text_down):
        data = ArrowTable(
            pa.table(
                {
                    "n": pa.array([n for n, _ in rows], pa.int64()),
                    "t": pa.array([t for _, t in rows], pa.large_string()),
                }
            )
        )
        keys = [SortKey("n", down, blanks), SortKey("t", text_down)]
        base = sqlite3.connect(":memory:")
        base.execute("CREATE TABLE r (at INTEGER, n INTEGER, t TEXT)")
        base.executemany("INSERT INTO r VALUES (?, ?, ?)", [(at, *row) for at, row in enumerate(rows)])
        asked = base.execute(
            f"SELECT at FROM r ORDER BY n {'DESC' if down else 'ASC'} NULLS {'FIRST' if blanks else 'LAST'},"
            f" t {'DESC' if text_down else 'ASC'} NULLS LAST, at"
        )
        self.assertEqual(sorted_rows(data, keys, Task()).tolist(), [at for (at,) in asked])

    def test_without_keys_and_by_an_expression(self):
        data = table(t=["bbb", "a", "cc"])
        self.assertEqual(sorted_rows(data, [], Task()).tolist(), [0, 1, 2])
        self.assertEqual(sorted_rows(data, [SortKey("CHAR_LENGTH(t)")], Task()).tolist(), [1, 2, 0])
        with self.assertRaisesRegex(UsageError, "no field “z”"):
            sorted_rows(data, [SortKey("z")], Task())


class MendingText(unittest.TestCase):
    def done(self, text, *actions):
        return rows_of(mended(table(t=[text, None]), ["t"], actions, Task()))[0][0]

    def test_each_action(self):
        for text, action, after in (
            ("\u00a0 a b ", Action(How.TRIM), "a b"),
            (" a \t b", Action(How.SQUEEZE), " a b"),
            ("pier é", Action(How.UPPER), "PIER É"),
            ("ÉX", Action(How.LOWER), "éx"),
            ("old pier hall", Action(How.TITLE), "Old Pier Hall"),
            ("a.b.c", Action(How.REPLACE, ".", "-"), "a-b-c"),
            ("7", Action(How.PAD, "0", number=3), "007"),
            ("1234", Action(How.PAD, "0", number=3), "1234"),
            ("LC-07-b", Action(How.PART, "-", number=2), "07"),
            ("LC-07-b", Action(How.PART, "-", number=-1), "b"),
            ("LC-07-b", Action(How.PART, "-", number=4), None),
            ("LC-07-b", Action(How.PART, "-", number=-4), None),
            ("no 12/3", Action(How.ONLY_DIGITS), "123"),
            ("a-b, c", Action(How.NO_PUNCTUATION), "ab c"),
            ("  ", Action(How.TRIM), None),
        ):
            with self.subTest(action), self.subTest(text):
                self.assertEqual(self.done(text, action), after)

    def test_one_after_the_other_and_how_many_changed(self):
        data = table(t=[" a ", "b", None], u=["x", " y", "z"])
        made = mended(data, ["t", "u"], [Action(How.TRIM), Action(How.UPPER)], Task())
        self.assertEqual(rows_of(made), [("A", "X"), ("B", "Y"), (None, "Z")])
        self.assertEqual(made.counts, {"t": 2, "u": 3})
        pages_are_the_whole(self, made)

    def test_corrections_are_read_once(self):
        data = table(t=["Harbor", "Quay", "x", None])
        made = corrected(data, ["t"], [("Harbor", "Quay"), ("Quay", "Pier"), ("x", "")], Task())
        self.assertEqual(rows_of(made), [("Quay",), ("Pier",), (None,), (None,)])
        self.assertEqual(made.counts, {"t": 3})

    @given(st.lists(_TEXTS, max_size=6), st.integers(1, 3))
    def test_split_as_text_is_split(self, texts, count):
        names = [f"p{number}" for number in range(count)]
        data = ArrowTable(pa.table({"t": pa.array(texts, pa.large_string())}))
        expected = []
        for text in texts:
            parts = text.split("-", count - 1) if text is not None else []
            # The last part has the rest; the others are those that stand there.
            expected.append((text, *((parts + [None] * count)[:count])))
        made = split(data, "t", "-", names)
        found = [(row[0], *(part or None for part in row[1:])) for row in rows_of(made)]
        self.assertEqual(found, [(row[0], *(part or None for part in row[1:])) for row in expected])
        pages_are_the_whole(self, made)

    def test_the_parts_stand_behind_their_text(self):
        made = split(table(t=["a-b"], u=[1]), "t", "-", ["x", "y"])
        self.assertEqual((made.names, rows_of(made)), (("t", "x", "y", "u"), [("a-b", "a", "b", 1)]))

    def test_fields_of_any_type_are_combined_and_blanks_left_out(self):
        data = table(a=["x", None, None], n=[7, 8, None])
        made = combined(data, ["a", "n"], " / ", "both")
        self.assertEqual([row[2] for row in rows_of(made)], ["x / 7", "8", None])
        pages_are_the_whole(self, made)

    def test_what_cannot_be_mended(self):
        data = table(t=["x"], n=[1])
        for work, said in (
            (lambda: mended(data, ["n"], [], Task()), "n is integer, and no text"),
            (lambda: mended(data, ["t"], [Action(How.REPLACE)], Task()), "needs a text"),
            (lambda: mended(data, ["t"], [Action(How.PAD, "ab", number=3)], Task()), "one character"),
            (lambda: mended(data, ["t"], [Action(How.PART, "-")], Task()), "counted from 1"),
            (lambda: split(data, "t", "", ["x"]), "divides"),
            (lambda: split(data, "t", "-", ["n"]), "“n” already"),
            (lambda: split(data, "t", "-", []), "no names"),
            (lambda: combined(data, [], " ", "x"), "No fields"),
            (lambda: combined(data, ["t"], " ", "t"), "“t” already"),
        ):
            with self.subTest(said), self.assertRaisesRegex(UsageError, said):
                work()


class Unions(unittest.TestCase):
    def stacked(self, *tables, rail_field="", **how):
        plan = plan_stack([entry.fields for entry in tables], rail_field=rail_field, **how)
        return StackedTable(tables, plan, rail_field=rail_field, names=["one", "two", "three"])

    def test_by_name_lacking_fields_are_blank(self):
        made = self.stacked(table(a=[1], b=["x"]), table(b=["y"], c=[2]), rail_field="rail")
        self.assertEqual(made.names, ("a", "b", "c", "rail"))
        self.assertEqual(rows_of(made), [(1, "x", None, "one"), (None, "y", 2, "two")])
        self.assertEqual(made.origins(1)[0].row, 1)
        pages_are_the_whole(self, made)

    def test_by_position(self):
        made = self.stacked(table(a=[1], b=["x"]), table(p=[2], q=["y"], r=[True]), by_position=True)
        self.assertEqual(made.names, ("a", "b", "r"))
        self.assertEqual(rows_of(made), [(1, "x", None), (2, "y", True)])

    def test_types_that_meet_in_one_and_those_that_do_not(self):
        money = ArrowTable(pa.table({"v": pa.array([Decimal("1.50")])}))
        made = self.stacked(table(v=[7]), money)
        self.assertEqual(rows_of(made), [(Decimal("7.00"),), (Decimal("1.50"),)])
        self.assertEqual(rows_of(self.stacked(table(v=[7]), table(v=[0.5]))), [(7.0,), (0.5,)])
        with self.assertRaisesRegex(DataError, "v is integer and text"):
            self.stacked(table(v=[7]), table(v=["x"]))
        made = self.stacked(table(v=[7]), table(v=["x"]), table(v=[1.0]), mixed_as_text=True)
        self.assertEqual(rows_of(made), [("7",), ("x",), ("1",)])
        with self.assertRaisesRegex(DataError, "a real cannot hold"):
            rows_of(self.stacked(table(v=[2**60 + 1]), table(v=[0.5])))
        with self.assertRaisesRegex(UsageError, "“v” already"):
            self.stacked(table(v=[1]), table(v=[2]), rail_field="v")

    def test_without_partner_stays_so_and_empty_tables_add_nothing(self):
        data = without_partner()
        nothing = ArrowTable(pa.table({"no": pa.array([], pa.large_string())}))
        made = self.stacked(nothing, data, nothing, data)
        self.assertEqual(made.rows, 4)
        self.assertEqual(made.column("title").absent.tolist(), [False, True, False, True])
        self.assertEqual(made.rows_from(data, np.array([1])).tolist(), [1, 3])
        self.assertEqual(made.parents(2), [(data, np.array([0]))])

    @given(st.lists(st.lists(st.integers(0, 9), max_size=4), min_size=1, max_size=4), st.data())
    def test_any_rows_in_any_order(self, parts, data):
        tables = [ArrowTable(pa.table({"n": pa.array(part, pa.int64())})) for part in parts]
        made = StackedTable(tables, plan_stack([entry.fields for entry in tables]))
        whole = [number for part in parts for number in part]
        self.assertEqual([row[0] for row in rows_of(made)], whole)
        if whole:
            rows = data.draw(st.lists(st.integers(0, len(whole) - 1), max_size=6))
            page = made.take(np.array(rows, np.int64), ["n"])[0].values.to_pylist()
            self.assertEqual(page, [whole[row] for row in rows])

    def test_dates_and_timestamps_meet(self):
        day, moment = dt.date(2026, 1, 2), dt.datetime(2026, 1, 2, 3, 4)
        made = self.stacked(
            ArrowTable(pa.table({"d": pa.array([day])})),
            ArrowTable(pa.table({"d": pa.array([moment], pa.timestamp("us"))})),
        )
        self.assertEqual(rows_of(made), [(dt.datetime(2026, 1, 2),), (moment,)])


if __name__ == "__main__":
    unittest.main()
