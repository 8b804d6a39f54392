"""Rows put into workbooks that exist: they are there, and all else is as it was."""

import datetime as dt
import io
import shutil
import unittest
from decimal import Decimal
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

import msgspec
import openpyxl
import pyarrow as pa
import xlsxwriter
from hypothesis import given, settings
from hypothesis import strategies as st
from python_calamine import CalamineWorkbook

from keen_trellis.core.errors import Cancelled, OutputError
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.outputs import WRITERS, files, write
from keen_trellis.outputs.targets import settings_for
from keen_trellis.outputs.workbook.following import Moved
from keen_trellis.outputs.workbook.formulas import of_table, pattern
from tests.office import saved_by_office
from tests.outputs.reports import MAKERS, by_xlsxwriter, parts_of, with_part
from tests.tables import table

_MAIN = b"http://schemas.openxmlformats.org/spreadsheetml/2006/main"
_LOCKED = b'<workbookProtection lockStructure="1"/><bookViews>'
_MERGED = b'</sheetData><mergeCells><mergeCell ref="B3:C3"/></mergeCells>'
_SIGNED = (
    b'<Relationship Id="s" Target="o" Type="http://schemas.openxmlformats.org/package/2006/relationships/'
    b'digital-signature/origin"/>'
)


def dated(rows: int) -> ArrowTable:
    """Rows for the sheet Data."""
    days = [dt.date(2026, 2, 1) + dt.timedelta(number) for number in range(rows)]
    columns = {
        "day": pa.array(days, pa.date32()),
        "amount": pa.array([number + 0.5 for number in range(rows)], pa.float64()),
        "venue": pa.array([f"Pier {number}" for number in range(rows)], pa.large_string()),
    }
    return ArrowTable(pa.table(columns))


def lent(rows: int) -> ArrowTable:
    """Rows for the table Lent."""
    return table(id=[f"N-{number}" for number in range(rows)] or [""], amount=[*range(rows)] or [0])


class BookCase(unittest.TestCase):
    def setUp(self):
        folder = TemporaryDirectory(prefix="keen-trellis-tests-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.path = self.folder / "report.xlsx"
        self.enterContext(mock.patch.object(files, "sync"))

    def make(self, maker=by_xlsxwriter):
        maker(self.path)
        self.before = parts_of(self.path)

    def write(self, found, *, replace=True, **chosen):
        return write(found, msgspec.structs.replace(settings_for(self.path), **chosen), replace=replace)

    def changed(self):
        """The parts that are not as they were."""
        now = parts_of(self.path)
        return {name for name in self.before.keys() | now.keys() if self.before.get(name) != now.get(name)}

    def rows(self, sheet, *, computed=False, path=None):
        """The cells of a sheet as openpyxl reads them."""
        book = openpyxl.load_workbook(path or self.path, data_only=computed)
        return [[cell.value for cell in row] for row in book[sheet].iter_rows()]

    def refuse(self, said, found=None, **chosen):
        """Writing is refused, and the file is as it was."""
        before = self.path.read_bytes()
        with self.assertRaisesRegex(OutputError, said):
            self.write(found or dated(2), **chosen)
        self.assertEqual(self.path.read_bytes(), before)
        self.assertEqual([path.name for path in self.folder.glob(".keen*")], [])


class EachMaker(BookCase):
    """Workbooks of three programs, each read back by three."""

    def test_a_sheet_a_cell_a_table_and_a_range(self):
        after = []
        for name, maker in MAKERS.items():
            for where, found, chosen in (
                ("sheet", dated(8), {}),
                ("cell", dated(3), {"cell": "A1"}),
                ("range", dated(7), {"table": "everything"}),
                ("table", lent(5), {"table": "lent"}),
                ("below", lent(2), {"table": "Lent", "mode": "append"}),
            ):
                with self.subTest(name, where=where):
                    self.path = self.folder / f"{name}-{where}.xlsx"
                    self.make(maker)
                    self.write(found, **chosen)
                    self.look(where, found)
                    after.append(self.path)
        (self.folder / "office").mkdir()
        for path in saved_by_office(after, self.folder / "office"):
            with self.subTest(path.name):
                self.look_computed(path)

    def look(self, where, found):
        """What changed, and what openpyxl and calamine read."""
        changed = self.changed()
        on_table = where in ("table", "below")
        allowed = (
            ("xl/tables/", "xl/worksheets/sheet3")
            if on_table
            else (*("xl/charts/", "xl/worksheets/sheet1.xml", "xl/worksheets/sheet2.xml"),)
        )
        others = {part for part in changed if not part.startswith((*allowed, "xl/workbook.xml", "xl/styles"))}
        self.assertEqual(others, set())
        book = openpyxl.load_workbook(self.path)
        calamine = CalamineWorkbook.from_path(self.path)
        self.assertEqual(calamine.sheet_names[:3], ["Data", "Report", "Loans"])
        if on_table:
            first = 3 if where == "below" else 0
            ids = [row[1] for row in self.rows("Loans")[3:]]
            self.assertEqual(ids[first : first + found.rows], [f"N-{number}" for number in range(found.rows)])
            top, _, bottom = book["Loans"].tables["Lent"].ref.partition(":")
            totals = 1 if book["Loans"].tables["Lent"].totalsRowCount else 0
            self.assertEqual((top, int(bottom[1:])), ("B3", 3 + first + found.rows + totals))
            self.assertEqual((book["Loans"]["H5"].value, book["Loans"]["B12"].value), ("beside", "below"))
            return
        read = [tuple(row[:3]) for row in calamine.get_sheet_by_name("Data").to_python()[1 : found.rows + 1]]
        columns = [cells.values.to_pylist() for cells in found.take(None, found.names)]
        self.assertEqual(read, list(zip(*columns, strict=True)))
        last = found.rows + 1
        report = book["Report"]
        self.assertEqual(report["A1"].value, f"=SUM(Data!B2:B{last})")
        self.assertEqual(report["A2"].value, f'=COUNTA(Data!$C$2:$C${last})&" <rows>"')
        self.assertEqual(report["A3"].value, "=SUM(Data!B3:B5)")
        series = report._charts[0].series[0]
        self.assertIn(f"$B$2:$B${last}", series.val.numRef.f)
        self.assertIn(f"$C$2:$C${last}", (series.cat.strRef or series.cat.numRef).f)
        self.assertEqual(book.defined_names["Everything"].attr_text, f"Data!$A$1:$C${last}")
        data = book["Data"]
        self.assertEqual(data["A2"].number_format.lower().replace("\\", ""), "d mmm yyyy")
        self.assertEqual([str(entry.sqref) for entry in data.conditional_formatting], [f"B2:B{last}"])
        self.assertEqual(str(data.data_validations.dataValidation[0].sqref), f"C2:C{last}")
        if where != "sheet":
            self.assertEqual((data["F4"].value, data["G5"].value), ("keep & <me>", f"=SUM(B2:B{last})"))
            self.assertEqual([cell.value for cell in data[last + 1][:3]], [None] * 3)

    def look_computed(self, path):
        """What LibreOffice computes of it."""
        maker, where = path.stem.split("-")
        if where in ("table", "below"):
            rows = [row[1:] for row in self.rows("Loans", computed=True, path=path)[3:11]]
            amounts = [row[1] for row in rows[:5]]
            self.assertEqual(amounts, [0, 1, 2, 3, 4] if where == "table" else [1, 2, 3, 0, 1])
            if maker != "openpyxl":
                self.assertEqual([row[2] for row in rows[:5]], [2 * amount for amount in amounts])
                self.assertEqual(rows[5][:2], ["Total", sum(amounts)])
            return
        count = {"sheet": 8, "cell": 3, "range": 7}[where]
        report = self.rows("Report", computed=True, path=path)
        self.assertEqual([row[0] for row in report[:2]], [count * count / 2, f"{count} <rows>"])


class Table(BookCase):
    """A table grows and shrinks with what is written into it, and what stands below never is touched."""

    @settings(max_examples=25, deadline=None)
    @given(st.lists(st.tuples(st.integers(0, 8), st.booleans()), min_size=1, max_size=4))
    def test_any_number_of_rows_one_after_another(self, steps):
        self.make()
        self.write(lent(3), table="lent")
        expected = [f"N-{number}" for number in range(3)]
        for count, append in steps:
            new = [f"N-{number}" for number in range(count)]
            if (len(expected) if append else 0) + count > 7:
                continue  # it would run into what stands below
            found = ArrowTable(
                pa.table(
                    {"ID": pa.array(new, pa.large_string()), "amount": pa.array(range(count), pa.int64())}
                )
            )
            self.write(found, table="lent", mode="append" if append else "replace")
            expected = [*(expected if append else []), *new]
        rows = self.rows("Loans")
        self.assertEqual([row[1] for row in rows[3 : 3 + len(expected)]], expected)
        formulas = [row[3] for row in rows[3 : 3 + len(expected)]]
        self.assertEqual(formulas, ["=Lent[[#This Row],[amount]]*2"] * len(expected))
        last = 3 + max(len(expected), 1)
        self.assertEqual(rows[last][1:3], ["Total", "=SUBTOTAL(109,Lent[amount])"])
        self.assertEqual([row[1] for row in rows[last + 1 : 12]], [None] * (10 - last) + ["below"])
        self.assertEqual(rows[4][7], "beside")
        table_now = openpyxl.load_workbook(self.path)["Loans"].tables["Lent"]
        self.assertEqual((table_now.ref, table_now.autoFilter.ref), (f"B3:D{last + 1}", f"B3:D{last}"))

    def test_what_a_table_does_not_take(self):
        self.make()
        self.refuse("would overwrite what is in B12", lent(9), table="Lent")
        self.refuse("columns are id, amount.*none for amounts", table(id=["x"], amounts=[1]), table="Lent")
        self.refuse("Lent has amount, which these rows do not have", table(id=["x"]), table="Lent")
        self.refuse("no table and no named range “Lend”.*Lent", lent(1), table="Lend")
        self.refuse("It has Lent already", lent(1), table="Lent", mode="new")
        self.refuse("Sheet Loans holds the table Lent", lent(1), sheet="Loans")
        self.refuse(r"The table Lent \(B3:D7\) is in the way", dated(3), sheet="Loans", cell="A1")
        self.refuse("Everything has 3 columns; these rows have 2", lent(1), table="Everything")
        self.refuse("which rows cannot be added to", dated(1), table="Everything", mode="append")
        self.refuse("exists already", lent(1), table="Lent", replace=False)

    def test_rows_are_added_without_asking(self):
        self.make()
        self.write(lent(1), table="Lent", mode="append", replace=False)
        self.assertEqual([row[1] for row in self.rows("Loans")[3:8]], ["L-1", "L-2", "L-3", "N-0", "Total"])
        self.write(table(amount=[7]), table="Lent", mode="append", replace=False)
        self.assertEqual([row[1:3] for row in self.rows("Loans")[6:8]], [["N-0", 0], [None, 7]])


class Sheets(BookCase):
    def test_what_formulas_came_to_goes_only_where_it_may_be_another_one(self):
        with xlsxwriter.Workbook(self.path) as book:
            book.add_worksheet("Data").write_row(0, 0, ["day", "amount", "venue"])
            for name, formula in (("Sums", "=SUM(Data!B:B)"), ("Own", "=1+1")):
                book.add_worksheet(name).write_formula("A1", formula, None, 2)
        self.before = parts_of(self.path)
        self.write(dated(2))
        self.assertEqual(self.changed() & {"xl/worksheets/sheet3.xml"}, set())
        self.assertEqual(self.rows("Sums", computed=True), [[None]])
        self.assertEqual(self.rows("Own", computed=True), [[2]])
        begun = b'<c r="A1"><f t="shared" ref="A1:A2" si="0">SUM(Data!B:B)</f><v>2</v></c></row>'
        rest = b'<row r="2"><c r="A2"><f t="shared" si="0"/><v>2</v></c></row>'

        def shared(content):
            first = content.index(b'<c r="A1"')
            return content[:first] + begun + rest + content[content.index(b"</row>") + 6 :]

        with_part(self.path, "xl/worksheets/sheet2.xml", shared)
        self.write(dated(3))
        self.assertEqual(self.rows("Sums", computed=True), [[None], [None]])

    def test_a_sheet_that_is_new(self):
        self.make()
        self.write(dated(3), sheet="Fresh", mode="new", replace=False)
        rest = self.changed() - {"xl/workbook.xml", "xl/_rels/workbook.xml.rels", "[Content_Types].xml"}
        self.assertEqual(rest, {"xl/styles.xml", "xl/worksheets/sheet4.xml"})
        fresh = openpyxl.load_workbook(self.path)["Fresh"]
        self.assertEqual(self.rows("Fresh")[3], [dt.datetime(2026, 2, 3), 2.5, "Pier 2"])
        self.assertEqual((fresh.freeze_panes, fresh["A1"].font.bold), ("A2", True))
        self.assertEqual(fresh["A2"].number_format, "yyyy-mm-dd")
        self.refuse("It has a sheet “Fresh” already", sheet="fresh", mode="new", replace=False)

    def test_rows_below_those_of_a_sheet_go_by_name(self):
        self.make()
        found = table(venue=["Mill"], amount=[9.5])
        self.write(found, mode="append", replace=False)
        self.assertEqual(self.rows("Data")[6][:3], [None, 9.5, "Mill"])
        self.assertEqual(self.rows("Report")[0][0], "=SUM(Data!B2:B7)")
        self.refuse("there is none for place", table(place=["x"]), mode="append")

    def test_a_table_with_totals_and_a_description_made_anew_each_time(self):
        self.make()
        for rows in (4, 2, 6):
            self.write(dated(rows), sheet="Made", as_table=True, totals=True, described=True)
            found = openpyxl.load_workbook(self.path)["Made"]
            (name,) = found.tables
            self.assertEqual((name, found.tables[name].ref), ("Made", f"A1:C{rows + 2}"))
            total = self.rows("Made")[rows + 1]
            self.assertEqual(total, ["Total", "=SUBTOTAL(109,Made[amount])", None])
            self.assertEqual(self.rows("Made", computed=True)[rows + 1][1], rows * rows / 2)
        described = self.rows("Made fields")
        self.assertEqual(described[0], ["field", "type", "table", "blank"])
        self.assertEqual(described[1][:2], ["day", "date"])
        tables = [part for part in parts_of(self.path) if part.startswith("xl/tables/")]
        self.assertEqual(len(tables), 2)

    def test_a_corner_with_a_name(self):
        self.make()
        self.write(dated(2), table="Corner")
        self.assertEqual(self.rows("Report")[19][:3], ["day", "amount", "venue"])
        self.assertEqual(self.changed() & {"xl/charts/chart1.xml"}, set())

    def test_pivot_tables_and_parts_that_nobody_knows_stay(self):
        self.make()
        relations = "xl/worksheets/_rels/sheet2.xml.rels"
        pivot = (
            b'<Relationship Id="p1" Target="../pivotTables/pivotTable1.xml" '
            b'Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/pivotTable"/>'
        )
        with_part(
            self.path,
            relations,
            lambda found: found.replace(b"</Relationships>", pivot + b"</Relationships>"),
        )
        with_part(self.path, "xl/pivotTables/pivotTable1.xml", lambda _: b"<pivotTableDefinition/>")
        with_part(self.path, "customXml/item1.bin", lambda _: bytes(range(256)) * 400)
        self.before = parts_of(self.path)
        self.write(dated(8))
        kept = ("xl/pivotTables/pivotTable1.xml", "customXml/item1.bin", relations, "xl/media/image1.png")
        self.assertEqual({part for part in kept if part in self.changed()}, set())
        self.assertTrue(all(part in self.before for part in kept))
        self.refuse("Sheet Report holds a pivot table, which would be written over", sheet="Report")

    def test_what_goes_is_said_before(self):
        with xlsxwriter.Workbook(self.path) as book:
            sheet = book.add_worksheet("Data")
            sheet.write_column(0, 0, range(200_000))
            sheet.merge_range("B2:C3", "both")
            sheet.write_formula("D1", "=1+1")
            sheet.write_url("E1", "https://example.org/")
            book.add_worksheet("Notes")
        said = WRITERS["xlsx"].goes_with(settings_for(self.path))
        self.assertEqual(
            said,
            " Sheet Data, which has 200,000 rows, 1 formula, 1 merged cell, 1 link, is written anew; "
            "its other sheet stays (Notes).",
        )
        self.write(table(a=[1]), sheet="Notes")
        self.write(table(a=[1]))
        self.assertEqual(self.rows("Data"), [["a"], [1]])

    def test_blanks_are_nothing_to_speak_of(self):
        columns = {
            "n": pa.array([1, None]),
            "r": pa.array([None, 0.5]),
            "d": pa.array([None, dt.date(2026, 1, 1)]),
        }
        for name in ("report.xlsx", "report.ods"):
            found = write(ArrowTable(pa.table(columns)), settings_for(self.folder / name))
            self.assertEqual(found.changed, ())

    def test_amounts_show_their_places(self):
        found = ArrowTable(pa.table({"cost": pa.array([Decimal("1.50")], pa.decimal128(9, 2))}))
        self.write(found)
        self.assertEqual(openpyxl.load_workbook(self.path)["Data"]["A2"].number_format, "0.00")

    def test_what_no_sheet_takes(self):
        self.make()
        self.refuse("a sheet that holds a chart and no cells", sheet="Chart")
        shutil.copy(self.path, self.folder / "kept.xlsx")
        data, book = "xl/worksheets/sheet1.xml", "xl/workbook.xml"
        for part, change, said, chosen in (
            (data, (b"<sheetData>", b'<sheetProtection sheet="1"/><sheetData>'), "Data is protected", {}),
            (book, (b"<bookViews>", _LOCKED), "takes no further sheet", {"sheet": "New"}),
            (data, (b"</sheetData>", _MERGED), "B3:C3 of sheet Data are merged", {"cell": "A1"}),
            (data, (b"<worksheet", b'<!DOCTYPE x [<!ENTITY a "b">]><worksheet'), "It is damaged", {}),
            ("_rels/.rels", (b"</Relationships>", _SIGNED + b"</Relationships>"), "It is signed", {}),
            (book, (_MAIN, b"http://purl.oclc.org/ooxml/spreadsheetml/main"), "strict form", {}),
        ):
            with self.subTest(said):
                shutil.copy(self.folder / "kept.xlsx", self.path)
                with_part(self.path, part, lambda content, change=change: content.replace(*change))
                self.refuse(said, **chosen)

    def test_a_file_that_is_none_or_open_elsewhere(self):
        self.make()
        for content, said in (
            (self.path.read_bytes()[:-200], "not an xlsx workbook"),
            (bytes.fromhex("d0cf11e0a1b11ae1") + b"\0" * 600, "encrypted"),
            (b"a,b\n1,2\n", "not an xlsx workbook"),
        ):
            with self.subTest(said):
                self.path.write_bytes(content)
                self.refuse(said)
        self.make()
        for name in ("~$report.xlsx", ".~lock.report.xlsx#"):
            (self.folder / name).touch()
            self.refuse("open in another program")
            (self.folder / name).unlink()

    def test_a_workbook_with_macros_keeps_them(self):
        self.path = self.folder / "report.xlsm"
        code = b"\xd0\xcf\x11\xe0 not really, but kept"
        with xlsxwriter.Workbook(self.path) as book:
            book.add_worksheet("Data").write(0, 0, "a")
            book.add_vba_project(io.BytesIO(code), True)
        self.before = parts_of(self.path)
        self.write(dated(2))
        self.assertEqual(parts_of(self.path)["xl/vbaProject.bin"], code)
        self.assertNotIn("[Content_Types].xml", self.changed())
        self.path = self.folder / "none.xlsm"
        with self.assertRaisesRegex(OutputError, "written into, not made"):
            self.write(dated(2))

    def test_days_counted_from_1904_and_tags_with_a_prefix(self):
        with xlsxwriter.Workbook(self.path, {"date_1904": True}) as book:
            book.add_worksheet("Data").write(0, 0, "a")

        def prefixed(content):
            head, _, rest = content.partition(b"<worksheet")
            rest = rest.replace(b"</", b"</x:").replace(b"<", b"<x:").replace(b"<x:/x:", b"</x:")
            return head + b"<x:worksheet" + rest.replace(b'xmlns="' + _MAIN, b'xmlns:x="' + _MAIN, 1)

        with_part(self.path, "xl/worksheets/sheet1.xml", prefixed)
        self.write(dated(3))
        self.assertEqual(self.rows("Data")[1], [dt.datetime(2026, 2, 1), 0.5, "Pier 0"])

    def test_formulas_that_cannot_be_kept_are_no_reason_to_break_them(self):
        with xlsxwriter.Workbook(self.path) as book:
            sheet = book.add_worksheet("Data")
            sheet.write_row(0, 0, ["day", "amount", "venue"])
            sheet.write_array_formula("C2:D3", "{=A2:B3*2}")
        self.refuse("A formula fills the cells C2:D3, some of which would go", cell="A1")
        begun = b'<c r="C2"><f t="shared" ref="C2:D2" si="0">A2</f></c><c r="D2"><f t="shared" si="0"/></c>'
        with_part(self.path, "xl/worksheets/sheet1.xml", lambda content: _with_row_2(content, begun))
        self.refuse("depend on one among them", cell="A1")
        self.write(dated(2))
        self.assertEqual(self.rows("Data")[1], [dt.datetime(2026, 2, 1), 0.5, "Pier 0"])

    def test_stopped_or_changed_meanwhile_it_is_as_it_was(self):
        self.make()
        before = self.path.read_bytes()
        task = Task(lambda *_: task.cancel())
        with self.assertRaises(Cancelled):
            write(dated(9), settings_for(self.path), replace=True, task=task)
        self.assertEqual(self.path.read_bytes(), before)
        task = Task(lambda *_: self.path.write_bytes(before + b"\0"))
        with self.assertRaisesRegex(OutputError, "changed by another program meanwhile"):
            write(dated(9), settings_for(self.path), replace=True, task=task)
        self.assertEqual(self.path.read_bytes(), before + b"\0")


def _with_row_2(content, cells):
    head, _, rest = content.partition(b'<row r="2"')
    tail = rest.partition(b"</sheetData>")[2]
    return head + b'<row r="2">' + cells + b"</row></sheetData>" + tail


class Following(unittest.TestCase):
    def test_what_may_come_to_something_else(self):
        moved = Moved("Data", 1, 3, 1, 6, 6, ("Lent",))
        for text, concerns in (
            ("SUM(Lent[amount])", True),
            ("ROWS(lent)", True),
            ("Data!Z9", True),
            ("'data'!A1*2", True),
            ("Lent[[#This Row],[amount]]*2", False),
            ("Lent[@amount]*2", False),
            ("Lentil[amount]", False),
            ('"Lent"&"Data!A1"', False),
            ("Other!A1", False),
        ):
            self.assertEqual(moved.concerns(text, of_sheet="Report"), concerns, text)
        self.assertFalse(moved.concerns("Data!Z9", of_sheet="data"))

    def test_a_formula_as_it_stands_in_any_row(self):
        for formula, made in (
            ("B4*2", ("B", 0, "*2")),
            ("SUM($B$3:B4)+LOG10(A5)", ("SUM($B$3:B", 0, ")+LOG10(A", 1, ")")),
            ("\"B4\"&'Of B4'!C4", ("\"B4\"&'Of B4'!C", 0, "")),
            ("Lent[[#This Row],[B4]]*2", ("Lent[[#This Row],[B4]]*2",)),
        ):
            self.assertEqual(pattern(formula, 4), made)

    def test_columns_of_a_table_get_its_name(self):
        for formula, made in (
            ("SUBTOTAL(109,[amount])", "SUBTOTAL(109,Lent[amount])"),
            ("SUM(Lent[a],Other[b])", "SUM(Lent[a],Other[b])"),
            ("[@amount]*2", "Lent[@amount]*2"),
            ("[[#This Row],[a]]", "Lent[[#This Row],[a]]"),
            ('"[a]"&[b]', '"[a]"&Lent[b]'),
        ):
            self.assertEqual(of_table(formula, "Lent"), made)

    def test_references(self):
        moved = Moved("My data", 1, 3, 1, 6, 20)
        for text, followed in (
            ("'My data'!$B$2:$B$6", "'My data'!$B$2:$B$20"),
            ("'my DATA'!B1:D6", "'my DATA'!B1:D20"),
            ("SUM('My data'!B2:B6,'My data'!C2:C6)*2", "SUM('My data'!B2:B20,'My data'!C2:C20)*2"),
            ("B2:B6", "B2:B20"),
            # Other rows, other columns, another sheet, text, a longer number, a name of a function.
            ("'My data'!B2:B5", None),
            ("'My data'!B2:E6", None),
            ("'My data'!A2:B6", None),
            ("Other!B2:B6", None),
            ('"B2:B6"', None),
            ("B2:B66", None),
            ("'My data'!B6", None),
            ("B7:B6", None),
        ):
            with self.subTest(text):
                self.assertEqual(moved.follow(text, of_sheet="My data"), followed or text)
        self.assertEqual(moved.follow("B2:B6", of_sheet="Report"), "B2:B6")
        self.assertEqual(moved.follow_block("B2:B6 C3:C5 A1:A6"), "B2:B20 C3:C5 A1:A6")


if __name__ == "__main__":
    unittest.main()
