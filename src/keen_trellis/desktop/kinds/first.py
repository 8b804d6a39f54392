"""The sentence of a first step: how many rows stay, of which groups, and in which order they come first."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import UsageError
from keen_trellis.desktop.kinds.order_keys import choose_groups
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.choices import field_choices
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.part import RailSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.first import FirstKind, FirstSettings
from keen_trellis.flow.steps.sort import SortKeySettings
from keen_trellis.flow.wording import listed, rows_called

_AS_THEY_STAND = object()
_WAYS = {True: "largest first", False: "least first"}
_TIES = {False: "no more than that", True: "and those equal to the last"}


class FirstSentence(RailSentence):
    """Keep the first [10] loans of each [Venue] by [Agreed value], [largest first], [no more than that]."""

    def clauses(self, step: Step, settings: FirstSettings, shape: InputShape) -> Sequence[Item]:
        items: list[Item] = [
            Word("Keep the first"),
            Chip(f"{settings.count:,}", partial(self._ask_count, step), "Count"),
            Word(f"{rows_called(shape.name)[1]} of"),
            Chip(
                f"each {listed(list(settings.each))}" if settings.each else "all",
                partial(self._choose_groups, step, shape),
                "Groups",
            ),
            Word("by"),
        ]
        for number, key in enumerate(settings.by):
            items += [Word("then by")] if number else []
            items += [
                Chip(key.of, partial(self._choose_key, step, number, shape), "Key"),
                Chip(_WAYS[key.descending], partial(self._turn, step, number), "Direction"),
            ]
        add = partial(self._choose_key, step, len(settings.by), shape)
        items.append(Chip("then by …" if settings.by else "the order they are in", add, "Another key"))
        if settings.by:
            choices = [Choice(ties, words) for ties, words in _TIES.items()]
            ask = partial(self._offer_ties, step, choices)
            items += [Word(","), Chip(_TIES[settings.with_ties], ask, "Ties")]
        return [*items, Word(".")]

    def begin(self, step: Step, shape: InputShape) -> None:
        self._choose_key(step, 0, shape, self.pane.view)

    def _offer_ties(self, step: Step, choices: Sequence[Choice], anchor: QWidget) -> None:
        self.offer(step, anchor, "with_ties", choices, lambda ties: f"Keep {_TIES[ties]}")

    def _ask_count(self, step: Step, anchor: QWidget) -> None:
        entry = Entry("How many rows stay?", str(self.settings(step).count), self.pane, check=read_count)
        entry.entered.connect(
            lambda text: self.change(step, f"Keep the first {read_count(text):,}", count=read_count(text))
        )
        entry.open_under(anchor)

    def _choose_groups(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        def apply(chosen: list[str]) -> None:
            said = f"Keep the first of each {listed(chosen)}" if chosen else "Keep the first of all rows"
            self.change(step, said, each=tuple(chosen))

        title = "So many rows of each … ; of all rows if none is chosen"
        choose_groups(self.pane, shape, self.settings(step).each, title, apply, anchor)

    def _choose_key(self, step: Step, number: int, shape: InputShape, anchor: QWidget) -> None:
        keys = list(self.settings(step).by)
        choices = field_choices(shape.fields, None)
        choices.insert(
            0, Choice(_AS_THEY_STAND, "not by this" if number < len(keys) else "in their present order")
        )

        def chosen(of: Any) -> None:
            if of is _AS_THEY_STAND:
                self._set(step, keys[:number] + keys[number + 1 :])
            elif number < len(keys):
                self._set(step, [*keys[:number], SortKeySettings(of, True), *keys[number + 1 :]])
            else:
                self._set(step, [*keys, SortKeySettings(of, True)])

        chooser = Chooser(
            choices, self.pane, title=f"Which {rows_called(shape.name)[1]} come first: by what?"
        )
        self.pane.open_list(chooser, anchor, chosen=chosen)

    def _turn(self, step: Step, number: int, _: QWidget) -> None:
        keys = list(self.settings(step).by)
        keys[number] = msgspec.structs.replace(keys[number], descending=not keys[number].descending)
        self._set(step, keys)

    def _set(self, step: Step, keys: Sequence[SortKeySettings]) -> None:
        said = (
            f"Keep the first by {listed([key.of for key in keys])}"
            if keys
            else "Keep the first rows as they are"
        )
        with_ties = self.settings(step).with_ties and bool(keys)
        self.change(step, said, by=tuple(keys), with_ties=with_ties)


def read_count(text: str) -> int:
    """How many rows are asked for; UsageError unless that is a whole number from 1."""
    plain = text.replace(",", "").replace(" ", "").strip()
    if not plain.isascii() or not plain.isdigit() or not 0 < len(plain) < 16 or not int(plain):
        raise UsageError(f"“{text.strip()}” is not a whole number from 1.", remedy="Type one, as 10.")
    return int(plain)


VIEW = KindView(
    FirstKind.name,
    FirstSentence,
    command=RailCommand(FirstSettings(), "Keep the first rows", "Keep the f&irst rows", "Q"),
)
