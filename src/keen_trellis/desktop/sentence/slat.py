"""The sentences of a shared filter and of its ties: what must hold, which rails it reaches, and which not."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any

from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import UsageError
from keen_trellis.core.filtering import WORDS, Comparison, check_conditions
from keen_trellis.core.table import Field
from keen_trellis.desktop.marks import hue_of
from keen_trellis.desktop.sentence.choices import (
    OTHER_DAYS,
    comparisons_for,
    field_choices,
    period_choices,
)
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow import edits
from keen_trellis.flow.graph import SharedFilter
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.shared_filters import filter_said, ties
from keen_trellis.flow.steps.filter import ConditionSettings
from keen_trellis.flow.steps.shared_filter import TieSettings
from keen_trellis.flow.wording import counted
from keen_trellis.session import filters
from keen_trellis.session.filters import Reach, SharedValue, reach_said, reaches

_MOST_RAILS = 4
_VALUES_SHOWN = 3
_APART, _UNTIE = object(), object()
_OF_NOTHING = (Comparison.FILLED, Comparison.BLANK)
_TICKED = (Comparison.ONE_OF, Comparison.NONE_OF)


class SlatSentence(SentencePart):
    """Keep the rows in which [Region] [is] [North]. It leaves [2,179 of 8,352 loans]."""

    def shown(self, shared: SharedFilter) -> list[Item]:
        """The whole sentence of a slat."""
        how = Comparison(shared.is_)
        items: list[Item] = [
            Word("On every rail that it reaches, keep the rows in which"),
            Chip(shared.name, lambda _: self.ask_name(shared.id), "Name", strong=True),
            Chip(WORDS[how], partial(self._choose_comparison, shared), "Comparison"),
        ]
        if how not in _OF_NOTHING:
            joint = " and " if how is Comparison.BETWEEN else " or "
            text = joint.join(shared.values[:_VALUES_SHOWN]) or "anything: choose values"
            more = len(shared.values) - _VALUES_SHOWN
            text = f"{text} or {more} more" if more > 0 else text
            choose = partial(self.choose_values, shared.id)
            items.append(Chip(text, choose, "Values", doing=not shared.values))
        found = reaches(self.session, shared)
        reached = [entry for entry in found if entry.tie]
        items.append(Word(". It leaves" if reached else ". It reaches no rail yet:"))
        for number, entry in enumerate(reached[:_MOST_RAILS]):
            items += [Word("and" if number == len(reached) - 1 else ",")] if number else []
            items.append(self._rail_chip(shared, entry, reach_said(entry, shared)))
        if len(reached) > _MOST_RAILS:
            items.append(Word(f"and rows of {len(reached) - _MOST_RAILS} more rails"))
        missing = [entry for entry in found if not entry.tie and not entry.apart]
        if missing:
            items.append(Word("; it does not reach", alarm=True))
            for entry in missing[:_MOST_RAILS]:
                items.append(self._rail_chip(shared, entry, f"{entry.rail}: choose a field for it"))
        items.append(Word("."))
        why = filters.why_rows_stay(self.session, shared)
        return [*items, *(Word(f"{said[:1].upper()}{said[1:]}.", alarm=True) for _, said in why[:1])]

    def _rail_chip(self, shared: SharedFilter, entry: Reach, text: str) -> Chip:
        choose = partial(self.choose_tie, shared.id, entry.source, entry.tie)
        return Chip(
            text,
            choose,
            f"Rail {entry.rail}",
            hue=hue_of(self.session.flow, entry.source),
            doing=not entry.tie,
        )

    # --- edits ---

    def _now(self, filter_id: str) -> SharedFilter | None:
        return self.session.flow.shared_filter(filter_id)

    def ask_name(self, filter_id: str) -> None:
        """Ask for another name of a shared filter."""
        shared = self._now(filter_id)
        if shared is None:
            return

        def check(text: str) -> None:
            if not text.strip():
                raise UsageError("A filter needs a name.")
            if any(
                entry.name == text.strip() and entry.id != shared.id for entry in self.session.flow.filters
            ):
                raise UsageError(
                    f"There is a filter “{text.strip()}” already.", remedy="Choose another name."
                )

        entry = Entry("What is the filter called?", shared.name, self.pane, check=check)
        entry.entered.connect(
            lambda text: filters.change(self.session, filter_id, f"Rename {shared.name}", name=text.strip())
        )
        entry.open_under(self.pane.view)

    def _bound_fields(self, shared: SharedFilter) -> list[tuple[Field, str]]:
        """The fields by which it is tied, and the rail of each."""
        found = []
        for tie in ties(self.session.flow, shared.id):
            outcome = self.session.outcome(tie.id)
            of = self.settings(tie).of
            fields = outcome.inputs[0].fields if outcome is not None and outcome.inputs else ()
            found += [(field, tie.name) for field in fields if field.name == of]
        return found

    def _choose_comparison(self, shared: SharedFilter, anchor: QWidget) -> None:
        fields = [field for field, _ in self._bound_fields(shared)]
        choices = [Choice(how, f"{shared.name} {WORDS[how]}") for how in comparisons_for(fields)]

        def chosen(how: Comparison) -> None:
            if how.value == shared.is_:
                return
            keeps = how in _TICKED and Comparison(shared.is_) in _TICKED
            values = shared.values if keeps else ()
            if how in _OF_NOTHING or keeps:
                said = f"Keep where {shared.name} {WORDS[how]}"
                filters.change(self.session, shared.id, said, is_=how.value, values=values)
            else:
                self.choose_values(shared.id, anchor, how)

        chooser = Chooser(choices, self.pane, current=Comparison(shared.is_))
        self.pane.open_list(chooser, anchor, chosen=chosen)

    def choose_values(self, filter_id: str, anchor: QWidget, how: Comparison | None = None) -> None:
        """Let the values of a shared filter be chosen: from those of all rails, as periods, or typed."""
        shared = self._now(filter_id)
        if shared is None:
            return
        how = how or Comparison(shared.is_)
        if how in _TICKED:
            self._tick_values(shared, how)
        elif how is Comparison.PERIOD:
            self._choose_period(shared, anchor)
        else:
            self._type_values(shared, how, anchor)

    def _put(self, shared: SharedFilter, how: Comparison, values: Sequence[str]) -> None:
        changed = filter_said(SharedFilter(shared.id, shared.name, how.value, tuple(values)))
        filters.change(self.session, shared.id, changed, is_=how.value, values=tuple(values))

    def _tick_values(self, shared: SharedFilter, how: Comparison) -> None:
        session = self.session

        def show(found: list[SharedValue]) -> None:
            gone = [value for value in shared.values if value not in {entry.text for entry in found}]
            choices = [Choice(value, value, "in no row now", ticked=True) for value in gone]
            for entry in found:
                of = ", ".join(counted(rows, rail) for rail, rows in entry.rows)
                choices.append(Choice(entry.text, entry.text, of, ticked=entry.text in shared.values))
            chooser = Chooser(choices, self.pane, several=True, title=f"{shared.name} {WORDS[how]}")
            self.pane.open_list(
                chooser, self.pane.view, applied=lambda values: self._put(shared, how, values)
            )

        session.jobs.start(
            f"uniting the values of {shared.name}",
            lambda task: filters.values_of(session, shared, task),
            show,
            session.failed.emit,
        )

    def _choose_period(self, shared: SharedFilter, anchor: QWidget) -> None:
        def chosen(period: Any) -> None:
            if period is OTHER_DAYS:
                self._type_values(shared, Comparison.PERIOD, anchor)
            else:
                self._put(shared, Comparison.PERIOD, [period])

        current = shared.values[0] if shared.values else None
        self.pane.open_list(
            Chooser(period_choices(), self.pane, title=f"{shared.name} is in …", current=current),
            anchor,
            chosen=chosen,
        )

    def _type_values(self, shared: SharedFilter, how: Comparison, anchor: QWidget) -> None:
        between = how is Comparison.BETWEEN
        fields = self._bound_fields(shared)

        def read(text: str) -> tuple[str, ...]:
            return tuple(part.strip() for part in text.split(";" if between else "\n"))

        def check(text: str) -> None:
            for field, _ in fields:
                check_conditions([ConditionSettings(field.name, how.value, read(text)).condition], [field])

        hint = " (two values with a semicolon between)" if between else ""
        hint = " (as “last 90 days”)" if how is Comparison.PERIOD else hint
        now = shared.values if how.value == shared.is_ else ()
        entry = Entry(f"{shared.name} {WORDS[how]}{hint}", "; ".join(now), self.pane, check=check)
        entry.entered.connect(lambda text: self._put(shared, how, read(text)))
        entry.open_under(anchor)

    def choose_tie(self, filter_id: str, source: str, tie: str, anchor: QWidget) -> None:
        """Choose by which field a filter is tied to a rail, or that it is not."""
        session, shared = self.session, self._now(filter_id)
        if shared is None or session.flow.find(source) is None:
            return
        name = session.flow.step(source).name

        def show(shapes: dict[str, InputShape]) -> None:
            places = filters.fields_for(session, source, shapes)
            behind = {field.name: step for step, field in places}
            choices: list[Choice] = field_choices([field for _, field in places], None)
            if tie:
                choices.insert(0, Choice(_UNTIE, f"do not filter {name}"))
            else:
                apart = source in shared.apart
                text = "it should reach this rail after all" if apart else "it need not reach this rail"
                choices.append(Choice(_APART, text, "and this is no longer said"))
            title = f"Which field of {name} is {shared.name}?"
            self.pane.open_list(
                Chooser(choices, self.pane, title=title), anchor, chosen=lambda what: put(what, behind)
            )

        def put(what: Any, behind: dict[str, str]) -> None:
            if what is _UNTIE:
                session.apply(f"Untie {shared.name} from {name}", lambda flow: edits.remove_step(flow, tie))
            elif what is _APART:
                filters.set_apart(session, shared, source)
            elif tie:
                session.change_settings(
                    tie, TieSettings(filter=shared.id, of=what), f"Tie {shared.name} to {name} by {what}"
                )
            else:
                filters.tie_by(session, shared, source, what, behind[what])

        filters.with_shapes(session, show)
