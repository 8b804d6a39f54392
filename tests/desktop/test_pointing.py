import unittest

from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QGuiApplication, QHelpEvent, QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMenu, QPushButton, QToolTip

from keen_trellis.desktop.bench.grid_view import LINE_HEIGHT
from keen_trellis.desktop.bench.lines import BAND, PART, ROW
from keen_trellis.desktop.plain import without_keys
from keen_trellis.desktop.shell.commands import OTHER_WORDS
from keen_trellis.flow import edits
from keen_trellis.flow.edits import move_along
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.source_settings import SourceSettings, TypedTable
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import LinkSettings
from keen_trellis.session import editing
from keen_trellis.session.selection import Selection
from tests.desktop.driving import ALT, CTRL, WindowCase
from tests.tables import rows_of


class Pointing(WindowCase):
    """The right button opens what can be done there."""

    def texts(self, menu: QMenu) -> list[str]:
        return [without_keys(action.text()) for action in menu.actions() if not action.isSeparator()]

    def on_item(self, text: str, part: str = "") -> QMenu:
        trellis = self.window.trellis
        place = trellis.on_screen(self.item(text, part).rect).center()
        return self.right_click(trellis, place)

    def on_line(self, kind: int, column: int = 0) -> QMenu:
        """The menu of the first line of a kind, in a column."""
        grid = self.window.bench.grid
        number = next(n for n in range(grid.lines.count) if grid.lines.at(n).kind == kind)
        grid.move_to(number)
        place = QPoint(grid.column_left(column) + 12, int(grid.line_top(number)) + LINE_HEIGHT // 2)
        return self.right_click(grid.viewport(), place)

    def on_head(self, column: int) -> QMenu:
        grid = self.window.bench.grid
        return self.right_click(grid.viewport(), QPoint(grid.column_left(column) + 12, 12))

    def close_menus(self):
        while (popup := QApplication.activePopupWidget()) is not None:
            popup.close()

    def test_everything_in_the_trellis_has_a_menu(self):
        self.open_demo()
        trellis = self.window.trellis
        seen = set()
        for item in trellis.items:
            menu = self.right_click(trellis, trellis.on_screen(item.rect).center())
            under = trellis.item_at(trellis.on_screen(item.rect).center())
            self.assertEqual(self.session.selection, under.selection, item.text)
            greyed = [action for action in menu.actions() if not action.isEnabled()]
            for action in greyed:
                self.assertTrue(action.toolTip().endswith((".", "one.")), (item.text, action.text()))
            self.assertGreater(len(menu.actions()), len(greyed), item.text)
            seen.add(under.role)
            self.close_menus()
        self.assertLessEqual({"rail", "knot", "stub", "output", "table"}, seen)
        ground = self.right_click(trellis, QPoint(trellis.width() - 3, trellis.height() - 3))
        self.assertIn("Fit the whole trellis", self.texts(ground))

    def test_a_step_is_put_on_a_rail_by_mouse(self):
        self.open_demo(own=True)
        self.pick_entry(self.on_item("Loans"), "Add a step", "Filter the rows here…")
        self.assertEqual(self.session.flow.step(self.session.selection.step).kind, "filter")
        self.assertIn("Status", " ".join(self.lines()))

    def test_rows_like_one_and_all_but_these(self):
        self.open_demo(own=True)
        loans = self.item("Loans").selection
        self.session.select(Selection(loans.step))
        self.rest()
        grid = self.window.bench.grid
        names = [column.field.name for column in grid.content.columns]
        status = names.index("Status")
        grid.column = status
        grid._move_column(0)
        before = self.session.selected_outcome().result.ports["rows"]
        value = before.take(range(1), ["Status"])[0].values[0].as_py()
        self.pick_entry(self.on_line(ROW, status), "Only rows like this")
        table = self.session.selected_outcome().result.ports["rows"]
        self.assertEqual(set(table.column("Status").values.to_pylist()), {value})
        self.assertLess(table.rows, before.rows)
        # In the filter itself a second one is added to it.
        steps = len(self.session.flow.steps)
        venue = names.index("Venue")
        self.window.bench.grid.column = venue
        self.window.bench.grid._move_column(0)
        place = table.take(range(1), ["Venue"])[0].values[0].as_py()
        self.pick_entry(self.on_line(ROW, venue), "All but these")
        self.assertEqual(len(self.session.flow.steps), steps)
        left = self.session.selected_outcome().result.ports["rows"]
        self.assertNotIn(place, left.column("Venue").values.to_pylist())
        self.assertLess(left.rows, table.rows)
        self.press(Qt.Key.Key_Z, modifier=CTRL)
        self.rest()
        self.assertEqual(
            rows_of(self.session.selected_outcome().result.ports["rows"])[:5], rows_of(table)[:5]
        )

    def test_rows_of_a_knot_are_kept_by_a_field_of_either_side(self):
        self.open_demo(own=True)
        knot = next(item for item in self.window.trellis.items if item.role == "knot")
        self.session.select(knot.selection)
        self.rest()
        grid = self.window.bench.grid
        column = next(n for n, column in enumerate(grid.content.columns) if column.zone == "right")
        grid.column = column
        grid._move_column(0)
        number = next(
            n
            for n in range(grid.lines.count)
            if grid.lines.at(n).kind == ROW and grid.content.bands[grid.lines.at(n).band].key == "matched"
        )
        grid.move_to(number)
        value = grid.content.cell_at(*grid.current_row(), column)[2].values[0].as_py()
        name = grid.content.columns[column].field.name
        self.press(Qt.Key.Key_L, modifier=CTRL | ALT)
        self.rest()
        made = self.session.selected_outcome().result.ports["rows"]
        shown = next(own for own in made.names if name in own)
        self.assertEqual(set(made.column(shown).values.to_pylist()), {value})

    def test_heads_bands_and_reasons(self):
        self.open_demo()
        knot = next(item for item in self.window.trellis.items if item.role == "knot")
        self.session.select(knot.selection)
        self.rest()
        self.assertIn("Where the rows cluster by this field", self.texts(self.on_head(1)))
        self.close_menus()
        self.assertIn("Where these rows go…", self.texts(self.on_line(BAND)))
        self.close_menus()
        menu = self.on_line(PART)
        self.assertIn("Open or close", self.texts(menu))
        grid = self.window.bench.grid
        lines = grid.lines.count
        self.pick_entry(menu, "Open or close")
        self.assertNotEqual(grid.lines.count, lines)
        self.on_head(0)
        self.close_menus()
        self.pick_entry(self.on_head(1), "Sort the bench by this field")
        self.assertEqual(grid.content.sorted_by, (grid.column, False))

    def test_a_fields_head_puts_steps_there_for_it(self):
        self.open_demo(own=True)
        self.session.select(self.item("Loans").selection)
        self.rest()
        names = [column.field.name for column in self.window.bench.grid.content.columns]
        status = names.index("Status")
        self.pick_entry(self.on_head(status), "Filter by it…")
        self.assertIn("Status is blank", self.lines())
        self.pick("Status is blank")
        self.rest()
        self.assertIn("Status", self.sentence)
        table = self.session.selected_outcome().result.ports["rows"]
        self.assertEqual(table.column("Status").values.null_count, table.rows)
        self.session.select(self.item("Loans").selection)
        self.rest()
        self.pick_entry(self.on_head(status), "Sort the rows by it")
        made = self.session.selected_outcome().result.ports["rows"].column("Status").values.to_pylist()
        self.assertEqual(made, sorted(made))
        self.session.select(self.item("Loans").selection)
        self.rest()
        self.pick_entry(self.on_head(status), "Leave it out")
        self.assertNotIn("Status", self.session.selected_outcome().result.ports["rows"].names)
        self.session.select(self.item("Loans").selection)
        self.rest()
        value = names.index("Agreed value")
        self.assertNotIn("Split it", self.texts(self.on_head(value)))
        self.close_menus()
        self.window.bench.grid.column = value
        self.press(Qt.Key.Key_J, modifier=CTRL | ALT)
        self.assertIn("Compute from it…", self.texts(QApplication.activePopupWidget()))

    def test_the_value_under_the_pointer_is_copied_as_it_is(self):
        self.open_demo()
        self.session.select(self.item("Loans").selection)
        self.rest()
        self.pick_entry(self.on_line(ROW), "Copy the value")
        table = self.session.selected_outcome().result.ports["rows"]
        first = table.take(range(1), [table.names[0]])[0].values[0].as_py()
        self.assertEqual(QGuiApplication.clipboard().text(), str(first))

    def test_by_keyboard_the_menu_is_that_of_what_is_selected(self):
        self.open_demo()
        self.session.select(self.item("Loans").selection)
        self.window.trellis.setFocus()
        self.press(Qt.Key.Key_Menu)
        menu = QApplication.activePopupWidget()
        if menu is None:  # the platform makes no such event of the key here
            from PySide6.QtGui import QContextMenuEvent

            reason = QContextMenuEvent.Reason.Keyboard
            QApplication.sendEvent(self.window.trellis, QContextMenuEvent(reason, QPoint(), QPoint()))
            menu = QApplication.activePopupWidget()
        self.assertIn("Refresh the selected source", self.texts(menu))

    def test_a_link_is_removed_and_all_combinations_are_paired_on_purpose(self):
        data = self.open_demo(own=True).parent
        self.window.files.new()
        self.rest()
        self.drop_files(data / "loans-2026.xlsx")
        for table in ("Venues", "Venues!F3"):
            self.session.select(self.stump(table))
            self.window.commands["begin"].trigger()
            self.rest()
        venues, regions = (step.id for step in self.session.flow.steps)
        trellis = self.window.trellis
        places = [
            trellis.on_screen(next(i for i in trellis.items if i.selection == Selection(step)).rect).center()
            for step in (venues, regions)
        ]
        self.drag(trellis, *places)
        self.rest()
        self.press(Qt.Key.Key_Return)
        self.rest()
        knot = self.session.flow.step(self.session.selection.step)
        rows = [self.session.outcome(step).result.rows.rows for step in (venues, regions)]
        names = [shape.fields[0].name for shape in self.session.outcome(knot.id).inputs]
        editing.change_join(self.session, knot.id, "Link them", links=(LinkSettings(*names),))
        self.rest()
        self.choose("Link field of Venues", "remove this link")
        self.assertEqual(editing.join_settings(self.session, knot.id).links, ())
        wanted = self.chip("Cross join").chip.text
        self.assertTrue(wanted.endswith(f"on purpose: {rows[0] * rows[1]:,} rows"), wanted)
        self.click(self.chip("Cross join"))
        self.rest()
        self.assertEqual(self.session.outcome(knot.id).result.rows.rows, rows[0] * rows[1])

    def bead(self, step: str):
        found = next(
            item
            for item in self.window.trellis.items
            if item.role == "step" and item.selection == Selection(step)
        )
        return self.window.trellis.on_screen(found.rect).center()

    def test_a_bead_is_dragged_along_its_rail(self):
        self.open_demo(own=True)
        self.session.select(self.item("Loans").selection)
        steps = []
        for kind in ("filter", "sort", "first"):
            steps.append(editing.insert(self.session, kind, KINDS.find(kind).settings_type(), kind))
            self.rest()

        def order():
            return [step.id for step in self.session.flow.in_order() if step.id in steps]

        one, two, three = steps
        trellis = self.window.trellis
        self.drag(trellis, self.bead(three), self.bead(one))
        self.rest()
        self.assertEqual(order(), [three, one, two])
        self.drag(trellis, self.bead(three), self.bead(two))
        self.rest()
        self.assertEqual(order(), [one, two, three])
        self.session.undo()
        self.assertEqual(order(), [three, one, two])
        flow = self.session.flow
        self.assertIsNone(move_along(flow, one, two, after=False))  # it is there already
        self.assertIsNone(move_along(flow, one, "objects", after=True))

    def test_why_something_cannot_be_dropped_is_said_where_it_is(self):
        self.open_demo()
        trellis = self.window.trellis
        output = next(item for item in trellis.items if item.role == "output")
        start = trellis.on_screen(self.item("Objects").rect).center()
        self.drag(trellis, start, trellis.on_screen(output.rect).center())
        self.assertIn("An output ends its rail", self.window.status.shown.text())

    def test_what_takes_the_benchs_place_is_left_by_mouse(self):
        self.open_demo()
        bench = self.window.bench
        knot = next(item for item in self.window.trellis.items if item.role == "knot")
        for selected, opener, show in (
            (self.item("Loans").selection, bench.fields, bench.fields.show),
            (self.item("Loans").selection, bench.raw, bench.show_raw),
            (knot.selection, bench.guards, bench.guards.show),
            (knot.selection, bench.types, bench.types.show_or_close),
            (knot.selection, bench.mends, bench.mends.show),
            (knot.selection, bench.attention, bench.attention.show_or_close),
            (knot.selection, bench.record, bench.record.show),
            (knot.selection, bench.trace, bench.show_trace),
        ):
            self.session.select(selected)
            self.rest()
            bench.grid.move_to(bench.grid._first_row())
            show()
            self.rest()
            self.assertTrue(opener.is_shown, opener)
            back = next(
                button
                for button in opener.view.findChildren(QPushButton)
                if button.accessibleName() == "Back to the rows"
            )
            self.click(back)
            self.assertFalse(opener.is_shown, opener)
            self.assertTrue(bench.grid.isVisible())

    def test_an_action_of_a_panel_is_a_button(self):
        self.open_demo(own=True)
        knot = next(item for item in self.window.trellis.items if item.role == "knot")
        self.session.select(knot.selection)
        self.rest()
        self.window.bench.guards.show()
        self.rest()
        view = self.window.bench.guards.view
        buttons = {button.accessibleName(): button for button in view.findChildren(QPushButton)}
        statement = view.lines[0].statement
        self.click(buttons["Set, or show its rows"])
        self.rest()
        self.assertEqual([line.statement for line in view.lines if line.checked], [statement])
        self.click(buttons["Remove it"])
        self.rest()
        self.assertEqual([line for line in view.lines if line.checked], [])


class EveryCommand(WindowCase):
    def find(self, word: str, found: str):
        """What the finder has for a word."""
        self.press(Qt.Key.Key_K, modifier=CTRL)
        self.type(word)
        self.assertIn(found, self.lines(), word)
        self.press(Qt.Key.Key_Escape)

    def test_the_finder_knows_other_words(self):
        self.open_demo()
        self.session.select(self.item("Loans").selection)
        known = {command.name for command in self.window.commands.described}
        self.assertLessEqual(set(OTHER_WORDS), known)
        for word, found in (
            ("merge", "Join with"),
            ("lookup", "Join with"),
            ("append", "Put rows below these"),
            ("stack", "Put rows below these"),
            ("export", "Write these rows to a file"),
            ("dedupe", "Keep distinct rows here"),
            ("pivot", "Summarise by keys here"),
        ):
            self.find(word, found)
        knot = next(item for item in self.window.trellis.items if item.role == "knot")
        self.session.select(knot.selection)
        self.rest()
        for word, found in (
            ("cartesian", "Change the join"),
            ("unmatched", "Next band"),
            ("rejects", "Next band"),
        ):
            self.find(word, found)

    def test_the_keys_of_a_greyed_command_say_why(self):
        self.open_demo()
        self.session.select(Selection())
        for command in self.window.commands.described:
            action = self.window.commands[command.name]
            self.assertEqual(action.isEnabled(), command.enabled, command.name)
            self.assertTrue(command.enabled or action.toolTip(), command.name)
        self.window.trellis.setFocus()
        self.press(Qt.Key.Key_T, modifier=CTRL)
        self.assertEqual(self.window.status.shown.text(), "Select a join first.")
        self.press(Qt.Key.Key_3)
        self.assertEqual(self.window.status.shown.text(), "Select a join first.")


class Chips(WindowCase):
    def test_a_chip_has_a_menu_with_what_can_be_done_with_it_and_its_step(self):
        self.open_demo()
        self.session.select(Selection("loans-with-objects"))
        self.rest()
        view = self.window.sentence.view
        chip = next(chip for chip in view.chips if "ignoring" in chip.text())
        menu = self.right_click(chip, chip.rect().center())
        self.pick_entry(menu, "Copy the sentence")
        self.assertIn("ignoring case and outer spaces", QGuiApplication.clipboard().text())
        menu = self.right_click(chip, chip.rect().center())
        texts = [without_keys(action.text()) for action in menu.actions()]
        self.assertIn("Change: preparation", texts)
        self.assertIn("Swap left and right", texts)
        self.pick_entry(menu, "Change: preparation")
        self.rest()
        self.assertIn("ignore accents", [choice.text for choice in self.chooser().choices])

    def test_a_field_is_renamed_and_retyped_from_its_head(self):
        self.open_demo()
        self.session.select(Selection("loans-with-objects"))
        self.rest()
        grid = self.window.bench.grid
        order = self.session.selected_outcome().result.rows.names
        for entry, answer, check in (
            ("Rename it…", "enter", lambda table: "State" in table.names),
            ("Read it as another type…", "pick", lambda table: table.field("State").type.value == "boolean"),
        ):
            names = [column.field.name for column in grid.content.columns]
            number = names.index("Status" if answer == "enter" else "State")
            grid.column = number
            place = QPoint(grid.column_left(number) + 12, 12)
            self.pick_entry(self.right_click(grid.viewport(), place), entry)
            if answer == "enter":
                self.enter("State")
            else:
                self.pick("boolean")
            self.rest()
            self.assertTrue(check(self.session.selected_outcome().result.rows))
        step = self.session.flow.step(self.session.selection.step)
        self.assertEqual(step.kind, "choose")  # one step for both
        self.assertEqual(len([entry for entry in self.session.flow.steps if entry.kind == "choose"]), 1)
        wanted = tuple("State" if name == "Status" else name for name in order)
        self.assertEqual(self.session.selected_outcome().result.rows.names, wanted)


class Tips(WindowCase):
    """What the pointer says, and what double clicks and the middle button do."""

    def tip_at(self, widget, point: QPoint) -> str:
        event = QHelpEvent(QEvent.Type.ToolTip, point, widget.mapToGlobal(point))
        QApplication.sendEvent(widget, event)
        return QToolTip.text()

    def test_a_long_value_a_field_and_a_reason_are_read_whole(self):
        long = "a lamp " * 30
        typed = TypedTable(("thing", "made"), ((long, "1890-01-01"), ("", "1891-01-01")))
        flow, step = edits.add_source(Flow(), SourceSettings("typed", typed=typed), "Objects")
        self.session.apply("begin", lambda _: flow, Selection(step))
        self.rest()
        grid = self.window.bench.grid
        view, row = grid.viewport(), int(grid.line_top(0)) + 8
        self.assertIn(long.strip(), self.tip_at(view, QPoint(80, row)))
        self.assertIn("thing: blank in the source", self.tip_at(view, QPoint(80, row + LINE_HEIGHT)))
        self.assertIn("thing: text", self.tip_at(view, QPoint(80, 10)))
        before = grid.columns.width(0)
        edge = QPointF(grid.column_left(0) + before, 10)
        self.double_click(view, edge)
        self.assertGreater(grid.columns.width(0), 3 * before)

    def test_everything_in_the_trellis_says_what_it_is_and_does(self):
        self.open_demo()
        trellis = self.window.trellis
        for role, said in (
            ("rail", "drag it"),
            ("step", "along its rail"),
            ("stub", "carry them on"),
            ("output", "F9"),
            ("table", "double click"),
        ):
            item = next(item for item in trellis.items if item.role == role)
            self.assertIn(item.text, item.tip)
            self.assertIn(said, item.tip)

    def test_commands_say_their_key(self):
        self.open_demo()
        self.window.commands.update()
        self.assertEqual(self.window.commands["refresh"].toolTip().count("(F5)"), 1)

    def test_chips_and_the_sentence_are_read_whole(self):
        self.open_demo()
        self.session.select(Selection("loans-with-objects"))
        self.rest()
        view = self.window.sentence.view
        self.assertIn("ignoring case and outer spaces", view.toolTip())
        chip = next(chip for chip in view.chips if "title" in chip.text())
        self.assertIn(chip.chip.text, chip.toolTip())

    def test_the_middle_button_leads_the_trellis(self):
        self.open_demo()
        trellis = self.window.trellis
        trellis.set_zoom(2.0)
        self.rest()
        bar = self.window._scroll.horizontalScrollBar()
        self.assertGreater(bar.maximum(), 100)
        bar.setValue(0)
        middle = Qt.MouseButton.MiddleButton
        QTest.mousePress(trellis, middle, pos=QPoint(600, 60))
        for x in (560, 500, 480):
            point = QPointF(x, 60)
            move = QMouseEvent(
                QEvent.Type.MouseMove,
                point,
                trellis.mapToGlobal(point),
                middle,
                middle,
                Qt.KeyboardModifier(0),
            )
            QApplication.sendEvent(trellis, move)
        QTest.mouseRelease(trellis, middle, pos=QPoint(480, 60))
        self.assertGreater(bar.value(), 60)


if __name__ == "__main__":
    unittest.main()
