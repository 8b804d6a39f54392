"""Where the rows of one reason cluster: the values of a field among them, beside all rows of their table."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtWidgets import QWidget

from keen_trellis.core.insight.clusters import by_field
from keen_trellis.core.insight.proposal import percent
from keen_trellis.core.insight.reason import Cluster
from keen_trellis.core.task import Task
from keen_trellis.desktop.bench.content import LEFT, RIGHT
from keen_trellis.desktop.bench.grid import BenchGrid
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener, Panels
from keen_trellis.desktop.theme import theme
from keen_trellis.session.session import Session

_MOST_SHOWN = 500
# From this share of a value's rows on, its line is in alarm.
_LOUD = 0.5


class ClustersView(Panel):
    """The values of one field, those with the most of the rows first."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Where the rows cluster", parent)

    def show_clusters(self, said: str, field: str, clusters: Sequence[Cluster]) -> None:
        """Show the values of a field. said: what the rows are."""
        shown = clusters[:_MOST_SHOWN]
        more = (
            f" The first {_MOST_SHOWN:,} of {len(clusters):,} values." if len(clusters) > _MOST_SHOWN else ""
        )
        self.begin(
            f"{said}, by {field}.{more}",
            (field, "Rows", "of all with this value", "Share"),
            len(shown),
            numbers=(1, 2, 3),
        )
        for row, entry in enumerate(shown):
            share = entry.rows / max(entry.all_rows, 1)
            colour = theme().alarm if share >= _LOUD else None
            self.put(row, 0, entry.value, colour=colour)
            self.put(row, 1, f"{entry.rows:,}", number=True)
            self.put(row, 2, f"{entry.all_rows:,}", number=True)
            self.put(row, 3, percent(share), number=True, colour=colour)
        self.finish(0)


class Clustering(Opener[ClustersView]):
    """Counts the rows of a reason by a field."""

    def __init__(self, session: Session, panels: Panels, grid: BenchGrid) -> None:
        super().__init__(session, panels)
        self._grid = grid

    def made(self) -> ClustersView:
        return ClustersView()

    def show(self) -> None:
        """Count the rows of the current reason by the values of the current field."""
        session, content, line = self._session, self._grid.content, self._grid.current_line
        if content is None or line is None or line.part < 0 or not content.columns:
            session.said.emit("Move to a reason, or to one of its rows, and to a field first.")
            return
        part, column = content.parts[line.part], content.columns[self._grid.column]
        on_left = part.rows.count > 0 and content.row_sides(part, 0)[0] >= 0
        field = column.field if on_left or column.other is None else column.other
        table = content.left if on_left else content.right
        if table is None or column.zone == (RIGHT if on_left else LEFT):
            session.said.emit("These rows have no such field: move to a field of their own table.")
            return
        name = field.name

        def work(task: Task) -> list[Cluster]:
            sides = part.rows.sides(np.arange(part.rows.count))
            return by_field(table, np.unique(sides[0 if on_left else 1]), name)

        def done(found: list[Cluster]) -> None:
            if self._grid.content is content:
                self.view.show_clusters(part.text or "These rows", name, found)
                self._panels.open(self)

        session.jobs.start(f"counting by {name}", work, done, session.failed.emit)
