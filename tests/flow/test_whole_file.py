import os
import stat
import tempfile
import unittest
from pathlib import Path

from keen_trellis.flow.whole_file import whole_file


class WholeFile(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.path = Path(place.name) / "out.txt"

    def test_the_draft_takes_the_files_place_at_the_end(self):
        self.path.write_text("old")
        with whole_file(self.path) as draft:
            draft.write_text("new")
            self.assertEqual(self.path.read_text(), "old")
        self.assertEqual(self.path.read_text(), "new")
        self.assertEqual(list(self.path.parent.iterdir()), [self.path])

    def test_any_error_leaves_everything_as_it_was(self):
        self.path.write_text("old")
        for error in (ValueError, KeyboardInterrupt):
            with self.assertRaises(error), whole_file(self.path) as draft:
                draft.write_text("half")
                raise error
        self.assertEqual(self.path.read_text(), "old")
        self.assertEqual(list(self.path.parent.iterdir()), [self.path])

    def test_a_new_file_has_the_rights_that_new_files_get(self):
        before = os.umask(0o027)
        self.addCleanup(os.umask, before)
        with whole_file(self.path) as draft:
            draft.write_text("x")
        self.assertEqual(stat.S_IMODE(self.path.stat().st_mode), 0o640)


if __name__ == "__main__":
    unittest.main()
