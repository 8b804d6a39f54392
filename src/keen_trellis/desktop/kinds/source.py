"""The sentence of a source: where it is read from and how, each part to be changed in its place."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.reason import rows_said
from keen_trellis.desktop.kinds.source_calendar import SourceCalendar
from keen_trellis.desktop.kinds.source_field_list import SourceFields
from keen_trellis.desktop.kinds.source_misfits import SourceMisfits
from keen_trellis.desktop.kinds.source_place import SourcePlace
from keen_trellis.desktop.kinds.source_sample import SourceSample
from keen_trellis.desktop.kinds.source_written import SourceWritten
from keen_trellis.desktop.kinds.view import KindView
from keen_trellis.desktop.sentence.host import SentenceHost
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.remarks import leave_items, remark_items
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.addresses import is_address
from keen_trellis.flow.graph import Step
from keen_trellis.flow.source_settings import (
    Settled,
    SourceSettings,
)
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.source import SourceKind
from keen_trellis.handbook import Chapter
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session
from keen_trellis.sources.readers import uses_of
from keen_trellis.sources.reading import CALENDAR_SPAN, TYPED_TABLE


class SourceSentence(SentencePart):
    """Builds the sentence of a source step, and carries out what its chips choose."""

    def __init__(self, session: Session, pane: SentenceHost) -> None:
        super().__init__(session, pane)
        self._place = SourcePlace(session, pane)
        self._calendar = SourceCalendar(session, pane)
        self._written = SourceWritten(session, pane)
        self._fields = SourceFields(session, pane)
        self._misfits = SourceMisfits(session, pane)
        self._sample = SourceSample(session, pane)

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        """The whole sentence."""
        settings: SourceSettings = KINDS.settings(step)
        read = self.session.sources().get(step.id)
        snapshot = self.session.library.known(read) if read is not None else None
        settled = snapshot.settled if snapshot is not None else Settled()
        if uses_of(settings) >= TYPED_TABLE:
            items: list[Item] = [
                Word(f"{step.name}, typed into this flow:"),
                Chip("edit its rows", lambda _: self.pane.typing_wanted.emit(), "Rows", doing=True),
            ]
        elif uses_of(settings) >= CALENDAR_SPAN:
            items = self._calendar.span(step, settings)
        else:
            items = [Word("Read"), *self._place.table(step, settings)]
            items += self._place.gathering(step, settings)
            items += self._written.layout(step, settings, settled)
            items += self._written.writing(step, settings, settled)
        if outcome is not None and outcome.result is not None:
            table = outcome.result.rows
            items += self._sample.rows(step, settings, table.fields)
            items += [Word(","), self._fields.chip(step, settings, len(table.fields))]
            rows = rows_said(table.rows)
            items += [
                Word(","),
                Word(f"{rows}." if not outcome.partial else f"the first {rows}; reading on."),
            ]
        if snapshot is not None and snapshot.old:
            items.append(Word(f"These are the rows from before. {snapshot.old}", alarm=True))
            items += self._repairs(step)
        if outcome is not None and outcome.result is not None and not outcome.partial:
            asked = self._misfits.items(step, outcome)
            items += asked or remark_items(self.pane, outcome.remarks)
        return items

    def error_items(self, step: Step, error: TrellisError) -> list[Item]:
        said = Word(f"{step.name}: {error.what} {error.remedy}".strip(), alarm=True)
        return [said, *self._repairs(step, error)]

    def _repairs(self, step: Step, error: TrellisError | None = None) -> list[Item]:
        """What can be done about a source that cannot be read."""
        settings: SourceSettings = KINDS.settings(step)
        items = leave_items(self.pane, error)
        if not items and not is_address(settings.path) and settings.path:
            beside = self.session.beside_the_flow(settings.path)
            if beside:
                text = f"use {Path(beside).name} in the flow’s folder"
                items.append(
                    Chip(text, lambda _: self.pane.moved.emit(step.id, beside), "Beside", doing=True)
                )
            choose = Chip(
                "choose the file", lambda _: self.pane.path_wanted.emit(step.id), "File", doing=True
            )
            items.append(choose)
        if uses_of(settings) >= TYPED_TABLE:
            items.append(Chip("type its rows", lambda _: self.pane.typing_wanted.emit(), "Rows", doing=True))
        elif error is not None and not error.option and settings != _as_it_is(settings):
            items.append(Chip("as detected", partial(self._as_found, step), "Found", doing=True))
        again = self.session.compute_again if error is not None else self.session.refresh
        items.append(Chip("try again", lambda _: again(), "Again", doing=True))
        return items

    def _as_found(self, step: Step, _: QWidget) -> None:
        plain = _as_it_is(KINDS.settings(step))
        self.session.change_settings(step.id, plain, "Detect it again")

    def use_file(self, step: Step, path: Path) -> None:
        self.pane.moved.emit(step.id, str(path))

    def choose_field(self, step: Step, name: str) -> None:
        self._fields.choose_field(step, name)

    def settle_row(self, step: Step, what: str, row: int) -> None:
        self._written.settle_row(step, what, row)


def _as_it_is(settings: SourceSettings) -> SourceSettings:
    """The same source with nothing set by hand."""
    return SourceSettings(settings.reader, settings.path, settings.table)


VIEW = KindView(SourceKind.name, SourceSentence, chapter=Chapter.TABLES)
