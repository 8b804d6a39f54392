"""What the window knows of a kind of step: its sentence, how its knot is drawn, and its command."""

from __future__ import annotations

import msgspec

from keen_trellis.desktop.bench.shown import Shows
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.trellis.knots import Cutting
from keen_trellis.flow.steps.one_input import RailSettings
from keen_trellis.handbook import Chapter


class RailCommand(msgspec.Struct, frozen=True):
    """Puts a step on a rail. begins: its settings then, without effect as far as that can be.

    said: the name of that edit.  text, keys: of the command.  about: what it says in the menu of a field,
    "" where it is not there; of_text: only in that of a field of text.
    """

    begins: RailSettings
    said: str
    text: str
    keys: str
    about: str = ""
    of_text: bool = False


class KindView(msgspec.Struct, frozen=True):
    """kind: its name.  sentence: builds it.  cutting: cuts its knot.  command: puts it on a rail.

    shows: what the bench shows of it, where that is more than a table.  chapter: of the guide, that speaks of
    it.
    """

    kind: str
    sentence: type[SentencePart]
    cutting: Cutting | None = None
    command: RailCommand | None = None
    shows: Shows | None = None
    chapter: Chapter = Chapter.STEPS
