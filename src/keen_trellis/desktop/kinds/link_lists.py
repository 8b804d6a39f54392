"""The lists of corrections of a link in a sentence: which it uses, and where its own corrections are kept."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.view import Chip, Item
from keen_trellis.flow.corrections import called
from keen_trellis.flow.graph import Step
from keen_trellis.flow.steps.join import LinkSettings
from keen_trellis.flow.wording import counted
from keen_trellis.session.correction_lists import Proposed, links_of
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session

_LOOK, _LEAVE, _OTHER = object(), object(), object()
_MOST_PROPOSED = 2


class ListKey(msgspec.Struct, frozen=True):
    """What is done about a list, among other choices. leave: the id of one to do without; "": use another."""

    leave: str = ""


class LinkLists:
    """The part of a sentence as: [the list makers · 14 pairs] [use the list towns: 3 of its pairs]."""

    def __init__(self, session: Session, pane: SentenceHost) -> None:
        self._session, self._pane = session, pane

    def items(self, step: Step, number: int, link: LinkSettings) -> list[Item]:
        """The lists that a link uses, and what keeps its own corrections in one."""
        items: list[Item] = [self._list_chip(step, number, list_id) for list_id in link.lists]
        if link.correct:
            keep = partial(self._keep, step, number)
            items.append(Chip("keep in a list …", keep, "Keep corrections", doing=True))
        return items

    def proposed(self, step: Step, outcome: Outcome) -> list[Item]:
        """The lists that would match rows which have no partner yet."""
        found = self._session.lists.proposed(step.id, outcome)[:_MOST_PROPOSED]
        return [Chip(e.said, partial(self._use, step, e), "Proposed list", doing=True) for e in found]

    def _use(self, step: Step, entry: Proposed, _: QWidget) -> None:
        self._session.lists.use(step.id, entry.link, entry.path)

    def repairs(self, step: Step) -> list[Item]:
        """What can be done about lists of a step's links that cannot be read."""
        made: list[Item] = []
        for number, link in enumerate(links_of(self._session.flow, step.id)):
            for list_id in link.lists:
                entry = self._session.flow.correction_list(list_id)
                if entry is None or entry.error:
                    leave = partial(self._leave, step, number, list_id)
                    made.append(
                        Chip(f"do without the list {self._called(list_id)}", leave, "List", doing=True)
                    )
        again = Chip("try again", lambda _: self._session.refresh(), "Again", doing=True)
        return [*made, again] if made else []

    def _leave(self, step: Step, number: int, list_id: str, _: QWidget) -> None:
        self._session.lists.leave(step.id, number, list_id)

    def choices(self, link: LinkSettings) -> list[Choice]:
        """Where a link is changed in one list: the lists that it could do without, and another one."""
        leave = [Choice(ListKey(entry), f"do without the list {self._called(entry)}") for entry in link.lists]
        return [Choice(ListKey(), "use a list of corrections …", "shared by flows and people"), *leave]

    def chosen(self, what: object, step: Step, number: int, link: LinkSettings) -> bool:
        """Carry out one of the `choices`; whether it was one."""
        if not isinstance(what, ListKey):
            return False
        if what.leave:
            self._session.lists.leave(step.id, number, what.leave)
        else:
            self.choose(step, number, link, self._pane.view)
        return True

    def _called(self, list_id: str) -> str:
        entry = self._session.flow.correction_list(list_id)
        return called(entry.path) if entry is not None else list_id

    def choose(self, step: Step, number: int, link: LinkSettings, anchor: QWidget) -> None:
        """Ask which list a link is to use besides."""
        used = {entry.path for entry in self._session.flow.lists if entry.id in link.lists}
        known = [path for path in self._session.lists.known() if path not in used]
        self._ask(
            "Which list of corrections?",
            known,
            anchor,
            chosen=lambda path: self._session.lists.use(step.id, number, path),
            other=lambda: self._pane.list_file_wanted.emit(step.id, number, False),
        )

    def _keep(self, step: Step, number: int, anchor: QWidget) -> None:
        self._ask(
            "In which list? Other flows and people can use it then.",
            self._session.lists.known(),
            anchor,
            chosen=lambda path: self._session.lists.keep(step.id, number, path),
            other=lambda: self._pane.list_file_wanted.emit(step.id, number, True),
        )

    def _ask(
        self,
        title: str,
        paths: Sequence[str],
        anchor: QWidget,
        *,
        chosen: Callable[[str], None],
        other: Callable[[], None],
    ) -> None:
        if not paths:
            other()
            return
        choices = [Choice(path, called(path), str(Path(path).parent)) for path in paths]
        choices.append(Choice(_OTHER, "another list …", "a file"))

        def pick(path: object) -> None:
            if isinstance(path, str):
                chosen(path)
            else:
                other()

        self._pane.open_list(Chooser(choices, self._pane, title=title), anchor, chosen=pick)

    def _list_chip(self, step: Step, number: int, list_id: str) -> Chip:
        entry = self._session.flow.correction_list(list_id)
        name = self._called(list_id)
        pairs = len(entry.pairs) if entry is not None else 0
        wrong = entry is None or bool(entry.error)
        said = "cannot be used" if wrong else counted(pairs, "pairs")

        def choose(anchor: QWidget) -> None:
            choices = [Choice(_LEAVE, f"do without the list {name}")]
            if entry is not None and not entry.error:
                choices.insert(0, Choice(_LOOK, "look through it …", "take pairs out, or add some"))
            title = entry.error if entry is not None and entry.error else f"The list {name}"

            def chosen(what: object) -> None:
                if what is _LEAVE:
                    self._session.lists.leave(step.id, number, list_id)
                elif entry is not None:
                    self._pane.list_wanted.emit(entry.path)

            self._pane.open_list(Chooser(choices, self._pane, title=title), anchor, chosen=chosen)

        return Chip(f"the list {name} · {said}", choose, "List of corrections", strong=wrong)
