"""A large flow, several steps at once, zoom, pictures, repairs, and what assistive tools are told."""

import time
import unittest
from itertools import pairwise
from xml.etree import ElementTree

from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QAccessible, QGuiApplication, QImage, QKeySequence, QWheelEvent
from PySide6.QtPrintSupport import QPrintDialog, QPrinter
from PySide6.QtWidgets import QAbstractButton, QApplication, QFileDialog, QLineEdit, QMenu, QWidget

from keen_trellis.demo.large import large_flow
from keen_trellis.desktop.trellis import export
from keen_trellis.desktop.trellis.places import MOST_ROOMY
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Input
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.handbook import GUIDE, document
from keen_trellis.session import editing
from keen_trellis.session.selection import Selection
from tests import demo_data
from tests.desktop.driving import ALT, CTRL, SHIFT, WindowCase
from tests.desktop.test_join_sentence import JoinCase

KEY = Qt.Key


class LargeCase(WindowCase):
    def setUp(self):
        super().setUp()
        self.session.apply("open", lambda _: large_flow(demo_data.folder()), Selection("loans-3"))
        self.rest()
        self.trellis = self.window.trellis


class SixtySteps(LargeCase):
    def test_lanes_are_low_and_open_where_the_selection_is(self):
        self.assertGreater(len(self.session.flow.steps), MOST_ROOMY)
        knots = {knot.step: knot for knot in self.trellis.shown.knots}
        chosen = "loans-3-with-venues-3"
        self.assertEqual({knots[chosen].height, knots["loans-1-with-venues-1"].height}, {58, 26})
        heights = sorted(head.y for head in self.trellis.shown.heads)
        gaps = sorted(b - a for a, b in pairwise(heights))
        self.assertTrue(all(24 <= gap <= 40 for gap in gaps[: len(gaps) // 2]), gaps)
        self.session.select(Selection("loans-1-with-venues-1"))
        knots = {knot.step: knot for knot in self.trellis.shown.knots}
        self.assertEqual((knots[chosen].height, knots["loans-1-with-venues-1"].height), (26, 58))

    def test_captions_stand_only_where_selected_or_in_trouble(self):
        self.session.select(Selection("loans-2-with-venues-2"))
        shown = self.trellis.shown
        self.assertEqual([knot.step for knot in shown.knots if knot.captioned], ["loans-2-with-venues-2"])
        self.assertEqual([bead.name for bead in shown.beads if bead.captioned], [])
        flow = edits.replace_field(self.session.flow, "sort-by-out-date", "Out date", "Day out")
        self.session.apply("break it", lambda _: flow)
        self.rest()
        self.assertEqual(
            [bead.step for bead in self.trellis.shown.beads if bead.captioned and bead.alarm][:1],
            ["sort-by-out-date"],
        )

    def test_rails_that_belong_together_lie_together(self):
        names = [head.name for head in self.trellis.shown.heads]
        self.assertEqual(names[:10], [f"{name} {n}" for n in range(1, 6) for name in ("Loans", "Venues")])

    def test_what_did_not_change_stays_where_it_was(self):
        before = {head.name: head.y for head in self.trellis.shown.heads}
        self.session.select(Selection("loans-3"))
        editing.insert(self.session, "distinct", KINDS.find("distinct").settings_type(), "Distinct")
        self.rest()
        self.assertEqual({head.name: head.y for head in self.trellis.shown.heads}, before)

    def test_every_step_is_reached_with_arrow_keys(self):
        self.trellis.setFocus()
        self.session.select(Selection("loans-1"))
        self.press(KEY.Key_Right)
        self.assertEqual(self.session.selection.step, "venue-is-not-blank")
        self.press(KEY.Key_Down, KEY.Key_Up)
        reached, waiting = set(), [self.trellis.selected_item()]
        while waiting:
            item = waiting.pop()
            if item is None or item.selection in reached:
                continue
            reached.add(item.selection)
            shown = max(
                (i for i in self.trellis.items if i.selection == item.selection), key=lambda i: bool(i.part)
            )
            waiting += [self.trellis.neighbour(shown, *way) for way in ((1, 0), (-1, 0), (0, 1), (0, -1))]
        self.assertLessEqual(
            {step.id for step in self.session.flow.steps}, {chosen.step for chosen in reached}
        )

    def test_zoom_and_fit(self):
        whole = self.trellis.shown.least_width
        self.press(KEY.Key_9, modifier=CTRL)
        self.assertLess(self.trellis.zoom, 1)
        self.assertLessEqual(self.trellis.minimumHeight(), self.trellis.parentWidget().height() + 1)
        place = next(item for item in self.trellis.items if item.selection.step == "loans-4-with-venues-4")
        self.click(self.trellis, self.trellis.on_screen(place.rect).center())
        self.assertEqual(self.session.selection.step, "loans-4-with-venues-4")
        self.press(KEY.Key_0, modifier=CTRL)
        self.assertEqual((self.trellis.zoom, self.trellis.shown.least_width), (1.0, whole))
        self.window.commands["larger"].trigger()
        self.assertGreater(self.trellis.zoom, 1)
        self.wheel(-120)
        self.assertEqual(self.trellis.zoom, 1.0)

    def wheel(self, turn: int):
        point = QPointF(300, 100)
        event = QWheelEvent(
            point,
            self.trellis.mapToGlobal(point),
            QPoint(),
            QPoint(0, turn),
            Qt.MouseButton.NoButton,
            CTRL,
            Qt.ScrollPhase.NoScrollPhase,
            False,
        )
        QApplication.sendEvent(self.trellis, event)

    def test_steps_and_fields_are_found_by_typing(self):
        self.press(KEY.Key_G, modifier=CTRL | SHIFT)
        self.type("objects 4 with")
        self.press(KEY.Key_Escape)
        self.press(KEY.Key_G, modifier=CTRL | SHIFT)
        self.assertFalse([line for line in self.lines() if line == "Save"])
        self.type("dear in Loans 2")
        self.press(KEY.Key_Return)
        self.assertIn("loans-2", self.session.flow.upstream(self.session.selection.step))


class Pictures(LargeCase):
    def test_the_trellis_is_saved_as_svg_and_png(self):
        for name in ("flow.svg", "flow.png"):
            self.press(KEY.Key_I, modifier=CTRL | ALT)
            dialog = self.dialog(QFileDialog)
            dialog.selectNameFilter("Picture (*.png)" if name.endswith("png") else "Drawing (*.svg)")
            self.enter_file(self.folder / name)
            self.assertTrue((self.folder / name).exists())
        shown = self.trellis.shown
        image = QImage(str(self.folder / "flow.png"))
        self.assertEqual((image.width(), image.height()), (2 * round(shown.width), 2 * round(shown.height)))
        drawn = ElementTree.parse(self.folder / "flow.svg").getroot()
        words = "".join(drawn.itertext())
        self.assertIn("Loans 5", words)
        self.assertIn(self.session.name, words)

    def test_another_ending_is_refused_and_nothing_is_written(self):
        with self.assertRaisesRegex(Exception, "neither .svg nor .png"):
            export.save(self.trellis, self.folder / "flow.bmp", "x")
        with self.assertRaisesRegex(Exception, "cannot be written"):
            export.save(self.trellis, self.folder / "none" / "flow.svg", "x")
        self.assertFalse(list(self.folder.glob("flow*")))

    def test_it_is_printed_on_one_page(self):
        self.window.print_trellis()
        dialog = self.dialog(QPrintDialog)
        dialog.reject()
        printer = QPrinter(QPrinter.PrinterMode.HighResolution)
        printer.setOutputFormat(QPrinter.OutputFormat.PdfFormat)
        printer.setOutputFileName(str(self.folder / "flow.pdf"))
        export.print_on(printer, self.trellis)
        content = (self.folder / "flow.pdf").read_bytes()
        self.assertTrue(content.startswith(b"%PDF"))
        self.assertEqual(content.count(b"/Type /Page\n"), 1)


class SeveralAtOnce(LargeCase):
    def test_steps_are_chosen_together_copied_pasted_skipped_and_removed(self):
        steps = len(self.session.flow.steps)
        self.trellis.setFocus()
        beads = [bead for bead in self.trellis.shown.beads if bead.y == self.trellis.shown.beads[0].y][:2]
        for bead in beads:
            self.click(self.trellis, self.place(bead.step), modifier=CTRL)
        self.assertEqual(set(self.session.chosen_steps), {"loans-3", *(bead.step for bead in beads)})
        self.click(self.trellis, self.head("loans-3"), modifier=CTRL)
        self.assertEqual(set(self.session.chosen_steps), {bead.step for bead in beads})
        self.press(KEY.Key_C, modifier=CTRL)
        self.assertIn("2 steps are on the clipboard", self.window.status.shown.text())
        self.session.select(Selection("venues-5"))
        self.press(KEY.Key_V, modifier=CTRL)
        self.rest()
        self.assertEqual(len(self.session.flow.steps), steps + 2)
        pasted = self.session.flow.step(self.session.selection.step)
        self.assertEqual(self.session.flow.step(pasted.inputs[0].step).inputs, (Input("venues-5"),))
        self.assertTrue(self.session.history.undo_name.startswith("Paste "))
        self.press(KEY.Key_Z, modifier=CTRL)
        self.rest()
        self.click(self.trellis, self.place(beads[0].step))
        self.click(self.trellis, self.place(beads[1].step), modifier=CTRL)
        self.press(KEY.Key_K, modifier=CTRL | SHIFT)
        self.rest()
        self.assertTrue(all(self.session.flow.step(bead.step).skipped for bead in beads))
        self.press(KEY.Key_X, modifier=CTRL)
        self.rest()
        self.assertEqual(len(self.session.flow.steps), steps - 2)
        self.assertEqual(self.session.history.undo_name, "Remove 2 steps")

    def place(self, step: str) -> QPointF:
        bead = next(bead for bead in self.trellis.shown.beads if bead.step == step)
        return QPointF(bead.x, bead.y) * self.trellis.zoom

    def head(self, rail: str) -> QPointF:
        item = next(item for item in self.trellis.items if item.selection == Selection(rail))
        return self.trellis.on_screen(item.rect).center()

    def test_by_keyboard_with_shift_and_all_of_them(self):
        self.trellis.setFocus()
        self.press(KEY.Key_Right, KEY.Key_Right, modifier=SHIFT)
        self.assertEqual(len(self.session.chosen_steps), 3)
        self.press(KEY.Key_Escape)
        self.assertEqual(len(self.session.chosen_steps), 1)
        self.press(KEY.Key_A, modifier=CTRL)
        self.assertEqual(len(self.session.chosen_steps), len(self.session.flow.steps))

    def test_what_is_no_step_is_not_pasted(self):
        QGuiApplication.clipboard().setText("venue\tcost\n")
        before = self.session.flow
        self.press(KEY.Key_V, modifier=CTRL)
        self.assertIs(self.session.flow, before)
        self.assertIn("The clipboard holds no steps", self.window.status.shown.text())


class Branches(JoinCase):
    def test_a_branch_and_a_stub_run_on_lanes_of_their_own(self):
        for selection in (Selection("loans"), Selection("loans"), Selection(self.knot, "unmatched_left")):
            self.session.select(selection)
            self.press(KEY.Key_X, modifier=CTRL | ALT)
            self.rest()
            step = self.session.flow.step(self.session.selection.step)
            self.assertEqual(step.inputs, (Input(selection.step, selection.port),))
        self.assertEqual(self.session.flow.step(self.knot).inputs[0], Input("loans"))
        self.assertEqual(self.session.history.undo_name, "Branch off Loans with Objects")
        shown = self.window.trellis.shown
        lanes = {bead.y for bead in shown.beads} | {knot.y for knot in shown.knots}
        self.assertEqual(len(lanes), 4)
        early = [rail for rail in shown.rails if rail.turns_early]
        self.assertEqual(len(early), 3)

    def test_a_stub_takes_over_the_fields_and_names_of_the_kept_rows(self):
        editing.change_join(self.session, self.knot, "fewer", keep=("object", "note"), type="inner")
        self.session.select(Selection(self.knot, "unmatched_right"))
        self.rest()
        self.click(self.chip("Carry on"))
        self.rest()
        step = self.session.flow.step(self.session.selection.step)
        self.assertEqual(step.kind, "choose")
        kept = self.session.outcome(self.knot).result.rows.names
        carried = self.session.outcome(step.id).result.rows.names
        self.assertEqual(carried, ("object", "year", "from", "note of Objects"))
        self.assertLessEqual(set(carried), set(kept))

    def test_a_table_joins_itself_under_another_name(self):
        self.session.select(Selection("loans"))
        flow, again = edits.add_source(self.session.flow, self.session.sources()["loans"], "Loans")
        links = (LinkSettings("venue", "venue"),)
        flow, knot = edits.add_join(
            flow, Input("loans"), Input(again), JoinSettings(links=links, type="inner", bring=("loan",))
        )
        self.session.apply("itself", lambda _: flow, Selection(knot))
        self.rest()
        self.assertEqual(self.session.flow.step(again).name, "Loans 2")
        self.assertIn("with venue of Loans 2", self.sentence)
        self.assertEqual(self.session.outcome(knot).result.rows.names[-1], "loan of Loans 2")


class Repairs(JoinCase):
    def test_a_step_whose_rows_are_gone_is_led_to_others(self):
        self.session.select(Selection("objects"))
        self.press(KEY.Key_Delete)
        self.rest()
        self.session.select(Selection(self.knot))
        self.rest()
        self.assertIn("that it takes rows from is missing", self.sentence)
        knot = self.window.trellis.shown.knots[0]
        self.assertTrue(knot.alarm)
        self.assertTrue([rail for rail in self.window.trellis.shown.rails if rail.rows < 0])
        self.choose("Rows", "Loans")
        self.assertEqual(self.session.flow.step(self.knot).inputs[1], Input("loans"))
        self.assertEqual(
            self.session.history.undo_name, f"Lead Loans to {self.session.flow.step(self.knot).name}"
        )

    def test_an_output_of_a_removed_rail_stays_and_says_what_it_lacks(self):
        flow, output = edits.add_step(
            self.session.flow,
            "output",
            "out.csv",
            [Input("objects")],
            KINDS.find("output").settings_type("text", str(self.folder / "out.csv")),
        )
        self.session.apply("remove", lambda _: edits.remove_step(flow, "objects"), Selection(output))
        self.rest()
        self.assertIn("is missing", self.sentence)
        needs = self.window.attention.text()
        self.assertIn("wrong", needs)
        self.click(self.chip("Remove"))
        self.rest()
        self.assertIsNone(self.session.flow.find(output))

    def test_a_field_that_is_gone_is_replaced_by_the_one_called_alike(self):
        path = self.folder / "loans.csv"
        path.write_text(path.read_text().replace("object,venue", "object no,venue"))
        self.session.library.take_anew()
        self.session.refresh()
        self.rest()
        self.session.select(Selection(self.knot))
        self.rest()
        self.assertIn("There is no field “object”", self.sentence)
        self.click(self.chip("Use"))
        self.rest()
        self.assertEqual(self.settings.links[0].left, "object no")
        self.assertIsNone(self.session.outcome(self.knot).error)
        self.assertEqual(self.session.history.undo_name, "Use object no in place of object")

    def test_any_other_field_can_be_used_instead(self):
        editing.change_join(self.session, self.knot, "break it", keep=("loan", "wenue"))
        self.rest()
        self.choose("Another field", "note")
        self.assertEqual(self.settings.keep, ("loan", "note"))


class Access(WindowCase):
    def test_everything_that_takes_the_keyboard_says_what_it_is(self):
        self.open_demo()
        silent: set[str] = set()
        for prepare in (
            lambda: None,
            self.window.bench.finding.open,
            self.window.bench.fields.show_or_close,
            self.window.bench.attention.show_or_close,
            self.window.bench.types.show_or_close,
            self.window.bench.guards.show,
        ):
            prepare()
            self.rest()
            silent |= self.silent(self.window)
        self.window.selected.ask_question()
        silent |= self.silent(QApplication.activePopupWidget())
        self.assertEqual(silent, set())

    def silent(self, top: QWidget) -> set[str]:
        """The widgets that take the keyboard and have no name for assistive tools."""
        found = set()
        for widget in (top, *top.findChildren(QWidget)):
            takes = widget.focusPolicy() & Qt.FocusPolicy.TabFocus and widget.isVisible()
            if not takes or isinstance(widget, QMenu):
                continue
            name = widget.accessibleName() or (widget.text() if isinstance(widget, QAbstractButton) else "")
            if isinstance(widget, QLineEdit):
                name = name or widget.placeholderText()
            if not name:
                found.add(f"{type(widget).__name__} in {type(widget.parent()).__name__}")
        return found

    def test_everything_has_a_role(self):
        self.open_demo()
        for widget in self.window.findChildren(QWidget):
            if widget.isVisible() and widget.focusPolicy() & Qt.FocusPolicy.TabFocus:
                told = QAccessible.queryAccessibleInterface(widget)
                self.assertIsNotNone(told, widget)
                self.assertNotEqual(told.role(), QAccessible.Role.NoRole, widget)

    def test_the_trellis_says_what_is_selected(self):
        self.open_demo()
        for selection, words in (
            (Selection("loans"), "rail Loans"),
            (Selection("loans-with-objects"), "knot matched: 8,303 rows"),
            (Selection("compute-month"), "step compute month"),
            (Selection("loan-report-xlsx"), "output Loan report.xlsx"),
        ):
            self.session.select(selection)
            self.rest()
            self.assertIn(words, self.window.trellis.accessibleDescription())

    def test_assistive_tools_are_told_of_each_thing_in_the_trellis_and_on_the_bench(self):
        self.open_demo()
        self.session.select(Selection("loans-with-objects"))
        self.rest()
        trellis, grid = self.window.trellis, self.window.bench.grid
        whole = QAccessible.queryAccessibleInterface(trellis)
        self.assertEqual((whole.role(), whole.childCount()), (QAccessible.Role.List, len(trellis.items)))
        named = QAccessible.Text.Name
        children = [whole.child(number) for number in range(whole.childCount())]
        self.assertIn("rail Loans", [child.text(named) for child in children])
        (current,) = [child for child in children if child.state().focused]
        self.assertIn("knot", current.text(named))
        middle = current.rect().center()
        self.assertEqual(whole.indexOfChild(whole.childAt(middle.x(), middle.y())), children.index(current))
        rows = QAccessible.queryAccessibleInterface(grid)
        grid.move_to(2)
        lines = [rows.child(number).text(named) for number in range(rows.childCount())]
        self.assertEqual(lines[0], "Unmatched Loans · 49 rows")
        self.assertIn("Object no LCM10711, title no partner", lines[2])
        self.assertTrue(rows.focusChild().text(named) == lines[2])

    def test_every_command_is_in_a_menu_and_on_a_documented_key_of_its_own(self):
        actions = self.window.commands.all
        keys = [action.shortcut().toString() for action in actions if not action.shortcut().isEmpty()]
        self.assertEqual(len(keys), len(set(keys)))
        without = {action.text() for action in actions if action.shortcut().isEmpty()}
        helps = {
            action.text()
            for command in self.window.commands.described
            if command.menu == "Help"
            for action in [self.window.commands[command.name]]
        }
        self.assertLessEqual(without, helps)  # nobody needs these at a stroke
        guide = document(GUIDE)
        told = guide[guide.index("| menu | command | key |") :].splitlines()[2:]
        documented = {QKeySequence(line.split("|")[3].strip()).toString() for line in told}
        self.assertEqual(set(keys), documented)
        in_menus = {action for menu in self.window.findChildren(QMenu) for action in menu.actions()}
        self.assertLessEqual(set(actions), in_menus)

    def test_selecting_answers_at_once_in_a_large_flow(self):
        # Not a timed test: it only says so if a whole second is not enough.
        self.session.apply("open", lambda _: large_flow(demo_data.folder()), Selection("loans-1"))
        self.rest()
        started = time.monotonic()
        for step in list(self.session.flow.steps)[:20]:
            self.session.select(Selection(step.id))
        self.assertLess(time.monotonic() - started, 20)


if __name__ == "__main__":
    unittest.main()
