"""What the bench shows, without a window."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.link import LinkField
from keen_trellis.core.matching import match
from keen_trellis.core.ragged import laid_out
from keen_trellis.core.task import Task
from keen_trellis.desktop.kinds.join_rows import knot_content
from keen_trellis.flow.kinds import InputShape, StepResult
from keen_trellis.flow.mending import explained
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from tests.tables import table

KEYS = st.lists(st.sampled_from(["a", "b", "c", None]), max_size=12)


class RepeatedKeys(unittest.TestCase):
    @given(KEYS, KEYS)
    def test_their_pairs_are_shown_as_they_follow_without_being_listed(self, ours, theirs):
        left = table(key=[*ours, "a"], no=list(range(len(ours) + 1)))
        right = table(key=[*theirs, "a", "a"], number=list(range(len(theirs) + 2)))
        found = match(left, right, [LinkField("key", "key")], Task())
        settings = JoinSettings(links=(LinkSettings("key", "key"),), type="left-outer")
        told = explained(settings, left, right, found, Task())
        shapes = [InputShape("Loans", left.fields), InputShape("Venues", right.fields)]
        content = knot_content(settings, shapes, left, right, StepResult({}, match=found), told)
        parts = [part for part in content.parts if part.reason is not None and part.reason.kind.multiplies]
        self.assertTrue(parts)
        for part in parts:
            rows = part.reason.row_numbers
            first = found.first_pair_of_left
            row, nth = laid_out(first[rows + 1] - first[rows])
            listed = found.pair_rows(first[rows][row] + nth)
            self.assertEqual(part.rows.count, len(row))
            for shown, expected in zip(part.sides(np.arange(part.rows.count)), listed, strict=True):
                self.assertEqual(shown.tolist(), expected.tolist())
            for place, (one, other) in enumerate(zip(*listed, strict=True)):
                self.assertEqual(part.rows.place_of(int(one), int(other)), place)
            self.assertIsNone(part.rows.place_of(len(left.fields) + 100, 0))
            self.assertIsNone(part.rows.place_of(-1, 0))


if __name__ == "__main__":
    unittest.main()
