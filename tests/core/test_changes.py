import datetime as dt
import unittest
from collections import Counter

from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.insight.changes import FieldChange, FieldChangeKind, changes
from tests.tables import table

KIND = FieldChangeKind


class ByKey(unittest.TestCase):
    def setUp(self):
        self.before = table(
            no=["a", "b", "c", "d"], n=[1, 2, 3, None], on=[dt.date(2026, 1, day) for day in (1, 2, 3, 4)]
        )

    def test_rows_added_gone_and_changed(self):
        after = table(
            no=["d", "e", "c", "a"], n=[4, 5, 3, 1], on=[dt.date(2026, 1, day) for day in (4, 5, 9, 1)]
        )
        found = changes(self.before, after)
        self.assertEqual(found.key, ("no",))
        self.assertEqual((found.added.tolist(), found.gone.tolist()), ([1], [1]))
        self.assertEqual([rows.tolist() for rows in found.changed], [[2, 3], [2, 0]])
        self.assertEqual(found.by_field, (("n", 1), ("on", 1)))

    def test_nothing_changed(self):
        found = changes(self.before, self.before)
        self.assertFalse(found)
        self.assertEqual((found.rows_before, found.rows_after), (4, 4))

    def test_a_given_key_is_tried_first(self):
        before, after = table(a=[1, 2, 3], b=["x", "y", "z"]), table(a=[3, 2, 1], b=["x", "y", "z"])
        self.assertEqual(changes(before, after, [["b"]]).key, ("b",))
        self.assertEqual(changes(before, after, [["b"]]).by_field, (("a", 2),))
        self.assertFalse(changes(before, table(a=[3, 1, 2], b=["z", "x", "y"]), [["a", "b"]]))

    def test_a_key_that_repeats_is_none(self):
        before, after = table(a=["x", "x"], b=[1, 2]), table(a=["x", "x"], b=[1, 3])
        found = changes(before, after, [["a"]])
        self.assertEqual((found.key, found.by_field), (("b",), ()))

    def test_fields(self):
        after = table(
            no=["a", "b", "c", "d"],
            on=[str(day) for day in (1, 2, 3, 4)],
            count=[1, 2, 3, None],
            more=[1, 1, 1, 1],
        )
        found = changes(self.before, after)
        self.assertEqual(
            found.fields,
            (
                FieldChange(KIND.RENAMED, "n", "count"),
                FieldChange(KIND.RETYPED, "on", "text", "date"),
                FieldChange(KIND.ADDED, "more"),
            ),
        )
        self.assertEqual(str(found.fields[0]), "n is called count now")
        gone = changes(self.before, table(no=["a", "b", "c", "d"], n=[1, 2, 3, None]))
        self.assertEqual(gone.fields, (FieldChange(KIND.GONE, "on"),))

    def test_values_of_another_kind_of_number_are_the_same(self):
        self.assertFalse(changes(table(k=["a", "b"], n=[1, 2]), table(k=["a", "b"], n=[1.0, 2.0])).by_field)
        nan = float("nan")
        self.assertFalse(changes(table(k=["a"], n=[nan]), table(k=["a"], n=[nan])))


class WithoutKey(unittest.TestCase):
    def test_repeated_rows_are_counted(self):
        before, after = (
            table(v=["x", "x", None, "y"], n=[1, 1, 2, 2]),
            table(v=["x", None, None, "z"], n=[1, 2, 2, 2]),
        )
        found = changes(before, after)
        self.assertEqual((found.key, found.gone.tolist(), found.added.tolist()), ((), [1, 3], [2, 3]))

    @given(*[st.lists(st.tuples(st.sampled_from("ab"), st.sampled_from([None, 1, 2])), max_size=12)] * 2)
    def test_counts_are_those_of_multisets(self, old, new):
        before, after = (
            table(v=[row[0] for row in rows] + ["a", "a"], n=[row[1] for row in rows] + [1, 1])
            for rows in (old, new)
        )
        found = changes(before, after)
        self.assertEqual(found.key, ())
        old, new = old + [("a", 1)] * 2, new + [("a", 1)] * 2
        self.assertEqual(Counter(new[row] for row in found.added), Counter(new) - Counter(old))
        self.assertEqual(Counter(old[row] for row in found.gone), Counter(old) - Counter(new))

    @given(st.data())
    def test_rows_that_are_not_the_same_are_found_again_by_a_key_that_nearly_tells_all_apart(self, data):
        # Keys 0 to 59, some rows twice as a join makes them; a few are taken out, put in, or changed.
        numbers = st.integers(0, 59)
        twice = data.draw(st.sets(numbers, min_size=1, max_size=2))
        gone, changed = (data.draw(st.sets(numbers, max_size=6)) - twice for _ in range(2))
        added = data.draw(st.sets(st.integers(60, 99), max_size=6))
        changed -= gone
        old = [(key, key % 7) for key in [*range(60), *twice]]
        new = [(key, n + 100 * (key in changed)) for key, n in old if key not in gone]
        new += [(key, 1) for key in added]
        new = data.draw(st.permutations(new))
        found = changes(
            *(table(key=[row[0] for row in rows], n=[row[1] for row in rows]) for rows in (old, new))
        )
        self.assertEqual({old[row][0] for row in found.gone}, gone)
        self.assertEqual({new[row][0] for row in found.added}, added)
        self.assertEqual({old[row][0] for row in found.changed[0]}, changed)
        self.assertEqual([old[row][0] for row in found.changed[0]], [new[row][0] for row in found.changed[1]])
        self.assertEqual(found.by_field, (("n", len(changed)),) if changed else ())


if __name__ == "__main__":
    unittest.main()
