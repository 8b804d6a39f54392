"""All join types side by side, against the joined tables themselves."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.join_type import QUESTION_TYPES, JoinType
from keen_trellis.core.joining import JoinedTable
from keen_trellis.core.link import Take
from keen_trellis.core.matching import match
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.side_by_side import side_by_side
from keen_trellis.flow.steps.join import JoinKind, JoinSettings, LinkSettings
from tests.tables import table

_KEYS = st.lists(st.sampled_from(["a", "b", "c", None]), max_size=6)


def compared(left, right, *, take="every"):
    """The lines of two tables matched by k = q, and each type's joined table."""
    one = table(k=left, n=[f"l{at}" for at in range(len(left))])
    other = table(q=right, m=[f"r{at}" for at in range(len(right))])
    settings = JoinSettings(links=(LinkSettings("k", "q"),), type="inner", take=take)
    shapes = [InputShape("Loans", one.fields), InputShape("Objects", other.fields)]
    found = match(one, other, settings.link_fields, take=Take.named(take))
    shown = side_by_side(settings, shapes, one, other, found)
    tables = {
        kind: JoinedTable(one, other, found, kind, JoinKind().plan(settings, shapes, kind))
        for kind in QUESTION_TYPES
    }
    return shown, tables


class Lines(unittest.TestCase):
    @given(_KEYS, _KEYS, st.sampled_from(["every", "first", "pair-off"]))
    def test_every_number_is_that_of_the_table_itself(self, left, right, take):
        shown, tables = compared(left, right, take=take)
        for line in shown.lines:
            found = tables[line.join_type]
            self.assertEqual(line.rows, found.rows)
            absent = {name: found.column(name).absent for name in found.names}
            empty = sum(int(mask.sum()) for mask in absent.values() if mask is not None)
            self.assertEqual(line.empty, empty, line.join_type)
            for name, all_rows, lost in (("n", len(left), line.lost[0]), ("m", len(right), line.lost[1])):
                there = set(found.column(name).values.to_pylist()) - {None} if name in found.names else set()
                self.assertEqual(lost, all_rows - len(there), (line.join_type, name))

    @given(_KEYS, _KEYS)
    def test_types_said_to_be_alike_have_the_same_rows(self, left, right):
        shown, tables = compared(left, right)
        by_name = {kind.trade_name: kind for kind in QUESTION_TYPES}
        for line in shown.lines:
            if line.alike:
                other = by_name[line.alike.removeprefix("today the same as ").partition(";")[0]]
                self.assertEqual(tables[line.join_type].rows, tables[other].rows)

    def test_what_would_make_types_differ_is_said(self):
        shown, _ = compared(["a"], ["a", "b"])
        said = {line.join_type: line.alike for line in shown.lines}
        self.assertEqual(
            said[JoinType.INNER],
            "today the same as left outer join; a loan without an object would make them differ",
        )
        self.assertEqual(said[JoinType.FULL_OUTER], "")
        self.assertIn("full outer join", said[JoinType.RIGHT_OUTER])

    def test_examples_of_each_band(self):
        shown, _ = compared(["a", "x", "y", "z", "v"], ["a", "q"])
        self.assertEqual(shown.examples, (("x", "y", "z"), ("a",), ("q",)))
        by_type = {line.join_type: line.fates for line in shown.lines}
        self.assertEqual(by_type[JoinType.LEFT_SEMI], ("left out", "each loan once", "left out"))
        self.assertEqual(by_type[JoinType.FULL_OUTER], ("kept", "every pair", "kept"))


if __name__ == "__main__":
    unittest.main()
