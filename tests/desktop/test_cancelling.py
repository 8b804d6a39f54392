"""What the user stops is told to whoever asked for it, and can be asked for again."""

import threading
import unittest
from unittest import mock

from keen_trellis.core.task import Task
from keen_trellis.desktop.shell.turns import pause
from keen_trellis.session import explaining
from keen_trellis.session.selection import Selection
from tests import demo_data
from tests.desktop.driving import WindowCase


class Stopped(WindowCase):
    kept = None

    def slow(self, target, name):
        """Let something last until it is cancelled, the first time; what it does then is as ever."""
        real, begun, times = getattr(target, name), threading.Event(), []

        def wait(*words, **more):
            times.append(1)
            task = next(word for word in (*words, *more.values()) if isinstance(word, Task))
            if len(times) == 1:
                begun.set()
                while True:
                    task.checkpoint()
            return real(*words, **more)

        self.enterContext(mock.patch.object(target, name, wait))
        return begun

    def stop(self, begun):
        self.assertTrue(begun.wait(10))
        self.window.jobs.cancel_all()
        self.rest()

    def test_a_file_that_was_being_looked_into_says_so_and_is_tried_again(self):
        path = self.folder / "loans.csv"
        path.write_text("venue,crates\nPier,1\n")
        begun = self.slow(self.session.library, "content")
        self.window.files.open_paths([path])
        self.stop(begun)
        self.assertIn("was stopped", str(self.session.margin.files[str(path)].error))
        self.session.compute_again()
        self.rest()
        self.assertIsNone(self.session.margin.files[str(path)].error)

    def test_a_table_that_was_being_read_says_so_and_is_tried_again(self):
        path = self.folder / "loans.csv"
        path.write_text("venue,crates\nPier,1\n")
        begun = self.slow(self.session.library, "get")
        self.window.files.open_paths([path])  # its table is shown at once
        self.wait_for(begun)
        self.stop(begun)
        self.assertIn("was stopped", str(self.session.selected_outcome().error))
        self.session.compute_again()
        self.session.select(Selection())
        self.session.select(Selection(path=str(path), table="loans"))
        self.rest()
        self.assertEqual(self.session.selected_outcome().result.rows.rows, 1)

    def test_an_explanation_is_looked_for_again(self):
        begun = self.slow(explaining, "explained")
        self.window.files.open_flow(demo_data.folder() / "Winter loans.trellis")
        self.wait_for(begun)
        self.stop(begun)
        knot = self.session.selection
        self.session.select(Selection())
        self.session.select(knot)
        self.rest()
        self.assertTrue(self.has_reasons())

    def has_reasons(self):
        return any(part.reason is not None for part in self.window.bench.content.parts)

    def wait_for(self, begun):
        for _ in range(3_000):
            if begun.is_set():
                return
            pause(1)
        self.fail("it did not begin")


if __name__ == "__main__":
    unittest.main()
