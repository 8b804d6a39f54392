"""How wide the bench's columns are, and which zones they stand in."""

from __future__ import annotations

from functools import cache, lru_cache

import msgspec
from PySide6.QtGui import QFontMetrics

from keen_trellis.desktop.bench.cells import PAD
from keen_trellis.desktop.bench.content import LEFT, LINK, RIGHT, Column, Content
from keen_trellis.desktop.theme import font
from keen_trellis.flow.blend_proposal import side_said
from keen_trellis.flow.plain_text import cut

GUTTER = 50
NARROWEST, _WIDEST = 46, 260
_LINK_LEAST, _LINK_MOST = 190, 420
_MARK = 24
_FITTED = 1_600
_LEAST_ZONE = 150
_WARNING = 54
_TITLE_MARK = 72


class Zone(msgspec.Struct, frozen=True):
    """A stretch of the grid that scrolls by itself: its columns, and where it stands."""

    name: str
    columns: tuple[int, ...]
    left: int
    width: int
    content: int

    @property
    def right(self) -> int:
        return self.left + self.width


@lru_cache(maxsize=50_000)
def _cell_width(text: str) -> int:
    """How wide a cell's text is. Kept: the same rows are laid out again with every edit that shows them."""
    return _cell_metrics().horizontalAdvance(text)


@cache
def _cell_metrics() -> QFontMetrics:
    return QFontMetrics(font(12))


def _side_by_side(columns: dict[str, tuple[int, ...]], wide: dict[str, int], room: int) -> list[Zone]:
    """Zones beside each other: the first as wide as it is, at most what the others leave or a third."""
    first, *others = columns
    rest = sum(wide[name] for name in others)
    widths = {first: min(wide[first], max(room - rest, int(room * 0.32)))}
    left, weight = room - widths[first], max(rest, 1)
    for number, name in enumerate(others):
        share = left if number == len(others) - 1 else max(left * wide[name] // weight, _LEAST_ZONE)
        widths[name], left, weight = share, left - share, max(weight - wide[name], 1)
    zones, x = [], GUTTER
    for name, shown in columns.items():
        zones.append(Zone(name, shown, x, max(widths[name], 0), wide[name]))
        x += widths[name]
    return zones


class ColumnLayout:
    """The zones of a content's columns. Widths that were dragged are kept while contents change."""

    def __init__(self) -> None:
        self.zones: list[Zone] = []
        self._content = Content([], [], None)  # type: ignore[arg-type]
        self._dragged: dict[tuple[str, str], int] = {}
        self._fitting: dict[int, int] = {}

    def lay(self, content: Content, room: int) -> None:
        """Lay the columns out in `room` pixels right of the gutter."""
        if content is not self._content:
            self._fitting.clear()
        self._content, self.zones = content, []
        by_zone = {
            name: tuple(n for n, column in enumerate(content.columns) if column.zone == name)
            for name in content.zones
        }
        wide = {name: sum(self.width(n) for n in columns) for name, columns in by_zone.items()}
        for name, (title, said) in content.titles.items():
            wants = QFontMetrics(font(12, bold=True)).horizontalAdvance(title) + _TITLE_MARK
            wide[name] = max(wide[name], wants + QFontMetrics(font(11)).horizontalAdvance(said))
        if not content.is_knot:
            self.zones = [Zone(LEFT, by_zone[LEFT], GUTTER, room, wide[LEFT])]
            return
        if LINK not in content.zones:
            self.zones = _side_by_side(by_zone, wide, room)
            return
        link = min(wide[LINK], max(room // 2, 200))
        rest = room - link
        left = min(wide[LEFT], max(rest - wide[RIGHT], int(rest * 0.55)))
        self.zones = [
            Zone(LEFT, by_zone[LEFT], GUTTER, left, wide[LEFT]),
            Zone(LINK, by_zone[LINK], GUTTER + left, link, wide[LINK]),
            Zone(RIGHT, by_zone[RIGHT], GUTTER + left + link, rest - left, wide[RIGHT]),
        ]

    def lefts(self, zone: Zone, offset: int) -> list[tuple[int, int, int]]:
        """Of each column of a zone its number, left edge and width, scrolled by `offset`."""
        found = []
        x = zone.left - offset
        spare = zone.width - zone.content if zone.name == LINK else 0
        for number in zone.columns:
            width = self.width(number) + max(spare, 0) // max(len(zone.columns), 1)
            found.append((number, x, width))
            x += width
        return found

    def resize(self, number: int, width: int) -> None:
        """Make a column as wide as it was dragged."""
        column = self._content.columns[number]
        self._dragged[(column.zone, column.field.name)] = max(width, NARROWEST)

    def fit(self, number: int) -> None:
        """Make a column as wide as its head and its first rows want, however long they are."""
        column = self._content.columns[number]
        self._dragged[(column.zone, column.field.name)] = self._fitting_width(number, column, _FITTED)

    def width(self, number: int) -> int:
        """How wide a column is: as it was dragged, or by its head and its first rows."""
        column = self._content.columns[number]
        dragged = self._dragged.get((column.zone, column.field.name))
        if dragged is not None:
            return dragged
        if number not in self._fitting:
            self._fitting[number] = self._fitting_width(number, column)
        return self._fitting[number]

    def _fitting_width(self, number: int, column: Column, most: int = 0) -> int:
        head = QFontMetrics(font(12, bold=True))
        widest = head.horizontalAdvance(side_said(column.field.name)) + 14
        if column.other is None and self.begins_source(number):
            widest += _MARK
        if column.field.name in self._content.warnings:
            widest += _WARNING
        if column.other is not None:
            widest = max(widest, head.horizontalAdvance(column.other.name) + 14) + _MARK
        for part in self._content.parts:
            if part.rows.count:
                cells = self._content.cells(part, 0)[number]
                texts = {
                    cut(text) for cell in cells for text in (cell.text, cell.other.text if cell.other else "")
                }
                widest = max(widest, *map(_cell_width, texts))
        if column.other is not None:
            return min(max(2 * (widest + PAD) + 32, _LINK_LEAST), most or _LINK_MOST)
        return min(max(widest + 2 * PAD + 2, NARROWEST), most or _WIDEST)

    def begins_source(self, number: int) -> bool:
        """Whether a column's head carries its source's mark: its neighbour to the left is another's."""
        column, before = self._content.columns[number], self._content.columns[number - 1] if number else None
        if before is None or self._content.titles:
            return False  # where each zone has a title, the mark stands there
        return before.zone != column.zone or before.field.origin != column.field.origin
