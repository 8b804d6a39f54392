"""The bench's grid as it stands: which lines and columns there are, which is current, and where each is."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import (
    QFontMetrics,
    QResizeEvent,
)
from PySide6.QtWidgets import QAbstractScrollArea, QScrollBar, QWidget

from keen_trellis.core.join_type import JoinType
from keen_trellis.desktop.bench.columns import GUTTER, ColumnLayout, Zone
from keen_trellis.desktop.bench.content import (
    LEFT,
    LINK,
    RIGHT,
    Content,
    Part,
)
from keen_trellis.desktop.bench.lines import BAND, ROW, Line, Lines, OpenStates
from keen_trellis.desktop.bench.mend_text import mend_text
from keen_trellis.desktop.marks import Mark
from keen_trellis.desktop.theme import font

LINE_HEIGHT = 24
HEADER_HEIGHT = 30
TITLE_HEIGHT = 24
_GRIP = 4


class GridView(QAbstractScrollArea):
    """What the painter paints. Its lines and columns are laid out anew when `content` or `states` change."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.content: Content | None = None
        self.states = OpenStates()
        self.lines = Lines(Content([], [], None), self.states)  # type: ignore[arg-type]
        self.current = 0
        self.column = 0
        self.anchor = 0
        self.marks: dict[str, Mark] = {}
        self.join_type = JoinType.LEFT_OUTER
        self.columns = ColumnLayout()
        self.bars: dict[str, QScrollBar] = {}
        for name in (LEFT, RIGHT):
            self.bar(name)
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Bench")
        self.viewport().setMouseTracking(True)
        self.verticalScrollBar().setSingleStep(1)
        self.verticalScrollBar().valueChanged.connect(self.viewport().update)

    def sizeHint(self) -> QSize:
        return QSize(1000, 380)

    def lay_lines(self) -> None:
        content = self.content
        self.lines = Lines(content if content is not None else Content([], [], None), self.states)  # type: ignore[arg-type]
        self.current = min(self.current, max(self.lines.count - 1, 0))
        self.lay_zones()

    @property
    def current_line(self) -> Line | None:
        """The line under the cursor."""
        return self.lines.at(self.current) if self.lines.count else None

    def current_row(self) -> tuple[Part, int] | None:
        """The part and place of the row under the cursor, None on a head."""
        line = self.current_line
        if line is None or line.kind != ROW or self.content is None:
            return None
        return self.content.parts[line.part], line.place

    @property
    def header_height(self) -> int:
        """How high the head is: with a line of titles where each zone has one."""
        titled = self.content is not None and bool(self.content.titles)
        return HEADER_HEIGHT + (TITLE_HEIGHT if titled else 0)

    def lay_zones(self) -> None:
        room = self.viewport().width() - GUTTER
        if self.content is None or room <= 0:
            return
        self.columns.lay(self.content, room)
        self._lay_bars()
        page = max((self.viewport().height() - self.header_height) // LINE_HEIGHT, 1)
        self.verticalScrollBar().setPageStep(page)
        self.verticalScrollBar().setRange(0, max(self.lines.count - page, 0))
        self.viewport().update()

    def bar(self, name: str) -> QScrollBar:
        """The scroll bar of a zone."""
        if name not in self.bars:
            bar = self.bars[name] = QScrollBar(Qt.Orientation.Horizontal, self)
            bar.setAccessibleName(f"Scroll the {name} fields")
            bar.valueChanged.connect(self.viewport().update)
        return self.bars[name]

    def _lay_bars(self) -> None:
        needed = False
        for laid in self.columns.zones:
            if laid.name != LINK:
                self.bar(laid.name)
        shown = {zone.name: zone for zone in self.columns.zones}
        for name, bar in self.bars.items():
            zone = shown.get(name)
            scrolls = zone is not None and zone.content > zone.width
            bar.setVisible(scrolls)
            if zone is None:
                continue
            bar.setRange(0, max(zone.content - zone.width, 0))
            bar.setPageStep(max(zone.width, 1))
            bar.setSingleStep(40)
            bar.setGeometry(zone.left, self.height() - 12, zone.width, 12)
            needed = needed or scrolls
        bottom = 12 if needed else 0
        if self.viewportMargins().bottom() != bottom:
            self.setViewportMargins(0, 0, 0, bottom)

    def offset(self, zone: Zone) -> int:
        return self.bars[zone.name].value() if zone.name in self.bars and zone.content > zone.width else 0

    def column_lefts(self, zone: Zone) -> list[tuple[int, int, int]]:
        """Of each column of a zone its number, left edge and width, as it is scrolled now."""
        return self.columns.lefts(zone, self.offset(zone))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.lay_zones()

    def mend_rect(self, top: float, part: Part) -> QRectF:
        """Where the first mend of a reason stands on its line, at the right of the reason."""
        if not part.mends:
            return QRectF()
        metrics = QFontMetrics(font(12, bold=True))
        width = metrics.horizontalAdvance(self.mend_said(part)) + 8
        room = self.viewport().width() - GUTTER - 16
        start = GUTTER + 16 + min(metrics.horizontalAdvance(part.text) + 28, max(room - width, room / 3))
        return QRectF(start, top, min(width, self.viewport().width() - start - 8), LINE_HEIGHT)

    @staticmethod
    def mend_said(part: Part) -> str:
        """The first mend, and that there are others."""
        more = f"  ·  {len(part.mends) - 1} more" if len(part.mends) > 1 else ""
        return f"{mend_text(part.mends[0])}{more}"

    def is_warned(self, number: int) -> bool:
        """Whether a column's measure stands on many rows, and says so in its head."""
        return self.content is not None and self.content.columns[number].field.name in self.content.warnings

    def edge_at(self, x: int) -> int | None:
        for zone in self.columns.zones:
            if zone.name != LINK:
                for number, left, width in self.column_lefts(zone):
                    if abs(left + width - x) <= _GRIP and zone.left < x <= zone.right:
                        return number
        return None

    def column_at(self, x: int) -> int | None:
        for zone in self.columns.zones:
            if zone.left <= x < zone.right:
                for number, left, width in self.column_lefts(zone):
                    if left <= x < left + width:
                        return number
        return None

    def line_at(self, y: int) -> int | None:
        if y < self.header_height:
            return None
        top = self.verticalScrollBar().value()
        row = (y - self.header_height) // LINE_HEIGHT
        if row == 0:
            sticky = self.sticky_head(top)
            if sticky is not None:
                return sticky
        number = top + row
        return number if number < self.lines.count else None

    def line_top(self, number: int) -> float:
        """Where a line stands, in pixels from the viewport's top."""
        top = self.verticalScrollBar().value()
        sticky = self.sticky_head(top)
        return self.header_height + (0 if number == sticky else (number - top) * LINE_HEIGHT)

    def sticky_head(self, top: int) -> int | None:
        """The band head that stays at the top while its rows scroll under it."""
        if not self.lines.count or top >= self.lines.count:
            return None
        line = self.lines.at(top)
        return self.lines.head(line) if line.kind != BAND else None

    def chooser_rect(self, top: float) -> QRectF:
        """Where the small chooser of a band stands whose head is at `top`."""
        width = min(max(150.0, self._goes_width() + 36), 240.0)
        return QRectF(self.viewport().width() - width - 12, top + 2.5, width, LINE_HEIGHT - 5)

    def _goes_width(self) -> float:
        if self.content is None:
            return 0
        metrics = QFontMetrics(font(11.5))
        return max(
            (
                metrics.horizontalAdvance(self.content.destination_text(b, self.join_type))
                for b in self.content.bands
            ),
            default=0,
        )
