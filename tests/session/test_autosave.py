"""What is not saved is kept aside, soon after an edit, and offered once nobody has it open any more."""

import unittest

from keen_trellis.flow import edits
from keen_trellis.flow.file_format import load
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.autosave import Autosave
from keen_trellis.session.jobs import Jobs
from keen_trellis.session.session import Session
from keen_trellis.sources.library import Library
from tests.session.stepping import SessionCase, Stepping


class Aside(SessionCase):
    def setUp(self):
        super().setUp()
        self.drafts = self.folder / "drafts"
        self.autosave = Autosave(self.session, self.drafts)
        self.addCleanup(self.autosave.close)

    def add(self, name="Loans", session=None):
        (session or self.session).apply(
            f"Add {name}", lambda flow: edits.add_source(flow, SourceSettings("typed", ""), name)
        )

    def copies(self):
        self.autosave._writer.submit(lambda: None).result()
        return sorted(self.drafts.glob("*.trellis"))

    def another(self):
        steps = Stepping()
        session = Session(Jobs(steps, steps), Library())
        return session, Autosave(session, self.drafts)

    def test_it_waits_for_a_pause_and_not_for_ever(self):
        self.add()
        self.assertEqual((self.copies(), len(self.steps.timers)), ([], 1))
        self.steps.wait(0.2)
        self.assertEqual(self.copies(), [])
        self.add("More")  # the pause begins anew
        self.assertEqual(len(self.steps.timers), 1)
        self.steps.wait(0.31)
        self.assertEqual(len(load(self.copies()[0], KINDS).steps), 2)

    def test_what_is_saved_needs_no_copy(self):
        self.add()
        self.steps.wait(1)
        self.session.save(self.folder / "a.trellis")
        self.assertEqual(self.copies(), [])
        self.autosave.close()
        self.assertEqual(list(self.drafts.iterdir()), [])

    def test_who_has_it_open_is_told_by_a_lock_that_goes_with_them(self):
        path = self.folder / "a.trellis"
        other, kept = self.another()
        self.addCleanup(kept.close)
        self.add("Lost", other)
        other.save(path)
        self.assertTrue(self.autosave.is_open_elsewhere(path))
        self.add("More", other)
        kept.keep()
        self.assertEqual(self.autosave.leftovers(), [])
        kept._lock.close()  # as the system does when the process ends
        self.assertFalse(self.autosave.is_open_elsewhere(path))
        (found,) = self.autosave.leftovers()
        self.assertEqual((found.name, len(found.flow.steps)), ("a", 2))
        self.autosave.throw_away(found.file)
        self.assertEqual(self.autosave.leftovers(), [])

    def test_a_folder_that_cannot_be_written_is_no_error(self):
        self.drafts.write_text("a file stands in its place")
        self.add()
        self.steps.wait(1)
        self.autosave.keep()
        self.assertEqual(self.session.flow.steps[0].name, "Loans")
        self.assertEqual(self.autosave.leftovers(), [])
        self.drafts.unlink()


if __name__ == "__main__":
    unittest.main()
