"""What there is to say of rows that were read, and of what keeps them from being read."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import TrellisError
from keen_trellis.databases.engines import PasswordNeeded
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.remark import Remark
from keen_trellis.flow.trust import NotAccepted
from keen_trellis.sources.queries import NotHarmless


def remark_items(host: SentenceHost, remarks: Sequence[Remark]) -> list[Item]:
    """The first remark in words, and all of them behind a chip if there are more."""
    if not remarks:
        return [Word("Nothing in it was doubtful.")]
    ordered = sorted(remarks, key=lambda remark: not remark.doubtful)
    first = ordered[0]
    text = str(first)
    text = f"Doubtful: {text}" if first.doubtful else text if first.field else text[0].upper() + text[1:]
    items: list[Item] = [Word(f"{text}.", alarm=first.doubtful)]
    if len(ordered) > 1:

        def show(anchor: QWidget) -> None:
            choices = [
                Choice(n, str(entry), "doubtful" if entry.doubtful else "") for n, entry in enumerate(ordered)
            ]
            chooser = Chooser(choices, host, title="Notes on this source")
            host.open_list(chooser, anchor)

        items.append(Chip(f"and {len(ordered) - 1} more", show, "Remarks"))
    return items


def leave_items(host: SentenceHost, error: TrellisError | None) -> list[Item]:
    """What the user can allow or give so that something is read that was not."""
    if isinstance(error, NotAccepted | NotHarmless):
        return [Chip("review and accept", lambda _: host.accepting_wanted.emit(), "Accept", doing=True)]
    if not isinstance(error, PasswordNeeded):
        return []
    address = error.address
    return [Chip("give the password", lambda _: host.password_wanted.emit(address), "Password", doing=True)]
