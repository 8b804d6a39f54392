"""What a knot says of values accepted as absent: how many, why, and how to take it back."""

from __future__ import annotations

from functools import partial

import msgspec
from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.view import Chip, Item
from keen_trellis.flow.steps.join import AcceptedSettings, JoinSettings
from keen_trellis.flow.wording import listed
from keen_trellis.session import editing
from keen_trellis.session.session import Session

_NOTE, _BACK = "note", "back"


class AcceptedValues:
    """The chip of accepted values, and the note that says why they are absent."""

    def __init__(self, session: Session, pane: SentenceHost) -> None:
        self.session, self.pane = session, pane

    def items(self, step_id: str, settings: JoinSettings, names: tuple[str, str]) -> list[Item]:
        """A chip for what is accepted, nothing where nothing is."""
        count = sum(len(entry.values) for entry in settings.accepted)
        if not count:
            return []
        text = "1 value accepted as absent" if count == 1 else f"{count:,} values accepted as absent"
        return [Chip(text, partial(self._show, step_id, names), "Accepted as absent")]

    def ask_note(self, step_id: str, number: int = -1) -> None:
        """Ask why values are absent; the last ones that were accepted if it is not said which."""
        accepted = editing.join_settings(self.session, step_id).accepted
        if not accepted:
            return
        entry = accepted[number]
        count = "1 value is" if len(entry.values) == 1 else f"{len(entry.values):,} values are"
        line = Entry(f"Why {count} absent, for whoever reads this next", entry.note, self.pane)
        line.entered.connect(partial(self._keep_note, step_id, entry))
        line.open_under(self.pane, at=QPoint(240, 4))

    def _keep_note(self, step_id: str, entry: AcceptedSettings, note: str) -> None:
        noted = msgspec.structs.replace(entry, note=note.strip())
        self._replace(step_id, entry, (noted,), "Note why values are absent")

    def _replace(
        self, step_id: str, entry: AcceptedSettings, by: tuple[AcceptedSettings, ...], said: str
    ) -> None:
        accepted = editing.join_settings(self.session, step_id).accepted
        if entry in accepted:
            place = accepted.index(entry)
            now = (*accepted[:place], *by, *accepted[place + 1 :])
            editing.change_join(self.session, step_id, said, accepted=now)

    def _show(self, step_id: str, names: tuple[str, str], anchor: QWidget) -> None:
        choices = []
        for number, entry in enumerate(editing.join_settings(self.session, step_id).accepted):
            name = names[0] if entry.side == "left" else names[1]
            count = f"{len(entry.values):,} of {name}: {listed(list(entry.values))}"
            choices.append(Choice((_NOTE, number), count, entry.note or "say why …"))
            choices.append(Choice((_BACK, number), "    accept them no longer"))

        def chosen(what: tuple[str, int]) -> None:
            if what[0] == _NOTE:
                self.ask_note(step_id, what[1])
            else:
                entry = editing.join_settings(self.session, step_id).accepted[what[1]]
                self._replace(step_id, entry, (), "Accept values no longer")

        chooser = Chooser(choices, self.pane, title="Accepted as absent")
        self.pane.open_list(chooser, anchor, chosen=chosen)
