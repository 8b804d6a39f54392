"""Links by likeness, and ladders of links, built in the sentence of a join."""

import unittest

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication

from keen_trellis.desktop.bench.content import LINK, Part
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps.join import JoinSettings, LikeSettings, LinkSettings, link_said
from keen_trellis.session import attention, editing
from keen_trellis.session.selection import Selection
from tests.desktop.driving import CTRL, WindowCase
from tests.tables import rows_of

KEY = Qt.Key
_WORKS = (
    "work,maker,code,year\nBell,Ada Olm,1,1901\nJug,BEN FARR,2,1915\nMap,Clara Winterborne,3,1922\n"
    "Ring,Nobody,9,1950\nFan,Q,4,1960\n"
)
_MAKERS = "name,no,born\nAda Olm,1,1870\nBen Farr,2,1880\nClara Winterbourne,3,1890\nDora Quill,9,1900\n"


class LadderCase(WindowCase):
    def setUp(self):
        super().setUp()
        flow, ids = Flow(), []
        for name, content in (("Works", _WORKS), ("Makers", _MAKERS)):
            path = self.folder / f"{name.lower()}.csv"
            path.write_text(content)
            flow, step = edits.add_source(flow, SourceSettings("text", str(path)), name)
            ids.append(Input(step))
        links = (LinkSettings("maker", "name"),)
        flow, self.knot = edits.add_join(flow, *ids, JoinSettings(links=links, type="left-outer"))
        self.session.apply("open", lambda _: flow, Selection(self.knot))
        self.rest()

    @property
    def settings(self) -> JoinSettings:
        return editing.join_settings(self.session, self.knot)

    @property
    def matched(self) -> int:
        return self.session.outcome(self.knot).result.match.counts.left_matched

    def parts(self) -> list[Part]:
        return next(band for band in self.window.bench.content.bands if band.key == "matched").parts


class Likenesses(LadderCase):
    def test_texts_that_are_so_much_alike(self):
        self.assertEqual(self.matched, 1)
        self.choose("Operator", "like")
        self.enter("0")
        self.assertIn("is not from 1 to 100", QApplication.activePopupWidget().said.text())
        self.enter("90")
        self.assertEqual(self.settings.links[0].like, LikeSettings(at_least=90))
        self.assertEqual(self.matched, 2)
        self.assertIn("Match maker of Works like name of Makers 90 of 100 each that is", self.sentence)
        self.choose("Best only", "only the best")
        self.assertTrue(self.settings.links[0].like.best)
        self.click(self.chip("Preparation"))
        line = next(number for number, text in enumerate(self.lines()) if "case" in text)
        self.chooser().list.setCurrentRow(line)
        self.press(KEY.Key_Space, KEY.Key_Return)
        self.rest()
        self.assertEqual(self.matched, 3)
        self.choose("Operator", "with")
        self.assertEqual((self.settings.links[0].like, self.matched), (None, 2))
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.matched, 3)

    def test_the_nearest_number_before(self):
        self.choose("Link field of Works", "year")
        self.choose("Link field of Makers", "born")
        self.choose("Operator", "nearest to")
        self.assertEqual(link_said(self.settings.links[0]), "year near born, the nearest")
        self.choose("Side", "at or before")
        self.assertEqual(self.matched, 5)
        self.click(self.chip("Distance"))
        self.enter("far")
        self.assertIn("“far” is no distance", QApplication.activePopupWidget().said.text())
        self.enter("25")
        self.assertEqual((self.settings.links[0].like.within, self.matched), ("25", 3))
        self.click(self.chip("Operator"))
        self.assertNotIn("like", self.lines(), "numbers are near, and not alike")
        self.press(KEY.Key_Escape)


class Ladders(LadderCase):
    def test_those_left_are_found_by_further_rungs(self):
        self.choose("Another rung", "by the same fields, prepared")
        self.choose("Another rung", "by likeness of maker")
        self.click(self.chip("Another rung"))
        self.pick("by other fields …")
        self.pick("code")
        self.pick("no")
        self.rest()
        self.assertEqual(self.matched, 4)
        self.assertEqual(self.session.outcome(self.knot).figures.rungs, (1, 1, 1, 1))
        self.assertIn("likeness of 85 · 1 found · to review", self.sentence)
        self.assertEqual(
            [part.text for part in self.parts()],
            [
                "1 pair by code = no",
                "1 pair by maker like name, 85 or more, the best, to be reviewed",
                "1 pair by " + self.settings.rungs[0].said,
                "1 pair by maker = name",
            ],
        )
        link = next(column for column in self.window.bench.content.columns if column.zone == LINK)
        self.assertEqual([part.sign_of(link) for part in self.parts()], ["", "≈", "=", "="])
        needs = [need.text for need in attention.needs(self.session) if need.what == "to review"]
        self.assertEqual(len(needs), 1)
        self.assertIn("1 work matched by rung 3", needs[0])

    def test_fields_say_which_rung_it_was_and_how_alike(self):
        self.choose("Another rung", "by likeness of maker")
        self.tick(
            "Fields of Makers",
            "add a field “matched by”: which rung found it",
            "add a field “likeness”: how alike, or how far apart",
        )
        rows = self.session.outcome(self.knot).result.rows
        told = {row[0]: row[-2:] for row in rows_of(rows)}
        self.assertEqual(told["Bell"], ("maker = name", None))
        self.assertEqual(told["Map"][0], "maker like name, 85 or more, the best")
        self.assertGreater(told["Map"][1], 95)
        self.assertEqual(told["Fan"], (None, None))

    def test_a_rung_is_changed_moved_reviewed_and_removed(self):
        self.choose("Another rung", "by likeness of maker")
        self.choose("Another rung", "by the same fields, prepared")
        self.choose("Rung 3", "move it up")
        self.assertEqual([bool(rung.links[0].like) for rung in self.settings.rungs], [False, True])
        self.choose("Rung 3", "need not be reviewed")
        self.assertFalse(self.settings.rungs[1].review)
        self.choose("Rung 3", "maker is like name")
        self.enter("99")
        self.assertEqual((self.settings.rungs[1].links[0].like.at_least, self.matched), (99, 2))
        self.choose("Rung 3", "maker equals name")
        self.assertIsNone(self.settings.rungs[1].links[0].like)
        self.choose("Rung 3", "remove this rung")
        self.choose("Rung 2", "remove this rung")
        self.assertEqual((self.settings.rungs, self.matched), ((), 1))
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(len(self.settings.rungs), 1)


if __name__ == "__main__":
    unittest.main()
