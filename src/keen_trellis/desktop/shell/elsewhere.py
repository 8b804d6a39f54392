"""Another file, table or address for a source: what is different there is shown before it is taken."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import msgspec
from PySide6.QtCore import QObject, QPoint, Qt
from PySide6.QtWidgets import QMessageBox, QWidget

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.changes import FieldChange, FieldChangeKind
from keen_trellis.core.task import Task
from keen_trellis.desktop.plain import PlainBox
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.shell.address import ask_address
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.flow.addresses import is_address
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.patterns import shown_name
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.other_sources import OtherSource, Repair, other_source, place_of
from keen_trellis.sources.library import FileContent

_FILE, _ADDRESS, _TAKE, _NEW = "file", "address", "take", "new"
_NAMED = 4  # so many new fields are named


class _Offer(msgspec.Struct):
    """What can be taken: the source that was asked for first, then those that were read from the same file.

    own: repairs that the user chose, by source step.  ticks: what was ticked or not, by its line's key.
    """

    others: Sequence[OtherSource]
    own: dict[str, tuple[Repair, ...]] = msgspec.field(default_factory=dict)
    ticks: dict[Any, bool] = msgspec.field(default_factory=dict)

    def repairs(self, other: OtherSource) -> tuple[Repair, ...]:
        chosen = self.own.get(other.step, ())
        names = {repair.field for repair in chosen}
        return (*(repair for repair in other.repairs if repair.field not in names), *chosen)

    def lines(self) -> list[Choice]:
        """Taking it; what can be ticked; what is different besides."""
        lines = [Choice(_TAKE, "read it so", "with what is ticked")]
        for n, other in enumerate(self.others):
            if n:
                said = f"read {other.name} from it, too"
                lines.append(Choice(other, said, other.now.table, ticked=self.ticks.get(other, True)))
            lines += self._of(other, f"{other.name}: " if len(self.others) > 1 else "")
        return lines

    def _of(self, other: OtherSource, whose: str) -> list[Choice]:
        mended, lines = set(), []
        for repair in self.repairs(other):
            names = {repair.field, repair.rename}
            said = "; ".join(str(change) for change in other.changes if change.name in names)
            ticked = self.ticks.get((other, repair), repair.proposed)
            lines.append(Choice((other, repair), f"{whose}{repair}", said, ticked=ticked))
            mended |= names
        rest = [change for change in other.changes if change.name not in mended]
        new = [change.name for change in rest if change.kind is FieldChangeKind.ADDED]
        for change in rest:
            if change.kind is FieldChangeKind.GONE:
                choose = "choose what stands for it …" if new else ""
                lines.append(Choice((other, change), f"{whose}{change}", choose))
        if new:
            further = f" and {len(new) - _NAMED} others" if len(new) > _NAMED else ""
            lines.append(Choice(_NEW, f"{whose}new: {', '.join(new[:_NAMED])}{further}"))
        return lines


class Elsewhere(QObject):
    """Asks where a source is to be read from, and reads it there once what is different was looked at."""

    def __init__(self, frame: Frame) -> None:
        super().__init__(frame)
        self._frame = frame
        self._session = frame.session
        frame.sentence.elsewhere_wanted.connect(self.ask)
        frame.sentence.moved.connect(self.look)

    # --- where ---

    def ask_selected(self) -> None:
        """Ask it of the source that is selected."""
        self.ask(self._session.selection.step, self._frame.sentence.view)

    def ask(self, step_id: str, anchor: QWidget) -> None:
        """Let a table of the margin be chosen, or another file, or an address be typed."""
        old = self._settings(step_id)
        choices = [
            Choice((path, entry.name), entry.name, shown_name(path))
            for path, state in self._session.margin.files.items()
            if state.content is not None
            for entry in state.content.tables
        ]
        choices += [
            Choice(_FILE, "another file …", "that is not in the margin"),
            Choice(_ADDRESS, "an address or a pattern of files …"),
        ]
        name = self._session.flow.step(step_id).name

        def chosen(key: object) -> None:
            if key == _ADDRESS:
                ask_address(self._frame, lambda place: self.look(step_id, place))
            elif key == _FILE:
                self._frame.sentence.path_wanted.emit(step_id)
            elif isinstance(key, tuple) and key != (old.path, old.table):
                self.look(step_id, key[0], key[1])

        chooser = Chooser(
            choices, self._frame.sentence, title=f"Read {name} from", current=(old.path, old.table)
        )
        self._frame.sentence.open_list(chooser, anchor, chosen=chosen)

    def _settings(self, step_id: str) -> SourceSettings:
        settings: SourceSettings = KINDS.settings(self._session.flow.step(step_id))
        return settings

    # --- what is different there ---

    def look(self, step_id: str, place: str, table: str = "") -> None:
        """Find out what is different there, and take it where nothing is; else show it first."""
        session, flow = self._session, self._session.flow
        old = self._settings(step_id)
        beside = [
            step
            for step, settings in session.sources().items()
            if old.path and settings.path == old.path != place and step != step_id
        ]

        def work(task: Task) -> FileContent | _Offer:
            content = session.library.content(place, task)
            found = content.settings(table) if table else content.same(old.table)
            if found is None:
                return content
            asked = [(step_id, found)]
            for step in beside if found.table.casefold() == old.table.casefold() or not table else ():
                same = content.same(KINDS.settings(flow.step(step)).table)
                asked += [(step, same)] if same is not None else []
            return _Offer([other_source(flow, step, where, session.library, task) for step, where in asked])

        def done(found: FileContent | _Offer) -> None:
            if session.flow.find(step_id) is None:
                return  # it was taken out meanwhile
            if isinstance(found, FileContent):
                self._ask_table(step_id, found)
            elif all(not other.changes for other in found.others) and (
                len(found.others) == 1 or self._is_lost(old)
            ):
                self._take(found.others, {})
            else:
                self._show(found)

        def failed(error: TrellisError) -> None:
            self._frame.warn(f"Read {flow.step(step_id).name} from elsewhere", error)

        session.jobs.start(f"looking into {Path(place).name}", work, done, failed)

    def _ask_table(self, step_id: str, content: FileContent) -> None:
        """Which of several tables, none of them called as the one before."""
        choices = [Choice(entry.name, entry.name, entry.sort) for entry in content.tables]
        chooser = Chooser(choices, self._frame.sentence, title=f"Table of {Path(content.path).name}")
        self._open(chooser, chosen=lambda table: self.look(step_id, content.path, table))

    def _open(self, chooser: Chooser, **then: Callable[..., None] | None) -> None:
        """Open a list under the sentence; what it was asked from is gone by now."""
        view = self._frame.sentence.view
        self._frame.sentence.open_list(chooser, view, at=QPoint(240, view.height() + 2), **then)

    def _show(self, offer: _Offer) -> None:
        first = offer.others[0]
        title = f"Read {first.name} from {place_of(first.now)}? What differs from {place_of(first.before)}:"
        chooser = Chooser(offer.lines(), self._frame.sentence, title=title, several=True)
        chooser.hint.setText("Space or a click to tick, Enter to read it so, Esc to leave it as it was")

        def take() -> None:
            ticked = [choice.key for choice in chooser.choices if choice.ticked]
            others = [first, *(other for other in offer.others if other in ticked)]
            repairs = {
                other.step: [repair for repair in offer.repairs(other) if (other, repair) in ticked]
                for other in others
            }
            self._take(others, repairs)

        def chosen(key: object) -> None:
            offer.ticks = {c.key: c.ticked for c in chooser.choices if c.ticked is not None}
            if key == _TAKE:
                take()
            elif isinstance(key, tuple) and isinstance(key[1], FieldChange):
                self._ask_instead(offer, *key)
            else:
                self._show(offer)  # a line that only tells something

        self._open(chooser, chosen=chosen, applied=lambda _: take())

    def _ask_instead(self, offer: _Offer, other: OtherSource, gone: FieldChange) -> None:
        """Which new field is to stand for one that is gone."""
        used = {repair.field for repair in offer.repairs(other) if repair.rename}
        kinds = FieldChangeKind
        new = [c.name for c in other.changes if c.kind is kinds.ADDED and c.name not in used]
        if not new:
            self._show(offer)
            return
        choices = [Choice(name, name) for name in new]
        chooser = Chooser(choices, self._frame.sentence, title=f"In place of {gone.name}")

        def chosen(name: str) -> None:
            mine = (*offer.own.get(other.step, ()), Repair(name, rename=gone.name, proposed=True))
            self._show(_Offer(offer.others, {**offer.own, other.step: mine}, offer.ticks))

        self._open(chooser, chosen=chosen, dismissed=lambda: self._show(offer))

    # --- taking it ---

    def _is_lost(self, settings: SourceSettings) -> bool:
        """Whether the file that a source is read from is gone."""
        return not is_address(settings.path) and not Path(settings.path).exists()

    def _take(self, others: Sequence[OtherSource], repairs: dict[str, list[Repair]]) -> None:
        first = others[0]
        old, new = first.before.path, first.now.path

        def edit(flow: Flow) -> Flow:
            if self._is_lost(first.before):
                # What stands in the margin only moves with it.
                files = tuple(dict.fromkeys(new if file == old else file for file in flow.files))
                flow = msgspec.structs.replace(flow, files=files)
            for other in others:
                flow = other.taken(flow, repairs.get(other.step, ()))
            return flow

        names = " and ".join(other.name for other in others)
        if self._session.apply(f"Read {names} from {Path(new).name}", edit) and self._is_lost(first.before):
            self._offer_lost(old, new)

    def _offer_lost(self, old: str, new: str) -> None:
        """Offer the same for the files that were lost with this one."""
        siblings = self._session.margin.lost_with(old, new)
        if not siblings:
            return
        names = " and ".join(Path(path).name for path in siblings.values())
        box = PlainBox(
            QMessageBox.Icon.Question,
            "Others have moved too",
            f"{names} is there, too." if len(siblings) == 1 else f"{names} are there, too.",
            parent=self._frame,
        )
        box.setInformativeText(f"Use {'it' if len(siblings) == 1 else 'them'} from there as well?")
        use = box.addButton("Use it" if len(siblings) == 1 else "Use them", QMessageBox.ButtonRole.AcceptRole)
        box.addButton("Leave it" if len(siblings) == 1 else "Leave them", QMessageBox.ButtonRole.RejectRole)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        use.clicked.connect(lambda: self._session.margin.use_files(siblings))
        box.open()
