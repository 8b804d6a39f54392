"""The names that a workbook gives to ranges of cells, read from its parts."""

from __future__ import annotations

import re
import struct
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path
from xml.etree import ElementTree
from xml.sax.saxutils import unescape

from keen_trellis.sources.binary_names import XLSB_PART, Area, names_of_xls, names_of_xlsb

# Raised by one part or another that is damaged: by ours, by the archive's and by xlrd's.
_DAMAGED = (
    zipfile.BadZipFile,
    ElementTree.ParseError,
    OSError,
    EOFError,
    NotImplementedError,
    RuntimeError,
    struct.error,
    zlib.error,
    ArithmeticError,
    AssertionError,
    AttributeError,
    LookupError,
    TypeError,
    ValueError,
)
_MOST_BYTES = 2**24
_BLOCK = 2**20
_OVERLAP = 4096
_XLSX_PART, _ODS_PART = "xl/workbook.xml", "content.xml"
_ODS_RANGE = re.compile(
    rb"<table:(?:named-range|database-range)\s[^>]*>",
)
_ATTRIBUTE = re.compile(rb'table:(name|cell-range-address|target-range-address)="([^"]*)"')
# 'Other sheet'!$A$1:$C$9 in xlsx, $'Other sheet'.$A$1:.$C$9 in ods.
_TARGET = re.compile(
    r"\$?(?:'((?:[^']|'')+)'|([^'!.$]+))[!.](\$?[A-Z]{1,3}\$?\d+)(?::\.?(\$?[A-Z]{1,3}\$?\d+))?"
)


def named_ranges(path: Path) -> dict[str, tuple[str, str]]:
    """Sheet and range, as A3:F40, by name. Empty for a damaged workbook."""
    try:
        return {name: (sheet, place) for name, sheet, place in _names(path) if not name.startswith("_")}
    except _DAMAGED:
        return {}  # the reader of cells says what is wrong with the workbook


def _names(path: Path) -> Iterator[Area]:
    if not zipfile.is_zipfile(path):
        yield from names_of_xls(path)
        return
    with zipfile.ZipFile(path) as archive:
        parts = {entry.filename for entry in archive.infolist() if entry.file_size <= _MOST_BYTES}
        if XLSB_PART in parts:
            yield from names_of_xlsb(archive)
        for name, target in _xlsx(archive) if _XLSX_PART in parts else _ods(archive):
            area = _TARGET.fullmatch(target)
            if area is not None:
                quoted, plain, start, end = area.groups()
                sheet = quoted.replace("''", "'") if quoted else plain
                yield name, sheet, f"{start}:{end or start}".replace("$", "")


def _xlsx(archive: zipfile.ZipFile) -> Iterator[tuple[str, str]]:
    # Expat bounds what entities may grow to, and the process its memory.
    for element in ElementTree.fromstring(archive.read(_XLSX_PART)).iter():  # noqa: S314
        if element.tag.endswith("}definedName") and element.get("hidden") != "1":
            yield element.get("name", ""), (element.text or "").strip()


def _ods(archive: zipfile.ZipFile) -> Iterator[tuple[str, str]]:
    # The names stand behind all cells: searched as text, since parsing the cells takes long.
    if _ODS_PART not in archive.namelist():
        return
    with archive.open(_ODS_PART) as part:
        rest = b""
        while block := part.read(_BLOCK):
            text = rest + block
            end = 0
            for element in _ODS_RANGE.finditer(text):
                end = element.end()
                members = {key: value.decode() for key, value in _ATTRIBUTE.findall(element.group())}
                target = members.get(b"cell-range-address") or members.get(b"target-range-address") or ""
                yield _unescaped(members.get(b"name", "")), _unescaped(target)
            rest = text[max(end, len(text) - _OVERLAP) :]


def _unescaped(text: str) -> str:
    return unescape(text, {"&quot;": '"', "&apos;": "'"})
