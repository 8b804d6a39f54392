"""What every reader offers: the tables of a source, and the rows of one of them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from pathlib import Path

import msgspec
import numpy as np
import pyarrow as pa

from keen_trellis.core.conversion import narrowed
from keen_trellis.core.errors import SourceError
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.sources.about import ROW_NUMBERS, About, Listing


class ReadTable(msgspec.Struct, frozen=True):
    """The rows of one table, in memory or mapped from a file, and what there is to say about them.

    data: its columns; a last one called ROW_NUMBERS may hold the number of each row.
    """

    data: pa.Table
    about: About = msgspec.field(default_factory=About)

    @property
    def fields(self) -> pa.Table:
        """The columns without the row numbers, decimals no wider than they need to be."""
        found = self.data.remove_column(self.data.num_columns - 1) if self._numbered else self.data
        for name, digits in self.about.digits.items():
            place = found.column_names.index(name)
            column = found.column(place)
            narrow = [narrowed(chunk, digits) for chunk in column.chunks]
            kind = pa.decimal128(digits, column.type.scale)
            found = found.set_column(place, name, pa.chunked_array(narrow, kind))
        return found

    @property
    def _numbered(self) -> bool:
        return ROW_NUMBERS in self.data.column_names[-1:]

    @property
    def row_numbers(self) -> np.ndarray | int:
        """The number of every row, or of the first where they follow each other."""
        if not self._numbered:
            return self.about.first_row
        numbers: np.ndarray = self.data.column(self.data.num_columns - 1).to_numpy()
        return numbers

    @property
    def table(self) -> ArrowTable:
        """The rows as `core` reads them."""
        fields = self.fields
        return ArrowTable(
            fields,
            file=self.about.file,
            table=self.about.table,
            row_numbers=self.row_numbers,
            stretches=self.about.stretches,
            untyped=ArrowTable.without_values(fields),
        )


def mapped(path: Path) -> pa.Table:
    """The rows of an Arrow file that this program wrote, mapped into memory; foreign files are read."""
    return pa.ipc.open_file(pa.memory_map(str(path))).read_all()


QUERY = frozenset({"query"})
LAYOUT = frozenset({"layout.header", "layout.header_rows", "layout.first", "layout.last"})
COLUMNS_OF_SHEET = frozenset({"layout.columns"})
DIALECT = frozenset(
    {"dialect.encoding", "dialect.delimiter", "dialect.quote", "dialect.comment", "dialect.begins"}
)
WRITING = frozenset({"writing.decimal", "writing.dates", "writing.blanks"})
GATHERING = frozenset({"gathering.which", "gathering.name_field", "gathering.date_field"})
TYPED_TABLE = frozenset({"typed.names", "typed.rows"})
SAMPLE = frozenset({"sample.by", "sample.parts"})
CALENDAR_SPAN = frozenset({"calendar.first", "calendar.last", "calendar.by"})


class Reader(ABC):
    """Reads one kind of source."""

    name: str
    said: str  # what it reads, in words
    # What can be set for such a source, besides where it is, its table and its fields.
    uses: frozenset[str] = frozenset()
    # Whether it reads a file, which is told by its content.
    of_file = True
    # How the names of files end that belong to a file of this kind and lie beside it.
    beside: tuple[str, ...] = ()
    # Whether fields that are left out are not read.
    can_leave_out = False
    # Whether all that is read is of one moment, whoever writes meanwhile.
    at_one_moment = False

    @abstractmethod
    def tables(self, path: str, task: Task) -> Sequence[Listing]:
        """The tables at `path`, in its order, as far as that is known at once.

        SourceError if it cannot be read.
        """

    @abstractmethod
    def files(self, settings: SourceSettings) -> list[Path] | None:
        """The files whose content decides what is read; None where only reading it tells."""

    @abstractmethod
    def read(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable:
        """All rows of one table. SourceError if it cannot be read; Cancelled.

        room: an empty folder for files that the rows are mapped from.
        """

    def further_tables(self, path: str, task: Task) -> Sequence[Listing]:
        """Tables that are found only by reading through the source."""
        return []

    def first_rows(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable | None:
        """The first rows, where they are to be had long before all of them; else None."""
        return None


def refuse_unused(settings: SourceSettings, uses: frozenset[str], what: str) -> None:
    """SourceError if something is set that the reader would pass over. what: it reads, in words."""
    if settings.kept_as_text:
        uses |= WRITING  # a field that is given a type is read by it
    unused = [f"“{name}”" for name in settings.set_members if name not in uses]
    if unused:
        are = "is" if len(unused) == 1 else "are"
        raise SourceError(
            f"{' and '.join(unused)} {are} set for it, which {what} does not use.",
            where=settings.path,
            remedy="Detect it again, or take that out of the flow’s file.",
        )


class OneTableReader(Reader):
    """Reads files that are one table each."""

    def tables(self, path: str, task: Task) -> Sequence[Listing]:
        return [Listing(Path(path).stem, "file")]

    def files(self, settings: SourceSettings) -> list[Path] | None:
        return [Path(settings.path)]


class InFlowReader(Reader):
    """Reads rows that stand in the flow itself: there is no file, and no table to be listed."""

    of_file = False

    def tables(self, path: str, task: Task) -> Sequence[Listing]:
        return []

    def files(self, settings: SourceSettings) -> list[Path] | None:
        return []


def unknown_table(where: str, table: str, known: Sequence[Listing]) -> SourceError:
    """The error for a table that the source does not have."""
    sort = known[0].sort if known else "table"
    names = ", ".join(f"“{entry.name}”" for entry in known[:12]) or "nothing"
    return SourceError(f"There is no {sort} “{table}” in it.", where=where, remedy=f"It holds: {names}.")
