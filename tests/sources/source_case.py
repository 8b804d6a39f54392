"""What the tests of sources share: a folder, a library that caches in it, and reading by command-line
names.
"""

import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

import msgspec

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.flow.snapshot import Snapshot
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.temporary import mark
from keen_trellis.sources.cache import Cache
from keen_trellis.sources.library import Library, resolve


def mark_of(process: int, started: int) -> str:
    """What the name of a temporary file begins with that belongs to another process of this machine."""
    return f"{mark().partition('.')[0]}.{process}.{started}."


class SourceCase(unittest.TestCase):
    def setUp(self):
        folder = TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.library = Library(Cache(self.folder / "cache"))

    def put(self, name: str, content: str | bytes) -> Path:
        """Write a file into the folder."""
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content if isinstance(content, bytes) else content.encode())
        return path

    def settings(self, place: Path | str, table: str = "", **changes) -> SourceSettings:
        """The settings that naming the source on the command line gives, with some set by hand."""
        found = resolve(f"{place}#{table}" if table else str(place), self.library).settings
        return msgspec.structs.replace(found, **changes)

    def read(self, place: Path | str, table: str = "", **changes) -> Snapshot:
        """Read what naming the source on the command line means."""
        return self.library.get(self.settings(place, table, **changes), Task())

    def said(self, snapshot: Snapshot) -> str:
        return " | ".join(map(str, snapshot.remarks))

    def refused(self, place: Path | str, said: str, table: str = "", **changes) -> SourceError:
        """The error with which reading is refused."""
        with self.assertRaisesRegex(SourceError, said) as caught:
            self.read(place, table, **changes)
        return caught.exception
