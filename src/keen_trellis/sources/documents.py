"""JSON in one piece, and XML: a table for each list in it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from keen_trellis.core.task import Task
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.sources.about import ROWS_FILE, Listing
from keen_trellis.sources.child import ask, settings_word
from keen_trellis.sources.reading import WRITING, Reader, ReadTable, mapped
from keen_trellis.sources.recognise import JSON, XML

_CHILD = "keen_trellis.sources.document_process"


class _DocumentReader(Reader):
    """Reads a document in a child process; a base class."""

    def tables(self, path: str, task: Task) -> Sequence[Listing]:
        return ask(_CHILD, path, task, f"list-{self.name}").tables

    def read(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable:
        target = room / ROWS_FILE
        answer = ask(_CHILD, settings.path, task, f"read-{self.name}", settings_word(settings), str(target))
        assert answer.about is not None
        return ReadTable(mapped(target), answer.about)

    def files(self, settings: SourceSettings) -> list[Path] | None:
        return [Path(settings.path)]


class JsonReader(_DocumentReader):
    """Reads JSON in one piece."""

    name = JSON
    said = "JSON"


class XmlReader(_DocumentReader):
    """Reads XML; its texts become numbers and dates as those of a text file do."""

    name = XML
    said = "XML"
    uses = WRITING
