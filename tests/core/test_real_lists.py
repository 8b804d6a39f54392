"""Reasons on lists of the real world: of what is kept from one side every partner that is found is wrong."""

import unittest

from benchmarks.real_lists import AIM, found_again, judged, lists

# Those that are quick, and hard: dense codes, short codes, names that differ by an accent or a space.
_LISTS = (
    "language codes",
    "country codes, 2 letters",
    "airport codes, local",
    "subdivision names",
    "county names",
)


class RealLists(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.lists = {name: values for name, values in lists() if name in _LISTS}

    def test_what_is_absent_gets_hardly_ever_a_partner_unseen(self):
        self.assertEqual(set(self.lists), set(_LISTS))
        found = [judged(values, seed=7) for values in self.lists.values()]
        absent, wrong = (sum(getattr(entry, what) for entry in found) for what in ("absent", "wrong"))
        self.assertGreater(absent, 5_000)
        self.assertLessEqual(wrong, AIM * absent, [entry.examples for entry in found])
        self.assertGreater(sum(entry.offered for entry in found), 0)

    def test_what_is_written_otherwise_is_still_found(self):
        found = [found_again(values, seed=7) for values in self.lists.values()]
        planted, hits = (sum(part) for part in zip(*found, strict=True))
        self.assertGreater(planted, 1_000)
        self.assertGreater(hits, 0.9 * planted)
