"""The registry of readers. A new kind of source is a new module and a line here."""

from keen_trellis.sources.database import SqliteReader
from keen_trellis.sources.delimited import DelimitedReader
from keen_trellis.sources.reading import Reader
from keen_trellis.sources.workbook import WorkbookReader

READERS: dict[str, Reader] = {
    reader.name: reader for reader in (WorkbookReader(), DelimitedReader(), SqliteReader())
}
