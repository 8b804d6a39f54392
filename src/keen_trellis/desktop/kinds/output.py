"""The sentence of an output: what is written where, and how."""

from __future__ import annotations

from pathlib import Path

import msgspec
from PySide6.QtWidgets import QInputDialog, QWidget

from keen_trellis.desktop.kinds.view import KindView
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.output import OutputKind, OutputSettings
from keen_trellis.flow.wording import open_said
from keen_trellis.outputs.targets import settings_for
from keen_trellis.session.outcome import Outcome


class OutputSentence(SentencePart):
    """Write Loans to sheet [Data] of [loans.xlsx], 368 rows, 9 fields. [write it now]."""

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        settings: OutputSettings = KINDS.settings(step)
        what = outcome.inputs[0].name if outcome and outcome.inputs else "nothing yet"
        items: list[Item] = [Word(f"Write {what} to{' sheet' if settings.target.has_sheet else ''}")]
        if settings.target.has_sheet:
            items += [
                Chip(settings.sheet, lambda _: self._rename_sheet(step, settings), "Sheet"),
                Word("of"),
            ]
        items.append(Chip(settings.file_name, lambda _: self.pane.path_wanted.emit(step.id), "File"))
        if settings.target.is_text:
            items += [Word(","), Word("text that looks like a formula"), self._harmless_chip(step, settings)]
        if outcome is not None and outcome.error is not None:
            return [*items, Word(str(outcome.error), alarm=True)]
        if outcome is not None and outcome.result is not None:
            table = outcome.result.rows
            items += [Word(","), Word(f"{table.rows:,} rows, {len(table.fields)} fields.")]
            if outcome.result.open_cells:
                items.append(Word(f"{open_said(outcome.result.open_cells, 'without a partner')}."))
        items.append(
            Chip("write it now", lambda _: self.pane.write_wanted.emit(step.id), "Write", doing=True)
        )
        return items

    def use_file(self, step: Step, path: Path) -> None:
        settings: OutputSettings = self.settings(step)
        other = settings_for(path, harmless=settings.harmless)
        changed = msgspec.structs.replace(other, guards=settings.guards)
        if other.target.has_sheet:
            changed = msgspec.structs.replace(changed, sheet=settings.sheet)
        self.session.change_settings(step.id, changed, f"Use {path.name}")

    def _harmless_chip(self, step: Step, settings: OutputSettings) -> Chip:
        texts = {True: "made harmless", False: "as it is"}

        def choose(anchor: QWidget) -> None:
            choices = [
                Choice(True, "made harmless", "an apostrophe is put before it"),
                Choice(False, "as it is", "a spreadsheet program may run it"),
            ]
            self.pane.open_list(Chooser(choices, self.pane, current=settings.harmless), anchor, chosen=change)

        def change(harmless: bool) -> None:
            changed = msgspec.structs.replace(settings, harmless=harmless)
            self.session.change_settings(step.id, changed, f"Write formulas {texts[harmless]}")

        return Chip(texts[settings.harmless], choose, "Formulas")

    def _rename_sheet(self, step: Step, settings: OutputSettings) -> None:
        dialog = QInputDialog(self.pane)
        dialog.setWindowTitle("Sheet")
        dialog.setLabelText("Name of the sheet:")
        dialog.setTextValue(settings.sheet)
        dialog.textValueSelected.connect(
            lambda name: self.session.change_settings(
                step.id,
                msgspec.structs.replace(settings, sheet=name.strip()),
                f"Write to sheet {name.strip()}",
            )
        )
        dialog.open()


VIEW = KindView(OutputKind.name, OutputSentence)
