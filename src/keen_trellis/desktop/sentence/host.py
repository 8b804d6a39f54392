"""Where the sentences of all kinds are shown, as these know it: a line of chips, and an open list."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PySide6.QtCore import QPoint, Signal
from PySide6.QtWidgets import QWidget
from shiboken6 import isValid

from keen_trellis.core.errors import TrellisError
from keen_trellis.desktop.sentence.chooser import Chooser
from keen_trellis.desktop.sentence.view import SentenceView


class SentenceHost(QWidget):
    """write_wanted: an output's step id.  path_wanted: the step whose file is to be chosen anew.

    raw_wanted, typing_wanted: the raw cells, or the rows typed in, are to be shown.  password_wanted: the
    address that asks for one.  accepting_wanted: what the flow connects to is to be reviewed.  moved: a
    step's id, and the file to use from now on.  blend_wanted: another table is to be blended into the
    selected one.  tie_wanted: a shared filter, a source and the tie between them that is to be chosen
    anew, and the chip under which.  elsewhere_wanted: a source that is to be read from elsewhere, and the
    chip under which.  some_rows_wanted: rows to be shown by themselves: what they are, their table, and
    which.  list_wanted: a list of corrections that is to be looked through.  list_file_wanted: the
    file of one is to be chosen, for a step and the number of its link; whether its own corrections are to be
    kept there.  failed: why what was chosen cannot be done.
    """

    write_wanted = Signal(str)
    path_wanted = Signal(str)
    output_wanted = Signal()
    raw_wanted = Signal()
    typing_wanted = Signal()
    types_wanted = Signal()
    password_wanted = Signal(str)
    accepting_wanted = Signal()
    moved = Signal(str, str)
    blend_wanted = Signal()
    tie_wanted = Signal(str, str, str, QWidget)
    elsewhere_wanted = Signal(str, QWidget)
    some_rows_wanted = Signal(str, object, object)
    list_wanted = Signal(str)
    list_file_wanted = Signal(str, int, bool)
    failed = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.view = SentenceView()
        self._chooser: Chooser | None = None

    @property
    def chooser(self) -> Chooser | None:
        """The list that is open, if one is."""
        return self._chooser

    def _do(self, act: Callable[..., None], *chosen: Any) -> None:
        """Carry out what was chosen. The flow may be another one by now: what no longer fits is said."""
        try:
            act(*chosen)
        except TrellisError as error:
            self.failed.emit(error)

    def open_list(
        self,
        chooser: Chooser,
        anchor: QWidget,
        *,
        chosen: Callable[[Any], None] | None = None,
        applied: Callable[[list[Any]], None] | None = None,
        dismissed: Callable[[], None] | None = None,
        at: QPoint | None = None,
    ) -> None:
        """Open a list under a chip, and do what belongs to what is chosen in it."""

        def forget() -> None:
            if self._chooser is chooser:
                self._chooser = None

        chooser.destroyed.connect(forget)
        for signal, slot in (
            (chooser.chosen, chosen),
            (chooser.applied, applied),
            (chooser.dismissed, dismissed),
        ):
            signal.connect(forget)
            if slot is not None:
                signal.connect(partial(self._do, slot))
        self._chooser = chooser
        # The chip may be gone by now, where what is listed had to be found out first.
        chooser.open_under(anchor if isValid(anchor) else self.view, at=at)
