"""Workbooks as reports hang on them, made by XlsxWriter, openpyxl and LibreOffice."""

import base64
import datetime as dt
import io
import tempfile
import zipfile
from functools import cache
from pathlib import Path

import openpyxl
import xlsxwriter
from openpyxl.chart import BarChart, Reference
from openpyxl.formatting.rule import CellIsRule
from openpyxl.worksheet.datavalidation import DataValidation
from openpyxl.worksheet.table import Table

from tests.office import saved_by_office

# A picture of one dot.
_DOT = base64.b64decode(
    "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNkYPhfDwAChwGA60e6kgAAAABJRU5ErkJggg=="
)
DAYS = [dt.datetime(2026, 1, day) for day in range(1, 6)]
VENUES = ["Pier", "Quay", "Tower", "Pier", "Quay"]
LOANS = [("L-1", 1), ("L-2", 2), ("L-3", 3)]


def by_xlsxwriter(path: Path) -> None:
    """Data with formats and checks, a report with a chart and formulas on it, and a table with totals."""
    with xlsxwriter.Workbook(path) as book:
        sheet = book.add_worksheet("Data")
        day, money = (
            book.add_format({"num_format": "d mmm yyyy"}),
            book.add_format({"num_format": "#,##0.00"}),
        )
        sheet.write_row(0, 0, ["day", "amount", "venue"])
        for row, (when, venue) in enumerate(zip(DAYS, VENUES, strict=True), 1):
            sheet.write_datetime(row, 0, when, day)
            sheet.write_number(row, 1, row * 1.5, money)
            sheet.write_string(row, 2, venue)
        sheet.write(3, 5, "keep & <me>")
        sheet.write_formula(4, 6, "=SUM(B2:B6)", None, 22.5)
        hot = book.add_format({"bg_color": "#CC7755"})
        sheet.conditional_format("B2:B6", {"type": "cell", "criteria": ">", "value": 3, "format": hot})
        sheet.data_validation("C2:C6", {"validate": "list", "source": ["Pier", "Quay", "Tower"]})
        sheet.set_row(0, 30)
        sheet.write_comment("F4", "of last year")
        report = book.add_worksheet("Report")
        report.write_formula("A1", "=SUM(Data!B2:B6)", None, 22.5)
        report.write_formula("A2", '=COUNTA(Data!$C$2:$C$6)&" <rows>"', None, "5 <rows>")
        report.write_formula("A3", "=SUM(Data!B3:B5)", None, 13.5)
        report.write_url("A5", "https://example.org/")
        chart = book.add_chart({"type": "column"})
        chart.add_series({"categories": "=Data!$C$2:$C$6", "values": "=Data!$B$2:$B$6"})
        report.insert_chart("C3", chart)
        report.insert_image("C30", "dot.png", {"image_data": io.BytesIO(_DOT)})
        loans = book.add_worksheet("Loans")
        columns = [
            {"header": "id", "total_string": "Total"},
            {"header": "amount", "total_function": "sum"},
            {"header": "twice", "formula": "=Lent[[#This Row],[amount]]*2"},
        ]
        loans.add_table("B3:D7", {"name": "Lent", "total_row": True, "columns": columns, "data": LOANS})
        for row, (_, amount) in enumerate(LOANS, 4):
            loans.write_formula(f"D{row}", "=Lent[[#This Row],[amount]]*2", None, amount * 2)
        loans.write("H5", "beside")
        loans.write("B12", "below")
        alone = book.add_chart({"type": "bar"})
        alone.add_series({"values": "=Report!$A$1:$A$3"})
        book.add_chartsheet("Chart").set_chart(alone)
        book.define_name("Everything", "=Data!$A$1:$C$6")
        book.define_name("Corner", "=Report!$A$20")


def by_openpyxl(path: Path) -> None:
    """The same, as far as openpyxl makes it; its totals are no row of the table."""
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.title = "Data"
    sheet.append(["day", "amount", "venue"])
    for row, (when, venue) in enumerate(zip(DAYS, VENUES, strict=True), 2):
        sheet.append([when, row * 1.5, venue])
        sheet.cell(row, 1).number_format = "d mmm yyyy"
    sheet["F4"], sheet["G5"] = "keep & <me>", "=SUM(B2:B6)"
    sheet.conditional_formatting.add("B2:B6", CellIsRule(operator="greaterThan", formula=["3"]))
    check = DataValidation(type="list", formula1='"Pier,Quay,Tower"')
    check.add("C2:C6")
    sheet.add_data_validation(check)
    report = book.create_sheet("Report")
    report["A1"], report["A3"] = "=SUM(Data!B2:B6)", "=SUM(Data!B3:B5)"
    report["A2"] = '=COUNTA(Data!$C$2:$C$6)&" <rows>"'
    chart = BarChart()
    chart.add_data(Reference(sheet, min_col=2, min_row=2, max_row=6))
    chart.set_categories(Reference(sheet, min_col=3, min_row=2, max_row=6))
    report.add_chart(chart, "C3")
    loans = book.create_sheet("Loans")
    for row, values in enumerate([("id", "amount"), *LOANS], 3):
        loans.cell(row, 2, values[0])
        loans.cell(row, 3, values[1])
    loans.add_table(Table(displayName="Lent", ref="B3:C6"))
    loans["H5"], loans["B12"] = "beside", "below"
    names = openpyxl.workbook.defined_name.DefinedName
    book.defined_names["Everything"] = names("Everything", attr_text="Data!$A$1:$C$6")
    book.save(path)


def by_office(path: Path) -> None:
    """What XlsxWriter made, saved by LibreOffice."""
    path.write_bytes(_saved_by_office())


@cache
def _saved_by_office() -> bytes:
    with tempfile.TemporaryDirectory(prefix="keen-trellis-tests-") as place:
        before, after = Path(place, "before.xlsx"), Path(place, "after")
        after.mkdir()
        by_xlsxwriter(before)
        return saved_by_office([before], after)[0].read_bytes()


MAKERS = {"xlsxwriter": by_xlsxwriter, "openpyxl": by_openpyxl, "office": by_office}


def parts_of(path: Path) -> dict[str, bytes]:
    """The content of every part of a package."""
    with zipfile.ZipFile(path) as package:
        return {name: package.read(name) for name in package.namelist()}


def with_part(path: Path, name: str, change) -> None:
    """Change the bytes of one part of a package."""
    parts = parts_of(path)
    parts[name] = change(parts.get(name, b""))
    with zipfile.ZipFile(path, "w") as package:
        for part, content in parts.items():
            package.writestr(part, content)
