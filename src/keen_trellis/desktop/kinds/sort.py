"""The sentence of a sort step: by which fields, in which direction."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.choices import field_choices
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.part import RailSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.sort import SortKeySettings, SortKind, SortSettings
from keen_trellis.session.outcome import Outcome

_REMOVE = object()
_WAYS = {
    (False, False): "least first, blanks last",
    (True, False): "largest first, blanks last",
    (False, True): "blanks first, then the least",
    (True, True): "blanks first, then the maximum",
}


class SortSentence(RailSentence):
    """Sort Loans by [Venue] [least first], then by [Out date] [largest first], then …."""

    def clauses(self, step: Step, settings: SortSettings, shape: InputShape) -> Sequence[Item]:
        items: list[Item] = [Word(f"Sort {shape.name} by")]
        for number, key in enumerate(settings.keys):
            items += [Word("then by")] if number else []
            way = _WAYS[key.descending, key.blanks_first]
            items += [
                Chip(key.of, partial(self._choose_field, step, number, shape), "Key"),
                Chip(way, partial(self._choose_way, step, number), "Direction"),
            ]
        add = partial(self._choose_field, step, len(settings.keys), shape)
        more = "then by …" if settings.keys else "choose a field"
        return [*items, Chip(more, add, "Another key", doing=not settings.keys)]

    def begin(self, step: Step, shape: InputShape) -> None:
        self._choose_field(step, 0, shape, self.pane.view)

    def begin_about(self, step: Step, shape: InputShape, name: str) -> None:
        self._set(step, [SortKeySettings(name)])

    def came_out(self, outcome: Outcome) -> str:
        assert outcome.result is not None
        return f"{outcome.result.rows.rows:,} rows."

    def _choose_field(self, step: Step, number: int, shape: InputShape, anchor: QWidget) -> None:
        keys = list(self.settings(step).keys)
        choices = field_choices(shape.fields, None)
        if number < len(keys):
            choices.append(Choice(_REMOVE, "do not sort by this"))

        def chosen(name: Any) -> None:
            if name is _REMOVE:
                self._set(step, keys[:number] + keys[number + 1 :])
            elif number < len(keys):
                self._set(step, [*keys[:number], SortKeySettings(name), *keys[number + 1 :]])
            else:
                self._set(step, [*keys, SortKeySettings(name)])

        chooser = Chooser(choices, self.pane, title=f"Sort {shape.name} by which field?")
        self.pane.open_list(chooser, anchor, chosen=chosen)

    def _choose_way(self, step: Step, number: int, anchor: QWidget) -> None:
        keys = list(self.settings(step).keys)
        choices = [Choice(way, words) for way, words in _WAYS.items()]

        def chosen(way: tuple[bool, bool]) -> None:
            keys[number] = msgspec.structs.replace(keys[number], descending=way[0], blanks_first=way[1])
            self._set(step, keys)

        current = (keys[number].descending, keys[number].blanks_first)
        self.pane.open_list(Chooser(choices, self.pane, current=current), anchor, chosen=chosen)

    def _set(self, step: Step, keys: Sequence[SortKeySettings]) -> None:
        self.change(step, f"Sort by {', '.join(key.of for key in keys) or 'nothing'}", keys=tuple(keys))


VIEW = KindView(
    SortKind.name,
    SortSentence,
    command=RailCommand(SortSettings(), "Sort rows", "&Sort the rows", "S", "Sort the rows by it"),
)
