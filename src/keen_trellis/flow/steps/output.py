"""The output step: the rows are written to a file when the flow is run."""

from __future__ import annotations

import codecs
import re
from collections.abc import Mapping, Sequence
from pathlib import PurePath
from typing import TYPE_CHECKING

import msgspec

from keen_trellis.core.choosing import Chosen, chosen_fields, with_fields
from keen_trellis.core.errors import UsageError
from keen_trellis.core.filling import cells_without_partner
from keen_trellis.core.parting import rows_by_value
from keen_trellis.core.table import Field, find_field
from keen_trellis.flow.addresses import is_address
from keen_trellis.flow.cell_names import read_cell
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.kinds import Context, InputRows, InputShape, Standing, StepKind, StepResult
from keen_trellis.flow.run_values import GivenText, PathText
from keen_trellis.flow.steps.choose import ChosenSettings

if TYPE_CHECKING:
    from keen_trellis.flow.in_sql.rows import Said, SqlRows
    from keen_trellis.flow.in_sql.target import SqlTarget

REPLACE, NEW, APPEND, UPDATE = "replace", "new", "append", "update"
_FILE = frozenset({"split_by"})
_TEXT = _FILE | frozenset(
    {
        "described",
        "delimiter",
        "harmless",
        "quotation",
        "encoding",
        "decimal",
        "dates",
        "line_end",
        "blank",
        "no_partner",
    }
)
_CELLS = _FILE | frozenset({"sheet", "cell", "table", "as_table", "totals", "described", "no_partner"})
_TABLE = frozenset({"table", "key", "gone", "index"})
LEAVE, DELETE = "leave", "delete"
_SHEET = _FILE | frozenset({"sheet", "no_partner"})
_WORD = _FILE | frozenset({"no_partner"})
QUOTATIONS, DECIMALS, LINE_ENDS = ("needed", "text", "all"), (".", ","), ("crlf", "lf")
_ISO_DATES = "yyyy-mm-dd"
_DATES = re.compile(r"(?!.*(dd|mm|yyyy).*\1)(dd|mm|yyyy)[-./ ]?(dd|mm|yyyy)[-./ ]?(dd|mm|yyyy)")
_NO_ENCODINGS = ("idna", "punycode", "utf-7", "raw_unicode_escape", "unicode_escape", "undefined")


class Target(msgspec.Struct, frozen=True):
    """A sort of thing that outputs write, as far as their settings and sentences go; `outputs` writes it.

    said: what it is called where nothing names it better.  uses: the settings that it has, besides those of
    every output.  modes: what may happen to what is there.  endings: of its files, each with the delimiter
    that goes with it; none where it is no file.  packable: whether a file may be packed, as PACKED has it.
    """

    said: str
    uses: frozenset[str] = frozenset()
    modes: tuple[str, ...] = (REPLACE, NEW)
    endings: Mapping[str, str] = msgspec.field(default_factory=dict)
    packable: bool = False

    @property
    def has_sheet(self) -> bool:
        """Whether its rows lie in a sheet with a name."""
        return "sheet" in self.uses

    @property
    def names_table(self) -> bool:
        """Whether it is a database, which holds nothing but tables with names."""
        return "key" in self.uses

    @property
    def is_text(self) -> bool:
        """Whether cells are text with a delimiter between them."""
        return "delimiter" in self.uses


TARGETS = {
    "xlsx": Target("a workbook", _CELLS, (REPLACE, NEW, APPEND), {".xlsx": ",", ".xlsm": ","}),
    "ods": Target("an OpenDocument workbook", _SHEET, endings={".ods": ","}),
    "text": Target("delimited text", _TEXT, endings={".csv": ",", ".txt": "\t", ".tsv": "\t"}, packable=True),
    "parquet": Target("a Parquet file", _FILE, endings={".parquet": ","}),
    "arrow": Target("an Arrow file", _FILE, endings={".arrow": ",", ".feather": ","}),
    "json-lines": Target("JSON lines", _WORD, endings={".jsonl": ",", ".ndjson": ","}, packable=True),
    "database": Target(
        "a database table",
        _TABLE,
        (REPLACE, NEW, APPEND, UPDATE),
        {".sqlite": ",", ".sqlite3": ",", ".db": ","},
    ),
    "json": Target("JSON", _WORD, endings={".json": ","}, packable=True),
}
# How a file is packed whose name ends so, behind the ending that says what it is.
PACKED = {".gz": "gzip", ".zst": "zstd"}


def ending_of(path: PurePath) -> tuple[str, str]:
    """What the name of a file says that it is, as .csv, and how it is packed; "" where it is not."""
    ending = path.suffix.lower()
    if ending in PACKED:
        return PurePath(path.stem).suffix.lower(), PACKED[ending]
    return ending, ""


class OutputSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """writer: one of TARGETS.  path: what to write to: a file.  guards: what must hold, as
    `core.insight.guards` writes it.  mode: REPLACE what is there, which is asked before; NEW, where nothing
    may be there; APPEND below it; UPDATE the rows of a database's table that have the same `key`.

    sheet: the sheet's name, for a workbook.  cell: where the header goes in it, as B4; "" is all of the
    sheet.  table: a table or named range of the workbook, instead of a sheet.  as_table: whether the sheet's
    rows are a table, with a filter.  totals: whether a row of totals stands below.  described: whether a
    further sheet says what the fields are.

    Of a database's table, which `table` names with its schema: key: fields that tell its rows apart.  gone:
    whether rows that are not among those written LEAVE or DELETE.  index: fields of an index of one that is
    made.

    split_by: a field, for each value of which a file is written, with the value behind its name.
    fields: those that are written, in order, and what they are called there; all if none is named.
    no_partner: what is written where a join found none.

    Of delimited text: delimiter: between cells.  harmless: cells that a spreadsheet would run as a formula
    are written so that it does not.  quotation, decimal, line_end: one of QUOTATIONS, DECIMALS, LINE_ENDS.
    encoding: as Python names it.  dates: as dd.mm.yyyy.  blank: what is written for one.
    """

    writer: str
    path: PathText
    sheet: GivenText = "Data"
    delimiter: str = ","
    harmless: bool = True
    guards: tuple[GivenText, ...] = ()
    mode: str = REPLACE
    cell: str = ""
    table: GivenText = ""
    as_table: bool = False
    totals: bool = False
    described: bool = False
    fields: tuple[ChosenSettings, ...] = ()
    no_partner: GivenText = ""
    split_by: str = ""
    quotation: str = "needed"
    encoding: str = "utf-8"
    decimal: str = "."
    dates: str = _ISO_DATES
    line_end: str = "crlf"
    blank: str = ""
    key: tuple[str, ...] = ()
    gone: str = LEAVE
    index: tuple[str, ...] = ()

    @property
    def file_name(self) -> str:
        # What stands behind an address says how it is reached, and no name.
        return PurePath(self.path.partition("?")[0] if is_address(self.path) else self.path).name

    @property
    def target(self) -> Target:
        """What it writes; a writer of a later version is a file without more."""
        return TARGETS.get(self.writer, Target(self.writer))

    @property
    def where(self) -> str:
        """Its file, and where in it, in words."""
        return f"{self.within} of {self.file_name}" if self.within else self.file_name

    @property
    def is_whole(self) -> bool:
        """Whether its rows have a sheet, or a file, to themselves."""
        return not (self.cell or self.table or self.mode == APPEND)

    @property
    def within(self) -> str:
        """Where in its file the rows go, in words: a sheet, a cell, a table; "" where it is theirs alone."""
        if self.table:
            return self.table
        if not self.target.has_sheet:
            return ""
        return f"{self.cell} of sheet {self.sheet}" if self.cell else f"sheet {self.sheet}"


# Settings that every output has.
_OF_ALL = frozenset({"writer", "path", "guards", "mode", "fields"})


class OutputKind(StepKind[OutputSettings]):
    """Its rows are those of its input; writing them is the business of `outputs`."""

    name = "output"
    settings_type = OutputSettings
    input_names = ("rows",)
    path_settings = ("path",)
    standing = Standing.ENDS
    has_guards = True

    def fields(self, settings: OutputSettings, inputs: Sequence[InputShape], port: str) -> tuple[Field, ...]:
        return tuple(field for field, _ in _plan(settings, inputs[0].fields))

    def check(self, settings: OutputSettings, inputs: Sequence[InputShape]) -> None:
        check_settings(settings)
        fields = self.fields(settings, inputs, ROWS)
        if settings.split_by:
            find_field(fields, settings.split_by)

    def fingerprint(self, settings: OutputSettings, inputs: Sequence[InputShape]) -> object:
        return settings.fields, settings.split_by

    def compute(self, settings: OutputSettings, inputs: Sequence[InputRows], context: Context) -> StepResult:
        table = inputs[0].table
        if settings.fields:
            table = with_fields(table, _plan(settings, table.fields), context.task)
        open_cells = cells_without_partner(table, table.names, context.task)
        files = len(rows_by_value(table, settings.split_by, context.task)) if settings.split_by else 1
        return StepResult({ROWS: table}, open_cells=open_cells, files=files)

    def sql(self, settings: OutputSettings, inputs: Sequence[SqlRows], port: str, target: SqlTarget) -> Said:
        from keen_trellis.flow.in_sql.fields import said_chosen

        return said_chosen(inputs[0], _plan(settings, inputs[0].fields), target)

    def summed_up(self, settings: OutputSettings) -> tuple[str, str]:
        target = settings.target
        return settings.file_name, settings.within or target.said

    def sentence(self, settings: OutputSettings, inputs: Sequence[InputShape]) -> str:
        rows = inputs[0].name if inputs else "nothing yet"
        if settings.mode == UPDATE:
            return f"Update {settings.where} with {rows}, by {', '.join(settings.key)}."
        return f"{'Add' if settings.mode == APPEND else 'Write'} {rows} to {settings.where}."


def _plan(settings: OutputSettings, fields: Sequence[Field]) -> tuple[tuple[Field, Chosen], ...]:
    """The fields that are written, each with what it is made of."""
    if not settings.fields:
        return tuple((field, Chosen(field.name)) for field in fields)
    return chosen_fields(fields, [entry.chosen for entry in settings.fields], others=False)


def _check_place(settings: OutputSettings, plain: OutputSettings) -> None:
    """UsageError unless what says where in a workbook the rows go fits together."""
    if settings.cell and read_cell(settings.cell) is None:
        raise UsageError(f"“{settings.cell}” is not a cell.", remedy="Name one as B4.")
    if settings.table and (settings.sheet != plain.sheet or settings.cell):
        raise UsageError(
            f"It names the table “{settings.table}” and a sheet or cell besides.", remedy="Keep one of them."
        )
    if (settings.as_table or settings.totals) and not settings.is_whole:
        raise UsageError(
            "Only rows that have a sheet to themselves can be made a table or get a row of totals.",
            remedy="Write them to a sheet, or leave that out.",
        )


def check_settings(settings: OutputSettings) -> None:
    """UsageError unless an output can be written so, as far as that can be told without looking."""
    if not settings.path:
        raise UsageError("It has no file to write to.", remedy="Choose one.")
    target, plain = settings.target, OutputSettings(settings.writer, settings.path)
    known = target.uses | _OF_ALL
    for entry in msgspec.structs.fields(settings):
        if entry.name not in known and getattr(settings, entry.name) != getattr(plain, entry.name):
            raise UsageError(
                f"“{entry.encode_name}” is set for it, which {target.said} has no use for.",
                remedy="Choose its file anew, or take that out of the flow’s file.",
            )
    if settings.mode not in target.modes:
        raise UsageError(
            f"There is no mode “{settings.mode}” of writing {target.said}.",
            remedy=f"It can be: {', '.join(target.modes)}.",
        )
    _check_place(settings, plain)
    if settings.split_by and not settings.is_whole:
        raise UsageError(
            "Only whole files can be written one for each value.", remedy="Write a sheet, or leave that out."
        )
    if any(entry.type for entry in settings.fields):
        raise UsageError(
            "An output gives its fields no other type.", remedy="Let a step before it choose the type."
        )
    _check_text(settings)
    _check_key(settings)


def _check_key(settings: OutputSettings) -> None:
    """UsageError unless rows of a database's table can be told apart where they must be."""
    if settings.target.names_table and not settings.table:
        raise UsageError("It names no table of the database.", remedy="Name one.")
    if settings.gone not in (LEAVE, DELETE):
        raise UsageError(f"There is no “{settings.gone}” for rows that are gone.", remedy="leave or delete.")
    if settings.mode == UPDATE and not settings.key:
        raise UsageError(
            "Nothing says which rows are the same, so that none can be updated.",
            remedy="Name the key’s fields.",
        )
    if settings.gone == DELETE and settings.mode != UPDATE:
        raise UsageError("Only an update leaves out rows that are gone.", remedy="Leave “gone” out.")


def _check_text(settings: OutputSettings) -> None:
    """UsageError unless text can be written as the settings say."""
    mark = settings.delimiter
    if len(mark) != 1 or not mark.isascii() or mark.isalnum() or mark in '"\r\n\0':
        raise UsageError(f"“{mark}” cannot be between cells.", remedy="Use one ASCII character.")
    if mark == settings.decimal == ",":
        raise UsageError(
            "A comma cannot be both between cells and in numbers.", remedy="Use a semicolon between cells."
        )
    for name, value, known in (
        ("quotation", settings.quotation, QUOTATIONS),
        ("decimal", settings.decimal, DECIMALS),
        ("line_end", settings.line_end, LINE_ENDS),
    ):
        if value not in known:
            raise UsageError(f"“{value}” is no {name} of text.", remedy=f"There are: {' '.join(known)}")
    if not _DATES.fullmatch(settings.dates):
        raise UsageError(
            f"“{settings.dates}” says no way to write dates.",
            remedy="Use dd, mm and yyyy, each once, with a sign between, as dd.mm.yyyy.",
        )
    try:
        encoding = codecs.lookup(settings.encoding)
        fine = encoding.name not in _NO_ENCODINGS and isinstance(encoding.encode("a")[0], bytes)
    except (LookupError, TypeError, ValueError):
        fine = False
    if not fine:
        raise UsageError(
            f"There is no encoding “{settings.encoding}”.",
            remedy="Use utf-8, utf-8-sig, utf-16 or windows-1252.",
        )
    for word, what in ((settings.blank, "a blank"), (settings.no_partner, "no partner")):
        if any(sign in word for sign in '"\r\n\0') or (settings.target.is_text and mark in word):
            raise UsageError(f"“{word}” cannot be used for {what}.", remedy="Use a word without such signs.")
