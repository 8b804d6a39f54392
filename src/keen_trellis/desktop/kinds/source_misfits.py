"""What a source's sentence says of values that are not of the type that their field had, with the repairs."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtWidgets import QWidget

from keen_trellis.core.conversion import converted_alone
from keen_trellis.core.errors import UsageError
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.part import SentencePart
from keen_trellis.desktop.sentence.view import Chip, Item, Word
from keen_trellis.flow.graph import Step
from keen_trellis.flow.plain_text import cut, visible
from keen_trellis.flow.remark import Remark
from keen_trellis.session import source_fields
from keen_trellis.session.outcome import Outcome

_LONGEST = 24


class SourceMisfits(SentencePart):
    """The part of the sentence that asks what such values are to be; one field after the other."""

    def items(self, step: Step, outcome: Outcome | None) -> list[Item]:
        """What is said of the first field with such values, and what can be done."""
        open_ = [remark for remark in (outcome.remarks if outcome is not None else ()) if remark.misfit_of]
        if not open_:
            return []
        first = open_[0]
        values = list(dict.fromkeys(place.value for place in first.places))
        which = f"“{visible(cut(values[0], _LONGEST))}”" if len(values) == 1 else "them"
        items: list[Item] = [
            Word(f"{first}. No output behind it is written until you say what is meant:", alarm=True),
            Chip(
                f"correct {which}",
                lambda anchor: self._ask(step, first, values, anchor),
                "Correct",
                doing=True,
            ),
            Chip("leave blank", lambda _: self._leave_blank(step, first), "Blank", doing=True),
            Chip("read as text on both sides", lambda _: self._as_text(step, first), "Text", doing=True),
        ]
        if len(open_) > 1:
            names = ", ".join(remark.field for remark in open_[1:])
            items.append(Word(f"Then {names}.", alarm=True))
        return items

    def _leave_blank(self, step: Step, remark: Remark) -> None:
        source_fields.leave_blank(self.session, step.id, remark.field, FieldType(remark.misfit_of))

    def _as_text(self, step: Step, remark: Remark) -> None:
        source_fields.read_as_text(self.session, step.id, remark.field)

    def _ask(self, step: Step, remark: Remark, values: Sequence[str], anchor: QWidget) -> None:
        """Ask for the value that is wrong, where there are several, and what it means."""
        if len(values) == 1:
            self._correct(step, remark, values[0])
            return
        rows = {place.value: f"row {place.row:,}" for place in reversed(remark.places)}
        choices = [Choice(value, visible(value), rows[value]) for value in values]
        chooser = Chooser(choices, self.pane, title=f"Which value of {remark.field} is wrong?")
        self.pane.open_list(chooser, anchor, chosen=lambda value: self._correct(step, remark, value))

    def _correct(self, step: Step, remark: Remark, value: str) -> None:
        kind = FieldType(remark.misfit_of)

        def check(text: str) -> None:
            if text.strip() and not converted_alone(text.strip(), kind):
                raise UsageError(f"“{text.strip()}” is no {kind.value}.", remedy="Leave it empty for blank.")

        def entered(text: str) -> None:
            source_fields.correct(self.session, step.id, remark.field, value, text.strip())

        title = f"Read “{visible(cut(value, _LONGEST))}” in {remark.field} as ({kind.value})"
        self.ask(self.pane.view, title, "", entered, check=check)
