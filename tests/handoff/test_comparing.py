"""Rows that are compared as lines, and rows that come back as text: alone, on odd values."""

import csv
import datetime as dt
import io
import math
import unittest
from collections import Counter
from decimal import Decimal

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.table import Field
from keen_trellis.handoff.fetched import columns_of_text
from keen_trellis.handoff.proving import apart, as_lines

_TEXTS = st.one_of(st.none(), st.text(alphabet="abv\x1f\x1e ,\"'", max_size=4))
_ROWS = st.lists(st.tuples(_TEXTS, _TEXTS), max_size=8)
_FIELDS = (Field("one", pa.large_string()), Field("other", pa.large_string()))
_TYPES = {
    "text": pa.large_string(),
    "integer": pa.int64(),
    "real": pa.float64(),
    "decimal": pa.decimal128(38, 2),
    "day": pa.date32(),
    "moment": pa.timestamp("us"),
    "time": pa.time64("us"),
    "whether": pa.bool_(),
}


def table(rows):
    columns = list(zip(*rows, strict=True)) or [(), ()]
    return pa.table(
        {field.name: pa.array(c, field.arrow_type) for field, c in zip(_FIELDS, columns, strict=True)}
    )


class Lines(unittest.TestCase):
    @given(_ROWS, _ROWS)
    def test_rows_differ_if_and_only_if_their_lines_do(self, here, there):
        lines = [as_lines(table(rows), _FIELDS) for rows in (here, there)]
        self.assertEqual(
            Counter(here) == Counter(there), Counter(lines[0].to_pylist()) == Counter(lines[1].to_pylist())
        )
        more = Counter(here)
        more.subtract(Counter(there))
        only_here, only_there = apart(*lines)
        self.assertEqual(len(only_here), min(5, sum(count > 0 for count in more.values())))
        self.assertEqual(len(only_there), min(5, sum(count < 0 for count in more.values())))

    def test_one_zero_and_one_nan(self):
        fields = (Field("x", pa.float64()),)
        one, other = (
            pa.table({"x": pa.array(v, pa.float64())}) for v in ([0.0, math.nan], [-0.0, -math.nan])
        )
        self.assertTrue(as_lines(one, fields).equals(as_lines(other, fields)))


class Fetched(unittest.TestCase):
    def test_each_type_comes_back(self):
        rows = [
            (
                "",
                2**63 - 1,
                0.1,
                Decimal("-0.05"),
                dt.date(1, 1, 1),
                dt.datetime(2026, 1, 2, 3, 4, 5, 6),
                dt.time(9),
                True,
            ),
            (
                'a "b"\n,',
                -(2**63),
                -math.inf,
                Decimal("1" * 36 + ".25"),
                dt.date(9999, 12, 31),
                dt.datetime(1900, 1, 1),
                dt.time(23, 59, 59, 999999),
                False,
            ),
            (None,) * 8,
            ("\\N", 0, math.nan, Decimal("0.00"), None, None, None, None),
        ]
        written = io.StringIO()
        for row in rows:
            cells = [_cell(value) for value in row]
            written.write(",".join(cells) + "\n")
        fields = [Field(name, kind) for name, kind in _TYPES.items()]
        found = columns_of_text(io.BytesIO(written.getvalue().encode()), fields)
        self.assertEqual([str(kind) for kind in found.schema.types], [str(kind) for kind in _TYPES.values()])
        got = [tuple(row.values()) for row in found.to_pylist()]
        for one, other in zip(rows, got, strict=True):
            for value, back in zip(one, other, strict=True):
                self.assertTrue(value == back or (value != value and back != back), (value, back))

    def test_no_rows_and_one_blank_row(self):
        fields = [Field("x", pa.large_string())]
        self.assertEqual(columns_of_text(io.BytesIO(b""), fields).num_rows, 0)
        self.assertEqual(columns_of_text(io.BytesIO(b"\n"), fields).to_pylist(), [{"x": None}])


def _cell(value):
    """A cell as the server writes it: quoted where it must be, or where it is empty and not blank."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "t" if value else "f"
    if isinstance(value, float) and math.isinf(value):
        return "Infinity" if value > 0 else "-Infinity"
    if isinstance(value, float) and math.isnan(value):
        return "NaN"
    text = value.isoformat(" ") if isinstance(value, dt.datetime) else str(value)
    out = io.StringIO()
    csv.writer(out, quoting=csv.QUOTE_ALL if text == "" else csv.QUOTE_MINIMAL, lineterminator="").writerow(
        [text]
    )
    return out.getvalue()


if __name__ == "__main__":
    unittest.main()
