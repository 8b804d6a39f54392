"""A large table of a server looked at by a sample in the window, and taken whole by one command."""

import unittest

from PySide6.QtCore import Qt

from keen_trellis.databases import secrets
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.session.attention import needs
from keen_trellis.session.selection import Selection
from tests import postgres
from tests.desktop.driving import CTRL, SHIFT, WindowCase

KEY = Qt.Key


class Samples(WindowCase):
    def setUp(self):
        super().setUp()
        server = postgres.server()
        secrets.remember(server.address(), postgres.PASSWORD)
        rows = [(n, f"LCM.{n % 300}") for n in range(3000)]
        table = server.put("looked at", rows, "id bigint PRIMARY KEY, code text")
        settings = SourceSettings("database", server.address(), table)
        flow, self.source = edits.add_source(Flow(), settings, "Loans")
        flow, other = edits.add_source(flow, settings, "Objects")
        join = JoinSettings(links=(LinkSettings("code", "code"),), type="inner")
        flow, self.knot = edits.add_join(flow, Input(self.source), Input(other), join)
        self.session.apply("Made for the test", lambda _: flow)
        self.rest()

    def rows(self, step):
        return self.session.outcome(step).figures.rows["rows"]

    def sample(self):
        return KINDS.settings(self.session.flow.step(self.source)).sample

    def test_a_sample_is_taken_marked_and_given_up(self):
        self.session.select(Selection(self.source))
        self.rest()
        self.choose("Which rows", "a sample by code")
        self.assertEqual((self.sample().by, self.sample().parts), ("code", 64))
        self.assertTrue(0 < self.rows(self.source) < 1000)
        self.choose("How large the sample is")
        self.enter("2048")
        self.assertEqual(self.sample().parts, 2048)
        self.assertIn("· sample", self.window.trellis.shown.heads[0].count)
        self.session.select(Selection(self.knot))
        self.rest()
        self.assertIn("Of a sample of Loans:", self.sentence)
        self.assertIn(("Loans", "a sample"), [(need.name, need.what) for need in needs(self.session)])
        self.press(KEY.Key_F9, modifier=CTRL | SHIFT)
        self.rest()
        self.assertEqual(self.sample().parts, 0)
        self.assertEqual(self.rows(self.source), 3000)
        self.assertNotIn("Of a sample", self.sentence)


if __name__ == "__main__":
    unittest.main()
