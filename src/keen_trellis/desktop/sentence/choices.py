"""The choices that the chips of a sentence open: fields, preparations, questions."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtGui import QColor

from keen_trellis.core.join_type import QUESTION_TYPES
from keen_trellis.core.preparations import PREPARATIONS
from keen_trellis.core.table import Field
from keen_trellis.core.values import comparable
from keen_trellis.desktop.document import Document, Outcome
from keen_trellis.desktop.marks import mark_of
from keen_trellis.desktop.sentence.chooser import Choice
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.wording import question


def side_colours(document: Document, step_id: str) -> tuple[QColor, QColor]:
    """The hues of the two sides of a knot."""
    found = []
    for entry in document.flow.step(step_id).inputs:
        mark = mark_of(document.flow, entry.step)
        found.append(theme().hue(mark.hue).mark if mark else theme().soft)
    return found[0], found[1]


def question_choices(document: Document, step_id: str, outcome: Outcome | None) -> list[Choice]:
    """The nine questions in the user's table names, with their row counts as soon as these are known."""
    step = document.flow.step(step_id)
    names = [shape.name for shape in outcome.inputs] if outcome and len(outcome.inputs) == 2 else []
    if not names:
        names = [document.flow.step(entry.step).name for entry in step.inputs]
    counts = outcome.result.match.counts if outcome and outcome.result and outcome.result.match else None
    hues = side_colours(document, step_id)
    choices = []
    for kind in QUESTION_TYPES:
        rows = f"{counts.rows_under(kind):,} rows · " if counts else ""
        text = question(kind, *names)
        choices.append(Choice(kind, text, f"{rows}{kind.trade_name}", sign=kind, hues=hues))
    return choices


def field_choices(fields: Sequence[Field], partner: Field | None) -> list[Choice]:
    """The fields of one side; what can never equal the other side's field says so."""
    choices = []
    for field in fields:
        fits = partner is None or comparable(field.type, partner.type)
        detail = (
            field.type.value
            if fits
            else f"{field.type.value}, cannot equal {partner.type.value if partner else ''}"
        )
        choices.append(Choice(field.name, field.name, detail))
    return choices


def preparation_choices(ignored: Sequence[str]) -> list[Choice]:
    """What a link can ignore, with what it ignores now ticked."""
    return [Choice(name, f"ignore {words}", ticked=name in ignored) for name, words in PREPARATIONS.items()]


def brought_choices(fields: Sequence[Field], chosen: Sequence[str] | None, linked: set[str]) -> list[Choice]:
    """The fields of one side to come along, chosen ones first in their order."""
    names = [field.name for field in fields]
    ticked = [name for name in (chosen if chosen is not None else names) if name in names]
    by_name = {field.name: field for field in fields}
    ordered = ticked + [name for name in names if name not in ticked]
    return [
        Choice(
            name,
            name,
            f"{by_name[name].type.value}{', link field' if name in linked else ''}",
            ticked=name in ticked,
        )
        for name in ordered
    ]
