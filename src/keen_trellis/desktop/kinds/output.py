"""The sentence of an output: what is written where, and how."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import msgspec

from keen_trellis.desktop.kinds.output_form import OutputForm
from keen_trellis.desktop.kinds.output_place import OutputPlace
from keen_trellis.desktop.kinds.view import KindView
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.addresses import is_address, shown_address
from keen_trellis.flow.graph import Step
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.output import APPEND, UPDATE, OutputKind, OutputSettings
from keen_trellis.flow.wording import counted, open_said
from keen_trellis.handbook import Chapter
from keen_trellis.outputs.targets import settings_for
from keen_trellis.session.outcome import Outcome


class OutputSentence(SentencePart):
    """Write Loans to sheet [Data] of [loans.xlsx], [in place of what is there], [all fields], [plainly]."""

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        settings: OutputSettings = KINDS.settings(step)
        shape = outcome.inputs[0] if outcome and outcome.inputs else None
        place, form = OutputPlace(self.session, self.pane), OutputForm(self.session, self.pane)
        what = shape.name if shape is not None else "nothing yet"
        shown = shown_address(settings.path) if is_address(settings.path) else settings.file_name
        updates = settings.mode == UPDATE
        doing = "Add" if settings.mode == APPEND else "Write"
        items: list[Item] = [
            Word("Update" if updates else f"{doing} {what} to"),
            *place.place(step, settings),
            Chip(shown, lambda _: self.pane.path_wanted.emit(step.id), "File"),
            *([Word(f"with {what}")] if updates else []),
            *place.mode(step, settings, shape),
            *form.fields(step, settings, shape),
            *form.split(step, settings, shape),
            *form.form(step, settings),
        ]
        if outcome is not None and outcome.error is not None:
            return [*items, Word(str(outcome.error), alarm=True)]
        if outcome is not None and outcome.result is not None:
            table = outcome.result.rows
            files = f" in {counted(outcome.result.files, 'files')}" if settings.split_by else ""
            items += [Word(","), Word(f"{table.rows:,} rows, {len(table.fields)} fields{files}.")]
            if outcome.result.open_cells:
                items.append(Word(f"{open_said(outcome.result.open_cells, 'without a partner')}."))
            items.append(Chip("look at it", lambda _: self.pane.raw_wanted.emit(), "Preview", doing=True))
        items.append(
            Chip("write it now", lambda _: self.pane.write_wanted.emit(step.id), "Write", doing=True)
        )
        return items

    def use_file(self, step: Step, path: Path) -> None:
        settings: OutputSettings = self.settings(step)
        other = settings_for(path, harmless=settings.harmless)
        kept: dict[str, Any] = {"guards": settings.guards, "fields": settings.fields}
        if other.writer == settings.writer:
            # Of the same sort: only the file is another one.
            other = msgspec.structs.replace(settings, path=other.path, delimiter=other.delimiter)
        elif other.target.has_sheet:
            kept["sheet"] = settings.sheet
        elif other.target.names_table:
            kept["table"] = settings.table or settings.sheet
        changed = msgspec.structs.replace(other, **kept)
        self.session.change_settings(step.id, changed, f"Use {path.name}")


VIEW = KindView(OutputKind.name, OutputSentence, chapter=Chapter.REPORT)
