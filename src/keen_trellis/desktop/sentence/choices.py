"""The choices that the chips of a sentence open: fields, preparations, questions."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PySide6.QtGui import QColor

from keen_trellis.core.filtering import Comparison
from keen_trellis.core.join_type import QUESTION_TYPES
from keen_trellis.core.link import COMPARE_AS, Taken
from keen_trellis.core.preparations import PREPARATIONS
from keen_trellis.core.relative_periods import NAMED
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType, common_exact_type, comparable
from keen_trellis.desktop.marks import mark_of
from keen_trellis.desktop.sentence.chooser import Choice
from keen_trellis.desktop.theme import theme
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings, MergeSettings
from keen_trellis.flow.wording import question
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.session import Session

# Choices that are no field and no preparation.
AS_EXPRESSION, BLANKS, BOTH_LINKS, CORRECT, LISTS, NAME_ALL, PARTNER_FOUND, SIDE = (
    object() for _ in range(8)
)
MATCHED_BY, SCORE = object(), object()
OTHER_DAYS = object()  # a period of any number of days

# The operators as the sentence says them, and what they mean.
OPERATOR_WORDS = {
    "=": ("with", "equal"),
    "<>": ("other than", "not equal"),
    "<": ("below", "less"),
    "<=": ("at most", "less or equal"),
    ">": ("above", "greater"),
    ">=": ("at least", "greater or equal"),
}
_TAKES = {
    Taken.EVERY.value: ("every match", "one row for each pair"),
    Taken.FIRST.value: ("the first match", "in the order of the right table"),
    Taken.LAST.value: ("the last match", "in the order of the right table"),
    Taken.LEAST.value: ("the match with the least", "value of a field; blanks never win"),
    Taken.GREATEST.value: ("the match with the maximum", "value of a field, as the latest date"),
    Taken.ONE.value: ("its one match", "several are an error that names them"),
    Taken.PAIR_OFF.value: ("a match that no other takes", "each right row is used once, in order"),
}


def side_colours(session: Session, step_id: str) -> tuple[QColor, QColor]:
    """The hues of the two sides of a knot."""
    found = []
    for entry in session.flow.step(step_id).inputs:
        mark = mark_of(session.flow, entry.step)
        found.append(theme().hue(mark.hue).mark if mark else theme().soft)
    return found[0], found[1]


def question_choices(session: Session, step_id: str, outcome: Outcome | None) -> list[Choice]:
    """The nine questions in the user's table names, with their row counts as soon as these are known."""
    step = session.flow.step(step_id)
    names = [shape.name for shape in outcome.inputs] if outcome and len(outcome.inputs) == 2 else []
    if not names:
        names = [session.flow.step(entry.step).name for entry in step.inputs]
    counts = outcome.result.match.counts if outcome and outcome.result and outcome.result.match else None
    hues = side_colours(session, step_id)
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


def preparation_choices(link: LinkSettings) -> list[Choice]:
    """What a link can ignore, as what it can compare, and whether blanks match; ticked as it is now."""
    found = [
        Choice(name, f"ignore {words}", ticked=name in link.ignore) for name, words in PREPARATIONS.items()
    ]
    found += [
        Choice(f"as {kind}", f"compare as {kind}", ticked=link.compare_as == kind) for kind in COMPARE_AS
    ]
    if link.operator in ("=", "<>"):
        found.append(Choice(BLANKS, "a blank matches a blank", ticked=link.blank_matches_blank))
    found.append(Choice(CORRECT, "correct single values …", "read this as that", ticked=bool(link.correct)))
    found.append(Choice(LISTS, "use a list of corrections …", "shared by flows and people", ticked=False))
    return found


def preparation_chosen(link: LinkSettings, keys: Sequence[Any]) -> dict[str, Any]:
    """The settings that the ticked ones among `preparation_choices` make."""
    kinds = [key.removeprefix("as ") for key in keys if isinstance(key, str) and key.startswith("as ")]
    # The one that was ticked last wins: a link compares as one type.
    now = [kind for kind in kinds if kind != link.compare_as] or kinds
    return {
        "ignore": tuple(key for key in keys if isinstance(key, str) and not key.startswith("as ")),
        "compare_as": now[0] if now else "",
        "blank_matches_blank": BLANKS in keys and link.operator in ("=", "<>"),
    }


def operator_choices() -> list[Choice]:
    """The operators, in words and by their signs."""
    return [Choice(sign, words, f"{sign}  {meaning}") for sign, (words, meaning) in OPERATOR_WORDS.items()]


def take_choices() -> list[Choice]:
    """Which of several matches a row can take."""
    return [Choice(name, words, detail) for name, (words, detail) in _TAKES.items()]


def take_words(take: str) -> str:
    """What is taken, as the sentence says it."""
    name, _, expression = take.partition(":")
    words = _TAKES.get(name, (take, ""))[0]
    return f"{words} {expression}" if expression else words


def merge_choices(session: Session, step_id: str, settings: JoinSettings) -> list[Choice]:
    """For each name that both sides have, to make one field of the two."""
    outcome = session.outcome(step_id)
    if outcome is None or len(outcome.inputs) != 2:
        return []
    left, right = outcome.inputs
    linked = {link.left for link in settings.links} | {link.right for link in settings.links}
    now = {entry.name: entry for entry in settings.merge}
    theirs = {field.name: field for field in right.fields}
    found = []
    for field in left.fields:
        other = theirs.get(field.name)
        if other is None or field.name in linked:
            continue
        if common_exact_type(field.arrow_type, other.arrow_type) is None:
            continue
        entry = now.get(field.name, MergeSettings(field.name))
        for first, shape in (("left", left), ("right", right)):
            key = MergeSettings(field.name, first)
            text = f"make “{field.name}” of both sides one field, {shape.name} first"
            found.append(Choice(key, text, ticked=field.name in now and entry == key))
    return found


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


def comparisons_for(fields: Sequence[Field]) -> list[Comparison]:
    """How all of these fields can be compared with values."""
    types = {field.type for field in fields}
    unfit = {Comparison.TRUE}
    if types - {FieldType.TEXT}:
        unfit |= {Comparison.CONTAINS, Comparison.BEGINS, Comparison.ENDS}
    if types - {FieldType.DATE, FieldType.TIMESTAMP}:
        unfit.add(Comparison.PERIOD)
    if not all(field.table for field in fields):
        unfit |= {Comparison.PARTNER, Comparison.NO_PARTNER}
    return [how for how in Comparison if how not in unfit]


def period_choices() -> list[Choice]:
    """The periods that are told from today, and one of any number of days."""
    named = [Choice(name, f"the {name}", "relative to today") for name in NAMED]
    return [*named, Choice(OTHER_DAYS, "another number of days …")]
