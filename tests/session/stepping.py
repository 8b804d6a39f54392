"""A session without a window, whose jobs and turns are taken step by step as the test chooses."""

import os
import unittest
from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

from keen_trellis.session import editing
from keen_trellis.session.jobs import Jobs
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session
from keen_trellis.sources.library import Library
from tests import demo_data

# Shared, so that the demo's own files are read only once in all tests.
_LIBRARY = Library()


class Stepping:
    """The session's thread and its workers in one: nothing happens before it is asked for."""

    def __init__(self):
        self.waiting: list[Callable[[], None]] = []
        self.turns: list[Callable[[], None]] = []
        self.timers: list[list] = []  # seconds that are left, and what is called then

    def soon(self, function):
        self.turns.append(function)

    def later(self, seconds, function):
        entry = [seconds, function]
        self.timers.append(entry)
        return lambda: self.timers.remove(entry) if entry in self.timers else None

    def submit(self, work):
        self.waiting.append(work)

    def shutdown(self, wait=True):
        self.waiting.clear()

    def turn(self):
        """Do what is to be done on the session's thread."""
        while self.turns:
            self.turns.pop(0)()

    def work(self, place=0):
        """Do one job (0 the oldest, -1 the latest), and then what it tells."""
        self.waiting.pop(place)()
        self.turn()

    def rest(self):
        """Do everything, the oldest first."""
        self.turn()
        while self.waiting:
            self.work()

    def wait(self, seconds):
        """Let time go by: call what is to be called until then."""
        for entry in list(self.timers):
            entry[0] -= seconds
            if entry[0] <= 0:
                self.timers.remove(entry)
                entry[1]()
        self.turn()


class SessionCase(unittest.TestCase):
    """A session of its own for each test. told: what it said in the status line, errors included."""

    def setUp(self):
        place = TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        # What one test's flows confirm, another one does not know.
        self.enterContext(mock.patch.dict(os.environ, XDG_DATA_HOME=str(self.folder / "data")))
        self.steps = Stepping()
        self.session = Session(Jobs(self.steps, self.steps), _LIBRARY)
        self.told: list[str] = []
        self.session.said.connect(self.told.append)
        self.session.failed.connect(lambda error: self.told.append(error.what))

    def open_demo(self, name="Winter loans"):
        """Open one of the demo's flows, and find out what it comes to."""
        self.session.open(demo_data.folder() / f"{name}.trellis")
        self.steps.rest()

    def begin_rails(self, **texts):
        """Begin a rail at each of some tables, given by name as delimited text."""
        for name, text in texts.items():
            path = self.put(f"{name}.csv", text)
            editing.add_files(self.session, [path])
            self.steps.rest()
            editing.begin_rail(self.session, Selection(path=str(path), table=name))
        self.steps.rest()

    def put(self, name, text):
        """A text file in the test's folder."""
        path = self.folder / name
        path.write_text(text)
        return path

    def names(self):
        """The names of the steps."""
        return [step.name for step in self.session.flow.steps]

    def kind(self, kind):
        """The first step of a kind."""
        return next(step for step in self.session.flow.steps if step.kind == kind)
