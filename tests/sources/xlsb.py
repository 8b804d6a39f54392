"""Writes a small xlsb workbook, since no package does: the records that [MS-XLSB] asks for, and no more."""

import struct
import zipfile
from collections.abc import Iterable, Sequence
from pathlib import Path

_BOOK, _END_BOOK, _SHEETS, _END_SHEETS, _SHEET_OF_BOOK = 0x83, 0x84, 0x8F, 0x90, 0x9C
_NAME, _LINKS = 0x27, 0x016A
_SHEET, _END_SHEET, _DIMENSION, _DATA, _END_DATA = 0x81, 0x82, 0x94, 0x91, 0x92
_ROW, _REAL, _TEXT = 0x00, 0x05, 0x06
_RELATIONS = "http://schemas.openxmlformats.org/package/2006/relationships"
_OFFICE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"


def _record(kind: int, content: bytes = b"") -> bytes:
    head = bytes([kind]) if kind < 0x80 else bytes([kind & 0x7F | 0x80, kind >> 7])
    length, size = b"", len(content)
    while True:
        size, digit = size >> 7, size & 0x7F
        length += bytes([digit | (0x80 if size else 0)])
        if not size:
            return head + length + content


def _wide(text: str) -> bytes:
    return struct.pack("<I", len(text)) + text.encode("utf-16-le")


def _sheet(rows: Sequence[Sequence[str | float | None]]) -> bytes:
    found = _record(_SHEET)
    width = max(map(len, rows))
    found += _record(_DIMENSION, struct.pack("<IIII", 0, len(rows) - 1, 0, width - 1)) + _record(_DATA)
    for number, row in enumerate(rows):
        found += _record(_ROW, struct.pack("<IIHHBI", number, 0, 300, 0, 0, 0))
        for column, value in enumerate(row):
            place = struct.pack("<II", column, 0)
            if isinstance(value, str):
                found += _record(_TEXT, place + _wide(value))
            elif value is not None:
                found += _record(_REAL, place + struct.pack("<d", value))
    return found + _record(_END_DATA) + _record(_END_SHEET)


def _names(names: Sequence[tuple[str, int, tuple[int, int, int, int]]]) -> bytes:
    links = b"".join(struct.pack("<Iii", 0, sheet, sheet) for _, sheet, _ in names)
    found = _record(_LINKS, struct.pack("<I", len(names)) + links)
    for link, (name, _, place) in enumerate(names):
        formula = struct.pack("<BHIIHH", 0x3B, link, *place)
        head = struct.pack("<IBI", 0, 0, 0xFFFFFFFF) + _wide(name)
        found += _record(_NAME, head + struct.pack("<I", len(formula)) + formula + struct.pack("<I", 0))
    return found


def write_xlsb(
    path: Path,
    sheets: Iterable[tuple[str, Sequence[Sequence[str | float | None]]]],
    names: Sequence[tuple[str, int, tuple[int, int, int, int]]] = (),
) -> None:
    """Write a workbook with these sheets of texts and numbers, and names of ranges: each with the number of
    its sheet, and first row, last row, first column, last column, all from 0.
    """
    book, relations = _record(_BOOK) + _record(_SHEETS), ""
    with zipfile.ZipFile(path, "w") as archive:
        for number, (name, rows) in enumerate(sheets, 1):
            book += _record(
                _SHEET_OF_BOOK, struct.pack("<II", 0, number) + _wide(f"rId{number}") + _wide(name)
            )
            part = f"worksheets/sheet{number}.bin"
            relations += f'<Relationship Id="rId{number}" Type="{_OFFICE}/worksheet" Target="{part}"/>'
            archive.writestr(f"xl/{part}", _sheet(rows))
        book += _record(_END_SHEETS) + _names(names) + _record(_END_BOOK)
        archive.writestr("xl/workbook.bin", book)
        archive.writestr(
            "xl/_rels/workbook.bin.rels", f'<Relationships xmlns="{_RELATIONS}">{relations}</Relationships>'
        )
        archive.writestr("[Content_Types].xml", "<Types/>")
