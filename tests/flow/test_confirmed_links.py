"""Foreign keys and links of earlier flows lead the proposals between the same sources, next month too."""

import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

from keen_trellis.core.task import Task
from keen_trellis.flow import edits
from keen_trellis.flow.confirmed_links import ConfirmedLinks
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.proposing import proposals
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.source_settings import FieldSettings, SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.sources.library import Library
from tests import demo_data
from tests.flow.test_runner import Shelf
from tests.tables import table

_CODES = [f"c{n}" for n in range(40)]
_WORDS = [f"word {n}" for n in range(40)]


class Confirmed(unittest.TestCase):
    def setUp(self):
        place = TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.confirmed = ConfirmedLinks(Path(place.name) / "deep" / "links.json")
        data = {"code": _CODES, "word": _WORDS}
        self.shelf = Shelf(loans=table(**data), objects=table(code=_CODES, word=_WORDS))
        self.runner = Runner(KINDS, self.shelf)

    def sources(self, month: int, swapped: bool = False):
        flow, ids = Flow(), []
        for name in ("objects", "loans") if swapped else ("loans", "objects"):
            settings = SourceSettings("text", f"/data/{name}-2026-{month:02}.csv", name)
            flow, step = edits.add_source(flow, settings, name.capitalize())
            ids.append(Input(step))
        return flow, ids

    def confirm(self, link=None):
        flow, ids = self.sources(1)
        link = link or LinkSettings("word", "word", ("case",), correct=(("a", "b"),))
        flow, knot = edits.add_join(flow, *ids, JoinSettings(links=(link,), type="inner"))
        inputs = {knot: tuple(self.runner.input_shapes(flow, flow.step(knot)))}
        self.confirmed.remember(flow, KINDS, "Winter loans", inputs)

    def first(self, month: int, *, swapped: bool = False):
        flow, ids = self.sources(month, swapped)
        return proposals(self.runner, flow, ids, self.confirmed, Task())[0]

    def test_what_was_linked_before_comes_first_next_month_too(self):
        self.assertEqual(self.first(2).link.left, "code")
        self.confirm()
        for swapped in (False, True):
            found = self.first(2, swapped=swapped)
            self.assertEqual((found.link.left, found.link.preparation.names), ("word", ("case",)))
            # Corrections belong to the values of then.
            self.assertEqual(found.link.preparation.corrections, ())
            self.assertIn("Linked so before, in Winter loans. 100 %", found.evidence("Loans", "Objects"))

    def test_the_last_way_of_linking_two_sources_is_remembered(self):
        self.confirm()
        self.confirm(LinkSettings("word", "word"))
        self.assertEqual(len(self.confirmed.all()), 1)
        self.assertEqual(self.first(3).link.preparation.names, ())

    def test_other_sources_and_broken_memories_say_nothing(self):
        self.confirm()
        flow, first = edits.add_source(Flow(), SourceSettings("text", "/other.csv", "loans"), "Loans")
        flow, second = edits.add_source(
            flow, SourceSettings("text", "/data/objects-1.csv", "objects"), "Objects"
        )
        found = proposals(self.runner, flow, [Input(first), Input(second)], self.confirmed, Task())
        self.assertEqual(found[0].why, "")
        self.confirmed._path.write_text("not json")
        self.assertEqual((self.confirmed.all(), self.first(2).why), ((), ""))
        self.confirm()
        self.assertEqual(len(self.confirmed.all()), 1)


class ForeignKeys(unittest.TestCase):
    def setUp(self):
        self.library = Library()
        self.runner = Runner(KINDS, self.library)

    def first(self, left: SourceSettings, right: SourceSettings):
        flow, one = edits.add_source(Flow(), left, "Left")
        flow, other = edits.add_source(flow, right, "Right")
        nothing = ConfirmedLinks(Path("/nowhere/links.json"))
        return proposals(self.runner, flow, [Input(one), Input(other)], nothing, Task())[0]

    def test_a_database_knows_how_its_tables_are_linked(self):
        path = str(demo_data.folder() / "registry.sqlite")
        valuations = SourceSettings("sqlite", path, "valuations")
        renamed = (FieldSettings("object_id", rename="object"),)
        objects = SourceSettings("sqlite", path, "objects", fields=renamed)
        for left, right, names in (
            (valuations, objects, ("object_id", "object")),
            (objects, valuations, ("object", "object_id")),
        ):
            found = self.first(left, right)
            self.assertEqual((found.link.left, found.link.right), names)
            self.assertEqual(found.why, "A foreign key of valuations in registry.sqlite")
        maker = self.first(objects, SourceSettings("sqlite", path, "makers"))
        self.assertEqual(
            (maker.link.left, maker.why), ("maker", "A foreign key of objects in registry.sqlite")
        )


if __name__ == "__main__":
    unittest.main()
