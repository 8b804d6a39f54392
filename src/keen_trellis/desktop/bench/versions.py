"""Two versions of a flow compared on the bench: what an edit changed, and what a file differs in."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from keen_trellis.core.insight.reason import rows_said
from keen_trellis.core.task import Task
from keen_trellis.desktop.bench.difference_lines import Line, lines_of_rows, open_line, put_lines
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener, Panels
from keen_trellis.flow.file_format import load
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.versions import CHANGED, GONE, NEW, Differences, EndDifference, Version, differences
from keen_trellis.handbook import Chapter
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session

_HOW = {NEW: "new", GONE: "gone", CHANGED: "changed"}
_END = {NEW: "only in the later version", GONE: "only in the earlier version"}


def lines_of(found: Differences) -> list[Line]:
    """All differences, line by line."""
    lines: list[Line] = []
    for step in found.steps:
        said = step.said or ("",)
        for number, sentence in enumerate(said):
            first = not number
            lines.append(
                Line(step.step, step.name if first else "", _HOW[step.how] if first else "", sentence)
            )
    lines += [Line("", "", "filter", sentence) for sentence in found.filters]
    if not lines:
        lines.append(Line("", "The steps", "", "say the same", quiet=True))
    for end in found.ends:
        lines += _end(end)
    return lines


def _end(end: EndDifference) -> Iterator[Line]:
    """What comes out at one end otherwise than before."""
    if end.error or end.changes is None:
        yield Line(end.step, end.name, "rows", end.error or _END[end.how], alarm=bool(end.error))
        return
    found = end.changes
    if not found:
        yield Line(end.step, end.name, "rows", f"the same {rows_said(found.rows_after)}", quiet=True)
        return
    by = f"compared by {', '.join(found.key)}" if found.key else "compared as whole rows"
    yield Line(end.step, end.name, "rows", f"{rows_said(found.rows_after)}, was {found.rows_before:,}, {by}")
    assert end.before is not None and end.after is not None
    yield from lines_of_rows(end.step, found, end.before, end.after, rows_said, f" in {end.name}")
    for change in found.fields:
        yield Line(end.step, "", "", f"field {change}")


class VersionsView(Panel):
    """step_wanted: a line's step, to be selected.  rows_wanted: a line's rows, to be shown."""

    step_wanted = Signal(str)
    rows_wanted = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Two versions", parent)
        self.lines: list[Line] = []
        self.head.add_action("Show the rows, or the step", "Enter", self.open_current)
        self.opened.connect(self._open)

    def show_differences(self, found: Differences, title: str) -> None:
        """Show what two versions differ in."""
        self.lines = lines_of(found)
        self.begin(title, ("Step", "", "What is different"), len(self.lines))
        put_lines(self, self.lines)
        self.finish(0)

    def _open(self, row: int) -> None:
        open_line(self.lines, row, self.step_wanted, self.rows_wanted)


class VersionsOpener(Opener[VersionsView]):
    """Compares the open flow with another version of it."""

    chapter = Chapter.RUNS

    def made(self) -> VersionsView:
        view = VersionsView()
        view.step_wanted.connect(self._select)
        view.rows_wanted.connect(lambda rows: self._panels.rows_wanted.emit(rows, self.show))
        return view

    def _select(self, step: str) -> None:
        if self._session.flow.find(step) is not None:
            self._panels.leave_for(Selection(step))
        else:
            self._session.said.emit("The step is not in the flow as it is now.")

    def show(self) -> None:
        """Show again what was compared last."""
        self._panels.open(self)

    def compare_with(self, path: Path) -> None:
        """Compare a file, as the earlier version, with the flow as it is now."""
        session = self._session

        def work(task: Task) -> Differences:
            earlier = Version(load(path, KINDS), session.runner, path.parent.absolute())
            return differences(earlier, self._now(session.flow), task=task)

        self._show(work, f"What is different from {path.name}.", f"comparing with {path.name}")

    def compare_edit(self, name: str, before: Flow, after: Flow) -> None:
        """Show what an edit changed."""

        def work(task: Task) -> Differences:
            return differences(self._now(before), self._now(after), task=task)

        self._show(work, f"What “{name}” changed.", "comparing before and after the edit")

    def _now(self, flow: Flow) -> Version:
        return Version(flow, self._session.runner, self._session.folder.absolute())

    def _show(self, work: Callable[[Task], Differences], title: str, what: str) -> None:
        def done(found: Differences) -> None:
            self.view.show_differences(found, title)
            self._panels.open(self)

        self._session.jobs.start(what, work, done, self._session.failed.emit)


class EditsView(Panel):
    """wanted: the number of an edit, from 0, the latest first."""

    wanted = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("The edits", parent)
        self.head.add_action("What did this edit change?", "Enter", self.open_current)
        self.opened.connect(self.wanted)


class EditsOpener(Opener[EditsView]):
    """Lists the edits that can be undone; of each it can be asked what it changed."""

    chapter = Chapter.RUNS

    def __init__(self, session: Session, panels: Panels, versions: VersionsOpener) -> None:
        super().__init__(session, panels)
        self._versions = versions

    def made(self) -> EditsView:
        view = EditsView()
        view.wanted.connect(self._ask)
        return view

    def show(self) -> None:
        """List the edits, the latest first."""
        edits = self._session.history.edits
        if not edits:
            self._session.said.emit("No edit was made since the flow was opened.")
            return
        many = "1 edit" if len(edits) == 1 else f"{len(edits):,} edits"
        self.view.begin(f"{many}, the latest first: Ctrl+Z takes that one back.", ("Edit",), len(edits))
        for row, (name, _, _) in enumerate(edits):
            self.view.put(row, 0, name)
        self.view.finish(0)
        self._panels.open(self)

    def _ask(self, number: int) -> None:
        edits = self._session.history.edits
        if 0 <= number < len(edits):
            self._versions.compare_edit(*edits[number])
