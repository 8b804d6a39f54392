"""The sentence of a join: what is compared and how, which rows are taken, which fields come along."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import msgspec
from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QWidget

from keen_trellis.core.expressions.quoting import quoted_name
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.link import Taken
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType, comparable
from keen_trellis.desktop.kinds.accepted import AcceptedValues
from keen_trellis.desktop.kinds.join_knot import cut_join
from keen_trellis.desktop.kinds.join_rows import rows_of_join
from keen_trellis.desktop.kinds.stub import StubSentence
from keen_trellis.desktop.kinds.view import KindView
from keen_trellis.desktop.marks import mark_of
from keen_trellis.desktop.sentence.choices import (
    AS_EXPRESSION,
    BOTH_LINKS,
    CORRECT,
    NAME_ALL,
    OPERATOR_WORDS,
    PARTNER_FOUND,
    brought_choices,
    field_choices,
    merge_choices,
    operator_choices,
    preparation_choices,
    preparation_chosen,
    question_choices,
    take_choices,
    take_words,
)
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.instead import Instead
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import ROWS, Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.link_text import read_corrections, read_link
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinKind, JoinSettings, LinkSettings, MergeSettings
from keen_trellis.flow.wording import ignoring, listed, question, rows_called
from keen_trellis.session import editing, source_fields
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session

_LINKS_SHOWN = 2
_REMOVE, _LINK_FIRST = object(), object()
# Choices of the question list that are no join type.


class JoinSentence(SentencePart):
    """Builds the sentence of a join, and carries out what its chips choose."""

    def __init__(self, session: Session, pane: SentenceHost) -> None:
        super().__init__(session, pane)
        self._accepted = AcceptedValues(session, pane)
        self._stub = StubSentence(session, pane)

    def ask_why(self, step: Step) -> None:
        self._accepted.ask_note(step.id)

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        if self.session.selection.port != ROWS:
            return self._stub.items(step, outcome)
        settings: JoinSettings = KINDS.settings(step)
        if (
            outcome is None
            or outcome.step is None
            or outcome.step.inputs != step.inputs
            or len(outcome.inputs) != 2
        ):
            return [Word(f"{step.name}: reading its tables.")]
        left, right = outcome.inputs
        if settings.join_type is JoinType.CROSS and not settings.links:
            return self._cross_items(step, settings, outcome)
        items: list[Item] = [Word("Match")]
        shown = settings.links if len(settings.links) <= _LINKS_SHOWN else settings.links[:1]
        for number, link in enumerate(shown):
            items += [self._all_or_any(step, settings)] if number else []
            items += self._link_items(step, settings, number, link, outcome.inputs)
        if len(shown) < len(settings.links):
            items.append(self._folded_links(step, settings, len(shown)))
        if not settings.links:
            items.append(self._first_link_chip(step, settings, outcome.inputs))
            items += [Word("or"), self._cross_chip(step, left, right)]
        else:
            items.append(
                Chip("and …", lambda anchor: self._add_link(step, settings, outcome.inputs, anchor), "More")
            )
        items += self._take_items(step, settings, outcome)
        items += self._accepted.items(step.id, settings, (left.name, right.name))
        if outcome.error is not None:
            return [*items, *self._broken_items(step, settings, outcome)]
        items += self._field_items(step, settings, left, right)
        items += self._merged_items(settings, outcome)
        items.append(Word("This answers:"))
        items.append(
            Chip(
                question(settings.join_type, left.name, right.name),
                lambda anchor: self.ask_question(step, anchor=anchor),
                "Question",
                strong=True,
            )
        )
        if outcome.result is not None and outcome.result.match is not None:
            rows = outcome.result.match.counts.rows_under(settings.join_type)
            items.append(
                Word(f"{rows:,} {'row' if rows == 1 else 'rows'}; keys 1 to 9 ask others, or see all")
            )
            items.append(
                Chip("side by side", lambda _: self.pane.types_wanted.emit(), "Join types side by side")
            )
        return items

    def _broken_items(self, step: Step, settings: JoinSettings, outcome: Outcome) -> list[Item]:
        """What a join lacks whose fields are gone, with the repairs: the field was renamed, or do without
        it.
        """
        assert outcome.error is not None
        items: list[Item] = [
            Word(str(outcome.error), alarm=True),
            *self._retype_chips(step, settings, outcome),
        ]
        for side, (shape, named) in enumerate(zip(outcome.inputs, fields_named(settings), strict=True)):
            known = [field.name for field in shape.fields]
            source = self.session.flow.find(step.inputs[side].step)
            for name in [name for name in named if name not in known][:1]:
                if source is not None and KINDS.begins_rail(source):
                    items.append(self._renamed_chip(source, shape, name, named))
                if name not in {link.left if side == 0 else link.right for link in settings.links}:
                    items.append(
                        Chip(
                            f"do without {name}",
                            partial(self._do_without, step, side, name),
                            "Without",
                            doing=True,
                        )
                    )
        return items

    def _retype_chips(self, step: Step, settings: JoinSettings, outcome: Outcome) -> list[Item]:
        """For the first link whose types can never be equal: to read either side as the other is."""
        shapes = [{field.name: field for field in shape.fields} for shape in outcome.inputs]
        for link in settings.links:
            left, right = shapes[0].get(link.left), shapes[1].get(link.right)
            if left is None or right is None or comparable(left.type, right.type):
                continue
            sources = [self.session.flow.find(entry.step) for entry in step.inputs]
            return [
                Chip(
                    f"read {mine.name} as {other.type.value}",
                    partial(self._retype, source, mine.name, other.type),
                    "Retype",
                    doing=True,
                )
                for source, mine, other in ((sources[0], left, right), (sources[1], right, left))
                if source is not None and KINDS.begins_rail(source)
            ]
        return []

    def _retype(self, source: Step, name: str, kind: FieldType, _: QWidget) -> None:
        source_fields.read_as(self.session, source.id, name, kind)

    def _renamed_chip(self, source: Step, shape: InputShape, name: str, named: set[str]) -> Chip:
        def choose(anchor: QWidget) -> None:
            # Fields that nothing names yet first: the renamed one is among them as a rule.
            ordered = sorted(shape.fields, key=lambda field: field.name in named)
            choices = [Choice(field.name, field.name, field.type.value) for field in ordered]
            title = f"What is “{name}” of {source.name} called now?"
            chooser = Chooser(choices, self.pane, title=title)
            self.pane.open_list(
                chooser,
                anchor,
                chosen=lambda now: source_fields.call_as_before(self.session, source.id, now, name),
            )

        return Chip(f"{name} is called … now", choose, "Renamed", doing=True)

    def _do_without(self, step: Step, side: int, name: str, _: QWidget) -> None:
        which = "keep" if side == 0 else "bring"
        settings = editing.join_settings(self.session, step.id)
        kept = tuple(entry for entry in getattr(settings, which) or () if entry != name)
        editing.change_join(self.session, step.id, f"Do without {name}", **{which: kept})

    def _hue(self, step: Step, side: int) -> int | None:
        mark = mark_of(self.session.flow, step.inputs[side].step)
        return mark.hue if mark else None

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
                hue=self._hue(step, side),
            )

        def prepare(anchor: QWidget) -> None:
            chooser = Chooser(preparation_choices(link), self.pane, several=True, title="When comparing")
            self.pane.open_list(chooser, anchor, applied=lambda keys: self._prepare(step, number, keys))

        words = ignoring(link.link.preparation)
        return [
            field_chip(0, link.left),
            Word(f"of {shapes[0].name}"),
            self._operator_chip(step, number, link),
            field_chip(1, link.right),
            Word(f"of {shapes[1].name}"),
            Word(","),
            Chip(words, prepare, "Preparation"),
            *self._correction_items(step, number, link),
        ]

    def _set_link(self, step: Step, number: int, **changes: Any) -> None:
        settings = editing.join_settings(self.session, step.id)
        links = list(settings.links)
        links[number] = msgspec.structs.replace(links[number], **changes)
        said = f"Match {links[number].left} with {links[number].right}"
        if changes.keys() & {"ignore", "compare_as", "correct"}:
            said = f"Compare {links[number].left} {ignoring(links[number].link.preparation)}"
        editing.change_join(self.session, step.id, said, links=tuple(links))

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
        if len(settings.links) > 1:
            choices.append(Choice(_REMOVE, "do not match by this pair", ""))
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
        self.pane.open_list(Chooser(choices, self.pane, title=title, current=current), anchor, chosen=chosen)

    def _remove_link(self, step: Step, number: int) -> None:
        links = editing.join_settings(self.session, step.id).links
        gone = links[number]
        editing.change_join(
            self.session,
            step.id,
            f"Do not match {gone.left} with {gone.right}",
            links=links[:number] + links[number + 1 :],
        )

    def _first_link_chip(self, step: Step, settings: JoinSettings, shapes: Sequence[InputShape]) -> Chip:
        return Chip(
            "choose the link fields",
            lambda anchor: self._add_link(step, settings, shapes, anchor),
            "Link fields",
            doing=True,
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
            self.pane.open_list(
                Chooser(choices, self.pane, title=title, current=same), self.pane.view, chosen=both(left)
            )

        def both(left: str) -> Callable[[str], None]:
            def add(right: str) -> None:
                links = (*editing.join_settings(self.session, step.id).links, LinkSettings(left, right))
                editing.change_join(self.session, step.id, f"Match {left} with {right} too", links=links)

            return add

        title = f"Match by {'a further' if settings.links else 'which'} field of {shapes[0].name}?"
        self.pane.open_list(
            Chooser(field_choices(shapes[0].fields, None), self.pane, title=title),
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
            chooser = Chooser(choices, self.pane, title="Also matched by; Enter takes one out")
            self.pane.open_list(chooser, anchor, chosen=lambda number: self._remove_link(step, number))

        return Chip(f"and {len(hidden)} more pairs", show, "More links")

    def _field_items(
        self, step: Step, settings: JoinSettings, left: InputShape, right: InputShape
    ) -> list[Item]:
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
                choices += merge_choices(self.session, step.id, settings)
            title = f"Fields of {shape.name} that come along"
            self.pane.open_list(Chooser(choices, self.pane, several=True, title=title), anchor, applied=apply)

        def apply(keys: list[Any]) -> None:
            names = tuple(key for key in keys if isinstance(key, str))
            everything = names == tuple(field.name for field in shape.fields)
            changes: dict[str, object] = {which: None if everything else names}
            if which == "bring":
                changes |= {"both_links": BOTH_LINKS in keys, "name_all": NAME_ALL in keys}
                changes |= {"partner_found": PARTNER_FOUND in keys}
                changes["merge"] = tuple(key for key in keys if isinstance(key, MergeSettings))
            verb = "Bring" if which == "bring" else "Keep"
            editing.change_join(self.session, step.id, f"{verb} {listed(list(names))}", **changes)

        return Chip(text, choose, f"Fields of {shape.name}", hue=self._hue(step, side))

    def ask_question(
        self, step: Step, *, title: str = "", instead: Sequence[Instead] = (), anchor: QWidget | None = None
    ) -> None:
        """Open the list of questions; their counts are filled in as soon as they are known.

        instead: for a knot that was just made: what could be made of the two rails in its place.
        """
        step_id = step.id
        outcome = self.session.outcome(step_id)
        current = editing.join_settings(self.session, step_id).join_type
        unlinked = not editing.join_settings(self.session, step_id).links

        def choices(outcome: Outcome | None) -> list[Choice]:
            found = [Choice(_LINK_FIRST, "join them, by link fields that are chosen now")]
            if not unlinked:
                found = question_choices(self.session, step_id, outcome)
            return [*found, *(entry.choice(outcome) for entry in instead)]

        take_back = self.taking_back()
        chooser = Chooser(choices(outcome), self.pane, title=title, current=current, numbered=True)
        chooser.follow(lambda: choices(self.session.outcome(step_id)))

        def reload(concerned: frozenset[str]) -> None:
            if step_id in concerned:
                chooser.reload()

        self.session.outcomes_changed.connect(reload)
        chooser.destroyed.connect(lambda: self.session.outcomes_changed.disconnect(reload))

        def chosen(kind: object) -> None:
            if isinstance(kind, Instead):
                take_back()
                kind.make()
            elif isinstance(kind, JoinType):
                editing.change_join_type(self.session, step_id, kind)

        self.pane.open_list(
            chooser,
            anchor or self.pane.view,
            chosen=chosen,
            dismissed=take_back if instead else None,
            at=None if anchor else QPoint(240, 4),
        )

    # --- operators, takes, corrections ---

    def _operator_chip(self, step: Step, number: int, link: LinkSettings) -> Chip:
        def choose(anchor: QWidget) -> None:
            chooser = Chooser(
                operator_choices(), self.pane, title="How the two compare", current=link.operator
            )
            self.pane.open_list(chooser, anchor, chosen=change)

        def change(sign: str) -> None:
            blanks = link.blank_matches_blank and sign in ("=", "<>")
            self._set_link(step, number, operator=sign, blank_matches_blank=blanks)

        return Chip(OPERATOR_WORDS[link.operator][0], choose, "Operator")

    def _prepare(self, step: Step, number: int, keys: list[Any]) -> None:
        link = editing.join_settings(self.session, step.id).links[number]
        changes = preparation_chosen(link, keys)
        if CORRECT not in keys:
            changes["correct"] = ()
        self._set_link(step, number, **changes)
        if CORRECT in keys and not link.correct:
            self._ask_corrections(step, number, self.pane.view)

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
        link = editing.join_settings(self.session, step.id).links[number]
        entry = Entry(
            "Read on either side: what is written, a tab or →, what it should be; a pair a line",
            "\n".join(f"{wrong}\t{right}" for wrong, right in link.correct),
            self.pane,
            check=read_corrections,
            several_lines=True,
        )
        entry.entered.connect(lambda now: self._set_link(step, number, correct=read_corrections(now)))
        entry.open_under(anchor)

    def _ask_expression(self, step: Step, number: int, which: str, shape: InputShape, current: str) -> None:
        """Ask for an expression over one side's fields in place of a link field."""
        link = editing.join_settings(self.session, step.id).links[number]
        known = current if getattr(link, f"{which}_is_expression") else quoted_name(current)

        def check(text: str) -> None:
            # Read as a side of a link is read, so that a field's name alone stays that field.
            read_link(f"{text} = {text}", shape.fields, shape.fields)

        def change(text: str) -> None:
            is_field = any(field.name == text.strip() for field in shape.fields)
            self._set_link(step, number, **{which: text.strip(), f"{which}_is_expression": not is_field})

        title = f'An expression over {shape.name}, as EXTRACT(MONTH FROM "Out date")'
        entry = Entry(title, known, self.pane, check=check)
        entry.entered.connect(change)
        entry.open_under(self.pane.view, at=QPoint(240, 4))

    def _all_or_any(self, step: Step, settings: JoinSettings) -> Chip:
        def choose(anchor: QWidget) -> None:
            choices = [
                Choice(False, "and", "all of them must hold"),
                Choice(True, "or", "one of them is enough"),
            ]
            chooser = Chooser(choices, self.pane, current=settings.any_of)
            self.pane.open_list(chooser, anchor, chosen=change)

        def change(any_of: bool) -> None:
            said = "Match if one link holds" if any_of else "Match if all links hold"
            editing.change_join(self.session, step.id, said, any_of=any_of)

        return Chip("or" if settings.any_of else "and", choose, "All or any")

    def _take_items(self, step: Step, settings: JoinSettings, outcome: Outcome) -> list[Item]:
        """Which of several matches is taken: said where there are several, or something else than all."""
        left, right = outcome.inputs
        match = outcome.result.match if outcome.result is not None else None
        several = match is not None and match.counts.most_partners_of_left > 1
        if not several and settings.take == Taken.EVERY.value:
            return []

        def choose(anchor: QWidget) -> None:
            current = settings.take.partition(":")[0]
            title = f"Of several {rows_called(right.name)[1]} that match"
            chooser = Chooser(take_choices(), self.pane, title=title, current=current)
            self.pane.open_list(chooser, anchor, chosen=change)

        def change(name: str) -> None:
            if name in (Taken.LEAST.value, Taken.GREATEST.value):
                chooser = Chooser(
                    field_choices(right.fields, None), self.pane, title=f"The {name} value of which field?"
                )
                self.pane.open_list(
                    chooser,
                    self.pane.view,
                    chosen=lambda field: self._set_take(step, f"{name}:{field}"),
                )
            else:
                self._set_take(step, name)

        one = rows_called(left.name)[0]
        return [Word(f"Each {one} takes"), Chip(take_words(settings.take), choose, "Take"), Word(".")]

    def _set_take(self, step: Step, take: str) -> None:
        editing.change_join(self.session, step.id, f"Take {take_words(take)}", take=take)

    def _merged_items(self, settings: JoinSettings, outcome: Outcome) -> list[Item]:
        found = outcome.result.disagreements if outcome.result is not None else {}
        items: list[Item] = []
        for entry in settings.merge:
            count = found.get(entry.name)
            if count is not None:
                shown = outcome.inputs[0 if entry.first == "left" else 1].name
                pairs = "1 pair disagrees" if count == 1 else f"{count:,} pairs disagree"
                items.append(Word(f"{entry.name} is one field: {pairs}, {shown} is shown.", alarm=count > 0))
        return items

    # --- cross joins ---

    def _cross_chip(self, step: Step, left: InputShape, right: InputShape) -> Chip:
        one, other = rows_called(left.name)[0], rows_called(right.name)[0]

        def change(_: QWidget) -> None:
            editing.change_join(self.session, step.id, "Make it a cross join", type=JoinType.CROSS.value)

        return Chip(f"pair every {one} with every {other}", change, "Cross join", doing=True)

    def _cross_items(self, step: Step, settings: JoinSettings, outcome: Outcome) -> list[Item]:
        left, right = outcome.inputs
        one, other = rows_called(left.name)[0], rows_called(right.name)[0]

        def back(_: QWidget) -> None:
            said = "Match by fields"
            editing.change_join(self.session, step.id, said, type=JoinType.LEFT_OUTER.value)

        items: list[Item] = [
            Word(f"Pair every {one} with every {other} (cross join)."),
            *self._field_items(step, settings, left, right),
        ]
        if outcome.error is not None:
            items.append(Word(str(outcome.error), alarm=True))
        elif outcome.result is not None:
            items.append(Word(f"{outcome.result.rows.rows:,} rows."))
        return [*items, Chip("match by fields instead", back, "Link fields", doing=True)]


def fields_named(settings: JoinSettings) -> tuple[set[str], set[str]]:
    """The fields of the left and of the right that a join names."""
    left = {link.left for link in settings.links if not link.left_is_expression} | set(settings.keep or ())
    right = {link.right for link in settings.links if not link.right_is_expression} | set(
        settings.bring or ()
    )
    return left, right


def _alike(field: Field, other: Field) -> bool:
    return field.name.casefold() == other.name.casefold()


VIEW = KindView(JoinKind.name, JoinSentence, cut_join, shows=rows_of_join)
