"""How a field's values spread, on the bench: a picture with its numbers; a bar that is picked filters."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec
import numpy as np
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QVBoxLayout, QWidget

from keen_trellis.core.insight.distribution import Distribution, distribution
from keen_trellis.core.insight.proposal import percent
from keen_trellis.core.table import Cells, Field, Mask, Table, spread_rows
from keen_trellis.core.task import Task
from keen_trellis.desktop.bench.bars import Bars, Style
from keen_trellis.desktop.bench.content import RIGHT, Column, Content
from keen_trellis.desktop.bench.grid import BenchGrid
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener, Panels
from keen_trellis.desktop.marks import marks_of
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.spreading import condition_of
from keen_trellis.session import editing
from keen_trellis.session.session import Session

# So many rows are looked at for the picture in a menu, which must be there at once.
_SKETCHED = 20_000


class Pictured(Panel):
    """A panel with a picture above its table. bars: the picture."""

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(name, parent)
        self.bars = Bars()
        layout = self.layout()
        assert isinstance(layout, QVBoxLayout)
        layout.insertWidget(1, self.bars)
        self.bars.hide()


class SpreadView(Pictured):
    """The bars of one field, and the same as numbers; a row of the table is a bar, too."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("How the values spread", parent)
        self.head.add_action("Keep only these rows", "Enter", self.open_current)
        self.opened.connect(self._open)
        self.table.currentCellChanged.connect(lambda row, *_: self.bars.stand_on(row))

    def show_spread(
        self, shown: Distribution, title: str, *, style: Style, hues: Sequence[QColor], does: str
    ) -> None:
        """Show a field."""
        self.bars.current = -1
        self.bars.show_spread(shown, title, style=style, hues=hues, does=does)
        shares = len(shown.series) == 2 and style is Style.SHARE
        # The last one takes what room is left.
        headings = (shown.field, *shown.series, *(("Share",) if shares else ()), "")
        lines = list(shown.lines())
        self.begin(f"{title}.", headings, len(lines), numbers=range(1, len(headings)))
        for row, (said, counts) in enumerate(lines):
            soft = theme().soft if row >= len(shown.bars) else None
            self.put(row, 0, said, colour=soft)
            for column, count in enumerate(counts, 1):
                self.put(row, column, f"{count:,}", number=True, colour=soft)
            if shares:
                share = percent(counts[1] / max(sum(counts), 1))
                self.put(row, len(counts) + 1, share, number=True, colour=soft)
        self.finish(0)

    def _open(self, row: int) -> None:
        if 0 <= row < len(self.bars.shown.bars):
            self.bars.picked.emit(row)


class _Asked(msgspec.Struct, frozen=True):
    """What is to be pictured: series of rows, how they stand, in which hues."""

    title: str
    series: Sequence[tuple[str, Callable[[], Cells]]]
    style: Style = Style.PLAIN
    hues: tuple[QColor, ...] = ()


class Spreading(Opener[SpreadView]):
    """Shows how the current column's values spread. field_here: what the column is in the selected rows."""

    def __init__(
        self, session: Session, panels: Panels, grid: BenchGrid, field_here: Callable[[], Field | None]
    ) -> None:
        super().__init__(session, panels)
        self._grid, self._field_here = grid, field_here
        self._field: Field | None = None

    def made(self) -> SpreadView:
        view = SpreadView()
        view.bars.picked.connect(lambda number: self._keep(number, number))
        view.bars.ranged.connect(self._keep)
        return view

    def show(self) -> None:
        """Picture the current column."""
        content = self._grid.content
        if content is None or not content.columns:
            self._session.said.emit("There is no field here.")
            return
        column = content.columns[self._grid.column]
        self._field = self._field_here()
        asked = (
            self._of_link(content, column) if column.other is not None else self._of_field(content, column)
        )
        name = column.field.name

        def work(task: Task) -> Distribution:
            series = [(said, cells()) for said, cells in asked.series]
            return distribution(name, series, task, in_ranges=asked.style is Style.MIRRORED)

        def done(found: Distribution) -> None:
            if self._grid.content is content:
                does = "Keep only these rows" if self._field is not None else ""
                self.view.show_spread(found, asked.title, style=asked.style, hues=asked.hues, does=does)
                self._panels.open(self)

        self._session.jobs.start(f"looking how {name} spreads", work, done, self._session.failed.emit)

    def small(self) -> Distribution | None:
        """How the current column spreads, seen from some of its rows; None where there is none."""
        content = self._grid.content
        if content is None or not content.columns:
            return None
        column = content.columns[self._grid.column]
        table, name = content.table_of(column), column.field.name
        cells = table.take(spread_rows(table.rows, _SKETCHED), [name])[0]
        return distribution(name, [("rows", cells)])

    def _of_link(self, content: Content, column: Column) -> _Asked:
        """Both sides of a link on one scale, so that one sees where they do not meet."""
        assert column.other is not None and content.right is not None
        left, right = column.field.name, column.other.name
        sides = ((content.left, left), (content.right, right))
        marks = {mark: theme().hue(entry.hue).rail for mark, entry in marks_of(self._session.flow).items()}
        origins = column.field.origin, column.other.origin
        hues = tuple(marks.get(origin, theme().ink) for origin in origins)
        series = [
            (name, _column(table, field)) for (table, field), name in zip(sides, content.names, strict=True)
        ]
        title = f"{left} of {content.names[0]} above the line, {right} of {content.names[1]} below it"
        return _Asked(title, series, Style.MIRRORED, hues)

    def _of_field(self, content: Content, column: Column) -> _Asked:
        """One field: of a join by whether its rows have a partner, else of all its rows."""
        table, name = content.table_of(column), column.field.name
        match = content.match
        if match is None or content.right is None:
            groups = table is not content.left
            said = "groups" if groups else "rows"
            return _Asked(f"How {name} spreads over {table.rows:,} {said}", [(said, _column(table, name))])
        right = column.zone == RIGHT
        found = match.found_right if right else match.found_left
        of = content.names[1 if right else 0]
        series = [
            (said, _column(table, name, found == wanted))
            for said, wanted in (("matched", True), ("unmatched", False))
        ]
        return _Asked(f"How many of {of} are unmatched, by {name}", series, Style.SHARE)

    def _keep(self, first: int, last: int) -> None:
        """Keep only the rows of some bars."""
        field, bars = self._field, self.view.bars.shown.bars
        if field is None:
            self._session.said.emit("This field does not come along: bring it first, then filter by it.")
            return
        self._panels.close()
        condition = condition_of(field.name, field.type, bars[first], bars[last])
        editing.keep_where(self._session, condition)


def _column(table: Table, name: str, rows: Mask | None = None) -> Callable[[], Cells]:
    """What gathers a field of all rows, or of those of a mask."""
    return lambda: table.take(None if rows is None else np.flatnonzero(rows), [name])[0]
