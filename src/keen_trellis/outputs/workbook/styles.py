"""The formats of a workbook's cells: found by number, and added where a value needs another one."""

from __future__ import annotations

import copy
import re

from lxml import etree

from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.outputs.workbook.book import MAIN, Book
from keen_trellis.outputs.workbook.package import Element

_SHOWN = {
    FieldType.DATE: "yyyy-mm-dd",
    FieldType.TIME: "hh:mm:ss",
    FieldType.TIMESTAMP: "yyyy-mm-dd hh:mm:ss",
}
_FILL = "FFEDE8DC"
_OWN_FORMATS = 164  # numbers below are those of the format itself
_MOMENTS = frozenset((*range(14, 23), *range(27, 37), *range(45, 48), *range(50, 59)))
_NO_PART = re.compile(r'"[^"]*"|\\.|\[[^\]]*\]|_.')


class Styles:
    """The styles part of a workbook; it is written anew only if something was added."""

    def __init__(self, book: Book) -> None:
        self._package = book.package
        parts = self._package.related(book.part, "styles")
        self._part = parts[0] if parts else ""
        self._made: dict[tuple[int, str], int] = {}

    def fitting(self, style: int, field: Field) -> int:
        """The number of a style like `style` in which a value of this field shows as what it is; amounts show
        all of their places where nothing else is set.
        """
        if not self._part:
            return 0
        kind = field.type
        if kind is FieldType.DECIMAL and not style and field.arrow_type.scale > 0:
            return self._with_format(style, f"0.{'0' * field.arrow_type.scale}")
        shows_moment = self._is_moment(style)
        if kind in _SHOWN:
            return style if shows_moment else self._with_format(style, _SHOWN[kind])
        if kind.is_number and shows_moment:
            return self._with_format(style, "")
        return style

    def header(self) -> int:
        """The number of the style of a header that is new."""
        if not self._part:
            return 0
        if (0, "header") not in self._made:
            font = copy.deepcopy(self._list("fonts")[0])
            for entry in font.findall(f"{{{MAIN}}}b"):
                font.remove(entry)
            font.insert(0, etree.Element(f"{{{MAIN}}}b"))
            fill = etree.fromstring(
                f'<fill xmlns="{MAIN}"><patternFill patternType="solid"><fgColor rgb="{_FILL}"/>'
                '<bgColor indexed="64"/></patternFill></fill>'
            )
            border = etree.fromstring(
                f'<border xmlns="{MAIN}"><left/><right/><top/><bottom style="thin"><color auto="1"/></bottom>'
                "<diagonal/></border>"
            )
            look = copy.deepcopy(self._list("cellXfs")[0])
            for name, entry in (("font", font), ("fill", fill), ("border", border)):
                look.set(f"{name}Id", str(self._added(f"{name}s", entry)))
                look.set(f"apply{name.title()}", "1")
            self._made[0, "header"] = self._added("cellXfs", look)
        return self._made[0, "header"]

    def _is_moment(self, style: int) -> bool:
        """Whether a style shows a number as a date or time."""
        looks = self._list("cellXfs", make=False)
        number = int(looks[style].get("numFmtId", 0)) if looks is not None and style < len(looks) else 0
        if number < _OWN_FORMATS:
            return number in _MOMENTS
        for entry in self._root.iterfind(f"{{{MAIN}}}numFmts/{{{MAIN}}}numFmt"):
            if entry.get("numFmtId") == str(number):
                return bool(
                    re.search("[dmyhs]", _NO_PART.sub("", entry.get("formatCode", "")), re.IGNORECASE)
                )
        return False

    def _with_format(self, style: int, code: str) -> int:
        """A style like another one with a format of numbers; "" is the general one."""
        if (style, code) not in self._made:
            looks = self._list("cellXfs")
            look = copy.deepcopy(looks[style if style < len(looks) else 0])
            look.set("numFmtId", str(self._format(code) if code else 0))
            look.set("applyNumberFormat", "1")
            self._made[style, code] = self._added("cellXfs", look)
        return self._made[style, code]

    def _format(self, code: str) -> int:
        formats = self._list("numFmts")
        for entry in formats:
            if entry.get("formatCode") == code:
                return int(entry.get("numFmtId"))
        number = max((int(entry.get("numFmtId", 0)) for entry in formats), default=0) + 1
        entry = etree.Element(f"{{{MAIN}}}numFmt", numFmtId=str(max(number, _OWN_FORMATS)), formatCode=code)
        self._added("numFmts", entry)
        return int(entry.get("numFmtId"))

    @property
    def _root(self) -> Element:
        return self._package.root(self._part)

    def _list(self, name: str, *, make: bool = True) -> Element:
        """One of the lists of the part."""
        found = self._root.find(f"{{{MAIN}}}{name}")
        if found is None and make:
            found = etree.Element(f"{{{MAIN}}}{name}", count="0")
            self._package.change(self._part).insert(0, found)  # only that of formats may be missing
        return found

    def _added(self, name: str, entry: Element) -> int:
        self._package.change(self._part)
        found = self._list(name)
        found.append(entry)
        found.set("count", str(len(found)))
        return len(found) - 1
