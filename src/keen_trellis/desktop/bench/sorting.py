"""Sorts the rows that the bench shows, on a thread; the rows of the step stay as they are."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import QObject, Signal

from keen_trellis.core.table import IndexVector
from keen_trellis.desktop.bench.content import Content
from keen_trellis.desktop.bench.grid import BenchGrid
from keen_trellis.session.session import Session


class Sorting(QObject):
    """Each part of the rows in the order of one column. sorted: they stand in another order now."""

    sorted = Signal()

    def __init__(self, session: Session, grid: BenchGrid) -> None:
        super().__init__(grid)
        self._session, self._grid = session, grid

    def sort(self, column: int, descending: bool) -> None:
        """Sort by a column; by none if its number is negative."""
        content = self._grid.content
        if content is None:
            return
        if column < 0:
            self._apply(content, {}, None)
            return
        self._session.jobs.start(
            f"sorting by {content.columns[column].field.name}",
            lambda task: content.orders(content.columns[column], descending=descending, task=task),
            lambda orders: self._apply(content, orders, (column, descending)),
            self._session.failed.emit,
        )

    def _apply(
        self, content: Content, orders: Mapping[str, IndexVector], sorted_by: tuple[int, bool] | None
    ) -> None:
        for part in content.parts:
            part.order = orders.get(part.key)
        content.sorted_by = sorted_by
        content.forget_cells()
        self._grid.viewport().update()
        self.sorted.emit()
