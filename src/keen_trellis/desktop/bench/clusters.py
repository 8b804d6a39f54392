"""Where the rows of one reason cluster: the values of a field among them, beside all rows of their table."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QWidget

from keen_trellis.core.insight.proposal import percent
from keen_trellis.core.insight.reason import Cluster
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.theme import theme

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
            f"{said}, by {field}.{more} Esc goes back.",
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
