"""Pictures where people would rather look: bars say their numbers, filter when picked, and are copied."""

import datetime as dt
import unittest

from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QContextMenuEvent, QGuiApplication, QImage, QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from keen_trellis.core.insight.distribution import Bar
from keen_trellis.core.values import FieldType
from keen_trellis.flow.spreading import bounds_of, condition_of
from keen_trellis.flow.steps import KINDS
from keen_trellis.session import filters
from keen_trellis.session.selection import Selection
from tests import demo_data
from tests.desktop.driving import CTRL, SHIFT, WindowCase

KEY = Qt.Key
KNOT = "loans-with-objects"


class PicturesCase(WindowCase):
    def stand_in(self, step: str, name: str):
        """Select a step, and stand in the column of a field."""
        self.session.select(Selection(step))
        self.rest()
        grid = self.window.bench.grid
        grid.column = next(n for n, c in enumerate(grid.content.columns) if c.field.name == name)
        grid.current_changed.emit()

    def spread(self, step: str, name: str):
        """The bars of a field."""
        self.stand_in(step, name)
        self.press(KEY.Key_H, modifier=CTRL | SHIFT)
        self.rest()
        self.assertTrue(self.window.bench.spread.is_shown)
        return self.window.bench.spread.view.bars

    def lead(self, bars, first: int, last: int):
        """Lead the mouse from one bar to another."""
        start, end = (bars.column(number).center().toPoint() for number in (first, last))
        left = Qt.MouseButton.LeftButton
        QTest.mousePress(bars, left, pos=start)
        for x in (start.x() + 12, end.x()):
            point = QPointF(x, end.y())
            move = QMouseEvent(
                QEvent.Type.MouseMove, point, bars.mapToGlobal(point), left, left, Qt.KeyboardModifier(0)
            )
            QApplication.sendEvent(bars, move)
        QTest.mouseRelease(bars, left, pos=end)
        self.rest()

    def last_filter(self):
        step = self.session.flow.step(self.session.selection.step)
        self.assertEqual(step.kind, "filter")
        return KINDS.settings(step).conditions[-1]

    def rows(self) -> int:
        return self.session.outcome(self.session.selection.step).result.rows.rows


class Spreads(PicturesCase):
    def setUp(self):
        super().setUp()
        self.open_demo()

    def test_the_share_of_unmatched_rows_by_month_filters_when_clicked(self):
        bars = self.spread(KNOT, "Out date")
        self.assertEqual(bars.shown.series, ("matched", "unmatched"))
        self.assertEqual(
            [bar.said for bar in bars.shown.bars], [f"2026-{month:02d}" for month in range(1, 13)]
        )
        self.assertEqual(bars.shown.rows, (8303, 49))
        self.assertRegex(bars.said_of(8), r"2026-09: \d+ matched, \d unmatched \(1\.2 %\)")
        counted = sum(bars.shown.bars[8].counts)
        self.click(bars, bars.column(8).center())
        self.rest()
        self.assertEqual(self.last_filter().values, ("2026-09-01", "2026-09-30"))
        self.assertLess(abs(self.rows() - counted), 4)  # the result has a row for each pair

    def test_several_months_are_led_over(self):
        bars = self.spread("loans", "Out date")
        wanted = sum(sum(bar.counts) for bar in bars.shown.bars[2:5])
        self.lead(bars, 2, 4)
        self.assertEqual(self.last_filter().values, ("2026-03-01", "2026-05-31"))
        self.assertEqual(self.rows(), wanted)

    def test_with_the_keyboard(self):
        bars = self.spread("loans", "Status")
        view = self.window.bench.spread.view
        self.assertIs(QApplication.focusWidget(), view.table)
        self.press(KEY.Key_Down)
        self.assertEqual(bars.current, 1)
        wanted = bars.shown.bars[1]
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(self.last_filter().values, (wanted.text,))
        self.assertEqual(self.rows(), wanted.counts[0])

    def test_both_sides_of_a_link_on_one_scale(self):
        bars = self.spread(KNOT, "Object no")
        self.assertEqual(bars.shown.series, ("Loans", "Objects"))
        self.assertEqual(bars.shown.rows, (8352, 12907))
        self.assertTrue(bars.shown.ordered)
        self.assertIn("above the line", bars._title)

    def test_the_numbers_stand_beside_and_are_copied_with_the_picture(self):
        bars = self.spread("loans", "Status")
        texts = self.window.bench.spread.view.texts
        self.assertEqual(texts[0][:2], ["returned", "4,972"])
        bars.setFocus()
        self.press(KEY.Key_C, modifier=CTRL)
        self.assertEqual(
            QGuiApplication.clipboard().text(), "Status\trows\nreturned\t4972\nopen\t1736\nextended\t1644\n"
        )
        place = QPoint(40, 60)
        QApplication.sendEvent(
            bars, QContextMenuEvent(QContextMenuEvent.Reason.Mouse, place, bars.mapToGlobal(place))
        )
        self.pick_entry(QApplication.activePopupWidget(), "Copy as a picture")
        data = QGuiApplication.clipboard().mimeData()
        self.assertTrue(data.hasImage())
        self.assertIn("returned\t4972", data.text())
        self.assertGreater(QImage(data.imageData()).width(), 2 * bars.width() - 4)

    def test_assistive_tools_are_told(self):
        bars = self.spread("loans", "Status")
        bars.setFocus()
        self.press(KEY.Key_Right)
        self.assertIn("rows", bars.accessibleDescription())
        self.assertIn("spreads", bars.accessibleName())

    def test_each_field_of_the_list_has_a_small_picture(self):
        self.stand_in("loans", "Status")
        self.press(KEY.Key_F7)
        self.rest()
        table = self.window.bench.fields.view.table
        column = next(
            n for n in range(table.columnCount()) if table.horizontalHeaderItem(n).text() == "Spread"
        )
        item = table.item(5, column)
        self.assertIn("returned: 4,972", item.toolTip())
        picture = table.viewport().grab(table.visualItemRect(item)).toImage()
        colours = {picture.pixel(x, picture.height() - 8) for x in range(20, picture.width() - 20)}
        self.assertGreaterEqual(len(colours), 1)
        self.assertNotEqual(picture.pixel(14, 8), picture.pixel(picture.width() - 14, 6))

    def test_the_menu_of_a_fields_head_begins_with_a_small_one(self):
        self.stand_in("loans", "Status")
        grid = self.window.bench.grid
        place = QPoint(grid.column_left(grid.column) + 12, 12)
        menu = self.right_click(grid.viewport(), place)
        first = menu.actions()[0]
        sketch = first.defaultWidget()
        self.assertIn("returned, open, extended", sketch.accessibleName())
        picture = sketch.grab().toImage()
        self.assertNotEqual(picture.pixel(30, 30), picture.pixel(picture.width() - 30, 10))
        first.trigger()
        menu.close()
        self.rest()
        self.assertTrue(self.window.bench.spread.is_shown)

    def test_groups_of_a_blend(self):
        blend = next(step.id for step in self.session.flow.steps if step.kind == "blend")
        bars = self.spread(blend, "sum of Visitors")
        self.assertEqual(bars.shown.series, ("groups",))
        self.assertGreater(len(bars.shown.bars), 5)


class SharedFilters(PicturesCase):
    def setUp(self):
        super().setUp()
        self.window.files.open_flow(demo_data.folder() / "Cost per visitor.trellis")
        self.rest()
        self.filter = self.session.flow.filters[0].id

    def bars(self):
        self.session.select(Selection(slat=self.filter))
        self.rest()
        return self.window.bench.slat.view.bars

    def test_values_are_bars_that_a_click_lets_stay_or_leaves_out(self):
        bars = self.bars()
        self.assertTrue(bars.isVisible())
        names = [bar.text for bar in bars.shown.bars]
        self.assertEqual(self.session.flow.filters[0].values, ("North",))
        self.click(bars, bars.column(names.index("South")).center())
        self.rest()
        self.assertEqual(self.session.flow.filters[0].values, ("North", "South"))
        stay = self.window.bench.slat.view.texts[0][3]
        counts = {bar.text: bar.counts[0] for bar in bars.shown.bars}
        self.assertEqual(stay, f"{counts['North'] + counts['South']:,}")  # at once what is left
        self.click(bars, bars.column(names.index("North")).center())
        self.rest()
        self.assertEqual(self.session.flow.filters[0].values, ("South",))

    def test_a_period_is_drawn_on_the_timeline(self):
        shapes = filters.shapes_of(self.session, self.session.flow, None)
        self.filter = filters.share(self.session, "Out date", shapes)
        self.rest()
        bars = self.bars()
        self.assertTrue(bars.shown.ordered)
        self.assertIn("lead the mouse", bars.caption)
        self.lead(bars, 3, 5)
        shared = self.session.flow.shared_filter(self.filter)
        self.assertEqual((shared.is_, shared.values), ("between", ("2026-04-01", "2026-06-30")))
        wanted = sum(bar.counts[0] for bar in bars.shown.bars[3:6])
        self.assertEqual(self.window.bench.slat.view.texts[0][3], f"{wanted:,}")
        self.assertEqual(list(bars._chosen), [3, 4, 5])
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.session.flow.shared_filter(self.filter).values, ())


class Conditions(unittest.TestCase):
    def test_a_bar_is_a_condition(self):
        day = dt.date(2026, 3, 1), dt.date(2026, 4, 1)
        for kind, bar, wanted in (
            (FieldType.TEXT, Bar("x", (1,), "x"), ("one-of", ("x",))),
            (FieldType.INTEGER, Bar("", (1,), None, 10, 20), ("between", ("10", "19"))),
            (FieldType.DATE, Bar("", (1,), None, *day), ("between", ("2026-03-01", "2026-03-31"))),
            (
                FieldType.TIMESTAMP,
                Bar("", (1,), None, *day),
                ("between", ("2026-03-01 00:00:00", "2026-03-31 23:59:59.999999")),
            ),
        ):
            made = condition_of("f", kind, bar)
            self.assertEqual((made.of, made.is_, made.values), ("f", *wanted))
        real = condition_of("f", FieldType.REAL, Bar("", (1,), None, 0.5, 1.0))
        self.assertEqual((real.of, real.is_), ('"f" >= 0.5 AND "f" < 1.0', "true"))
        self.assertIsNone(
            bounds_of(FieldType.REAL, Bar("", (1,), None, 0.5, 1.0), Bar("", (1,), None, 1.0, 1.5))
        )
        text = condition_of("a b", FieldType.TEXT, Bar("", (1,), None, "k'1", None))
        self.assertEqual(text.of, "\"a b\" >= 'k''1'")


class Changes(PicturesCase):
    def test_before_and_after(self):
        path = self.open_demo(own=True)
        self.assertTrue(path.exists())
        loans = path.parent / "returns-desk.csv"
        self.window.files.open_flow(path.parent / "Returns desk.trellis")
        self.rest()
        lines = loans.read_text().splitlines(keepends=True)
        loans.write_text("".join(lines[:-40]))
        self.press(KEY.Key_F5)
        self.rest()
        bars = self.window.bench.changes.view.bars
        self.assertTrue(bars.isVisible())
        self.assertEqual(bars.shown.series, ("before", "now"))
        before, now = bars.shown.bars[0].counts
        self.assertEqual(now - before, 40)


if __name__ == "__main__":
    unittest.main()
