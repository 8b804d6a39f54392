"""The registry of readers. A new kind of source is a new module and a line here."""

from keen_trellis.sources.arrow_files import ColumnsReader, LinesReader
from keen_trellis.sources.database import DatabaseReader, SqliteReader
from keen_trellis.sources.delimited import DelimitedReader
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
    TypedInReader(),
)
READERS: dict[str, Reader] = {reader.name: reader for reader in _ALL}
