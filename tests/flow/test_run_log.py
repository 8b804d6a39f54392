"""The log beside a flow: added to by several at once, put together in any order, and never something else."""

import os
import resource
import signal
import stat
import subprocess
import sys
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

import msgspec
from hypothesis import given
from hypothesis import strategies as st

from keen_trellis.core.errors import FlowFileError, OutputError
from keen_trellis.flow import run_log
from keen_trellis.flow.last_run import KnotCounts
from keen_trellis.flow.run_log import MOST_RUNS, log_path, note, read
from keen_trellis.flow.runs import Run, names_of, rates

# What adds runs in a process of its own: how many, and what their ids begin with.
_ADDING = """
import sys
from pathlib import Path
from keen_trellis.flow.run_log import note
from keen_trellis.flow.runs import Run
for number in range(int(sys.argv[2])):
    note(Run(f"{sys.argv[3]}{number:04}", f"2027-05-01T00:00:{number % 60:02}Z", "run"), Path(sys.argv[1]))
"""
# What a merge leaves between lines, an empty line, one that was cut off, and JSON that is no run.
_MARKS = (b"<<<<<<< here", b"=======", b">>>>>>> there", b"", b'{"id":"x","tak', b"[1]", b"\xff\xfe")


def run_of(number, **more):
    return Run(
        f"{number:08x}",
        f"2026-05-{number // 1440 % 28 + 1:02}T{number // 60 % 24:02}:{number % 60:02}:00Z",
        "run",
        **more,
    )


def knot(rows, matched):
    """The counts of a knot of which only the left side is of interest."""
    return KnotCounts(rows, 0, matched, matched, rows - matched, 0, 0, rows)


class LogCase(unittest.TestCase):
    def setUp(self):
        place = TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.flow = Path(place.name) / "Loans 2026.v2.trellis"
        self.log = log_path(self.flow)


class Kept(LogCase):
    def test_runs_are_read_as_they_were_noted(self):
        runs = [run_of(number, seconds=0.5, outputs={"out": number}) for number in range(3)]
        self.assertEqual(read(self.flow).runs, ())
        for run in runs:
            note(run, self.flow)
        self.assertEqual(read(self.flow), run_log.RunLog(self.log, tuple(runs)))
        self.assertEqual(self.log.name, "Loans 2026.v2.runs.jsonl")
        self.assertEqual(len(self.log.read_bytes().splitlines()), 3)

    @given(st.data())
    def test_the_lines_of_two_machines_may_be_put_together_anyhow(self, data):
        numbers = data.draw(st.lists(st.integers(0, 40), unique=True, min_size=1))
        lines = [msgspec.json.encode(run_of(number)) for number in numbers]
        twice = data.draw(st.lists(st.sampled_from(lines)))
        marks = data.draw(st.lists(st.sampled_from(_MARKS)))
        mixed = data.draw(st.permutations([*lines, *twice, *marks]))
        end = data.draw(st.sampled_from((b"\n", b"\r\n", b"")))
        self.log.write_bytes(b"\n".join(mixed) + end)
        found = read(self.flow)
        self.assertEqual([run.id for run in found.runs], [f"{number:08x}" for number in sorted(numbers)])
        self.assertEqual(found.others, sum(bool(mark) for mark in marks))
        note(run_of(50), self.flow)
        self.assertEqual([run.id for run in read(self.flow).runs[:-1]], [run.id for run in found.runs])
        self.assertEqual(read(self.flow).runs[-1], run_of(50))

    def test_processes_that_add_at_once_lose_nothing(self):
        # Enough for the log to be written anew while the others wait for it.
        many = (MOST_RUNS + run_log._SLACK - 20) // 2
        self.log.write_bytes(b"".join(msgspec.json.encode(run_of(n)) + b"\n" for n in range(2 * many)))
        adding = [
            subprocess.Popen([sys.executable, "-c", _ADDING, str(self.flow), "40", mark]) for mark in "pqr"
        ]
        for process in adding:
            self.assertEqual(process.wait(timeout=60), 0)
        found = {run.id for run in read(self.flow).runs}
        self.assertLessEqual({f"{mark}{number:04}" for mark in "pqr" for number in range(40)}, found)
        self.assertLess(len(found), 2 * many + 120)  # it was written anew

    def test_it_is_kept_small_and_foreign_lines_stay(self):
        runs = [run_of(number) for number in range(MOST_RUNS + run_log._SLACK)]
        lines = [msgspec.json.encode(run) for run in runs]
        self.log.write_bytes(b"\n".join([lines[5], b"=======", *lines]) + b"\n")
        self.log.chmod(0o640)
        note(run_of(5000), self.flow)
        found = read(self.flow)
        self.assertEqual(found.runs, (*runs[-(MOST_RUNS - 1) :], run_of(5000)))
        self.assertEqual(found.others, 1)
        self.assertEqual(stat.S_IMODE(self.log.stat().st_mode), 0o640)
        self.assertEqual([path.name for path in self.log.parent.iterdir()], [self.log.name])

    def test_members_of_a_newer_version_outlive_it(self):
        newer = msgspec.json.encode({**msgspec.to_builtins(run_of(1)), "weather": "fog"})
        self.log.write_bytes(newer + b"\n")
        note(run_of(2), self.flow)
        self.assertEqual(self.log.read_bytes().splitlines()[0], newer)
        self.assertEqual(read(self.flow).runs[0], run_of(1))


class NotOurs(LogCase):
    def refused(self, said, action=None):
        with self.assertRaises(FlowFileError) as caught:
            (action or (lambda: note(run_of(1), self.flow)))()
        self.assertIn(said, str(caught.exception))
        self.assertIn(self.log.name, str(caught.exception))

    def test_what_is_no_log_is_left_as_it_is(self):
        self.log.write_text("my,own,notes\n1,2,3\n")
        self.refused("It is not a log of runs.")
        self.assertEqual(self.log.read_text(), "my,own,notes\n1,2,3\n")

    def test_links_pipes_and_folders_are_not_followed(self):
        elsewhere = self.log.with_name("precious.txt")
        elsewhere.write_bytes(msgspec.json.encode(run_of(1)) + b"\n")
        before = elsewhere.read_bytes()
        self.log.symlink_to(elsewhere)
        self.refused("cannot be used")
        self.refused("cannot be used", lambda: read(self.flow))
        self.assertEqual(elsewhere.read_bytes(), before)
        self.log.unlink()
        os.mkfifo(self.log)
        self.refused("It is not an ordinary file.")
        self.log.unlink()
        self.log.mkdir()
        self.refused("cannot be used")

    def test_what_may_not_be_written_there_is_asked_first(self):
        def check(path):
            raise OutputError("It is a source of this flow, and sources are never changed.", where=str(path))

        self.refused("It is a source", lambda: note(run_of(1), self.flow, check))
        self.assertFalse(self.log.exists())

    def test_a_disk_without_room_leaves_whole_lines(self):
        note(run_of(1), self.flow)
        before = self.log.read_bytes()
        ignored = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        limits = resource.getrlimit(resource.RLIMIT_FSIZE)
        resource.setrlimit(resource.RLIMIT_FSIZE, (len(before) + 10, limits[1]))
        try:
            self.refused("cannot be used")
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, limits)
            signal.signal(signal.SIGXFSZ, ignored)
        self.assertEqual(self.log.read_bytes(), before)


class Told(unittest.TestCase):
    def test_rates_leave_out_runs_without_rows_or_without_the_knot(self):
        runs = [
            run_of(1, knots={"k": knot(4, 3)}),
            run_of(2, knots={"k": knot(0, 0)}),
            run_of(3),
            run_of(4, knots={"k": knot(8, 8)}),
        ]
        self.assertEqual(rates(runs, "k"), [0.75, 1.0])
        self.assertEqual(rates(runs, "k", "right"), [])

    def test_names_are_those_of_the_latest_run(self):
        runs = [run_of(1, names={"a": "Loans", "b": "Gone"}), run_of(2, names={"a": "All loans"})]
        self.assertEqual(dict(names_of(runs)), {"a": "All loans", "b": "Gone"})


if __name__ == "__main__":
    unittest.main()
