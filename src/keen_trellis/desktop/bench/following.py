"""Following a value on the bench: its rows, what becomes of them at each step, and where they end."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from PySide6.QtCore import QPoint, Signal
from PySide6.QtWidgets import QWidget

from keen_trellis.core.insight.reason import rows_said
from keen_trellis.core.task import Task
from keen_trellis.core.values import shown_text
from keen_trellis.desktop.bench.grid import BenchGrid
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener, Panels
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.fates import How
from keen_trellis.flow.following import Followed, Way, follow
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.plain_text import cut
from keen_trellis.flow.tracing import Trace
from keen_trellis.handbook import Chapter
from keen_trellis.session.session import Session

_LONGEST = 24
_LOST = (How.DROPPED, How.UNMATCHED, How.PASSED_OVER, How.NO_FIELD)


class Line(msgspec.Struct, frozen=True):
    """One line of the view. goes_to: a row at a step; None where there is none to go to."""

    name: str
    what: str
    text: str
    goes_to: Trace | None
    alarm: bool = False
    bold: bool = False


def lines_of(found: Followed) -> list[Line]:
    """A value's ways, line by line."""
    lines: list[Line] = []
    for way in found.ways:
        start = Trace(way.step, way.name, ROWS, 0, "", int(way.numbers[0]))
        fields = f" in {', '.join(way.fields)}" if way.fields else ""
        lines.append(Line(way.name, f"{rows_said(way.rows)}{fields}", way.places, start, bold=True))
        lines += _stages(way)
        for end in way.ends:
            said = rows_said(end.rows) if end.rows else "not in it"
            goes_to = Trace(end.step, end.name, ROWS, 0, "")
            lines.append(Line(f"ends in {end.name}", said, end.said, goes_to, not end.rows, True))
    return lines


def _stages(way: Way) -> list[Line]:
    lines = []
    for stage in way.stages:
        first = int(stage.rows[0]) if stage.after else -1
        goes_to = Trace(stage.step, stage.name, ROWS, stage.depth, "", first)
        name, now = f"{'    ' * stage.depth}{stage.name}", f"{stage.after:,}"
        what = now if stage.after == stage.before else f"{now}, was {stage.before:,}"
        fates = stage.fates or (None,)
        for number, fate in enumerate(fates):
            text = fate.said if fate is not None else ""
            alarm = fate is not None and fate.how in _LOST
            lines.append(Line("" if number else name, "" if number else what, text, goes_to, alarm))
    return lines


def lit_of(found: Followed) -> dict[str, str]:
    """What the trellis shows at each step of the ways: how many rows there are of the value."""
    counts: dict[str, int] = {}
    for way in found.ways:
        counts[way.step] = counts.get(way.step, 0) + way.rows
        for stage in way.stages:
            counts[stage.step] = max(counts.get(stage.step, 0), stage.after)
    return {step: f"{count:,}" if count else "lost" for step, count in counts.items()}


class FollowView(Panel):
    """wanted: a row at a step, to be gone to.  ask_wanted: another value."""

    wanted = Signal(object)
    ask_wanted = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Following a value", parent)
        self.lines: list[Line] = []
        self.head.add_action("Go to the row at this step", "Enter", self.open_current)
        self.head.add_action("Follow another value…", "Ctrl+Shift+F4", self.ask_wanted.emit)
        self.opened.connect(self._open)

    def show_followed(self, found: Followed) -> None:
        """Show the ways of a value."""
        self.lines = lines_of(found)
        said = f"“{found.value}”"
        if found.loosely:
            said += " is nowhere as it is written; this is the same apart from case and outer spaces"
        elif found.made:
            said += " is in no source; it is made in the flow"
        self.begin(f"{said}.", ("Step", "Rows", "What becomes of them"), len(self.lines))
        chosen = theme()
        for row, line in enumerate(self.lines):
            self.put(row, 0, line.name, bold=line.bold)
            self.put(row, 1, line.what, colour=chosen.ink if line.bold else chosen.soft)
            self.put(row, 2, line.text, colour=chosen.alarm if line.alarm else chosen.ink)
        self.finish(0)

    def _open(self, row: int) -> None:
        if 0 <= row < len(self.lines) and self.lines[row].goes_to is not None:
            self.wanted.emit(self.lines[row].goes_to)


class FollowOpener(Opener[FollowView]):
    """Follows a value that is typed, or that of the current cell, and lights its way in the trellis."""

    chapter = Chapter.FOLLOW

    def __init__(
        self, session: Session, panels: Panels, grid: BenchGrid, go_to: Callable[[Trace], None]
    ) -> None:
        super().__init__(session, panels)
        self._grid, self._go_to = grid, go_to

    def made(self) -> FollowView:
        view = FollowView()
        view.wanted.connect(self._go_to)
        view.ask_wanted.connect(self.ask)
        view.closed.connect(lambda: self._session.light({}))
        return view

    def show(self) -> None:
        """Follow the value of the current cell; ask for one where there is none."""
        value = self.value_here()
        if value:
            self.follow(value)
        else:
            self.ask()

    def value_here(self) -> str:
        """The value of the current cell, "" where it has none."""
        row, content = self._grid.current_row(), self._grid.content
        if row is None or content is None or not content.columns or not self._grid.isVisible():
            return ""
        cells = content.cell_at(*row, self._grid.column)[2]
        found: str | None = shown_text(cells.values)[0].as_py()
        return found or ""

    def said(self) -> str:
        """What following would do now."""
        value = self.value_here()
        return f"Follow “{cut(value, _LONGEST)}”" if value else "Follow a value…"

    def ask(self) -> None:
        """Ask for a value, and follow it."""
        panel = self._grid
        entry = Entry(
            "Follow which value? Every row of the sources that holds it is found",
            self.value_here(),
            panel,
            hint="Enter to follow it",
        )
        entry.entered.connect(self.follow)
        entry.open_under(panel, at=QPoint(240, 4))

    def follow(self, value: str) -> None:
        """Find the ways of a value, show them and light them."""
        session = self._session
        flow, runner = session.flow, session.runner

        def work(task: Task) -> Followed:
            return follow(runner, flow, value, task)

        def done(found: Followed) -> None:
            if flow is not session.flow:
                return
            if not found.ways:
                session.said.emit(f"“{value}” is in no row of any source or step.")
                return
            self.view.show_followed(found)
            self._panels.open(self)
            session.light(lit_of(found))

        session.jobs.start(f"following “{value}”", work, done, session.failed.emit)
