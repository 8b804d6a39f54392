"""Where an output goes, in its sentence: a sheet, a cell or a table, and what happens to what is there."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtWidgets import QWidget

from keen_trellis.core.errors import UsageError
from keen_trellis.desktop.kinds.output_part import OutputPart
from keen_trellis.desktop.sentence.chooser import Choice
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.cell_names import read_cell
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.output import APPEND, DELETE, LEAVE, NEW, REPLACE, UPDATE, OutputSettings
from keen_trellis.outputs.targets import places_in

_OTHER_SHEET, _FROM_CELL, _ALL_OF_IT = object(), object(), object()
_MODES = {
    REPLACE: ("in place of what is there", "asked before anything goes"),
    NEW: ("only if nothing is there", "existing rows are not touched"),
    APPEND: ("below what is there", "nothing goes"),
    UPDATE: ("updating rows of the same key", "new ones are added"),
}
_GONE = {LEAVE: ("leaving rows that are gone", ""), DELETE: ("deleting rows that are gone", "")}


class OutputPlace(OutputPart):
    """The part of the sentence about the place, and about what stands there."""

    def place(self, step: Step, settings: OutputSettings) -> list[Item]:
        if settings.target.names_table:
            return [
                Word("table"),
                Chip(settings.table, lambda anchor: self._name_table(step, settings, anchor), "Table"),
                Word("of"),
            ]
        if not settings.target.has_sheet:
            return []
        word = "table" if settings.table else "sheet"
        shown = settings.table or (
            f"{settings.sheet} from {settings.cell}" if settings.cell else settings.sheet
        )
        return [
            Word(word),
            Chip(shown, lambda anchor: self._choose_place(step, settings, anchor), "Place"),
            Word("of"),
        ]

    def mode(self, step: Step, settings: OutputSettings, shape: InputShape | None) -> list[Item]:
        modes = settings.target.modes
        if len(modes) < 3:
            return []
        choices = [Choice(mode, *_MODES[mode]) for mode in modes]

        def chosen(mode: str) -> None:
            if mode == UPDATE and not settings.key:
                self._choose_key(step, settings, shape, {"mode": mode})
                return
            self.change(
                step, f"Write {_MODES[mode][0]}", mode=mode, gone=LEAVE if mode != UPDATE else settings.gone
            )

        items: list[Item] = [
            Word(","),
            Chip(
                _MODES.get(settings.mode, (settings.mode, ""))[0],
                lambda anchor: self.choose(anchor, choices, chosen, current=settings.mode),
                "Mode",
            ),
        ]
        if settings.target.names_table:
            items += [
                Word("by" if settings.mode == UPDATE else ", key"),
                Chip(
                    ", ".join(settings.key) or "none",
                    lambda _: self._choose_key(step, settings, shape, {}),
                    "Key",
                ),
            ]
        if settings.mode == UPDATE:
            gone = [Choice(key, *said) for key, said in _GONE.items()]
            items += [
                Word(","),
                Chip(
                    _GONE[settings.gone][0],
                    lambda anchor: self.offer(
                        step, anchor, "gone", gone, lambda key: _GONE[key][0].capitalize()
                    ),
                    "Gone",
                ),
            ]
        return items

    def _choose_key(
        self, step: Step, settings: OutputSettings, shape: InputShape | None, more: dict[str, Any]
    ) -> None:
        names = self.written_names(settings, shape)
        choices = [Choice(name, name, ticked=name in settings.key) for name in names]

        def apply(key: list[str]) -> None:
            self.change(step, f"Tell rows apart by {', '.join(key)}", key=tuple(key), **more)

        title = "Fields that identify a row of the table"
        self.tick(self.pane.view, choices, apply, title=title)

    def _choose_place(self, step: Step, settings: OutputSettings, anchor: QWidget) -> None:
        existing = "cell" in settings.target.uses  # others are always files of their own
        sheets, tables = places_in(Path(settings.path)) if existing else ([], [])
        choices = [Choice(("sheet", name), name, "a sheet that is there") for name in sheets]
        choices += [Choice(("table", name), name, f"a table of {rows:,} rows") for name, rows in tables]
        choices.append(Choice(_OTHER_SHEET, "another sheet …"))
        if existing and not settings.table:
            choices.append(Choice(_FROM_CELL, "from a cell on …", settings.cell))
        if settings.cell:
            choices.append(Choice(_ALL_OF_IT, "the whole sheet"))
        current = ("table", settings.table) if settings.table else ("sheet", settings.sheet)

        def chosen(key: Any) -> None:
            if key is _OTHER_SHEET:
                self.ask(
                    anchor, "Name of the sheet", settings.sheet, lambda name: self._use_sheet(step, name)
                )
            elif key is _FROM_CELL:
                said = f"Cell of sheet {settings.sheet} where the header goes, as B4"
                self.ask(
                    anchor, said, settings.cell, lambda cell: self._from_cell(step, cell), check=_check_cell
                )
            elif key is _ALL_OF_IT:
                self.change(step, "Write the whole sheet", cell="")
            elif key[0] == "table":
                self.change(
                    step,
                    f"Write into {key[1]}",
                    **{**self.fresh("sheet", "cell", "as_table", "totals"), "table": key[1]},
                )
            else:
                self._use_sheet(step, key[1])

        self.choose(anchor, choices, chosen, current=current, title=f"Where in {settings.file_name}?")

    def _use_sheet(self, step: Step, name: str) -> None:
        self.change(
            step, f"Write to sheet {name.strip()}", **{**self.fresh("cell", "table"), "sheet": name.strip()}
        )

    def _from_cell(self, step: Step, cell: str) -> None:
        name = cell.strip().upper().replace("$", "")
        self.change(step, f"Write from {name} on", **{**self.fresh("as_table", "totals"), "cell": name})

    def _name_table(self, step: Step, settings: OutputSettings, anchor: QWidget) -> None:
        title = f"Table of {settings.file_name}, with its schema where it has one"
        self.ask(
            anchor,
            title,
            settings.table,
            lambda name: self.change(step, f"Write to table {name.strip()}", table=name.strip()),
        )


def _check_cell(text: str) -> None:
    if read_cell(text.strip()) is None:
        raise UsageError(f"“{text}” is not a cell.", remedy="Name one as B4.")
