"""Values are corrected where they are seen, and rows without partner are paired by hand."""

import unittest

from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication

from keen_trellis.core.join_type import JoinType
from keen_trellis.desktop.bench.content import BLOCK
from keen_trellis.desktop.bench.lines import ROW
from keen_trellis.desktop.sentence.chooser import Chooser
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.source_settings import SourceSettings, TypedTable
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.session.selection import Selection
from tests.desktop.driving import CTRL, SHIFT, WindowCase
from tests.tables import rows_of

KEY = Qt.Key
_LOANS = (("Ebbrik House", "lamp"), ("Ebbrik House", "map"), ("Limpet Hall", "bell"), ("", "oar"))
_VENUES = (("Limpet Hall", "Islands", "A"), ("Ebbrick House", "North", "B"), ("Fenn Court", "South", "C"))


class Correcting(WindowCase):
    def setUp(self):
        super().setUp()
        flow = Flow()
        for name, fields, rows in (
            ("Loans", ("venue", "thing"), _LOANS),
            ("Venues", ("name", "region", "contact"), _VENUES),
        ):
            typed = SourceSettings("typed", typed=TypedTable(fields, rows))
            flow, _ = edits.add_source(flow, typed, name)
        links = (LinkSettings("venue", "name"),)
        self.join(flow, JoinSettings(links=links, type=JoinType.LEFT_OUTER.value, bring=("region",)))

    def join(self, flow, settings):
        flow, self.knot = edits.add_join(flow, Input("loans"), Input("venues"), settings)
        self.session.apply("begin", lambda _: flow, Selection(self.knot))
        self.rest()

    def to_row(self, text: str):
        """Stand on the first row whose line holds a text, out of whatever part it is in."""
        grid = self.window.bench.grid
        closed = {part.key for part in grid.content.parts if not grid.states.shows(part)}
        grid.states.opened |= closed
        grid.states.closed.clear()
        grid.lay_lines()
        for number in range(grid.lines.count):
            line = grid.lines.at(number)
            if line.kind == ROW:
                part, (block, place) = grid.content.parts[line.part], divmod(line.place, BLOCK)
                cells = [column[place] for column in grid.content.cells(part, block)]
                if any(text in (cell.text, cell.other and cell.other.text) for cell in cells):
                    grid.move_to(number)
                    return
        self.fail(f"no row {text}")

    @property
    def links(self):
        return KINDS.settings(self.session.flow.step(self.knot)).links

    def regions(self):
        return [row[-1] for row in rows_of(self.session.outcome(self.knot).result.rows)]

    def test_an_unmatched_row_is_paired_with_a_value_out_of_the_list(self):
        self.to_row("Ebbrik House")
        grid = self.window.bench.grid
        menu = self.right_click(grid.viewport(), QPoint(60, int(grid.line_top(grid.current)) + 10))
        self.pick_entry(menu, "Pair the row by hand…")
        self.rest(lambda: isinstance(QApplication.activePopupWidget(), Chooser))
        chooser = self.chooser()
        self.assertEqual(chooser.choices[0].text, "Ebbrick House")  # the likeliest first
        self.assertIn("North · B", chooser.choices[0].detail)
        self.assertRegex(chooser.choices[0].detail, r"9\d % alike")
        self.click(chooser.list.viewport(), chooser.list.visualItemRect(chooser.list.item(0)).center())
        self.rest()
        self.assertEqual(self.links[0].correct, (("Ebbrik House", "Ebbrick House"),))
        self.assertEqual(self.regions(), ["North", "North", "Islands", None])
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.links[0].correct, ())

    def test_with_the_keyboard_the_list_is_searched(self):
        self.to_row("Ebbrik House")
        self.window.bench.grid.setFocus()
        self.press(KEY.Key_P, modifier=CTRL | SHIFT)
        self.rest(lambda: isinstance(QApplication.activePopupWidget(), Chooser))
        self.type("court")
        self.assertEqual([choice.text for choice in self.chooser().choices], ["Fenn Court"])
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.links[0].correct, (("Ebbrik House", "Fenn Court"),))

    def test_what_cannot_be_paired_says_why(self):
        self.to_row("Limpet Hall")
        self.assertIn("has a partner", self.window.commands.why_not("pair"))
        self.to_row("oar")
        self.window.bench.correcting.pair()
        self.rest()
        self.assertIn("blank", self.window.status.shown.text())
        self.session.select(Selection("loans"))
        self.rest()
        self.assertIn("of a join", self.window.commands.why_not("pair"))

    def test_a_row_of_the_other_side_is_paired_too(self):
        self.to_row("Fenn Court")
        self.window.bench.correcting.pair()
        self.rest(lambda: isinstance(QApplication.activePopupWidget(), Chooser))
        self.type("ebb")
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.links[0].correct, (("Fenn Court", "Ebbrik House"),))
        self.assertEqual(self.regions(), ["South", "South", "Islands", None])

    def test_of_several_link_fields_one_is_asked_for(self):
        links = (LinkSettings("venue", "name"), LinkSettings("thing", "contact"))
        self.join(
            edits.remove_step(self.session.flow, self.knot),
            JoinSettings(links=links, type=JoinType.LEFT_OUTER.value),
        )
        self.to_row("lamp")
        self.window.bench.correcting.pair()
        self.rest()
        self.assertEqual([c.text for c in self.chooser().choices], ["venue with name", "thing with contact"])
        self.press(KEY.Key_Down, KEY.Key_Return)
        self.rest(lambda: isinstance(QApplication.activePopupWidget(), Chooser))
        self.assertEqual({c.text for c in self.chooser().choices}, {"A", "B", "C"})

    def test_a_value_is_read_as_another_from_here_on(self):
        self.session.select(Selection("loans"))
        self.rest()
        self.to_row("bell")
        self.window.bench.grid.setFocus()
        self.press(KEY.Key_Right)
        self.press(KEY.Key_A, modifier=CTRL | SHIFT)
        self.enter("ship's bell")
        self.rest()
        step = self.session.flow.step(self.session.selection.step)
        self.assertEqual(step.kind, "correct")
        self.assertEqual(KINDS.settings(step).pairs, (("bell", "ship's bell"),))
        self.to_row("map")  # in the same step
        self.press(KEY.Key_Right)
        self.press(KEY.Key_A, modifier=CTRL | SHIFT)
        self.enter("chart")
        self.rest()
        again = self.session.flow.step(self.session.selection.step)
        self.assertEqual(again.id, step.id)
        self.assertEqual(KINDS.settings(again).pairs, (("bell", "ship's bell"), ("map", "chart")))
        things = [row[1] for row in rows_of(self.session.outcome(step.id).result.rows)]
        self.assertEqual(things, ["lamp", "chart", "ship's bell", "oar"])


if __name__ == "__main__":
    unittest.main()
