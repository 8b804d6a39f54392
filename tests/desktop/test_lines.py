import unittest

from keen_trellis.desktop.bench.content import FEW, Band, Content, Part, Rows
from keen_trellis.desktop.bench.lines import BAND, MORE, PART, ROW, Line, Lines, OpenStates
from tests.tables import table


class Many(Rows):
    """Rows that are only counted."""

    def sides(self, places):
        return places, places


def content(*bands: tuple[str, list[tuple[str, int]]]) -> Content:
    made = [
        Band(key, key, [Part(name, name if len(parts) > 1 else "", Many(count)) for name, count in parts])
        for key, parts in bands
    ]
    return Content([], made, table(a=[1]))


class LinesOfBands(unittest.TestCase):
    def setUp(self):
        self.content = content(("lost", [("lost", 3)]), ("found", [("mended", 10**9), ("written", 0)]))

    def kinds(self, states: OpenStates) -> list[str]:
        lines = Lines(self.content, states)
        return [lines.at(number).kind for number in range(lines.count)]

    def test_few_rows_are_all_shown_and_many_only_begun(self):
        expected = [BAND, ROW, ROW, ROW, BAND, PART, *[ROW] * FEW, MORE, PART]
        self.assertEqual(self.kinds(OpenStates()), expected)

    def test_closed_bands_and_parts_show_their_heads(self):
        self.assertEqual(self.kinds(OpenStates(closed={"lost", "mended"})), [BAND, BAND, PART, PART])
        self.assertEqual(self.kinds(OpenStates(closed={"lost", "found"})), [BAND, BAND])

    def test_a_thousand_million_rows_cost_nothing(self):
        lines = Lines(self.content, OpenStates(whole={"mended"}))
        self.assertEqual(lines.count, 10**9 + 8)
        self.assertEqual(lines.at(6 + 123_456_789), Line(ROW, 1, 1, 123_456_789))
        self.assertEqual(lines.row(1, 10**9 - 1), 10**9 + 5)
        self.assertEqual(lines.at(10**9 + 6).kind, MORE)

    def test_rows_that_are_not_shown_have_no_line(self):
        lines = Lines(self.content, OpenStates())
        self.assertEqual(lines.row(1, FEW - 1), 6 + FEW - 1)
        self.assertIsNone(lines.row(1, FEW))

    def test_heads_are_found_forwards_and_backwards(self):
        lines = Lines(self.content, OpenStates())
        self.assertEqual([lines.next_head(number, 1) for number in (0, 3, 4, 12)], [4, 4, 5, None])
        self.assertEqual([lines.next_head(number, -1) for number in (0, 3, 6)], [None, 0, 5])
        self.assertEqual(lines.head(Line(ROW, 1, 1, 0)), 4)


if __name__ == "__main__":
    unittest.main()
