"""The names that binary workbooks give to ranges of cells: xlsb by its records ([MS-XLSB]), xls by xlrd."""

from __future__ import annotations

import io
import struct
import zipfile
from collections.abc import Iterator
from pathlib import Path

from keen_trellis.flow.cell_names import column_letters

XLSB_PART = "xl/workbook.bin"
_SHEET, _NAME, _LINKS = 156, 39, 362  # BrtBundleSh, BrtName, BrtExternSheet
_CELL, _AREA = 0x1A, 0x1B  # PtgRef3d and PtgArea3d without their class
_CLASS, _COLUMN, _HIDDEN = 0x1F, 0x3FFF, 1
Area = tuple[str, str, str]  # name, sheet, range


def names_of_xlsb(archive: zipfile.ZipFile) -> Iterator[Area]:
    """The names that stand for one range of cells. struct.error or IndexError in a damaged workbook."""
    sheets: list[str] = []
    links: list[int] = []
    names: list[tuple[str, bytes]] = []
    for kind, content in _records(archive.read(XLSB_PART)):
        if kind == _SHEET:
            _, rest = _text(content, 8)  # the relation's name
            sheets.append(_text(content, rest)[0])
        elif kind == _LINKS:
            (count,) = struct.unpack_from("<I", content)
            links = [struct.unpack_from("<IiI", content, 4 + 12 * number)[1] for number in range(count)]
        elif kind == _NAME and not content[0] & _HIDDEN:
            name, end = _text(content, 9)
            (size,) = struct.unpack_from("<I", content, end)
            names.append((name, content[end + 4 : end + 4 + size]))
    for name, formula in names:
        if not formula or formula[0] & _CLASS not in (_CELL, _AREA):
            continue
        (link,) = struct.unpack_from("<H", formula, 1)
        if formula[0] & _CLASS == _AREA and len(formula) == 15:
            top, bottom, left, right = struct.unpack_from("<IIHH", formula, 3)
        elif formula[0] & _CLASS == _CELL and len(formula) == 9:
            top, left = struct.unpack_from("<IH", formula, 3)
            bottom, right = top, left
        else:
            continue  # more than a range of cells
        if link < len(links) and 0 <= links[link] < len(sheets):
            area = _range(top, bottom, left & _COLUMN, right & _COLUMN)
            yield name, sheets[links[link]], area


def names_of_xls(path: Path) -> Iterator[Area]:
    """The names that stand for one range of cells. Errors of any kind may come of a damaged workbook."""
    import xlrd
    from xlrd.compdoc import CompDocError

    try:
        # Nothing of the library's talk about what it finds odd is for the user.
        with xlrd.open_workbook(str(path), on_demand=True, logfile=io.StringIO()) as book:
            sheets = book.sheet_names()
            for entry in book.name_obj_list:
                places = entry.result.value if entry.result is not None else None
                if entry.hidden or entry.builtin or not isinstance(places, list) or len(places) != 1:
                    continue
                place = places[0]
                if place.shtxhi - place.shtxlo == 1 and 0 <= place.shtxlo < len(sheets):
                    area = _range(place.rowxlo, place.rowxhi - 1, place.colxlo, place.colxhi - 1)
                    yield entry.name, sheets[place.shtxlo], area
    except (xlrd.XLRDError, CompDocError):
        return


def _records(content: bytes) -> Iterator[tuple[int, bytes]]:
    """Kind and content of each record: both sizes stand before it, seven bits a byte."""
    place = 0
    while place < len(content):
        kind, place = _number(content, place, 2)
        size, place = _number(content, place, 4)
        yield kind, content[place : place + size]
        place += size


def _number(content: bytes, place: int, most: int) -> tuple[int, int]:
    found = 0
    for digit in range(most):
        byte = content[place + digit]
        found |= (byte & 0x7F) << 7 * digit
        if byte < 0x80:
            break
    return found, place + digit + 1


def _text(content: bytes, place: int) -> tuple[str, int]:
    (length,) = struct.unpack_from("<I", content, place)
    end = place + 4 + 2 * length
    return content[place + 4 : end].decode("utf-16-le"), end


def _range(top: int, bottom: int, left: int, right: int) -> str:
    return f"{column_letters(left)}{top + 1}:{column_letters(right)}{bottom + 1}"
