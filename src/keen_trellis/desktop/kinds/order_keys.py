"""The keys of an order, and the groups within which it holds, as parts of a sentence."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.sentence.choices import field_choices
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.sort import SortKeySettings

_REMOVE = object()
_WAYS = {
    (False, False): "least first, blanks last",
    (True, False): "largest first, blanks last",
    (False, True): "blanks first, then the least",
    (True, True): "blanks first, then the maximum",
}


class OrderEditor(msgspec.Struct, frozen=True):
    """Edits the keys of an order.

    shape: of the table that is ordered.  title: what is asked for a key.  now: the keys as they are.
    put: makes them others.
    """

    pane: SentenceHost
    shape: InputShape
    title: str
    now: Callable[[], Sequence[SortKeySettings]]
    put: Callable[[Sequence[SortKeySettings]], None]

    def items(self, none: str, *, doing: bool = False) -> list[Item]:
        """[Venue] [least first], then by [Out date] [largest first], then …. none: what is said without keys,
        doing: which then must be chosen.
        """
        items: list[Item] = []
        for number, key in enumerate(self.now()):
            items += [Word("then by")] if number else []
            items += [
                Chip(key.of, partial(self.choose_field, number), "Key"),
                Chip(_WAYS[key.descending, key.blanks_first], partial(self._choose_way, number), "Direction"),
            ]
        more = "then by …" if items else none
        add = partial(self.choose_field, len(self.now()))
        return [*items, Chip(more, add, "Another key", doing=doing and not items)]

    def choose_field(self, number: int, anchor: QWidget) -> None:
        """Let the field of a key be chosen; a number behind the last is another key."""
        keys = list(self.now())
        choices = field_choices(self.shape.fields, None)
        if number < len(keys):
            choices.append(Choice(_REMOVE, "do not sort by this"))

        def chosen(of: Any) -> None:
            keys[number : number + 1] = [] if of is _REMOVE else [SortKeySettings(of)]
            self.put(keys)

        self.pane.open_list(Chooser(choices, self.pane, title=self.title), anchor, chosen=chosen)

    def _choose_way(self, number: int, anchor: QWidget) -> None:
        keys = list(self.now())
        choices = [Choice(way, words) for way, words in _WAYS.items()]

        def chosen(way: tuple[bool, bool]) -> None:
            keys[number] = msgspec.structs.replace(keys[number], descending=way[0], blanks_first=way[1])
            self.put(keys)

        current = (keys[number].descending, keys[number].blanks_first)
        self.pane.open_list(Chooser(choices, self.pane, current=current), anchor, chosen=chosen)


def choose_groups(
    pane: SentenceHost,
    shape: InputShape,
    now: Sequence[str],
    title: str,
    apply: Callable[[list[str]], None],
    anchor: QWidget,
) -> None:
    """Let fields be ticked whose values are groups; those of now stand first, expressions among them."""
    names = {field.name: field.type.value for field in shape.fields}
    ordered = [*now, *(name for name in names if name not in now)]
    choices = [Choice(of, of, names.get(of, "expression"), ticked=of in now) for of in ordered]
    pane.open_list(Chooser(choices, pane, several=True, title=title), anchor, applied=apply)
