"""A shared filter on the bench: every rail, by which field it is reached, and how many rows that leaves."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import msgspec
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from keen_trellis.core.filtering import Comparison
from keen_trellis.core.insight.distribution import Distribution, distribution
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.bench.panels import Opener, Panels
from keen_trellis.desktop.bench.spread import Pictured
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.graph import SharedFilter
from keen_trellis.flow.shared_filters import filter_said, ties
from keen_trellis.flow.spreading import bounds_of
from keen_trellis.flow.steps import KINDS
from keen_trellis.handbook import Chapter
from keen_trellis.session.filters import Reach, change, reaches, selected_filter, why_rows_stay
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session


class SlatView(Pictured):
    """wanted: the rail's source, and the tie's step or "", of the line that was entered."""

    wanted = Signal(str, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__("Rails that the shared filter reaches", parent)
        self.lines: list[Reach] = []
        self.head.add_action("Choose the rail’s field", "Enter", self.open_current)
        self.opened.connect(self._open)

    def show_reaches(self, shared: SharedFilter, found: Sequence[Reach], why: Sequence[str]) -> None:
        """Show what a filter does to every rail, and why rows stay where it does not reach them."""
        stood = self.table.currentRow()
        self.lines = list(found)
        title = f"{filter_said(shared)}."
        headings = ("Rail", "Field", "Rows", "Stay", "")
        self.begin(title, headings, len(self.lines) + len(why), numbers=(2, 3))
        for row, entry in enumerate(self.lines):
            said, colour = "", theme().ink
            if not entry.tie:
                said = "need not be reached" if entry.apart else "not reached: choose a field for it"
                colour = theme().soft if entry.apart else theme().alarm
            elif entry.left == 0:
                said, colour = "emptied by this filter", theme().alarm
            self.put(row, 0, entry.rail, bold=True)
            self.put(row, 1, entry.field or "none", colour=theme().ink if entry.field else theme().soft)
            self.put(row, 2, f"{entry.rows:,}" if entry.rows >= 0 else "", number=True)
            self.put(row, 3, f"{entry.left:,}" if entry.left >= 0 else "", number=True)
            self.put(row, 4, said, colour=colour)
        for row, text in enumerate(why, len(self.lines)):
            self.put(row, 0, "Blend", bold=True)
            for column in (1, 2, 3):
                self.put(row, column, "")
            self.put(row, 4, text, colour=theme().alarm)
        self.finish(max(min(stood, len(self.lines) - 1), 0))

    def _open(self, row: int) -> None:
        if 0 <= row < len(self.lines):
            self.wanted.emit(self.lines[row].source, self.lines[row].tie)


class SlatOpener(Opener[SlatView]):
    """Shows the selected shared filter. tie_wanted: the source of a rail that is to be tied, and its tie."""

    chapter = Chapter.SHARE

    tie_wanted = Signal(str, str)

    def __init__(self, session: Session, panels: Panels) -> None:
        super().__init__(session, panels)
        self._pictured: object = None  # what the picture was made of
        self._kind = FieldType.TEXT

    def made(self) -> SlatView:
        view = SlatView()
        view.wanted.connect(self.tie_wanted)
        view.bars.picked.connect(self._pick)
        view.bars.ranged.connect(self._choose_period)
        return view

    def show(self) -> None:
        """Show what the selected filter does to every rail."""
        if self._fill():
            self._panels.open(self, focus=False)

    def _fill(self) -> bool:
        session = self._session
        shared = selected_filter(session)
        if shared is None:
            return False
        why = [f"{session.flow.step(step).name}: {said}" for step, said in why_rows_stay(session, shared)]
        self.view.show_reaches(shared, reaches(session, shared), why)
        self._picture(shared)
        return True

    # --- the picture of its values ---

    def _picture(self, shared: SharedFilter) -> None:
        """Show the values of all rails that the filter reaches as bars, and which of them stay."""
        session = self._session
        tied = ties(session.flow, shared.id)
        told = tuple(
            (tie.id, outcome.inputs_told if (outcome := session.outcome(tie.id)) is not None else ())
            for tie in tied
        )
        if told == self._pictured:
            self._show_picture(shared, self.view.bars.shown)
            return

        def work(task: Task) -> tuple[FieldType, Distribution]:
            fields = [
                (session.runner.table(session.flow, tie.inputs[0], task), KINDS.settings(tie).of)
                for tie in tied
            ]
            kinds = {table.field(of).type for table, of in fields}
            cells = [table.column(of) for table, of in fields]
            found = distribution(
                shared.name, [(tie.name, of) for tie, of in zip(tied, cells, strict=True)], task
            )
            return kinds.pop() if len(kinds) == 1 else FieldType.TEXT, found

        def done(made: tuple[FieldType, Distribution]) -> None:
            now = selected_filter(session)
            if now is not None and now.id == shared.id:
                self._pictured, (self._kind, found) = told, made
                self._show_picture(now, _together(found))

        if tied:
            session.jobs.start(f"looking at the values of {shared.name}", work, done, lambda _: None)

    def _show_picture(self, shared: SharedFilter, found: Distribution) -> None:
        if not found.bars:
            return
        if not found.ordered:
            does = "Let it stay, or leave it out"
        elif self._kind in _BOUNDED:
            does = "Choose this period" if self._kind in _DATES else "Choose this range"
        else:
            does = ""
        led = ", or lead the mouse over several" if found.ordered and does else ""
        title = (
            f"Rows of all rails by {shared.name}; a click chooses{led}" if does else f"Rows by {shared.name}"
        )
        self.view.bars.show_spread(found, title, does=does, chosen=_in_force(shared, found, self._kind))

    def _pick(self, number: int) -> None:
        """Let a value stay or leave it out; of ranges choose one."""
        shared, bars = selected_filter(self._session), self.view.bars.shown
        if shared is None or not 0 <= number < len(bars.bars):
            return
        text = bars.bars[number].text
        if bars.ordered or text is None:
            self._choose_period(number, number)
            return
        is_list = shared.is_ == Comparison.ONE_OF.value
        values = shared.values if is_list else ()
        values = tuple(value for value in values if value != text) if text in values else (*values, text)
        change(
            self._session,
            shared.id,
            f"{shared.name} is {' or '.join(values) or 'anything'}",
            is_=Comparison.ONE_OF.value,
            values=values,
        )

    def _choose_period(self, first: int, last: int) -> None:
        shared, bars = selected_filter(self._session), self.view.bars.shown.bars
        bounds = bounds_of(self._kind, bars[first], bars[last])
        if shared is None or bounds is None:
            self._session.said.emit("Such values are chosen in the sentence: no bar ends at a whole number.")
            return
        said = f"{shared.name} is between {bounds[0]} and {bounds[1]}"
        change(self._session, shared.id, said, is_=Comparison.BETWEEN.value, values=bounds)

    def stays(self, outcome: Outcome | None) -> bool:
        del outcome
        return self._fill()


_DATES = (FieldType.DATE, FieldType.TIMESTAMP)
_BOUNDED = (FieldType.INTEGER, *_DATES)


def _together(found: Distribution) -> Distribution:
    """The rows of all rails in one series."""
    bars = tuple(msgspec.structs.replace(bar, counts=(sum(bar.counts),)) for bar in found.bars)
    return msgspec.structs.replace(
        found, series=("rows",), bars=bars, blanks=(sum(found.blanks),), others=(sum(found.others),)
    )


def _in_force(shared: SharedFilter, found: Distribution, kind: FieldType) -> Collection[int]:
    """The bars whose rows stay; none where the filter lets all of them through, or compares otherwise."""
    if shared.is_ == Comparison.ONE_OF.value:
        return {number for number, bar in enumerate(found.bars) if bar.text in shared.values}
    if shared.is_ != Comparison.BETWEEN.value or len(shared.values) != 2 or not found.ordered:
        return ()
    low, high = shared.values
    bounds = [bounds_of(kind, bar, bar) for bar in found.bars]
    if kind is FieldType.INTEGER:
        inside = [of is not None and int(low) <= int(of[0]) and int(of[1]) <= int(high) for of in bounds]
    else:  # dates in writing follow each other as dates do
        inside = [of is not None and low <= of[0] and of[1] <= high for of in bounds]
    return [number for number, stays in enumerate(inside) if stays]
