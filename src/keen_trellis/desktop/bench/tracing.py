"""The way of one row on the bench: back to its sources, and on to the outputs."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.tracing import Trace


class TraceView(Panel):
    """wanted: a step of the way, to be gone to."""

    wanted = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Where the row comes from and goes", parent)
        self.lines: list[tuple[str, Trace]] = []
        self.opened.connect(self._open)

    def show_traces(self, back: Sequence[Trace], forward: Sequence[Trace]) -> None:
        """Show a way back and a way on; either may be empty."""
        self.lines = [("comes from", entry) for entry in back] + [("goes to", entry) for entry in forward]
        followed = any(entry.cell for _, entry in self.lines)
        self.begin(
            "The way of this row. Enter goes to the row at that step. Esc goes back.",
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
