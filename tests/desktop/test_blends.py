"""Blends and shared filters, built and changed with real drops, clicks and keys."""

import unittest

from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication, QMenu

from keen_trellis.core.blending import Keep
from keen_trellis.desktop.bench.grid_view import HEADER_HEIGHT
from keen_trellis.desktop.kinds.blend_rows import BlendContent
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.selection import Selection
from tests.desktop.driving import ALT, CTRL, SHIFT, WindowCase

KEY = Qt.Key
_LOANS = (
    "loan no,venue,out,value\nL-1,Pier,2026-01-05,100\nL-2,Pier,2026-01-09,200\nL-3,Mill,2026-02-07,50\n"
    "L-4,Hall,2026-01-01,10\nL-5,Quay,2026-01-01,10\n"
)
_TRIPS = (
    "venue,day,cost\nPier,2026-01-03,10.00\nPier,2026-01-20,5.00\nMill,2026-02-01,7.50\n"
    "Cove,2026-01-01,3.00\nHall,2026-03-01,1.00\n"
)
_VISITS = "venue,visitors\nPier,40\nMill,60\nQuay,5\nSpit,1\nShore,2\n"


class BlendCase(WindowCase):
    def setUp(self):
        super().setUp()
        flow = Flow()
        for name, content in (("Loans", _LOANS), ("Trips", _TRIPS), ("Visits", _VISITS)):
            path = self.folder / f"{name.lower()}.csv"
            path.write_text(content)
            flow, _ = edits.add_source(flow, SourceSettings("text", str(path)), name)
        self.session.apply("open", lambda _: flow, Selection("loans"))
        self.rest()

    def blend(self, other: str = "trips", main: str = "loans"):
        """Drop a rail's end on another and ask for a blend."""
        trellis = self.window.trellis
        self.drag(trellis, self.head(other), self.head(main))
        self.rest()
        self.press(KEY.Key_B)
        self.rest()
        self.step = self.session.selection.step

    def head(self, rail: str) -> QPointF:
        return next(
            item.rect.center()
            for item in self.window.trellis.items
            if item.selection == Selection(rail) and item.rect.left() < 10
        )

    @property
    def set(self):
        return KINDS.settings(self.session.flow.step(self.step))

    def column(self, name: str) -> list:
        rows = self.session.outcome(self.step).result.rows
        return rows.column(name).values.to_pylist()

    @property
    def content(self) -> BlendContent:
        return self.window.bench.content


class Building(BlendCase):
    def test_dropping_asks_and_b_blends_with_links_and_a_measure_proposed(self):
        self.blend()
        self.assertEqual(len(self.session.flow.steps), 4)  # the join that was asked about is no more
        self.assertIn(
            "For each venue and month of out and … of Loans bring the sum of cost from Trips", self.sentence
        )
        self.assertIn("by venue, month of day", self.sentence)
        self.assertEqual(
            [str(value) for value in self.column("sum of cost")], ["15.00", "15.00", "7.50", "None", "None"]
        )
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(len(self.session.flow.steps), 3)

    def test_the_main_table_is_measured_too(self):
        self.blend()
        self.choose("Another own measure", "the sum", "value")
        self.assertIn("and of the loans themselves the sum of value", self.sentence)
        self.assertEqual(self.column("sum of value"), [300, 300, 50, 10, 10])
        self.assertIn("sum of value", [column.field.name for column in self.content.columns])
        # It stands on two rows of one group: adding it up again would count it twice.
        self.assertIn("Summing them would count each value", self.sentence)
        self.click(self.chip("Where measures are shown"))
        self.pick("sum of value")
        self.assertEqual(len(self.lines()), 2)  # it is not spread to what each row has
        self.press(KEY.Key_Escape)
        self.click(self.chip("Once"))
        self.rest()
        self.assertEqual(self.column("sum of value"), [300, None, 50, 10, 10])
        self.choose("Kept", "one row for each group of loans")
        self.assertEqual(self.column("sum of value"), [300, 50, 10, 10])
        self.choose("Own measure", "do not measure this")
        self.assertNotIn("themselves", self.sentence)
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(self.column("sum of value"), [300, 50, 10, 10])

    def test_it_stands_in_the_trellis_as_a_bar_cut_in_proportion_with_its_stub(self):
        self.blend()
        knot = self.window.trellis.shown.knots[0]
        self.assertEqual(
            [(part.name, part.rows) for part in knot.parts],
            [("found_nothing", 2), ("matched", 3), ("unused:1", 2)],
        )
        self.assertEqual(knot.caption, "sum of cost for each loan")
        self.assertEqual(knot.detail, "blend · 60.0 % found Trips")
        self.assertEqual(
            [stub.text for stub in self.window.trellis.shown.stubs], ["2 groups of Trips with no loan"]
        )

    def test_the_bench_shows_funnels_bands_and_groups_without_a_place(self):
        self.blend()
        self.assertEqual(
            self.bands,
            ["Loans with Trips · 3 rows", "Loans without Trips · 2 rows", "Trips with no loan · 2 groups"],
        )
        self.assertEqual(
            list(self.content.titles.values()), [("Loans", "5"), ("Trips", "5, 4 groups, 2 used")]
        )
        first = self.content.cells(self.content.parts[0], 0)
        names = [column.field.name for column in self.content.columns]
        self.assertEqual(names[:2], ["venue", "out"])
        self.assertEqual(
            [cell.text for cell in first[names.index("sum of cost")]], ["15.00", "15.00", "7.50"]
        )
        self.assertTrue(self.content.is_absent("other:0", 3, -1))
        self.assertIn("loans.csv, row 2 with trips.csv, row 2", self.window.status.origin.text())

    def test_more_tables_are_added_by_keyboard_and_the_largest_band_comes_first(self):
        self.blend()
        self.press(KEY.Key_J, modifier=CTRL | SHIFT)
        self.type("Visits")
        self.press(KEY.Key_Return)
        self.rest()
        self.assertEqual(len(self.session.flow.step(self.step).inputs), 3)
        self.assertIn("and the sum of visitors from Visits by venue", self.sentence)
        self.assertEqual(
            self.bands,
            [
                "Loans with Trips and Visits · 3 rows",
                "Loans with neither · 1 row",
                "Loans with Visits only · 1 row",
                "Trips with no loan · 2 groups",
                "Visits with no loan · 2 groups",
            ],
        )
        self.assertEqual(self.content.zones, ("left", "other:0", "other:1"))
        self.choose("Table", "do without Trips")
        self.assertEqual([entry.measures[0].of for entry in self.set.others], ["visitors"])

    def test_the_sentence_changes_measures_links_filter_and_what_is_kept(self):
        self.blend()
        self.choose("Measure", "how many rows")
        self.assertEqual(self.column("count of cost"), [2, 2, 1, 0, 0])
        self.choose("Link fields of Trips", "month of out = month of day", "do not link by this")
        self.assertEqual(self.column("count of cost"), [2, 2, 1, 1, 0])
        self.choose("Link fields of Trips", "when comparing …")
        self.chooser().list.setCurrentRow(next(n for n, line in enumerate(self.lines()) if "case" in line))
        self.press(KEY.Key_Space, KEY.Key_Return)
        self.rest()
        self.assertIn("by venue, ignoring case", self.sentence)
        self.choose("Table", "only the rows where …")
        self.enter("cost > 5")
        self.assertEqual(self.column("count of cost"), [1, 1, 1, 0, 0])
        self.assertIn("5, 2 after its filter, 2 groups, 2 used", self.content.titles["other:0"][1])
        self.choose("Kept", "one row for each group of loans")
        self.assertEqual(self.set.kept, Keep.GROUPS)
        self.assertEqual(self.column("venue"), ["Pier", "Mill", "Hall", "Quay"])
        self.choose("Another link", "out", "day")
        self.assertIn("For each venue and out", self.sentence)

    def test_another_link_is_asked_of_each_table(self):
        self.blend("visits")
        self.choose("Another link", "value", "visitors")
        self.assertEqual([link.left for link in self.set.others[0].links], ["venue", "value"])
        self.choose("Link field of the main table", "an expression …")
        self.enter("UPPER(venue)")
        self.assertEqual(self.set.others[0].links[0].left, "UPPER(venue)")

    def test_a_click_on_the_bar_leaves_out_what_found_nothing(self):
        self.blend()
        part = self.knot_part(self.step, "found_nothing")
        self.click(self.window.trellis, self.window.trellis.on_screen(part.rect).center())
        self.rest()
        self.assertEqual(self.set.kept, Keep.FOUND)
        self.assertEqual(self.session.outcome(self.step).result.rows.rows, 3)
        # They are still to be seen, and where they go.
        self.assertEqual(self.bands[1], "Loans without Trips · 2 rows")
        self.assertEqual(self.content.destination_text(self.content.bands[1], None), "left out")
        self.window.bench.grid.open_destinations(1)
        menu = QApplication.activePopupWidget()
        next(action for action in menu.actions() if action.text() == "stay in the result").trigger()
        menu.close()
        self.rest()
        self.assertEqual(self.set.kept, Keep.EVERY)
        self.click(
            self.window.trellis,
            self.window.trellis.on_screen(self.knot_part(self.step, "unused:1").rect).center(),
        )
        self.assertIn("only where each group is one row", self.window.status.shown.text())

    def test_groups_without_a_place_are_a_rail_of_their_own(self):
        self.blend()
        self.click(
            self.window.trellis, self.window.trellis.on_screen(self.item("2 groups of Trips").rect).center()
        )
        self.rest()
        self.assertIn("2 groups of Trips with no loan. No row of the blend uses them", self.sentence)
        self.press(KEY.Key_S, modifier=CTRL | ALT)
        self.rest()
        self.press(KEY.Key_Escape)
        step = self.session.flow.step(self.session.selection.step)
        self.assertEqual(step.inputs, (Input(self.step, "unused:1"),))

    def test_a_row_is_shown_whole_and_followed_to_its_sources(self):
        self.blend()
        self.window.bench.focus_rows()
        self.press(KEY.Key_F4)
        self.assertEqual(self.window.bench.record.view.table.columnCount(), 4)
        self.press(KEY.Key_Escape)
        self.rest()
        self.press(KEY.Key_F4, modifier=SHIFT)
        self.rest()
        told = " ".join(cell for row in self.window.bench.trace.view.texts for cell in row)
        self.assertIn("loans.csv", told)
        self.assertIn("trips.csv", told)


class AddingUp(BlendCase):
    def warned(self):
        self.blend()
        names = [column.field.name for column in self.content.columns]
        return names.index("sum of cost")

    def test_a_measure_on_many_rows_warns_with_the_remedy(self):
        number = self.warned()
        self.assertIn("Summing it would count each value 1.5 times:", self.sentence)
        self.assertEqual(self.content.warnings, {"sum of cost": 1.5})
        self.assertTrue(self.window.bench.grid.is_warned(number))
        self.click(self.chip("Spread"))
        self.rest()
        self.assertEqual([str(v) for v in self.column("sum of cost")][:3], ["7.50", "7.50", "7.50"])
        self.assertNotIn("Adding it up", self.sentence)
        self.assertEqual(self.content.warnings, {})

    def test_the_remedy_stands_in_the_fields_head(self):
        number = self.warned()
        grid = self.window.bench.grid
        place = next(
            QPointF(left + width / 2, grid.header_height - HEADER_HEIGHT / 2)
            for zone in grid.columns.zones
            for column, left, width in grid.column_lefts(zone)
            if column == number
        )
        self.click(grid.viewport(), place)
        menu = QApplication.activePopupWidget()
        self.assertIsInstance(menu, QMenu)
        self.assertEqual(menu.actions()[0].text(), "Adding up sum of cost counts it 1.5 times")
        next(action for action in menu.actions() if action.text() == "Show it once").trigger()
        menu.close()
        self.rest()
        self.assertEqual([str(v) for v in self.column("sum of cost")][:3], ["15.00", "None", "7.50"])
        self.assertEqual(self.session.history.undo_name, "Show once sum of cost")

    def test_where_measures_stand_is_chosen_in_the_sentence(self):
        self.warned()
        self.choose("Where measures are shown", "spread over the group by value")
        self.assertEqual([str(v) for v in self.column("sum of cost")][:2], ["5.00", "10.00"])
        # Where each group is one row, its measures stand as they are.
        self.choose("Kept", "one row for each group of loans")
        self.assertEqual(self.set.others[0].measures[0].stands, "every")
        self.assertNotIn("a group's measures", self.sentence)


class SharedFilters(BlendCase):
    def share(self, field: str = "venue", *values: str) -> str:
        """Share a filter by a field and tick values, by keyboard."""
        self.press(KEY.Key_H, modifier=CTRL | ALT)
        self.rest()
        self.chooser().list.setCurrentRow(self.lines().index(field))
        self.press(KEY.Key_Return)
        self.rest()
        for value in values:
            self.chooser().list.setCurrentRow(self.lines().index(value))
            self.press(KEY.Key_Space)
        self.press(KEY.Key_Return)
        self.rest()
        return self.session.selection.slat

    def test_it_is_named_once_and_reaches_every_rail_that_has_the_field(self):
        slat = self.share("venue", "Pier", "Mill")
        shared = self.session.flow.shared_filter(slat)
        self.assertEqual((shared.name, shared.values), ("venue", ("Pier", "Mill")))
        self.assertIn("keep the rows in which venue is Pier or Mill", self.sentence)
        self.assertIn("3 of 5 loans", self.sentence)
        self.assertIn("3 of 5 trips", self.sentence)
        self.assertIn("2 of 5 visits", self.sentence)
        shown = self.window.trellis.shown
        self.assertEqual([slat.text for slat in shown.slats], ["venue is Pier or Mill"])
        self.assertEqual(len({tie.x for tie in shown.ties}), 1)  # an upright line
        self.press(KEY.Key_Z, modifier=CTRL)
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual((self.session.flow.filters, len(self.session.flow.steps)), ((), 3))

    def test_the_list_of_values_unites_all_rails_and_says_which_has_which(self):
        slat = self.share()
        self.click(self.chip("Values"))
        self.rest()
        found = self.chooser().list
        details = {choice.text: choice.detail for choice in self.chooser().choices}
        self.assertEqual(details["Pier"], "2 loans, 2 trips, 1 visit")
        self.assertEqual(details["Cove"], "1 trip")
        self.assertEqual(found.item(0).text(), "Pier")
        self.press(KEY.Key_Escape)
        self.assertEqual(self.session.flow.shared_filter(slat).values, ())

    def test_a_rail_that_it_does_not_reach_is_said_plainly_and_can_be_tied(self):
        self.blend()
        slat = self.share("day")
        self.assertIn("it does not reach", self.sentence)
        rings = [tie for tie in self.window.trellis.shown.ties if not tie.step]
        self.assertEqual([tie.said for tie in rings], ["does not reach Loans", ""])
        self.click(self.window.trellis, QPointF(rings[0].x, rings[0].y))
        self.rest()
        self.pick("out")
        self.rest()
        bound = [KINDS.settings(step).of for step in self.session.flow.steps if step.kind == "shared-filter"]
        self.assertEqual(sorted(bound), ["day", "out"])
        self.click(self.chip("Rail Visits"))
        self.rest()
        self.pick("it need not reach this rail")
        self.rest()
        self.assertNotIn("does not reach", self.sentence)
        self.choose("Comparison", "day is in the")
        self.pick("the last full year")
        self.rest()
        self.assertEqual(self.session.flow.shared_filter(slat).values, ("last full year",))
        self.choose("Comparison", "day is between")
        self.enter("tomorrow; later")
        said = QApplication.activePopupWidget().said.text()
        self.assertIn("tomorrow", said)
        self.enter("2026-01-01; 2026-01-31")
        self.assertIn("4 of 5 loans", self.sentence)
        self.assertIn("3 of 5 trips", self.sentence)

    def test_why_the_main_rows_stay_is_said(self):
        self.blend()
        self.share("cost", "10.00")
        self.assertIn(
            "All loans stay: cost filters Trips before the blend, and does not reach Loans; "
            "3 loans find nothing now.",
            self.sentence,
        )
        lines = self.window.bench.slat.view.texts
        self.assertEqual(lines[0][:4], ["Trips", "cost", "5", "1"])
        self.assertIn("not reached", lines[1][4])
        self.assertIn("All loans stay".lower(), lines[-1][4].lower())
        self.session.select(Selection(self.step))
        self.rest()
        self.assertEqual(self.content.titles["left"], ("Loans", "5, no cost"))
        self.assertEqual(
            self.content.titles["other:0"],
            ("Trips", "5, 1 by cost, 1 group, 1 used"),
        )

    def test_a_slat_is_picked_walked_to_renamed_and_removed(self):
        slat = self.share("venue", "Pier")
        self.session.select(Selection("loans"))
        label = self.item("venue is Pier")
        self.click(self.window.trellis, self.window.trellis.on_screen(label.rect).center())
        self.assertEqual(self.session.selection, Selection(slat=slat))
        self.click(self.chip("Name"))
        self.enter("Place")
        self.assertIn("Place is Pier", [slat.text for slat in self.window.trellis.shown.slats])
        tie = self.window.trellis.shown.ties[0]
        self.click(self.window.trellis, QPointF(tie.x, tie.y))
        self.rest()
        self.assertIn("as the filter shared by several rails says:", self.sentence)
        self.click(self.chip("Shared filter"))
        self.assertEqual(self.session.selection, Selection(slat=slat))
        self.window.trellis.setFocus()
        self.press(KEY.Key_Delete)
        self.rest()
        self.assertEqual((self.session.flow.filters, len(self.session.flow.steps)), ((), 3))


if __name__ == "__main__":
    unittest.main()
