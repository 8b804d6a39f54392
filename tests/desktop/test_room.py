"""Room in the trellis: nothing covers anything else, and whole flows are seen with rows on the bench."""

import random
import unittest
from functools import cached_property
from itertools import combinations

from PySide6.QtCore import QEvent, QObject, QPointF, QRect, QRectF, Qt
from PySide6.QtGui import QNativeGestureEvent, QPainter, QPointingDevice, QRegion
from PySide6.QtWidgets import QApplication

from keen_trellis.core.join_type import QUESTION_TYPES
from keen_trellis.demo.large import large_flow
from keen_trellis.desktop.bench.grid_view import LINE_HEIGHT
from keen_trellis.desktop.kinds import COMMANDS, CUTTINGS
from keen_trellis.desktop.trellis.captions import captions_of
from keen_trellis.desktop.trellis.items import TABLES
from keen_trellis.desktop.trellis.layout import plan
from keen_trellis.desktop.trellis.shapes import BEAD, KNOT_WIDTH, LINE, MARGIN_WIDTH, Layout
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.source_settings import SourceSettings, TypedTable
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.steps.union import UnionSettings
from keen_trellis.session import combining, editing
from keen_trellis.session.selection import Selection
from tests import demo_data
from tests.desktop.driving import WindowCase

_WIDTHS = (900, 1100, 1280, 1900)
_TOUCH = 0.6  # what rounding leaves


def covered(layout: Layout) -> list[tuple[str, QRectF]]:
    """Everything that must not touch anything else, with a name."""
    found = [(f"words {c.text!r}", c.rect) for c in captions_of(layout)]
    found += [
        (f"knot {k.step}", QRectF(k.x - KNOT_WIDTH / 2, k.top, KNOT_WIDTH, k.height)) for k in layout.knots
    ]
    found += [(f"bead {b.name}", QRectF(b.x - BEAD, b.y - BEAD, 2 * BEAD, 2 * BEAD)) for b in layout.beads]
    for number, stub in enumerate(layout.stubs):
        x0, (x1, y1) = stub.start[0], stub.end
        # Its last third runs level; before that it leaves the knot beside others.
        left = x0 + (x1 - x0) * 2 / 3
        found.append((f"stub {number} {stub.text}", QRectF(left, y1 - 1.5, x1 - left, 3)))
    width = MARGIN_WIDTH - 8
    found += [(f"head {h.name}", QRectF(4, h.y - 10, width, 20)) for h in layout.heads]
    found += [(f"table {s.name}", QRectF(4, s.y - 8, width, 16)) for s in layout.stumps]
    found += [(f"file {f.text}", QRectF(4, f.y + 1, width, LINE - 4)) for f in layout.files]
    return found


class RoomCase(WindowCase):
    def overlaps(self, width: float) -> list[str]:
        """What touches in the flow as it is now, laid out this wide."""
        layout = plan(self.session, width, CUTTINGS)
        rects = covered(layout)
        found = [
            f"{one} touches {other}"
            for (one, a), (other, b) in combinations(rects, 2)
            if (both := a.intersected(b)).width() > _TOUCH and both.height() > _TOUCH
        ]
        found += [
            f"{name} is outside"
            for name, rect in rects
            if rect.bottom() > layout.height + 1 or rect.right() > layout.width + 1 or rect.top() < -1
        ]
        return found


class DemoFlows(RoomCase):
    def each(self, look):
        """Open each flow, and look at it."""
        for path in sorted(demo_data.folder().glob("*.trellis")):
            with self.subTest(path.stem):
                self.window.files.open_flow(path)
                self.rest()
                look()

    def test_nothing_touches(self):
        def look():
            for width in _WIDTHS:
                self.assertEqual(self.overlaps(width), [], width)

        self.each(look)

    def test_every_caption_is_there_in_a_window_of_the_usual_size(self):
        def look():
            layout = plan(self.session, 1280, CUTTINGS)
            told = [caption.of for caption in captions_of(layout)]
            for shape in [*layout.knots, *layout.beads, *layout.ends, *layout.words, *layout.slats]:
                self.assertIn(shape, told)
            for stub in layout.stubs:
                self.assertTrue(not stub.text or not stub.captioned or stub in told, stub)

        self.each(look)

    def test_the_whole_flow_is_seen_with_ten_lines_of_the_bench(self):
        def look():
            trellis, pane = self.window.trellis, self.window.trellis.parentWidget()
            knot = next((step for step in self.session.flow.steps if len(step.inputs) > 1), None)
            self.session.select(Selection(knot.id if knot else self.session.flow.steps[0].id))
            self.rest()
            self.assertLessEqual(trellis.minimumHeight(), pane.height())
            self.assertLessEqual(trellis.minimumWidth(), pane.width())
            self.assertGreater(trellis.zoom, 0.85)
            grid = self.window.bench.grid
            lines = (grid.viewport().height() - grid.header_height) // LINE_HEIGHT
            self.assertGreaterEqual(lines, 10)

        for size in ((1280, 800), (1100, 700)):
            self.window.resize(*size)
            self.each(look)


class GeneratedFlows(RoomCase):
    """A hundred flows: whatever somebody may have put together out of a few small tables."""

    def test_nothing_touches(self):
        chance = random.Random(20260518)
        seen, knots = 0, 0
        for tables in (2, 3, 5, 8):
            self.session.apply("begin anew", lambda _, n=tables: self.tables(n, chance), Selection())
            self.rest()
            for _ in range(25):
                steps = len(self.session.flow.steps)
                while len(self.session.flow.steps) == steps:
                    self.put_something(chance)
                self.rest()
                self.session.select(self.anywhere(chance))
                width = chance.choice(_WIDTHS)
                self.assertEqual(self.overlaps(width), [], (tables, seen, width))
                seen += 1
                knots = max(knots, len(self.window.trellis.shown.knots))
        self.assertEqual(seen, 100)
        self.assertGreater(knots, 6)

    def tables(self, many: int, chance: random.Random) -> Flow:
        """A flow of so many rails, whose keys are partly the same, and partly repeat."""
        flow = Flow()
        for number in range(many):
            rows = tuple(
                (str(chance.randrange(60)), chance.choice("xyz")) for _ in range(chance.choice((0, 1, 9, 40)))
            )
            typed = SourceSettings("typed", typed=TypedTable(("key", f"value {number}"), rows))
            name = chance.choice(("Loans", "Lent to the coast, by season and venue", "Ob")) + f" {number}"
            flow, _ = edits.add_source(flow, typed, name)
        return flow

    def put_something(self, chance: random.Random):
        """Put a step, a knot, an output or a branch somewhere."""
        session = self.session
        here, other = (self.anywhere(chance) for _ in range(2))
        rails = Input(here.step, here.port), Input(other.step, other.port)
        session.select(here)
        does = chance.choice(["step", "step", "join", "join", "join", "blend", "stack", "branch", "output"])
        if does == "step":
            kind, command = chance.choice(list(COMMANDS.items()))
            editing.insert(session, kind, command.begins, command.said)
        elif does == "join" and here != other:
            kind = chance.choice(QUESTION_TYPES).value
            settings = JoinSettings(links=(LinkSettings("key", "key"),), type=kind)
            session.apply("join", lambda flow: edits.add_join(flow, *rails, settings))
        elif does == "blend" and here != other:
            combining.blend(session, other, here)
            self.rest()
        elif does == "stack" and here != other:
            session.apply("stack", lambda flow: edits.add_union(flow, *rails, UnionSettings()))
        elif does == "branch":
            editing.branch(session)
        elif does == "output":
            editing.add_output(session, OutputSettings("text", str(self.folder / f"{chance.random()}.csv")))

    def anywhere(self, chance: random.Random) -> Selection:
        steps = [step for step in self.session.flow.steps if step.kind != "output"]
        step = chance.choice(steps)
        ports = ["rows", "rows", "unmatched_left", "unmatched_right"] if step.kind == "join" else ["rows"]
        return Selection(step.id, chance.choice(ports))


class LargeFlow(RoomCase):
    def test_it_fits_by_itself_as_long_as_it_can_be_read(self):
        self.session.apply("open", lambda _: large_flow(demo_data.folder()), Selection("loans-3"))
        self.window.share_out_anew()
        self.rest()
        trellis, pane = self.window.trellis, self.window.trellis.parentWidget()
        self.assertLessEqual(trellis.minimumWidth(), pane.width())
        self.assertLessEqual(trellis.minimumHeight(), pane.height())
        self.assertGreaterEqual(trellis.zoom, 0.7)
        for step in self.session.flow.steps[::9]:
            self.session.select(Selection(step.id))
            self.assertEqual(self.overlaps(pane.width()), [], step.id)

    def test_a_zoom_that_was_set_stays_until_it_is_to_fit_again(self):
        self.window.commands["larger"].trigger()
        self.session.apply("open", lambda _: large_flow(demo_data.folder()), Selection("loans-3"))
        self.rest()
        self.assertEqual(self.window.trellis.zoom, 1.25)
        self.window.commands["fit"].trigger()
        self.rest()
        self.assertLess(self.window.trellis.zoom, 1)


class DrawnAgain(RoomCase):
    def setUp(self):
        super().setUp()
        self.window.files.open_flow(demo_data.folder() / "Winter loans.trellis")
        self.rest()
        self.window.trellis.installEventFilter(self.spy)
        self.addCleanup(self.window.trellis.removeEventFilter, self.spy)

    class Spy(QObject):
        def __init__(self):
            super().__init__()
            self.region = QRegion()

        def eventFilter(self, _, event):
            if event.type() == QEvent.Type.Paint:
                self.region += event.region()
            return False

    @cached_property
    def spy(self):
        return self.Spy()

    def covered(self, does) -> QRegion:
        """What is drawn again when something is done."""
        self.rest()
        self.spy.region = QRegion()
        does()
        self.rest()
        return QRegion(self.spy.region)  # a picture of it is painted, too

    def place(self, step: str) -> QRect:
        item = next(item for item in self.window.trellis.items if item.selection.step == step)
        return self.window.trellis.on_screen(item.rect).toRect()

    def test_only_what_changed_is_drawn_again(self):
        names = {step.name: step.id for step in self.session.flow.steps}
        bead, end = names["compute month"], names["Loan report.xlsx"]
        before = self.window.trellis.grab().toImage()
        region = self.covered(lambda: self.session.select(Selection(bead)))
        self.assertTrue(region.contains(self.place(bead)))
        self.assertFalse(region.intersects(self.place(end)))
        self.assertFalse(region.intersects(self.place(names["Visitors"]).adjusted(20, 4, 0, -4)))
        self.assertNotEqual(self.window.trellis.grab().toImage(), before)

    def test_on_the_bench_only_lines_that_changed(self):
        grid = self.window.bench.grid
        view = grid.viewport()
        view.installEventFilter(self.spy)
        self.addCleanup(view.removeEventFilter, self.spy)
        self.session.select(Selection("loans"))
        self.rest()
        for number, extend in (
            (3, False),
            (5, False),
            (8, True),
            (6, True),
            (2, False),
            (200, False),
            (201, False),
        ):
            before = view.grab()
            region = self.covered(lambda to=number, more=extend: grid.move_to(to, extend=more))
            after = view.grab()
            painter = QPainter(before)
            painter.setClipRegion(region)
            painter.drawPixmap(0, 0, after)
            painter.end()
            self.assertEqual(before.toImage(), after.toImage(), number)
            if number == 5:  # nothing is scrolled for it
                self.assertLess(region.boundingRect().height(), view.height() - 2 * LINE_HEIGHT, number)

    def test_two_fingers_zoom(self):
        trellis = self.window.trellis
        before = trellis.zoom
        pointing = QPointingDevice.primaryPointingDevice()
        place = QPointF(400, 80)
        for value in (0.05, 0.05, 0.05):
            event = QNativeGestureEvent(
                Qt.NativeGestureType.ZoomNativeGesture, pointing, 2, place, place, place, value, QPointF()
            )
            QApplication.sendEvent(trellis, event)
        self.assertGreater(trellis.zoom, before)

    def test_nothing_that_changed_is_left_out(self):
        trellis = self.window.trellis
        for step in self.session.flow.steps:
            before = trellis.grab()
            region = self.covered(lambda chosen=step.id: self.session.select(Selection(chosen)))
            after = trellis.grab()
            painter = QPainter(before)
            painter.setClipRegion(region)
            painter.drawPixmap(0, 0, after)
            painter.end()
            self.assertEqual(before.toImage(), after.toImage(), step.name)


class Margin(RoomCase):
    def setUp(self):
        super().setUp()
        self.window.files.open_flow(demo_data.folder() / "Winter loans.trellis")
        self.rest()

    def tables(self) -> list[str]:
        return [stump.name for stump in self.window.trellis.shown.stumps]

    def line(self, file: str):
        return next(i for i in self.window.trellis.items if i.role == TABLES and i.text.startswith(file))

    def test_unused_tables_fold_into_the_line_of_their_file(self):
        self.assertNotIn("makers", self.tables())
        item = self.line("registry.sqlite")
        self.assertIn("list 3 more tables", item.text)
        self.click(self.window.trellis, self.window.trellis.on_screen(item.rect).center())
        self.assertIn("makers", self.tables())
        item = self.line("registry.sqlite")
        self.assertIn("fold", item.text)
        self.click(self.window.trellis, self.window.trellis.on_screen(item.rect).center())
        self.assertNotIn("makers", self.tables())

    def test_with_the_keyboard(self):
        self.session.select(self.line("registry.sqlite").selection)
        self.window.trellis.setFocus()
        self.assertIn("3 of its tables are not used", self.sentence)
        self.press(Qt.Key.Key_Return)
        self.assertIn("valuations", self.tables())

    def test_a_table_that_is_jumped_to_is_listed(self):
        path = next(path for path in self.session.margin.paths() if path.endswith("registry.sqlite"))
        self.session.select(Selection(path=path, table="makers"))
        self.assertIn("makers", self.tables())
        self.assertNotIn("valuations", self.tables())
        self.session.select(Selection())
        self.assertNotIn("makers", self.tables())


if __name__ == "__main__":
    unittest.main()
