"""Tables as they stand in sheets: titles, headers of two rows, totals, notes, several in one sheet, named
ranges.
"""

import datetime as dt
import struct
import unittest

import xlsxwriter
import xlwt
from odf.namespaces import TABLENS
from odf.opendocument import OpenDocumentSpreadsheet
from odf.table import NamedExpressions, NamedRange, Table, TableCell, TableRow
from odf.text import P

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.flow.remark import ABOVE, DATA, EMPTY, HEADER, NOTE, TOTAL
from keen_trellis.flow.source_settings import FieldSettings, Layout, Writing
from tests import demo_data
from tests.sources.source_case import SourceCase
from tests.sources.xlsb import write_xlsb
from tests.tables import rows_of

T = FieldType
HEAD = ["venue", "region", "crates", "cost"]
BODY = [["Pier", "North", 3, 10.5], ["Mill", "South", 4, 20.0], ["Hall", "South", 5, 30.25]]


class SheetCase(SourceCase):
    def book(self, *rows, merge=(), name="book.xlsx", sheet="Trips", more=None):
        path = self.folder / name
        with xlsxwriter.Workbook(path, {"default_date_format": "yyyy-mm-dd"}) as book:
            page = book.add_worksheet(sheet)
            for number, row in enumerate(rows):
                page.write_row(number, 0, row)
            for area, text in merge:
                page.merge_range(area, text)
            if more:
                more(book, page)
        return path

    def names(self, path):
        self.library.get(self.settings(path, "Trips"), Task())
        content = self.library.further_content(self.library.content(path))
        return [entry.name for entry in content.tables]


class Headers(SheetCase):
    def test_a_header_of_two_rows_with_merged_cells(self):
        path = self.book(
            ["loan", "lent", None, "agreed"],
            [None, "out", "back", "value"],
            ["L-1", dt.date(2026, 1, 2), dt.date(2026, 2, 3), 60],
            ["L-2", dt.date(2026, 1, 5), None, 80],
            merge=[("B1:C1", "lent")],
        )
        snapshot = self.read(path)
        self.assertEqual(snapshot.table.names, ("loan", "lent out", "lent back", "agreed value"))
        self.assertEqual([field.type for field in snapshot.table.fields], [T.TEXT, T.DATE, T.DATE, T.INTEGER])
        self.assertEqual(snapshot.table.rows, 2)
        self.assertIn("the header has 2 rows", self.said(snapshot))

    def test_groups_above_the_header_reach_over_the_blanks_at_their_right(self):
        path = self.book(
            ["lent", None, "sent", None], ["out", "back", "crates", "cost"], [1, 2, 3, 4], [5, 6, 7, 8]
        )
        self.assertEqual(self.read(path).table.names, ("lent out", "lent back", "sent crates", "sent cost"))

    def test_a_title_of_one_cell_is_no_group(self):
        snapshot = self.read(self.book(["Trips of the year", None, None, None], HEAD, *BODY))
        self.assertEqual(snapshot.table.names, tuple(HEAD))
        self.assertIn("below “Trips of the year”", self.said(snapshot))

    def test_a_header_and_two_rows_of_text_below_it(self):
        path = self.book(["venue", "region"], ["Pier", "North"], ["Mill", "South"], ["Hall", "South"])
        self.assertEqual(self.read(path).table.rows, 3)

    def test_the_header_can_be_set(self):
        path = self.book(["a", "b"], ["venue", "region"], ["Pier", "North"], ["Mill", "South"])
        self.assertEqual(self.read(path, layout=Layout(header=2)).table.names, ("venue", "region"))
        none = self.read(path, layout=Layout(header=0))
        self.assertEqual((none.table.names, none.table.rows), (("field 1", "field 2"), 4))
        both = self.read(path, layout=Layout(header=1, header_rows=2))
        self.assertEqual((both.table.names, both.table.rows), (("a venue", "b region"), 2))


class Tails(SheetCase):
    def test_a_totals_row_that_says_so_is_left_out(self):
        snapshot = self.read(self.book(HEAD, *BODY, ["Total", None, 12, 60.75]))
        self.assertEqual(snapshot.table.rows, 3)
        self.assertIn("row 5 holds totals and is left out", self.said(snapshot))

    def test_a_row_that_is_a_sum_by_chance_stays(self):
        day = dt.date(2026, 1, 5)
        for rows in (
            [["n", "venue", "cost"], [1, "Pier", 2.5], [2, "Mill", 4.5], [3, None, None]],
            [["n", "day", "cost"], *([n, day, 1.5] for n in (1, 2, 3)), [6, day, None]],
        ):
            self.library.forget_all()
            self.assertEqual(self.read(self.book(*rows)).table.rows, len(rows) - 1)

    def test_a_totals_row_is_known_by_its_sums(self):
        snapshot = self.read(self.book(HEAD, *BODY, [None], [None, None, 12, 60.75]))
        self.assertEqual(snapshot.table.rows, 3)
        self.assertIn("row 6 holds totals", self.said(snapshot))

    def test_a_last_row_with_a_gap_that_is_no_sum_stays(self):
        self.assertEqual(self.read(self.book(HEAD, *BODY, ["Quay", None, 12, 61.0])).table.rows, 4)
        self.assertEqual(self.read(self.book(HEAD, *BODY, ["Quay", None, 13, 61.0])).table.rows, 4)

    def test_notes_below_the_data_are_left_out(self):
        snapshot = self.read(self.book(HEAD, *BODY, [None], ["* cost without tax"], ["Source: the courier"]))
        self.assertEqual(snapshot.table.rows, 3)
        self.assertIn("rows 6 to 7 hold notes and are left out", self.said(snapshot))

    def test_a_short_last_row_of_a_narrow_table_is_data(self):
        self.assertEqual(self.read(self.book(["venue", "n"], ["Pier", 1], ["Mill"])).table.rows, 2)

    def test_first_and_last_row_and_columns_can_be_set(self):
        path = self.book(HEAD, *BODY, ["Total", None, 12, 60.75])
        whole = self.read(path, layout=Layout(last=5))
        self.assertEqual(rows_of(whole.table)[-1], ("Total", None, 12, 60.75))
        part = self.read(path, layout=Layout(first=3, last=3, columns="A:C"))
        self.assertEqual(
            (part.table.names, rows_of(part.table)), (("venue", "region", "crates"), [("Mill", "South", 4)])
        )

    def test_the_raw_rows_say_what_each_is(self):
        snapshot = self.read(
            self.book(["A title"], [None], HEAD, *BODY, ["Total", None, 12, 60.75], [None], ["* a note"])
        )
        roles = [row.role for row in snapshot.raw.rows]
        self.assertEqual(roles, [ABOVE, EMPTY, HEADER, DATA, DATA, DATA, TOTAL, EMPTY, NOTE])
        self.assertEqual(snapshot.raw.rows[3].cells, ("Pier", "North", "3", "10.5"))
        self.assertEqual(snapshot.settled.layout, Layout(3, 1, 4, 6, "A:D"))

    def test_cells_merged_downwards_among_the_data_are_doubtful(self):
        path = self.book(HEAD, *BODY, merge=[("B3:B4", "South")])
        self.assertIn("1 group of cells is merged downwards", self.said(self.read(path)))


class Several(SheetCase):
    def test_two_tables_side_by_side(self):
        rows = [
            ["Venues of the service"],
            [None],
            ["venue", "region", None, "region", "head"],
            ["Pier", "North", None, "North", "Ada"],
            ["Mill", "South", None, "South", "Ben"],
            ["Hall", "South"],
        ]
        path = self.book(*rows)
        self.assertEqual(self.names(path), ["Trips", "Trips!D3"])
        self.assertEqual(self.read(path, "Trips").table.rows, 3)
        beside = self.read(path, "Trips!D3")
        self.assertEqual(rows_of(beside.table), [("North", "Ada"), ("South", "Ben")])
        self.assertEqual(str(beside.table.origins(0)[0]), "book.xlsx, Trips!D3, row 4")

    def test_one_below_the_other(self):
        path = self.book(HEAD, *BODY, [None], ["Rates"], ["band", "rate"], ["A", 1.5], ["B", 2.5])
        self.assertEqual(self.names(path), ["Trips", "Trips!A7"])
        self.assertEqual(self.read(path, "Trips").table.rows, 3)
        self.assertEqual(rows_of(self.read(path, "Trips!A7").table), [("A", 1.5), ("B", 2.5)])

    def test_two_below_each_other_and_one_beside_them(self):
        left = [
            HEAD,
            *BODY,
            [None] * 4,
            ["band", "rate", None, None],
            ["A", 1.5, None, None],
            ["B", 2.5, None, None],
        ]
        beside = [["day", "hours"], [1, 8], [2, 7]]
        rows = [row + [None] + (beside[n] if n < 3 else []) for n, row in enumerate(left)]
        self.assertEqual(self.names(self.book(*rows)), ["Trips", "Trips!A6", "Trips!F1"])

    def test_a_gap_in_the_data_begins_no_table(self):
        path = self.book(HEAD, *BODY, [None], *BODY, [None], ["Quay", "North", None, None])
        self.assertEqual(self.names(path), ["Trips"])
        self.assertEqual(self.read(path, "Trips").table.rows, 7)

    def test_rows_of_text_after_a_gap_begin_no_table(self):
        rows = [["venue", "region"], ["Pier", "North"], [None], ["Mill", "South"], ["Hall", "South"]]
        self.assertEqual(self.names(self.book(*rows)), ["Trips"])

    def test_the_second_table_is_found_when_it_has_moved(self):
        path = self.book(
            HEAD, *BODY, ["Quay", "North", 1, 1.0], [None], ["band", "rate"], ["A", 1.5], ["B", 2.5]
        )
        self.assertEqual(rows_of(self.read(path, "Trips!A6").table), [("A", 1.5), ("B", 2.5)])

    def test_the_demo_s_second_table(self):
        path = demo_data.folder() / "loans-2026.xlsx"
        snapshot = self.read(path, "Venues!F3")
        self.assertEqual(rows_of(snapshot.table), demo_data.scenario().regions)
        self.assertEqual(rows_of(self.read(path, "Venues").table), demo_data.scenario().venues)


class Named(SheetCase):
    def more(self, book, page):
        book.define_name("Rates", "=Trips!$A$2:$C$4")
        page.add_table("F2:G4", {"name": "Bands", "columns": [{"header": "band"}, {"header": "rate"}]})
        page.write_row("F3", ["A", 1.5])
        page.write_row("F4", ["B", 2.5])
        hidden = book.add_worksheet("Old trips")
        hidden.hide()
        hidden.write_row(0, 0, ["n"])
        hidden.write_row(1, 0, [7])

    def test_sheets_tables_and_ranges_are_listed_hidden_ones_as_such(self):
        tables = self.library.content(self.book(HEAD, *BODY, more=self.more)).tables
        self.assertEqual(
            [(entry.name, entry.sort, entry.hidden) for entry in tables],
            [
                ("Trips", "sheet", False),
                ("Old trips", "sheet", True),
                ("Bands", "named table", False),
                ("Rates", "named range", False),
            ],
        )

    def test_each_is_read(self):
        path = self.book(HEAD, *BODY, more=self.more)
        bands = self.read(path, "Bands")
        self.assertEqual(
            (bands.table.names, rows_of(bands.table)), (("band", "rate"), [("A", 1.5), ("B", 2.5)])
        )
        self.assertEqual(bands.table.origins(0)[0].row, 3)
        rates = self.read(path, "Rates")
        self.assertEqual(
            rows_of(rates.table), [("Pier", "North", 3), ("Mill", "South", 4), ("Hall", "South", 5)]
        )
        block = self.read(path, "Trips!A1:C3")
        self.assertEqual((block.table.names, block.table.rows), (("venue", "region", "crates"), 2))

    def test_ranges_that_are_none(self):
        path = self.book(HEAD, *BODY)
        self.refused(path, "not a range of cells", "Trips!A1-B2")
        self.refused(path, "nothing in Q7:R9", "Trips!Q7:R9")

    def test_named_ranges_of_ods(self):
        book = OpenDocumentSpreadsheet()
        sheet = Table(name="My trips")
        for row in (["venue", "n"], ["Pier", "x"], ["Mill", "y"]):
            line = TableRow()
            for value in row:
                cell = TableCell(valuetype="string")
                cell.addElement(P(text=value))
                line.addElement(cell)
            sheet.addElement(line)
        book.spreadsheet.addElement(sheet)
        named = NamedExpressions()
        entry = NamedRange(name="Venues & more", cellrangeaddress="$'My trips'.$A$1:.$A$3")
        self.assertEqual(entry.getAttrNS(TABLENS, "name"), "Venues & more")
        named.addElement(entry)
        book.spreadsheet.addElement(named)
        path = self.folder / "named.ods"
        book.save(str(path))
        listed = [(found.name, found.sort) for found in self.library.content(path).tables]
        self.assertEqual(listed, [("My trips", "sheet"), ("Venues & more", "named range")])
        self.assertEqual(rows_of(self.read(path, "Venues & more").table), [("Pier",), ("Mill",)])

    def test_named_ranges_of_xlsb(self):
        path = self.folder / "named.xlsb"
        rows = [["notes", None, None], [None, "venue", "n"], [None, "Pier", 1.0], [None, "Mill", 2.0]]
        write_xlsb(path, [("Other", [["x"]]), ("My trips", rows)], [("Trips", 1, (1, 3, 1, 2))])
        self.assertIn(("Trips", "named range"), [(e.name, e.sort) for e in self.library.content(path).tables])
        self.assertEqual(rows_of(self.read(path, "Trips").table), [("Pier", 1), ("Mill", 2)])

    def test_named_ranges_of_xls(self):
        book = xlwt.Workbook()
        other, sheet = book.add_sheet("Other"), book.add_sheet("My trips")
        for row, cells in enumerate([["notes"], ["", "venue", "n"], ["", "Pier", 1], ["", "Mill", 2]]):
            for column, cell in enumerate(cells):
                sheet.write(row, column, cell)
        # The formula makes the library write the link to the sheet that the name needs.
        other.write(0, 0, xlwt.Formula("'My trips'!A1"))
        area = struct.pack("<BHHHHH", 0x3B, 1, 1, 3, 1, 2)
        entry = struct.pack("<HBBHHH5x", 0, 0, len("Trips"), len(area), 0, 0) + b"Trips" + area
        name = struct.pack("<HH", 0x18, len(entry)) + entry
        links = book._Workbook__all_links_rec
        book._Workbook__all_links_rec = lambda: links() + name
        path = self.folder / "named.xls"
        book.save(str(path))
        self.assertIn(("Trips", "named range"), [(e.name, e.sort) for e in self.library.content(path).tables])
        self.assertEqual(rows_of(self.read(path, "Trips").table), [("Pier", 1), ("Mill", 2)])


class Fields(SheetCase):
    def test_types_names_and_fields_left_out(self):
        path = self.book(HEAD, *BODY)
        snapshot = self.read(
            path,
            fields=(
                FieldSettings("crates", type="text"),
                FieldSettings("cost", type="integer"),
                FieldSettings("region", left_out=True),
                FieldSettings("venue", rename="where"),
            ),
        )
        self.assertEqual(snapshot.table.names, ("where", "crates", "cost"))
        self.assertEqual(
            rows_of(snapshot.table), [("Pier", "3", None), ("Mill", "4", 20), ("Hall", "5", None)]
        )
        said = next(remark for remark in snapshot.remarks if remark.field == "cost")
        self.assertEqual([(place.row, place.value) for place in said.places], [(2, "10.5"), (4, "30.25")])
        self.assertIn("2 values are no integer, as “10.5” (row 2), and blank now", said.text)

    def test_a_field_that_is_gone_is_said(self):
        snapshot = self.read(self.book(HEAD, *BODY), fields=(FieldSettings("gone", type="text"),))
        self.assertIn("gone: is gone from the source", self.said(snapshot))

    def test_two_fields_of_one_name_are_refused(self):
        path = self.book(HEAD, *BODY)
        self.refused(
            path, "Two fields are called “region”", fields=(FieldSettings("venue", rename="region"),)
        )
        self.refused(path, "no type “number”", fields=(FieldSettings("venue", type="number"),))
        self.refused(path, "left out", fields=tuple(FieldSettings(name, left_out=True) for name in HEAD))

    def test_what_counts_as_blank(self):
        rows = [["code", "n"], ["x", 1], ["none known", "n/a"], ["y", 3]]
        snapshot = self.read(self.book(*rows))
        self.assertEqual(rows_of(snapshot.table), [("x", 1), ("none known", None), ("y", 3)])
        self.assertIn("n: 1 “n/a” counted as blank", self.said(snapshot))
        chosen = self.read(self.book(*rows), writing=Writing(blanks=("none known",)))
        self.assertEqual(rows_of(chosen.table), [("x", "1"), (None, "n/a"), ("y", "3")])

    def test_mixed_cells_have_their_places(self):
        snapshot = self.read(self.book(["n", "m"], [1, 1], ["x", 1], [3, 1], ["y", 1]))
        remark = next(entry for entry in snapshot.remarks if entry.field == "n")
        self.assertEqual(
            {place.row for place in remark.places} & {3, 5}, {3, 5} & {p.row for p in remark.places}
        )
        self.assertEqual(len(remark.places), 2)


class Limits(SheetCase):
    def test_a_cell_far_away_does_not_take_all_memory(self):
        path = self.book(HEAD, *BODY, more=lambda _, page: page.write("XFD1048576", "far"))
        try:
            table = self.read(path, "Trips").table
            self.assertEqual(table.rows, 3)
        except SourceError as error:
            self.assertRegex(str(error), "memory|damaged")


if __name__ == "__main__":
    unittest.main()
