"""The guards of a knot or an output on the bench: what must hold, whether it does, and what could be set."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QLineEdit, QWidget

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.guards import LEFT, RIGHT, check_text
from keen_trellis.core.task import Task
from keen_trellis.desktop.bench.difference_lines import Rows
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener, Panels
from keen_trellis.desktop.theme import font, theme
from keen_trellis.flow.guarding import Checked, has_guards, proposed
from keen_trellis.flow.steps import KINDS
from keen_trellis.handbook import Chapter
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session


class Line(msgspec.Struct, frozen=True):
    """One line: a guard that is set, or one that could be."""

    guard: str
    statement: str
    checked: Checked | None = None


class GuardsView(Panel):
    """added, removed: a guard's text.  rows_wanted: a broken guard whose rows are to be shown."""

    added = Signal(str)
    removed = Signal(str)
    rows_wanted = Signal(object)
    own_keys = (Qt.Key.Key_Delete,)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Guards", parent)
        self.lines: list[Line] = []
        self.entry = QLineEdit()
        self.entry.setPlaceholderText(
            "or type a guard: left-unmatched<=0.5%, rows=8000..9000, total:Agreed value"
        )
        self.entry.setAccessibleName("Type a guard")
        self.entry.setFont(font(12))
        self.entry.returnPressed.connect(self._typed)
        self.layout().addWidget(self.entry)  # type: ignore[union-attr]
        self.head.add_action("Set, or show its rows", "Enter", self.open_current)
        self.head.add_action("Remove it", "Delete", self._take_off)
        self.opened.connect(self._open)

    def show_guards(self, name: str, checks: Sequence[Checked], offers: Sequence[tuple[str, str]]) -> None:
        """Show the guards of a step, broken ones first, and below them those that could be set."""
        stood_on = (
            self.lines[self.table.currentRow()] if 0 <= self.table.currentRow() < len(self.lines) else None
        )
        set_ones = sorted(checks, key=lambda entry: entry.holds)
        self.lines = [Line(entry.verdict.guard, entry.statement, entry) for entry in set_ones]
        self.lines += [Line(guard, statement) for guard, statement in offers]
        broken = sum(not entry.holds for entry in checks)
        state = (
            f"{broken} of {len(checks)} broken" if broken else f"{len(checks)} set" if checks else "none yet"
        )
        self.begin(
            f"What must hold at {name} on every refresh: {state}.",
            ("", "Guard", "Now"),
            len(self.lines),
        )
        chosen = theme()
        for row, line in enumerate(self.lines):
            if line.checked is None:
                self.put(row, 0, "could be set", colour=chosen.soft)
                self.put(row, 1, line.statement, colour=chosen.soft)
                self.put(row, 2, "holds", colour=chosen.soft)
                continue
            holds = line.checked.holds
            colour = chosen.ink if holds else chosen.alarm
            self.put(row, 0, "holds" if holds else "broken", bold=True, colour=colour)
            self.put(row, 1, line.statement, colour=colour)
            more = "   …" if len(line.checked.verdict.rows) else ""
            self.put(row, 2, f"{line.checked.verdict.said}{more}", colour=colour)
        current = next(
            (n for n, line in enumerate(self.lines) if stood_on and line.guard == stood_on.guard), 0
        )
        self.finish(current)

    def _open(self, row: int) -> None:
        if not 0 <= row < len(self.lines):
            return
        line = self.lines[row]
        if line.checked is None:
            self.added.emit(line.guard)
        elif len(line.checked.verdict.rows):
            self.rows_wanted.emit(line.checked)

    def _typed(self) -> None:
        self.added.emit(self.entry.text())

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if (
            watched is self.table
            and isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.key() == Qt.Key.Key_Delete
        ):
            self._take_off()
            return True
        return super().eventFilter(watched, event)

    def _take_off(self) -> None:
        row = self.table.currentRow()
        if 0 <= row < len(self.lines) and self.lines[row].checked is not None:
            self.removed.emit(self.lines[row].guard)


class Guarding(Opener[GuardsView]):
    """Shows, sets and takes off the guards of the selected step."""

    chapter = Chapter.HOLD

    def __init__(self, session: Session, panels: Panels) -> None:
        super().__init__(session, panels)
        self._checked: Outcome | None = None

    def made(self) -> GuardsView:
        view = GuardsView()
        view.added.connect(self.add)
        view.removed.connect(self.remove)
        view.rows_wanted.connect(self._show_rows)
        return view

    def show(self) -> None:
        """Show the guards of the selected step, and find those that hold now and could be set."""
        session = self._session
        step, outcome = session.flow.find(session.selection.step), session.selected_outcome()
        if step is None or not has_guards(step):
            session.said.emit("Guards are set on knots and outputs: select one.")
            return
        if outcome is None or outcome.result is None:
            session.said.emit("Its rows are not known yet.")
            return
        flow = session.flow

        def work(task: Task) -> list[tuple[str, str]]:
            return proposed(session.runner, flow, step, task)

        def done(offers: list[tuple[str, str]]) -> None:
            now = session.selected_outcome()
            if session.selection.step == step.id and now is not None:
                self.view.show_guards(step.name, now.guards, offers)
                self._panels.open(self)

        session.jobs.start(f"looking what holds at {step.name}", work, done, session.failed.emit)

    def stays(self, outcome: Outcome | None) -> bool:
        current = self._session.flow.find(self._session.selection.step)
        if outcome is not None and outcome.step == current and outcome is not self._checked:
            self._checked = outcome
            self.show()
        return True

    def add(self, text: str) -> None:
        """Set a guard on the selected step, as an edit."""
        try:
            guard = check_text(text)
        except TrellisError as error:
            self._session.failed.emit(error)
            return
        self.view.entry.clear()
        self._change((guard,), (), f"Guard: {guard}")

    def remove(self, guard: str) -> None:
        """Take a guard off the selected step, as an edit."""
        self._change((), (guard,), f"Take off guard: {guard}")

    def _change(self, more: tuple[str, ...], less: tuple[str, ...], name: str) -> None:
        step = self._session.flow.find(self._session.selection.step)
        if step is None or not has_guards(step):
            return
        settings = KINDS.settings(step)
        guards = tuple(dict.fromkeys(guard for guard in (*settings.guards, *more) if guard not in less))
        self._session.change_settings(step.id, msgspec.structs.replace(settings, guards=guards), name)

    def _show_rows(self, entry: Checked) -> None:
        outcome = self._session.selected_outcome()
        if outcome is None or outcome.result is None:
            return
        side = entry.verdict.side
        tables = {LEFT: outcome.tables[:1], RIGHT: outcome.tables[1:2]}.get(side, (outcome.result.rows,))
        if tables:
            rows = Rows(f"{entry.statement}: {entry.verdict.said}", tables[0], entry.verdict.rows)
            self._panels.rows_wanted.emit(rows, self.show)
