"""What the parts of the sentence of a source share."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.flow.graph import Step
from keen_trellis.flow.source_settings import (
    SourceSettings,
)
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.session import Session


class SourcePart:
    """Changes settings of a source, by lists and entries under the chip that was clicked."""

    def __init__(self, session: Session, pane: SentenceHost) -> None:
        self.session, self.pane = session, pane

    def change(self, step: Step, said: str, **changes: Any) -> None:
        # The step as it is now: the list may have been open while something else was edited.
        settings: SourceSettings = KINDS.settings(self.session.flow.step(step.id))
        self.session.change_settings(step.id, msgspec.structs.replace(settings, **changes), said)

    def choose(
        self,
        anchor: QWidget,
        choices: Sequence[Choice],
        chosen: Callable[[Any], None],
        *,
        current: Any = None,
        title: str = "",
    ) -> None:
        self.pane.open_list(Chooser(choices, self.pane, current=current, title=title), anchor, chosen=chosen)

    def ask(
        self,
        anchor: QWidget,
        title: str,
        text: str,
        entered: Callable[[str], None],
        *,
        check: Callable[[str], object] | None = None,
        several_lines: bool = False,
    ) -> None:
        entry = Entry(title, text, self.pane, check=check, several_lines=several_lines)
        entry.entered.connect(entered)
        entry.open_under(anchor)
