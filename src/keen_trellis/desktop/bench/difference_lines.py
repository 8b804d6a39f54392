"""What views of differences share: a line each, which leads to a step or shows rows."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import msgspec
from PySide6.QtCore import SignalInstance

from keen_trellis.core.insight.changes import TableChanges
from keen_trellis.core.table import IndexVector, Table
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.theme import theme


class Rows(msgspec.Struct, frozen=True):
    """Rows to be shown: some of a table's, and what they are."""

    text: str
    table: Table
    rows: IndexVector


class Line(msgspec.Struct, frozen=True):
    """One line of a view. step: where it leads.  rows: what it can show."""

    step: str
    name: str
    what: str
    text: str
    alarm: bool = False
    quiet: bool = False
    rows: Rows | None = None


def lines_of_rows(
    step: str,
    found: TableChanges,
    before: Table,
    after: Table,
    counted: Callable[[int], str],
    place: str = "",
) -> Iterator[Line]:
    """The rows that were added, are gone and changed, a line each.

    counted: so many of them, in words.  place: what is said of where they are, behind that.
    """
    fields = ", ".join(f"{name} in {count:,}" for name, count in found.by_field)
    for words, table, numbers in (
        ("added", after, found.added),
        ("gone", before, found.gone),
        ("changed", after, found.changed[1]),
    ):
        if len(numbers):
            said = f"{counted(len(numbers))} {words}"
            text = f"{said}: {fields}" if words == "changed" and fields else said
            yield Line(step, "", "", text, rows=Rows(f"{said}{place}", table, numbers))


def put_lines(panel: Panel, lines: Sequence[Line]) -> None:
    """Put lines into the three columns of a panel's table."""
    chosen = theme()
    for row, line in enumerate(lines):
        colour = chosen.alarm if line.alarm else chosen.soft if line.quiet else chosen.ink
        panel.put(row, 0, line.name, bold=bool(line.name), colour=chosen.soft if line.quiet else None)
        panel.put(row, 1, line.what, colour=chosen.soft)
        panel.put(row, 2, f"{line.text}{'   …' if line.rows is not None else ''}", colour=colour)


def open_line(
    lines: Sequence[Line], row: int, step_wanted: SignalInstance, rows_wanted: SignalInstance
) -> None:
    """Ask for the rows of a line, or for the step that it leads to."""
    if not 0 <= row < len(lines):
        return
    line = lines[row]
    if line.rows is not None:
        rows_wanted.emit(line.rows)
    elif line.step:
        step_wanted.emit(line.step)
