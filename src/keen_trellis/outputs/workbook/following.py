"""What refers to rows that grew or shrank: charts, names, formulas, formats and checks follow them.

A reference follows if it ends where the rows ended, begins within them, and names no other columns. All else
in the workbook stays to the letter.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from xml.sax.saxutils import escape, unescape

import msgspec

from keen_trellis.flow.cell_names import Block, column_number, read_block
from keen_trellis.outputs.workbook.book import MAIN, Book, NamedTable, Sheet
from keen_trellis.outputs.workbook.package import Element

_CHART = "http://schemas.openxmlformats.org/drawingml/2006/chart"
_REFERENCE = re.compile(
    r"""(?P<text>"(?:[^"]|"")*")
    |(?P<sheet>(?:'(?:[^']|'')+'|[^\s'!:,;()&<>=+*/^%"{}\[\]-]+)!)?
     (?P<begin>\$?(?P<left>[A-Z]{1,3})\$?(?P<first>\d+):\$?(?P<right>[A-Z]{1,3})\$?)
     (?P<last>\d+)(?![\w(.])""",
    re.VERBOSE,
)
# A formula, and what it came to, if that stands behind it.
_FORMULA = re.compile(
    rb"(<(?:[\w.-]+:)?f(?P<words>(?:\s[^>]*?)?)(?:/>|>(?P<text>[^<]*)</(?:[\w.-]+:)?f>))"
    rb"(?:<(?:[\w.-]+:)?v>[^<]*</(?:[\w.-]+:)?v>)?"
)
_GROUP = re.compile(rb'si="(\d+)"')
_ENTITIES = {"&quot;": '"', "&apos;": "'"}
_TEXT = re.compile(r'"(?:[^"]|"")*"')
_NAMED_SHEET = re.compile(r"""((?:'(?:[^']|'')+'|[^\s'!:,;()&<>=+*/^%"{}\[\]-]+)!)""")


def _plain(sheet: str) -> str:
    """The name of a sheet as a formula has it, without its quotation and the sign behind it."""
    return sheet[:-1].strip("'").replace("''", "'")


class Moved(msgspec.Struct, frozen=True):
    """Rows of a sheet that ended in one row and end in another. top: where they begin, header included.

    names: of tables and ranges that stand for cells of the sheet.
    """

    sheet: str
    left: int
    right: int
    top: int
    was: int
    now: int
    names: tuple[str, ...] = ()

    def follow(self, text: str, *, of_sheet: str = "") -> str:
        """A formula with its references changed. of_sheet: where it stands, for those that name no sheet."""

        def changed(found: re.Match[str]) -> str:
            if found["text"] is not None:
                return found[0]
            sheet = found["sheet"]
            named = _plain(sheet) if sheet else of_sheet
            if named.casefold() != self.sheet.casefold() or not self._ends_with(found):
                return found[0]
            return f"{sheet or ''}{found['begin']}{self.now}"

        return _REFERENCE.sub(changed, text)

    def concerns(self, text: str, *, of_sheet: str = "") -> bool:
        """Whether a formula may come to something else: it follows, or names the sheet or a table there."""
        if self.follow(text, of_sheet=of_sheet) != text:
            return True
        plain = _TEXT.sub("", text)
        sheets = {_plain(found).casefold() for found in _NAMED_SHEET.findall(plain)}
        if self.sheet.casefold() in sheets - {of_sheet.casefold()}:
            return True
        return any(
            re.search(rf"(?<![\w.]){re.escape(name)}(?![\w.]|\[\[?(?:#This Row|@))", plain, re.IGNORECASE)
            for name in self.names
        )

    def _ends_with(self, found: re.Match[str]) -> bool:
        columns = column_number(found["left"]), column_number(found["right"])
        return (
            int(found["last"]) == self.was
            and self.top <= int(found["first"]) <= self.was
            and self.left <= columns[0] <= columns[1] <= self.right
        )

    def follow_block(self, text: str) -> str:
        """A reference as formats and checks have it, several with spaces between them."""
        return " ".join(self._block(part) for part in text.split(" "))

    def _block(self, text: str) -> str:
        block = read_block(text)
        if block is None or block.bottom != self.was or not self.top <= block.top:
            return text
        if not self.left <= block.left <= block.right <= self.right:
            return text
        return str(Block(block.top, block.left, max(self.now, block.top), block.right))


def follow_everywhere(book: Book, sheet: Sheet, moved: Moved) -> None:
    """Let charts, names and the formulas of other sheets follow; those of `sheet` itself are left to
    `follow_in_sheet` and the splicing.
    """
    if moved.was != moved.now:
        _follow_names(book, moved)
    for part in _charts(book):
        _follow_chart(book, part, moved)
    for other in book.sheets:
        if other.has_cells and other.part != sheet.part:
            _follow_formulas(book, other, moved)


def follow_in_sheet(root: Element, moved: Moved) -> None:
    """Let formats, checks, the filter and the area of a sheet follow."""
    if moved.was == moved.now:
        return
    for name in ("conditionalFormatting", "dataValidations/{}dataValidation", "ignoredErrors/{}ignoredError"):
        for entry in root.iterfind(f"{{{MAIN}}}{name.format(f'{{{MAIN}}}')}"):
            entry.set("sqref", moved.follow_block(entry.get("sqref", "")))
    found = root.find(f"{{{MAIN}}}autoFilter")
    if found is not None:
        found.set("ref", moved.follow_block(found.get("ref", "")))


def move_table(book: Book, table: NamedTable) -> None:
    """Let a table reach over the block that it has now; a named range follows as all names do."""
    if table.part:
        block = table.block
        root = book.package.change(table.part)
        root.set("ref", str(block))
        found = root.find(f"{{{MAIN}}}autoFilter")
        if found is not None:
            found.set("ref", str(Block(block.top, block.left, block.bottom - table.totals, block.right)))
            del found[:]  # what hid rows of before would hide others now


def _follow_names(book: Book, moved: Moved) -> None:
    for entry in book.defined_names:
        text = moved.follow(entry.text or "")
        if text != entry.text:
            book.package.change(book.part)
            entry.text = text


def _charts(book: Book) -> Iterator[str]:
    for part in book.package.parts:
        if book.package.content_type(part).endswith("drawingml.chart+xml"):
            yield part


def _follow_chart(book: Book, part: str, moved: Moved) -> None:
    for entry in book.package.root(part).iter(f"{{{_CHART}}}f"):
        if not moved.concerns(entry.text or ""):
            continue
        book.package.change(part)
        entry.text = moved.follow(entry.text or "")
        # The values that it kept are those of before; programs read them anew from the cells.
        for kept in ("numCache", "strCache"):
            for cache in entry.getparent().findall(f"{{{_CHART}}}{kept}"):
                cache.getparent().remove(cache)


def _follow_formulas(book: Book, sheet: Sheet, moved: Moved) -> None:
    """Change the formulas of a sheet in the bytes of its part, so that all else stays as it is. What those
    that are concerned came to is taken out, so that every program computes it anew.
    """
    content = book.package.content(sheet.part)
    shared: set[bytes] = set()

    def changed(found: re.Match[bytes]) -> bytes:
        group = _GROUP.search(found["words"])
        if not found["text"]:
            return found[1] if group and group[1] in shared else found[0]
        text = found["text"].decode()
        text = unescape(text, _ENTITIES)
        if not moved.concerns(text, of_sheet=sheet.name):
            return found[0]
        if group:
            shared.add(group[1])
        followed = moved.follow(text, of_sheet=sheet.name)
        if followed == text:
            return found[1]
        return found[1].replace(b">" + found["text"] + b"<", b">" + escape(followed).encode() + b"<")

    made = _FORMULA.sub(changed, content)
    if made != content:
        book.package.texts[sheet.part] = made


def protected(root: Element) -> bool:
    """Whether a sheet is protected from changes."""
    found = root.find(f"{{{MAIN}}}sheetProtection")
    return found is not None and found.get("sheet") in ("1", "true")


def remove_within(root: Element, block: Block | None) -> tuple[int, int]:
    """Take merged cells and links out of a block, or out of the sheet; how many of each there were."""
    counts = []
    for name in ("mergeCells", "hyperlinks"):
        found = root.find(f"{{{MAIN}}}{name}")
        gone = 0
        for entry in list(found) if found is not None else ():
            cells = read_block(entry.get("ref", ""))
            if block is None or (cells is not None and block.meets(cells)):
                found.remove(entry)
                gone += 1
        if found is not None and not len(found):
            root.remove(found)
        elif found is not None and found.get("count"):
            found.set("count", str(len(found)))
        counts.append(gone)
    return counts[0], counts[1]


def merged(root: Element) -> list[Block]:
    """The cells of a sheet that are merged."""
    found = root.iterfind(f"{{{MAIN}}}mergeCells/{{{MAIN}}}mergeCell")
    return [block for entry in found if (block := read_block(entry.get("ref", ""))) is not None]


def widen_dimension(root: Element, block: Block, *, whole: bool) -> None:
    """Let a sheet say that it reaches over a block, too."""
    found = root.find(f"{{{MAIN}}}dimension")
    if found is None:
        return
    was = read_block(found.get("ref", ""))
    if was is not None and not whole:
        block = Block(
            min(was.top, block.top),
            min(was.left, block.left),
            max(was.bottom, block.bottom),
            max(was.right, block.right),
        )
    found.set("ref", str(block))
