"""How alike two link fields must be, in the sentence of a join: how much, on which side, only the best."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import UsageError
from keen_trellis.core.link import ANY_DISTANCE
from keen_trellis.core.nearness import span_of
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.view import Chip, Item
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.link_text import read_score
from keen_trellis.flow.steps.join import LikeSettings, LinkSettings

LIKE, NEAR, NEAREST = "like", "near", "nearest"
_SIDES = {"both": "on either side", "before": "at or before", "after": "at or after"}
_BEST = {False: "each that is", True: "only the best"}
Put = Callable[[LikeSettings | None], None]


def like_choices(left: Field | None, right: Field | None) -> list[Choice]:
    """The comparisons of likeness that can be made of two fields; of expressions all."""
    kinds = {field.type for field in (left, right) if field is not None}
    found = []
    if kinds <= {FieldType.TEXT}:
        found.append(Choice(LIKE, "like", "texts that are so much alike"))
    if not kinds & {FieldType.TEXT, FieldType.BOOLEAN, FieldType.TIME}:
        found += [
            Choice(NEAR, "near", "within so much; of dates in days"),
            Choice(NEAREST, "nearest to", "the least distance"),
        ]
    return found


def fields_of(link: LinkSettings, shapes: Sequence[InputShape]) -> tuple[Field | None, Field | None]:
    """The fields of both sides of a link; None for an expression."""
    names = (
        None if link.left_is_expression else link.left,
        None if link.right_is_expression else link.right,
    )
    left, right = (
        next((field for field in shape.fields if field.name == name), None)
        for shape, name in zip(shapes, names, strict=True)
    )
    return left, right


class LikeEditor:
    """Edits how alike the sides of a link must be. put: gives the link that, None for simply equal."""

    def __init__(
        self, pane: SentenceHost, link: LinkSettings, fields: Sequence[Field | None], put: Put
    ) -> None:
        self._pane, self._link, self._put = pane, link, put
        self._is_text = all(field is not None and field.type is FieldType.TEXT for field in fields)

    def begin(self, what: str, anchor: QWidget) -> None:
        """Ask what the kind of comparison that was chosen needs."""
        if what == LIKE:
            self.ask_score(anchor)
        elif what == NEAR:
            self._ask_span(LikeSettings(within="1"), anchor)
        else:
            self._put(LikeSettings(within=ANY_DISTANCE, best=True))

    def items(self) -> list[Item]:
        """The chips behind the comparison: its measure, its side, and whether only the best are meant."""
        like = self._link.like
        if like is None:
            return []
        best = Chip(_BEST[like.best], self._choose_best, "Best only")
        if self._is_text:
            return [Chip(f"{like.at_least:g} of 100", self.ask_score, "How alike"), best]
        is_limited = like.within not in ("", ANY_DISTANCE)
        span = f"within {like.within}" if is_limited else "at any distance"
        return [
            Chip(span, lambda anchor: self._ask_span(like, anchor), "Distance"),
            Chip(_SIDES[like.side], self._choose_side, "Side"),
            *([best] if is_limited else []),
        ]

    def ask_score(self, anchor: QWidget) -> None:
        """Ask how alike texts must be."""
        like = self._link.like or LikeSettings()
        entry = Entry(
            "How alike, 1 to 100? 85 lets a slip or two pass, 100 only words in another order",
            f"{like.at_least:g}",
            self._pane,
            check=read_score,
        )
        entry.entered.connect(
            lambda text: self._put(
                msgspec.structs.replace(like, at_least=read_score(text), within="", side="both")
            )
        )
        entry.open_under(anchor)

    def _ask_span(self, like: LikeSettings, anchor: QWidget) -> None:
        def check(text: str) -> None:
            if span_of(text.strip()) is None and not like.best:
                raise UsageError("It is not said how near.", remedy="Write a number, of dates in days.")

        title = "Within how much? Of dates in days; empty: any distance" if like.best else "Within how much?"
        entry = Entry(title, like.within, self._pane, check=check)
        entry.entered.connect(
            lambda text: self._put(msgspec.structs.replace(like, within=text.strip() or ANY_DISTANCE))
        )
        entry.open_under(anchor)

    def _choose_side(self, anchor: QWidget) -> None:
        like = self._link.like or LikeSettings()
        choices = [Choice(side, words, "where the right value is") for side, words in _SIDES.items()]
        chooser = Chooser(choices, self._pane, current=like.side)
        self._pane.open_list(
            chooser, anchor, chosen=lambda side: self._put(msgspec.structs.replace(like, side=side))
        )

    def _choose_best(self, anchor: QWidget) -> None:
        like = self._link.like or LikeSettings()
        choices = [
            Choice(False, _BEST[False], "every one that is alike enough"),
            Choice(True, _BEST[True], "the most alike, or the nearest; several if they are equally so"),
        ]
        chooser = Chooser(choices, self._pane, current=like.best)
        self._pane.open_list(
            chooser, anchor, chosen=lambda best: self._put(msgspec.structs.replace(like, best=best))
        )
