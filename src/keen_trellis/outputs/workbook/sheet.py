"""The cells of a sheet that exists: looked through row by row, and written anew with others among them."""

from __future__ import annotations

import io
import re
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import IO

import msgspec
import numpy as np
import pyarrow as pa
from lxml import etree

from keen_trellis.core.errors import OutputError
from keen_trellis.core.task import Task
from keen_trellis.flow.cell_names import MOST_COLUMNS, Block, cell_name, column_number, read_block
from keen_trellis.outputs.lines import TEXT, around, joined
from keen_trellis.outputs.workbook.book import MAIN, Book, NamedTable, Sheet
from keen_trellis.outputs.workbook.following import Moved
from keen_trellis.outputs.workbook.formulas import Pattern, of_table, pattern
from keen_trellis.outputs.workbook.package import Element, Package

_ROW, _CELL, _FORMULA = f"{{{MAIN}}}row", f"{{{MAIN}}}c", f"{{{MAIN}}}f"
_CONTENT = tuple(f"{{{MAIN}}}{name}" for name in ("v", "is", "f"))
_DIGITS = "0123456789"
_DECLARED = re.compile(r'\sxmlns(?::[\w.-]+)?="[^"]*"')
# What a row says that is said anew, or that nobody sees: its number, its reach, where its letters stand.
_NUMBERED = re.compile(r'\s(?:r|spans|[\w.-]+:dyDescent)="[^"]*"')
_MARKER = "rows\ufdd0go\ufdd0here"
_LOOK_EVERY = 10_000


def sheet_rows(package: Package, part: str, task: Task, what: str) -> Iterator[tuple[int, Element]]:
    """Each row of a sheet with its number, gone from memory as soon as the next one is asked for; the last
    one, numbered 0, is the root of the part, without rows.
    """
    with _opened(package, part) as content:
        found = etree.iterparse(content, tag=_ROW, resolve_entities=False, no_network=True)
        number = 0
        for _, row in found:
            number = int(row.get("r") or number + 1)
            if number % _LOOK_EVERY == 0:
                task.checkpoint(0, 0, what)
            yield number, row
            row.clear(keep_tail=False)
            holder = row.getparent()
            while (before := row.getprevious()) is not None:
                holder.remove(before)
        root = found.root
    if root.getroottree().docinfo.doctype:
        raise etree.XMLSyntaxError("It has a document type, which no part may have.", 0, 0, 0)
    data = root.find(f"{{{MAIN}}}sheetData")
    if data is None:
        raise OutputError(
            "A sheet of it has no place for cells, so that nothing can be written there.",
            where=str(package.path),
            remedy="Write to another sheet.",
        )
    for row in list(data):
        data.remove(row)
    data.text = None
    yield 0, root


def _opened(package: Package, part: str) -> IO[bytes]:
    return io.BytesIO(package.content(part)) if part in package.changed else package.opened(part)


def cells_of(row: Element) -> Iterator[tuple[int, Element]]:
    """The cells of a row, each with the number of its column."""
    column = -1
    for cell in row.iterchildren(_CELL):
        letters = cell.get("r", "").rstrip(_DIGITS)
        column = _column(letters) if letters else column + 1
        yield column, cell


_column = cache(column_number)  # a sheet has few of them, and cells by the million


def has_content(cell: Element) -> bool:
    """Whether a cell shows anything; one with a format alone does not."""
    return len(cell) > 0


def forget_value(cell: Element) -> None:
    """Take out what a formula came to, so that every program computes it anew."""
    for value in cell.findall(f"{{{MAIN}}}v"):
        cell.remove(value)
    cell.attrib.pop("t", None)


class Looked(msgspec.Struct):
    """What a sheet held before. root: its part without rows.

    first, last: the first and the last row with content within some columns.  run: the last one of those that
    follow one another without a gap from a row on.  styles: of the cells of two rows, by row and column.
    texts: the elements of the cells of the first row.  formulas: whether any cell of the sheet has one.
    filled: how many rows of those that were looked at for it have a formula in a column, by both.
    """

    root: Element = None
    last: int = 0
    run: int = 0
    first: int = 0
    styles: dict[tuple[int, int], int] = msgspec.field(default_factory=dict)
    texts: dict[int, Element] = msgspec.field(default_factory=dict)
    formulas: bool = False
    filled: Counter[tuple[int, Pattern]] = msgspec.field(default_factory=Counter)
    _shared: dict[tuple[str, int], Pattern] = msgspec.field(default_factory=dict)

    def note_formulas(self, number: int, row: Element, columns: range) -> None:
        """Count the formulas of a row."""
        for column, cell in cells_of(row):
            formula = cell.find(_FORMULA)
            if column not in columns or formula is None:
                continue
            group = (formula.get("si", ""), column)
            if formula.text:
                self._shared[group] = pattern(formula.text, number)
            if group in self._shared:
                self.filled[column, self._shared[group]] += 1

    @property
    def prefix(self) -> str:
        """What stands before the names of tags in the sheet's XML."""
        return f"{self.root.prefix}:" if self.root.prefix else ""


def look(
    package: Package, part: str, columns: range, top: int, task: Task, *, filled: range = range(0)
) -> Looked:
    """Look through a sheet: within `columns`, from row `top` on, whose styles and those of the next row are
    kept. filled: the rows in which columns may have the same formula each.
    """
    found = Looked()
    all_columns = len(columns) == MOST_COLUMNS
    for number, row in sheet_rows(package, part, task, "looking at the sheet"):
        if number == 0:
            found.root = row
            continue
        if number in (top, top + 1):
            cells = ((column, cell) for column, cell in cells_of(row) if column in columns)
            found.styles.update({(number, column): int(cell.get("s", 0)) for column, cell in cells})
        if number in filled:
            found.note_formulas(number, row, columns)
        found.formulas = found.formulas or next(row.iter(_FORMULA), None) is not None
        if number < top or next(row.iter(*_CONTENT), None) is None:
            continue
        if not all_columns and not any(
            has_content(cell) for column, cell in cells_of(row) if column in columns
        ):
            continue
        found.first = found.first or number
        found.last = number
        if number == found.first:
            found.texts = {column: _detached(cell) for column, cell in cells_of(row) if column in columns}
        if number in (found.run + 1, top):
            found.run = number
    return found


def _detached(cell: Element) -> Element:
    return etree.fromstring(etree.tostring(cell))


def cell_texts(book: Book, cells: dict[int, Element]) -> dict[int, str]:
    """What the cells of a header say, by column."""
    said: dict[int, str] = {}
    shared: dict[int, int] = {}
    for column, cell in cells.items():
        value = cell.find(f"{{{MAIN}}}v")
        if cell.get("t") == "s" and value is not None:
            shared[column] = int(value.text or 0)
        elif cell.get("t") == "inlineStr":
            said[column] = "".join(cell.itertext(f"{{{MAIN}}}t"))
        elif value is not None:
            said[column] = value.text or ""
    if shared:
        texts = _shared_texts(book, set(shared.values()))
        said.update({column: texts.get(number, "") for column, number in shared.items()})
    return said


def _shared_texts(book: Book, numbers: set[int]) -> dict[int, str]:
    """Some of the texts that a workbook keeps in one place, by their numbers."""
    found: dict[int, str] = {}
    for part in book.package.related(book.part, "sharedStrings"):
        with book.package.opened(part) as content:
            entries = etree.iterparse(content, tag=f"{{{MAIN}}}si", resolve_entities=False, no_network=True)
            for number, (_, entry) in enumerate(entries):
                if number in numbers:
                    runs = entry.iterfind(f".//{{{MAIN}}}t")
                    found[number] = "".join(
                        run.text or "" for run in runs if run.getparent().tag != f"{{{MAIN}}}rPh"
                    )
                entry.clear()
    return found


class Place(msgspec.Struct, frozen=True):
    """Where rows go in a sheet, and what goes there.

    width: the first and the last of the columns.  first, last: the rows.  header: the row of a header that is
    written, and its cells as XML.  cleared: the last row within the width that is made empty.  whole: whether
    all cells of the sheet go.  totals: the row of totals, where it stood and where it goes.
    """

    left: int
    right: int
    first: int
    last: int
    header: tuple[int, str] | None = None
    cleared: int = 0
    whole: bool = False
    totals: tuple[int, int] | None = None

    @property
    def top(self) -> int:
        return self.header[0] if self.header else self.first

    @property
    def bottom(self) -> int:
        """The last row that is touched."""
        return max(self.last, self.cleared, *(self.totals or ()))

    @property
    def gone(self) -> Block:
        """The cells that do not stay."""
        return Block(self.top, self.left, max(self.cleared, self.top), self.right)


class _Row(msgspec.Struct):
    """What stays of a row that new cells are put into: its tag, and its cells before and after them."""

    tag: str = ""
    before: list[str] = msgspec.field(default_factory=list)
    after: list[str] = msgspec.field(default_factory=list)


class Splicing:
    """Writes the rows of a sheet to a file: those that stay as they are, and the new ones in their place."""

    def __init__(
        self,
        book: Book,
        sheet: Sheet,
        place: Place,
        looked: Looked,
        moved: Moved,
        table: NamedTable | None,
    ) -> None:
        self.book, self.sheet, self.place = book, sheet, place
        self.prefix = looked.prefix
        self._looked, self._moved, self._table = looked, moved, table
        self._kept: dict[int, _Row] = {}
        self._totals: list[str] = []
        # Groups of formulas that are written out once: begun in what goes, and in what stays.
        self._shared: tuple[set[str], set[str]] = set(), set()
        self.formulas_gone = place.whole and looked.formulas

    def write(self, made: Iterator[tuple[int, pa.Array]], rows: Path, task: Task) -> Element:
        """Write all rows to the file `rows`; the root of the part, without them. made: cells of new rows,
        each time with the number of the first one. OutputError if something is in the way; Cancelled.
        """
        place, root, done = self.place, None, False
        with rows.open("wb") as out:
            if place.whole:
                self._write_new(made, out)
                return self._looked.root
            package, part = self.book.package, self.sheet.part
            for number, row in sheet_rows(package, part, task, f"writing sheet {self.sheet.name}"):
                if number == 0:
                    root = row
                elif place.top <= number <= place.bottom:
                    self._keep(number, row)
                else:
                    if number > place.bottom and not done:
                        self._write_new(made, out)
                        done = True
                    self._note_kept(row)
                    out.write(self._text(row).encode())
            if not done:
                self._write_new(made, out)
        if self._shared[0] & self._shared[1]:
            raise self._refused(
                "Formulas next to the rows depend on one among them, which would be removed.",
                "Enter these formulas anew, each on its own, or write to another place.",
            )
        return root

    def _text(self, row: Element) -> str:
        text = str(etree.tostring(row, encoding="unicode", with_tail=False))
        tag, end, rest = text.partition(">")
        return f"{_DECLARED.sub('', tag)}{end}{rest}"

    def _note_kept(self, cells: Element) -> None:
        """Look at the formulas of a row or cell that stays, and let them follow."""
        for formula in cells.iter(_FORMULA):
            self._let_follow(formula)
            self._look_at(formula, kept=True)

    def _let_follow(self, formula: Element) -> None:
        """Let a formula follow; what it came to is taken out if it may be another one now."""
        text = formula.text or ""
        if self._moved.concerns(text, of_sheet=self.sheet.name):
            formula.text = self._moved.follow(text, of_sheet=self.sheet.name)
            forget_value(formula.getparent())

    def _keep(self, number: int, row: Element) -> None:
        """Hold what stays of a row in whose place new cells go; OutputError if what would go must not."""
        place = self.place
        kept = _Row(self._tag(row))
        for column, cell in cells_of(row):
            if not place.left <= column <= place.right:
                self._note_kept(cell)
                (kept.before if column < place.left else kept.after).append(self._text(cell))
            elif place.totals is not None and number == place.totals[0]:
                self._move(cell, column)
            elif number > place.cleared and has_content(cell):
                raise self._refused(
                    f"The rows would overwrite what is in {cell_name(number, column)}.",
                    "Move it out of the way, or write to another place.",
                )
            else:
                for formula in cell.iter(_FORMULA):
                    self._look_at(formula, kept=False)
        if kept.before or kept.after or kept.tag:
            self._kept[number] = kept

    def _tag(self, row: Element) -> str:
        """The beginning of a row's tag, without its number; "" where it says nothing more."""
        if all(name in ("r", "spans") or name.endswith("dyDescent") for name in row.attrib):
            return ""
        return _NUMBERED.sub("", self._text(row).partition(">")[0].rstrip("/"))

    def _move(self, cell: Element, column: int) -> None:
        """Hold a cell of the row of totals, which goes where that goes."""
        assert self.place.totals is not None and self._table is not None
        cell.set("r", cell_name(self.place.totals[1], column))
        for formula in cell.iter(_FORMULA):
            self.formulas_gone = True
            text = self._moved.follow(formula.text or "", of_sheet=self.sheet.name)
            formula.text = of_table(text, self._table.name)
            forget_value(cell)
            if formula.get("t") == "shared":
                raise self._refused(
                    "The row of totals has a formula that is shared with others.",
                    "Enter it anew, on its own.",
                )
        self._totals.append(self._text(cell))

    def _look_at(self, formula: Element, *, kept: bool) -> None:
        if not kept:
            self.formulas_gone = True
        sort = formula.get("t")
        if sort == "shared":
            begun = formula.text is not None
            if kept or begun:
                self._shared[1 if kept else 0].add(formula.get("si", ""))
        elif sort in ("array", "dataTable"):
            block = read_block(formula.get("ref", ""))
            if block is not None and block.meets(self.place.gone) and not self.place.gone.contains(block):
                raise self._refused(
                    f"A formula fills the cells {block}, some of which would go.",
                    "Write to another place, or take that formula out.",
                )

    def _refused(self, what: str, remedy: str) -> OutputError:
        where = f"{self.book.package.path}, sheet {self.sheet.name}"
        return OutputError(what, where=where, remedy=remedy)

    # --- the new rows ---

    def _write_new(self, made: Iterator[tuple[int, pa.Array]], out: IO[bytes]) -> None:
        place = self.place
        if place.header is not None:
            out.write(self._row(place.header[0], place.header[1]).encode())
        for first, cells in made:
            numbers = np.arange(first, first + len(cells))
            if self._kept and not self._kept.keys().isdisjoint(numbers.tolist()):
                for number, text in zip(numbers.tolist(), cells.to_pylist(), strict=True):
                    out.write(self._row(number, text).encode())
                continue
            begin = around(f'<{self.prefix}row r="', pa.array(numbers).cast(TEXT), '">')
            end = pa.repeat(pa.scalar(f"</{self.prefix}row>", TEXT), len(cells))
            out.write(joined([begin, cells, end], "", ""))
        if place.totals is not None:
            out.write(self._row(place.totals[1], "".join(self._totals)).encode())
        for number in sorted(self._kept):
            out.write(self._row(number, "").encode())

    def _row(self, number: int, cells: str) -> str:
        """A row with new cells between those that stay; it is not asked for again."""
        kept = self._kept.pop(number, _Row())
        tag = kept.tag or f"<{self.prefix}row"
        name = tag[1:].split(maxsplit=1)[0]
        inner = "".join((*kept.before, cells, *kept.after))
        return f'<{name} r="{number}"{tag[1 + len(name) :]}>{inner}</{name}>'


def assembled(root: Element, rows: Path) -> Callable[[IO[bytes]], None]:
    """What writes the part of a sheet: its root, with the rows of a file in their place."""
    root.find(f"{{{MAIN}}}sheetData").text = _MARKER
    head, tail = etree.tostring(root, encoding="unicode").split(_MARKER)
    declared = "<?xml version='1.0' encoding='UTF-8' standalone='yes'?>\n"

    def write(out: IO[bytes]) -> None:
        out.write(f"{declared}{head}".encode())
        with rows.open("rb") as content:
            while block := content.read(2**20):
                out.write(block)
        out.write(tail.encode())
        with suppress(OSError):
            rows.unlink()

    return write
