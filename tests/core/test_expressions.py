import contextlib
import datetime as dt
import math
import sqlite3
import unittest
from decimal import Decimal

import msgspec
import numpy as np
import pyarrow as pa
import sqlglot
from hypothesis import given
from hypothesis import strategies as st
from sqlglot import exp

from keen_trellis.core.day import as_of
from keen_trellis.core.errors import DataError, UsageError
from keen_trellis.core.expressions import instead
from keen_trellis.core.expressions.expression import Expression, Notes
from keen_trellis.core.expressions.parsing import _READERS, _Reader, parse
from keen_trellis.core.table import ArrowTable, Cells
from keen_trellis.core.values import FieldType
from tests.postgres import server
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
    with as_of(TODAY):
        found = parse(text, data.fields)
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
            ("crates IS DISTINCT FROM 3", [False, True, True, True]),
            ("crates IS NOT DISTINCT FROM NULL", [False, False, True, False]),
            ("crates IS DISTINCT FROM NULLIF(crates, 0)", [False, False, False, True]),
            ("NULL IS DISTINCT FROM NULL", [False] * 4),
            ("(crates > 0) IS TRUE", [True, False, False, False]),
            ("(crates > 0) IS NOT FALSE", [True, False, True, False]),
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
            ("venue NOT LIKE '%r_G%'", [False, True, None, True]),
            ("'50%' NOT LIKE '50!%' ESCAPE '!'", [False] * 4),
            ("crates BETWEEN SYMMETRIC 5 AND 0", [True, False, None, True]),
            ("crates NOT BETWEEN SYMMETRIC 5 AND 0", [False, True, None, False]),
            ("SUBSTRING(venue FROM -9223372036854775807 FOR 9223372036854775807)", ["", "", None, ""]),
            ("SUBSTRING(venue FROM 9223372036854775807 FOR 9223372036854775807)", ["", "", None, ""]),
            ("SUBSTRING(venue FROM 2 FOR 9223372036854775807)", ["ier Gallery", "ill house", None, "Äther "]),
            ("CAST(9223372036854775807 AS REAL)", [2.0**63] * 4),
            ("9007199254740993 * 1e0", [2.0**53] * 4),
            ("CAST(1.5e3 AS DECIMAL(10, 2))", [Decimal("1500.00")] * 4),
            ("CAST('1e30' AS DECIMAL(38, 2))", [Decimal("1" + "0" * 30)] * 4),
            ("CAST('1e37' AS DECIMAL(38, 2))", [None] * 4),
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
        half.fields = (msgspec.structs.replace(half.fields[0], table="Objects"),)
        self.assertEqual(values("PARTNER_FOUND('Objects')", half), [False, True])
        self.assertEqual(values("title || 'y'", half), [None, "xy"])
        with self.assertRaisesRegex(UsageError, "'Objects'"):
            values("PARTNER_FOUND('Loans')", half)

    def test_rows_of_a_large_table_are_read_in_blocks(self):
        large = table(n=pa.array(np.arange(1_200_000)))
        found = parse("n * 2", large.fields).column(large)
        self.assertEqual((len(found), found[1_199_999].as_py()), (1_200_000, 2_399_998))


class Refused(unittest.TestCase):
    def test_what_others_have_says_what_to_write_instead(self):
        fields = table(
            text=["ab"],
            number=[1.5],
            date=[dt.date(2026, 1, 2)],
            value=["x"],
            otherwise=["y"],
            one=["p"],
            other=["q"],
            condition=[True],
            earlier=[dt.date(2026, 1, 2)],
            later=[dt.date(2026, 1, 3)],
        ).fields
        for name in instead._FUNCTIONS:
            with self.assertRaises(UsageError) as caught:
                parse(f"{name}(text)", fields)
            said = caught.exception.remedy
            self.assertRegex(said, "^Write .* instead.$", name)
            # What is advised can be written just so.
            for advised in said.removeprefix("Write ").removesuffix(" instead.").split(", or "):
                parse(advised, fields)
        for sign, right in (("!=", "<>"), ("==", "="), ("&&", "AND")):
            with self.assertRaisesRegex(UsageError, f"Write {right} instead"):
                parse(f"number {sign} 1", fields)

    def test_what_is_no_expression(self):
        for text, said in (
            ("", "empty"),
            ("1 +", "cannot be read"),
            ("(1", "cannot be read"),
            ("'open", "cannot be read"),
            ("crates; DROP TABLE x", "“;” has no meaning"),
            ("SELECT 1", "cannot be read|cannot be used"),
            ("(SELECT 1)", "cannot be used in an expression"),
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
            ("packed - packed", "The interval between two dates has a unit"),
            ("out + 1", "EXTRACT makes numbers"),
            ("out = crates", "compares date with integer. Make numbers of dates"),
            ("venue + 1", "CAST it to one"),
            ("venue = out", "CAST one of them"),
            ("CAST(out AS INTEGER)", "No date can be CAST to integer"),
            ("CAST(crates AS DATE)", "No integer can be CAST to date"),
            ("CAST(out AS TIME)", "No date can be CAST to time"),
            ("FLOOR(cost, 1)", "not computed here: decimals"),
            ("FLOOR(cost TO DAY)", "not computed here: to"),
            ("CEILING(cost, 1)", "not computed here: decimals"),
            ("POSITION('a', venue, 3)", "not computed here: position"),
            ("ROUND(cost, 1, 1)", "not computed here: truncate"),
            ("CURRENT_DATE('UTC')", "not computed here: this"),
            ("venue LIKE 'x' ESCAPE ''", "one character"),
            ("venue LIKE ANY ('x', 'y')", "cannot be used in an expression|no function"),
            ("CAST(packed AS TIMESTAMP(3))", "takes no size"),
            ("CAST(crates AS INTEGER(3))", "takes no size"),
            ("CAST(crates AS FLOAT(3))", "takes no size"),
            ("CAST(venue AS CHAR(3))", "no type CHAR"),
            ("CAST(cost AS DECIMAL(10, 2, 1))", "1 to 38 digits"),
            ("CAST(venue AS VARCHAR(99999999999999999999))", "plain whole number"),
            ("CAST(venue AS VARCHAR(3000000000))", "length of a VARCHAR"),
            ("CAST(venue AS VARCHAR(0))", "length of a VARCHAR"),
            ("ROUND(cost, 99999999999999999999)", "plain whole number"),
            ("ROUND(cost, 39)", "at most 38 places"),
        ):
            with self.subTest(text[:40]), self.assertRaisesRegex(UsageError, f"(?s){said}"):
                values(text)

    @given(st.text("cratesvnu 01'\"()+-*/|=<>,.;%NULLANDORCASEWHN", max_size=30))
    def test_any_text_is_read_or_refused_with_an_error_of_ours(self, text):
        with contextlib.suppress(UsageError, DataError):
            values(text)


class FieldsCalledAsWords(unittest.TestCase):
    def test_what_begins_a_statement_elsewhere_is_a_field_here(self):
        for name in ("comment", "show", "set", "load", "call", "rename", "Show", "cache", "key", "level"):
            with self.subTest(name), self.assertNoLogs("sqlglot"):
                rows = table(**{name: [3, None]})
                found = parse(f"{name} = 3 AND {name} IS NOT NULL", rows.fields)
                self.assertEqual(found.column(rows, None, Notes()).to_pylist(), [True, False])

    def test_a_word_that_must_be_quoted_is_told_so(self):
        with self.assertRaises(UsageError) as caught:
            parse("from = 3", table(**{"from": [3]}).fields)
        self.assertIn("in double quotes", str(caught.exception))


# An expression of each kind of node, and what makes an argument that it reads.
_OF_EACH_KIND = (
    "crates",
    "'x'",
    "1",
    "TRUE",
    "NULL",
    "(crates)",
    "-crates",
    "open AND crates = 3",
    "open OR crates = 3",
    "NOT open",
    "crates IS NULL",
    "crates IS DISTINCT FROM 3",
    "crates IS NOT DISTINCT FROM 3",
    "open IS TRUE",
    "crates IN (1, 3)",
    "crates BETWEEN 3 AND 1",
    "venue LIKE 'P%'",
    "venue LIKE 'P!%' ESCAPE '!'",
    "venue || 'x'",
    "CASE WHEN open THEN 1 END",
    "CASE crates WHEN 3 THEN 1 ELSE 2 END",
    "CAST(crates AS REAL)",
    "CAST(cost AS DECIMAL(9, 1))",
    "CAST(venue AS VARCHAR(3))",
    "COALESCE(crates, 1)",
    "NULLIF(crates, 3)",
    "UPPER(venue)",
    "LOWER(venue)",
    "CHAR_LENGTH(venue)",
    "TRIM(venue)",
    "SUBSTRING(venue FROM 2)",
    "POSITION('l' IN venue)",
    "REPLACE(venue, 'l')",
    "ABS(crates)",
    "ROUND(cost)",
    "FLOOR(cost)",
    "CEILING(cost)",
    "EXTRACT(YEAR FROM out)",
    "CURRENT_DATE",
    *(f"crates {sign} 3" for sign in ("=", "<>", "<", "<=", ">", ">=", "+", "-", "*", "/")),
    "MOD(crates, 3)",
    "GREATEST(crates, 1)",
    "LEAST(crates, 1)",
    "SIGN(crates)",
    "POWER(crates, 3)",
    "SQRT(weight)",
    "LPAD(venue, 3, 'y')",
    "RPAD(venue, 20, 'y')",
    "OVERLAY(venue PLACING 'y' FROM 2 FOR 3)",
    "venue RLIKE 'P.'",
    "out + INTERVAL '3' MONTH",
    "out - crates * INTERVAL '2' DAY",
)


_ARGUMENTS = (exp.Literal.number(2), exp.Literal.string("x"), exp.column("open"), True)
_LISTS = ([exp.Literal.number(2)], [exp.Literal.string("x")], [exp.column("open")])


class NothingUnread(unittest.TestCase):
    def test_each_argument_of_each_node_is_computed_or_refused(self):
        kinds = set()
        for text in _OF_EACH_KIND:
            for number, node in enumerate(sqlglot.parse_one(text).walk()):
                kinds.add(type(node))
                for name in node.arg_types:
                    for value in _LISTS if name in ("expressions", "ifs", "assumptions") else _ARGUMENTS:
                        self._one_argument_more(text, number, name, value)
        # Every kind of node that the reader knows is among them; PARTNER_FOUND is tested by itself.
        known = set(_READERS) - {exp.Anonymous}
        self.assertEqual(known - kinds - {exp.Identifier}, set())

    def _one_argument_more(self, text, number, name, value):
        tree = sqlglot.parse_one(text)
        node = list(tree.walk())[number]
        if node.args.get(name) or (type(node), name) in _NOT_WRITTEN:
            return
        before = values(text)
        node.set(name, value)
        reader = _Reader(text, LOANS.fields, TODAY)
        try:
            made = reader.read(tree)
        except (UsageError, DataError):
            return
        cells = LOANS.take(None, tuple(reader.names)) if reader.names else []
        after = Expression(text, tuple(reader.names), made).of_cells(LOANS.rows, cells).to_pylist()
        self.assertNotEqual(repr(before), repr(after), f"{text}: {name}={value!r} of {node!r} is not read")


# How the parser marks a dialect, and what says the same as nothing.
_NOT_WRITTEN = {
    (exp.DPipe, "safe"),
    (exp.Identifier, "quoted"),
    (exp.Trim, "position"),
    (exp.Greatest, "ignore_nulls"),
    (exp.Least, "ignore_nulls"),
}

_ODD_NUMBERS = (
    *(
        "0",
        "1",
        "-1",
        "0.5",
        "-0.5",
        "2147483648",
        "3000000000",
        "4294967296",
        "1e30",
        "-1e30",
        "1e400",
        "NULL",
    ),
    *(str(2**63 - 1), str(2**63), str(-(2**63)), "9" * 20, "9" * 39, "0." + "1" * 39, "'1e30'", "'x'"),
)
_WITH_A_NUMBER = (
    *("crates + {0}", "crates - {0}", "crates * {0}", "crates / {0}", "cost * {0}", "weight * {0}", "-({0})"),
    *("MOD(crates, {0})", "MOD({0}, crates)", "ROUND(cost, {0})", "ROUND(weight, {0})", "ROUND(crates, {0})"),
    *(
        "FLOOR({0})",
        "CEILING({0})",
        "ABS({0})",
        "SUBSTRING(venue FROM {0})",
        "SUBSTRING(venue FROM 1 FOR {0})",
    ),
    *("SUBSTRING(venue FROM {0} FOR 9223372036854775807)", "SUBSTRING(venue FROM crates FOR {0})"),
    *("CAST(venue AS VARCHAR({0}))", "CAST(cost AS DECIMAL({0}))", "CAST(cost AS DECIMAL(10, {0}))"),
    *(
        "CAST({0} AS DECIMAL(10, 2))",
        "CAST({0} AS DECIMAL(38, 30))",
        "CAST({0} AS INTEGER)",
        "CAST({0} AS REAL)",
    ),
    *("CAST({0} AS VARCHAR)", "CAST({0} AS DATE)", "CAST({0} AS TIMESTAMP)", "CAST({0} AS BOOLEAN)"),
    *(
        "COALESCE(crates, {0})",
        "NULLIF(cost, {0})",
        "crates IN ({0}, 3)",
        "weight BETWEEN SYMMETRIC {0} AND 1",
    ),
    *("CASE WHEN crates = {0} THEN {0} END", "CAST(out AS TIMESTAMP({0}))", "EXTRACT(YEAR FROM {0})"),
)


class OddNumbers(unittest.TestCase):
    def test_every_numeric_argument_is_computed_or_refused(self):
        for form in _WITH_A_NUMBER:
            for number in _ODD_NUMBERS:
                with self.subTest(form.format(number)), contextlib.suppress(UsageError, DataError):
                    values(form.format(number))


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


_CONDITIONS = st.one_of(
    st.builds(
        "t {}LIKE {}".format, st.sampled_from(["", "NOT "]), st.sampled_from(["'a%'", "'%a'", "'_'", "'!%a'"])
    ),
    st.builds(
        "t {}LIKE {} ESCAPE '!'".format,
        st.sampled_from(["", "NOT "]),
        st.sampled_from(["'a!%'", "'!_%'", "'!!a'"]),
    ),
    st.builds(
        "a {}BETWEEN {}{} AND {}".format,
        st.sampled_from(["", "NOT "]),
        st.sampled_from(["", "SYMMETRIC "]),
        *(st.sampled_from(["1", "3", "b", "NULL"]),) * 2,
    ),
    st.builds(
        "a {}IN ({}, {})".format, st.sampled_from(["", "NOT "]), *(st.sampled_from(["1", "b", "NULL"]),) * 2
    ),
    st.builds("SUBSTRING(t FROM {} FOR {}) = 'a'".format, st.integers(-3, 4), st.integers(0, 4)),
    st.builds("POSITION({} IN t) = {}".format, st.sampled_from(["'a'", "''", "'%'"]), st.integers(0, 3)),
    st.builds(
        "TRIM({} 'a' FROM t) = {}".format,
        st.sampled_from(["LEADING", "TRAILING", "BOTH"]),
        st.sampled_from(["'%'", "''"]),
    ),
    st.builds("ROUND(a + 0.5) = {}".format, st.integers(-3, 3)),
    st.builds("{}(b * 0.5) = {}".format, st.sampled_from(["FLOOR", "CEILING"]), st.integers(-3, 3)),
    st.builds("MOD(a, 3) = {}".format, st.integers(-2, 2)),
    st.builds("NULLIF(a, b) IS {}NULL".format, st.sampled_from(["", "NOT "])),
    st.builds("REPLACE(t, 'a', {}) = '%'".format, st.sampled_from(["''", "'%'"])),
    st.builds("CAST(t AS VARCHAR({})) = 'a'".format, st.integers(1, 3)),
    st.builds("CHAR_LENGTH(t || {}) = {}".format, st.sampled_from(["'x'", "NULL"]), st.integers(0, 4)),
)
_NESTED = st.recursive(
    _CONDITIONS,
    lambda inner: st.one_of(
        st.builds("NOT ({})".format, inner),
        st.builds("({} {} {})".format, inner, st.sampled_from(["AND", "OR"]), inner),
        st.builds("CASE WHEN {} THEN {} ELSE {} END".format, inner, inner, inner),
    ),
    max_leaves=4,
)
_TEXTS = st.sampled_from([None, "", "a", "a%", "!a", "ab", "ba", "%", "aa", "_a"])


class AgainstPostgres(unittest.TestCase):
    def test_conditions(self):
        import psycopg

        running = server()
        with psycopg.connect(running.owner, autocommit=True) as connection:
            connection.execute("CREATE TEMPORARY TABLE said (n integer, a bigint, b bigint, t text)")

            @given(
                st.lists(_NESTED, min_size=1, max_size=5),
                st.lists(st.tuples(_SMALL, _SMALL, _TEXTS), min_size=1, max_size=6),
            )
            def check(conditions, rows):
                connection.execute("TRUNCATE said")
                for number, row in enumerate(rows):
                    connection.execute("INSERT INTO said VALUES (%s, %s, %s, %s)", (number, *row))
                columns = ", ".join(f"({condition})" for condition in conditions)
                expected = connection.execute(f"SELECT {columns} FROM said ORDER BY n".encode()).fetchall()
                data = table(
                    a=pa.array([row[0] for row in rows], pa.int64()),
                    b=pa.array([row[1] for row in rows], pa.int64()),
                    t=pa.array([row[2] for row in rows], pa.large_string()),
                )
                for condition, column in zip(conditions, zip(*expected, strict=True), strict=True):
                    self.assertEqual(values(condition, data), list(column), condition)

            check()


if __name__ == "__main__":
    unittest.main()
