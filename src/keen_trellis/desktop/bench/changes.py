"""What changed after a refresh, on the bench: by source, by knot, by output, each with its rows."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from keen_trellis.core.insight.distribution import MOST_VALUES, Bar, Distribution
from keen_trellis.desktop.bench.bars import Style
from keen_trellis.desktop.bench.difference_lines import Line, Rows, lines_of_rows, open_line, put_lines
from keen_trellis.desktop.bench.panels import Opener, Panels
from keen_trellis.desktop.bench.spread import Pictured
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.comparison import Comparison, KnotChange, OutputChange, SourceChange
from keen_trellis.flow.report import EDITED, knot_words, output_words
from keen_trellis.flow.wording import counted
from keen_trellis.handbook import Chapter
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session


def change_rows(comparison: Comparison) -> list[Line]:
    """All lines, what is unchanged in one line each."""
    found: list[Line] = [Line("", "The flow", "flow", EDITED)] if comparison.edited else []
    for source in comparison.sources:
        found += _source_lines(source)
    for knot in comparison.knots:
        found += _knot_lines(knot)
    for output in comparison.outputs:
        found.append(_output_line(output))
    return found


def _source_lines(source: SourceChange) -> Iterator[Line]:
    step, name = source.step, source.name
    if source.error:
        yield Line(step, name, "source", source.error, alarm=True)
        return
    if source.old:
        text = f"could not be read; its rows are those from before. {source.old}"
        yield Line(step, name, "source", text, alarm=True)
        return
    if source.is_unchanged:
        rows = counted(source.after_rows or 0, name)
        yield Line(step, name, "source", f"unchanged, {rows}", quiet=True)
        return
    found = source.changes
    if found is None:
        before = "unknown before" if source.before_rows is None else f"{source.before_rows:,} before"
        yield Line(step, name, "source", f"{counted(source.after_rows or 0, name)}, {before}")
    else:
        by = (
            f"compared by {', '.join(found.key)}"
            if found.key
            else "compared as whole rows, since no field is a key"
        )
        yield Line(
            step, name, "source", f"{counted(found.rows_after, name)}, was {found.rows_before:,}, {by}"
        )
        assert source.before is not None and source.after is not None
        yield from lines_of_rows(step, found, source.before, source.after, lambda count: counted(count, name))
    for change in source.fields:
        yield Line(step, "", "", f"field {change}")


def _knot_lines(knot: KnotChange) -> Iterator[Line]:
    if knot.error:
        yield Line(knot.step, knot.name, "knot", knot.error, alarm=True)
        return
    if knot.is_unchanged:
        yield Line(knot.step, knot.name, "knot", "unchanged", quiet=True)
        return
    newly = [
        (name, entry) for name, entry in zip(knot.sides, knot.newly.values(), strict=False) if entry.rows
    ]
    words = knot_words(knot).split("; ")
    yield Line(knot.step, knot.name, "knot", "; ".join(words[len(newly) :]) or "other rows, the same counts")
    for name, entry in newly:
        said = f"{counted(entry.rows, name)} newly without a partner"
        yield Line(knot.step, "", "", said, alarm=True, rows=Rows(said, entry.table, entry.changes.added))


def _output_line(output: OutputChange) -> Line:
    text = "unchanged" if output.is_unchanged else output_words(output)
    return Line(output.step, output.name, "output", text, alarm=bool(output.error), quiet=output.is_unchanged)


def before_and_after(comparison: Comparison) -> Distribution:
    """Of each knot how many rows of its left table found no partner before, and find none now.

    Where there is no knot, the rows of each source.
    """
    bars = [
        Bar(knot.name, (knot.before.left_unmatched, knot.after.left_unmatched))
        for knot in comparison.knots
        if knot.before is not None and knot.after is not None
    ]
    what = "rows without a partner"
    if not bars:
        what = "rows"
        bars = [
            Bar(source.name, (source.before_rows, source.after_rows))
            for source in comparison.sources
            if source.before_rows is not None and source.after_rows is not None
        ]
    return Distribution(what, ("before", "now"), tuple(bars[:MOST_VALUES]), False, (0, 0), (0, 0))


class ChangesView(Pictured):
    """step_wanted: a line's step, to be selected.  rows_wanted: a line's rows, to be shown."""

    step_wanted = Signal(str)
    rows_wanted = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("What changed", parent)
        self.lines: list[Line] = []
        self.comparison: Comparison | None = None
        self.head.add_action("Show the rows, or the step", "Enter", self.open_current)
        self.opened.connect(self._open)

    def show_changes(self, comparison: Comparison, until: str = "") -> None:
        """Show what changed. until: the moment that it changed until, if that is not now."""
        self.comparison = comparison
        self.lines = change_rows(comparison)
        since = f" since {local_time(comparison.since)}" if comparison.since else ""
        if until:
            since = f" from {local_time(comparison.since)} to {local_time(until)}"
        nothing = comparison.is_unchanged
        title = f"Nothing changed{since}." if nothing else f"What changed{since}."
        self.begin(
            title,
            ("Step", "", "What changed"),
            len(self.lines),
        )
        put_lines(self, self.lines)
        both = before_and_after(comparison)
        title = f"{both.field.capitalize()}: before above the line, now below it"
        hues = (theme().hatch, theme().ink)
        self.bars.show_spread(both, title, style=Style.MIRRORED, hues=hues)
        self.bars.setVisible(bool(both.bars) and not nothing)
        first = next((n for n, line in enumerate(self.lines) if not line.quiet), 0)
        self.finish(first)

    def _open(self, row: int) -> None:
        open_line(self.lines, row, self.step_wanted, self.rows_wanted)


class ChangesOpener(Opener[ChangesView]):
    """Shows what the last refresh changed, or what changed since the flow was saved."""

    chapter = Chapter.REPORT

    def __init__(self, session: Session, panels: Panels) -> None:
        super().__init__(session, panels)
        session.refreshing.compared.connect(self.show)

    def made(self) -> ChangesView:
        view = ChangesView()
        view.step_wanted.connect(lambda step: self._panels.leave_for(Selection(step)))
        view.rows_wanted.connect(lambda rows: self._panels.rows_wanted.emit(rows, self.show))
        return view

    def show_runs(self, comparison: Comparison, until: str) -> None:
        """Show what changed between two runs."""
        self.view.show_changes(comparison, until)
        self._panels.open(self)

    def show(self) -> None:
        """Show what changed."""
        comparison = self._session.refreshing.comparison
        if comparison is None:
            self._session.said.emit("There is nothing to compare with yet: F5 refreshes the sources.")
            return
        if self.view.comparison is not comparison:
            self.view.show_changes(comparison)
        self._panels.open(self)


def local_time(moment: str) -> str:
    """A moment in UTC, as ISO 8601 writes it, in this machine's time."""
    return f"{dt.datetime.fromisoformat(moment).astimezone():%Y-%m-%d %H:%M}"
