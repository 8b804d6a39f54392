"""What a flow came to where its tables are, beside what it came to here."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec
from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtGui import QGuiApplication, QKeyEvent
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.bench.panel import Panel
from keen_trellis.desktop.bench.panels import Opener
from keen_trellis.desktop.theme import theme
from keen_trellis.handbook import Chapter
from keen_trellis.handoff import report
from keen_trellis.handoff.running import KnotThere, Ran
from keen_trellis.handoff.whole import Done

_COUNTS = {
    "pairs": "pairs",
    "left_matched": "{left}, matched",
    "left_unmatched": "{left}, unmatched",
    "right_matched": "{right}, matched",
    "right_unmatched": "{right}, unmatched",
    "left_passed_over": "{left}, passed over",
    "right_passed_over": "{right}, passed over",
    "result_rows": "rows of the result",
}
_MAYBE = ("left_passed_over", "right_passed_over")


class Line(msgspec.Struct, frozen=True):
    """One line: what, there, here, and more; is_head: of several below it."""

    what: str
    there: str = ""
    here: str = ""
    more: str = ""
    is_head: bool = False
    differs: bool = False


def lines_of(ran: Ran) -> Iterator[Line]:
    """The sources, knots and steps of a hand-off."""
    for knot in ran.knots:
        yield from _of_knot(knot)
    yield Line("Sources", is_head=True)
    for source in ran.sources:
        how = "read in place" if source.how == "in place" else "sent there"
        yield Line(source.name, f"{source.rows:,}", more="; ".join((how, *source.remarks)))
    yield Line("Steps", is_head=True)
    for step in ran.steps:
        yield Line(step.name, f"{step.rows:,}", more=f"{step.seconds:.2f} s")


def _of_knot(knot: KnotThere) -> Iterator[Line]:
    yield Line(knot.name, is_head=True)
    there = msgspec.structs.asdict(knot.there)
    here = None if knot.here is None else msgspec.structs.asdict(knot.here)
    for name, said in _COUNTS.items():
        if name in _MAYBE and not there[name] and not (here and here[name]):
            continue
        differs = here is not None and here[name] != there[name]
        own = "" if here is None else f"{here[name]:,}"
        what = said.replace("{left}", knot.left).replace("{right}", knot.right)
        yield Line(what, f"{there[name]:,}", own, "differs" if differs else "", differs=differs)


def _said(done: Done) -> list[str]:
    """What a hand-off came to as a whole, the most important first."""
    said = []
    if done.proof is not None:
        said += [done.proof.statement, *done.proof.restricted.remarks]
    if done.ran is not None:
        proven = "" if done.proof is not None else " It was not proven that this is the same as here."
        said.append(f"All rows were computed there.{proven}")
    said += [f"The new table {name} has {rows:,} rows." for name, rows in done.kept]
    said += [f"Wrote {entry.place}." for entry in done.written]
    return [*said, "Guards were not checked there."] if done.guarded else said


class HandedView(Panel):
    """prove_wanted, whole_wanted: that is to be done.  tables_wanted, fetch_wanted: the same, and the outputs
    are kept there or written here.  copied: the report was copied.
    """

    prove_wanted = Signal()
    whole_wanted = Signal()
    tables_wanted = Signal()
    fetch_wanted = Signal()
    copied = Signal()
    own_keys = (Qt.Key.Key_P, Qt.Key.Key_A, Qt.Key.Key_T, Qt.Key.Key_W, Qt.Key.Key_C)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Handed off", parent)
        self._report = ""
        self._runs = {
            Qt.Key.Key_P: self.prove_wanted.emit,
            Qt.Key.Key_A: self.whole_wanted.emit,
            Qt.Key.Key_T: self.tables_wanted.emit,
            Qt.Key.Key_W: self.fetch_wanted.emit,
            Qt.Key.Key_C: self.copy,
        }
        for key, text in (
            (Qt.Key.Key_P, "Prove"),
            (Qt.Key.Key_A, "Compute all"),
            (Qt.Key.Key_T, "Keep tables there…"),
            (Qt.Key.Key_W, "Write here"),
            (Qt.Key.Key_C, "Copy the report"),
        ):
            button = self.head.add_action(text, chr(key), self._runs[key])
        self.copy_all = button
        self._choices: list[Qt.Key] = []  # by row
        self.opened.connect(self._choose)

    def show_place(self, place: str) -> None:
        """Show that a place was chosen, and what can be asked of it."""
        self._report = ""
        self._choices = [Qt.Key.Key_P, Qt.Key.Key_A, Qt.Key.Key_T, Qt.Key.Key_W]
        self.copy_all.hide()
        lines = [
            ("Prove  P", "computes a part of the rows there and here, and compares them"),
            ("Compute all  A", "computes all rows there and counts; nothing is kept"),
            ("Keep tables there  T", "the same after a proof, and keeps the outputs as new tables there"),
            ("Write here  W", "the same after a proof, and writes the outputs here as the flow says"),
        ]
        said = "Tables there are read in place, files are sent as temporary tables; nothing there is changed."
        self.begin(f"{place}. {said}", ["", ""], len(lines))
        for row, (what, meaning) in enumerate(lines):
            self.put(row, 0, what)
            self.put(row, 1, meaning, colour=theme().soft)
        self.finish()

    def show_done(self, done: Done) -> None:
        """Show what it came to."""
        self._report = "\n".join(report.lines(done))
        self._choices = []
        self.copy_all.show()
        ran = done.ran or (done.proof.ran if done.proof is not None else None)
        said, lines = _said(done), list(lines_of(ran)) if ran is not None else []
        title = f"{done.place}, {done.began:%Y-%m-%d %H:%M} UTC"
        self.begin(title, ["", "There", "Here", ""], len(said) + len(lines), numbers=(1, 2))
        chosen = theme()
        is_apart = done.proof is not None and not done.proof.equal
        for row, text in enumerate(said):
            self.put(row, 0, text, bold=not row, colour=chosen.alarm if is_apart and not row else None)
            self.table.setSpan(row, 0, 1, 4)
        for row, line in enumerate(lines, len(said)):
            ground = chosen.band if line.is_head else None
            colour = chosen.alarm if line.differs else None
            what = line.what if line.is_head else f"   {line.what}"
            self.put(row, 0, what, bold=line.is_head, ground=ground)
            self.put(row, 1, line.there, number=True, colour=colour, ground=ground)
            self.put(row, 2, line.here, number=True, colour=colour, ground=ground)
            self.put(row, 3, line.more, colour=colour or chosen.soft, ground=ground)
        self.finish()

    def _choose(self, row: int) -> None:
        if 0 <= row < len(self._choices):
            self._runs[self._choices[row]]()

    def copy(self) -> None:
        """Put the report on the clipboard."""
        if self._report:
            QGuiApplication.clipboard().setText(self._report)
            self.copied.emit()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress and not event.modifiers():
            run = self._runs.get(Qt.Key(event.key()))
            if run is not None:
                run()
                return True
        return super().eventFilter(watched, event)


class HandedOpener(Opener[HandedView]):
    """Shows the hand-off under way. asked: what is to be done now."""

    chapter = Chapter.AGAIN
    asked = Signal(str)

    def made(self) -> HandedView:
        view = HandedView()
        view.prove_wanted.connect(lambda: self.asked.emit("prove"))
        view.whole_wanted.connect(lambda: self.asked.emit("whole"))
        view.tables_wanted.connect(lambda: self.asked.emit("tables"))
        view.fetch_wanted.connect(lambda: self.asked.emit("write"))
        view.copied.connect(lambda: self._session.said.emit("The report is on the clipboard."))
        return view

    def show_place(self, place: str) -> None:
        """Open it for a place."""
        self.view.show_place(place)
        self._panels.open(self)

    def show_done(self, done: Done) -> None:
        """Show what it came to, wherever the user is by now."""
        self.view.show_done(done)
        self._panels.open(self)

    def show(self) -> None:
        """Open it as it was last."""
        self._panels.open(self)
