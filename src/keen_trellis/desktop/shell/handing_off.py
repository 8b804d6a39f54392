"""What the window does to run the flow where its tables are: it asks where, and what is to be done there."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import msgspec
from PySide6.QtCore import QObject, QPoint, Qt
from PySide6.QtWidgets import QMessageBox

from keen_trellis.core.errors import GuardError, OutputError, TrellisError, UsageError
from keen_trellis.databases.engines import PasswordNeeded
from keen_trellis.desktop.plain import PlainBox
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.flow.addresses import shown_address
from keen_trellis.flow.source_settings import parts_read
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.to_sql import ends_of
from keen_trellis.handoff.whole import Done, Wanted, tables_named
from keen_trellis.outputs import writer_of
from keen_trellis.session import handing_off
from keen_trellis.session.running import never_written, output_targets

_BUCKETS = 64  # of a proof, unless the user says otherwise
_ADDRESS, _PARTS = "hand_off_address", "hand_off_parts"
_NOT_DONE = "The flow was not handed off"


class HandingOff(QObject):
    """The command that hands the flow off."""

    def __init__(self, frame: Frame) -> None:
        super().__init__(frame)
        self._frame = frame
        self._session = frame.session
        self._address = ""
        frame.bench.handed_off.asked.connect(self._do)

    def ask(self) -> None:
        """Ask where it is run."""
        known = str(self._frame.remembered.value(_ADDRESS) or "")
        title = "Where its tables are: postgresql://user@host/database, or sc://host:15002 for Spark"
        self._enter(title, known, handing_off.address_checked, self.choose)

    def choose(self, address: str) -> None:
        """Take a place, and show what can be asked of it."""
        self._address = handing_off.address_checked(address)
        self._frame.remembered.remember(_ADDRESS, self._address)
        self._frame.bench.handed_off.show_place(shown_address(self._address))

    def _enter(
        self,
        title: str,
        text: str,
        check: Callable[[str], object],
        entered: Callable[[str], None],
        *,
        several_lines: bool = False,
    ) -> None:
        entry = Entry(title, text, self._frame, check=check, several_lines=several_lines)
        entry.entered.connect(entered)
        entry.open_under(self._frame.sentence.view, at=QPoint(240, 4))

    def _do(self, what: str) -> None:
        """Do what was asked for on the panel."""
        if not self._address:
            self.ask()
        elif what == "prove":
            known = str(self._frame.remembered.value(_PARTS) or _BUCKETS)
            title = "On how many of 4,096 parts of the rows, cut by the values of their links?"
            self._enter(title, known, parts_read, self._prove)
        elif what == "whole":
            self._start(Wanted(self._address, None, whole=True))
        elif what == "tables":
            self._ask_tables()
        else:
            self._write()

    def _prove(self, text: str) -> None:
        self._frame.remembered.remember(_PARTS, text.strip())
        self._start(Wanted(self._address, parts_read(text), whole=False))

    def _ask_tables(self) -> None:
        """Ask for the names of the tables that are kept."""
        flow = self._session.flow
        ends = ends_of(flow, KINDS)
        names = [flow.step(end).name for end in ends]
        text = "\n".join(f"{name} = {_table_name(name)}" for name in names)
        title = "Each output and the new table that keeps it there; leave out those that are not kept"

        def check(typed: str) -> dict[str, str]:
            found = tables_named(filter(str.strip, typed.splitlines()), flow, ends)
            if not found:
                raise UsageError("No table is named.")
            return found

        def entered(typed: str) -> None:
            self._start(Wanted(self._address, self._parts, whole=True, tables=check(typed)))

        self._enter(title, text, check, entered, several_lines=True)

    @property
    def _parts(self) -> int:
        return parts_read(str(self._frame.remembered.value(_PARTS) or _BUCKETS))

    def _write(self) -> None:
        """Write the outputs here; what is there already is asked about."""
        try:
            targets = output_targets(self._session.flow, KINDS, None)
            if not targets:
                raise UsageError(
                    "The flow has no output.", remedy="Write some rows to a file or table first."
                )
            is_there = self._is_there(targets)
        except TrellisError as error:
            self._failed(error)
            return
        asked = Wanted(self._address, self._parts, whole=True, targets=targets, replace=is_there)
        if is_there:
            said = "Files or tables of the outputs exist already."
            self._confirm("Replace what is there?", said, "Replace", asked)
        else:
            self._start(asked)

    def _is_there(self, targets: Mapping[str, OutputSettings]) -> bool:
        """Whether something is replaced. OutputError for what must not be written at all."""
        session = self._session
        sources = never_written(session.flow, KINDS, session.library, session.path)
        for settings in targets.values():
            writer_of(settings).check(settings, sources, replace=True)
        try:
            for settings in targets.values():
                writer_of(settings).check(settings, sources, replace=False)
        except OutputError:
            return True
        return False

    def _confirm(self, title: str, said: str, yes: str, asked: Wanted) -> None:
        box = PlainBox(QMessageBox.Icon.Question, title, said, parent=self._frame)
        button = box.addButton(yes, QMessageBox.ButtonRole.AcceptRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        button.clicked.connect(lambda: self._start(asked))
        box.open()

    def _start(self, asked: Wanted) -> None:
        """Begin, with progress and cancel in the status line."""

        def done(found: Done) -> None:
            self._frame.bench.handed_off.show_done(found)
            if found.proof is not None and not found.proof.equal:
                self._frame.status.say("It does not come to the same there and here.", alarm=True)

        def failed(error: TrellisError) -> None:
            if isinstance(error, GuardError):
                despite = msgspec.structs.replace(asked, despite_guards=True)
                self._confirm("Guards are not checked there", error.what, "Go on", despite)
            else:
                self._failed(error)

        handing_off.start(self._session, asked, done, failed)

    def _failed(self, error: TrellisError) -> None:
        if isinstance(error, PasswordNeeded):
            self._frame.status.say("Hand it off once more when the password is given.", alarm=True)
            self._frame.sentence.password_wanted.emit(error.address)
        else:
            self._frame.warn(_NOT_DONE, error)


def _table_name(name: str) -> str:
    """What a table is proposed to be called."""
    kept = "".join(sign if sign.isalnum() else "_" for sign in name.rpartition(".")[0] or name)
    return kept.strip("_").lower() or "rows"
