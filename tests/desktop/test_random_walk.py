"""A user who presses whatever there is: whatever happens, the window goes on, and the flow can be saved."""

import random
import unittest
from itertools import count

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from keen_trellis.desktop.kinds import COMMANDS
from keen_trellis.desktop.shell.turns import pause
from keen_trellis.flow.file_format import load
from keen_trellis.flow.steps import KINDS
from keen_trellis.session import combining, editing
from keen_trellis.session.selection import Selection
from tests import demo_data
from tests.desktop.driving import WindowCase

KEY = Qt.Key
_ACTIONS = 24
_FLOWS = ("Winter loans", "Cost per visitor", "Sets", "All couriers", "Returns desk")
# Chips that open a dialog of the system, or write a file.
_NOT_PRESSED = ("File", "Write", "Sheet")


class RandomWalk(WindowCase):
    def test_whatever_is_pressed(self):
        for seed in range(2):
            with self.subTest(seed=seed):
                self.walk(random.Random(seed))

    def settle(self, chance):
        """Let what was begun come to an end."""
        self.rest()

    def walk(self, chance: random.Random):
        path = demo_data.folder() / f"{chance.choice(_FLOWS)}.trellis"
        self.window.files.open_flow(path)
        self.settle(chance)
        for _ in range(_ACTIONS):
            steps = [step.id for step in self.session.flow.steps]
            if not steps:
                break
            step = self.session.flow.step(chance.choice(steps))
            port = "unmatched_left" if step.kind == "join" and chance.random() < 0.3 else "rows"
            self.session.select(Selection(step.id, port))
            chance.choice(self.actions)(chance, Selection(chance.choice(steps)))
            self.settle(chance)
            self.answer_lists(chance)
        self.rest()
        target = self.folder / f"{chance.random()}.trellis"
        flow = self.session.flow
        self.session.save(target)
        self.assertEqual([step.id for step in load(target, KINDS).steps], [step.id for step in flow.steps])

    @property
    def actions(self):
        session, window = self.session, self.window
        return [
            *[lambda chance, _: window.selected.begin_step(*chance.choice(list(COMMANDS.items())))] * 3,
            *[self.press_a_chip] * 3,
            lambda _, __: session.undo(),
            lambda _, __: session.redo(),
            lambda _, __: editing.remove_selected(session),
            lambda _, __: editing.skip_selected(session),
            lambda chance, _: editing.move_selected(session, later=chance.random() < 0.5),
            lambda _, other: combining.stack(session, other, session.selection),
            lambda _, other: window.combining.reconcile(other, session.selection),
            lambda _, other: combining.blend(session, other, session.selection),
            lambda _, __: window.combining.share_filter(),
            lambda _, __: self.copy_and_paste(),
            lambda chance, _: session.choose_too(chance.choice(session.flow.steps).id),
            lambda chance, _: window.trellis.set_zoom(chance.choice([0.5, 1.0, 1.5])),
            lambda _, other: window.combining.join(other, session.selection),
            lambda _, __: window.bench.fields.show_or_close(),
            lambda _, __: window.bench.attention.show_or_close(),
            lambda _, __: window.bench.show_trace(),
            self.press_in_the_grid,
        ]

    def copy_and_paste(self):
        self.window.trellis.setFocus()
        self.window.selected.copy()
        self.window.selected.paste()

    def press_a_chip(self, chance, _):
        self.settle(chance)
        chips = [chip for chip in self.window.sentence.view.chips if chip.chip.label not in _NOT_PRESSED]
        if chips:
            chance.choice(chips).click()

    def press_in_the_grid(self, chance, _):
        self.settle(chance)
        for _ in range(5):
            keys = [KEY.Key_Down, KEY.Key_Return, KEY.Key_Space, KEY.Key_Right, KEY.Key_Escape]
            QTest.keyClick(self.window.bench.grid, chance.choice(keys))

    def answer_lists(self, chance):
        """Answer the lists and lines that opened, some of them with nonsense."""
        for number in count():
            popup = QApplication.activePopupWidget()
            if popup is None:
                return
            target = popup.focusWidget() or popup
            for _ in range(chance.randint(0, 4)):
                QTest.keyClick(target, chance.choice([KEY.Key_Down, KEY.Key_Down, KEY.Key_Space, KEY.Key_Up]))
            if chance.random() < 0.25:
                QTest.keyClicks(target, chance.choice(["a", "1", "x -> 3", "value", '"']))
            leave = number > 2 or chance.random() < 0.3
            if QApplication.activePopupWidget() is popup:
                QTest.keyClick(target, KEY.Key_Escape if leave else KEY.Key_Return)
            if number > 5 and QApplication.activePopupWidget() is popup:
                popup.close()
            self.settle(chance)


class WhileItComputes(RandomWalk):
    """The same user, who does not wait: jobs are under way whenever something is pressed."""

    kept = None  # so that all is computed

    def settle(self, chance):
        pause(chance.choice([0, 1, 5, 20]))


if __name__ == "__main__":
    unittest.main()
