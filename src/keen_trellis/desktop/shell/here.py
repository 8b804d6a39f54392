"""Why a command does not apply here: to what is selected in the trellis, or where the bench's cursor is."""

from __future__ import annotations

from keen_trellis.desktop.bench.lines import PART
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.flow.graph import Step
from keen_trellis.flow.steps import KINDS
from keen_trellis.session import editing
from keen_trellis.sources.locations import TYPED

_NO_STEP = "Select a step first."
_NO_ROWS = "Select a rail, a knot or a stub first."


class Here:
    """Each method answers "" if there is what it is named after, or else says what to do."""

    def __init__(self, frame: Frame) -> None:
        self._frame = frame

    # --- the flow ---

    def undo(self) -> str:
        return "" if self._frame.session.history.undo_name else "There is nothing to undo."

    def redo(self) -> str:
        return "" if self._frame.session.history.redo_name else "There is nothing to redo."

    def steps(self) -> str:
        return "" if self._frame.session.flow.steps else "The flow has no steps yet."

    def outputs(self) -> str:
        ends = any(map(KINDS.ends_rail, self._frame.session.flow.steps))
        return "" if ends else "The flow has no output yet: Ctrl+E adds one."

    # --- what is selected ---

    @property
    def _step(self) -> Step | None:
        return self._frame.session.flow.find(self._frame.session.selection.step)

    def flow(self) -> str:
        return "" if self._frame.session.flow.steps else "The flow has no step yet."

    def anything(self) -> str:
        return "" if self._frame.session.selection else "Select something in the trellis first."

    def step(self) -> str:
        return "" if self._step is not None else _NO_STEP

    def nameable(self) -> str:
        """What has a name of its own: a step or a run value."""
        return "" if self._frame.session.selection.value else self.step()

    def removable(self) -> str:
        return editing.why_not_removed(self._frame.session) or self.anything()

    def rows(self) -> str:
        """Rows that can go on to another step."""
        step = self._step
        if step is None:
            return _NO_ROWS
        return "An output ends its rail." if KINDS.ends_rail(step) else ""

    def rows_or_table(self) -> str:
        """Rows that can be joined: of a step, or of a table in the margin."""
        selection = self._frame.session.selection
        return "" if selection.is_stump and selection.table else self.rows()

    def table(self) -> str:
        selection = self._frame.session.selection
        unused = selection.is_stump and selection.table
        return "" if unused else "Select a table in the margin that no rail starts from."

    def knot(self) -> str:
        return "" if editing.selected_knot(self._frame.session) is not None else "Select a join first."

    def guarded(self) -> str:
        step = self._step
        guarded = step is not None and (KINDS.matches(step) or KINDS.ends_rail(step))
        return "" if guarded else "Guards are set on knots and outputs: select one."

    def source(self) -> str:
        step = self._step
        return "" if step is not None and KINDS.begins_rail(step) else "Select a source first."

    def raw(self) -> str:
        step = self._step
        wanted = step is not None and (KINDS.begins_rail(step) or KINDS.ends_rail(step))
        return "" if wanted else "Select a source or an output first."

    def typed(self) -> str:
        step = self._step
        typed = step is not None and KINDS.begins_rail(step) and KINDS.settings(step).reader == TYPED
        return "" if typed else "Select a table that was typed in first."

    def what_is_chosen(self) -> str:
        """What copying is about: steps where the trellis has the keyboard, and rows elsewhere."""
        return "steps" if self._frame.trellis.hasFocus() else "rows"

    # --- where the bench's cursor is ---

    def grid(self) -> str:
        shown = self._frame.bench.content is not None and self._frame.bench.grid.isVisible()
        return "" if shown else "There are no rows on the bench."

    def row(self) -> str:
        return self.grid() or ("" if self._frame.bench.grid.current_row() else "Move to a row first.")

    def step_row(self) -> str:
        """A row of the selected step, and not one that is shown by itself."""
        alone = self._frame.bench.shows_chosen_rows
        return self.row() or (
            "These rows are shown on their own: follow a row from its step." if alone else ""
        )

    def column(self) -> str:
        content = self._frame.bench.content
        return self.grid() or ("" if content is not None and content.columns else "There is no field here.")

    def field(self) -> str:
        """A field of the rows that are selected."""
        known = self.column() or self.rows()
        return known or ("" if self._frame.bench.field_here() else "This field does not come along.")

    def bands(self) -> str:
        content = self._frame.bench.content
        return "" if content is not None and content.bands else "There are no bands on the bench."

    def mend(self) -> str:
        grid = self._frame.bench.grid
        line, content = grid.current_line, self._frame.bench.content
        mends = (
            content is not None and line is not None and line.kind == PART and content.parts[line.part].mends
        )
        return "" if mends else "Move to a reason that has a mend first."

    def lonely(self) -> str:
        """A row of a join that found no partner."""
        return self._frame.bench.correcting.why_not_pair()

    def overcounted(self) -> str:
        grid = self._frame.bench.grid
        content = self._frame.bench.content
        warned = content is not None and bool(content.columns) and grid.is_warned(grid.column)
        return "" if warned else "This field can be summed as it is."
