"""The fields of a step and what they hold, on the bench."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from keen_trellis.core.insight.summary import Summary
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.theme import theme
from keen_trellis.sources.looking import Look

_HEADINGS = (
    "Field",
    "Type",
    "Blank",
    "Distinct",
    "To be said of it",
    "Least",
    "Greatest",
    "Commonest",
    "Patterns",
)
_NUMBERS = (2, 3)


class FieldsView(Panel):
    """chosen: the field whose row was opened."""

    chosen = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Fields and what they hold", parent)
        self._names: list[str] = []
        self.opened.connect(self._open)

    def show_look(self, look: Look, name: str, current: str, *, can_change: bool) -> None:
        """Show what the fields of the step called `name` hold. current: the field to stand on."""
        self._names = [field.name for field in look.fields]
        change = " Enter changes the type or name of a field." if can_change else ""
        self.begin(
            f"{name}: {look.rows:,} rows, {len(look.fields)} fields.{change} Esc goes back to the rows.",
            _HEADINGS,
            len(look.fields),
            numbers=_NUMBERS,
        )
        for row, field in enumerate(look.fields):
            self._put_field(row, field, look)
        self.finish(self._names.index(current) if current in self._names else 0)

    def _put_field(self, row: int, field: Summary, look: Look) -> None:
        soft = theme().soft
        unique = "every row" if field.is_unique else f"{field.distinct:,}"
        self.put(row, 0, field.name, bold=True)
        self.put(row, 1, field.type.value)
        blanks = f"{field.blanks + field.absent:,}"
        self.put(row, 2, blanks, number=True, colour=soft if blanks == "0" else None)
        self.put(row, 3, unique, number=True)
        self.put(row, 5, field.least)
        self.put(row, 6, field.greatest)
        shares = ", ".join(f"{share.text} ({share.rows:,})" for share in field.commonest[:3])
        self.put(row, 7, shares or "none repeats", colour=None if shares else soft)
        shares = ", ".join(f"{share.text} ({share.rows:,})" for share in field.patterns)
        self.put(row, 8, shares)
        doubts = look.doubts(field.name)
        alarm = any(remark.doubtful for remark in doubts)
        said = "; ".join(
            remark.text
            + (f" (rows {', '.join(f'{p.row:,}' for p in remark.places[:6])})" if remark.places else "")
            for remark in doubts
        )
        self.put(row, 4, said, colour=theme().alarm if alarm else soft)

    def _open(self, row: int) -> None:
        if 0 <= row < len(self._names):
            self.chosen.emit(self._names[row])
