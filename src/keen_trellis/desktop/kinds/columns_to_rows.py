"""The sentence of making rows of columns."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

import msgspec
from PySide6.QtWidgets import QWidget

from keen_trellis.core.unpivoting import unpivoted_fields
from keen_trellis.desktop.kinds.of_fields import OfFields
from keen_trellis.desktop.kinds.view import KindView, RailCommand
from keen_trellis.desktop.sentence.chooser import Choice
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.columns_to_rows import ColumnsToRowsKind, ColumnsToRowsSettings
from keen_trellis.flow.wording import listed, rows_called
from keen_trellis.session.outcome import Outcome

_BLANKS = {False: "blank cells too", True: "none for blank cells"}


class ColumnsToRowsSentence(OfFields):
    """Of Visitors, make one row for each of [Jan, Feb], its name in [month] and its cell in [visitors]."""

    title = "Which fields become rows, in this order?"
    verb = "Make rows of"

    def clauses(self, step: Step, settings: ColumnsToRowsSettings, shape: InputShape) -> Sequence[Item]:
        fields = listed(list(settings.of)) or "choose the fields"
        items: list[Item] = [
            Word(f"Of {shape.name}, make one {rows_called(shape.name)[0]} for each of"),
            Chip(fields, partial(self.choose_fields, step, shape), "Fields", doing=not settings.of),
        ]
        if not settings.of:
            return items
        choices = [Choice(without, words) for without, words in _BLANKS.items()]
        return [
            *items,
            Word(", its name in"),
            Chip(settings.name_field, partial(self._ask_name, step, shape, "name_field"), "Name"),
            Word("and its cell in"),
            Chip(settings.value_field, partial(self._ask_name, step, shape, "value_field"), "Value"),
            Word(","),
            Chip(_BLANKS[settings.no_blanks], partial(self._offer_blanks, step, choices), "Blanks"),
            Word("."),
        ]

    def came_out(self, outcome: Outcome) -> str:
        assert outcome.result is not None
        before, after = outcome.tables[0].rows, outcome.result.rows.rows
        return f"{before:,} rows become {after:,}." if before != after else f"{before:,} rows, as before."

    def _offer_blanks(self, step: Step, choices: Sequence[Choice], anchor: QWidget) -> None:
        self.offer(step, anchor, "no_blanks", choices, lambda without: f"Rows: {_BLANKS[without]}")

    def _ask_name(self, step: Step, shape: InputShape, which: str, anchor: QWidget) -> None:
        settings: ColumnsToRowsSettings = self.settings(step)

        def check(text: str) -> None:
            new = msgspec.structs.replace(settings, **{which: text.strip()})
            unpivoted_fields(shape.fields, new.of, new.name_field, new.value_field)

        of = "what the field was called" if which == "name_field" else "the cell"
        self.ask(
            anchor,
            f"What is the field for {of} called?",
            getattr(settings, which),
            lambda text: self.change(step, f"Call it {text.strip()}", **{which: text.strip()}),
            check=check,
        )


VIEW = KindView(
    ColumnsToRowsKind.name,
    ColumnsToRowsSentence,
    command=RailCommand(ColumnsToRowsSettings(), "Columns to rows", "Columns to ro&ws", "Shift+C"),
)
