"""Filter, fill and distinct: against SQLite and the slow way, and what may not be lost in them."""

import datetime as dt
import sqlite3
import unittest
from decimal import Decimal

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.distinct import distinct_rows
from keen_trellis.core.errors import UsageError
from keen_trellis.core.filling import Fill, FilledTable, FillWith, Gaps
from keen_trellis.core.filtering import Comparison, Condition, fulfilled
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import LinkField, Preparation, Take, Taken
from keen_trellis.core.matching import match
from keen_trellis.core.summarising import Key
from keen_trellis.core.table import ArrowTable, ChosenRows
from keen_trellis.core.task import Task
from tests.tables import joined, rows_of, table

C = Comparison
_IN_SQL = {
    C.ONE_OF: "v IN ({0}, {1})",
    C.NONE_OF: "v NOT IN ({0}, {1})",
    C.LESS: "v < {0}",
    C.AT_MOST: "v <= {0}",
    C.GREATER: "v > {0}",
    C.AT_LEAST: "v >= {0}",
    C.BETWEEN: "v BETWEEN {0} AND {1}",
    C.FILLED: "v IS NOT NULL",
    C.BLANK: "v IS NULL",
}
_ONE_VALUE = (C.LESS, C.AT_MOST, C.GREATER, C.AT_LEAST, C.CONTAINS, C.BEGINS, C.ENDS)
_TEXTS = st.sampled_from(["a", "b", "ab", "Ab", "a'b", "é"])


def loans_with_objects():
    """Three loans of which the last has no object, and whose second object has no title."""
    loans = table(no=["a", "b", "c"], venue=["Bay", None, "Cape"])
    objects = table(no=["a", "b"], title=["Boat", None], year=[1890, 1900])
    links = [LinkField("no", "no")]
    return joined(loans, objects, match(loans, objects, links), links, JoinType.LEFT_OUTER)


class Filtering(unittest.TestCase):
    @given(
        st.sampled_from(list(_IN_SQL)),
        st.one_of(
            st.tuples(
                st.lists(st.integers(-3, 3) | st.none(), max_size=8), st.tuples(*[st.integers(-3, 3)] * 2)
            ),
            st.tuples(st.lists(_TEXTS | st.none(), max_size=8), st.tuples(_TEXTS, _TEXTS)),
        ),
    )
    def test_as_sqlite_filters(self, how, case):
        values, bounds = case
        kind = pa.int64() if isinstance(bounds[0], int) else pa.large_string()
        data = ArrowTable(pa.table({"v": pa.array(values, kind)}))
        count = {C.FILLED: 0, C.BLANK: 0}.get(how, 1 if how in _ONE_VALUE else 2)
        condition = Condition("v", how, tuple(str(bound) for bound in bounds[:count]))
        base = sqlite3.connect(":memory:")
        base.execute(f"CREATE TABLE t (n INTEGER, v {'INTEGER' if kind == pa.int64() else 'TEXT'})")
        base.executemany("INSERT INTO t VALUES (?, ?)", enumerate(values))
        literals = ["'" + b.replace("'", "''") + "'" if isinstance(b, str) else str(b) for b in bounds]
        asked = base.execute(f"SELECT n FROM t WHERE {_IN_SQL[how].format(*literals)} ORDER BY n")
        expected = [n for (n,) in asked]
        self.assertEqual(np.flatnonzero(fulfilled(data, [condition], Task())).tolist(), expected)

    def test_in_text_all_and_any(self):
        data = table(v=["Harbour", "Old harbour", None, "Harbour 2"], n=[1, 2, 3, 10])
        holds = lambda *found, **how: fulfilled(data, found, Task(), **how).tolist()  # noqa: E731
        self.assertEqual(holds(Condition("v", C.BEGINS, ("Harbour",))), [True, False, False, True])
        self.assertEqual(holds(Condition("v", C.ENDS, ("harbour",))), [False, True, False, False])
        self.assertEqual(holds(Condition("n", C.CONTAINS, ("0",))), [False, False, False, True])
        both = Condition("v", C.CONTAINS, ("arbour",)), Condition("n", C.GREATER, ("1",))
        self.assertEqual(holds(*both), [False, True, False, True])
        self.assertEqual(holds(*both, any_of=True), [True, True, True, True])
        self.assertEqual(holds(), [True] * 4)

    def test_blank_and_without_partner_are_told_apart(self):
        data = loans_with_objects()
        found = {
            how: fulfilled(data, [Condition("title", how)], Task()).tolist()
            for how in (C.BLANK, C.FILLED, C.PARTNER, C.NO_PARTNER)
        }
        self.assertEqual(found[C.BLANK], [False, True, False])
        self.assertEqual(found[C.FILLED], [True, False, False])
        self.assertEqual(found[C.NO_PARTNER], [False, False, True])
        self.assertEqual(found[C.PARTNER], [True, True, False])

    def test_an_expression_that_must_be_true(self):
        condition = Condition("\"year\" > 1895 OR venue = 'Cape'", C.TRUE)
        found = fulfilled(loans_with_objects(), [condition], Task())
        self.assertEqual(found.tolist(), [False, True, True])

    def test_values_are_read_as_the_field_is(self):
        day = ArrowTable(pa.table({"d": pa.array([dt.date(2026, 2, 3), dt.date(2026, 3, 1)])}))
        found = fulfilled(day, [Condition("d", C.AT_LEAST, ("2026-03-01",))], Task())
        self.assertEqual(found.tolist(), [False, True])
        money = ArrowTable(pa.table({"m": pa.array([Decimal("1.50"), Decimal("2.00")])}))
        self.assertEqual(
            fulfilled(money, [Condition("m", C.ONE_OF, ("2", "1.5"))], Task()).tolist(), [True] * 2
        )
        with self.assertRaisesRegex(UsageError, "d is date, and “soon” is not"):
            fulfilled(day, [Condition("d", C.LESS, ("soon",))], Task())

    def test_what_cannot_be_asked(self):
        data = table(v=["a"])
        for condition, said in (
            (Condition("w", C.FILLED), "no field “w”"),
            (Condition("v", C.BETWEEN, ("a",)), "needs 2 values"),
            (Condition("v", C.ONE_OF), "needs a value"),
            (Condition("v", C.BLANK, ("a",)), "needs no value"),
            (Condition("v || 'a'", C.TRUE), "not a condition"),
        ):
            with self.subTest(condition), self.assertRaisesRegex(UsageError, said):
                fulfilled(data, [condition], Task())


class Distinct(unittest.TestCase):
    @given(
        st.lists(
            st.tuples(st.sampled_from(["a", "A", "b", None]), st.integers(0, 3) | st.none()), max_size=10
        ),
        st.sampled_from(["first", "last", "least:n", "greatest:n"]),
        st.booleans(),
    )
    def test_as_the_slow_way(self, rows, keep, blanks_stay):
        data = ArrowTable(
            pa.table(
                {
                    "k": pa.array([k for k, _ in rows], pa.large_string()),
                    "n": pa.array([n for _, n in rows], pa.int64()),
                }
            )
        )
        groups: dict = {}
        for number, (key, _) in enumerate(rows):
            own = (number,) if key is None and blanks_stay else key and key.lower()
            groups.setdefault(own, []).append(number)

        def best(numbers):
            filled = [n for n in numbers if rows[n][1] is not None] or numbers[:1]
            return {
                "first": numbers[0],
                "last": numbers[-1],
                "least:n": min(filled, key=lambda n: (rows[n][1] or 0, n)),
                "greatest:n": min(filled, key=lambda n: (-(rows[n][1] or 0), n)),
            }[keep]

        expected = sorted(best(numbers) for numbers in groups.values())
        keys = [Key("k", Preparation(case=True))]
        found = distinct_rows(data, keys, Take.named(keep), Task(), blanks_stay=blanks_stay)
        self.assertEqual(found.tolist(), expected)

    def test_without_keys_equal_rows_are_one(self):
        data = table(a=["x", "x", None, None], b=[1, 1, 2, 2])
        self.assertEqual(distinct_rows(data, [], Take(Taken.FIRST), Task()).tolist(), [0, 2])

    def test_the_key_may_be_an_expression(self):
        data = table(no=["SH-1", "SH-2", "LC-1"])
        keys = [Key('SUBSTRING("no" FROM 1 FOR 2)')]
        self.assertEqual(distinct_rows(data, keys, Take(Taken.LAST), Task()).tolist(), [1, 2])

    def test_what_cannot_stay(self):
        data = table(a=["x"])
        for keys, take, said in (
            ([Key("a")], "every", "none that could stay"),
            ([Key("a")], "greatest:b", "b"),
            ([Key("b")], "first", "b"),
        ):
            with self.subTest(take), self.assertRaisesRegex(UsageError, said):
                distinct_rows(data, keys, Take.named(take), Task())


class Filling(unittest.TestCase):
    def test_gaps_of_both_kinds_are_told_apart(self):
        data = loans_with_objects()
        titles = {
            gaps: [row[3] for row in rows_of(FilledTable(data, [Fill(("title",), of="unknown", gaps=gaps)]))]
            for gaps in Gaps
        }
        self.assertEqual(titles[Gaps.BLANK], ["Boat", "unknown", None])
        self.assertEqual(titles[Gaps.NO_PARTNER], ["Boat", None, "unknown"])
        self.assertEqual(titles[Gaps.BOTH], ["Boat", "unknown", "unknown"])

    def test_what_is_filled_is_marked_and_the_rest_stays_what_it_was(self):
        made = FilledTable(loans_with_objects(), [Fill(("title",), of="none", gaps=Gaps.NO_PARTNER)])
        self.assertEqual(made.counts, {"title": 1})
        title, year = made.take(np.array([2, 1]), ["title", "year"])
        self.assertEqual((title.filled.tolist(), year.filled, title.absent), ([True, False], None, None))
        self.assertEqual(year.absent.tolist(), [True, False])

    def test_a_page_is_what_the_whole_is(self):
        made = FilledTable(loans_with_objects(), [Fill(("title", "venue"), of="none")])
        whole = rows_of(made)
        for row in range(made.rows):
            page = rows_of(ChosenRows(made, np.array([row])))
            self.assertEqual(page, whole[row : row + 1])

    @given(st.lists(st.integers(0, 2) | st.none(), max_size=8), st.sampled_from(["before", "after"]))
    def test_the_nearest_row_before_or_after(self, values, way):
        data = ArrowTable(pa.table({"n": pa.array(values, pa.int64())}))
        expected = list(values) if way == "before" else list(values)[::-1]
        for place in range(1, len(expected)):
            expected[place] = expected[place - 1] if expected[place] is None else expected[place]
        made = FilledTable(data, [Fill(("n",), FillWith(way))])
        self.assertEqual(rows_of(made), [(n,) for n in (expected if way == "before" else expected[::-1])])

    @given(
        st.lists(st.tuples(st.sampled_from("ab") | st.none(), st.sampled_from("xy") | st.none()), max_size=7),
        st.permutations(["field", "before", "after"]),
        st.data(),
    )
    def test_one_fill_after_the_other_whole_and_by_pages(self, rows, ways, data):
        columns = list(zip(*rows, strict=True)) or [(), ()]
        table_ = ArrowTable(
            pa.table({n: pa.array(c, pa.large_string()) for n, c in zip("uv", columns, strict=True)})
        )
        made = FilledTable(table_, [Fill(("u",), FillWith(way), "v" * (way == "field")) for way in ways])
        expected = [u for u, _ in rows]
        for way in ways:
            if way == "field":
                expected = [u if u is not None else v for u, (_, v) in zip(expected, rows, strict=True)]
                continue
            expected = expected[:: 1 if way == "before" else -1]
            for place in range(1, len(expected)):
                expected[place] = expected[place] or expected[place - 1]
            expected = expected[:: 1 if way == "before" else -1]
        whole = [row[0] for row in rows_of(made)]
        self.assertEqual(whole, expected)
        self.assertEqual(made.still_open, {"u": whole.count(None)})
        filled = sum(u is None and now is not None for (u, _), now in zip(rows, whole, strict=True))
        self.assertEqual(made.counts, {"u": filled})
        chosen = data.draw(st.lists(st.integers(-1, len(rows) - 1), max_size=5))
        page = made.take(np.array(chosen, np.int64), ["u"])[0]
        self.assertEqual(page.values.to_pylist(), [None if n < 0 else whole[n] for n in chosen])
        absent = [False] * len(chosen) if page.absent is None else page.absent.tolist()
        self.assertEqual(absent, [n < 0 for n in chosen])

    def test_another_field_then_a_value(self):
        data = table(short=["Bay", None, None], long=["Old Bay", "Cape", None])
        fills = [Fill(("short",), FillWith.FIELD, "long"), Fill(("short",), of="?")]
        self.assertEqual([row[0] for row in rows_of(FilledTable(data, fills))], ["Bay", "Cape", "?"])

    def test_leaving_out(self):
        data = loans_with_objects()
        left_out = FilledTable(data, [Fill(("title",), FillWith.LEAVE_OUT, gaps=Gaps.NO_PARTNER)])
        self.assertEqual(left_out.rows, 2)
        self.assertEqual(left_out.rows_from(data, np.array([0, 1, 2])).tolist(), [0, 1])

    def test_the_type_grows_with_what_it_must_hold(self):
        data = ArrowTable(pa.table({"m": pa.array([Decimal("1"), None])}))
        made = FilledTable(data, [Fill(("m",), of="0.25")])
        self.assertEqual(rows_of(made), [(Decimal("1.00"),), (Decimal("0.25"),)])
        self.assertEqual(made.fields[0].arrow_type, made.column("m").values.type)

    def test_what_cannot_be_filled_in(self):
        data = loans_with_objects()
        for fill, said in (
            (Fill(("year",), of="long ago"), "year is integer, and “long ago” is not"),
            (Fill(("year",), FillWith.FIELD, "title"), "title is text and year is integer"),
            (Fill(("none",), of="x"), "no field “none”"),
        ):
            with self.subTest(fill), self.assertRaisesRegex(UsageError, said):
                FilledTable(data, [fill])
