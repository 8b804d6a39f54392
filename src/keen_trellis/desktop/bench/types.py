"""All join types side by side on the bench: rows to one scale, losses, and what each makes of example
rows.
"""

from __future__ import annotations

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QFontMetrics, QPainter, QPen
from PySide6.QtWidgets import QHeaderView, QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from keen_trellis.core.join_type import JoinType
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener
from keen_trellis.desktop.plain import elided, tip
from keen_trellis.desktop.sentence.choices import side_colours
from keen_trellis.desktop.signs import SIGN_HEIGHT, SIGN_WIDTH, draw_sign
from keen_trellis.desktop.theme import font, theme
from keen_trellis.flow.side_by_side import SideBySide, TypeLine, side_by_side
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings
from keen_trellis.handbook import Chapter
from keen_trellis.session import editing
from keen_trellis.session.outcome import Outcome

_ROW_HEIGHT = 40
_QUESTION, _ROWS, _LOST_LEFT, _LOST_RIGHT, _EMPTY, _BANDS = 0, 1, 2, 3, 4, (5, 6, 7)
_WIDTHS = (316, 108, 84, 94, 94)


class _Painter(QStyledItemDelegate):
    """Paints the sign with its question, and the rows as a bar."""

    def __init__(self, view: TypesView) -> None:
        super().__init__(view.table)
        self._view = view

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        chosen, view = theme(), self._view
        line = view.lines[index.row()]
        rect = QRectF(option.rect)
        painter.save()
        painter.setClipRect(option.rect)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(option.rect, chosen.selected)
        if index.column() == _QUESTION:
            self._question(painter, rect, line, index.row() + 1)
        elif index.column() == _ROWS:
            self._bar(painter, rect, line)
        elif index.column() in _BANDS:
            self._band(painter, rect, line, index.column() - _BANDS[0])
        else:
            painter.setFont(font(12))
            painter.setPen(chosen.ink)
            number = {_LOST_LEFT: line.lost[0], _LOST_RIGHT: line.lost[1], _EMPTY: line.empty}[index.column()]
            painter.drawText(
                rect.adjusted(0, 0, -12, 0),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                f"{number:,}" if number else "–",
            )
        painter.setPen(QPen(chosen.line, 1))
        painter.drawLine(rect.bottomLeft(), rect.bottomRight())
        painter.restore()

    def _question(self, painter: QPainter, rect: QRectF, line: TypeLine, key: int) -> None:
        chosen, view = theme(), self._view
        current = line.join_type is view.current
        painter.setFont(font(11.5, bold=current))
        painter.setPen(chosen.accent if current else chosen.soft)
        painter.drawText(
            QRectF(rect.left() + 8, rect.top(), 14, rect.height()), Qt.AlignmentFlag.AlignVCenter, f"{key}"
        )
        sign = QRectF(rect.left() + 28, rect.center().y() - SIGN_HEIGHT / 2, SIGN_WIDTH, SIGN_HEIGHT)
        draw_sign(painter, sign, line.join_type, *view.hues)
        words = rect.adjusted(54, 3, -6, -3)
        upper, lower = QRectF(words), QRectF(words)
        upper.setHeight(words.height() / 2)
        lower.setTop(upper.bottom())
        painter.setFont(font(12, bold=True))
        painter.setPen(chosen.accent if current else chosen.ink)
        self._elided(painter, upper, line.question)
        painter.setFont(font(11))
        painter.setPen(chosen.soft)
        now = ", asked now" if current else ""
        self._elided(painter, lower, line.alike or f"{line.join_type.trade_name}{now}")

    def _bar(self, painter: QPainter, rect: QRectF, line: TypeLine) -> None:
        """The rows on the scale of the type that has the most."""
        chosen = theme()
        most = max((entry.rows for entry in self._view.lines), default=0)
        room = rect.width() - 20
        width = max(room * line.rows / most, 2.0) if line.rows and most else 0.0
        painter.fillRect(QRectF(rect.left() + 10, rect.bottom() - 14, width, 7), chosen.ink)
        painter.setFont(font(12, bold=True))
        painter.setPen(chosen.ink)
        above = rect.adjusted(10, 3, -10, -16)
        painter.drawText(above, Qt.AlignmentFlag.AlignVCenter, f"{line.rows:,}")

    def _band(self, painter: QPainter, rect: QRectF, line: TypeLine, band: int) -> None:
        """What becomes of a band's example rows."""
        chosen, fate = theme(), line.fates[band]
        out = fate == "left out"
        words = rect.adjusted(10, 3, -6, -3)
        upper, lower = QRectF(words), QRectF(words)
        upper.setHeight(words.height() / 2)
        lower.setTop(upper.bottom())
        painter.setFont(font(11.5, bold=not out))
        painter.setPen(chosen.soft if out else chosen.ink)
        self._elided(painter, upper, fate)
        if out:
            return
        upper.setLeft(upper.left() + QFontMetrics(painter.font()).horizontalAdvance(f"{fate}  "))
        painter.setFont(font(10.5))
        texts, metrics = self._view.shown.examples[band], QFontMetrics(painter.font())
        if len(texts) > 1 and metrics.horizontalAdvance(", ".join(texts)) > lower.width():
            # All of them are to be seen whole: the first one stands beside what becomes of them.
            self._elided(painter, upper, f"{texts[0]},")
            texts = texts[1:]
        self._elided(painter, lower, ", ".join(texts) or "no rows")

    @staticmethod
    def _elided(painter: QPainter, rect: QRectF, text: str) -> None:
        shown = elided(QFontMetrics(painter.font()), text, Qt.TextElideMode.ElideRight, int(rect.width()))
        painter.drawText(rect, Qt.AlignmentFlag.AlignVCenter, shown)


class TypesView(Panel):
    """chosen: a join type."""

    chosen = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Join types side by side", parent)
        self.shown = SideBySide((), ((), (), ()))
        self.current = JoinType.LEFT_OUTER
        self.hues: tuple[QColor, QColor] = (theme().soft, theme().soft)
        self.table.setItemDelegate(_Painter(self))
        self.table.clicked.connect(lambda index: self._choose(index.row()))
        self.head.add_action("Choose this type", "Enter", self.open_current)
        self.opened.connect(self._choose)

    @property
    def lines(self) -> tuple[TypeLine, ...]:
        return self.shown.lines

    def show_types(
        self, shown: SideBySide, current: JoinType, names: tuple[str, str], hues: tuple[QColor, QColor]
    ) -> None:
        """Show what each type makes of a match. names, hues: those of the two tables."""
        stands = self.table.currentRow()
        self.shown, self.current, self.hues = shown, current, hues
        left, right = names
        self.begin(
            "The same match under every join type. Click one, or press 1 to 9.",
            (
                "Question",
                "Rows",
                f"{left} lost",
                f"{right} lost",
                "Empty cells",
                f"Unmatched {left}",
                "Matched",
                f"Unmatched {right}",
            ),
            len(shown.lines),
            numbers=(_LOST_LEFT, _LOST_RIGHT, _EMPTY),
        )
        for row, line in enumerate(shown.lines):
            texts = (
                line.question,
                f"{line.rows:,}",
                f"{line.lost[0]:,}",
                f"{line.lost[1]:,}",
                f"{line.empty:,}",
                *line.fates,
            )
            for column, text in enumerate(texts):
                self.put(row, column, text)
            for band, column in enumerate(_BANDS):
                example = self.table.item(row, column)
                if example is not None:
                    example.setToolTip(tip(f"{line.fates[band]}: {', '.join(shown.examples[band])}"))
            item = self.table.item(row, _QUESTION)
            if item is not None and line.alike:
                item.setToolTip(tip(f"{line.join_type.trade_name}: {line.alike}"))
        self.table.verticalHeader().setDefaultSectionSize(_ROW_HEIGHT)
        header = self.table.horizontalHeader()
        for column, width in enumerate(_WIDTHS):
            header.setSectionResizeMode(column, QHeaderView.ResizeMode.Fixed)
            self.table.setColumnWidth(column, width)
        for column in _BANDS:
            header.setSectionResizeMode(column, QHeaderView.ResizeMode.Stretch)
        kinds = [line.join_type for line in shown.lines]
        self.table.setCurrentCell(stands if 0 <= stands < len(kinds) else kinds.index(current), 0)

    def _choose(self, row: int) -> None:
        if 0 <= row < len(self.lines):
            self.chosen.emit(self.lines[row].join_type)


class TypesOpener(Opener[TypesView]):
    """Shows all join types of the selected knot side by side, and gives it the one that is chosen."""

    chapter = Chapter.JOIN

    def made(self) -> TypesView:
        view = TypesView()
        view.chosen.connect(self._choose)
        return view

    def _choose(self, join_type: JoinType) -> None:
        editing.change_join_type(self._session, self._session.selection.step, join_type)

    def show(self) -> None:
        """Show what each type would make of the selected knot's match."""
        if self._fill():
            self._panels.open(self)
        else:
            self._session.said.emit("Select a knot with link fields first: its types are shown side by side.")

    def _fill(self) -> bool:
        outcome = self._session.outcome(self._session.selection.step)
        if outcome is None or outcome.step is None or not KINDS.matches(outcome.step):
            return False
        match = outcome.result.match if outcome.result is not None else None
        settings: JoinSettings = KINDS.settings(outcome.step)
        if match is None or settings.join_type is JoinType.CROSS or len(outcome.tables) != 2:
            return False
        current = KINDS.settings(self._session.flow.step(outcome.step.id)).join_type
        shown = side_by_side(settings, outcome.inputs, outcome.tables[0], outcome.tables[1], match)
        names = (outcome.inputs[0].name, outcome.inputs[1].name)
        self.view.show_types(shown, current, names, side_colours(self._session, outcome.step.id))
        return True

    def stays(self, outcome: Outcome | None) -> bool:
        self._fill()  # not while another match is computed: then the types stay as they are
        return outcome is None or outcome.error is None
