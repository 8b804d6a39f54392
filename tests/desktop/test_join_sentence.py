"""What the sentence of a join offers beyond equal fields, chosen with real clicks and keys."""

import unittest

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication

from keen_trellis.core.join_type import JoinType
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps.blend import BlendMeasure, BlendSettings, OtherSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings, MergeSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.session import editing
from keen_trellis.session.selection import Selection
from tests.desktop.driving import CTRL, WindowCase

KEY = Qt.Key
_LOANS = "loan,object,venue,value,note\nL-1,lcm.1,Pier,500,a\nL-2,LCM.2,Pier,1500,\nL-3,LCM.O3,Mill,900,c\n"
_OBJECTS = (
    "accession,year,from,note\nLCM.1,2020,400,x\nLCM.1,2024,600,y\nLCM.2,2021,700,z\nLCM.03,2019,100,c\n"
)


class JoinCase(WindowCase):
    def setUp(self):
        super().setUp()
        flow, ids = Flow(), []
        for name, content in (("Loans", _LOANS), ("Objects", _OBJECTS)):
            path = self.folder / f"{name.lower()}.csv"
            path.write_text(content)
            flow, step = edits.add_source(flow, SourceSettings("text", str(path)), name)
            ids.append(Input(step))
        self.inputs = ids
        links = (LinkSettings("object", "accession"),)
        self.flow, self.knot = edits.add_join(flow, *ids, JoinSettings(links=links, type="left-outer"))
        self.session.apply("open", lambda _: self.flow, Selection(self.knot))
        self.rest()

    @property
    def settings(self) -> JoinSettings:
        return editing.join_settings(self.session, self.knot)

    @property
    def counts(self):
        return self.session.outcome(self.knot).result.match.counts


class Links(JoinCase):
    def test_another_operator(self):
        self.choose("Link field of Loans", "value")
        self.choose("Link field of Objects", "from")
        self.choose("Operator", "above")
        self.assertEqual(self.settings.links[0].operator, ">")
        self.assertIn("Match value of Loans above from of Objects", self.sentence)
        self.assertEqual(self.counts.pairs, 10)
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.settings.links[0].operator, "=")

    def test_preparations_and_what_is_compared_as(self):
        self.tick("Preparation", "ignore case", "ignore leading zeros")
        self.assertEqual(self.settings.links[0].ignore, ("case", "leading-zeros"))
        self.assertEqual(self.counts.left_matched, 2)
        self.tick("Preparation", "compare as number")
        self.assertEqual(self.settings.links[0].compare_as, "number")
        self.assertIn("as number, ignoring case and leading zeros", self.sentence)
        self.assertEqual(self.counts.left_lost, 3)
        self.tick("Preparation", "compare as text", "a blank matches a blank")
        link = self.settings.links[0]
        self.assertEqual((link.compare_as, link.blank_matches_blank), ("text", True))
        self.assertIn("blank matches blank", self.sentence)

    def test_corrections_are_pasted_and_taken_away(self):
        self.tick("Preparation", "correct single values …")
        self.enter("LCM.O3\tLCM.03\nlcm.1 → LCM.1\n", lines=True)
        self.assertEqual(self.settings.links[0].correct, (("LCM.O3", "LCM.03"), ("lcm.1", "LCM.1")))
        self.assertEqual((self.counts.left_matched, self.counts.left_as_written), (3, 1))
        self.click(self.chip("Corrections"))
        self.enter("no pair", lines=True)
        entry = QApplication.activePopupWidget()
        self.assertIn("is not a pair", entry.said.text())
        self.press(KEY.Key_Escape)
        self.tick("Preparation", "correct single values …")
        self.assertEqual(self.settings.links[0].correct, ())

    def test_an_expression_in_place_of_a_field(self):
        self.choose("Link field of Loans", "an expression …")
        self.enter("UPPER(objct)")
        self.assertIn("There is no field “objct”", QApplication.activePopupWidget().said.text())
        self.enter("UPPER(object)")
        self.assertTrue(self.settings.links[0].left_is_expression)
        self.assertEqual(self.counts.left_matched, 2)
        self.assertEqual(self.bands[0], "Unmatched Loans · 1 row")
        self.assertIn("Match UPPER(object) of Loans", self.sentence)

    def test_any_of_several(self):
        self.click(self.chip("More"))
        self.pick("value")
        self.pick("from")
        self.rest()
        self.assertEqual(self.counts.pairs, 0)
        self.choose("All or any", "or")
        self.assertTrue(self.settings.any_of)
        self.assertEqual(self.counts.pairs, 1)


class Takes(JoinCase):
    def test_taking_one_of_several_passes_the_others_over(self):
        self.tick("Preparation", "ignore case")
        self.assertIn("Each loan takes every match", self.sentence)
        self.choose("Take", "the match with the maximum", "year")
        self.assertEqual(self.settings.take, "greatest:year")
        self.assertEqual((self.counts.pairs, self.counts.right_passed_over), (2, 1))
        self.assertIn("Passed over · 1 object with a match", self.bands)
        self.choose("Take", "its one match")
        self.assertIn("must match one at most", self.sentence)
        self.assertIn("“lcm.1”", self.bench_text())
        self.choose("Take", "the first match")
        self.assertEqual(self.settings.take, "first")

    def test_swapping_the_sides_takes_every_match_and_says_so(self):
        said = []
        self.session.said.connect(said.append)
        editing.change_join(self.session, self.knot, "take", take="greatest:year")
        self.rest()
        self.press(KEY.Key_T, modifier=CTRL)
        self.rest()
        self.assertEqual(self.settings.take, "every")
        self.assertIn("every match is taken now", said[-1])
        self.assertIsNone(self.session.outcome(self.knot).error)

    def test_a_field_of_both_is_made_one_and_says_where_they_disagree(self):
        self.tick(
            "Fields of Objects",
            "make “note” of both sides one field, Loans first",
            "add a field “partner found”",
        )
        self.assertEqual(self.settings.merge, (MergeSettings("note", "left"),))
        self.assertTrue(self.settings.partner_found)
        self.tick("Preparation", "ignore case")
        self.assertIn("note is one field: 2 pairs disagree, Loans is shown.", self.sentence)
        names = self.session.outcome(self.knot).result.rows.names
        self.assertEqual(names, ("loan", "object", "venue", "value", "note", "year", "from", "partner found"))

    def test_a_cross_join_only_on_purpose(self):
        editing.change_join(self.session, self.knot, "no link", links=())
        self.rest()
        self.click(self.chip("Cross join"))
        self.rest()
        self.assertIs(self.settings.join_type, JoinType.CROSS)
        self.assertIn("Pair every loan with every object (cross join).", self.sentence)
        self.assertIn("12 rows.", self.sentence)
        self.click(self.chip("Link fields"))
        self.rest()
        self.assertIs(self.settings.join_type, JoinType.LEFT_OUTER)


class StubsThatAreWritten(JoinCase):
    def test_a_rail_from_each_port_begins_at_its_knot_and_says_how_many_rows_it_has(self):
        editing.change_join(self.session, self.knot, "take", take="first")
        flow = self.session.flow
        ports = ("matched", "unmatched_left", "unmatched_right", "passed_over")
        for port in ports:
            settings = OutputSettings("text", str(self.folder / f"{port}.csv"))
            flow, _ = edits.add_output(flow, Input(self.knot, port), settings)
        self.session.apply("write", lambda _: flow, Selection(self.knot))
        self.rest()
        shown = self.window.trellis.shown
        knot = next(entry for entry in shown.knots if entry.step == self.knot)
        result = self.session.outcome(self.knot).result
        words = [entry.text for entry in shown.words]
        for port in ports:
            rail = next(entry for entry in shown.rails if entry.selection == Selection(self.knot, port))
            stub = next(entry for entry in shown.stubs if entry.end == rail.start)
            self.assertEqual(stub.start[0], knot.x + 13)
            self.assertTrue(knot.top <= stub.start[1] <= knot.bottom, port)
            rows = result.ports[port].rows
            self.assertTrue(any(text.startswith(f"{rows} ") for text in words), (port, rows, words))
        self.assertIn("2 unmatched Loans", words)


class OtherSteps(JoinCase):
    def test_a_blend_is_read_aloud_and_shown(self):
        measure = BlendMeasure("objects", "count")
        other = OtherSettings((LinkSettings("object", "accession", ("case",)),), (measure,))
        settings = BlendSettings(others=(other,))
        flow, blend = edits.add_step(self.flow, "blend", "Loans blended", self.inputs, settings)
        self.session.apply("blend", lambda _: flow, Selection(blend))
        self.rest()
        self.assertIn(
            "For each object and … of Loans bring how many rows as objects from Objects", self.sentence
        )
        self.assertIn("Keep every loan", self.sentence)
        self.assertEqual(
            self.session.outcome(blend).result.rows.column("objects").values.to_pylist(), [2, 1, 0]
        )


if __name__ == "__main__":
    unittest.main()
