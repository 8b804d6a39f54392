"""The sentence of a fill step: which fields' gaps, and what stands in them then."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

from msgspec.structs import replace
from PySide6.QtWidgets import QWidget

from keen_trellis.core.filling import FilledTable, FillWith, Gaps, filled_fields
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.choices import field_choices
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.part import RailSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.fill import FillKind, FillSettings, FillStepSettings
from keen_trellis.flow.wording import listed, open_said
from keen_trellis.handbook import Chapter
from keen_trellis.session.outcome import Outcome

_REMOVE = object()
_Done = Callable[[str, FillSettings], None]
_GAPS = {
    Gaps.NO_PARTNER.value: ("has no partner", "a knot before found none"),
    Gaps.BLANK.value: ("is blank", "in its source"),
    Gaps.BOTH.value: ("is blank or has no partner", ""),
}
_WITH = {
    FillWith.VALUE.value: ("a value", "the same in every row"),
    FillWith.FIELD.value: ("another field", "of the same row"),
    FillWith.BEFORE.value: ("the row before", "its nearest filled cell"),
    FillWith.AFTER.value: ("the row after", "its nearest filled cell"),
    FillWith.LEAVE_OUT.value: ("nothing: leave the row out", ""),
}


class FillSentence(RailSentence):
    """Where [maker, keeper] of Loans with Objects [has no partner], put [“no object”]."""

    def clauses(self, step: Step, settings: FillStepSettings, shape: InputShape) -> Sequence[Item]:
        items: list[Item] = []
        for number, fill in enumerate(settings.fills):
            names = [*fill.fields, *(f"every {kind} field" for kind in fill.types)]
            fields = partial(self._choose_fields, step, number, shape)
            gaps = partial(self._choose_gaps, step, number)
            value = partial(self._choose_value, step, number, shape)
            put = ["put"] if fill.how != FillWith.LEAVE_OUT.value else []
            items += [
                Word("Where" if number == 0 else "; where"),
                Chip(listed(names) or "no field yet", fields, "Fields"),
                *self._exceptions(step, number, fill, shape),
                *([Word(f"of {shape.name}")] if number == 0 else []),
                Chip(_GAPS[fill.gaps][0], gaps, "Gaps"),
                Word(","),
                *(Word(word) for word in put),
                Chip(_with_what(fill), value, "Filled with"),
            ]
        more = "and where …" if items else "choose a field to fill"
        return [*items, Chip(more, partial(self._add, step, shape), "Another fill", doing=not items)]

    def came_out(self, outcome: Outcome) -> str:
        """How many cells were filled, and how many of the same fields are still open."""
        assert outcome.result is not None
        table = outcome.result.rows
        said = super().came_out(outcome) if table.rows != outcome.tables[0].rows else ""
        if not isinstance(table, FilledTable):
            return said
        filled = sum(table.counts.values())
        still = {name: count for name, count in table.still_open.items() if count}
        cells = "1 cell" if filled == 1 else f"{filled:,} cells"
        left = open_said(still, "still open") if still else "none still open"
        return f"{said} {cells} filled, {left}.".strip()

    def begin(self, step: Step, shape: InputShape) -> None:
        self._add(step, shape, self.pane.view)

    def begin_about(self, step: Step, shape: InputShape, name: str) -> None:
        self._fill(step, shape, name)

    # --- edits ---

    def _set(self, step: Step, number: int, said: str, **changes: Any) -> None:
        fills = list(self.settings(step).fills)
        fills[number] = replace(fills[number], **changes)
        self.change(step, said, fills=tuple(fills))

    def _add(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        chooser = Chooser(field_choices(shape.fields, None), self.pane, title="Fill which field?")
        self.pane.open_list(chooser, anchor, chosen=partial(self._fill, step, shape))

    def _fill(self, step: Step, shape: InputShape, name: str) -> None:
        """Ask what a field is filled with; nothing is filled before that is known."""

        def add(said: str, fill: FillSettings) -> None:
            self.change(step, said, fills=(*self.settings(step).fills, fill))

        self._ask_how(FillSettings(fields=(name,)), shape, self.pane.view, add)

    def _choose_fields(self, step: Step, number: int, shape: InputShape, anchor: QWidget) -> None:
        fill: FillSettings = self.settings(step).fills[number]
        choices = [
            Choice(field.name, field.name, field.type.value, ticked=field.name in fill.fields)
            for field in sorted(shape.fields, key=lambda field: field.name not in fill.fields)
        ]
        choices += [
            Choice(
                kind,
                f"every {kind.value} field",
                "also those that come later",
                ticked=kind.value in fill.types,
            )
            for kind in FieldType
        ]
        choices.append(Choice(_REMOVE, "do not fill these"))

        def apply(keys: list[Any]) -> None:
            names = tuple(key for key in keys if isinstance(key, str))
            types = tuple(key.value for key in keys if isinstance(key, FieldType))
            self._set(step, number, f"Fill {listed([*names, *types])}", fields=names, types=types)

        def chosen(_: object) -> None:
            fills = self.settings(step).fills
            self.change(step, "Do not fill", fills=fills[:number] + fills[number + 1 :])

        chooser = Chooser(choices, self.pane, several=True, title=f"Fields of {shape.name} that are filled")
        self.pane.open_list(chooser, anchor, applied=apply, chosen=chosen)

    def _exceptions(self, step: Step, number: int, fill: FillSettings, shape: InputShape) -> list[Item]:
        """Which fields of the chosen types are left as they are."""
        fitting = [field for field in shape.fields if field.type.value in fill.types]
        if not fitting:
            return []

        def choose(anchor: QWidget) -> None:
            choices = [
                Choice(field.name, field.name, field.type.value, ticked=field.name in fill.but)
                for field in fitting
            ]
            chooser = Chooser(choices, self.pane, several=True, title="Fields that are not filled")

            def apply(names: list[str]) -> None:
                self._set(step, number, f"Do not fill {listed(names) or 'fewer'}", but=tuple(names))

            self.pane.open_list(chooser, anchor, applied=apply)

        return [Chip(f"but not {listed(list(fill.but))}" if fill.but else "but not …", choose, "Exceptions")]

    def _choose_gaps(self, step: Step, number: int, anchor: QWidget) -> None:
        choices = [Choice(gaps, words, detail) for gaps, (words, detail) in _GAPS.items()]
        current = self.settings(step).fills[number].gaps
        self.pane.open_list(
            Chooser(choices, self.pane, current=current),
            anchor,
            chosen=lambda gaps: self._set(step, number, f"Fill what {_GAPS[gaps][0]}", gaps=gaps),
        )

    def _choose_value(self, step: Step, number: int, shape: InputShape, anchor: QWidget) -> None:
        def change(said: str, fill: FillSettings) -> None:
            self._set(step, number, said, how=fill.how, of=fill.of)

        self._ask_how(self.settings(step).fills[number], shape, anchor, change)

    def _ask_how(self, fill: FillSettings, shape: InputShape, anchor: QWidget, done: _Done) -> None:
        """Ask what the gaps of a fill are filled with, and hand it on with what was chosen."""

        def finish(said: str, how: str, of: str = "") -> None:
            done(f"Fill {listed([*fill.fields, *fill.types])} with {said}", replace(fill, how=how, of=of))

        def chosen(how: str) -> None:
            if how == FillWith.VALUE.value:
                self._ask_value(fill, shape, lambda text: finish(f"“{text}”", how, text))
            elif how == FillWith.FIELD.value:
                chooser = Chooser(field_choices(shape.fields, None), self.pane, title="With which field?")
                self.pane.open_list(chooser, self.pane.view, chosen=lambda name: finish(name, how, name))
            else:
                finish(_WITH[how][0], how)

        choices = [Choice(how, words, detail) for how, (words, detail) in _WITH.items()]
        title = f"Fill the gaps of {listed([*fill.fields, *fill.types])} with what?"
        self.pane.open_list(Chooser(choices, self.pane, title=title, current=fill.how), anchor, chosen=chosen)

    def _ask_value(self, fill: FillSettings, shape: InputShape, entered: Callable[[str], None]) -> None:
        def check(text: str) -> None:
            changed = replace(fill, how=FillWith.VALUE.value, of=text)
            filled_fields(shape.fields, [changed.fill(shape.fields)])

        now = fill.of if fill.how == FillWith.VALUE.value else ""
        entry = Entry("Put this value", now, self.pane, check=check)
        entry.entered.connect(entered)
        entry.open_under(self.pane.view)


def _with_what(fill: FillSettings) -> str:
    if fill.how == FillWith.VALUE.value:
        return f"“{fill.of}”"
    return fill.of if fill.how == FillWith.FIELD.value else _WITH[fill.how][0]


VIEW = KindView(
    FillKind.name,
    FillSentence,
    command=RailCommand(FillStepSettings(), "Fill gaps", "Fill &gaps", "G", "Fill its gaps…"),
    chapter=Chapter.CHOOSE,
)
