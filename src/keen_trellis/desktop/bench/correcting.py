"""Values are corrected where they are seen: one is read as another that is typed, or a row without partner is
paired by hand with one of the other side's values, the likeliest first.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QObject, QPoint

from keen_trellis.core.errors import UsageError
from keen_trellis.core.insight.pairing import Candidates, can_be_paired, candidates
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType, as_text
from keen_trellis.desktop.bench.content import shown_cells
from keen_trellis.desktop.bench.grid import BenchGrid
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.mending import read_as
from keen_trellis.flow.plain_text import cut, visible
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import LinkSettings
from keen_trellis.flow.wording import counted
from keen_trellis.session import editing
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session

_MOST_LISTED = 300
_OTHER_FIELDS = 2  # of the partner's row, shown beside its value
_LONGEST = 32


class Correcting(QObject):
    """Asks what the current value means, or which partner the current row has, and corrects it."""

    def __init__(self, session: Session, grid: BenchGrid) -> None:
        super().__init__(grid)
        self._session, self._grid = session, grid

    # --- a partner ---

    def why_not_pair(self) -> str:
        """Why the current row cannot be paired, "" if it can."""
        sides, outcome = self._grid.current_sides(), self._knot()
        if outcome is None or sides is None:
            return "Move to a row of a join that found no partner first."
        if min(sides) >= 0 or not self._is_lonely(outcome, sides):
            return "This row has a partner."
        assert outcome.step is not None
        if not can_be_paired(KINDS.settings(outcome.step).link_fields):
            return "Only values that are compared with = can be paired by hand."
        return ""

    def _knot(self) -> Outcome | None:
        """What the selected join came to, as long as its rows are held."""
        outcome = self._session.selected_outcome()
        if outcome is None or outcome.step is None or not KINDS.matches(outcome.step):
            return None
        match = outcome.result.match if outcome.result is not None else None
        content = self._grid.content
        # The bench may be a moment behind: its rows are then those of another match.
        is_shown = match is not None and content is not None and content.match is match
        return outcome if is_shown and len(outcome.tables) == 2 else None

    def _is_lonely(self, outcome: Outcome, sides: tuple[int, int]) -> bool:
        """Whether the row matches none; one that was passed over does."""
        match = outcome.result.match if outcome.result is not None else None
        if match is None:
            return False
        return not (match.found_left[sides[0]] if sides[0] >= 0 else match.found_right[sides[1]])

    def pair(self) -> None:
        """Ask for the partner of the current row."""
        if why_not := self.why_not_pair():
            self._session.said.emit(why_not)
            return
        outcome, sides = self._knot(), self._grid.current_sides()
        assert outcome is not None and outcome.step is not None and sides is not None
        links = KINDS.settled(self._session.flow, outcome.step).link_fields
        numbers = can_be_paired(links)
        if len(numbers) == 1:
            self._look(outcome, sides, numbers[0])
            return
        choices = [Choice(number, f"{links[number].left} with {links[number].right}") for number in numbers]
        chooser = Chooser(choices, self._grid, title="Which of its values means another?")
        chooser.chosen.connect(lambda number: self._look(outcome, sides, number))
        self._open(chooser)

    def _look(self, outcome: Outcome, sides: tuple[int, int], number: int) -> None:
        """Find what the row's value may mean, on a thread, and ask."""
        assert outcome.step is not None and outcome.result is not None and outcome.result.match is not None
        links = KINDS.settled(self._session.flow, outcome.step).link_fields
        match = outcome.result.match
        tables = outcome.tables[0], outcome.tables[1]
        side, row = ("left", sides[0]) if sides[0] >= 0 else ("right", sides[1])

        def work(task: Task) -> Candidates:
            return candidates(tables, links, match, side, row, number, task)

        self._session.jobs.start(
            f"looking for partners of row {row + 1:,}",
            work,
            lambda found: self._choose(outcome, found, side),
            self._session.failed.emit,
        )

    def _choose(self, outcome: Outcome, found: Candidates, side: str) -> None:
        assert outcome.step is not None
        mine = 0 if side == "left" else 1
        other, name = outcome.tables[1 - mine], outcome.inputs[1 - mine].name
        shown = _Shown(found, other, KINDS.settings(outcome.step).links[found.number])
        others, matched = found.others
        title = f"“{_short(found.value)}” means which value of {name}?"
        if others:
            title += f" {counted(others, 'other row')} with it will be read so, too"
            title += f"; {matched:,} of them have a partner now." if matched else "."
        chooser = Chooser(shown.choices(""), self._grid, title=title, search=shown.choices)
        chooser.filter.setPlaceholderText(f"type to search all {len(found.texts):,} values")
        chooser.chosen.connect(lambda meant: self._pair(outcome, found, meant))
        self._open(chooser)

    def _pair(self, outcome: Outcome, found: Candidates, meant: str) -> None:
        step = outcome.step
        assert step is not None

        def edit(flow: Flow) -> tuple[Flow, str]:
            if flow.find(step.id) != step:
                raise UsageError("The join was changed meanwhile.", remedy="Pair the row again.")
            return read_as(flow, step.id, found.number, found.value, meant), step.id

        said = f"Read {_short(found.value)} as {_short(meant)}"
        if self._session.apply(said, edit):
            self._session.said.emit(
                f"“{_short(found.value)}” is read as “{_short(meant)}”. Ctrl+Z undoes it."
            )

    def _open(self, popup: Chooser | Entry) -> None:
        grid = self._grid
        top = int(grid.line_top(grid.current + 1))
        popup.open_under(grid.viewport(), at=QPoint(grid.column_left(grid.column), top))

    # --- another value ---

    def read_otherwise(self, field: Field | None) -> None:
        """Ask what the current value means. field: what it has become in the selected rows."""
        row, content = self._grid.current_row(), self._grid.content
        if row is None or content is None:
            self._session.said.emit("Move to a row first.")
            return
        _, own, cells = content.cell_at(*row, self._grid.column)
        text = as_text(cells.values)[0].as_py()
        if text is None:
            self._session.said.emit("There is no value in this cell: a blank is filled, with Ctrl+Alt+G.")
        elif field is None:
            self._session.said.emit(f"{own} does not come along: bring it first, then correct it.")
        elif field.type is not FieldType.TEXT:
            self._session.said.emit(f"{field.name} holds no text: read it as text first, then correct it.")
        else:
            entry = Entry(f"Read “{_short(text)}” in {field.name} as", text, self._grid)
            entry.entered.connect(lambda meant: self._correct(field.name, text, meant))
            self._open(entry)

    def _correct(self, name: str, read: str, meant: str) -> None:
        if read != meant:
            editing.correct_value(self._session, name, read, meant)


class _Shown:
    """The candidates as choices, each with what else is known of its row."""

    def __init__(self, found: Candidates, table: Table, link: LinkSettings) -> None:
        self._found, self._table = found, table
        named = {link.left, link.right}
        texts = [field.name for field in table.fields if field.type is FieldType.TEXT]
        self._beside = [field for field in texts if field not in named][:_OTHER_FIELDS]

    def choices(self, text: str) -> Sequence[Choice]:
        """Those whose value holds a text."""
        found = self._found
        places = found.holding(text.strip(), _MOST_LISTED)
        rows = found.first[np.array(places, dtype=np.int64)] if places else np.zeros(0, np.int64)
        beside = [shown_cells(cells) for cells in self._table.take(rows, self._beside)]
        made = []
        for n, place in enumerate(places):
            value = found.texts[place].as_py()
            known = [_short(column[n].text) for column in beside if column[n].text]
            alike = f"{found.likeness[place]:.0f} % alike"
            count = int(found.rows[place])
            said = [*known, f"{count:,} rows"] if count > 1 else known
            made.append(Choice(value, value, " · ".join([*said, alike])))
        return made


def _short(text: str) -> str:
    return visible(cut(text, _LONGEST))
