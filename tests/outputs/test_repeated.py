from unittest import main, mock

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.choosing import Chosen, chosen_fields, with_fields
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import LinkField
from keen_trellis.core.matching import match
from keen_trellis.core.table import ArrowTable, ChosenRows
from keen_trellis.core.task import Task
from keen_trellis.outputs import repeated
from tests.outputs.test_formats import FormatCase
from tests.tables import joined

_KEYS = st.lists(st.sampled_from([1, 2, 3, 4, None]), max_size=14)
_TEXT = st.sampled_from(["pier", "a, b", 'the "Mill"', "=1+1", "-2", "é", "none", "two\nlines", None])
_LENDERS = st.lists(
    st.tuples(_TEXT, st.decimals(-9, 9, places=2) | st.none(), st.dates() | st.none(), st.floats()),
    max_size=3,
)


def _right(rows):
    columns = list(zip(*rows, strict=True)) or [[]] * 4
    kinds = (pa.large_string(), pa.decimal128(9, 2), pa.date32(), pa.float64())
    arrays = [pa.array(column, kind) for column, kind in zip(columns, kinds, strict=True)]
    return ArrowTable(pa.table([pa.array(range(1, len(rows) + 1), pa.int64()), *arrays], list("kdefg")))


def _joined(left, right, kind):
    links = [LinkField("a", "k")]
    return joined(left, right, match(left, right, links), links, kind)


class WrittenOnce(FormatCase):
    """What is written once for many rows comes out as what is written row by row."""

    @given(
        _KEYS,
        _LENDERS,
        st.sampled_from([JoinType.LEFT_OUTER, JoinType.FULL_OUTER, JoinType.INNER]),
        st.sampled_from(
            [
                ("a.csv", {}),
                ("a.csv", {"harmless": False, "quotation": "all", "no_partner": "none"}),
                ("a.csv", {"blank": "nil", "delimiter": "-", "dates": "dd.mm.yyyy"}),
                ("a.csv", {"blank": "nil", "no_partner": "none", "quotation": "text", "decimal": ","}),
                ("a.jsonl", {"no_partner": "none"}),
                ("a.json", {}),
            ]
        ),
        st.permutations("nabdefg"),
        st.integers(1, 7),
    )
    def test_as_row_by_row(self, keys, rows, kind, target, order, count):
        left = ArrowTable(
            pa.table(
                {
                    "n": pa.array(range(len(keys)), pa.int64()),
                    "a": pa.array(keys, pa.int64()),
                    "b": pa.array([f"L-{key}" for key in keys], pa.large_string()),
                }
            )
        )
        found = _joined(left, _right(rows), kind)
        turned = ChosenRows(found, pa.array(range(found.rows - 1, -1, -1), pa.int64()).to_numpy())
        plan = chosen_fields(turned.fields, [Chosen(name, f"{name} shown") for name in order[:count]])
        chosen = with_fields(turned, plan, Task())
        name, settings = target
        once, said = self.write(chosen, name, **settings)
        content = once.read_bytes()
        with mock.patch.object(repeated, "_OFTEN", 10**9):
            plainly, said_plainly = self.write(chosen, f"plain-{name}", **settings)
        self.assertEqual((content, said), (plainly.read_bytes(), said_plainly))

    def test_only_smaller_tables_are_written_once_and_only_so_much_of_them(self):
        left = ArrowTable(pa.table({"a": pa.array([1, 2, 3, 2, 1, 1], pa.int64())}))
        right = _right([("pier", None, None, 1.0)] * 3)
        found = _joined(left, right, JoinType.LEFT_OUTER)
        with mock.patch.object(repeated, "_written", side_effect=repeated._written, autospec=True) as written:
            self.write(found, "a.csv")
            self.assertEqual(
                [[field.name for field in call.args[1]] for call in written.mock_calls], [list("kdefg")]
            )
            with mock.patch.object(repeated, "_MOST_BYTES", 20):
                path, _ = self.write(found, "b.csv")
        self.assertEqual(path.read_bytes(), (self.folder / "a.csv").read_bytes())


if __name__ == "__main__":
    main()
