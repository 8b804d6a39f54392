"""The further rungs of a join's ladder in its sentence: how those are matched that are left."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.core.preparations import PREPARATIONS
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.kinds.join_like import LikeEditor, fields_of, like_choices
from keen_trellis.desktop.kinds.link_lists import LinkLists
from keen_trellis.desktop.sentence.choices import field_choices
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.join import JoinSettings, LikeSettings, LinkSettings, RungSettings
from keen_trellis.flow.wording import listed
from keen_trellis.session import editing
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session

_PREPARED, _ALIKE, _OTHERS, _REVIEW, _IGNORE, _EQUAL, _UP, _REMOVE = (object() for _ in range(8))
# What the rung of the same fields ignores that is proposed first.
_USUAL = ("case", "outer-spaces", "punctuation", "inner-spaces", "accents")


class JoinRungs:
    """; those left by [maker = name, ignoring case] 12, then by […]."""

    def __init__(self, session: Session, pane: SentenceHost) -> None:
        self._session, self._pane = session, pane
        self._lists = LinkLists(session, pane)

    def _place(self, step: Step, number: int) -> int:
        """The number of the first link of a rung among all links of a join."""
        settings = editing.join_settings(self._session, step.id)
        return len(settings.links) + sum(len(rung.links) for rung in settings.rungs[:number])

    def items(self, step: Step, settings: JoinSettings, outcome: Outcome) -> list[Item]:
        """The rungs behind the links, with how many rows each found, and what adds another."""
        if not settings.links:
            return []
        found = outcome.figures.rungs if outcome.figures is not None and outcome.step == step else ()
        items: list[Item] = []
        for number, rung in enumerate(settings.rungs):
            count = found[number + 1] if number + 1 < len(found) else 0
            counted = f" · {count:,} found" if found else ""
            review = " · to review" if rung.review else ""
            change = partial(self._change, step, outcome.inputs, number)
            items += [
                Word("; those left by"),
                Chip(f"{_short(rung, settings)}{counted}{review}", change, f"Rung {number + 2}"),
            ]
        add = partial(self._add, step, settings, outcome.inputs)
        return [*items, Chip("those left …", add, "Another rung")]

    def _put(self, step: Step, said: str, rungs: Sequence[RungSettings]) -> None:
        editing.change_join(self._session, step.id, said, rungs=tuple(rungs))

    def _now(self, step: Step) -> list[RungSettings]:
        return list(editing.join_settings(self._session, step.id).rungs)

    def _add(self, step: Step, settings: JoinSettings, shapes: Sequence[InputShape], anchor: QWidget) -> None:
        """Ask how those are matched that are left."""
        links = tuple(msgspec.structs.replace(link, like=None) for link in settings.links)
        loose = [link for link in links if link.operator == "="]
        choices = []
        if loose:
            choices.append(
                Choice(_PREPARED, "by the same fields, prepared", "ignoring case, spaces, signs, accents")
            )
        place = next((n for n, link in enumerate(links) if self._are_texts(link, shapes)), None)
        if place is not None:
            choices.append(
                Choice(_ALIKE, f"by likeness of {links[place].left}", "texts that are nearly the same")
            )
        choices.append(Choice(_OTHERS, "by other fields …", "exactly"))

        def chosen(what: Any) -> None:
            if what is _OTHERS:
                self._ask_fields(step, shapes)
                return
            made = list(links)
            if what is _PREPARED:
                made = [
                    msgspec.structs.replace(link, ignore=_USUAL) if link in loose else link for link in links
                ]
            elif place is not None:
                made[place] = msgspec.structs.replace(links[place], like=LikeSettings(best=True))
            rung = RungSettings(links=tuple(made), review=what is _ALIKE)
            self._put(step, f"Match those left by {rung.said}", [*self._now(step), rung])

        title = "How are those matched that are left?"
        self._pane.open_list(Chooser(choices, self._pane, title=title), anchor, chosen=chosen)

    def _are_texts(self, link: LinkSettings, shapes: Sequence[InputShape]) -> bool:
        sides = fields_of(link, shapes)
        return link.operator == "=" and all(f is not None and f.type is FieldType.TEXT for f in sides)

    def _ask_fields(self, step: Step, shapes: Sequence[InputShape]) -> None:
        """Ask for a field of the left, then for its partner on the right."""

        def left_chosen(left: str) -> None:
            partner = next(field for field in shapes[0].fields if field.name == left)
            title = f"{left} of {shapes[0].name} equals which field of {shapes[1].name}?"
            chooser = Chooser(field_choices(shapes[1].fields, partner), self._pane, title=title)
            self._pane.open_list(chooser, self._pane.view, chosen=partial(both, left))

        def both(left: str, right: str) -> None:
            rung = RungSettings(links=(LinkSettings(left, right),))
            self._put(step, f"Match those left by {rung.said}", [*self._now(step), rung])

        title = f"Match those left by which field of {shapes[0].name}?"
        chooser = Chooser(field_choices(shapes[0].fields, None), self._pane, title=title)
        self._pane.open_list(chooser, self._pane.view, chosen=left_chosen)

    def _change(self, step: Step, shapes: Sequence[InputShape], number: int, anchor: QWidget) -> None:
        """Ask what becomes of a rung."""
        rung = self._now(step)[number]
        link = rung.links[0]
        review = "need not be reviewed" if rung.review else "ask for a review of what it finds"
        choices = [
            Choice(_IGNORE, f"what {link.left} ignores …", listed(list(link.ignore), 3)),
            *(
                Choice(c.key, f"{link.left} is {c.text} {link.right}", c.detail)
                for c in self._likes(link, shapes)
            ),
            *self._lists.choices(link),
            *([Choice(_EQUAL, f"{link.left} equals {link.right}")] if link.like is not None else []),
            Choice(_REVIEW, review, "what needs attention lists it"),
            *([Choice(_UP, "move it up", "before the rung above")] if number else []),
            Choice(_REMOVE, "remove this rung"),
        ]

        def chosen(what: Any) -> None:
            rungs = self._now(step)
            if self._lists.chosen(what, step, self._place(step, number), link):
                return
            if what is _IGNORE:
                self._choose_ignored(step, number, anchor)
            elif what is _EQUAL:
                self._set_link(step, number, like=None)
            elif what is _REVIEW:
                rungs[number] = msgspec.structs.replace(rung, review=not rung.review)
                self._put(step, f"Rung {number + 2}: {review}", rungs)
            elif what is _UP:
                rungs[number - 1 : number + 1] = [rungs[number], rungs[number - 1]]
                self._put(step, f"Rung {number + 2} moves up", rungs)
            elif what is _REMOVE:
                self._put(step, f"No rung {rung.said}", rungs[:number] + rungs[number + 1 :])
            else:
                editor = LikeEditor(
                    self._pane,
                    link,
                    fields_of(link, shapes),
                    lambda like: self._set_link(step, number, like=like),
                )
                editor.begin(what, self._pane.view)

        self._pane.open_list(Chooser(choices, self._pane, title=rung.said), anchor, chosen=chosen)

    def _likes(self, link: LinkSettings, shapes: Sequence[InputShape]) -> list[Choice]:
        return like_choices(*fields_of(link, shapes)) if link.operator == "=" else []

    def _choose_ignored(self, step: Step, number: int, anchor: QWidget) -> None:
        link = self._now(step)[number].links[0]
        choices = [
            Choice(name, f"ignore {words}", ticked=name in link.ignore)
            for name, words in PREPARATIONS.items()
        ]
        chooser = Chooser(choices, self._pane, several=True, title="When comparing")
        self._pane.open_list(
            chooser, anchor, applied=lambda keys: self._set_link(step, number, ignore=tuple(keys))
        )

    def _set_link(self, step: Step, number: int, **changes: Any) -> None:
        rungs = self._now(step)
        links = (msgspec.structs.replace(rungs[number].links[0], **changes), *rungs[number].links[1:])
        rungs[number] = msgspec.structs.replace(rungs[number], links=links)
        self._put(step, f"Match those left by {rungs[number].said}", rungs)


def _short(rung: RungSettings, settings: JoinSettings) -> str:
    """A rung as its chip says it: of the same fields only how they are compared."""
    same = [(link.left, link.right) for link in rung.links] == [
        (link.left, link.right) for link in settings.links
    ]
    like = next((link.like for link in rung.links if link.like is not None), None)
    if not same:
        return rung.said
    if like is None:
        return "the same, prepared"
    is_near = like.within or like.side != "both"
    return "nearness" if is_near else f"likeness of {like.at_least:g}"
