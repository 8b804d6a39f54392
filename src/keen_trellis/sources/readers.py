"""The registry of readers. A new kind of source is a new module and a line here."""

from keen_trellis.flow.registry import Registry
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.sources import locations, recognise
from keen_trellis.sources.reading import Reader

READERS = Registry[Reader](
    "keen_trellis.sources",
    {
        recognise.WORKBOOK: "workbook.WorkbookReader",
        recognise.TEXT: "delimited.DelimitedReader",
        locations.FOLDER: "folder.FolderReader",
        recognise.SQLITE: "database.SqliteReader",
        locations.DATABASE: "database.DatabaseReader",
        recognise.COLUMNS: "arrow_files.ColumnsReader",
        recognise.LINES: "arrow_files.LinesReader",
        recognise.JSON: "documents.JsonReader",
        recognise.XML: "documents.XmlReader",
        locations.TYPED: "typed_in.TypedInReader",
        locations.CALENDAR: "calendar.CalendarReader",
    },
)


def uses_of(settings: SourceSettings) -> frozenset[str]:
    """What can be set for a source besides its place, its table and its fields, as `reading` names it."""
    reader = READERS.get(settings.reader)
    return reader.uses if reader is not None else frozenset()
