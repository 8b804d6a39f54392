"""What the parts of the sentence of an output share."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.output import OutputSettings


class OutputPart(SentencePart):
    """Changes settings of an output, by lists and entries under the chip that was clicked."""

    def tick(
        self, anchor: QWidget, choices: Sequence[Choice], applied: Callable[[list[Any]], None], *, title: str
    ) -> None:
        """Let several be ticked, and put in order."""
        chooser = Chooser(choices, self.pane, several=True, title=title)
        self.pane.open_list(chooser, anchor, applied=applied)

    @staticmethod
    def fresh(*names: str) -> dict[str, Any]:
        """Some settings as they are where nothing is set."""
        known = {entry.name: entry.default for entry in msgspec.structs.fields(OutputSettings)}
        return {name: known[name] for name in names}

    @staticmethod
    def written_names(settings: OutputSettings, shape: InputShape | None) -> list[str]:
        """What the fields are called that are written."""
        if settings.fields:
            return [entry.name or entry.of for entry in settings.fields]
        return [field.name for field in shape.fields] if shape is not None else []
