"""The way of one row on the bench: back to its sources, and on to the outputs."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from keen_trellis.core.joining import JoinedTable
from keen_trellis.core.task import Task
from keen_trellis.desktop.bench.content import RIGHT, Column
from keen_trellis.desktop.bench.grid import BenchGrid
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener, Panels
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.tracing import Trace, back, forward
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session


class TraceView(Panel):
    """wanted: a step of the way, to be gone to."""

    wanted = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Where the row comes from and goes", parent)
        self.lines: list[tuple[str, Trace]] = []
        self.head.add_action("Go to the row at this step", "Enter", self.open_current)
        self.opened.connect(self._open)

    def show_traces(self, back: Sequence[Trace], forward: Sequence[Trace]) -> None:
        """Show a way back and a way on; either may be empty."""
        self.lines = [("comes from", entry) for entry in back] + [("goes to", entry) for entry in forward]
        followed = any(entry.cell for _, entry in self.lines)
        self.begin(
            "The steps on the way of this row.",
            ("", "Step", "What", "The cell there") if followed else ("", "Step", "What"),
            len(self.lines),
        )
        chosen, before = theme(), ""
        for row, (way, entry) in enumerate(self.lines):
            self.put(row, 0, way if way != before else "", colour=chosen.soft)
            self.put(row, 1, f"{'    ' * entry.depth}{entry.name}", bold=entry.origin is not None)
            self.put(row, 2, entry.said, colour=chosen.ink if entry.row >= 0 else chosen.alarm)
            if followed:
                self.put(row, 3, entry.cell, bold=entry.origin is not None)
            before = way
        self.finish(0)

    def _open(self, row: int) -> None:
        if 0 <= row < len(self.lines):
            self.wanted.emit(self.lines[row][1])


class Following(Opener[TraceView]):
    """Shows the way of the current row, and stands on it again at another step."""

    def __init__(self, session: Session, panels: Panels, grid: BenchGrid) -> None:
        super().__init__(session, panels)
        self._grid = grid
        self._row_to_show: Trace | None = None

    def made(self) -> TraceView:
        view = TraceView()
        view.wanted.connect(self.go_to)
        return view

    def show(self) -> None:
        """Find the way of the current row, back with the current cell and, of a source, on to the outputs."""
        session, row, content = self._session, self._grid.current_row(), self._grid.content
        selection, step = session.selection, session.flow.find(session.selection.step)
        if row is None or content is None or step is None:
            session.said.emit("Move to a row first.")
            return
        sides, flow, runner = content.row_sides(*row), session.flow, session.runner
        column = content.columns[self._grid.column] if content.columns else None

        def work(task: Task) -> tuple[list[Trace], list[Trace]]:
            if KINDS.begins_rail(step):
                return [], forward(runner, flow, step.id, sides[0], task)
            at = content.result_row(*sides)
            if at is not None:
                field = column.field.name if column is not None else ""
                return back(runner, flow, step.id, *at, task, field), []
            if not content.is_knot:
                field = column.field.name if column is not None else ""
                return back(runner, flow, step.id, selection.port, sides[0], task, field), []
            ways = []
            for entry, number, field in zip(step.inputs, sides, _fields_of(column), strict=True):
                if number >= 0:
                    ways += back(runner, flow, entry.step, entry.port, number, task, field)
            return ways, []

        def done(ways: tuple[list[Trace], list[Trace]]) -> None:
            if selection == session.selection:
                self.view.show_traces(*ways)
                self._panels.open(self)

        session.jobs.start("following the row", work, done, session.failed.emit)

    def go_to(self, trace: Trace) -> None:
        """Go to a row at a step of its way."""
        self._row_to_show = trace if trace.row >= 0 else None
        self._panels.leave_for(Selection(trace.step))

    def stand_on_row(self, shown: str) -> None:
        """Stand on the row that was asked for, once the rows of its step are those shown."""
        trace, content = self._row_to_show, self._grid.content
        if trace is None or content is None or shown != trace.step:
            return
        outcome = self._session.outcome(trace.step)
        if outcome is None or outcome.result is None:
            return
        self._row_to_show = None
        left, right = trace.row, -1
        rows = outcome.result.rows
        if content.is_knot and isinstance(rows, JoinedTable):
            found = rows.rows_of_sides(np.array([trace.row]))
            left, right = int(found[0][0]), int(found[1][0])
        self._grid.show_sides(left, right)


def _fields_of(column: Column | None) -> tuple[str, str]:
    """The left and the right field that a column of a knot shows, "" for none."""
    if column is None:
        return "", ""
    if column.other is not None:
        return column.field.name, column.other.name
    return ("", column.field.name) if column.zone == RIGHT else (column.field.name, "")
