"""Matches by every operator, preparation and way of taking, against the slow, obvious reference."""

import datetime as dt
import unittest
from collections import Counter
from decimal import Decimal

import msgspec
import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.joining import FieldChoice, PassedOverTable, Side, disagreements, plan_fields
from keen_trellis.core.link import LinkField, Operator, Preparation, Take, Taken
from keen_trellis.core.matching import cross, match
from keen_trellis.core.preparing import prepare
from keen_trellis.core.ranges import Limits
from keen_trellis.core.table import ArrowTable, Cells
from tests.core.reference import every_match, prepared_text, taken
from tests.tables import joined, rows_of, table

_TEXTS = st.sampled_from(
    [
        "a",
        "A",
        " a",
        "á",
        "a\u0301",
        "a.",
        "a b",
        " a  b ",
        "ab",
        "007",
        "7",
        "0",
        "00",
        "Straße",
        "STRASSE",
        "ﬁ",
        "fi",
        "🏺",
        "l'été",
        "LETE",
        "\u3000x",
        "x",
        "\u0130",
        "i\u0307",
        "",
        None,
    ]
)
_VALUES = {
    "text": (_TEXTS, pa.large_string()),
    "integer": (st.sampled_from([-2, 0, 1, 2, 7, 2**53, 2**53 + 1, -(2**63), 2**63 - 1, None]), pa.int64()),
    "real": (
        st.sampled_from(
            [
                -2.0,
                -0.0,
                0.0,
                1.0,
                1.5,
                7.0,
                2.0**53,
                2.0**63,
                -(2.0**63),
                float("nan"),
                float("inf"),
                float("-inf"),
                0.1,
                None,
            ]
        ),
        pa.float64(),
    ),
    "decimal": (
        st.sampled_from(
            [Decimal(t) for t in ("-2", "0", "1.00", "1.50", "7", "0.10", "9652789902.50")] + [None]
        ),
        pa.decimal128(20, 2),
    ),
    "fine": (
        st.sampled_from([Decimal(t) for t in ("1.500", "0.100", "0.001")] + [None]),
        pa.decimal128(38, 3),
    ),
    # What 9652789902.5 becomes with 33 places, where nothing looks after 128 bits.
    "finest": (
        st.sampled_from([Decimal(t) for t in ("0.1", "7", "0.053738606934452510983031145627648")] + [None]),
        pa.decimal128(38, 33),
    ),
    "date": (
        st.sampled_from(
            [dt.date(1700, 1, 1), dt.date(1899, 12, 31), dt.date(2024, 2, 29), dt.date(2400, 1, 1), None]
        ),
        pa.date32(),
    ),
    "moment": (
        st.sampled_from(
            [dt.datetime(1700, 1, 1), dt.datetime(2024, 2, 29, 0, 0, 1), dt.datetime(2400, 1, 1), None]
        ),
        pa.timestamp("us"),
    ),
    "boolean": (st.sampled_from([True, False, None]), pa.bool_()),
}
_TYPES = st.sampled_from(
    [
        ("text", "text"),
        ("integer", "integer"),
        ("integer", "real"),
        ("real", "real"),
        ("decimal", "fine"),
        ("decimal", "finest"),
        ("decimal", "real"),
        ("integer", "decimal"),
        ("date", "date"),
        ("date", "moment"),
        ("moment", "moment"),
        ("boolean", "boolean"),
    ]
)
_PREPARATIONS = st.builds(
    Preparation,
    *[st.booleans()] * 6,
    st.just(""),
    st.lists(
        st.tuples(_TEXTS.filter(bool), _TEXTS.filter(bool)), max_size=2, unique_by=lambda pair: pair[0]
    ).map(tuple),
)
_TAKES = st.sampled_from([kind for kind in Taken if kind is not Taken.ONE]).map(
    lambda kind: Take(kind, "v" if kind in (Taken.LEAST, Taken.GREATEST) else "")
)


@st.composite
def cases(draw):
    """Two tables, links between them, whether any of them will do, and what is taken."""
    count = draw(st.integers(1, 3))
    types = [draw(_TYPES) for _ in range(count)]
    sides = []
    for side in (0, 1):
        rows = draw(st.integers(0, 9))
        columns = {}
        for number, kinds in enumerate(types):
            strategy, kind = _VALUES[kinds[side]]
            columns[f"k{number}"] = pa.array(draw(st.lists(strategy, min_size=rows, max_size=rows)), kind)
        columns["v"] = pa.array(
            draw(st.lists(_VALUES["real"][0], min_size=rows, max_size=rows)), pa.float64()
        )
        sides.append(ArrowTable(pa.table(columns)))
    links = []
    for number, kinds in enumerate(types):
        sign = draw(st.sampled_from(list(Operator)))
        blanks = sign in (Operator.EQUAL, Operator.UNEQUAL) and draw(st.booleans())
        preparation = (
            draw(_PREPARATIONS) if kinds == ("text", "text") and draw(st.booleans()) else Preparation()
        )
        links.append(LinkField(f"k{number}", f"k{number}", preparation, sign, blanks))
    return sides[0], sides[1], links, draw(st.booleans()), draw(_TAKES)


def pairs_of(found):
    left, right = found.all_pairs()
    return list(zip(left.tolist(), right.tolist(), strict=True))


class AgainstReference(unittest.TestCase):
    @given(cases())
    def test_pairs_counts_and_rows(self, case):
        left, right, links, any_of, take = case
        found = match(left, right, links, any_of=any_of, take=take)
        every = every_match(left, right, links, any_of)
        chosen = taken(every, take, right.column("v").values.to_pylist())
        self.assertEqual(pairs_of(found), chosen)
        counts = found.counts
        matched = [{pair[side] for pair in every} for side in (0, 1)]
        paired = [{pair[side] for pair in chosen} for side in (0, 1)]
        self.assertEqual((counts.left_matched, counts.right_matched), tuple(map(len, matched)))
        passed = [sorted(matched[side] - paired[side]) for side in (0, 1)]
        self.assertEqual(found.left_passed_over_rows.tolist(), passed[0])
        self.assertEqual(found.right_passed_over_rows.tolist(), passed[1])
        self.assertEqual((counts.left_passed_over, counts.right_passed_over), tuple(map(len, passed)))
        written = every_match(left, right, [link.as_written for link in links], any_of)
        as_written = [pair for pair in chosen if pair in set(written)]
        if len(links) == 1 or not any(link.blanks for link in links):
            self.assertEqual(counts.pairs_as_written, len(as_written))
            self.assertEqual(counts.left_as_written, len({i for i, _ in as_written}))
        alone = [
            [row for row in range(rows) if row not in paired[side]]
            for side, rows in enumerate((left.rows, right.rows))
        ]
        unmatched = [
            [row for row in range(rows) if row not in matched[side]]
            for side, rows in enumerate((left.rows, right.rows))
        ]
        outer = sorted([*chosen, *((row, -1) for row in alone[0])])
        expected = {
            JoinType.INNER: chosen,
            JoinType.LEFT_OUTER: outer,
            JoinType.RIGHT_OUTER: chosen + [(-1, row) for row in alone[1]],
            JoinType.FULL_OUTER: outer + [(-1, row) for row in alone[1]],
            JoinType.LEFT_ANTI: [(row, -1) for row in unmatched[0]],
            JoinType.RIGHT_ANTI: [(-1, row) for row in unmatched[1]],
            JoinType.FULL_ANTI: [(row, -1) for row in unmatched[0]] + [(-1, row) for row in unmatched[1]],
            JoinType.LEFT_SEMI: [(row, -1) for row in sorted(matched[0])],
            JoinType.RIGHT_SEMI: [(-1, row) for row in sorted(matched[1])],
        }
        for kind, rows in expected.items():
            made = joined(left, right, found, links, kind)
            ours = made.rows_of_sides(range(made.rows))
            self.assertEqual(list(zip(*(side.tolist() for side in ours), strict=True)), rows, kind)
            self.assertEqual(counts.rows_under(kind), len(rows), kind)
        for row in range(left.rows):
            self.assertEqual(found.partners_in_right(row).tolist(), [j for i, j in chosen if i == row])
        for row in range(right.rows):
            self.assertEqual(found.partners_in_left(row).tolist(), [i for i, j in chosen if j == row])

    @given(cases())
    def test_swapping_the_sides_mirrors_every_match(self, case):
        left, right, links, any_of, _ = case
        found = match(left, right, links, any_of=any_of)
        swapped = match(right, left, [link.swapped for link in links], any_of=any_of)
        self.assertEqual(sorted((j, i) for i, j in pairs_of(found)), pairs_of(swapped))

    @given(cases(), st.integers(0, 9))
    def test_the_parts_of_a_table_join_as_the_whole(self, case, cut):
        left, right, links, any_of, _ = case
        cut = min(cut, left.rows)
        whole = pa.table({name: left.column(name).values for name in left.names})
        parts = [ArrowTable(whole.slice(0, cut)), ArrowTable(whole.slice(cut))]
        found = [pairs_of(match(part, right, links, any_of=any_of)) for part in parts]
        together = found[0] + [(i + cut, j) for i, j in found[1]]
        self.assertEqual(together, pairs_of(match(left, right, links, any_of=any_of)))


class Algebra(unittest.TestCase):
    @given(cases())
    def test_joins_are_made_of_each_other(self, case):
        left, right, links, any_of, _ = case
        found = match(left, right, links, any_of=any_of)

        def rows(kind):
            table = joined(left, right, found, links, kind)
            left_rows, right_rows = table.rows_of_sides(range(table.rows))
            return Counter(zip(left_rows.tolist(), right_rows.tolist(), strict=True))

        kinds = {kind: rows(kind) for kind in JoinType if kind is not JoinType.CROSS}
        self.assertEqual(kinds[JoinType.LEFT_OUTER], kinds[JoinType.INNER] + kinds[JoinType.LEFT_ANTI])
        self.assertEqual(kinds[JoinType.FULL_OUTER], kinds[JoinType.LEFT_OUTER] + kinds[JoinType.RIGHT_ANTI])
        self.assertEqual(kinds[JoinType.FULL_ANTI], kinds[JoinType.LEFT_ANTI] + kinds[JoinType.RIGHT_ANTI])
        semi = kinds[JoinType.LEFT_SEMI] + kinds[JoinType.LEFT_ANTI]
        self.assertEqual(semi, Counter((row, -1) for row in range(left.rows)))

    @given(st.lists(_TEXTS | st.text(max_size=5), max_size=8), _PREPARATIONS)
    def test_preparing_twice_changes_nothing_more(self, texts, preparation):
        # Corrections are made once: what one of them makes is not corrected again.
        plain = msgspec.structs.replace(preparation, corrections=())
        once = prepare(Cells(pa.array(texts, pa.large_string())), plain).of_rows
        self.assertEqual(prepare(Cells(once), plain).of_rows.to_pylist(), once.to_pylist())
        expected = [prepared_text(text, plain) if text else None for text in texts]
        self.assertEqual(once.to_pylist(), expected)


class Periods(unittest.TestCase):
    def test_a_long_period_costs_its_pairs_only(self):
        days = pa.array(np.arange(20_000, dtype=np.int32)).cast(pa.date32())
        starts = pa.array(np.append(np.arange(0, 20_000, 10), 0).astype(np.int32)).cast(pa.date32())
        ends = pa.array(np.append(np.arange(9, 20_000, 10), 19_999).astype(np.int32)).cast(pa.date32())
        left = ArrowTable(pa.table({"day": days, "key": pa.array(["x"] * 20_000, pa.large_string())}))
        right = ArrowTable(
            pa.table({"from": starts, "to": ends, "key": pa.array(["x"] * 2_001, pa.large_string())})
        )
        links = [
            LinkField("key", "key"),
            LinkField("day", "from", operator=Operator.AT_LEAST),
            LinkField("day", "to", operator=Operator.AT_MOST),
        ]
        # More candidates than twice the pairs would be refused.
        found = match(left, right, links, limits=Limits(candidates=80_000))
        self.assertEqual((found.pairs, found.counts.most_partners_of_left), (40_000, 2))
        self.assertEqual(found.partners_in_right(25).tolist(), [2, 2_000])
        swapped = match(right, left, [link.swapped for link in links], limits=Limits(candidates=80_000))
        self.assertEqual((swapped.pairs, swapped.partners_in_left(25).tolist()), (40_000, [2, 2_000]))

    def test_what_is_out_of_reach_is_refused_with_its_number(self):
        rows = table(a=list(range(3_000)), b=list(range(3_000)))
        links = [LinkField("a", "a", operator=Operator.LESS), LinkField("b", "b", operator=Operator.GREATER)]
        with self.assertRaisesRegex(
            DataError, "4,498,500 pairs of rows would have to be compared; the limit is 1,000"
        ):
            match(rows, rows, links, limits=Limits(candidates=1_000))
        found = match(
            rows, rows, [LinkField("a", "a", operator=Operator.UNEQUAL)], limits=Limits(pairs=1_000)
        )
        self.assertEqual(found.counts.pairs, 3_000 * 2_999)
        with self.assertRaisesRegex(DataError, "8,997,000"):
            found.all_pairs()


class Taking(unittest.TestCase):
    LEFT = table(k=["a", "b", "c"], n=[1, 2, 3])
    RIGHT = table(k=["a", "b", "a", "d"], v=[5, 6, 4, 7])
    LINKS = (LinkField("k", "k"),)

    def test_must_be_one_names_value_and_rows(self):
        with self.assertRaisesRegex(
            DataError, "1 row matches several: “a” .*row 1.* matches .*row 1; .*row 3"
        ):
            match(self.LEFT, self.RIGHT, self.LINKS, take=Take(Taken.ONE))
        found = match(self.RIGHT, self.LEFT, self.LINKS, take=Take(Taken.ONE))
        self.assertEqual(found.pairs, 3)

    def test_passed_over_rows_are_kept_by_outer_joins_and_have_a_table(self):
        found = match(self.LEFT, self.RIGHT, self.LINKS, take=Take.named("least:v * 2"))
        full = joined(self.LEFT, self.RIGHT, found, self.LINKS, JoinType.FULL_OUTER)
        self.assertEqual([row[3] for row in rows_of(full)], [4, 6, None, 5, 7])
        plan = plan_fields(
            self.LEFT.fields,
            self.RIGHT.fields,
            self.LINKS,
            JoinType.FULL_ANTI,
            FieldChoice(both_links=True),
            "R",
        )
        self.assertEqual(rows_of(PassedOverTable(self.LEFT, self.RIGHT, found, plan)), [(None, None, "a", 5)])

    def test_names(self):
        for text in ("every", "first", "last", "one", "pair-off", "least:v", "greatest:v + 1"):
            self.assertEqual(Take.named(text).name, text)
        for text in ("latest", "least", "first:v", "least: "):
            with self.assertRaisesRegex(UsageError, "not a way to take"):
                Take.named(text)
        odd = ArrowTable(
            pa.table({"k": pa.array(["a", "a"]).cast(pa.large_string()), "rate per mille": [2, 1]})
        )
        found = match(self.LEFT, odd, self.LINKS, take=Take.named("least:rate per mille"))
        self.assertEqual(pairs_of(found), [(0, 1)])
        with self.assertRaisesRegex(UsageError, "no field “w”"):
            match(self.LEFT, self.RIGHT, self.LINKS, take=Take.named("least:w"))


class Sides(unittest.TestCase):
    def test_expressions_in_place_of_fields(self):
        left = table(code=["LCM.1", "LCM.2"])
        right = table(collection=["LCM", "LCM"], number=[2, 3])
        link = LinkField("code", "collection || '.' || CAST(number AS VARCHAR)", right_is_expression=True)
        self.assertEqual(pairs_of(match(left, right, [link])), [(1, 0)])

    def test_comparing_as_another_type_counts_what_cannot_be(self):
        left = table(n=["7", "07", "x", None, "1e1"])
        right = table(m=[7.0, 10.0])
        link = LinkField("n", "m", Preparation(compare_as="number"))
        found = match(left, right, [link])
        self.assertEqual(pairs_of(found), [(0, 0), (4, 1)])
        counts = found.counts
        self.assertEqual((counts.left_lost, counts.left_blank, counts.pairs_as_written), (2, 1, 0))
        dates = table(d=["2026-11-23", "soon", "2026-11-23 08:00"])
        days = ArrowTable(pa.table({"d": pa.array([dt.datetime(2026, 11, 23, 17)], pa.timestamp("us"))}))
        found = match(dates, days, [LinkField("d", "d", Preparation(compare_as="date"))])
        self.assertEqual((pairs_of(found), found.counts.left_lost), ([(0, 0), (2, 0)], 1))
        found = match(right, table(t=["7", "10.0"]), [LinkField("m", "t", Preparation(compare_as="text"))])
        self.assertEqual(pairs_of(found), [(0, 0)])

    def test_corrections_of_numbers(self):
        left, right = table(n=[1, 2, 3]), table(n=[20, 3])
        link = LinkField("n", "n", Preparation(corrections=(("2", "20"), ("3", "three"))))
        found = match(left, right, [link])
        self.assertEqual((pairs_of(found), found.counts.left_lost, found.counts.right_lost), ([(1, 0)], 1, 1))

    def test_a_cross_join_is_every_row_with_every_row(self):
        left, right = table(a=[1, 2]), table(b=["x", "y", "z"])
        made = joined(left, right, cross(left, right), (), JoinType.CROSS)
        self.assertEqual(rows_of(made), [(n, c) for n in (1, 2) for c in "xyz"])
        self.assertEqual(
            rows_of(made)[4], tuple(cell.values[0].as_py() for cell in made.take(range(4, 5), made.names))
        )

    def test_fields_of_one_name_become_one(self):
        left = table(k=[1, 2, 3, 4], note=["a", None, "c", "d"])
        right = table(k=[1, 2, 3], note=["x", "y", None])
        links = [LinkField("k", "k")]
        found = match(left, right, links)
        for side, expected in (
            (Side.LEFT_FIRST, ["a", "y", "c", "d"]),
            (Side.RIGHT_FIRST, ["x", "y", "c", "d"]),
        ):
            choice = FieldChoice(merge=(("note", side),))
            made = joined(left, right, found, links, JoinType.LEFT_OUTER, choice)
            self.assertEqual(rows_of(made), list(zip([1, 2, 3, 4], expected, strict=True)))
        self.assertEqual(disagreements(left, right, found, "note"), 1)
        with self.assertRaisesRegex(DataError, "cannot be one field"):
            choice = FieldChoice(merge=(("note", Side.LEFT_FIRST),))
            joined(left, table(k=[1], note=[2]), found, links, JoinType.INNER, choice)

    def test_blanks_and_no_partner_are_counted_apart(self):
        first = joined(
            table(k=[1, 2]),
            table(k=[1], q=[None]),
            match(table(k=[1, 2]), table(k=[1]), [LinkField("k", "k")]),
            [LinkField("k", "k")],
            JoinType.LEFT_OUTER,
            FieldChoice(),
        )
        counts = match(first, table(q=["x"]), [LinkField("q", "q")]).counts
        self.assertEqual((counts.left_blank, counts.left_no_partner, counts.left_unmatched), (1, 1, 2))


if __name__ == "__main__":
    unittest.main()
