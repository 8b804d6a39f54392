"""Writes the demo's tables to files as an analyst would find them."""

from __future__ import annotations

import csv
import datetime as dt
import io
import sqlite3
import zipfile
from collections.abc import Iterable, Sequence
from pathlib import Path
from xml.etree import ElementTree

from keen_trellis.demo.scenario import MONTH_WITH_A_FIELD_MORE, Row, Scenario

LOANS_FILE = "loans-2026.xlsx"
REGISTRY_FILE = "registry.sqlite"
COURIER_FOLDER = "courier-logs"
RATES_FILE = "cover-rates.csv"
VISITORS_FILE = "visitors.ods"
RETURNS_FILE = "returns-desk.csv"
LABELS_FILE = "labels.csv"
REGIONS_FILE = "regions.csv"
QUERY_FILE = "loans-by-region.sql"
# Which region borrows for how much, as somebody asked it of a database.
_QUERY = """SELECT v."Region", COUNT(*) AS loans, SUM(l."Agreed value") AS value
FROM Loans l
JOIN Venues v ON l."Venue" = v."Venue"
JOIN objects o ON UPPER(TRIM(l."Object no")) = UPPER(o.accession)
WHERE l."Status" <> 'open'
GROUP BY v."Region"
ORDER BY value DESC;
"""

VENUE_FIELDS = ("Venue", "Short name", "Region", "Contact")
RUNS_SINCE = ("2026-01-01", "2026-04-01", "2026-09-01")
MADE_ON = dt.datetime(2026, 1, 1)


def write_data(scenario: Scenario, folder: Path) -> list[Path]:
    """Write all files into `folder`, replacing older ones; their paths."""
    folder.mkdir(parents=True, exist_ok=True)
    logs = folder / COURIER_FOLDER
    logs.mkdir(exist_ok=True)
    _loans_workbook(scenario, folder / LOANS_FILE)
    _registry(scenario, folder / REGISTRY_FILE)
    written = [folder / LOANS_FILE, folder / REGISTRY_FILE]
    for month, rows in scenario.courier_logs.items():
        header = ["venue", "date", "crates", "cost"]
        header += ["note"] if month == MONTH_WITH_A_FIELD_MORE else []
        written.append(_text(logs / f"2026-{month:02d}.csv", header, rows))
    for name, rows in scenario.further_logs.items():
        written.append(_text(logs / f"{name}.csv", ("venue", "date", "crates", "cost"), rows))
    rates = ("value from", "value to", "valid from", "valid to", "rate per mille")
    written.append(_text(folder / RATES_FILE, rates, scenario.cover_rates))
    _visitors(scenario, folder / VISITORS_FILE)
    written.append(folder / VISITORS_FILE)
    desk = ("loan no", "object no", "returned", "condition")
    written.append(_text(folder / RETURNS_FILE, desk, scenario.returns))
    written.append(_text(folder / LABELS_FILE, ("label", "title", "maker"), scenario.labels))
    # Values of three runs of one flow.
    runs = [(region[0], since) for region, since in zip(scenario.regions, RUNS_SINCE, strict=False)]
    written.append(_text(folder / REGIONS_FILE, ("region", "since"), runs))
    (folder / QUERY_FILE).write_text(_QUERY, "utf-8")
    written.append(folder / QUERY_FILE)
    return written


def _text(path: Path, header: Sequence[str], rows: Iterable[Row]) -> Path:
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(header)
        writer.writerows(rows)
    return path


def _loans_workbook(scenario: Scenario, path: Path) -> None:
    import xlsxwriter

    with xlsxwriter.Workbook(path, {"default_date_format": "yyyy-mm-dd"}) as book:
        book.set_properties({"title": "Loans 2026", "created": MADE_ON})
        loans = book.add_worksheet("Loans")
        loans.write_row(0, 0, scenario.loan_fields)
        for number, row in enumerate(scenario.loans, start=1):
            loans.write_row(number, 0, row)
        venues = book.add_worksheet("Venues")
        venues.write(0, 0, "Lantern Coast Museums: venues that borrow from us")
        venues.write_row(2, 0, VENUE_FIELDS)
        for number, row in enumerate(scenario.venues, start=3):
            venues.write_row(number, 0, row)
        beside = len(VENUE_FIELDS) + 1
        venues.write_row(2, beside, ("Region", "Head of region", "Extension"))
        for number, row in enumerate(scenario.regions, start=3):
            venues.write_row(number, beside, row)


_SCHEMA = """
CREATE TABLE makers (
    maker TEXT PRIMARY KEY,
    born INTEGER,
    trade TEXT
);
CREATE TABLE objects (
    object_id INTEGER PRIMARY KEY,
    accession TEXT NOT NULL,
    title TEXT NOT NULL,
    maker TEXT REFERENCES makers (maker),
    part_of TEXT,
    keeper TEXT,
    made INTEGER,
    store TEXT
);
CREATE TABLE valuations (
    valuation_id INTEGER PRIMARY KEY,
    object_id INTEGER NOT NULL REFERENCES objects (object_id),
    valued_on DATE,
    value REAL
);
CREATE VIEW objects_lately_valued AS
    SELECT object_id, max(valued_on) AS valued_on FROM valuations GROUP BY object_id ORDER BY object_id;
"""


def _registry(scenario: Scenario, path: Path) -> None:
    path.unlink(missing_ok=True)
    connection = sqlite3.connect(path)
    try:
        connection.executescript(_SCHEMA)
        for table, rows in (
            ("makers", scenario.makers),
            ("objects", scenario.objects),
            ("valuations", scenario.valuations),
        ):
            marks = ", ".join("?" * len(rows[0]))
            connection.executemany(f"INSERT INTO {table} VALUES ({marks})", rows)
        connection.commit()
    finally:
        connection.close()


def _visitors(scenario: Scenario, path: Path) -> None:
    from odf.opendocument import OpenDocumentSpreadsheet

    book = OpenDocumentSpreadsheet()
    _sheet(book, "Visitors", ("Venue", "Month", "Visitors"), scenario.visitors)
    _sheet(book, "Opening days", ("Venue", "Days open"), scenario.opening_days)
    draft = io.BytesIO()
    book.write(draft)
    # Written again, canonical and with a fixed time in each entry: one scenario gives the same bytes always.
    with zipfile.ZipFile(draft) as source, zipfile.ZipFile(path, "w") as target:
        for entry in source.infolist():
            plain = zipfile.ZipInfo(entry.filename, MADE_ON.timetuple()[:6])
            plain.compress_type = entry.compress_type
            content = source.read(entry)
            if entry.filename.endswith(".xml"):
                content = ElementTree.canonicalize(content.decode()).encode()
            target.writestr(plain, content)


def _sheet(book: object, name: str, header: Row, rows: Iterable[Row]) -> None:
    from odf.table import Table, TableCell, TableRow
    from odf.text import P

    table = Table(name=name)
    for row in (header, *rows):
        line = TableRow()
        for value in row:
            if isinstance(value, dt.date):
                cell = TableCell(valuetype="date", datevalue=value.isoformat())
            elif isinstance(value, int):
                cell = TableCell(valuetype="float", value=value)
            else:
                cell = TableCell(valuetype="string")
            cell.addElement(P(text=str(value)))
            line.addElement(cell)
        table.addElement(line)
    book.spreadsheet.addElement(table)  # type: ignore[attr-defined]
