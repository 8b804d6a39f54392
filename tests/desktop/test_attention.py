"""What needs attention: one list of everything wrong or doubtful, each with a jump to its place."""

import unittest

import msgspec
from PySide6.QtCore import Qt

from keen_trellis.flow import edits
from keen_trellis.flow.graph import Input
from keen_trellis.flow.steps.blend import OtherSettings
from keen_trellis.flow.steps.choose import ChooseSettings, ChosenSettings
from keen_trellis.flow.steps.compute import ComputeSettings
from keen_trellis.flow.steps.fill import FillSettings, FillStepSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.session import editing
from keen_trellis.session.attention import needs
from keen_trellis.session.selection import Selection
from tests.desktop.driving import CTRL
from tests.desktop.test_join_sentence import JoinCase

KEY = Qt.Key


class Attention(JoinCase):
    def found(self) -> list[tuple[str, str]]:
        return [(need.name, need.what) for need in needs(self.session)]

    def insert(self, rail, kind, settings):
        flow, step = edits.insert_after(self.session.flow, Input(rail), kind, settings)
        self.session.apply("insert", lambda _: flow, Selection(step))
        self.rest()
        return step

    def test_each_kind_of_trouble_is_listed_what_is_wrong_first(self):
        editing.change_join(self.session, self.knot, "case", links=(self.prepared("case"),))
        self.window.bench.guards.add("no-rows-added")
        self.rest()
        self.insert("loans", "fill", FillStepSettings((FillSettings(fields=("note",), how="before"),)))
        self.insert("loans", "compute", ComputeSettings(field="n", expression="CAST(object AS INTEGER)"))
        self.insert("loans", "choose", ChooseSettings(fields=(ChosenSettings("venue", type="date"),)))
        self.assertEqual(
            self.found(),
            [
                ("Loans with Objects", "guard broken"),
                ("keep venue", "lost"),
                ("compute n", "blank"),
                ("Loans with Objects", "more rows"),
            ],
        )
        self.assertIn("1 wrong, 3 doubtful", self.window.attention.text())

    def prepared(self, *names):
        link = editing.join_settings(self.session, self.knot).links[0]
        return msgspec.structs.replace(link, ignore=names)

    def test_open_gaps_are_counted(self):
        self.insert(
            self.knot, "fill", FillStepSettings((FillSettings(fields=("year",), how="field", of="from"),))
        )
        (need,) = [need for need in needs(self.session) if need.what == "open gaps"]
        # The cells without partner of the other fields are open as well.
        self.assertEqual(need.text, "6 cells still open: year 2, from 2, note of Objects 2.")

    def test_a_blend_without_a_measure_and_settings_that_nobody_reads(self):
        other = OtherSettings(links=(LinkSettings("object", "accession"),))
        flow, blend = edits.add_blend(self.session.flow, Input("loans"), Input("objects"), other)
        settings = flow.step("loans").settings.replace(b"{", b'{"tabel":"x",', 1)
        steps = tuple(
            msgspec.structs.replace(step, settings=settings) if step.id == "loans" else step
            for step in flow.steps
        )
        self.session.apply("blend", lambda _: msgspec.structs.replace(flow, steps=steps), Selection(blend))
        self.rest()
        found = {(need.name, need.what): need for need in needs(self.session)}
        self.assertIn("Did you mean “table”?", found["Loans", "not read"].text)
        self.assertTrue(found["Loans", "not read"].alarm)
        self.assertIn("Nothing is measured of Objects", found[flow.step(blend).name, "no measure"].text)

    def test_outputs_with_open_cells_behind_a_fill(self):
        filled = self.insert(self.knot, "fill", FillStepSettings((FillSettings(fields=("year",), of="0"),)))
        settings = OutputSettings("text", str(self.folder / "out.csv"))
        flow, output = edits.add_output(self.session.flow, Input(filled), settings)
        self.session.apply("write", lambda _: flow, Selection(output))
        self.rest()
        self.assertIn("4 cells without a partner: from 2, note of Objects 2.", self.sentence)
        # Said at the fill already.
        self.assertEqual(
            [need.name for need in needs(self.session) if need.what == "open gaps"], ["fill year"]
        )
        kept = JoinSettings(links=(LinkSettings("object", "accession"),), type="left-outer", bring=("year",))
        flow, again = edits.add_join(self.session.flow, Input(filled), Input("objects"), kept)
        flow, other = edits.add_output(flow, Input(again), msgspec.structs.replace(settings, path="b.csv"))
        self.session.apply("write", lambda _: flow, Selection(other))
        self.rest()
        said = {need.name: need.text for need in needs(self.session) if need.what == "open gaps"}
        self.assertIn("year of Objects 2", said[flow.step(other).name])

    def test_a_step_that_cannot_work_is_said_once_and_gone_to(self):
        self.insert("loans", "compute", ComputeSettings(field="n", expression="gone + 1"))
        self.session.select(Selection("objects"))
        self.rest()
        self.assertEqual(self.found(), [("compute n", "cannot work")])
        self.press(KEY.Key_I, modifier=CTRL)
        view = self.window.bench.attention.view
        self.assertTrue(view.isVisible())
        self.assertIn("There is no field “gone”", view.texts[0][2])
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.session.flow.step(self.session.selection.step).name, "compute n")
        # The rest of the flow keeps working, and what is mended is gone from the list.
        self.assertIsNotNone(self.session.outcome("objects").result)
        self.click(self.window.attention)
        self.assertTrue(view.isVisible())
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.found(), [])
        self.assertFalse(self.window.attention.isVisible())

    def test_a_lost_source_and_an_unused_file_that_cannot_be_read(self):
        (self.folder / "objects.csv").unlink()
        self.session.apply("open", lambda _: edits.add_file(self.session.flow, str(self.folder / "none.csv")))
        self.press(KEY.Key_F5)
        self.rest()
        self.assertIn(("none.csv", "cannot be read"), self.found())
        self.assertIn(("Objects", "old rows"), self.found())

    def test_the_demo_names_its_doubts(self):
        self.open_demo()
        found = needs(self.session)
        self.assertEqual({need.alarm for need in found}, {False})
        self.assertIn(("Loans with Objects", "more rows"), self.found())


if __name__ == "__main__":
    unittest.main()
