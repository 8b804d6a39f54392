"""What sentences share that are about fields: which texts, which one of them, or several in an order."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

from PySide6.QtWidgets import QWidget

from keen_trellis.core.values import FieldType
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.part import RailSentence
from keen_trellis.desktop.sentence.view import Chip
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.wording import listed
from keen_trellis.session.outcome import Outcome


class OfTexts(RailSentence):
    """What sentences over some texts share: which fields."""

    def fields_chip(self, step: Step, names: Sequence[str], shape: InputShape) -> Chip:
        return Chip(
            listed(list(names)) or "choose the fields",
            lambda anchor: self.choose_fields(step, shape, anchor),
            "Fields",
            doing=not names,
        )

    def choose_fields(self, step: Step, shape: InputShape, anchor: QWidget) -> None:
        """Let texts be ticked."""
        now = self.settings(step).fields
        texts = [field.name for field in shape.fields if field.type is FieldType.TEXT]
        choices = [
            Choice(name, name, ticked=name in now) for name in sorted(texts, key=lambda name: name not in now)
        ]
        if not choices:
            self.session.said.emit(f"{shape.name} has no text that could be mended.")
            return
        chooser = Chooser(choices, self.pane, several=True, title=f"Which texts of {shape.name}?")
        self.pane.open_list(chooser, anchor, applied=lambda names: self._chosen(step, shape, names))

    def _chosen(self, step: Step, shape: InputShape, names: Sequence[str]) -> None:
        self.change(step, f"Mend {listed(list(names))}", fields=tuple(names))

    def begin(self, step: Step, shape: InputShape) -> None:
        self.choose_fields(step, shape, self.pane.view)

    def came_out(self, outcome: Outcome) -> str:
        assert outcome.result is not None
        changed = sum(getattr(outcome.result.rows, "counts", {}).values())
        return (
            "No cell is changed."
            if not changed
            else f"{changed:,} {'cell is' if changed == 1 else 'cells are'} changed."
        )


class OfOneText(RailSentence):
    """What sentences about one text share: it is asked for first, unless the step was put there for it."""

    title: str

    def take_text(self, step: Step, name: str) -> None:
        """Let the step be about this text."""
        raise NotImplementedError

    def begin(self, step: Step, shape: InputShape) -> None:
        self.choose_text(step, shape, self.pane.view, dismissed=self.taking_back())

    def begin_about(self, step: Step, shape: InputShape, name: str) -> None:
        self.take_text(step, name)

    def choose_text(
        self, step: Step, shape: InputShape, anchor: QWidget, *, dismissed: Callable[[], None] | None = None
    ) -> None:
        """Let one of the texts be chosen."""
        texts = [Choice(f.name, f.name) for f in shape.fields if f.type is FieldType.TEXT]
        chooser = Chooser(texts, self.pane, title=self.title)
        self.pane.open_list(chooser, anchor, chosen=partial(self.take_text, step), dismissed=dismissed)


class OfFields(RailSentence):
    """What sentences about several fields in an order share: these are asked for first."""

    title: str
    verb: str

    def begin(self, step: Step, shape: InputShape) -> None:
        self.choose_fields(step, shape, self.pane.view, dismissed=self.taking_back())

    def choose_fields(
        self, step: Step, shape: InputShape, anchor: QWidget, *, dismissed: Callable[[], None] | None = None
    ) -> None:
        """Let fields be ticked and ordered: those that are chosen stand first."""
        now = self.settings(step).of
        types = {field.name: field.type.value for field in shape.fields}
        ordered = [*(name for name in now if name in types), *(name for name in types if name not in now)]
        choices = [Choice(name, name, types[name], ticked=name in now) for name in ordered]

        def apply(names: list[str]) -> None:
            self.change(step, f"{self.verb} {listed(names)}", of=tuple(names))

        chooser = Chooser(choices, self.pane, several=True, title=self.title)
        self.pane.open_list(chooser, anchor, applied=apply, dismissed=dismissed)
