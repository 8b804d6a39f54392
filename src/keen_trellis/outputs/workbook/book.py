"""What a workbook has: its sheets, tables and named ranges, found by name and made anew."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cached_property

import msgspec
from lxml import etree

from keen_trellis.core.errors import OutputError
from keen_trellis.flow.cell_names import Block, read_block
from keen_trellis.outputs.workbook.package import Element, Package, parsed

MAIN = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
_OFFICE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
_STRICT = "http://purl.oclc.org/ooxml/"
_SHEET_TYPE = "application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"
_TABLE_TYPE = "application/vnd.openxmlformats-officedocument.spreadsheetml.table+xml"
_RANGE = re.compile(r"(?:'((?:[^']|'')+)'|([^'!:,]+))!(\$?[A-Z]{1,3}\$?\d+(?::\$?[A-Z]{1,3}\$?\d+)?)")
_NO_NAME = re.compile(r"[^\w.]")
_STYLE = "TableStyleLight15"
TOTAL = "Total"


class Sheet(msgspec.Struct, frozen=True):
    """A sheet: what it is called, its part, and whether it holds cells; a chart sheet holds none."""

    name: str
    part: str
    has_cells: bool = True


class NamedTable(msgspec.Struct, frozen=True):
    """A table of a sheet, or a range with a name, which has no part of its own.

    block: all of it, header and totals included.  columns: their names.  formulas: what is computed in every
    row of a column, by its name.  header, totals: how many rows these have.
    """

    name: str
    sheet: Sheet
    block: Block
    part: str = ""
    columns: tuple[str, ...] = ()
    formulas: tuple[tuple[str, str], ...] = ()
    header: int = 1
    totals: int = 0

    @property
    def rows(self) -> int:
        """How many rows it has between its header and its totals."""
        return self.block.bottom - self.block.top + 1 - self.header - self.totals


class Book:
    """A workbook in a package. OutputError if it has no part for that."""

    def __init__(self, package: Package) -> None:
        self.package = package
        parts = package.related("", "officeDocument")
        if not parts:
            raise OutputError(
                "It is not a workbook.", where=str(package.path), remedy="Write to another file."
            )
        self.part = parts[0]
        self.check_format()

    def check_format(self) -> None:
        """OutputError for a workbook of the strict form, or one that is signed."""
        if self._root.tag.startswith(f"{{{_STRICT}"):
            raise OutputError(
                "It is a workbook of the strict form of Office Open XML, which cannot be written into.",
                where=str(self.package.path),
                remedy="Save it as an ordinary workbook (.xlsx), or write to another file.",
            )
        if any(entry.sort == "origin" for entry in self.package.relations("")):
            raise OutputError(
                "It is signed, and a change would break its signature.",
                where=str(self.package.path),
                remedy="Take the signature off, or write to another file.",
            )

    @property
    def _root(self) -> Element:
        return self.package.root(self.part)

    @property
    def from_1904(self) -> bool:
        """Whether days are counted from 1904 on."""
        found = self._root.find(f"{{{MAIN}}}workbookPr")
        return found is not None and found.get("date1904") in ("1", "true")

    @property
    def sheets(self) -> list[Sheet]:
        """All sheets, in their order."""
        relations = {entry.id: entry for entry in self.package.relations(self.part)}
        found = []
        for entry in self._root.iterfind(f"{{{MAIN}}}sheets/{{{MAIN}}}sheet"):
            relation = relations.get(entry.get(f"{{{_OFFICE}}}id", ""))
            if relation is not None:
                found.append(Sheet(entry.get("name", ""), relation.part, relation.sort == "worksheet"))
        return found

    def sheet(self, name: str) -> Sheet | None:
        """The sheet that is called so, in any case; None if none is."""
        return next((entry for entry in self.sheets if entry.name.casefold() == name.casefold()), None)

    def add_sheet(self, name: str, root: Element) -> Sheet:
        """A sheet that is new, behind all others. OutputError if the workbook is protected from that."""
        protection = self._root.find(f"{{{MAIN}}}workbookProtection")
        if protection is not None and protection.get("lockStructure") in ("1", "true"):
            raise OutputError(
                "The workbook is protected, so that it takes no further sheet.",
                where=str(self.package.path),
                remedy="Take the protection off, or write to a sheet that it has.",
            )
        part = self.package.free_name("xl/worksheets/sheet{}.xml")
        self.package.add(part, root, _SHEET_TYPE)
        relation = self.package.relate(self.part, part, f"{_OFFICE}/worksheet")
        sheets = self.package.change(self.part).find(f"{{{MAIN}}}sheets")
        number = max((int(entry.get("sheetId", 0)) for entry in sheets), default=0) + 1
        made = etree.SubElement(sheets, f"{{{MAIN}}}sheet", name=name, sheetId=str(number))
        made.set(f"{{{_OFFICE}}}id", relation)
        return Sheet(name, part)

    @cached_property
    def tables(self) -> list[NamedTable]:
        """Every table of every sheet."""
        return [found for sheet in self.sheets if sheet.has_cells for found in self.tables_of(sheet)]

    def tables_of(self, sheet: Sheet) -> Iterator[NamedTable]:
        """The tables of a sheet."""
        for part in self.package.related(sheet.part, "table"):
            root = self.package.root(part)
            block = read_block(root.get("ref", ""))
            if block is None:
                continue
            columns = root.findall(f"{{{MAIN}}}tableColumns/{{{MAIN}}}tableColumn")
            formulas = [
                (column.get("name", ""), formula.text)
                for column in columns
                if (formula := column.find(f"{{{MAIN}}}calculatedColumnFormula")) is not None and formula.text
            ]
            yield NamedTable(
                root.get("displayName") or root.get("name", ""),
                sheet,
                block,
                part,
                tuple(_unescaped(column.get("name", "")) for column in columns),
                tuple((_unescaped(name), text) for name, text in formulas),
                int(root.get("headerRowCount", 1)),
                int(root.get("totalsRowCount", 0)),
            )

    @property
    def defined_names(self) -> Iterator[Element]:
        """The elements of the names that the workbook gives to cells and formulas."""
        yield from self._root.iterfind(f"{{{MAIN}}}definedNames/{{{MAIN}}}definedName")

    def names_of(self, sheet: Sheet) -> Iterator[str]:
        """The names that stand for cells of a sheet: of its tables, and those of the workbook."""
        yield from (table.name for table in self.tables_of(sheet))
        begins = (f"{sheet.name}!".casefold(), "'" + sheet.name.replace("'", "''").casefold() + "'!")
        for entry in self.defined_names:
            if (entry.text or "").casefold().startswith(begins):
                yield entry.get("name", "")

    def named(self, name: str) -> NamedTable | None:
        """The table or named range that is called so, in any case; None if none is."""
        for table in self.tables:
            if table.name.casefold() == name.casefold():
                return table
        for entry in self.defined_names:
            if entry.get("name", "").casefold() == name.casefold():
                return self._range(name, entry.text or "")
        return None

    def _range(self, name: str, text: str) -> NamedTable:
        found = _RANGE.fullmatch(text.strip())
        sheet = self.sheet((found[1] or found[2]).replace("''", "'")) if found else None
        block = read_block(found[3]) if found else None
        if sheet is None or block is None or not sheet.has_cells:
            raise OutputError(
                f"The name “{name}” does not name cells of one sheet ({text}).",
                where=str(self.package.path),
                remedy="Choose another name, or a cell.",
            )
        return NamedTable(name, sheet, block)

    def table_name(self, sheet: Sheet) -> str:
        """What a table that fills a sheet is called: as the one that is there, or like the sheet."""
        for table in self.tables_of(sheet):
            return table.name
        names = [entry.name.casefold() for entry in self.tables]
        names += [entry.get("name", "").casefold() for entry in self.defined_names]
        return _table_name(sheet.name, names)

    def make_table(
        self, root: Element, sheet: Sheet, name: str, block: Block, columns: list[str], sums: set[str]
    ) -> None:
        """Make a table of the cells of a sheet, in place of any that it has. root: of the sheet's part.

        sums: columns with a total, which stands in the last row of the block.
        """
        if len({column.casefold() for column in columns}) < len(columns):
            raise OutputError(
                "The names of two fields differ in their case alone, which no table of a workbook has.",
                where=str(self.package.path),
                remedy="Rename one of them, or write the sheet without making it a table.",
            )
        for old in self.tables_of(sheet):
            self.package.unrelate(sheet.part, old.part)
            self.package.remove(old.part)
        self.__dict__.pop("tables", None)
        for holder in root.findall(f"{{{MAIN}}}tableParts"):
            root.remove(holder)
        ids = [int(self.package.root(entry.part).get("id", 0)) for entry in self.tables]
        table = etree.Element(f"{{{MAIN}}}table", nsmap={None: MAIN})
        table.attrib.update({"id": str(max(ids, default=0) + 1), "name": name, "displayName": name})
        table.set("ref", str(block))
        table.set(*(("totalsRowCount", "1") if sums else ("totalsRowShown", "0")))
        filtered = Block(block.top, block.left, block.bottom - bool(sums), block.right)
        etree.SubElement(table, f"{{{MAIN}}}autoFilter", ref=str(filtered))
        made = etree.SubElement(table, f"{{{MAIN}}}tableColumns", count=str(len(columns)))
        for number, column in enumerate(columns, 1):
            entry = etree.SubElement(made, f"{{{MAIN}}}tableColumn", id=str(number), name=_escaped(column))
            if column in sums:
                entry.set("totalsRowFunction", "sum")
            elif sums and number == 1:
                entry.set("totalsRowLabel", TOTAL)
        look = {
            "showFirstColumn": "0",
            "showLastColumn": "0",
            "showRowStripes": "1",
            "showColumnStripes": "0",
        }
        etree.SubElement(table, f"{{{MAIN}}}tableStyleInfo", name=_STYLE, **look)
        part = self.package.free_name("xl/tables/table{}.xml")
        self.package.add(part, table, _TABLE_TYPE)
        holder = etree.Element(f"{{{MAIN}}}tableParts", count="1")
        relation = self.package.relate(sheet.part, part, f"{_OFFICE}/table")
        etree.SubElement(holder, f"{{{MAIN}}}tablePart").set(f"{{{_OFFICE}}}id", relation)
        last = root.find(f"{{{MAIN}}}extLst")
        root.insert(len(root) if last is None else root.index(last), holder)

    def recalculate(self) -> None:
        """Let all formulas be computed when the workbook is opened."""
        root = self.package.change(self.part)
        found = root.find(f"{{{MAIN}}}calcPr")
        if found is None:
            found = etree.Element(f"{{{MAIN}}}calcPr")
            root.insert(_place_of_calc(root), found)
        found.set("fullCalcOnLoad", "1")

    def forget_order(self) -> None:
        """Take out the order in which formulas were computed: it names cells that have none any more."""
        for part in self.package.related(self.part, "calcChain"):
            self.package.unrelate(self.part, part)
            self.package.remove(part)


def new_sheet(widths: list[float]) -> Element:
    """A sheet without cells whose first row stays in view."""
    columns = "".join(
        f'<col min="{number}" max="{number}" width="{width:g}" customWidth="1"/>'
        for number, width in enumerate(widths, 1)
    )
    return parsed(
        f'<worksheet xmlns="{MAIN}" xmlns:r="{_OFFICE}"><dimension ref="A1"/><sheetViews>'
        '<sheetView workbookViewId="0"><pane ySplit="1" topLeftCell="A2" activePane="bottomLeft" '
        'state="frozen"/></sheetView></sheetViews><sheetFormatPr defaultRowHeight="15"/>'
        f"{f'<cols>{columns}</cols>' if columns else ''}<sheetData/></worksheet>".encode()
    )


def _table_name(wanted: str, taken: list[str]) -> str:
    """A name that a table may have: letters, digits and underscores, like no cell, and like no other name."""
    base = _NO_NAME.sub("_", wanted)
    if (
        not base
        or not (base[0].isalpha() or base[0] == "_")
        or re.fullmatch(r"[A-Za-z]{1,3}\d+|[RrCc]", base)
    ):
        base = f"_{base}"
    names = [base[:250], *(f"{base[:240]}_{number}" for number in range(2, len(taken) + 3))]
    return next(name for name in names if name.casefold() not in taken)


def _escaped(name: str) -> str:
    """The name of a column as a table has it: ends of lines are written out there."""
    return name.replace("\r", "_x000d_").replace("\n", "_x000a_").replace("\t", "_x0009_")


def _unescaped(name: str) -> str:
    return re.sub(r"_x([0-9A-Fa-f]{4})_", lambda found: chr(int(found[1], 16)), name)


def _place_of_calc(root: Element) -> int:
    """Where the settings of computing stand among the parts of a workbook."""
    after = {
        f"{{{MAIN}}}{name}"
        for name in (
            *("oleSize", "customWorkbookViews", "pivotCaches", "smartTagPr", "smartTagTypes"),
            *("webPublishing", "fileRecoveryPr", "webPublishObjects", "extLst"),
        )
    }
    return next((place for place, entry in enumerate(root) if entry.tag in after), len(root))
