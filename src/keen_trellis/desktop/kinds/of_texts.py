"""What the sentences of mending and correcting texts share: the fields that they are about."""

from __future__ import annotations

from collections.abc import Sequence

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
