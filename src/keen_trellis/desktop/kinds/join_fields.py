"""What a join takes and brings: of several matches, of the fields of both sides, of merged ones."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QWidget

from keen_trellis.core.link import Taken
from keen_trellis.desktop.marks import hue_of
from keen_trellis.desktop.sentence.choices import (
    BOTH_LINKS,
    MATCHED_BY,
    NAME_ALL,
    PARTNER_FOUND,
    SCORE,
    SIDE,
    brought_choices,
    field_choices,
    merge_choices,
    take_choices,
    take_words,
)
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.join import JoinSettings, MergeSettings
from keen_trellis.flow.wording import listed, rows_called
from keen_trellis.session import editing
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session


class JoinFields:
    """The parts of the sentence about partners and fields."""

    def __init__(self, session: Session, pane: SentenceHost) -> None:
        self._session, self._pane = session, pane

    def take(self, step: Step, settings: JoinSettings, outcome: Outcome) -> list[Item]:
        """Which of several matches is taken: said where there are several, or something else than all."""
        left, right = outcome.inputs
        match = outcome.result.match if outcome.result is not None else None
        several = match is not None and match.counts.most_partners_of_left > 1
        if not several and settings.take == Taken.EVERY.value:
            return []

        def choose(anchor: QWidget) -> None:
            current = settings.take.partition(":")[0]
            title = f"Of several {rows_called(right.name)[1]} that match"
            chooser = Chooser(take_choices(), self._pane, title=title, current=current)
            self._pane.open_list(chooser, anchor, chosen=change)

        def change(name: str) -> None:
            if name in (Taken.LEAST.value, Taken.GREATEST.value):
                chooser = Chooser(
                    field_choices(right.fields, None), self._pane, title=f"The {name} value of which field?"
                )
                self._pane.open_list(
                    chooser,
                    self._pane.view,
                    chosen=lambda field: self._set_take(step, f"{name}:{field}"),
                )
            else:
                self._set_take(step, name)

        one = rows_called(left.name)[0]
        return [Word(f"Each {one} takes"), Chip(take_words(settings.take), choose, "Take"), Word(".")]

    def _set_take(self, step: Step, take: str) -> None:
        editing.change_join(self._session, step.id, f"Take {take_words(take)}", take=take)

    def items(self, step: Step, settings: JoinSettings, left: InputShape, right: InputShape) -> list[Item]:
        kind = settings.join_type
        items: list[Item] = []
        if kind.has_left_fields:
            items += [
                Word("Keep"),
                self._fields_chip(step, settings, "keep", left, 0),
                Word(f"of {left.name}"),
            ]
        if kind.has_right_fields:
            items += [Word(","), Word("bring")] if items else [Word("Bring")]
            items.append(self._fields_chip(step, settings, "bring", right, 1))
            items.append(Word(f"from {right.name}."))
        elif items:
            items.append(Word("."))
        return items

    def _fields_chip(
        self, step: Step, settings: JoinSettings, which: str, shape: InputShape, side: int
    ) -> Chip:
        chosen: tuple[str, ...] | None = getattr(settings, which)
        total = len(shape.fields)
        text = f"all {total} fields"
        if chosen is not None:
            known = [name for name in chosen if any(field.name == name for field in shape.fields)]
            text = f"{listed(known)} · {len(known)} of {total} fields" if known else "no field"
        linked = {link.left if side == 0 else link.right for link in settings.links}

        def choose(anchor: QWidget) -> None:
            choices = brought_choices(shape.fields, chosen, linked)
            if which == "bring":
                choices.append(
                    Choice(BOTH_LINKS, "show the link fields of both sides", ticked=settings.both_links)
                )
                named = f"name them all “… of {shape.name}”"
                choices.append(Choice(NAME_ALL, named, ticked=settings.name_all))
                said = "add a field “partner found”"
                choices.append(Choice(PARTNER_FOUND, said, ticked=settings.partner_found))
                said = "add a field “side”: left, right or both"
                choices.append(Choice(SIDE, said, ticked=settings.side))
                if settings.rungs or settings.matched_by:
                    said = "add a field “matched by”: which rung found it"
                    choices.append(Choice(MATCHED_BY, said, ticked=settings.matched_by))
                if any(link.like for rung in settings.ladder for link in rung.links) or settings.score:
                    said = "add a field “likeness”: how alike, or how far apart"
                    choices.append(Choice(SCORE, said, ticked=settings.score))
                choices += merge_choices(self._session, step.id, settings)
            title = f"Fields of {shape.name} that come along"
            self._pane.open_list(
                Chooser(choices, self._pane, several=True, title=title), anchor, applied=apply
            )

        def apply(keys: list[Any]) -> None:
            names = tuple(key for key in keys if isinstance(key, str))
            everything = names == tuple(field.name for field in shape.fields)
            changes: dict[str, object] = {which: None if everything else names}
            if which == "bring":
                changes |= {"both_links": BOTH_LINKS in keys, "name_all": NAME_ALL in keys}
                changes |= {"partner_found": PARTNER_FOUND in keys, "side": SIDE in keys}
                changes |= {"matched_by": MATCHED_BY in keys, "score": SCORE in keys}
                changes["merge"] = tuple(key for key in keys if isinstance(key, MergeSettings))
            verb = "Bring" if which == "bring" else "Keep"
            editing.change_join(self._session, step.id, f"{verb} {listed(list(names))}", **changes)

        return Chip(
            text, choose, f"Fields of {shape.name}", hue=hue_of(self._session.flow, step.inputs[side].step)
        )

    def merged(self, settings: JoinSettings, outcome: Outcome) -> list[Item]:
        found = outcome.result.disagreements if outcome.result is not None else {}
        items: list[Item] = []
        for entry in settings.merge:
            count = found.get(entry.name)
            if count is not None:
                shown = outcome.inputs[0 if entry.first == "left" else 1].name
                pairs = "1 pair disagrees" if count == 1 else f"{count:,} pairs disagree"
                items.append(Word(f"{entry.name} is one field: {pairs}, {shown} is shown.", alarm=count > 0))
        return items
