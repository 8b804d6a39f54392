"""The registry of readers. A new kind of source is a new module and a line here."""

from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.sources.arrow_files import ColumnsReader, LinesReader
from keen_trellis.sources.calendar import CalendarReader
from keen_trellis.sources.database import DatabaseReader, SqliteReader
from keen_trellis.sources.delimited import DelimitedReader
from keen_trellis.sources.documents import JsonReader, XmlReader
from keen_trellis.sources.folder import FolderReader
from keen_trellis.sources.reading import Reader
from keen_trellis.sources.typed_in import TypedInReader
from keen_trellis.sources.workbook import WorkbookReader

_ALL: tuple[Reader, ...] = (
    WorkbookReader(),
    DelimitedReader(),
    FolderReader(),
    SqliteReader(),
    DatabaseReader(),
    ColumnsReader(),
    LinesReader(),
    JsonReader(),
    XmlReader(),
    TypedInReader(),
    CalendarReader(),
)
READERS: dict[str, Reader] = {reader.name: reader for reader in _ALL}


def uses_of(settings: SourceSettings) -> frozenset[str]:
    """What can be set for a source besides its place, its table and its fields, as `reading` names it."""
    reader = READERS.get(settings.reader)
    return reader.uses if reader is not None else frozenset()
