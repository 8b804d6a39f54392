"""The bench as a pane: its grid, the panels that can take its place, and messages where no rows are."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import cached_property
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QStackedLayout, QVBoxLayout, QWidget

from keen_trellis.core.blending import Keep, Stands
from keen_trellis.core.errors import TrellisError
from keen_trellis.core.filtering import Comparison
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.table import Cells, Field, IndexVector, RowOrigin, Table
from keen_trellis.core.values import as_text
from keen_trellis.desktop.accessible import tell_current
from keen_trellis.desktop.bench.attention import AttentionOpener
from keen_trellis.desktop.bench.changes import ChangesOpener
from keen_trellis.desktop.bench.clusters import Clustering
from keen_trellis.desktop.bench.content import Content, chosen_rows_content, table_content
from keen_trellis.desktop.bench.correcting import Correcting
from keen_trellis.desktop.bench.correction_list import CorrectionListOpener
from keen_trellis.desktop.bench.difference_lines import Rows as ChosenRows
from keen_trellis.desktop.bench.fields import FieldsOpener
from keen_trellis.desktop.bench.finding import FindBar
from keen_trellis.desktop.bench.following import FollowOpener
from keen_trellis.desktop.bench.grid import BenchGrid
from keen_trellis.desktop.bench.guards import Guarding
from keen_trellis.desktop.bench.head import Head
from keen_trellis.desktop.bench.mend_commands import MendCommands
from keen_trellis.desktop.bench.panels import Panels
from keen_trellis.desktop.bench.preview import PreviewOpener
from keen_trellis.desktop.bench.raw import RawOpener
from keen_trellis.desktop.bench.record import RecordOpener
from keen_trellis.desktop.bench.run_values import RunValuesOpener
from keen_trellis.desktop.bench.shown import Shown, Shows
from keen_trellis.desktop.bench.slat import SlatOpener
from keen_trellis.desktop.bench.sorting import Sorting
from keen_trellis.desktop.bench.spread import Spreading
from keen_trellis.desktop.bench.tips import Tips
from keen_trellis.desktop.bench.tracing import Following
from keen_trellis.desktop.bench.typed import TypingOpener
from keen_trellis.desktop.bench.types import TypesOpener
from keen_trellis.desktop.bench.versions import EditsOpener, VersionsOpener
from keen_trellis.desktop.marks import marks_of
from keen_trellis.desktop.plain import PlainLabel
from keen_trellis.desktop.theme import font, theme
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.mending import Explained
from keen_trellis.flow.steps.filter import ConditionSettings
from keen_trellis.session import editing
from keen_trellis.session.explaining import Explanations
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session

if TYPE_CHECKING:
    from keen_trellis.desktop.bench.handed_off import HandedOpener
    from keen_trellis.desktop.bench.in_sql import SqlOpener
    from keen_trellis.desktop.bench.runs import RunsOpener


class BenchPane(QWidget):
    """Follows the session's selection. origin_changed: where the current row stands in its sources."""

    origin_changed = Signal(str)

    def __init__(self, session: Session, shown: Mapping[str, Shows], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._shows = shown
        self._shown_for: object = None
        self._shown_selection = Selection()
        self._explanations = Explanations(session)
        self.banner = Head("")
        self.banner.setContentsMargins(14, 4, 14, 4)
        self.banner.back.connect(self._leave_chosen)
        self.banner.hide()
        self.grid = BenchGrid()
        Tips(self.grid)
        self.message = PlainLabel()
        self.message.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.message.setWordWrap(True)
        self.message.setTextFormat(Qt.TextFormat.PlainText)
        self.finding = FindBar(session, self.grid)
        self._sorting = Sorting(session, self.grid)
        self._stack = QStackedLayout()
        self._lay_out()
        panels = self.panels = Panels(session, self._stack)
        self.record = RecordOpener(session, panels, self.grid)
        self.fields = FieldsOpener(session, panels, self.grid)
        self.raw = RawOpener(session, panels)
        self.preview = PreviewOpener(session, panels)
        self.typing = TypingOpener(session, panels)
        self.changes = ChangesOpener(session, panels)
        self.versions = VersionsOpener(session, panels)
        self.edits = EditsOpener(session, panels, self.versions)
        self.attention = AttentionOpener(session, panels)
        self.slat = SlatOpener(session, panels)
        self.run_values = RunValuesOpener(session, panels)
        self.correction_list = CorrectionListOpener(session, panels)
        self.types = TypesOpener(session, panels)
        self.guards = Guarding(session, panels)
        self.trace = Following(session, panels, self.grid)
        self.follow = FollowOpener(session, panels, self.grid, self.trace.go_to)
        self.clusters = Clustering(session, panels, self.grid)
        self.mends = MendCommands(session, panels, self._explanations, self.grid)
        self.spread = Spreading(session, panels, self.grid, self.field_here)
        self.correcting = Correcting(session, self.grid)
        self._go_back: Callable[[], None] = self.changes.show
        self._connect()

    # Those that need a library or much else are loaded when they are first wanted: the window is up sooner.

    @cached_property
    def runs(self) -> RunsOpener:
        from keen_trellis.desktop.bench.runs import RunsOpener

        opener = RunsOpener(self._session, self.panels)
        opener.compared.connect(self.changes.show_runs)
        return opener

    @cached_property
    def in_sql(self) -> SqlOpener:
        from keen_trellis.desktop.bench.in_sql import SqlOpener

        return SqlOpener(self._session, self.panels)

    @cached_property
    def handed_off(self) -> HandedOpener:
        from keen_trellis.desktop.bench.handed_off import HandedOpener

        return HandedOpener(self._session, self.panels)

    def _lay_out(self) -> None:
        for widget in (self.grid, self.message):
            self._stack.addWidget(widget)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.banner)
        layout.addLayout(self._stack, 1)
        layout.addWidget(self.finding)

    def _connect(self) -> None:
        session = self._session
        self.grid.current_changed.connect(self._tell_origin)
        self.grid.current_changed.connect(lambda: tell_current(self.grid))
        self.grid.record_wanted.connect(self.record.show)
        self.grid.sort_wanted.connect(self._sorting.sort)
        self._sorting.sorted.connect(self._tell_origin)
        self.grid.destination_chosen.connect(self._change_type)
        self.grid.mend_wanted.connect(self.mends.mend)
        self.grid.remedy_wanted.connect(self._remedy)
        self.panels.opened.connect(self._panel_opened)
        self.panels.closed.connect(self._panel_closed)
        self.panels.rows_wanted.connect(self._show_chosen_rows)
        self._explanations.found.connect(self.refresh)
        session.selected.connect(self.refresh)
        session.outcomes_changed.connect(self._outcomes_changed)
        session.changed.connect(self.refresh)

    # --- what is shown ---

    def refresh(self) -> None:
        """Show the rows of the selection, if they are others than those shown."""
        selection, outcome = self._session.selection, self._session.selected_outcome()
        if self._stay_chosen(selection) or self.panels.stays(outcome):
            return
        self.banner.hide()
        if selection.slat:
            self._shown_selection = selection
            self.slat.show()
            self.origin_changed.emit("")
        elif selection.value:
            self._shown_selection = selection
            self.run_values.open_beside()
            self.origin_changed.emit("")
        elif not selection:
            empty = not self._session.margin.paths()
            self._say(
                "Rows will be shown here." if empty else "Select a rail, a knot or a stub to see its rows."
            )
        elif outcome is not None and outcome.error is not None:
            self._say_error(outcome.error)
        elif outcome is not None and outcome.result is not None:
            self._show(selection, outcome)
        elif self._session.results.stopped:
            self._say("Stopped before these rows were known. Press F5 to continue.")
        elif selection != self._shown_selection:
            self._say("Reading …")  # for the first time, or again what was let go of

    def _outcomes_changed(self, concerned: frozenset[str]) -> None:
        if self.attention.is_shown or self._session.is_about_selected(concerned):
            self.refresh()

    def _show(self, selection: Selection, outcome: Outcome) -> None:
        assert outcome.result is not None
        table = outcome.result.ports.get(selection.port)
        if table is None:
            self._say("This knot no longer has these rows.")
            return
        shown = self._shown(selection, outcome, table)
        if shown.join_type is not None:
            self.grid.show_type(shown.join_type)
        if shown.same == self._shown_for and selection == self._shown_selection:
            if self._stack.currentWidget() is self.message:
                self._stack.setCurrentWidget(self.grid)
            return
        afresh = selection != self._shown_selection
        self._shown_for, self._shown_selection = shown.same, selection
        content = shown.content()
        self.grid.show_content(content, marks_of(self._session.flow), afresh=afresh)
        if outcome.step == self._session.flow.find(selection.step):
            self._show_gained(shown.reasons)
        self.trace.stand_on_row(selection.step)
        if not table.rows and not content.is_knot:
            self._say("No rows." if table.fields else "No fields.")
            return
        self._stack.setCurrentWidget(self.grid)

    def _shown(self, selection: Selection, outcome: Outcome, table: Table) -> Shown:
        """What is shown of an outcome: as the view of its kind says, or else the rows of a table."""
        step, found = outcome.step, None
        if step is not None and selection.port == ROWS and (shows := self._shows.get(step.kind)) is not None:
            found = shows(self._session, self._explanations, step, outcome)
        return found or Shown(table, lambda: table_content(table))

    def _show_gained(self, reasons: Explained | None) -> None:
        """Once the rows that a mend gained are known, show them."""
        content = self.grid.content
        if self.mends.known_parts is None or reasons is None or content is None:
            return
        fresh = [
            part.key
            for part in content.parts
            if part.key.startswith("prepared") and part.key not in self.mends.known_parts
        ]
        self.mends.known_parts = None
        self.grid.show_part(fresh[0] if fresh else "prepared")

    def _say(self, text: str) -> None:
        self._shown_for = None
        self._shown_selection = Selection()
        self.message.setFont(font(13))
        self.message.setStyleSheet(
            f"color: {theme().soft.name()}; background: {theme().paper.name()}; padding: 40px;"
        )
        self.message.setText(text)
        self._stack.setCurrentWidget(self.message)
        self.origin_changed.emit("")

    def _say_error(self, error: TrellisError) -> None:
        where = error.where
        if self._session.path is not None:
            # What lies beside the flow is named as the flow's file names it.
            where = where.removeprefix(f"{self._session.path.parent}/")
        self._say("\n".join(part for part in (where, error.what, error.remedy) if part))
        self.message.setStyleSheet(
            f"color: {theme().alarm.name()}; background: {theme().paper.name()}; padding: 40px;"
        )

    @property
    def content(self) -> Content | None:
        """What the grid shows, None while it shows nothing."""
        return self.grid.content if self._stack.currentWidget() is not self.message else None

    def _tell_origin(self) -> None:
        row = self.grid.current_row()
        content = self.grid.content
        if row is None or content is None:
            self.origin_changed.emit("")
            return
        self.origin_changed.emit(_origin_text(content.origins(*row)))

    def focus_rows(self) -> None:
        """Give the keyboard to the rows."""
        widget = self._stack.currentWidget()
        if widget is not None:
            widget.setFocus()

    # --- panels in the place of the rows ---

    def _panel_opened(self) -> None:
        self.banner.hide()
        self._shown_for = None

    def _panel_closed(self) -> None:
        self._shown_for = None
        self._stack.setCurrentWidget(self.grid)
        self.refresh()
        self.focus_rows()

    # --- some rows by themselves ---

    def _show_chosen_rows(self, rows: ChosenRows, back: Callable[[], None]) -> None:
        """Rows of any table, in the grid; Esc in it leads back."""
        self._go_back = back
        self._shown_for, self._shown_selection = rows, self._session.selection
        self.banner.name_it("Some rows")
        self.banner.said.setText(f"{rows.text}.")
        self.banner.use_theme()
        self.banner.show()
        content = chosen_rows_content(rows.table, rows.rows)
        self.grid.show_content(content, marks_of(self._session.flow), afresh=True)
        self._stack.setCurrentWidget(self.grid)
        self.grid.setFocus()

    def show_some_rows(self, text: str, table: Table, rows: IndexVector) -> None:
        """Some rows of a table by themselves, with what they are; Esc leads back to all."""
        self._show_chosen_rows(ChosenRows(text, table, rows), self.panels.close)

    @property
    def shows_chosen_rows(self) -> bool:
        """Whether some rows of any table are shown by themselves."""
        return isinstance(self._shown_for, ChosenRows)

    def _stay_chosen(self, selection: Selection) -> bool:
        return self.shows_chosen_rows and selection == self._shown_selection

    def show_raw(self) -> None:
        """Show, or leave, the raw cells of the selected source, or what the selected output writes."""
        (self.preview if self.preview.is_wanted else self.raw).show_or_close()

    def show_trace(self) -> None:
        """Show where the current row comes from, and where the rows of a source go."""
        if self._stack.currentWidget() is not self.grid:
            self._session.said.emit("Move to a row first.")
        elif self.shows_chosen_rows:
            # They may be of another table than the step's, such as the one before a refresh.
            self._session.said.emit("These rows are shown on their own: follow a row from its step.")
        else:
            self.trace.show()

    # --- rows like the current one ---

    def keep_like(self, *, but: bool = False) -> None:
        """Keep only the rows that have the current cell's value, or all but these."""
        row, content = self.grid.current_row(), self.content
        if row is None or content is None:
            self._session.said.emit("Move to a row first.")
            return
        table, own, cells = content.cell_at(*row, self.grid.column)
        field = self._in_result(table, own)
        if field is None:
            self._session.said.emit(f"{own} does not come along: bring it first, then filter by it.")
            return
        editing.keep_where(self._session, _like(field.name, cells, but=but))

    def read_otherwise(self) -> None:
        """Ask what the current value means, and read it so from here on."""
        self.correcting.read_otherwise(self.field_here())

    def field_here(self) -> Field | None:
        """The current column's field in the selected rows; None if it does not come along."""
        content = self.content
        if content is None or not content.columns:
            return None
        column = content.columns[self.grid.column]
        return self._in_result(content.table_of(column), column.field.name)

    def _in_result(self, table: Table, own: str) -> Field | None:
        """What a field of one of the tables on the bench has become in the selected rows."""
        outcome = self._session.selected_outcome()
        result = (
            outcome.result.ports.get(self._session.selection.port) if outcome and outcome.result else None
        )
        name = _name_in(result, table, own) if result is not None else None
        return result.field(name) if result is not None and name is not None else None

    # --- sending bands elsewhere ---

    def _change_type(self, kind: JoinType | Keep) -> None:
        if isinstance(kind, Keep):
            editing.keep_of_blend(self._session, self._session.selection.step, kind)
        else:
            editing.change_join_type(self._session, self._session.selection.step, kind)

    def _remedy(self, name: str, stands: Stands | None) -> None:
        if stands is None:
            self._session.said.emit("The current field may be added up as it is.")
        else:
            editing.place_measures(self._session, self._session.selection.step, [name], stands)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape and self.shows_chosen_rows:
            self._leave_chosen()
            return
        super().keyPressEvent(event)

    def _leave_chosen(self) -> None:
        """Go back from rows by themselves to what led there."""
        self._shown_for = None
        self._go_back()


def _name_in(result: Table, table: Table, own: str) -> str | None:
    """What a field of one of the tables that a result is made of is called in it; None if it is not there."""
    if result is table:
        return own
    # Most fields keep their name: there may be thousands to look through.
    names = (own, *result.names) if own in result.names else result.names
    return next((name for name in names if (table, own) in result.read_from(name)), None)


def _like(name: str, cells: Cells, *, but: bool) -> ConditionSettings:
    """The condition that a field has the value of a cell, or any other."""
    text = as_text(cells.values)[0].as_py()
    if text is not None:
        how = Comparison.NONE_OF if but else Comparison.ONE_OF
        return ConditionSettings(name, how.value, (text,))
    if cells.absent is not None and cells.absent[0]:
        how = Comparison.PARTNER if but else Comparison.NO_PARTNER
    else:
        how = Comparison.FILLED if but else Comparison.BLANK
    return ConditionSettings(name, how.value)


def _origin_text(origins: tuple[RowOrigin, ...]) -> str:
    return "this row: " + " with ".join(str(origin) for origin in origins) if origins else ""
