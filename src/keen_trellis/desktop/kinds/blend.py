"""The sentence of a blend: by what, which measures of which tables, what is kept, where a measure stands."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.core.blending import Blended, Keep, Stands
from keen_trellis.core.errors import TrellisError
from keen_trellis.core.filtering import Comparison, Condition, check_conditions
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.kinds.blend_knot import BLEND_CUTTING
from keen_trellis.desktop.kinds.blend_rows import rows_of_blend
from keen_trellis.desktop.kinds.link_lists import LinkLists
from keen_trellis.desktop.kinds.measures import MeasureEditor, measure_said
from keen_trellis.desktop.kinds.view import KindView
from keen_trellis.desktop.marks import hue_of
from keen_trellis.desktop.sentence.choices import (
    AS_EXPRESSION,
    CORRECT,
    LISTS,
    field_choices,
    preparation_choices,
    preparation_chosen,
)
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.expression import ExpressionEntry
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.blend_proposal import GRAINS, grain_of, side_said
from keen_trellis.flow.graph import ROWS, Step
from keen_trellis.flow.kinds import BlendFigures, InputShape
from keen_trellis.flow.steps.blend import (
    BlendKind,
    BlendMeasure,
    BlendSettings,
    OtherSettings,
    measures_of,
    repeated,
    unused_number,
)
from keen_trellis.flow.steps.join import LinkSettings
from keen_trellis.flow.wording import ignoring, kept_of_blend, listed, rows_called, stands_said, times_said
from keen_trellis.handbook import Chapter
from keen_trellis.session import editing
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session

_REMOVE, _PREPARE, _WHERE, _MEASURE, _ALL = (object() for _ in range(5))
_DATES = (FieldType.DATE, FieldType.TIMESTAMP)
_SPREAD = (FieldType.INTEGER, FieldType.DECIMAL)


class BlendSentence(SentencePart):
    """For each [Venue] and [month of Out date] of Loans bring [the sum of cost] from [Trips] by [venue],
    [month of date] and … Keep [every loan], a group's measures stand on [every loan of the group].
    """

    def __init__(self, session: Session, pane: SentenceHost) -> None:
        super().__init__(session, pane)
        self._lists = LinkLists(session, pane)

    def error_items(self, step: Step, error: TrellisError) -> list[Item]:
        return [*super().error_items(step, error), *self._lists.repairs(step)]

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        """The whole sentence, or that of the groups that found no place where these are selected."""
        settings: BlendSettings = self.settings(step)
        if outcome is None or len(outcome.inputs) != len(settings.others) + 1:
            return [Word(f"{step.name}: reading its tables.")]
        if self.session.selection.port != ROWS:
            return self._unused_items(outcome)
        main = outcome.inputs[0]
        lefts = list(dict.fromkeys(link.left for entry in settings.others for link in entry.links))
        items: list[Item] = [Word("For each")]
        for number, left in enumerate(lefts):
            items += [Word("and")] if number else []
            choose = partial(self._choose_left, step, left, outcome)
            items.append(
                Chip(
                    side_said(left),
                    choose,
                    "Link field of the main table",
                    hue=hue_of(self.session.flow, step.inputs[0].step),
                )
            )
        more = "and …" if lefts else "choose what links them"
        items.append(Chip(more, partial(self._add_link, step, outcome), "Another link", doing=not lefts))
        items.append(Word(f"of {main.name.split(' with ')[0]} bring"))
        for number, entry in enumerate(settings.others):
            items += [Word("and")] if number else []
            items += self._other_items(step, number, entry, outcome)
        items.append(Chip("and …", lambda _: self.pane.blend_wanted.emit(), "Another table"))
        items += self._own_items(step, settings, outcome)
        items += [Word(". Keep"), self._keep_chip(step, settings, main)]
        items += self._stands_items(step, settings, outcome)
        if outcome.error is not None:
            return [*items, Word(str(outcome.error), alarm=True)]
        if outcome.step == step and outcome.result is not None and outcome.result.blended is not None:
            items += self._warning(step, settings, outcome.result.blended)
        return items

    def _other_items(self, step: Step, number: int, entry: OtherSettings, outcome: Outcome) -> list[Item]:
        hue, name = hue_of(self.session.flow, step.inputs[number + 1].step), outcome.inputs[number + 1].name
        editor = self._measures(step, number, outcome)
        items: list[Item] = []
        for place, measure in enumerate(entry.measures):
            items += [Word("and")] if place else []
            items.append(Chip(measure_said(measure), partial(editor.change, place), "Measure", hue=hue))
        if not entry.measures:
            items.append(Chip("choose a measure", editor.add, "Measure", hue=hue, doing=True))
        items += [
            Word("from"),
            Chip(name, partial(self._change_table, step, number, outcome), "Table", hue=hue),
        ]
        if entry.links:
            text = ", ".join(_right_said(link) for link in entry.links)
            choose = partial(self._choose_of_links, step, number, outcome)
            items += [Word("by"), Chip(text, choose, f"Link fields of {name}", hue=hue)]
        if entry.where:
            ask = partial(self._ask_where, step, number, outcome)
            items += [Word("only where"), Chip(entry.where, ask, "Filter", hue=hue)]
        return items

    def _unused_items(self, outcome: Outcome) -> list[Item]:
        number = unused_number(self.session.selection.port)
        blended = outcome.result.blended if outcome.result is not None else None
        if number is None or blended is None or number >= len(blended.others):
            return [Word("These groups are gone.")]
        main, other = outcome.inputs[0], outcome.inputs[number + 1]
        found = blended.others[number]
        groups = len(found.unused_rows)
        word = "group" if groups == 1 else "groups"
        said = f"{groups:,} {word} of {other.name} with no {rows_called(main.name)[0]}."
        return [
            Word(f"{said} No row of the blend uses them."),
            Chip("write them to a file", lambda _: self.pane.output_wanted.emit(), "Write", doing=True),
            Word("or drag the stub onto a rail."),
        ]

    # --- links ---

    def _set_links(
        self, step: Step, said: str, changed: Callable[[tuple[int, int], LinkSettings], LinkSettings | None]
    ) -> None:
        """Change links: `changed` is given the numbers of table and link, and the link; None removes it."""
        settings: BlendSettings = self.settings(step)
        others = tuple(
            msgspec.structs.replace(
                entry,
                links=tuple(
                    new
                    for place, link in enumerate(entry.links)
                    if (new := changed((number, place), link)) is not None
                ),
            )
            for number, entry in enumerate(settings.others)
        )
        self.change(step, said, others=others)

    def _ask_side(
        self,
        outcome: Outcome,
        number: int,
        anchor: QWidget,
        title: str,
        put: Callable[[str, bool], None],
        *,
        more: Sequence[Choice] = (),
        partner: Field | None = None,
        other: Callable[[Any], None] = lambda _: None,
    ) -> None:
        """Ask for one side of a link: a field, the month or year of a date, or an expression."""
        fields = outcome.inputs[number].fields
        choices = field_choices(fields, partner)
        for field in fields:
            if field.type in _DATES:
                choices += [
                    Choice(
                        (grain, field.name),
                        f"{grain} of {field.name}",
                        "keeps years apart" if grain == "month" else "",
                    )
                    for grain in GRAINS
                ]
        choices.append(Choice(AS_EXPRESSION, "an expression …", "in place of a field"))

        def chosen(what: Any) -> None:
            if what is AS_EXPRESSION:
                self._ask_expression(outcome, number, title, lambda text: put(text, True))
            elif isinstance(what, tuple):
                put(grain_of(*what), True)
            elif isinstance(what, str):
                put(what, False)
            else:
                other(what)

        self.pane.open_list(Chooser([*choices, *more], self.pane, title=title), anchor, chosen=chosen)

    def _ask_expression(
        self,
        outcome: Outcome,
        number: int,
        title: str,
        put: Callable[[str], None],
        *,
        text: str = "",
        check: Callable[[str], object] | None = None,
    ) -> None:
        if number >= len(outcome.tables):
            return
        entry = ExpressionEntry(title, text, self.pane, outcome.tables[number], check=check)
        entry.entered.connect(lambda typed: put(typed.strip()))
        entry.open_under(self.pane.view)

    def _choose_left(self, step: Step, left: str, outcome: Outcome, anchor: QWidget) -> None:
        def put(text: str, expression: bool) -> None:
            def changed(_: tuple[int, int], link: LinkSettings) -> LinkSettings:
                if link.left != left:
                    return link
                return msgspec.structs.replace(link, left=text, left_is_expression=expression)

            self._set_links(step, f"Blend by {side_said(text)}", changed)

        def remove(_: Any) -> None:
            gone = f"Do not blend by {side_said(left)}"
            self._set_links(step, gone, lambda _, link: None if link.left == left else link)

        more = [Choice(_REMOVE, "do not link by this")]
        title = f"For each … of {outcome.inputs[0].name}"
        self._ask_side(outcome, 0, anchor, title, put, more=more, other=remove)

    def _choose_of_links(self, step: Step, number: int, outcome: Outcome, anchor: QWidget) -> None:
        """Choose which of the links of another table is to be changed; the only one at once."""
        links = self.settings(step).others[number].links
        if len(links) == 1:
            self._choose_right(step, number, 0, outcome, anchor)
            return
        choices = [
            Choice(place, f"{side_said(link.left)} = {_right_said(link)}") for place, link in enumerate(links)
        ]
        chooser = Chooser(choices, self.pane, title=f"Links of {outcome.inputs[number + 1].name}")
        self.pane.open_list(
            chooser, anchor, chosen=lambda place: self._choose_right(step, number, place, outcome, anchor)
        )

    def _choose_right(self, step: Step, number: int, place: int, outcome: Outcome, anchor: QWidget) -> None:
        link: LinkSettings = self.settings(step).others[number].links[place]
        name = outcome.inputs[number + 1].name

        def changed_to(**changes: Any) -> Callable[[tuple[int, int], LinkSettings], LinkSettings | None]:
            return lambda at, entry: (
                msgspec.structs.replace(entry, **changes) if at == (number, place) else entry
            )

        def put(text: str, expression: bool) -> None:
            changed = changed_to(right=text, right_is_expression=expression)
            self._set_links(step, f"Blend {name} by {side_said(text)}", changed)

        def prepare() -> None:
            choices = [entry for entry in preparation_choices(link) if entry.key not in (CORRECT, LISTS)]
            chooser = Chooser(choices, self.pane, several=True, title="When comparing")

            def apply(keys: list[Any]) -> None:
                changes = preparation_chosen(link, keys)
                prepared = ignoring(msgspec.structs.replace(link, **changes).link.preparation)
                self._set_links(step, f"Compare {side_said(link.left)} {prepared}", changed_to(**changes))

            self.pane.open_list(chooser, anchor, applied=apply)

        def other(what: Any) -> None:
            at_all = sum(len(entry.links) for entry in self.settings(step).others[:number]) + place
            if what is _PREPARE:
                prepare()
            elif not self._lists.chosen(what, step, at_all, link):
                gone = f"Do not link {name} by {side_said(link.right)}"
                self._set_links(step, gone, lambda at, entry: None if at == (number, place) else entry)

        more = [
            Choice(_PREPARE, "when comparing …", ignoring(link.link.preparation)),
            *self._lists.choices(link),
            Choice(_REMOVE, "do not link by this"),
        ]
        main = {field.name: field for field in outcome.inputs[0].fields}
        title = f"{side_said(link.left)} of {outcome.inputs[0].name} equals which of {name}?"
        partner = None if link.left_is_expression else main.get(link.left)
        self._ask_side(outcome, number + 1, anchor, title, put, more=more, partner=partner, other=other)

    def _add_link(self, step: Step, outcome: Outcome, anchor: QWidget) -> None:
        """Ask by what else the tables are linked: of the main table, then of each other one."""
        found: dict[int, LinkSettings] = {}

        def ask_other(number: int, left: str, left_is: bool) -> None:
            if number == len(self.settings(step).others):
                settings: BlendSettings = self.settings(step)
                others = tuple(
                    msgspec.structs.replace(entry, links=(*entry.links, *([found[n]] if n in found else [])))
                    for n, entry in enumerate(settings.others)
                )
                self.change(step, f"Blend by {side_said(left)}, too", others=others)
                return

            def put(right: str, right_is: bool) -> None:
                found[number] = LinkSettings(
                    left, right, left_is_expression=left_is, right_is_expression=right_is
                )
                ask_other(number + 1, left, left_is)

            name = outcome.inputs[number + 1].name
            partner = next((f for f in outcome.inputs[0].fields if f.name == left and not left_is), None)
            more = [Choice(_REMOVE, f"{name} is not linked by this")] if number or found else []
            self._ask_side(
                outcome,
                number + 1,
                self.pane.view,
                f"{side_said(left)} of {outcome.inputs[0].name} equals which of {name}?",
                put,
                more=more,
                partner=partner,
                other=lambda _: ask_other(number + 1, left, left_is),
            )

        title = f"For each … of {outcome.inputs[0].name}"
        self._ask_side(outcome, 0, anchor, title, lambda text, is_: ask_other(0, text, is_))

    # --- tables, their filters and measures ---

    def _set_other(self, step: Step, number: int, said: str, **changes: Any) -> None:
        others = list(self.settings(step).others)
        others[number] = msgspec.structs.replace(others[number], **changes)
        self.change(step, said, others=tuple(others))

    def _change_table(self, step: Step, number: int, outcome: Outcome, anchor: QWidget) -> None:
        name = outcome.inputs[number + 1].name
        choices = [
            Choice(_MEASURE, "another measure …", f"of {name}"),
            Choice(_WHERE, "only the rows where …", "before they are blended"),
        ]
        if len(self.settings(step).others) > 1:
            choices.append(Choice(_REMOVE, f"do without {name}"))

        def chosen(what: Any) -> None:
            if what is _MEASURE:
                self._measures(step, number, outcome).add()
            elif what is _WHERE:
                self._ask_where(step, number, outcome, anchor)
            else:
                editing.remove_other(self.session, step.id, number, name)

        self.pane.open_list(Chooser(choices, self.pane, title=name), anchor, chosen=chosen)

    def _ask_where(self, step: Step, number: int, outcome: Outcome, _: QWidget) -> None:
        shape = outcome.inputs[number + 1]

        def check(text: str) -> None:
            if text.strip():
                check_conditions([Condition(text, Comparison.TRUE)], shape.fields)

        def put(text: str) -> None:
            said = f"Blend {shape.name} only where {text}" if text else f"Blend all of {shape.name}"
            self._set_other(step, number, said, where=text)

        title = f"Only the rows of {shape.name} where (empty: all of them)"
        text = self.settings(step).others[number].where
        self._ask_expression(outcome, number + 1, title, put, text=text, check=check)

    def _measures(self, step: Step, number: int, outcome: Outcome) -> MeasureEditor:
        settings: BlendSettings = self.settings(step)
        here = settings.others[number].measures
        elsewhere = [measure.name for measure in measures_of(settings) if measure not in here]
        keys = [link.right for link in settings.others[number].links]
        names = [field.name for field in outcome.inputs[0].fields]
        return MeasureEditor(
            self.pane,
            outcome.inputs[number + 1],
            outcome.tables[number + 1] if len(outcome.tables) > number + 1 else None,
            frozenset((*names, *elsewhere, *keys)),
            lambda: self.settings(step).others[number].measures,
            lambda measures, said: self._set_other(step, number, said, measures=measures),
            BlendMeasure,
        )

    def _own(self, step: Step, outcome: Outcome) -> MeasureEditor:
        """The measures of the main table itself."""
        settings: BlendSettings = self.settings(step)
        others = [measure.name for entry in settings.others for measure in entry.measures]
        names = [field.name for field in outcome.inputs[0].fields]
        return MeasureEditor(
            self.pane,
            outcome.inputs[0],
            outcome.tables[0] if outcome.tables else None,
            frozenset((*names, *others)),
            lambda: self.settings(step).own,
            lambda measures, said: self.change(step, said, own=measures),
            BlendMeasure,
        )

    def _own_items(self, step: Step, settings: BlendSettings, outcome: Outcome) -> list[Item]:
        """What is measured of the main table's own rows, and what adds another."""
        if not any(entry.links for entry in settings.others):
            return []
        hue, editor = hue_of(self.session.flow, step.inputs[0].step), self._own(step, outcome)
        rows = rows_called(outcome.inputs[0].name.split(" with ")[0])[1]
        items: list[Item] = [Word(f"and of the {rows} themselves")] if settings.own else []
        for place, measure in enumerate(settings.own):
            items += [Word("and")] if place else []
            items.append(Chip(measure_said(measure), partial(editor.change, place), "Own measure", hue=hue))
        more = "and …" if settings.own else f"measure the {rows} too"
        return [*items, Chip(more, editor.add, "Another own measure", hue=hue)]

    # --- what is kept, and where measures stand ---

    def _keep_chip(self, step: Step, settings: BlendSettings, main: InputShape) -> Chip:
        def choose(anchor: QWidget) -> None:
            choices = [Choice(keep.value, *kept_of_blend(keep, main.name)) for keep in Keep]
            chooser = Chooser(choices, self.pane, title="What is kept?", current=settings.keep)
            self.pane.open_list(
                chooser, anchor, chosen=lambda keep: editing.keep_of_blend(self.session, step.id, Keep(keep))
            )

        return Chip(kept_of_blend(settings.kept, main.name)[0], choose, "Kept", strong=True)

    def _stands_items(self, step: Step, settings: BlendSettings, outcome: Outcome) -> list[Item]:
        measures = measures_of(settings)
        if settings.kept not in (Keep.EVERY, Keep.FOUND) or not measures:
            return [Word(".")]
        main = outcome.inputs[0].name
        said = list(dict.fromkeys(stands_said(entry.placed.stands, entry.by, main) for entry in measures))
        text = said[0] if len(said) == 1 else "differently"
        choose = partial(self._choose_measure_to_place, step, outcome)
        return [Word(", a group's measures"), Chip(text, choose, "Where measures are shown"), Word(".")]

    def _choose_measure_to_place(self, step: Step, outcome: Outcome, anchor: QWidget) -> None:
        settings: BlendSettings = self.settings(step)
        main = outcome.inputs[0].name
        names = {
            measure.name: stands_said(measure.placed.stands, measure.by, main)
            for measure in measures_of(settings)
        }
        if len(names) == 1:
            self._choose_place(step, frozenset(names), outcome, anchor)
            return
        choices = [Choice(_ALL, "all measures"), *(Choice(name, name, said) for name, said in names.items())]

        def chosen(which: Any) -> None:
            self._choose_place(step, frozenset(names if which is _ALL else [which]), outcome, anchor)

        self.pane.open_list(Chooser(choices, self.pane, title="Which measure?"), anchor, chosen=chosen)

    def _choose_place(self, step: Step, names: frozenset[str], outcome: Outcome, anchor: QWidget) -> None:
        main = outcome.inputs[0]
        amounts = ["", *(field.name for field in main.fields if field.type in _SPREAD)]
        own = {measure.name for measure in self.settings(step).own}
        choices = [
            Choice((Stands.EVERY, ""), stands_said(Stands.EVERY, "", main.name), "not to be added up"),
            Choice((Stands.FIRST, ""), stands_said(Stands.FIRST, "", main.name), "the others are blank"),
            *(
                Choice((Stands.SPREAD, name), stands_said(Stands.SPREAD, name, main.name), "to the last cent")
                for name in (amounts if not names & own else ())
            ),
        ]
        chooser = Chooser(choices, self.pane, title=f"Where {listed(sorted(names))} stands")
        self.pane.open_list(
            chooser,
            anchor,
            chosen=lambda place: editing.place_measures(self.session, step.id, sorted(names), *place),
        )

    def _warning(self, step: Step, settings: BlendSettings, blended: Blended) -> list[Item]:
        """That some measures stand on many rows, and must not be added up again."""
        found = repeated(settings, BlendFigures.of(blended))
        if not found:
            return []
        names = frozenset(found)
        times = max(found.values())
        items: list[Item] = [
            Word(
                f"Summing {'it' if len(names) == 1 else 'them'} would count each value {times_said(times)}:",
                alarm=True,
            )
        ]
        kinds = {field.name: field.type for field in blended.table.fields}
        own = {measure.name for measure in settings.own}  # spread, each row would get its share back
        if names - own and all(kinds[name] in _SPREAD for name in names - own):
            theirs = sorted(names - own)
            spread = partial(editing.place_measures, self.session, step.id, theirs, Stands.SPREAD)
            items.append(Chip("spread it", lambda _: spread(), "Spread", doing=True))
        once = partial(editing.place_measures, self.session, step.id, sorted(names), Stands.FIRST)
        return [*items, Chip("show it once", lambda _: once(), "Once", doing=True)]


def _right_said(link: LinkSettings) -> str:
    """The other table's side of a link, with what is ignored."""
    prepared = ignoring(link.link.preparation) if link.link.preparation else ""
    return ", ".join(part for part in (side_said(link.right), prepared) if part)


VIEW = KindView(BlendKind.name, BlendSentence, BLEND_CUTTING, shows=rows_of_blend, chapter=Chapter.BLEND)
