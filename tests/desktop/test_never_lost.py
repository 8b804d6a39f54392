"""What is not saved survives a crash, and what somebody else saved is not overwritten unseen."""

import random
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path

from PySide6.QtWidgets import QMessageBox

from keen_trellis.desktop.pictures import new_window
from keen_trellis.flow import edits
from keen_trellis.flow.file_format import load
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.autosave import Autosave
from keen_trellis.session.selection import Selection
from tests.desktop.driving import WindowCase

# A window that edits its flow without end, a step more each time, and keeps a copy after every edit.
_EDITING = """
import sys
from pathlib import Path
from PySide6.QtCore import QCoreApplication
from keen_trellis.session.autosave import Autosave
from keen_trellis.desktop.pictures import new_window
from keen_trellis.flow import edits
from keen_trellis.flow.source_settings import SourceSettings

window = new_window()
session = window.session
window.files.autosave = Autosave(session, Path(sys.argv[1]), wait=0)
while True:
    name = f"Table {len(session.flow.steps)}"
    session.apply("more", lambda flow: edits.add_source(flow, SourceSettings("typed", ""), name))
    QCoreApplication.processEvents()
    window.files.autosave.keep()
    print(len(session.flow.steps), flush=True)
"""


class NeverLost(WindowCase):
    def setUp(self):
        super().setUp()
        self.drafts = self.folder / "drafts"
        self.autosave = self.window.files.autosave = Autosave(self.session, self.drafts, wait=0)

    def add_rail(self, name="Loans", window=None):
        session = (window or self.window).session
        flow, step = edits.add_source(session.flow, SourceSettings("typed", ""), name)
        session.apply(f"Add {name}", lambda _: flow, Selection(step))
        self.rest()

    def copies(self) -> list[Path]:
        return sorted(self.drafts.glob("*.trellis"))

    def test_a_copy_is_kept_until_the_flow_is_saved(self):
        self.add_rail()
        self.rest(lambda: self.copies())
        self.assertEqual(load(self.copies()[0], KINDS), self.session.flow)
        # A copy of a window that is there is nobody's leftover.
        self.assertEqual(self.autosave.leftovers(), [])
        self.session.save(self.folder / "a.trellis")
        self.assertEqual(self.copies(), [])
        self.window.close()
        self.assertEqual(list(self.drafts.iterdir()), [])

    def test_killed_while_it_edits_many_times_the_last_edits_are_offered(self):
        chance = random.Random(7)
        for _ in range(5):
            process = subprocess.Popen(
                [sys.executable, "-c", _EDITING, str(self.drafts)], stdout=subprocess.PIPE, text=True
            )
            self.assertEqual(process.stdout.readline(), "1\n")
            time.sleep(chance.uniform(0.05, 0.4))
            process.send_signal(signal.SIGKILL)
            said = [1, *(int(line) for line in process.stdout.read().split("\n") if line.isdecimal())]
            process.wait()
            (leftover,) = self.autosave.leftovers()
            # What was said to be kept is there; one edit more may be.
            self.assertIn(len(leftover.flow.steps), (said[-1], said[-1] + 1))
            self.autosave.throw_away(leftover.file)
        self.assertEqual(self.copies(), [])

    def leave_a_copy(self, path: Path | None = None):
        """What a window leaves that ended with a flow it had not saved."""
        other = new_window()
        self.addCleanup(other.jobs.close)
        autosave = Autosave(other.session, self.drafts, wait=100_000)
        if path is not None:
            other.session.open(path)
        self.add_rail("Lost", other)
        autosave.keep()
        autosave._lock.close()  # as the system does when the process ends

    def test_the_copy_is_offered_and_goes_on_unsaved(self):
        saved = self.folder / "Winter.trellis"
        self.add_rail()
        self.session.save(saved)
        self.window.files.new()
        self.leave_a_copy(saved)
        self.window.files.offer_recovery()
        self.assertIn("“Winter” was not saved", self.dialog(QMessageBox).text())
        self.answer("Go on with the copy")
        self.rest()
        self.assertEqual([step.name for step in self.session.flow.steps], ["Loans", "Lost"])
        self.assertEqual((self.session.path, self.session.unsaved), (saved, True))
        self.assertEqual(self.autosave.leftovers(), [])
        self.session.save(saved)
        self.assertEqual(len(load(saved, KINDS).steps), 2)

    def test_a_copy_can_be_thrown_away_and_is_not_asked_about_again(self):
        self.leave_a_copy()
        self.window.files.offer_recovery()
        self.assertIn("“Untitled flow”", self.dialog(QMessageBox).text())
        self.answer("Throw it away")
        self.assertEqual(self.copies(), [])
        self.window.files.offer_recovery()
        self.assertEqual(self.session.flow.steps, ())

    def test_a_damaged_copy_is_passed_over(self):
        self.leave_a_copy()
        self.copies()[0].write_text("{")
        self.assertEqual(self.autosave.leftovers(), [])

    def test_a_file_that_somebody_else_changed_is_not_overwritten_unseen(self):
        path = self.folder / "a.trellis"
        self.add_rail()
        self.session.save(path)
        self.add_rail("Mine")
        theirs = path.read_text().replace("Loans", "Theirs")
        path.write_text(theirs)
        self.window.files.save()
        self.assertIn("changed by somebody else", self.dialog(QMessageBox).text())
        self.answer("Cancel")
        self.assertEqual(path.read_text(), theirs)
        self.window.files.save()
        self.answer("Save under another name…")
        self.enter_file(self.folder / "b.trellis")
        self.rest()
        self.assertEqual((path.read_text(), self.session.path.name), (theirs, "b.trellis"))
        self.session.open(path)
        self.add_rail("Mine")
        path.write_text(theirs.replace("Theirs", "Again"))
        self.window.files.save()
        self.answer("Overwrite it")
        self.assertEqual([step.name for step in load(path, KINDS).steps], ["Theirs", "Mine"])

    def test_two_windows_on_one_file_know_of_each_other(self):
        path = self.folder / "a.trellis"
        self.add_rail()
        self.session.save(path)
        other = new_window()
        self.addCleanup(other.jobs.close)
        other.files.autosave = Autosave(other.session, self.drafts, wait=0)
        other.files.open_flow(path)
        self.assertIn("open in another window, too", other.status.shown.text())
        self.assertFalse(other.files.autosave.is_open_elsewhere(self.folder / "b.trellis"))
        self.autosave.close()
        self.assertFalse(other.files.autosave.is_open_elsewhere(path))
        # Where it cannot be kept, the flow itself goes on.
        self.drafts.chmod(0o500)
        self.addCleanup(self.drafts.chmod, 0o700)
        self.add_rail("More")


if __name__ == "__main__":
    unittest.main()
