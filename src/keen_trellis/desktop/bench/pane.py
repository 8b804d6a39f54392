"""The bench as a pane: its grid, the panels that can take its place, and messages where no rows are."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QStackedLayout, QVBoxLayout, QWidget

from keen_trellis.core.blending import Keep, Stands
from keen_trellis.core.errors import TrellisError
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.table import RowOrigin
from keen_trellis.desktop.bench.attention import AttentionView
from keen_trellis.desktop.bench.blend import BlendContent
from keen_trellis.desktop.bench.changes import ChangesView
from keen_trellis.desktop.bench.changes import Rows as ChangedRows
from keen_trellis.desktop.bench.clusters import Clustering, ClustersView
from keen_trellis.desktop.bench.content import (
    Content,
    chosen_rows_content,
    table_content,
)
from keen_trellis.desktop.bench.fields import FieldsView
from keen_trellis.desktop.bench.finding import FindBar
from keen_trellis.desktop.bench.grid import BenchGrid
from keen_trellis.desktop.bench.guards import Guarding, GuardsView
from keen_trellis.desktop.bench.knot_content import knot_content
from keen_trellis.desktop.bench.mend_commands import MendCommands
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.raw import RawView
from keen_trellis.desktop.bench.record import RecordView, entries_of
from keen_trellis.desktop.bench.review import ReviewView
from keen_trellis.desktop.bench.slat import SlatView
from keen_trellis.desktop.bench.sorting import Sorting
from keen_trellis.desktop.bench.tracing import Following, TraceView
from keen_trellis.desktop.bench.typed import TypingView
from keen_trellis.desktop.bench.types import TypesView
from keen_trellis.desktop.marks import marks_of
from keen_trellis.desktop.plain import PlainLabel
from keen_trellis.desktop.sentence.choices import side_colours
from keen_trellis.desktop.theme import font, theme
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.mending import Explained
from keen_trellis.flow.side_by_side import side_by_side
from keen_trellis.flow.source_settings import TypedTable
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings
from keen_trellis.session import editing
from keen_trellis.session.attention import needs
from keen_trellis.session.explaining import Explanations
from keen_trellis.session.filters import filters_said, reaches, selected_filter, why_rows_stay
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session
from keen_trellis.sources.locations import TYPED
from keen_trellis.sources.looking import Look, look


class BenchPane(QWidget):
    """Follows the session's selection. origin_changed: where the current row stands in its sources.

    field_wanted: a source's step and the field of it that is to be changed.  row_settled: what a raw row
    is to be, and its number.  tie_wanted: the source of a rail that the selected filter is to be tied to, and
    the tie that is there already.
    """

    origin_changed = Signal(str)
    field_wanted = Signal(str, str)
    tie_wanted = Signal(str, str)
    row_settled = Signal(str, int)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._shown_for: object = None
        self._shown_selection = Selection()
        self._panel_for: Selection | None = None
        self._looked_at: object = None
        self._go_back_to: Callable[[], None] = self.show_changes
        self._explanations = Explanations(session)
        self.banner = PlainLabel()
        self.banner.hide()
        self.grid = BenchGrid()
        self.record = RecordView()
        self.fields = FieldsView()
        self.raw = RawView()
        self.changes = ChangesView()
        self.typing = TypingView()
        self.review = ReviewView()
        self.types = TypesView()
        self.trace = TraceView()
        self.clusters = ClustersView()
        self.attention = AttentionView()
        self.slat = SlatView()
        self.guards = GuardsView()
        self.guarding = Guarding(session, self.guards)
        self._following = Following(session, self.grid, self.trace)
        self._clustering = Clustering(session, self.grid, self.clusters)
        self.mends = MendCommands(session, self._explanations, self.grid, self.review)
        self.message = PlainLabel()
        self.message.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.message.setWordWrap(True)
        self.message.setTextFormat(Qt.TextFormat.PlainText)
        self.finding = FindBar(session, self.grid)
        self._sorting = Sorting(session, self.grid)
        self._stack = QStackedLayout()
        self._panels = self._laid_out()
        self._connect()

    def _laid_out(self) -> tuple[Panel | RecordView, ...]:
        """Put everything in its place; the panels that can take that of the rows."""
        panels = (
            self.record,
            self.fields,
            self.raw,
            self.changes,
            self.typing,
            self.review,
            self.guards,
            self.types,
            self.trace,
            self.clusters,
            self.attention,
            self.slat,
        )
        for widget in (self.grid, self.message, *panels):
            self._stack.addWidget(widget)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.banner)
        layout.addLayout(self._stack, 1)
        layout.addWidget(self.finding)
        return panels

    def _connect(self) -> None:
        session = self._session
        self.grid.current_changed.connect(self._tell_origin)
        self.grid.record_wanted.connect(self.show_record)
        self.grid.sort_wanted.connect(self._sorting.sort)
        self._sorting.sorted.connect(self._tell_origin)
        self.grid.destination_chosen.connect(self._change_type)
        self.grid.mend_wanted.connect(self.mends.mend)
        self.grid.remedy_wanted.connect(self._remedy)
        self.mends.review_wanted.connect(lambda: self._show_panel(self.review))
        self._following.shown.connect(lambda: self._show_panel(self.trace))
        self._following.wanted.connect(self._go_to)
        self._clustering.shown.connect(lambda: self._show_panel(self.clusters))
        self.types.chosen.connect(self._change_type)
        self.attention.wanted.connect(self._go_to_need)
        self.guarding.wanted.connect(lambda: self._show_panel(self.guards))
        self.guarding.rows_wanted.connect(self._show_rows_of_guard)
        self.mends.done.connect(self._close_panel)
        self._explanations.found.connect(self.refresh)
        for panel in self._panels:
            panel.closed.connect(self._close_panel)
        self.fields.chosen.connect(lambda name: self.field_wanted.emit(self._session.selection.step, name))
        self.raw.settled.connect(self.row_settled)
        self.changes.step_wanted.connect(self._leave_for)
        self.changes.rows_wanted.connect(self._show_changed_rows)
        self.typing.changed.connect(self._keep_typed)
        self.slat.wanted.connect(self.tie_wanted)
        session.refreshing.compared.connect(self.show_changes)
        session.selected.connect(self.refresh)
        session.outcomes_changed.connect(self._outcomes_changed)
        session.changed.connect(self.refresh)

    # --- what is shown ---

    def refresh(self) -> None:
        """Show the rows of the selection, if they are others than those shown."""
        selection, outcome = self._session.selection, self._session.selected_outcome()
        if self._panel_stays(selection, outcome):
            return
        self.banner.hide()
        if selection.slat:
            self._show_slat()
            return
        if not selection:
            empty = not self._session.margin.paths()
            self._say(
                "Rows will stand here." if empty else "Select a rail, a knot or a stub to see its rows."
            )
            return
        if outcome is not None and outcome.error is not None:
            self._say_error(outcome.error)
        elif outcome is not None and outcome.result is not None:
            self._show(selection, outcome)
        elif self._session.results.stopped:
            self._say("Stopped before these rows were known. F5 goes on.")
        elif selection != self._shown_selection:
            self._say("Reading …")  # for the first time, or again what was let go of

    def _panel_stays(self, selection: Selection, outcome: Outcome | None) -> bool:
        """Whether what was opened on the bench for this selection stays, brought up to date."""
        shown = self._stack.currentWidget()
        if selection != self._panel_for:
            return False
        if isinstance(self._shown_for, ChangedRows) or shown in (
            self.changes,
            self.review,
            self.trace,
            self.clusters,
        ):
            return True
        if shown is self.attention:
            self.attention.show_needs(needs(self._session))
            return True
        if shown is self.types:
            self._fill_types()  # not while another match is computed: then the types stay as they are
            return outcome is None or outcome.error is None
        if shown is self.guards:
            self._bring_guards_up_to_date(outcome)
            return True
        if shown is self.typing:
            self.show_typing()
            return True
        if shown is self.raw:
            self._fill_raw()  # not while the source is read anew: then the cells stay as they are
            return outcome is None or outcome.error is None
        if shown is self.fields:
            table = outcome.result.ports.get(selection.port) if outcome and outcome.result else None
            if table is not None and table is not self._looked_at:
                self._look_at_fields()
            return True
        return False

    def _outcomes_changed(self, concerned: frozenset[str]) -> None:
        if self._stack.currentWidget() is self.attention or self._session.is_about_selected(concerned):
            self.refresh()

    def _show_panel(self, panel: QWidget) -> None:
        """Let a panel have the bench until it is closed or something else is selected."""
        self.banner.hide()
        self._shown_for = None
        self._panel_for = self._session.selection
        self._stack.setCurrentWidget(panel)
        panel.setFocus()

    def _show(self, selection: Selection, outcome: Outcome) -> None:
        result, step = outcome.result, outcome.step
        assert result is not None
        table = result.ports.get(selection.port)
        if table is None:
            self._say("This knot has no such rows any more.")
            return
        settings: JoinSettings | None = None
        is_knot = step is not None and KINDS.matches(step) and result.match is not None
        if step is not None and is_knot and selection.port == ROWS:
            settings = KINDS.settings(step)
            self.grid.show_type(settings.join_type)
        is_blend = step is not None and result.blended is not None and selection.port == ROWS
        reasons = self._explanations.of(outcome) if settings else None
        # A knot's rows follow from its match and its fields, not from its join type.
        same: object = table
        if settings is not None:
            same = (result.match, settings.links, settings.keep, settings.bring, reasons)
        if is_blend and step is not None:
            same = (result.blended, step.settings, outcome.inputs, filters_said(self._session, step))
        if same == self._shown_for and selection == self._shown_selection:
            if self._stack.currentWidget() is self.message:
                self._stack.setCurrentWidget(self.grid)
            return
        afresh = selection != self._shown_selection
        self._shown_for, self._shown_selection = same, selection
        content = table_content(table)
        if settings is not None:
            left, right = outcome.tables
            content = knot_content(settings, outcome.inputs, left, right, result, reasons)
        elif is_blend and step is not None and result.blended is not None:
            reached = filters_said(self._session, step)
            content = BlendContent(KINDS.settings(step), outcome.inputs, result.blended, reached)
        self.grid.show_content(content, marks_of(self._session.flow), afresh=afresh)
        if step == self._session.flow.find(selection.step):
            self._show_gained(reasons)
        self._following.stand_on_row(selection.step)
        if not table.rows and not content.is_knot:
            self._say("No rows." if table.fields else "No fields.")
            return
        if self._stack.currentWidget() is not self.record or afresh:
            self._stack.setCurrentWidget(self.grid)

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

    # --- one row whole ---

    def show_record(self) -> None:
        """Show all fields of the current row and of its partners."""
        row, content = self.grid.current_row(), self.grid.content
        if row is None or content is None:
            self._session.said.emit("Move to a row first.")
            return
        self.record.show_entries(*entries_of(content, *row))
        self._stack.setCurrentWidget(self.record)
        self.record.setFocus()

    def _close_panel(self) -> None:
        self._shown_for, self._panel_for = None, None
        self._stack.setCurrentWidget(self.grid)
        self.refresh()
        self.focus_rows()

    # --- fields, raw cells, rows typed in ---

    def show_fields(self) -> None:
        """Show what the fields of the selection hold; again: back to the rows."""
        if self._stack.currentWidget() is self.fields:
            self._close_panel()
            return
        self._look_at_fields()

    def _look_at_fields(self) -> None:
        selection, outcome = self._session.selection, self._session.selected_outcome()
        if outcome is None or outcome.result is None or selection.port not in outcome.result.ports:
            self._session.said.emit("Its rows are not known yet.")
            return
        table, remarks = outcome.result.ports[selection.port], outcome.remarks
        content = self.grid.content
        current = ""
        if content is not None and 0 <= self.grid.column < len(content.columns):
            current = content.columns[self.grid.column].field.name
        step = self._session.flow.find(selection.step)
        name = step.name if step is not None else selection.table
        can_change = step is not None and KINDS.begins_rail(step)
        self._looked_at = table

        def done(found: Look) -> None:
            if selection == self._session.selection:
                self.fields.show_look(found, name, current, can_change=can_change)
                self._show_panel(self.fields)

        self._session.jobs.start(
            f"looking at the fields of {name}",
            lambda task: look(table, remarks, task),
            done,
            self._session.failed.emit,
        )

    def show_raw(self) -> None:
        """Show the raw cells of the selected source; again: back to the rows."""
        if self._stack.currentWidget() is self.raw:
            self._close_panel()
            return
        if self._fill_raw():
            self._show_panel(self.raw)
        else:
            self._session.said.emit("Only sheets and text files have raw cells: select one that is read.")

    def _fill_raw(self) -> bool:
        step = self._session.flow.find(self._session.selection.step)
        settings = self._session.sources().get(step.id) if step is not None else None
        snapshot = self._session.library.known(settings) if settings is not None else None
        if step is None or snapshot is None or not snapshot.raw.rows:
            return False
        self.raw.show_raw(snapshot.raw, step.name)
        return True

    def show_typing(self) -> None:
        """Show the rows of the selected source that are typed into the flow, to be edited."""
        settings = self._session.sources().get(self._session.selection.step)
        if settings is None or settings.reader != TYPED:
            self._session.said.emit("Only a table that is typed into the flow can be edited here.")
            return
        step = self._session.flow.step(self._session.selection.step)
        self.typing.show_table(settings.typed, step.name)
        if self._stack.currentWidget() is not self.typing:
            self._show_panel(self.typing)

    def _keep_typed(self, table: TypedTable) -> None:
        step = self._session.selection.step
        settings = self._session.sources()[step]
        changed = msgspec.structs.replace(settings, typed=table)
        self._session.change_settings(step, changed, f"Type rows of {self._session.flow.step(step).name}")

    # --- what changed ---

    def show_changes(self) -> None:
        """Show what the last refresh changed, or what changed since the flow was saved."""
        comparison = self._session.refreshing.comparison
        if comparison is None:
            self._session.said.emit("There is nothing to compare with yet: F5 refreshes the sources.")
            return
        if self.changes.comparison is not comparison:
            self.changes.show_changes(comparison)
        self._show_panel(self.changes)

    # --- what needs attention ---

    def show_attention(self) -> None:
        """Show everything that needs attention; again: back to the rows."""
        if self._stack.currentWidget() is self.attention:
            self._close_panel()
            return
        self.attention.show_needs(needs(self._session))
        self._show_panel(self.attention)

    def _go_to_need(self, selection: Selection) -> None:
        self._close_panel()
        self._session.select(selection)

    # --- shared filters ---

    def _show_slat(self) -> None:
        shared = selected_filter(self._session)
        if shared is None:
            return
        why = [
            f"{self._session.flow.step(step).name}: {said}"
            for step, said in why_rows_stay(self._session, shared)
        ]
        self.slat.show_reaches(shared, reaches(self._session, shared), why)
        self._shown_for, self._shown_selection = None, self._session.selection
        self._stack.setCurrentWidget(self.slat)
        self.origin_changed.emit("")

    # --- clusters and tracing ---

    def show_clusters(self) -> None:
        """Show in which values of the current field the rows of the current reason cluster."""
        self._clustering.show()

    def show_trace(self) -> None:
        """Show where the current row comes from, and where the rows of a source go."""
        if self._stack.currentWidget() is not self.grid:
            self._session.said.emit("Move to a row first.")
        elif isinstance(self._shown_for, ChangedRows):
            # They may be of another table than the step's, such as the one before a refresh.
            self._session.said.emit("These rows stand by themselves: follow a row from its step.")
        else:
            self._following.follow()

    def _go_to(self, step: str) -> None:
        self._leave_for(step)
        self._following.stand_on_row(self._shown_selection.step)

    # --- join types ---

    def show_types(self) -> None:
        """Show all join types of the selected knot side by side; again: back to the rows."""
        if self._stack.currentWidget() is self.types:
            self._close_panel()
        elif self._fill_types():
            self._show_panel(self.types)
        else:
            self._session.said.emit("Select a knot with link fields first: its types are shown side by side.")

    def _fill_types(self) -> bool:
        outcome = self._session.outcome(self._session.selection.step)
        if outcome is None or outcome.step is None or not KINDS.matches(outcome.step):
            return False
        match = outcome.result.match if outcome.result is not None else None
        settings: JoinSettings = KINDS.settings(outcome.step)
        if match is None or settings.join_type is JoinType.CROSS or len(outcome.tables) != 2:
            return False
        step = self._session.flow.step(outcome.step.id)
        current = KINDS.settings(step).join_type
        shown = side_by_side(settings, outcome.inputs, outcome.tables[0], outcome.tables[1], match)
        names = (outcome.inputs[0].name, outcome.inputs[1].name)
        self.types.show_types(shown, current, names, side_colours(self._session, outcome.step.id))
        return True

    # --- guards ---

    def _bring_guards_up_to_date(self, outcome: Outcome | None) -> None:
        current = self._session.flow.find(self._session.selection.step)
        if outcome is not None and outcome.step == current and outcome is not self._looked_at:
            self._looked_at = outcome
            self.guarding.show()

    def _show_rows_of_guard(self, rows: ChangedRows) -> None:
        self._go_back_to = self.guarding.show
        self._show_changed_rows(rows)

    def _leave_for(self, step: str) -> None:
        self._close_panel()
        self._session.select(Selection(step))

    def _show_changed_rows(self, rows: ChangedRows) -> None:
        """The rows of one line of what changed, in the grid; Esc in it leads back."""
        self._shown_for, self._shown_selection = rows, self._session.selection
        self.banner.setText(f"{rows.text}. Esc goes back.")
        self.banner.setFont(font(12, bold=True))
        self.banner.setStyleSheet(
            f"color: {theme().ink.name()}; background: {theme().band.name()}; padding: 5px 14px;"
        )
        self.banner.show()
        content = chosen_rows_content(rows.table, rows.rows)
        self.grid.show_content(content, marks_of(self._session.flow), afresh=True)
        self._stack.setCurrentWidget(self.grid)
        self.grid.setFocus()

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
        if event.key() == Qt.Key.Key_Escape and isinstance(self._shown_for, ChangedRows):
            self._shown_for = None
            self._go_back_to()
            self._go_back_to = self.show_changes
            return
        super().keyPressEvent(event)


def _origin_text(origins: tuple[RowOrigin, ...]) -> str:
    return "this row: " + " with ".join(str(origin) for origin in origins) if origins else ""
