"""The report that the museums hand round: a workbook with a chart, which a flow of that name fills anew."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from keen_trellis.demo.files import MADE_ON

SEASON_REPORT = "Season report.xlsx"
MONTHS = "Months"
# As somebody left it in spring: fewer months than there are now.
_OLD_ROWS = (("2026-01", 640, 312_000), ("2026-02", 655, 298_500), ("2026-03", 702, 341_250))
_TOP, _LEFT = 3, 1  # of the table, counted from 0
_INK, _LEAD = "#22303A", "#1F6F78"


def write_report(folder: Path) -> Path:
    """Write the workbook into `folder`; its path."""
    import xlsxwriter

    path = folder / SEASON_REPORT
    with xlsxwriter.Workbook(path) as book:
        book.set_properties({"created": MADE_ON})
        head = book.add_format({"bold": True, "font_size": 16, "font_color": _INK})
        said = book.add_format({"font_color": _INK})
        figure = book.add_format({"bold": True, "num_format": "#,##0"})
        report, sheet = book.add_worksheet("Report"), book.add_worksheet(MONTHS)
        _months(book, sheet, said)
        report.hide_gridlines(2)
        report.set_column(0, 0, 26)
        report.set_column(1, 1, 14)
        report.write(0, 0, "Lantern Coast Museums: the season’s loans", head)
        lent = [loans for _, loans, _ in _OLD_ROWS]
        first, last = _TOP + 2, _TOP + 1 + len(_OLD_ROWS)
        for row, (text, formula, now) in enumerate(
            (
                ("Loans", f"=SUM({MONTHS}[loans])", sum(lent)),
                ("Agreed value", f"=SUM({MONTHS}!D{first}:D{last})", sum(value for *_, value in _OLD_ROWS)),
                ("Months", f"=ROWS({MONTHS}[month])", len(_OLD_ROWS)),
                ("The busiest month had", f"=MAX({MONTHS}[loans])", max(lent)),
            ),
            2,
        ):
            report.write(row, 0, text, said)
            report.write_formula(row, 1, formula, figure, now)
        chart = book.add_chart({"type": "column"})
        rows = _TOP + 1, _TOP + len(_OLD_ROWS)
        chart.add_series(
            {
                "name": "Agreed value",
                "categories": [MONTHS, rows[0], _LEFT, rows[1], _LEFT],
                "values": [MONTHS, rows[0], _LEFT + 2, rows[1], _LEFT + 2],
                "fill": {"color": _LEAD},
            }
        )
        chart.set_title({"name": "Agreed value of the loans that went out"})
        chart.set_legend({"none": True})
        chart.set_size({"width": 720, "height": 320})
        report.insert_chart(7, 0, chart)
    return path


def _months(book: Any, sheet: Any, said: Any) -> None:
    """The sheet with the table of months."""
    whole = book.add_format({"num_format": "#,##0"})
    fine = book.add_format({"num_format": "#,##0.00"})
    sheet.write(0, _LEFT, "Filled by the flow “Season report”; what is beside the table stays.", said)
    sheet.set_column(_LEFT, _LEFT + 3, 15)
    columns = [
        {"header": "month", "total_string": "Total"},
        {"header": "loans", "total_function": "sum", "format": whole},
        {"header": "agreed value", "total_function": "sum", "format": whole},
        {"header": "value of a loan", "formula": "=[@[agreed value]]/[@loans]", "format": fine},
    ]
    options = {"name": MONTHS, "columns": columns, "data": _OLD_ROWS, "total_row": True}
    sheet.add_table(_TOP, _LEFT, _TOP + 1 + len(_OLD_ROWS), _LEFT + 3, options)
    for row, (_, loans, value) in enumerate(_OLD_ROWS, _TOP + 1):
        formula = f"={MONTHS}[[#This Row],[agreed value]]/{MONTHS}[[#This Row],[loans]]"
        sheet.write_formula(row, _LEFT + 3, formula, fine, value / loans)
    sheet.write(_TOP, _LEFT + 5, "Checked by K. Nance", said)
