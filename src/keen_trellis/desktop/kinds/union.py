"""The sentence of a union: which rails, how their fields are lined up, and where they differ."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.reason import rows_said
from keen_trellis.desktop.kinds.view import KindView
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.desktop.trellis.knots import Cut, Cutting
from keen_trellis.desktop.trellis.shapes import OF_RAIL, Part
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.naming import free_name
from keen_trellis.flow.reconciling import which_has
from keen_trellis.flow.steps.union import UnionKind, UnionSettings
from keen_trellis.flow.wording import listed
from keen_trellis.handbook import Chapter
from keen_trellis.session.outcome import Outcome


class UnionSentence(SentencePart):
    """All rows of January, then of February; fields [by name], [3 differences]; [no field] names the rail."""

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        """The whole sentence."""
        if outcome is None or len(outcome.inputs) != len(step.inputs):
            return [Word(f"{step.name}: reading its tables.")]
        settings: UnionSettings = self.settings(step)
        names = [shape.name for shape in outcome.inputs]
        items: list[Item] = [
            Word(f"All rows of {', then of '.join(names)}; fields"),
            Chip(
                "by position" if settings.by_position else "by name",
                lambda anchor: self._choose_way(step, anchor),
                "Lined up",
            ),
            *self._differences(settings, outcome.inputs),
            Word(";"),
            Chip(
                "what has no common type becomes text" if settings.mixed_as_text else "types must fit",
                lambda anchor: self._choose_types(step, anchor),
                "Types",
            ),
            Word(";"),
            Chip(
                f"{settings.rail_field} names the rail" if settings.rail_field else "no field names the rail",
                lambda anchor: self._ask_rail_field(step, anchor),
                "Rail field",
            ),
            Word("."),
        ]
        if outcome.error is not None:
            return [*items, Word(str(outcome.error), alarm=True)]
        if outcome.result is not None:
            rows = outcome.result.rows
            items.append(Word(f"{rows.rows:,} rows, {len(rows.fields)} fields."))
            items += self._which_has(step, settings, outcome.inputs)
        return items

    def _which_has(self, step: Step, settings: UnionSettings, inputs: Sequence[InputShape]) -> list[Item]:
        """What tells which table has each value of what they have in common."""
        shared = [entry.field.name for entry in UnionKind().plan(settings, inputs) if not entry.lacking]
        if not shared:
            return []

        def ask(anchor: QWidget) -> None:
            if len(shared) == 1:
                tell(shared)
                return
            choices = [Choice(name, name, ticked=False) for name in shared]
            chooser = Chooser(choices, self.pane, several=True, title="Each what? Tick one or more fields")
            self.pane.open_list(chooser, anchor, applied=lambda keys: tell(keys) if keys else None)

        def tell(keys: Sequence[str]) -> None:
            names = [shape.name for shape in inputs]
            taken = {entry.field.name for entry in UnionKind().plan(settings, inputs)}
            said = f"Say which table has each {listed(list(keys))}"
            free = free_name("table", taken)
            self.session.apply(said, lambda flow: which_has(flow, step.id, names, keys, free))

        each = f"each {shared[0]}" if len(shared) == 1 else "each …"
        return [Chip(f"which of them has {each}?", ask, "Which has it", doing=True)]

    def _differences(self, settings: UnionSettings, inputs: Sequence[InputShape]) -> list[Item]:
        found = differences(settings, inputs)
        if not found:
            return [Word("(all are alike)")]
        text = "1 difference" if len(found) == 1 else f"{len(found)} differences"

        def show(anchor: QWidget) -> None:
            choices = [Choice(number, said) for number, said in enumerate(found)]
            self.pane.open_list(Chooser(choices, self.pane, title="How the tables differ"), anchor)

        return [Chip(text, show, "Differences")]

    def _choose_way(self, step: Step, anchor: QWidget) -> None:
        choices = [
            Choice(False, "by name", "fields missing from a table are blank"),
            Choice(True, "by position", "the first with the first, under the first table's names"),
        ]
        self.offer(
            step,
            anchor,
            "by_position",
            choices,
            lambda on: f"Line fields up by {'position' if on else 'name'}",
        )

    def _choose_types(self, step: Step, anchor: QWidget) -> None:
        choices = [
            Choice(False, "types must fit", "otherwise the union says which do not"),
            Choice(True, "what has no common type becomes text", ""),
        ]
        self.offer(
            step, anchor, "mixed_as_text", choices, lambda on: f"Let types {'differ' if on else 'fit'}"
        )

    def _ask_rail_field(self, step: Step, anchor: QWidget) -> None:
        settings: UnionSettings = self.settings(step)
        outcome = self.session.outcome(step.id)
        inputs = outcome.inputs if outcome is not None else ()

        def check(text: str) -> None:
            UnionKind().plan(msgspec.structs.replace(settings, rail_field=text.strip()), inputs)

        title = "A field that says from which rail a row is, called (empty: none)"
        entry = Entry(title, settings.rail_field or "table", self.pane, check=check)
        entry.entered.connect(
            lambda text: self.change(
                step, f"Name the rail in {text.strip() or 'no field'}", rail_field=text.strip()
            )
        )
        entry.open_under(anchor)


def differences(settings: UnionSettings, inputs: Sequence[InputShape]) -> list[str]:
    """What the tables of a union have apart: fields that one lacks, and types that differ."""
    mixed = msgspec.structs.replace(settings, mixed_as_text=True, rail_field="")
    try:
        plan = UnionKind().plan(mixed, inputs)
    except TrellisError:
        return []
    said = []
    for entry in plan:
        if entry.lacking:
            lacking = listed([inputs[number].name for number in entry.lacking])
            said.append(f"{entry.field.name}: {lacking} {'lacks' if len(entry.lacking) == 1 else 'lack'} it")
        types = [
            next(field for field in shape.fields if field.name == name).type.value
            for shape, name in zip(inputs, entry.of, strict=True)
            if name
        ]
        if len(set(types)) > 1:
            said.append(f"{entry.field.name}: {' and '.join(dict.fromkeys(types))}")
    return said


def cut_union(step: Step, outcome: Outcome, plain: Cut) -> Cut:
    """The bar of a union: the rows of each rail."""
    counts = outcome.figures.inputs if outcome.figures is not None else ()
    if len(counts) != len(step.inputs):
        return plain  # another rail is being added
    names = [f"{OF_RAIL}{number}" for number in range(len(step.inputs))]
    parts = tuple(
        Part(name, 0, 0, True, count, f"{rows_said(count)} of {shape.name}")
        for name, count, shape in zip(names, counts, outcome.inputs, strict=True)
    )
    return msgspec.structs.replace(
        plain, parts=parts, inputs={name: number for number, name in enumerate(names)}
    )


VIEW = KindView(UnionKind.name, UnionSentence, Cutting(cut_union), chapter=Chapter.CHAIN)
