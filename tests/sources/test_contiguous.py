"""Large cache files in one piece: the same rows, whatever their types, blanks and batches."""

import datetime as dt
import tempfile
import unittest
from decimal import Decimal
from pathlib import Path
from unittest import mock

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.task import Task
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.sources import contiguous
from keen_trellis.sources.cache import Cache, write
from keen_trellis.sources.library import Library
from tests import demo_data

_KINDS = (
    (pa.large_string(), st.text(max_size=5)),
    (pa.int64(), st.integers(-(2**63), 2**63 - 1)),
    (pa.int32(), st.integers(-5, 5)),
    (pa.float64(), st.floats(allow_nan=False)),
    (pa.bool_(), st.booleans()),
    (pa.date32(), st.dates()),
    (pa.time64("us"), st.times()),
    (pa.timestamp("us"), st.datetimes()),
    (
        pa.decimal128(38, 2),
        st.integers(-999, 999).map(lambda n: Decimal(n) / 4).map(lambda d: d.quantize(Decimal("0.01"))),
    ),
    (pa.decimal256(50, 0), st.integers(-9, 9).map(Decimal)),
)


@st.composite
def tables(draw):
    """Tables of several batches, some of them empty, some slices of larger ones."""
    sizes = draw(st.lists(st.integers(0, 11), min_size=2, max_size=4))
    columns = {}
    for number, (kind, values) in enumerate(_KINDS):
        chunks = []
        for size in sizes:
            cells = draw(st.lists(st.one_of(st.none(), values), min_size=size + 2, max_size=size + 2))
            chunks.append(pa.array(cells, kind).slice(1, size))
        columns[f"c{number}"] = pa.chunked_array(chunks, kind)
    return pa.table(columns)


class InOnePiece(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.enterContext(mock.patch.object(contiguous, "LARGE", 0))

    @given(tables())
    def test_the_rows_are_the_same(self, table):
        draft = self.folder / "rows.arrow"
        write(table, draft)
        made = contiguous.in_one_piece(draft, self.folder)
        found = pa.ipc.open_file(pa.memory_map(str(made))).read_all()
        found.validate(full=True)
        self.assertEqual(found.to_pydict(), table.to_pydict())
        self.assertEqual(found.schema, table.schema)
        if table.num_rows:
            self.assertEqual({column.num_chunks for column in found.columns}, {1})
        self.assertEqual([path.name for path in self.folder.iterdir()], [made.name])
        made.unlink()

    def test_a_file_is_read_as_before(self):
        path = self.folder / "many.csv"
        day = dt.date(2026, 1, 1)
        path.write_text(
            "loan,day,value\n"
            + "".join(f"L{n},{day + dt.timedelta(n % 90)},{n % 7 or ''}\n" for n in range(200_000))
        )
        found = []
        for large in (0, 2**40):
            with mock.patch.object(contiguous, "LARGE", large):
                library = Library(Cache(self.folder / f"cache {large}"))
                found.append(library.get(SourceSettings("text", str(path)), Task()).table)
        for name in found[0].names:
            self.assertTrue(found[0].column(name).values.equals(found[1].column(name).values), name)
        self.assertEqual(found[0].fields, found[1].fields)
        workbook = SourceSettings("workbook", str(demo_data.folder() / "loans-2026.xlsx"), "Loans")
        self.assertEqual(Library(Cache(self.folder / "cache 0")).get(workbook, Task()).table.rows, 8352)


if __name__ == "__main__":
    unittest.main()
