"""The runs of the flow on the bench: curves of what they came to, a line each, and two of them compared."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import QAbstractItemView, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from keen_trellis import ink
from keen_trellis.core.errors import FlowFileError
from keen_trellis.core.insight.proposal import percent
from keen_trellis.core.task import Task
from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener
from keen_trellis.desktop.theme import DARK, theme
from keen_trellis.flow import run_log
from keen_trellis.flow.analysis.history import between
from keen_trellis.flow.comparison import Comparison
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.run_values import values_said
from keen_trellis.flow.runs import Run, in_flow_order, names_of, share_of
from keen_trellis.flow.steps import KINDS
from keen_trellis.handbook import Chapter
from keen_trellis.outputs.report import charts
from keen_trellis.outputs.report.charts import Curve, Drawn, Picture

MOST_SHOWN = 60
_REASONS = 3
_BY = {"run": "run", "output": "written", "refresh": "refresh"}
_CHART = 300  # pixels


class Shown(msgspec.Struct, frozen=True):
    """What the view shows. knots: those of the runs, by their names; of one alone if that is selected."""

    runs: tuple[Run, ...]
    knots: dict[str, str]
    pictures: tuple[Picture, ...]


def curves_of(runs: Sequence[Run], knots: dict[str, str]) -> Iterator[tuple[str, list[Curve]]]:
    """The curves, each group with its title. knots: the names of those that are shown, by their steps."""
    if knots:
        yield (
            "Share of rows matched",
            [Curve(name, [share_of(run, step) for run in runs], True) for step, name in knots.items()],
        )
    yield "Rows without a partner, by reason", _by_reason(runs, knots)
    title = "Rows in the result" if len(knots) == 1 else "Rows of the outputs"
    yield title, [Curve("rows", [_rows_of(run, knots) for run in runs])]
    yield "Seconds", [Curve("seconds", [run.seconds for run in runs])]


def _rows_of(run: Run, knots: dict[str, str]) -> int | None:
    """The rows of the result of the one knot that is shown; of several knots, those of all outputs."""
    if len(knots) == 1:
        (step,) = knots
        return run.knots[step].result_rows if step in run.knots else None
    return sum(run.outputs.values()) if run.outputs else None


def _by_reason(runs: Sequence[Run], knots: dict[str, str]) -> list[Curve]:
    """The unmatched left rows of some knots, by the commonest reasons; all together where none is known."""
    counted: list[Counter[str] | None] = []
    for run in runs:
        found: Counter[str] = Counter()
        for step in knots:
            for kind, rows in run.reasons.get(step, {}).items():
                if kind.startswith("left "):
                    found[kind.removeprefix("left ").replace("-", " ")] += rows
        counted.append(found if any(step in run.reasons for step in knots) else None)
    most: Counter[str] = Counter()
    for entry in counted:
        most.update(entry or {})
    kinds = [kind for kind, _ in most.most_common(_REASONS)]
    if not kinds:
        whole = [sum(run.knots[step].left_unmatched for step in knots if step in run.knots) for run in runs]
        return [Curve("all reasons", whole)]
    return [Curve(kind, [entry[kind] if entry is not None else None for entry in counted]) for kind in kinds]


class RunsView(Panel):
    """compare_wanted: two runs, the earlier one first."""

    compare_wanted = Signal(object, object)
    log_wanted = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("The runs", parent)
        self.runs: list[Run] = []  # as in the table, the latest first
        self.head.add_action("Compare two runs", "Enter", self.open_current)
        self.pictures = QWidget()
        row = QHBoxLayout(self.pictures)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        layout = self.layout()
        assert isinstance(layout, QVBoxLayout)
        layout.insertWidget(1, self.pictures)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.opened.connect(self._compare)

    def show_runs(self, shown: Shown, count: int) -> None:
        """Show the runs of a flow. count: how many are remembered."""
        self.runs = list(reversed(shown.runs))
        remembered = "1 run is" if count == 1 else f"{count:,} runs are"
        last = f", the last {len(self.runs)} of which are shown" if count > len(self.runs) else ""
        title = f"{remembered} remembered{last}. Select one to compare it with the latest, or two with Ctrl."
        headings = ["Run", "By", "Seconds", "Guards"]
        for name in shown.knots.values():
            headings += [f"{name}: matched", "without a partner"]
        headings += ["Rows", ""]
        numbers = [2, *range(4, len(headings) - 1)]
        self.begin(title, headings, len(self.runs), numbers=numbers)
        for row, run in enumerate(self.runs):
            self._put_run(row, run, shown.knots)
        self._draw(shown.pictures)
        self.finish(0)

    def _put_run(self, row: int, run: Run, knots: dict[str, str]) -> None:
        chosen = theme()
        self.put(row, 0, run.when, bold=not row)
        self.put(row, 1, _BY.get(run.by, run.by), colour=chosen.soft)
        self.put(row, 2, f"{run.seconds:,.1f}", number=True)
        guards = "" if not run.guards else "all hold" if not run.broken else f"{run.broken:,} broken"
        self.put(row, 3, guards, colour=chosen.alarm if run.broken else chosen.soft)
        column = 4
        for step in knots:
            share, counts = share_of(run, step), run.knots.get(step)
            self.put(row, column, "" if share is None else percent(share), number=True)
            unmatched = "" if counts is None else f"{counts.left_unmatched:,}"
            self.put(row, column + 1, unmatched, number=True)
            column += 2
        rows = _rows_of(run, knots)
        self.put(row, column, "" if rows is None else f"{rows:,}", number=True)
        before = self.runs[row + 1] if row + 1 < len(self.runs) else None
        edited = before is not None and before.flow != run.flow
        said = [values_said(run.values), "the flow was edited" if edited else ""]
        self.put(row, column + 1, "; ".join(filter(None, said)), colour=chosen.soft)

    def _draw(self, pictures: Sequence[Picture]) -> None:
        row = self.pictures.layout()
        assert row is not None
        while (item := row.takeAt(0)) is not None:
            old = item.widget()
            if old is not None:
                old.deleteLater()
        for picture in pictures:
            label = QLabel()
            image = QImage()
            image.loadFromData(picture.content)
            pixmap = QPixmap.fromImage(image)
            pixmap.setDevicePixelRatio(max(image.width() / max(picture.width, 1), 1.0))
            label.setPixmap(pixmap)
            label.setAlignment(Qt.AlignmentFlag.AlignLeft)
            label.setAccessibleName(picture.alt)
            row.addWidget(label)
        self.pictures.setVisible(bool(pictures))

    def _compare(self, _: int) -> None:
        rows = sorted({index.row() for index in self.table.selectedIndexes()}, reverse=True)
        if len(rows) == 1:  # with the latest; the latest one with that before it
            rows = [rows[0] or 1, 0]
        if len(rows) >= 2 and rows[0] < len(self.runs):
            self.compare_wanted.emit(self.runs[rows[0]], self.runs[rows[-1]])


class RunsOpener(Opener[RunsView]):
    """Shows the runs that the flow's log remembers; of a knot alone if one is selected.

    compared: what changed between two runs that were picked.
    """

    chapter = Chapter.RUNS
    compared = Signal(object, str)

    def made(self) -> RunsView:
        view = RunsView()
        view.compare_wanted.connect(self.compare)
        return view

    def show(self) -> None:
        """Read the log, draw its curves and show both; or say why there are none."""
        session = self._session
        if session.path is None:
            session.said.emit("The flow has no file yet, and so no log of runs: save it first.")
            return
        try:
            runs = run_log.read(session.path).runs
        except FlowFileError as error:
            session.failed.emit(error)
            return
        if not runs:
            keeps = session.flow.keeps_log
            why = "it was not run, refreshed or written yet" if keeps else "it keeps none"
            session.said.emit(f"No run of this flow is remembered: {why}.")
            return
        latest, flow, selected = runs[-MOST_SHOWN:], session.flow, session.selection.step
        knots = _knots(latest, flow, selected)
        dark = theme() is DARK
        dots = round(96 * self._panels_ratio())

        def work(task: Task) -> Shown:
            drawn = Drawn(charts.PNG, _CHART, ink.DARK if dark else ink.LIGHT, small=True, dots=dots)
            pictures: list[Picture] = []
            for title, curves in curves_of(latest, knots) if len(latest) > 1 else ():
                task.checkpoint(len(pictures), 4, "drawing the curves")
                pictures.append(charts.over_runs(latest, curves, title, drawn))
            return Shown(latest, knots, tuple(pictures))

        def done(shown: Shown) -> None:
            if flow is session.flow:
                self.view.show_runs(shown, len(runs))
                self._panels.open(self)

        session.jobs.start("drawing the runs", work, done, session.failed.emit)

    def _panels_ratio(self) -> float:
        return self.view.devicePixelRatioF()

    def compare(self, one: Run, other: Run) -> None:
        """Find out what changed from one run to another, and show it."""
        session = self._session
        flow, library = session.flow, session.library

        def work(task: Task) -> Comparison:
            return between(flow, one, other, lambda last: library.before(flow, KINDS, last), task)

        def done(found: Comparison) -> None:
            self.compared.emit(found, other.taken)

        session.jobs.start("comparing two runs", work, done, session.failed.emit)


def _knots(runs: Sequence[Run], flow: Flow, selected: str) -> dict[str, str]:
    """The knots of some runs by their steps, in the order of the flow; only the selected one if it is one."""
    names = names_of(runs, flow)
    found = {step for run in runs for step in run.knots}
    if selected in found:
        found = {selected}
    return {step: names.get(step, step) for step in in_flow_order(found, flow)}
