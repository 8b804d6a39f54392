"""The settings of a source. Loads nothing large: the process that reads workbooks starts with it."""

from __future__ import annotations

import datetime as dt
import re
import string
from typing import TYPE_CHECKING, ClassVar

import msgspec

from keen_trellis.core.errors import FlowFileError, UsageError
from keen_trellis.flow.patterns import shown_name
from keen_trellis.flow.plain_text import cut, visible
from keen_trellis.flow.run_values import GivenText, PathText, QueryText

if TYPE_CHECKING:
    from keen_trellis.core.conversion import Notation

EVERY_FILE, NEWEST_FILE = "every", "newest"
_LAST_ROW = 2**31 - 1
_MOST_HEADER_ROWS = 100
NO_QUOTE = NO_COMMENT = "none"
_COLUMNS = re.compile(r"[A-Za-z]{1,3}(:[A-Za-z]{1,3})?")
# What can neither stand between cells nor around them.
_NO_MARKS = "\0\r\n" + string.ascii_letters + string.digits
_LONGEST_COMMENT = 10
_LAST_PLACE = 1_000_000  # in a line of text
# Into so many parts the rows of a large table are cut by the values of a field: by the first digits, in base
# 16, of a hash of each.
PARTS, HASH_DIGITS = 4096, 3


def shown(text: str) -> str:
    """A setting as an error shows it."""
    return visible(cut(text, 40))


class Layout(msgspec.Struct, frozen=True, omit_defaults=True):
    """Where the table stands in a sheet or text file; rows count from 1. What is not set is found out.

    header: the row of the header, 0 where there is none.  header_rows: how many rows it has.  first, last:
    the first and the last row of data.  columns: as "A:D", in sheets only.
    """

    header: int | None = None
    header_rows: int | None = None
    first: int | None = None
    last: int | None = None
    columns: str = ""

    def check(self) -> None:
        """Raise FlowFileError unless its numbers can be those of rows, and its letters those of columns."""
        bounds = {"header": 0, "header_rows": 1, "first": 1, "last": 1}
        for name, least in bounds.items():
            number = getattr(self, name)
            most = _MOST_HEADER_ROWS if name == "header_rows" else _LAST_ROW
            if number is not None and not least <= number <= most:
                raise FlowFileError(
                    f"The layout’s “{name}” is {number:,}; it can be {least} to {most:,}.",
                    remedy="Rows are counted from 1.",
                )
        if self.first is not None and self.last is not None and self.last < self.first:
            raise FlowFileError(
                f"The layout’s last row of data ({self.last:,}) is above its first ({self.first:,}).",
                remedy="Set one of them anew.",
            )
        if self.columns and not _COLUMNS.fullmatch(self.columns):
            raise FlowFileError(
                f"The layout’s columns are “{shown(self.columns)}”.", remedy="Columns are written like A:D."
            )


class Dialect(msgspec.Struct, frozen=True, omit_defaults=True):
    """How a text file is written. What is empty is found out; quote and comment may be "none".  begins: where
    columns begin that stand at fixed places, counted in characters from 1.
    """

    encoding: str = ""
    delimiter: str = ""
    quote: str = ""
    comment: str = ""
    begins: tuple[int, ...] = ()

    def check(self) -> None:
        """Raise FlowFileError unless a text can be written so."""
        for name, mark, word in (("delimiter", self.delimiter, ""), ("quote", self.quote, NO_QUOTE)):
            if mark not in ("", word) and not (len(mark) == 1 and mark.isascii() and mark not in _NO_MARKS):
                raise FlowFileError(
                    f"The dialect’s “{name}” is “{shown(mark)}”.",
                    remedy="It is one ASCII character, and no letter, digit or end of a line.",
                )
        if self.delimiter and self.delimiter == self.quote:
            raise FlowFileError(
                f"Its delimiter and its quotation mark are both “{self.quote}”.",
                remedy="Set one of them anew.",
            )
        is_rising = list(self.begins) == sorted(set(self.begins))
        if self.begins and not (is_rising and self.begins[0] >= 1 and self.begins[-1] <= _LAST_PLACE):
            raise FlowFileError(
                f"Its columns begin at {', '.join(map(str, self.begins[:8]))}.",
                remedy=f"Places are counted from 1 to {_LAST_PLACE:,}, each behind the one before.",
            )
        if self.begins and self.delimiter:
            raise FlowFileError(
                "Its columns stand at fixed places, and have a delimiter between them.",
                remedy="Set one of the two anew.",
            )
        if len(self.comment) > _LONGEST_COMMENT or set(self.comment) & set("\r\n\0"):
            raise FlowFileError(
                f"The dialect’s “comment” is “{shown(self.comment)}”.",
                remedy=f"It is what comment lines begin with, at most {_LONGEST_COMMENT} characters.",
            )


class Writing(msgspec.Struct, frozen=True, omit_defaults=True):
    """How text writes values. decimal: "." or ",".  dates: "day" or "month" first.  blanks: what counts as
    blank.

    What is empty, or None, is found out.
    """

    decimal: str = ""
    dates: str = ""
    blanks: tuple[str, ...] | None = None

    def check(self) -> None:
        """Raise FlowFileError unless its words are those that are known."""
        for name, word, known in (("decimal", self.decimal, ".,"), ("dates", self.dates, ("day", "month"))):
            if word and word not in known:
                raise FlowFileError(
                    f"How values are written: “{name}” is “{shown(word)}”.",
                    remedy=f"It can be {' or '.join(known)}, or leave it to be detected.",
                )

    @property
    def notation(self) -> Notation:
        """The same, as `core` knows it."""
        from keen_trellis.core.conversion import Notation

        return Notation(self.decimal, self.dates, self.blanks)


class Settled(msgspec.Struct, frozen=True, omit_defaults=True):
    """What was found out where the settings left it open: rows, dialect, marks of numbers and dates."""

    layout: Layout = Layout()
    dialect: Dialect = Dialect()
    writing: Writing = Writing()


class Gathering(msgspec.Struct, frozen=True, omit_defaults=True):
    """How the files of a folder are read as one. which: every file or only the newest.

    name_field, date_field: what the field with the file's name, or its date, is called; "" for none.
    """

    which: str = EVERY_FILE
    name_field: str = ""
    date_field: str = ""

    def check(self) -> None:
        """Raise FlowFileError unless its word is one that is known."""
        if self.which not in (EVERY_FILE, NEWEST_FILE):
            raise FlowFileError(
                f"Which files of the folder are read: “{shown(self.which)}”.",
                remedy=f"It can be {EVERY_FILE} or {NEWEST_FILE}.",
            )


class FieldSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """What is set for one field, by the name that it has in the source. correct: pairs "read X as Y", before
    it is read as its type.
    """

    name: str
    type: str = ""
    rename: str = ""
    left_out: bool = False
    correct: tuple[tuple[str, str], ...] = ()


class TypedTable(msgspec.Struct, frozen=True, omit_defaults=True):
    """A small table that stands in the flow itself: field names, and rows of texts."""

    names: tuple[str, ...] = ()
    rows: tuple[tuple[str, ...], ...] = ()


class CalendarSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """A calendar that the program makes. first, last: its days, as 2026-01-01.  by: what has a row each."""

    first: GivenText = ""
    last: GivenText = ""
    by: str = "day"

    WAYS: ClassVar = ("day", "week", "month")

    def check(self) -> None:
        """Raise FlowFileError unless it has days, the first not after the last."""
        if self.by not in self.WAYS:
            raise FlowFileError(
                f"The calendar has a row for each “{shown(self.by)}”.",
                remedy=f"It can be {', '.join(self.WAYS)}.",
            )
        for name, day in (("first", self.first), ("last", self.last)):
            if day and not _is_date(day):
                raise FlowFileError(
                    f"The calendar’s {name} day is “{shown(day)}”.", remedy="Write it like 2026-01-31."
                )
        if self.first and self.last and self.last < self.first:
            raise FlowFileError(
                f"The calendar’s last day ({self.last}) is before its first ({self.first}).",
                remedy="Set one of them anew.",
            )


def _is_date(text: str) -> bool:
    try:
        return dt.date.fromisoformat(text).isoformat() == text
    except ValueError:
        return False


def parts_read(text: str) -> int:
    """A number of parts as it was typed. UsageError."""
    typed = text.strip()
    if not (
        typed.isascii() and typed.isdecimal() and len(typed) <= len(str(PARTS)) and 0 < int(typed) <= PARTS
    ):
        raise UsageError(
            f"“{shown(typed)}” is not from 1 to {PARTS:,}.", remedy="It is a whole number of parts."
        )
    return int(typed)


def hash_below(parts: int) -> str:
    """What the first digits of the hashes of the first parts, of less than all, are below."""
    return f"{parts:0{HASH_DIGITS}x}"


class Sampling(msgspec.Struct, frozen=True, omit_defaults=True):
    """Which rows of a large table stand for all of them. by: the field by whose values they are cut into
    PARTS parts, so that the same values of two tables are in the same part.  parts: how many of these, 0 for
    all rows.
    """

    by: str = ""
    parts: int = 0

    def check(self) -> None:
        """Raise FlowFileError unless some rows can be taken so."""
        if not 0 <= self.parts <= PARTS or bool(self.parts) != bool(self.by):
            raise FlowFileError(
                f"The sample takes {self.parts:,} parts by “{shown(self.by)}”.",
                remedy=f"It takes 1 to {PARTS:,} parts by a field, or none.",
            )


class Given(msgspec.Struct, frozen=True):
    """A run value that a query names. type: text, number, date or file.  text: what it is."""

    name: str
    type: str
    text: str


class SourceSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """reader: which reader reads it.  path: the file, folder, pattern of files, or address of a database.

    table: the sheet, block of cells, named range or table in it.  query: read this instead of a table.
    given: the run values that it names, put in when the flow is run; never in a file.  kept: the types that
    its fields had when the flow last ran, by the names that they have in the flow; never here in a file.
    """

    reader: str
    path: PathText = ""
    table: GivenText = ""
    query: QueryText = ""
    layout: Layout = Layout()
    dialect: Dialect = Dialect()
    writing: Writing = Writing()
    gathering: Gathering = Gathering()
    typed: TypedTable = TypedTable()
    calendar: CalendarSettings = CalendarSettings()
    sample: Sampling = Sampling()
    fields: tuple[FieldSettings, ...] = ()
    given: tuple[Given, ...] = ()
    kept: tuple[tuple[str, str], ...] = ()

    def check(self) -> None:
        """Raise FlowFileError unless a source can be settled so."""
        self.layout.check()
        self.dialect.check()
        self.writing.check()
        self.gathering.check()
        self.calendar.check()
        self.sample.check()

    @property
    def file_name(self) -> str:
        """What its file, folder or database is called."""
        return shown_name(self.path)

    @property
    def where(self) -> str:
        """Which table of which file it is, in words."""
        return f"{self.table} of {self.file_name}" if self.table else self.file_name

    @property
    def set_members(self) -> list[str]:
        """What is set besides the place, the table and the fields, as "query" or "layout.first"."""
        found = ["query"] if self.query else []
        for name in ("layout", "dialect", "writing", "gathering", "typed", "calendar", "sample"):
            part = getattr(self, name)
            plain = type(part)()
            found += [
                f"{name}.{member}"
                for member in part.__struct_fields__
                if getattr(part, member) != getattr(plain, member)
            ]
        return found

    @property
    def left_out(self) -> frozenset[str]:
        """The fields that are left out."""
        return frozenset(entry.name for entry in self.fields if entry.left_out)

    @property
    def kept_as_text(self) -> frozenset[str]:
        """The fields whose type was set: readers leave their text as it is, to be converted afterwards."""
        return frozenset(entry.name for entry in self.fields if entry.type)
