"""The names that a workbook gives to ranges of cells, read from its parts: xlsx and ods."""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterator
from pathlib import Path
from xml.etree import ElementTree

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
    """Sheet and range, as A3:F40, by name. Empty for kinds of workbook whose names cannot be read."""
    try:
        with zipfile.ZipFile(path) as archive:
            parts = set(archive.namelist())
            if _XLSX_PART in parts:
                entries = list(_xlsx(archive))
            elif _ODS_PART in parts:
                entries = list(_ods(archive))
            else:
                entries = []
    except (zipfile.BadZipFile, ElementTree.ParseError, OSError, EOFError):
        return {}
    found = {}
    for name, target in entries:
        area = _TARGET.fullmatch(target)
        if area is not None and not name.startswith("_"):
            quoted, plain, start, end = area.groups()
            sheet = quoted.replace("''", "'") if quoted else plain
            found[name] = (sheet, f"{start}:{end or start}".replace("$", ""))
    return found


def _xlsx(archive: zipfile.ZipFile) -> Iterator[tuple[str, str]]:
    if archive.getinfo(_XLSX_PART).file_size > _MOST_BYTES:
        return
    for element in ElementTree.fromstring(archive.read(_XLSX_PART)).iter():
        if element.tag.endswith("}definedName") and element.get("hidden") != "1":
            yield element.get("name", ""), (element.text or "").strip()


def _ods(archive: zipfile.ZipFile) -> Iterator[tuple[str, str]]:
    # The names stand behind all cells: searched as text, since parsing the cells takes long.
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
    return (
        text.replace("&apos;", "'")
        .replace("&quot;", '"')
        .replace("&lt;", "<")
        .replace("&gt;", ">")
        .replace("&amp;", "&")
    )
