"""The fields of a step and what they hold, on the bench."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QStyledItemDelegate, QStyleOptionViewItem, QWidget

from keen_trellis.core.insight.distribution import Distribution, distribution
from keen_trellis.core.insight.summary import Summary
from keen_trellis.core.table import Table, spread_rows
from keen_trellis.core.task import Task
from keen_trellis.desktop.bench.bars import draw_small
from keen_trellis.desktop.bench.grid import BenchGrid
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener, Panels
from keen_trellis.desktop.plain import tip
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.wording import counted
from keen_trellis.handbook import Chapter
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session
from keen_trellis.sources.looking import Look, look

_HEADINGS = (
    "Field",
    "Type",
    "Blank",
    "Distinct",
    "Notes",
    "Minimum",
    "Maximum",
    "Spread",
    "Most frequent",
    "Patterns",
)
_NUMBERS = (2, 3)


_SPREAD = 7
_BARS = Qt.ItemDataRole.UserRole
# So many rows are looked at for the small pictures.
_PICTURED = 200_000


class _Small(QStyledItemDelegate):
    """Paints how a field spreads into its cell."""

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        super().paint(painter, option, index)
        spread = index.data(_BARS)
        if isinstance(spread, Distribution):
            draw_small(painter, QRectF(option.rect).adjusted(8, 4, -8, -4), spread, theme().ink)

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        return QSize(120, 24)


class FieldsView(Panel):
    """chosen: the field whose row was opened."""

    chosen = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Fields and what they hold", parent)
        self._names: list[str] = []
        self.change = self.head.add_action("Change type or name", "Enter", self.open_current)
        self.opened.connect(self._open)
        self._small = _Small(self.table)

    def show_look(
        self, look: Look, spreads: Sequence[Distribution], name: str, current: str, *, can_change: bool
    ) -> None:
        """Show what the fields of the step called `name` hold. spreads: of each field how its values spread.

        current: the field to stand on.
        """
        self._names = [field.name for field in look.fields]
        self.change.setVisible(can_change)
        self.begin(
            f"{name}: {counted(look.rows, 'rows')}, {counted(len(look.fields), 'fields')}.",
            _HEADINGS,
            len(look.fields),
            numbers=_NUMBERS,
        )
        for row, field in enumerate(look.fields):
            self._put_field(row, field, look)
            self.put(row, _SPREAD, "")
            item = self.table.item(row, _SPREAD)
            if item is not None:
                item.setData(_BARS, spreads[row])
                said = "; ".join(f"{text}: {count[0]:,}" for text, count in spreads[row].lines())
                item.setToolTip(tip(said))
                item.setData(Qt.ItemDataRole.AccessibleTextRole, said)
        self.table.setItemDelegateForColumn(_SPREAD, self._small)
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
        self.put(row, 8, shares or "none repeats", colour=None if shares else soft)
        shares = ", ".join(f"{share.text} ({share.rows:,})" for share in field.patterns)
        self.put(row, 9, shares)
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


class FieldsOpener(Opener[FieldsView]):
    """Looks at the fields of the selection. field_wanted: a source's step, and its field to be changed."""

    chapter = Chapter.TABLES

    field_wanted = Signal(str, str)

    def __init__(self, session: Session, panels: Panels, grid: BenchGrid) -> None:
        super().__init__(session, panels)
        self._grid = grid
        self._looked_at: Table | None = None

    def made(self) -> FieldsView:
        view = FieldsView()
        view.chosen.connect(lambda name: self.field_wanted.emit(self._session.selection.step, name))
        return view

    def show(self) -> None:
        """Show what the fields of the selection hold."""
        session = self._session
        selection, outcome = session.selection, session.selected_outcome()
        if outcome is None or outcome.result is None or selection.port not in outcome.result.ports:
            session.said.emit("Its rows are not known yet.")
            return
        table, remarks = outcome.result.ports[selection.port], outcome.remarks
        content = self._grid.content
        current = ""
        if content is not None and 0 <= self._grid.column < len(content.columns):
            current = content.columns[self._grid.column].field.name
        step = session.flow.find(selection.step)
        name = step.name if step is not None else selection.table
        can_change = step is not None and KINDS.begins_rail(step)
        self._looked_at = table

        def work(task: Task) -> tuple[Look, list[Distribution]]:
            found = look(table, remarks, task)
            rows = None if table.rows <= _PICTURED else spread_rows(table.rows, _PICTURED)
            names = [field.name for field in found.fields]
            return found, [distribution(of, [("rows", table.take(rows, [of])[0])], task) for of in names]

        def done(found: tuple[Look, list[Distribution]]) -> None:
            if selection == session.selection:
                self.view.show_look(*found, name, current, can_change=can_change)
                self._panels.open(self)

        session.jobs.start(f"looking at the fields of {name}", work, done, session.failed.emit)

    def stays(self, outcome: Outcome | None) -> bool:
        ports = outcome.result.ports if outcome is not None and outcome.result is not None else {}
        table = ports.get(self._session.selection.port)
        if table is not None and table is not self._looked_at:
            self.show()
        return True
