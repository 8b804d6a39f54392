"""Where in a workbook the rows of an output go, and what of it stands in their way."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from keen_trellis.core.errors import OutputError
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.flow.cell_names import MOST_COLUMNS, MOST_ROWS, Block, read_cell
from keen_trellis.flow.steps.output import APPEND, NEW, OutputSettings
from keen_trellis.flow.wording import counted, listed
from keen_trellis.outputs.workbook.book import Book, NamedTable, Sheet, new_sheet
from keen_trellis.outputs.workbook.cells import Column, text_cell
from keen_trellis.outputs.workbook.following import Moved, merged, protected
from keen_trellis.outputs.workbook.formulas import pattern
from keen_trellis.outputs.workbook.sheet import Looked, Place, cell_texts, look
from keen_trellis.outputs.workbook.styles import Styles


class Placed(msgspec.Struct, frozen=True):
    """An output in its place. columns: what they hold, in their order.  moved: where the rows ended and end.

    looked: what the sheet held before.  table: the table or named range that they are in.
    """

    sheet: Sheet
    place: Place
    columns: tuple[Column, ...]
    moved: Moved
    looked: Looked
    table: NamedTable | None = None


class Placing:
    """Finds the place for the rows of one output in a workbook. OutputError where there is none."""

    def __init__(
        self, book: Book, table: Table, settings: OutputSettings, widths: Sequence[float], task: Task
    ) -> None:
        self.book, self.table, self.settings, self.task = book, table, settings, task
        self._widths = widths
        self.styles = Styles(book)

    def placed(self) -> Placed:
        """The place of the rows."""
        settings = self.settings
        if settings.table:
            return self._in_table()
        sheet = self.book.sheet(settings.sheet)
        if sheet is None:
            sheet = self.book.add_sheet(
                settings.sheet, new_sheet(list(self._widths) if not settings.cell else [])
            )
        elif settings.mode == NEW:
            raise self._refused(
                f"It has a sheet “{sheet.name}” already.", "Choose another name, or say that it is replaced."
            )
        if not sheet.has_cells:
            raise self._refused(
                f"“{sheet.name}” is a sheet that holds a chart and no cells.", "Choose another sheet."
            )
        if settings.mode == APPEND:
            return self._below(sheet)
        return self._at_cell(sheet) if settings.cell else self._whole(sheet)

    # --- the whole sheet ---

    def _whole(self, sheet: Sheet) -> Placed:
        tables = list(self.book.tables_of(sheet))
        fills = (
            self.settings.as_table
            and len(tables) == 1
            and (tables[0].block.top, tables[0].block.left) == (1, 0)
        )
        if tables and not fills:
            raise self._refused(
                f"Sheet {sheet.name} holds the table {tables[0].name}.",
                f"Write into the table (#{tables[0].name}), from a cell on, or to another sheet.",
            )
        if self.book.package.related(sheet.part, "pivotTable"):
            raise self._refused(
                f"Sheet {sheet.name} holds a pivot table, which would be written over.",
                "Choose another sheet.",
            )
        right = len(self.table.fields) - 1
        looked = self._look(sheet, range(MOST_COLUMNS), 1)
        columns = self._columns(looked, 2, 0)
        place = self._place(0, right, 2, header=self._header(looked, 1, 0), whole=True)
        return self._finished(sheet, place, columns, looked, was=max(looked.last, 2))

    # --- from a cell on ---

    def _at_cell(self, sheet: Sheet) -> Placed:
        row, left = self._cell(self.settings.cell)
        return self._block(sheet, row, left)

    def _block(self, sheet: Sheet, row: int, left: int, bottom: int = 0) -> Placed:
        """A place whose header is in `row`. bottom: its last row now; 0 is where the rows there end."""
        right = left + len(self.table.fields) - 1
        if right >= MOST_COLUMNS:
            raise self._refused("The rows would reach beyond the last column.", "Choose a cell farther left.")
        looked = self._look(sheet, range(left, right + 1), row)
        columns = self._columns(looked, row + 1, left)
        bottom = bottom or looked.run
        was = max(bottom, row + 1)
        header = self._header(looked, row, left)
        place = self._place(left, right, row + 1, header=header, cleared=bottom)
        self._check_room(sheet, looked, Block(row, left, max(place.bottom, was), right))
        return self._finished(sheet, place, columns, looked, was=was)

    # --- below what is there ---

    def _below(self, sheet: Sheet) -> Placed:
        cell = self.settings.cell
        row, left = self._cell(cell) if cell else (1, 0)
        right = left + len(self.table.fields) - 1 if cell else MOST_COLUMNS - 1
        looked = self._look(sheet, range(left, right + 1), row)
        header, last = looked.first, looked.run if cell else looked.last
        if not header or (cell and header > row):
            return self._at_cell(sheet) if cell else self._whole(sheet)
        texts = {column: text for column, text in cell_texts(self.book, looked.texts).items() if text}
        shown = range(min(texts, default=0), max(texts, default=0) + 1)
        columns = self._by_name([texts.get(column, "") for column in shown], shown.start)
        looked = self._look(sheet, shown, header)
        columns = self._styled(columns, looked, header + 1)
        place = self._place(
            columns[0].number, columns[-1].number, max(last, header) + 1, least=max(last, header)
        )
        self._check_room(sheet, looked, Block(header, place.left, place.bottom, place.right))
        return self._finished(sheet, place, columns, looked, was=max(last, header + 1), top=header)

    # --- a table, or a range with a name ---

    def _in_table(self) -> Placed:
        found = self.book.named(self.settings.table)
        if found is None:
            names = [entry.name for entry in self.book.tables]
            raise self._refused(
                f"It has no table and no named range “{self.settings.table}”.",
                f"Its tables: {listed(names)}." if names else "Make one there, or write to a sheet.",
            )
        if self.settings.mode == NEW:
            raise self._refused(f"It has {found.name} already.", "Say that it is replaced or added to.")
        if not found.part:
            return self._in_range(found)
        block = found.block
        last = block.bottom - found.totals
        top = block.top + found.header
        within = range(block.left, block.right + 1)
        looked = self._look(found.sheet, within, block.top, filled=range(top, last + 1))
        columns = self._by_name(found.columns, block.left)
        columns = self._filled(columns, found, looked, top, last)
        append = self.settings.mode == APPEND
        self._check_left_out(columns, found)
        columns = self._styled(columns, looked, top)
        empty = append and last == top and looked.run < top
        first = last + 1 if append and not empty else top
        place = self._place(block.left, block.right, first, cleared=last, least=max(first - 1, top))
        if found.totals:
            place = msgspec.structs.replace(place, totals=(block.bottom, place.last + 1))
        now = msgspec.structs.replace(block, bottom=place.last + found.totals)
        self._check_room(
            found.sheet,
            looked,
            Block(block.top, block.left, max(now.bottom, block.bottom), block.right),
            but=found,
        )
        placed = self._finished(found.sheet, place, columns, looked, was=last, top=block.top)
        return msgspec.structs.replace(placed, table=msgspec.structs.replace(found, block=now))

    def _filled(
        self, columns: Sequence[Column], table: NamedTable, looked: Looked, top: int, last: int
    ) -> list[Column]:
        """The columns of a table, those that no field fills with the formula of every row."""
        repeated = {column: made for (column, made), rows in looked.filled.items() if rows == last - top + 1}
        said = dict(table.formulas)
        found = []
        for place, column in enumerate(columns):
            formula = repeated.get(column.number, ())
            if not formula and table.columns[place] in said:
                formula = pattern(said[table.columns[place]], top)
            found.append(
                column if column.field is not None else msgspec.structs.replace(column, formula=formula)
            )
        return found

    def _check_left_out(self, columns: Sequence[Column], table: NamedTable) -> None:
        """OutputError if something else would be left of a column than what belongs to the new rows."""
        left_out = [
            name
            for name, column in zip(table.columns, columns, strict=True)
            if column.field is None and not column.formula
        ]
        if left_out and self.settings.mode != APPEND:
            raise self._refused(
                f"The table {table.name} has {listed(left_out, 3)}, which these rows do not have and no "
                "formula fills: what is there would no longer belong to its row.",
                "Bring a field of that name, or take the column out of the table.",
            )

    def _in_range(self, found: NamedTable) -> Placed:
        block = found.block
        if self.settings.mode == APPEND:
            raise self._refused(
                f"{found.name} is a range with a name, which rows cannot be added to.",
                "Make a table of it, or write it anew.",
            )
        if block.top == block.bottom and block.width == 1:
            return self._block(found.sheet, block.top, block.left)
        if block.width != len(self.table.fields):
            raise self._refused(
                f"{found.name} has {counted(block.width, 'columns')}; these rows have "
                f"{len(self.table.fields):,}.",
                "Give the name as many columns, or keep as many fields.",
            )
        return self._block(found.sheet, block.top, block.left, block.bottom)

    # --- what they share ---

    def _look(self, sheet: Sheet, columns: range, top: int, *, filled: range = range(0)) -> Looked:
        looked = look(self.book.package, sheet.part, columns, top, self.task, filled=filled)
        if protected(looked.root):
            raise self._refused(
                f"Sheet {sheet.name} is protected.", "Take the protection off, or write to another sheet."
            )
        return looked

    def _place(
        self,
        left: int,
        right: int,
        first: int,
        *,
        header: tuple[int, str] | None = None,
        cleared: int = 0,
        whole: bool = False,
        least: int = 0,
    ) -> Place:
        # A table and a reference need a row, if only an empty one; below others they have it.
        last = max(first + self.table.rows - 1, least or first)
        if last > MOST_ROWS - bool(self.settings.totals):
            raise self._refused(
                f"A sheet holds {MOST_ROWS:,} rows; these {self.table.rows:,} would reach row {last:,}.",
                "Write delimited text (.csv), or keep fewer rows.",
            )
        return Place(left, right, first, last, header, cleared, whole)

    def _finished(
        self, sheet: Sheet, place: Place, columns: Sequence[Column], looked: Looked, *, was: int, top: int = 0
    ) -> Placed:
        names = tuple(self.book.names_of(sheet))
        moved = Moved(sheet.name, place.left, place.right, top or place.top, was, place.last, names)
        return Placed(sheet, place, tuple(columns), moved, looked)

    def _header(self, looked: Looked, row: int, left: int) -> tuple[int, str]:
        """The row of a header, and its cells with the styles that they had."""
        had = any(number == row for number, _ in looked.styles)
        cells = []
        for column, name in enumerate(self.table.names, left):
            style = looked.styles.get((row, column), 0) if had else self.styles.header()
            cells.append(text_cell(row, column, name, style, looked.prefix))
        return row, "".join(cells)

    def _columns(self, looked: Looked, row: int, left: int) -> list[Column]:
        columns = [Column(left + place, field=field) for place, field in enumerate(self.table.fields)]
        return self._styled(columns, looked, row)

    def _styled(self, columns: Sequence[Column], looked: Looked, row: int) -> list[Column]:
        """The columns with styles like those of the cells that stood in a row."""
        from_1904 = self.book.from_1904
        found = []
        for column in columns:
            style = looked.styles.get((row, column.number), 0)
            if column.field is not None:
                style = self.styles.fitting(style, column.field)
            found.append(msgspec.structs.replace(column, style=style, from_1904=from_1904))
        return found

    def _by_name(self, names: Sequence[str], left: int) -> list[Column]:
        """The columns of a sheet, each with the field of its name; OutputError if a field has none."""
        by_name = {name.casefold().strip(): place for place, name in enumerate(names) if name}
        fields: dict[int, Field] = {}
        missing = []
        for field in self.table.fields:
            place = by_name.get(field.name.casefold().strip())
            if place is None or place in fields:
                missing.append(field.name)
            else:
                fields[place] = field
        if missing:
            known = listed([name for name in names if name])
            raise self._refused(
                f"Its columns are {known}; there is none for {listed(missing, 6)}.",
                "Leave these fields out, give them the names of columns, or write to another place.",
            )
        return [Column(left + place, field=fields.get(place)) for place in range(len(names))]

    def _cell(self, text: str) -> tuple[int, int]:
        found = read_cell(text)
        assert found is not None  # the kind of step refuses others
        return found

    def _check_room(
        self, sheet: Sheet, looked: Looked, block: Block, *, but: NamedTable | None = None
    ) -> None:
        """OutputError if merged cells or another table lie where the rows go."""
        for cells in merged(looked.root):
            if cells.meets(block):
                raise self._refused(
                    f"The cells {cells} of sheet {sheet.name} are merged, and the rows would go there.",
                    "Take them apart, or write to another place.",
                )
        for table in self.book.tables_of(sheet):
            if table.block.meets(block) and (but is None or table.part != but.part):
                raise self._refused(
                    f"The table {table.name} ({table.block}) is in the way.",
                    f"Write into the table (#{table.name}), or to another place.",
                )

    def _refused(self, what: str, remedy: str) -> OutputError:
        return OutputError(what, where=self.settings.path, remedy=remedy)
