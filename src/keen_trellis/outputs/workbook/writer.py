"""Workbooks as outputs: a new one, or one that exists, of which all is kept but what is written."""

from __future__ import annotations

import re
import zipfile
from collections.abc import Collection, Sequence
from pathlib import Path

from keen_trellis.core.errors import OutputError
from keen_trellis.core.task import Task
from keen_trellis.flow.clock import clock
from keen_trellis.flow.plain_text import visible
from keen_trellis.flow.steps.output import REPLACE, OutputSettings
from keen_trellis.flow.temporary import temporary_folder
from keen_trellis.flow.wording import counted, listed
from keen_trellis.outputs.files import FileWriter
from keen_trellis.outputs.workbook.book import Book, Sheet
from keen_trellis.outputs.workbook.cells import NO_CHARACTER, units
from keen_trellis.outputs.workbook.filling import described_in, fill_all, widths
from keen_trellis.outputs.workbook.package import opened
from keen_trellis.outputs.writing import Part

_COMPOUND = bytes.fromhex("d0cf11e0a1b11ae1")  # how encrypted workbooks begin, and those of before 2007
_MACROS = ".xlsm"


class WorkbookWriter(FileWriter):
    """Writes numbers as numbers, dates as dates and text as text, below a header that stays in view."""

    name = "xlsx"

    def place(self, settings: OutputSettings) -> str:
        return f"{super().place(settings)}, {settings.within}"

    def would_replace(self, settings: OutputSettings, kept: Collection[str | Path]) -> bool:
        return settings.mode == REPLACE and super().would_replace(settings, kept)

    def goes_with(self, settings: OutputSettings) -> str:
        if settings.split_by:
            return super().goes_with(settings)
        try:
            with opened(Path(settings.path)) as package:
                return f" {_what_happens(Book(package), settings)}"
        except (OSError, OutputError):
            return ""  # what is wrong with it is said when it is written

    def check(self, settings: OutputSettings, kept: Collection[str | Path], *, replace: bool) -> None:
        super().check(settings, kept, replace=replace or settings.mode != REPLACE)
        path = Path(settings.path)
        if not settings.table:
            check_sheet_name(settings)
        if path.exists():
            _check_free(path)
        elif path.suffix.lower() == _MACROS:
            raise OutputError(
                "A workbook with macros can be written into, not made.",
                where=str(path),
                remedy="Name one that exists, or end the name in .xlsx.",
            )
        elif settings.table:
            raise OutputError(
                f"There is no such workbook, and so no {settings.table} in it.",
                where=str(path),
                remedy="Name a workbook that has it, or write to a sheet.",
            )

    def fill(self, parts: Sequence[Part], draft: Path, task: Task) -> list[list[str]]:
        path = Path(parts[0].settings.path)
        before = _stamp(path)
        with temporary_folder() as folder:
            base = path if before else _new_book(folder, parts)
            filled = fill_all(base, parts, folder, draft, task)
        if _stamp(path) != before:
            raise OutputError(
                "It was changed by another program meanwhile, and is left as it is now.",
                where=str(path),
                remedy="Write once more.",
            )
        return filled


def _what_happens(book: Book, settings: OutputSettings) -> str:
    """What writing does to a workbook, as a sentence."""
    names = [sheet.name for sheet in book.sheets]
    sheet = book.sheet(settings.sheet)
    if settings.table:
        found = book.named(settings.table)
        doing = f"{settings.table} and its {counted(found.rows, 'rows')} are written anew" if found else ""
    elif sheet is None:
        doing = f"Sheet {settings.sheet} is added to it"
    elif settings.cell:
        doing = f"The cells of sheet {sheet.name} from {settings.cell} on are written over"
    else:
        doing = f"Sheet {sheet.name}{_rows_said(book, sheet)} is written anew"
    if settings.described:
        doing += f", and sheet {described_in(settings)} says what the fields are"
    others = names if sheet is None else [name for name in names if name != sheet.name]
    if settings.table or settings.cell:
        return f"{doing}; all else stays." if doing else ""
    if not others:
        return f"{doing}."
    stay = "its other sheet stays" if len(others) == 1 else f"its {len(others):,} other sheets stay"
    return f"{doing}; {stay} ({listed(others, 6)})."


def _rows_said(book: Book, sheet: Sheet) -> str:
    """What a sheet has that goes, in words: rows, and what would not be put back."""
    counts = dict.fromkeys((b"<row ", b"<mergeCell ", b"<hyperlink ", b"<f>", b"<f "), 0)
    before = b""
    with book.package.opened(sheet.part) as content:
        while block := content.read(2**20):
            for tag in counts:
                # A tag may lie across the end of a block; so much of that as holds no whole one comes again.
                counts[tag] += (before[1 - len(tag) :] + block).count(tag)
            before = block
    rows, merges, links, *formulas = counts.values()
    lost = ((sum(formulas), "formulas"), (merges, "merged cells"), (links, "links"))
    said = [counted(count, what) for count, what in ((rows, "rows"), *lost) if count]
    return f", which has {listed(said, 4)}," if said else ""


def contents_of(path: Path) -> tuple[list[str], list[tuple[str, int]]]:
    """The sheets of a workbook that hold cells, and its tables with their rows; OutputError if it is none."""
    if not path.is_file():
        return [], []
    with opened(path) as package:
        book = Book(package)
        sheets = [sheet.name for sheet in book.sheets if sheet.has_cells]
        return sheets, [(table.name, table.rows) for table in book.tables]


def table_named(path: Path, name: str) -> str:
    """What a table or named range of a workbook is called that has this name in any case; "" if none has.

    OutputError if it is no workbook.
    """
    if not path.is_file():
        return ""
    with opened(path) as package:
        found = Book(package).named(name)
    return found.name if found is not None else ""


def _stamp(path: Path) -> tuple[int, ...]:
    """What tells a file from what it was before; nothing where there is none."""
    if not path.exists():
        return ()
    found = path.stat()
    return found.st_ino, found.st_size, found.st_mtime_ns


def _check_free(path: Path) -> None:
    """OutputError for a workbook that is open elsewhere, encrypted, or of another format."""
    for name in (f"~${path.name}", f"~${path.name[2:]}", f".~lock.{path.name}#"):
        if (path.parent / name).exists():
            raise OutputError(
                "It is open in another program: its lock file is there.",
                where=str(path.parent / name),
                remedy="Close the workbook there; if nobody has it open, delete that file.",
            )
    with path.open("rb") as file:
        head = file.read(8)
    if head == _COMPOUND:
        raise OutputError(
            "It is encrypted, or a workbook of an old format, and nothing can be written into it.",
            where=str(path),
            remedy="Save it without a password as .xlsx, or write to another file.",
        )
    if not zipfile.is_zipfile(path):
        raise OutputError(
            "It is not an xlsx workbook, though it is called like one.",
            where=str(path),
            remedy="Write to another file, or move that one away.",
        )


def check_sheet_name(settings: OutputSettings) -> None:
    """OutputError unless a sheet can be called so."""
    name = settings.sheet
    wrong = re.search(rf"[\[\]:*?/\\]|{NO_CHARACTER}|[\x00-\x1f\x7f]", name)
    if not name or units(name) > 31 or wrong or "'" in (name[0], name[-1]) or name.casefold() == "history":
        raise OutputError(
            f"“{visible(name)}” cannot be the name of a sheet.",
            where=settings.path,
            remedy="Use up to 31 characters, without [ ] : * ? / \\, control characters and apostrophes at "
            "its ends, and not “History”.",
        )


def _new_book(folder: Path, parts: Sequence[Part]) -> Path:
    """A workbook with the empty sheet of the first output; further ones are added as to any other."""
    import xlsxwriter

    path = folder / "new.xlsx"
    with xlsxwriter.Workbook(path) as book:
        settings = parts[0].settings
        book.set_properties({"created": clock().replace(tzinfo=None)})
        sheet = book.add_worksheet(settings.sheet)
        if not settings.cell:
            sheet.freeze_panes(1, 0)
            for column, width in enumerate(widths(parts[0].table)):
                sheet.set_column(column, column, width)
    return path
