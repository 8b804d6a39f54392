import contextlib
import datetime as dt
import math
import sqlite3
import unittest
from dataclasses import replace
from decimal import Decimal

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.expressions.expression import Notes
from keen_trellis.core.expressions.parsing import parse
from keen_trellis.core.table import ArrowTable, Cells
from keen_trellis.core.values import FieldType
from tests.tables import table

T = FieldType
LOANS = table(
    venue=["Pier Gallery", "mill house", None, " Äther "],
    crates=[3, -7, None, 0],
    cost=pa.array([Decimal("12.50"), Decimal("-0.05"), None, Decimal("100.00")], pa.decimal128(10, 2)),
    weight=[1.5, math.nan, None, -0.0],
    out=[dt.date(2026, 11, 23), dt.date(1899, 12, 31), None, dt.date(2024, 2, 29)],
    packed=[
        dt.datetime(2026, 11, 23, 8, 5, 6, 250_000),
        dt.datetime(1700, 1, 1),
        None,
        dt.datetime(2024, 2, 29),
    ],
    open=[True, False, None, True],
    **{"the day": ["2026-11-23", "30 February", None, "2024-02-29"]},
)
TODAY = dt.date(2026, 11, 23)


def values(text, data=LOANS, notes=None):
    found = parse(text, data.fields, today=TODAY)
    column = found.column(data, None, notes)
    assert column.type == found.arrow_type, (column.type, found.arrow_type)
    return column.to_pylist()


class Values(unittest.TestCase):
    def test_examples(self):
        for text, expected in (
            ("crates + 1", [4, -6, None, 1]),
            ("crates * 2 - 1", [5, -15, None, -1]),
            ("crates / 2", [1.5, -3.5, None, 0.0]),
            ("MOD(crates, 2)", [1, -1, None, 0]),
            ("cost + 1", [Decimal("13.50"), Decimal("0.95"), None, Decimal("101.00")]),
            ("cost * 1.5", [Decimal("18.750"), Decimal("-0.075"), None, Decimal("150.000")]),
            ("MOD(cost, 0.30)", [Decimal("0.20"), Decimal("-0.05"), None, Decimal("0.10")]),
            ("-cost", [Decimal("-12.50"), Decimal("0.05"), None, Decimal("-100.00")]),
            ("ABS(crates)", [3, 7, None, 0]),
            ("ROUND(cost, 1)", [Decimal("12.5"), Decimal("-0.1"), None, Decimal("100.0")]),
            ("FLOOR(cost)", [Decimal(12), Decimal(-1), None, Decimal(100)]),
            ("CEILING(cost)", [Decimal(13), Decimal(0), None, Decimal(100)]),
            ("ROUND(crates, -1)", [0, -10, None, 0]),
            ("venue || '!'", ["Pier Gallery!", "mill house!", None, " Äther !"]),
            ("UPPER(venue)", ["PIER GALLERY", "MILL HOUSE", None, " ÄTHER "]),
            ("LOWER(TRIM(venue))", ["pier gallery", "mill house", None, "äther"]),
            ("TRIM(LEADING 'P' FROM venue)", ["ier Gallery", "mill house", None, " Äther "]),
            ("SUBSTRING(venue FROM 2 FOR 3)", ["ier", "ill", None, "Äth"]),
            ("SUBSTRING(venue FROM crates)", ["er Gallery", "mill house", None, " Äther "]),
            ("POSITION('h' IN venue)", [0, 6, None, 4]),
            ("CHAR_LENGTH(venue)", [12, 10, None, 7]),
            ("REPLACE(venue, 'l', 'L')", ["Pier GaLLery", "miLL house", None, " Äther "]),
            ("crates > 0", [True, False, None, False]),
            ("weight > 1e300", [False, True, None, False]),
            ("weight = 0", [False, False, None, True]),
            ("weight = weight", [True, True, None, True]),
            ("cost <> 12.5", [False, True, None, True]),
            ("venue < 'a'", [True, False, None, True]),
            ("out = packed", [False, False, None, True]),
            ("venue IS NULL", [False, False, True, False]),
            ("venue IS NOT NULL AND crates >= 0", [True, False, False, True]),
            ("open OR crates < 0", [True, True, None, True]),
            ("NOT open", [False, True, None, False]),
            ("crates IN (3, 0.0)", [True, False, None, True]),
            ("crates NOT BETWEEN -7 AND 0", [True, False, None, False]),
            ("venue LIKE '%r_G%'", [True, False, None, False]),
            ("venue LIKE '_i%'", [True, True, None, False]),
            ("'50%' LIKE '50!%' ESCAPE '!'", [True] * 4),
            ("CASE WHEN crates > 0 THEN 'some' WHEN open THEN 'none' END", ["some", None, None, "none"]),
            ("CASE crates WHEN 3 THEN 1 ELSE 2.5 END", [Decimal("1.0")] + [Decimal("2.5")] * 3),
            ("COALESCE(crates, cost, 9)", [Decimal(3), Decimal(-7), Decimal(9), Decimal(0)]),
            ("NULLIF(crates, 0)", [3, -7, None, None]),
            ("CAST(crates AS VARCHAR)", ["3", "-7", None, "0"]),
            ("CAST(crates AS DECIMAL(6, 1))", [Decimal("3.0"), Decimal("-7.0"), None, Decimal("0.0")]),
            ("CAST(cost AS INTEGER)", [13, 0, None, 100]),
            ("CAST(cost AS REAL)", [12.5, -0.05, None, 100.0]),
            (
                "CAST(packed AS DATE)",
                [dt.date(2026, 11, 23), dt.date(1700, 1, 1), None, dt.date(2024, 2, 29)],
            ),
            ('CAST("the day" AS DATE)', [dt.date(2026, 11, 23), None, None, dt.date(2024, 2, 29)]),
            ("EXTRACT(MONTH FROM out)", [11, 12, None, 2]),
            ("EXTRACT(YEAR FROM packed) * 100 + EXTRACT(DAY FROM packed)", [202623, 170001, None, 202429]),
            ("EXTRACT(SECOND FROM packed)", [Decimal("6.250000"), Decimal(0), None, Decimal(0)]),
            ("out <= CURRENT_DATE", [True, True, None, True]),
            ("out > DATE '2024-12-31'", [True, False, None, False]),
            ("TIMESTAMP '2024-02-29 00:00:00' = out", [False, False, None, True]),
            ("Crates", [3, -7, None, 0]),
            ("NULL", [None] * 4),
        ):
            with self.subTest(text):
                found = values(text)
                self.assertEqual([repr(v) if v != v else v for v in found], expected)

    def test_a_branch_is_evaluated_on_its_rows_only(self):
        big = table(n=[2**62, 1])
        self.assertEqual(values("CASE WHEN n > 5 THEN 0 ELSE n * 4 END", big), [0, 4])

    def test_what_gives_blank_is_counted(self):
        notes = Notes()
        self.assertEqual(values("6 / crates", notes=notes), [2.0, 6 / -7, None, None])
        self.assertEqual(values("CAST(venue AS INTEGER)", notes=notes), [None] * 4)
        self.assertEqual((notes.divisions_by_zero, notes.failed_casts), (1, 3))

    def test_overflow_is_an_error(self):
        wide = table(n=[2**63 - 1], d=pa.array([Decimal("9" * 36 + ".99")], pa.decimal128(38, 2)))
        for text in ("n + 1", "n * 2", "-n - 2", "d + 1", "d * d", "ABS(-n - 1)"):
            with self.subTest(text), self.assertRaisesRegex(DataError, "does not fit"):
                values(text, wide)
        self.assertEqual(values("-9223372036854775808", wide), [-(2**63)])

    def test_no_partner(self):
        class Half(ArrowTable):
            def take(self, rows, names):
                return [
                    Cells(pa.array([None, "x"], pa.large_string()), np.array([True, False])) for _ in names
                ]

        half = Half(pa.table({"title": pa.array(["", "x"], pa.large_string())}))
        half.fields = (replace(half.fields[0], table="Objects"),)
        self.assertEqual(values("PARTNER_FOUND('Objects')", half), [False, True])
        self.assertEqual(values("title || 'y'", half), [None, "xy"])
        with self.assertRaisesRegex(UsageError, "'Objects'"):
            values("PARTNER_FOUND('Loans')", half)

    def test_rows_of_a_large_table_are_read_in_blocks(self):
        large = table(n=pa.array(np.arange(1_200_000)))
        found = parse("n * 2", large.fields).column(large)
        self.assertEqual((len(found), found[1_199_999].as_py()), (1_200_000, 2_399_998))


class Refused(unittest.TestCase):
    def test_what_is_no_expression(self):
        for text, said in (
            ("", "empty"),
            ("1 +", "cannot be read"),
            ("(1", "cannot be read"),
            ("'open", "cannot be read"),
            ("crates; DROP TABLE x", "“;” has no meaning"),
            ("SELECT 1", "cannot be read|nothing that an expression"),
            ("(SELECT 1)", "nothing that an expression can hold"),
            ("SUM(crates)", "no function SUM"),
            ("__import__('os')", "no function __import__"),
            ("crates != 1", "has no meaning"),
            ("crates::text", "has no meaning"),
            ("crates -- all", "comment"),
            ("cratse", "no field “cratse”.*crates"),
            ("crates + venue", "needs a number, not text"),
            ("venue = 1", "compares text with integer"),
            ("crates AND open", "AND needs a condition"),
            ("CASE WHEN crates THEN 1 END", "WHEN needs a condition"),
            ("COALESCE(venue, 1)", "integer and text"),
            ("CAST(venue AS JSON)", "no type JSON|no meaning|cannot be read"),
            ("EXTRACT(MONTH FROM venue)", "no MONTH in text"),
            ("EXTRACT(HOUR FROM out)", "no HOUR in date"),
            ("loans.crates", "has a point"),
            ("99999999999999999999", "too large"),
            ("(" * 3_000 + "1" + ")" * 3_000, "nested too deeply|cannot be read"),
            ("x" * 20_000, "characters"),
        ):
            with self.subTest(text[:40]), self.assertRaisesRegex(UsageError, f"(?s){said}"):
                values(text)

    @given(st.text("cratesvnu 01'\"()+-*/|=<>,.;%NULLANDORCASEWHN", max_size=30))
    def test_any_text_is_read_or_refused_with_an_error_of_ours(self, text):
        with contextlib.suppress(UsageError, DataError):
            values(text)


_SMALL = st.integers(-5, 5) | st.none()


_FORMULAS = st.recursive(
    st.sampled_from(["a", "b", "0", "2", "NULL", "-3"]),
    lambda inner: st.one_of(
        st.builds("({} {} {})".format, inner, st.sampled_from("+-*"), inner),
        st.builds(
            "(CASE WHEN {} {} {} THEN {} ELSE {} END)".format,
            *(inner, st.sampled_from(["=", "<>", "<", "<=", ">", ">="]), inner, inner, inner),
        ),
        st.builds("{}({}, {})".format, st.sampled_from(["COALESCE", "NULLIF"]), inner, inner),
        st.builds(
            "(CASE WHEN NOT ({0} BETWEEN {1} AND {2}) OR {1} IS NULL THEN ABS({0}) END)".format,
            *(inner, inner, inner),
        ),
    ),
    max_leaves=8,
)


class AgainstSqlite(unittest.TestCase):
    @given(_FORMULAS, st.lists(st.tuples(_SMALL, _SMALL), min_size=1, max_size=5))
    def test_whole_numbers(self, formula, rows):
        data = table(
            a=pa.array([a for a, _ in rows], pa.int64()), b=pa.array([b for _, b in rows], pa.int64())
        )
        base = sqlite3.connect(":memory:")
        base.execute("CREATE TABLE t (a INTEGER, b INTEGER)")
        base.executemany("INSERT INTO t VALUES (?, ?)", rows)
        expected = [row[0] for row in base.execute(f"SELECT {formula} FROM t ORDER BY rowid")]
        base.close()
        found = values(formula, data)
        self.assertEqual([None if v is None else int(v) for v in found], expected, formula)


if __name__ == "__main__":
    unittest.main()
