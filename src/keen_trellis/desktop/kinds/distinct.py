"""The sentence of a distinct step: the key, and which row of several stays."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PySide6.QtWidgets import QWidget

from keen_trellis.core.link import Taken
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.choices import field_choices
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.part import RailSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.distinct import DistinctKind, DistinctSettings, KeySettings
from keen_trellis.flow.wording import ignoring, kept_said, listed, rows_called

_BLANKS = object()
_WAYS = {
    Taken.FIRST.value: "in the order of the rows",
    Taken.LAST.value: "in the order of the rows",
    Taken.LEAST.value: "value of a field; blanks never win",
    Taken.GREATEST.value: "value of a field, as the latest date",
}


class DistinctSentence(RailSentence):
    """Of objects with the same [accession], keep [the first]."""

    def clauses(self, step: Step, settings: DistinctSettings, shape: InputShape) -> Sequence[Item]:
        keys = [entry.of for entry in settings.keys]
        prepared = next((entry.key.preparation for entry in settings.keys if entry.key.preparation), None)
        items: list[Item] = [
            Word(f"Of {rows_called(shape.name)[1]} with the same"),
            Chip(
                listed(keys) if keys else "cells in all fields",
                lambda anchor: self._choose_keys(step, shape, anchor),
                "Key",
            ),
        ]
        if prepared is not None:
            items += [Word(","), Word(f"{ignoring(prepared)},")]
        items.append(Word("keep"))
        items.append(
            Chip(kept_said(settings.keep), lambda anchor: self._choose_kept(step, shape, anchor), "Kept")
        )
        if settings.blanks_stay:
            items += [Word("."), Word("Rows with a blank there are all kept")]
        return [*items, Word(".")]

    def begin(self, step: Step, shape: InputShape) -> None:
        self._choose_keys(step, shape, self.pane.view)

    def _choose_keys(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        settings: DistinctSettings = self.settings(step)
        now = {entry.of: entry for entry in settings.keys}
        choices = [
            Choice(field.name, field.name, field.type.value, ticked=field.name in now)
            for field in sorted(shape.fields, key=lambda field: field.name not in now)
        ]
        choices += [
            Choice(of, of, "expression", ticked=True)
            for of in now
            if of not in {f.name for f in shape.fields}
        ]
        choices.append(Choice(_BLANKS, "rows with a blank in the key all stay", ticked=settings.blanks_stay))

        def apply(chosen: list[Any]) -> None:
            names = [name for name in chosen if isinstance(name, str)]
            # Those that were there stay as they are prepared.
            keys = tuple(now.get(name) or KeySettings(name) for name in names)
            said = f"Keep one row of each {listed(names) if names else 'content'}"
            self.change(step, said, keys=keys, blanks_stay=_BLANKS in chosen)

        title = f"{shape.name} that are the same in"
        self.pane.open_list(Chooser(choices, self.pane, several=True, title=title), anchor, applied=apply)

    def _choose_kept(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        choices = [Choice(name, kept_said(name), detail) for name, detail in _WAYS.items()]
        current = self.settings(step).keep.partition(":")[0]

        def chosen(name: str) -> None:
            if name in (Taken.FIRST.value, Taken.LAST.value):
                self._keep(step, name)
                return
            chooser = Chooser(
                field_choices(shape.fields, None), self.pane, title=f"{kept_said(name)} value of which field?"
            )
            self.pane.open_list(
                chooser, self.pane.view, chosen=lambda field: self._keep(step, f"{name}:{field}")
            )

        self.pane.open_list(Chooser(choices, self.pane, current=current), anchor, chosen=chosen)

    def _keep(self, step: Step, keep: str) -> None:
        self.change(step, f"Keep {kept_said(keep)} of the same key", keep=keep)


VIEW = KindView(
    DistinctKind.name,
    DistinctSentence,
    command=RailCommand(DistinctSettings(), "Keep distinct rows", "Keep &distinct rows", "D"),
)
