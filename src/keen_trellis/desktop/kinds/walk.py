"""The sentence of a walk from the part to the top: which field points where, and what comes along."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

from PySide6.QtWidgets import QWidget

from keen_trellis.core.table import IndexVector
from keen_trellis.core.text_actions import check_new
from keen_trellis.core.walking import circles_in
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.choices import field_choices
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.part import RailSentence
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.walk import CIRCLES, WalkKind, WalkSettings, walk_doubts
from keen_trellis.flow.wording import counted, listed
from keen_trellis.session.outcome import Outcome

_ORDER = {False: "in the order that they have", True: "each whole before its parts"}
_NEW = {"level_field": "level", "path_field": "path", "top_field": "top"}


class WalkSentence(RailSentence):
    """In Objects, follow [part_of] to [accession] up to the top, add [level]; bring [no field]."""

    def clauses(self, step: Step, settings: WalkSettings, shape: InputShape) -> Sequence[Item]:
        part = Chip(
            settings.part or "which field?",
            partial(self._choose_part, step, shape),
            "Part",
            doing=not settings.part,
        )
        items: list[Item] = [Word(f"In {shape.name}, follow"), part]
        if not settings.part:
            return items
        items += [
            Word("to"),
            Chip(settings.whole, partial(self._choose_whole, step, shape, settings.part), "Whole"),
            Word("up to the top, and add"),
        ]
        for which, usual in _NEW.items():
            name = getattr(settings, which)
            ask = partial(self._ask_name, step, shape, which)
            items.append(Chip(name or f"no {usual}", ask, usual.capitalize()))
        brought = listed(list(settings.bring)) or "no field"
        return [
            *items,
            Word("; of the top bring"),
            Chip(brought, partial(self._choose_brought, step, shape), "Brought"),
            Word("; rows"),
            Chip(_ORDER[settings.top_down], partial(self._choose_order, step), "Order"),
            Word("."),
        ]

    def begin(self, step: Step, shape: InputShape) -> None:
        self._choose_part(step, shape, self.pane.view, dismissed=self.taking_back())

    def begin_about(self, step: Step, shape: InputShape, name: str) -> None:
        self._choose_whole(step, shape, name, self.pane.view, dismissed=self.taking_back())

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        items = super().items(step, outcome)
        figures = outcome.figures if outcome is not None and outcome.step == step else None
        if outcome is not None and figures is not None and figures.told.get(CIRCLES) and outcome.tables:
            items.append(
                Chip("show the circles", partial(self._show_circles, step, outcome), "Circles", doing=True)
            )
        return items

    def _show_circles(self, step: Step, outcome: Outcome, _: QWidget) -> None:
        walk, table = self.settings(step).walk, outcome.tables[0]

        def done(rows: IndexVector) -> None:
            text = (
                f"{counted(len(rows), outcome.inputs[0].name)} in a circle, each before the one it is part of"
            )
            self.pane.some_rows_wanted.emit(text, table, rows)

        self.session.jobs.start(
            "looking for circles", lambda task: circles_in(table, walk, task), done, self.session.failed.emit
        )

    def came_out(self, outcome: Outcome) -> str:
        assert outcome.result is not None and outcome.figures is not None and outcome.step is not None
        told = " ".join(said for _, said in walk_doubts(self.settings(outcome.step), outcome.figures))
        return f"{outcome.result.rows.rows:,} rows. {told}".strip()

    def _choose_part(
        self, step: Step, shape: InputShape, anchor: QWidget, *, dismissed: Callable[[], None] | None = None
    ) -> None:
        title = f"Which field of {shape.name} says what a row is part of?"
        chooser = Chooser(field_choices(shape.fields, None), self.pane, title=title)
        self.pane.open_list(
            chooser,
            anchor,
            chosen=lambda name: self._choose_whole(step, shape, name, self.pane.view, dismissed=dismissed),
            dismissed=dismissed,
        )

    def _choose_whole(
        self,
        step: Step,
        shape: InputShape,
        part: str,
        anchor: QWidget,
        *,
        dismissed: Callable[[], None] | None = None,
    ) -> None:
        kind = next(field for field in shape.fields if field.name == part)
        fields = [field for field in shape.fields if field.name != part]
        chooser = Chooser(
            field_choices(fields, kind), self.pane, title=f"{part} is which field of the whole?"
        )
        self.pane.open_list(
            chooser,
            anchor,
            chosen=lambda whole: self.change(step, f"Follow {part} to {whole}", part=part, whole=whole),
            dismissed=dismissed,
        )

    def _ask_name(self, step: Step, shape: InputShape, which: str, anchor: QWidget) -> None:
        now: WalkSettings = self.settings(step)
        others = [getattr(now, other) for other in _NEW if other != which]

        def check(text: str) -> None:
            if text.strip():
                check_new(shape.fields, [*filter(None, others), text.strip()])

        self.ask(
            anchor,
            f"What is the field for the {_NEW[which]} called? Empty: none",
            getattr(now, which) or _NEW[which],
            lambda text: self.change(step, f"Call it {text.strip() or 'nothing'}", **{which: text.strip()}),
            check=check,
        )

    def _choose_brought(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        now = self.settings(step).bring
        names = [*now, *(field.name for field in shape.fields if field.name not in now)]
        choices = [Choice(name, name, ticked=name in now) for name in names]

        def apply(chosen: list[str]) -> None:
            self.change(step, f"Bring {listed(chosen) or 'no field'} of the top", bring=tuple(chosen))

        chooser = Chooser(choices, self.pane, several=True, title="Which fields of the top come along?")
        self.pane.open_list(chooser, anchor, applied=apply)

    def _choose_order(self, step: Step, anchor: QWidget) -> None:
        choices = [Choice(order, words) for order, words in _ORDER.items()]
        self.offer(step, anchor, "top_down", choices, lambda order: f"Rows {_ORDER[order]}")


VIEW = KindView(
    WalkKind.name,
    WalkSentence,
    command=RailCommand(
        WalkSettings(),
        "Walk to the top",
        "Walk from the parts to the top",
        "Shift+W",
        "Walk up to the top by it",
    ),
)
