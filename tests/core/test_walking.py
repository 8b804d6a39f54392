"""Tables that point to themselves, walked to the top, against a walk row by row."""

import unittest

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.core.walking import Walk, circles_in, walked, walked_fields
from tests.tables import rows_of, table

WALK = Walk("part", "key", "level", "path", "top", ("name",))


def tree(wholes) -> ArrowTable:
    """Rows called a, b, c and so on, each part of the one at the place that is said."""
    keys = [chr(97 + number) for number in range(len(wholes))]
    parts = [None if whole is None else chr(97 + whole) for whole in wholes]
    names = [key.upper() for key in keys]
    columns = {"key": keys, "part": parts, "name": names}
    return ArrowTable(
        pa.table({name: pa.array(column, pa.large_string()) for name, column in columns.items()})
    )


def walk_of(keys, parts, row):
    """The rows from one up to its top, None where it goes round."""
    way = [row]
    while parts[way[-1]] in keys:
        above = keys.index(parts[way[-1]])
        if above in way:
            return None
        way.append(above)
    return way


class Walking(unittest.TestCase):
    @given(st.lists(st.integers(0, 12) | st.none(), max_size=12))
    def test_it_is_what_a_walk_row_by_row_finds(self, wholes):
        source = tree(wholes)
        keys, parts, names = (source.column(name).values.to_pylist() for name in ("key", "part", "name"))
        ways = [walk_of(keys, parts, row) for row in range(len(keys))]
        wanted = [
            (None, None, None, None)
            if way is None
            else (len(way) - 1, " / ".join(keys[row] for row in reversed(way)), keys[way[-1]], names[way[-1]])
            for way in ways
        ]
        made = walked(source, WALK, Task())
        self.assertEqual([row[3:] for row in rows_of(made.table)], wanted)
        self.assertEqual(made.circles.tolist(), [row for row, way in enumerate(ways) if way is None])
        self.assertEqual(made.lost, sum(part is not None and part not in keys for part in parts))
        self.assertEqual(made.table.fields, walked_fields(source.fields, WALK))

    @given(st.lists(st.integers(0, 12) | st.none(), max_size=12))
    def test_from_the_top_down_each_whole_is_before_its_parts_and_these_are_together(self, wholes):
        source = tree(wholes)
        keys, parts = (source.column(name).values.to_pylist() for name in ("key", "part"))
        ways = [walk_of(keys, parts, row) for row in range(len(keys))]
        whole = [row for row, way in enumerate(ways) if way is not None]
        # As a book's contents: by the places from the top down.
        wanted = sorted(whole, key=lambda row: list(reversed(ways[row])))
        wanted += [row for row, way in enumerate(ways) if way is None]
        down = Walk("part", "key", "level", top_down=True)
        found = [row[0] for row in rows_of(walked(source, down, Task()).table)]
        self.assertEqual(found, [keys[row] for row in wanted])

    def test_a_chain_of_many_is_walked_quickly_and_its_path_refused(self):
        count = 200_000
        source = table(key=list(range(count)), part=[None, *range(count - 1)])
        made = walked(source, Walk("part", "key", "level", "", "top"), Task()).table
        self.assertEqual(rows_of(made)[-1][2:], (count - 1, 0))
        with self.assertRaisesRegex(TrellisError, "A path would lead through 200,000 rows"):
            walked(source, Walk("part", "key", path="path"), Task())

    def test_of_several_wholes_the_first_is_taken_and_said(self):
        source = table(key=["a", "a", "b"], part=[None, None, "a"], name=["one", "two", "b"])
        made = walked(source, WALK, Task())
        self.assertEqual((made.twice, rows_of(made.table)[2][3:]), (1, (1, "a / b", "a", "one")))

    def test_a_new_field_leads_back_to_what_it_is_made_of(self):
        source = tree([None, 0])
        made = walked(source, WALK, Task()).table
        self.assertEqual(made.read_from("name of the top"), [(source, n) for n in ("name", "part", "key")])
        self.assertEqual(made.rows_from(source, np.array([1])).tolist(), [1])

    def test_what_cannot_be_walked_is_refused(self):
        fields = table(key=["a"], part=["b"], n=[1]).fields
        for walk, said in (
            (Walk("", "key"), "not said which field"),
            (Walk("key", "key"), "points to itself"),
            (Walk("part", "n"), "they can never be equal"),
            (Walk("part", "x"), "There is no field “x”"),
            (Walk("part", "key", level="n"), "There is a field “n” already"),
            (Walk("part", "key", bring=("x",)), "There is no field “x”"),
        ):
            with self.assertRaises(TrellisError) as caught:
                walked_fields(fields, walk)
            self.assertIn(said, str(caught.exception))


class Circles(unittest.TestCase):
    @given(st.lists(st.integers(-1, 9), min_size=1, max_size=10))
    def test_each_circle_is_told_row_by_row(self, points):
        points = [point if point < len(points) else -1 for point in points]
        names = [str(number) for number in range(len(points))]
        rows = table(part=[names[p] if p >= 0 else None for p in points], whole=names)
        found = circles_in(rows, Walk("part", "whole"), Task()).tolist()
        wanted, seen = [], set()
        for row in range(len(points)):
            way, at = [], row
            while at >= 0 and at not in way:
                way.append(at)
                at = points[at]
            if at == row and row not in seen:  # it leads back to where it began
                wanted += way
                seen |= set(way)
        self.assertEqual(found, wanted)
