"""The link fields of a join in its sentence: which, how they compare, all of them or any."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import msgspec
from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QWidget

from keen_trellis.core.expressions.quoting import quoted_name
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.kinds.join_like import LIKE, NEAR, NEAREST, LikeEditor, fields_of, like_choices
from keen_trellis.desktop.kinds.link_lists import LinkLists
from keen_trellis.desktop.marks import hue_of
from keen_trellis.desktop.sentence.choices import (
    AS_EXPRESSION,
    CORRECT,
    LISTS,
    OPERATOR_WORDS,
    field_choices,
    operator_choices,
    preparation_choices,
    preparation_chosen,
)
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.link_text import read_corrections, read_link
from keen_trellis.flow.steps.join import JoinSettings, LikeSettings, LinkSettings
from keen_trellis.flow.wording import ignoring
from keen_trellis.session import editing
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session

_LINKS_SHOWN = 2
_REMOVE = object()  # a choice of the list that is no field


class JoinLinks:
    """The part of the sentence from “Match” to the last pair of link fields."""

    def __init__(self, session: Session, pane: SentenceHost) -> None:
        self._session, self._pane = session, pane
        self._lists = LinkLists(session, pane)

    def items(
        self, step: Step, settings: JoinSettings, shapes: Sequence[InputShape], outcome: Outcome | None = None
    ) -> list[Item]:
        """The pairs of link fields, and what adds another."""
        if not settings.links:
            first = partial(self._add_link, step, settings, shapes)
            return [Chip("choose the link fields", first, "Link fields", doing=True)]
        items: list[Item] = []
        shown = settings.links if len(settings.links) <= _LINKS_SHOWN else settings.links[:1]
        for number, link in enumerate(shown):
            items += [self._all_or_any(step, settings)] if number else []
            items += self._link_items(step, settings, number, link, shapes)
        if len(shown) < len(settings.links):
            items.append(self._folded_links(step, settings, len(shown)))
        items.append(Chip("and …", partial(self._add_link, step, settings, shapes), "More"))
        return items if outcome is None else items + self._lists.proposed(step, outcome)

    def _link_items(
        self,
        step: Step,
        settings: JoinSettings,
        number: int,
        link: LinkSettings,
        shapes: Sequence[InputShape],
    ) -> list[Item]:
        def field_chip(side: int, name: str) -> Chip:
            return Chip(
                name,
                lambda anchor: self._choose_link_field(step, settings, number, side, shapes, anchor),
                f"Link field of {shapes[side].name}",
                hue=hue_of(self._session.flow, step.inputs[side].step),
            )

        def prepare(anchor: QWidget) -> None:
            chooser = Chooser(preparation_choices(link), self._pane, several=True, title="When comparing")
            self._pane.open_list(chooser, anchor, applied=lambda keys: self._prepare(step, number, keys))

        words = ignoring(link.link.preparation)
        return [
            field_chip(0, link.left),
            Word(f"of {shapes[0].name}"),
            self._operator_chip(step, number, link, shapes),
            field_chip(1, link.right),
            Word(f"of {shapes[1].name}"),
            *self._like(step, number, link, shapes).items(),
            Word(","),
            Chip(words, prepare, "Preparation"),
            *self._correction_items(step, number, link),
            *self._lists.items(step, number, link),
        ]

    def _set_link(self, step: Step, number: int, **changes: Any) -> None:
        settings = editing.join_settings(self._session, step.id)
        links = list(settings.links)
        links[number] = msgspec.structs.replace(links[number], **changes)
        said = f"Match {links[number].left} with {links[number].right}"
        if changes.keys() & {"ignore", "compare_as", "correct"}:
            said = f"Compare {links[number].left} {ignoring(links[number].link.preparation)}"
        editing.change_join(self._session, step.id, said, links=tuple(links))

    def _choose_link_field(
        self,
        step: Step,
        settings: JoinSettings,
        number: int,
        side: int,
        shapes: Sequence[InputShape],
        anchor: QWidget,
    ) -> None:
        link = settings.links[number]
        other_name = link.right if side == 0 else link.left
        partner = next((field for field in shapes[1 - side].fields if field.name == other_name), None)
        choices = field_choices(shapes[side].fields, partner)
        choices.append(Choice(AS_EXPRESSION, "an expression …", "in place of a field"))
        last = "then link other fields, or pair all combinations" if len(settings.links) == 1 else ""
        choices.append(Choice(_REMOVE, "remove this link", last))
        current = link.left if side == 0 else link.right

        def chosen(name: Any) -> None:
            which = "left" if side == 0 else "right"
            if name is _REMOVE:
                self._remove_link(step, number)
            elif name is AS_EXPRESSION:
                self._ask_expression(step, number, which, shapes[side], current)
            else:
                self._set_link(step, number, **{which: name, f"{which}_is_expression": False})

        title = f"Link field of {shapes[side].name}"
        self._pane.open_list(
            Chooser(choices, self._pane, title=title, current=current), anchor, chosen=chosen
        )

    def _remove_link(self, step: Step, number: int) -> None:
        links = editing.join_settings(self._session, step.id).links
        gone = links[number]
        editing.change_join(
            self._session,
            step.id,
            f"Do not match {gone.left} with {gone.right}",
            links=links[:number] + links[number + 1 :],
        )

    def _add_link(
        self, step: Step, settings: JoinSettings, shapes: Sequence[InputShape], anchor: QWidget
    ) -> None:
        """Ask for a further field of the left, then for its partner on the right."""

        def left_chosen(left: str) -> None:
            partner = next(field for field in shapes[0].fields if field.name == left)
            choices = field_choices(shapes[1].fields, partner)
            same = next((field.name for field in shapes[1].fields if _alike(field, partner)), None)
            title = f"{left} of {shapes[0].name} equals which field of {shapes[1].name}?"
            self._pane.open_list(
                Chooser(choices, self._pane, title=title, current=same), self._pane.view, chosen=both(left)
            )

        def both(left: str) -> Callable[[str], None]:
            def add(right: str) -> None:
                links = (*editing.join_settings(self._session, step.id).links, LinkSettings(left, right))
                editing.change_join(self._session, step.id, f"Match {left} with {right} too", links=links)

            return add

        title = f"Match by {'a further' if settings.links else 'which'} field of {shapes[0].name}?"
        self._pane.open_list(
            Chooser(field_choices(shapes[0].fields, None), self._pane, title=title),
            anchor,
            chosen=left_chosen,
        )

    def _folded_links(self, step: Step, settings: JoinSettings, shown: int) -> Chip:
        """The links that are not spelled out, each to be taken out from the list."""
        hidden = settings.links[shown:]

        def show(anchor: QWidget) -> None:
            choices = [
                Choice(shown + n, f"{link.left} with {link.right}", ignoring(link.link.preparation))
                for n, link in enumerate(hidden)
            ]
            chooser = Chooser(choices, self._pane, title="Also matched by; Enter takes one out")
            self._pane.open_list(chooser, anchor, chosen=lambda number: self._remove_link(step, number))

        return Chip(f"and {len(hidden)} more pairs", show, "More links")

    def _operator_chip(
        self, step: Step, number: int, link: LinkSettings, shapes: Sequence[InputShape]
    ) -> Chip:
        def choose(anchor: QWidget) -> None:
            choices = [*operator_choices(), *like_choices(*fields_of(link, shapes))]
            current = link.operator if link.like is None else None
            chooser = Chooser(choices, self._pane, title="How the two compare", current=current)
            self._pane.open_list(chooser, anchor, chosen=partial(change, anchor))

        def change(anchor: QWidget, sign: str) -> None:
            if sign in (LIKE, NEAR, NEAREST):
                self._like(step, number, link, shapes).begin(sign, anchor)
                return
            blanks = link.blank_matches_blank and sign in ("=", "<>")
            self._set_link(step, number, operator=sign, blank_matches_blank=blanks, like=None)

        word = OPERATOR_WORDS[link.operator][0]
        if link.like is not None:
            texts = all(f is not None and f.type is FieldType.TEXT for f in fields_of(link, shapes))
            word = LIKE if texts else "nearest to" if link.like.best else NEAR
        return Chip(word, choose, "Operator")

    def _like(self, step: Step, number: int, link: LinkSettings, shapes: Sequence[InputShape]) -> LikeEditor:
        def put(like: LikeSettings | None) -> None:
            self._set_link(step, number, like=like, operator="=", blank_matches_blank=False)

        return LikeEditor(self._pane, link, fields_of(link, shapes), put)

    def _prepare(self, step: Step, number: int, keys: list[Any]) -> None:
        link = editing.join_settings(self._session, step.id).links[number]
        changes = preparation_chosen(link, keys)
        if CORRECT not in keys:
            changes["correct"] = ()
        self._set_link(step, number, **changes)
        if LISTS in keys:
            self._lists.choose(step, number, link, self._pane.view)
        elif CORRECT in keys and not link.correct:
            self._ask_corrections(step, number, self._pane.view)

    def _correction_items(self, step: Step, number: int, link: LinkSettings) -> list[Item]:
        items: list[Item] = [Word(", blank matches blank")] if link.blank_matches_blank else []
        if link.correct:
            count = len(link.correct)
            text = "1 correction" if count == 1 else f"{count:,} corrections"
            items.append(
                Chip(text, lambda anchor: self._ask_corrections(step, number, anchor), "Corrections")
            )
        return items

    def _ask_corrections(self, step: Step, number: int, anchor: QWidget) -> None:
        link = editing.join_settings(self._session, step.id).links[number]
        entry = Entry(
            "Read on either side: one pair per line: value, tab or →, correction",
            "\n".join(f"{wrong}\t{right}" for wrong, right in link.correct),
            self._pane,
            check=read_corrections,
            several_lines=True,
        )
        entry.entered.connect(lambda now: self._set_link(step, number, correct=read_corrections(now)))
        entry.open_under(anchor)

    def _ask_expression(self, step: Step, number: int, which: str, shape: InputShape, current: str) -> None:
        """Ask for an expression over one side's fields in place of a link field."""
        link = editing.join_settings(self._session, step.id).links[number]
        known = current if getattr(link, f"{which}_is_expression") else quoted_name(current)

        def check(text: str) -> None:
            # Read as a side of a link is read, so that a field's name alone stays that field.
            read_link(f"{text} = {text}", shape.fields, shape.fields)

        def change(text: str) -> None:
            is_field = any(field.name == text.strip() for field in shape.fields)
            self._set_link(step, number, **{which: text.strip(), f"{which}_is_expression": not is_field})

        title = f'An expression over {shape.name}, as EXTRACT(MONTH FROM "Out date")'
        entry = Entry(title, known, self._pane, check=check)
        entry.entered.connect(change)
        entry.open_under(self._pane.view, at=QPoint(240, 4))

    def _all_or_any(self, step: Step, settings: JoinSettings) -> Chip:
        def choose(anchor: QWidget) -> None:
            choices = [
                Choice(False, "and", "all of them must hold"),
                Choice(True, "or", "one of them is enough"),
            ]
            chooser = Chooser(choices, self._pane, current=settings.any_of)
            self._pane.open_list(chooser, anchor, chosen=change)

        def change(any_of: bool) -> None:
            said = "Match if one link holds" if any_of else "Match if all links hold"
            editing.change_join(self._session, step.id, said, any_of=any_of)

        return Chip("or" if settings.any_of else "and", choose, "All or any")


def _alike(field: Field, other: Field) -> bool:
    return field.name.casefold() == other.name.casefold()
