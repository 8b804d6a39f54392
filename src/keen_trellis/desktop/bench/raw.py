"""The raw cells of a sheet or text file on the bench, with what is taken of them marked."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.cell_names import column_letters
from keen_trellis.flow.remark import ABOVE, DATA, EMPTY, HEADER, NOTE, TOTAL, Raw
from keen_trellis.handbook import Chapter
from keen_trellis.session.outcome import Outcome

_WORDS = {
    ABOVE: "above the header",
    HEADER: "header",
    DATA: "",
    EMPTY: "blank",
    TOTAL: "totals, left out",
    NOTE: "left out",
}
# What the keys make of the current row.
HEADER_HERE, FIRST_HERE, LAST_HERE, NO_HEADER = "header", "first", "last", "none"
_KEYS = {
    Qt.Key.Key_H: HEADER_HERE,
    Qt.Key.Key_F: FIRST_HERE,
    Qt.Key.Key_L: LAST_HERE,
    Qt.Key.Key_N: NO_HEADER,
}
_TIPS = {
    Qt.Key.Key_H: "The current row has the names of the fields",
    Qt.Key.Key_F: "The current row is the first row of data",
    Qt.Key.Key_L: "The current row is the last row of data",
    Qt.Key.Key_N: "No row has the names of the fields",
}


class RawView(Panel):
    """settled: what the current row is to be (one of the words above), and its number in the file."""

    settled = Signal(str, int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Raw cells", parent)
        self._raw = Raw()
        for text, key in (
            ("Header", Qt.Key.Key_H),
            ("First row", Qt.Key.Key_F),
            ("Last row", Qt.Key.Key_L),
            ("No header", Qt.Key.Key_N),
        ):
            button = self.head.add_action(
                text, QKeySequence(key).toString(), partial(self._settle, _KEYS[key])
            )
            button.setToolTip(_TIPS[key])

    def show_raw(self, raw: Raw, name: str) -> None:
        """Show the raw rows of the source called `name`; the row stood on stays."""
        before = self.table.currentRow() if raw.rows and self._raw.rows else 0
        self._raw = raw
        width = max((len(row.cells) for row in raw.rows), default=0)
        headings = ["", *(column_letters(column) for column in range(width)), ""]
        self.begin(
            f"{name}: what is on white is read.",
            headings,
            len(raw.rows),
            numbers=(0,),
        )
        for number, row in enumerate(raw.rows):
            self.put(number, 0, f"{row.number:,}", number=True, colour=theme().soft, ground=theme().ground)
            for column in range(width):
                text = row.cells[column] if column < len(row.cells) else ""
                inside = raw.first <= column < raw.last
                colour, ground = self._colours(row.role, inside=inside)
                is_name = row.role == HEADER and inside
                self.put(number, column + 1, text, colour=colour, ground=ground, bold=is_name)
            self.put(number, width + 1, _WORDS[row.role], colour=theme().soft, ground=theme().ground)
        self.finish(max(before, 0))

    def _colours(self, role: str, *, inside: bool) -> tuple[QColor, QColor]:
        chosen = theme()
        if inside and role == HEADER:
            return chosen.ink, chosen.band
        if inside and role == DATA:
            return chosen.ink, chosen.paper
        return chosen.soft, chosen.ground

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress and not event.modifiers():
            meant = _KEYS.get(Qt.Key(event.key()))
            if meant is not None and self._settle(meant):
                return True
        return super().eventFilter(watched, event)

    def _settle(self, meant: str) -> bool:
        """Say what the current row is to be; False if there is none."""
        row = self.table.currentRow()
        if not 0 <= row < len(self._raw.rows):
            return False
        self.settled.emit(meant, self._raw.rows[row].number)
        return True


class RawOpener(Opener[RawView]):
    """Shows the raw cells of the selected source. settled: what a raw row is to be, and its number."""

    chapter = Chapter.TABLES

    settled = Signal(str, int)

    def made(self) -> RawView:
        view = RawView()
        view.settled.connect(self.settled)
        return view

    def show(self) -> None:
        """Show the raw cells of the selected source."""
        if self._fill():
            self._panels.open(self)
        else:
            self._session.said.emit("Only sheets and text files have raw cells: select one that is read.")

    def _fill(self) -> bool:
        step = self._session.flow.find(self._session.selection.step)
        settings = self._session.sources().get(step.id) if step is not None else None
        snapshot = self._session.library.known(settings) if settings is not None else None
        if step is None or snapshot is None or not snapshot.raw.rows:
            return False
        self.view.show_raw(snapshot.raw, step.name)
        return True

    def stays(self, outcome: Outcome | None) -> bool:
        self._fill()  # not while the source is read anew: then the cells stay as they are
        return outcome is None or outcome.error is None
