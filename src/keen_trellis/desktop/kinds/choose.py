"""The sentence of a choose step: which fields stay, their order, names and types."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.core.choosing import chosen_fields
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.choices import field_choices
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.part import RailSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.choose import ChooseKind, ChooseSettings, ChosenSettings
from keen_trellis.flow.wording import listed
from keen_trellis.handbook import Chapter
from keen_trellis.session.outcome import Outcome

_WITH_TABLE, _WITHOUT_TABLE = object(), object()


class ChooseSentence(RailSentence):
    """Of Loans, keep [Loan no, Venue and 3 more · 5 of 7 fields], [later ones too]."""

    def clauses(self, step: Step, settings: ChooseSettings, shape: InputShape) -> Sequence[Item]:
        kept = self._kept(settings, shape)
        names = [entry.name or entry.of for entry in kept]
        text = f"{listed(names, 2)} · {len(kept)} of {len(shape.fields)} fields" if kept else "no field"
        return [
            Word(f"Of {shape.name}, keep"),
            Chip(text, lambda anchor: self._choose(step, shape, anchor), "Fields"),
            Word("and"),
            Chip(
                "fields that come later, too" if settings.others else "no others",
                lambda anchor: self._choose_others(step, anchor),
                "Others",
            ),
            Word("."),
            Chip("rename …", lambda anchor: self._rename(step, shape, anchor), "Rename"),
            Chip("change the type of …", lambda anchor: self._retype(step, shape, anchor), "Type"),
        ]

    def begin(self, step: Step, shape: InputShape) -> None:
        self._choose(step, shape, self.pane.view)

    def begin_about(self, step: Step, shape: InputShape, name: str) -> None:
        self.change(step, f"Leave out {name}", dropped=(name,))

    def came_out(self, outcome: Outcome) -> str:
        assert outcome.result is not None
        lost = {name: count for name, count in getattr(outcome.result.rows, "counts", {}).items() if count}
        if not lost:
            return ""
        said = ", ".join(f"{count:,} of {name}" for name, count in lost.items())
        return f"What could not be converted is blank now: {said}."

    def _kept(self, settings: ChooseSettings, shape: InputShape) -> list[ChosenSettings]:
        """The fields that stay, those named first, each with what is set for it."""
        known = {field.name for field in shape.fields}
        kept = [entry for entry in settings.fields if entry.of in known]
        if settings.others:
            named = {entry.of for entry in kept} | set(settings.dropped)
            kept += [ChosenSettings(field.name) for field in shape.fields if field.name not in named]
        return kept

    def _choose(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        settings: ChooseSettings = self.settings(step)
        kept = {entry.of: entry for entry in self._kept(settings, shape)}
        types = {field.name: field.type.value for field in shape.fields}
        ordered = [*kept, *(name for name in types if name not in kept)]
        choices = [
            Choice(
                name,
                name if name not in kept or not kept[name].name else f"{name} as {kept[name].name}",
                types[name],
                ticked=name in kept,
            )
            for name in ordered
        ]

        def apply(names: list[str]) -> None:
            fields = tuple(kept.get(name) or ChosenSettings(name) for name in names)
            dropped = tuple(name for name in types if name not in names)
            self.change(step, f"Keep {listed(names)}", fields=fields, dropped=dropped)

        title = f"Fields of {shape.name} that stay, in this order"
        chooser = Chooser(choices, self.pane, several=True, title=title)
        self.pane.open_list(chooser, anchor, applied=apply)

    def _choose_others(self, step: Step, anchor: QWidget) -> None:
        choices = [
            Choice(True, "fields that come later, too", "as when a source has a field more"),
            Choice(False, "no others", "just these"),
        ]
        self.offer(step, anchor, "others", choices, lambda on: f"Keep {'later' if on else 'no other'} fields")

    def _set(self, step: Step, shape: InputShape, said: str, now: dict[str, dict[str, str]]) -> None:
        """Change what is set for some fields, by their names."""
        settings: ChooseSettings = self.settings(step)
        fields = tuple(
            msgspec.structs.replace(entry, **now.get(entry.of, {})) for entry in self._kept(settings, shape)
        )
        self.change(step, said, fields=fields)

    def _rename(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        settings: ChooseSettings = self.settings(step)
        kept = {entry.of: entry for entry in self._kept(settings, shape)}
        by_name = {field.name: field for field in shape.fields}
        choices = [
            Choice(of, of, f"is called {entry.name}" if entry.name else "") for of, entry in kept.items()
        ]
        if any(by_name[name].table for name in kept):
            choices.append(Choice(_WITH_TABLE, "all brought ones", "as “… of” their table"))
            choices.append(Choice(_WITHOUT_TABLE, "all brought ones", "without their table again"))

        def chosen(name: Any) -> None:
            if name in (_WITH_TABLE, _WITHOUT_TABLE):
                said = "Name fields with their table" if name is _WITH_TABLE else "Name fields plainly"
                fields = [by_name[of] for of in kept]
                self._set(step, shape, said, _with_table(fields, marked=name is _WITH_TABLE))
                return

            def check(text: str) -> None:
                others = [
                    msgspec.structs.replace(entry, name=text.strip()) if of == name else entry
                    for of, entry in kept.items()
                ]
                chosen_fields(shape.fields, [entry.chosen for entry in others])

            entry = Entry(
                f"What is {name} called from here on?", kept[name].name or name, self.pane, check=check
            )
            entry.entered.connect(
                lambda text: self._set(
                    step,
                    shape,
                    f"Rename {name}",
                    {name: {"name": "" if text.strip() == name else text.strip()}},
                )
            )
            entry.open_under(self.pane.view)

        self.pane.open_list(Chooser(choices, self.pane, title="Rename which field?"), anchor, chosen=chosen)

    def _retype(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        settings: ChooseSettings = self.settings(step)
        kept = {entry.of: entry for entry in self._kept(settings, shape)}
        fields = [field for field in shape.fields if field.name in kept]

        def chosen(name: str) -> None:
            own = next(field for field in fields if field.name == name).type
            choices = [
                Choice(kind.value, kind.value, "as it is" if kind is own else "") for kind in FieldType
            ]

            def change(kind: str) -> None:
                said = f"Make {name} {kind}"
                self._set(step, shape, said, {name: {"type": "" if kind == own.value else kind}})

            chooser = Chooser(
                choices, self.pane, title=f"What is {name} to be?", current=kept[name].type or own.value
            )
            self.pane.open_list(chooser, self.pane.view, chosen=change)

        chooser = Chooser(field_choices(fields, None), self.pane, title="Change the type of which field?")
        self.pane.open_list(chooser, anchor, chosen=chosen)


def _with_table(fields: Sequence[Field], *, marked: bool) -> dict[str, dict[str, str]]:
    """Names of brought fields with their table's, or without where no other field is called so."""
    made = {}
    others = [field.name for field in fields]
    for field in fields:
        if not field.table:
            continue
        plain = field.name.removesuffix(f" of {field.table}")
        name = f"{plain} of {field.table}" if marked else plain
        name = field.name if name in others else name
        made[field.name] = {"name": "" if name == field.name else name}
    return made


VIEW = KindView(
    ChooseKind.name,
    ChooseSentence,
    command=RailCommand(ChooseSettings(), "Choose fields", "&Choose fields", "C", "Leave it out"),
    chapter=Chapter.CHOOSE,
)
