"""A knot's reasons, and mends as edits of its settings."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np

from keen_trellis.core.errors import UsageError
from keen_trellis.core.expressions.quoting import quoted_text
from keen_trellis.core.filling import Gaps
from keen_trellis.core.filtering import Comparison
from keen_trellis.core.insight.mended import MendedPairs, mended_pairs
from keen_trellis.core.insight.reason import Mend, Reason, Way
from keen_trellis.core.insight.reasons import Asked, explain
from keen_trellis.core.insight.unexplained_rows import written
from keen_trellis.core.join_type import type_keeping
from keen_trellis.core.joining import Side
from keen_trellis.core.match import Match
from keen_trellis.core.table import ChosenRows, Field, IndexVector, Table
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.flow.corrections import listed_pairs
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.edits import change_settings, insert_after, insert_before
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.steps.distinct import DistinctKind, DistinctSettings, KeySettings
from keen_trellis.flow.steps.fill import FillKind, FillSettings, FillStepSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterKind, FilterSettings
from keen_trellis.flow.steps.join import AcceptedSettings, JoinKind, JoinSettings, LinkSettings
from keen_trellis.flow.wording import rows_called


class Explained(msgspec.Struct, frozen=True):
    """Everything that is known of why a knot's rows match or do not.

    mended: the pairs that match only after mending, by mend.  pairs_until: for each reason that multiplies
    rows, how many pairs there are of its left rows up to each of them; else None.
    """

    reasons: tuple[Reason, ...]
    mended: tuple[MendedPairs, ...]
    pairs_until: tuple[IndexVector | None, ...] = ()


def explained(settings: JoinSettings, left: Table, right: Table, found: Match, task: Task) -> Explained:
    """The reasons of a knot and its mended pairs. Cancelled."""
    asked = settings.asked(left, right)
    reasons = explain(asked, found, task)
    until = tuple(
        np.cumsum(np.diff(found.first_pair_of_left)[reason.row_numbers], dtype=np.int64)
        if reason.kind.multiplies
        else None
        for reason in reasons
    )
    return Explained(tuple(reasons), tuple(mended_pairs(asked, found, task)), until)


def values_of(asked: Asked, reason: Reason) -> tuple[str, ...]:
    """The distinct link values of a reason's rows, as they are accepted as absent."""
    table = asked.left if reason.side == "left" else asked.right
    sides = [
        link.sides(asked.left.fields, asked.right.fields)[0 if reason.side == "left" else 1]
        for link in asked.links
    ]
    return tuple(dict.fromkeys(written(ChosenRows(table, reason.row_numbers), sides)))


def flow_after(
    flow: Flow,
    step_id: str,
    mend: Mend,
    reason: Reason,
    inputs: Sequence[InputShape],
    accepted: Sequence[str] = (),
) -> tuple[Flow, str]:
    """The flow with a mend made, and the step to look at then.

    inputs: what is known of the knot's inputs.  accepted: values that are accepted as absent.
    """
    step = flow.step(step_id)
    settings = decoded(step.settings, JoinSettings)
    own = inputs[0] if reason.side == "left" else inputs[1]
    place = 0 if reason.side == "left" else 1
    if mend.way is Way.DISTINCT:
        distinct = DistinctSettings(keys=_keys(mend), keep=mend.take.name, blanks_stay=True)
        return insert_before(flow, step_id, 1, DistinctKind.name, distinct)[0], step_id
    if mend.way is Way.FILTER:
        left_out = _filter(mend, own.fields)
        return insert_before(flow, step_id, place, FilterKind.name, left_out)[0], step_id
    if mend.way is Way.FILL:
        return _filled(flow, step_id, settings, reason.side, inputs)
    return change_settings(flow, step_id, _settings_after(flow, settings, mend, reason, accepted)), step_id


def _keys(mend: Mend) -> tuple[KeySettings, ...]:
    preparations = [link.preparation for link in mend.links]
    return tuple(
        KeySettings(text, preparation.names, preparation.compare_as)
        for text, preparation in zip(mend.fields, preparations, strict=True)
    )


def _filter(mend: Mend, fields: Sequence[Field]) -> FilterSettings:
    """What leaves rows out: those with certain words, or else those with blanks."""
    names = {field.name for field in fields}
    if mend.words:
        (text,) = mend.fields
        if text in names:
            others = ConditionSettings(text, Comparison.NONE_OF.value, mend.words)
            # A blank is not one of the words, and not something else either.
            blank = ConditionSettings(text, Comparison.BLANK.value)
            return FilterSettings(conditions=(others, blank), any_of=True)
        listed = ", ".join(quoted_text(word) for word in mend.words)
        condition = f"({text}) NOT IN ({listed}) OR ({text}) IS NULL"
        return FilterSettings(conditions=(ConditionSettings(condition, Comparison.TRUE.value),))
    return FilterSettings(
        conditions=tuple(
            ConditionSettings(text, Comparison.FILLED.value)
            if text in names
            else ConditionSettings(f"({text}) IS NOT NULL", Comparison.TRUE.value)
            for text in mend.fields
        )
    )


def _filled(
    flow: Flow,
    step_id: str,
    settings: JoinSettings,
    side: str,
    inputs: Sequence[InputShape],
) -> tuple[Flow, str]:
    """Keep the rows of one side that have no partner, and say so in the texts that the other side brings."""
    kept = settings.join_type
    wanted = type_keeping(
        unmatched_left=kept.keeps_unmatched_left or side == "left",
        matched=kept.keeps_matched,
        unmatched_right=kept.keeps_unmatched_right or side == "right",
    )
    if wanted is not None:
        settings = msgspec.structs.replace(settings, type=wanted.value)
    other, theirs = (inputs[1], Side.RIGHT) if side == "left" else (inputs[0], Side.LEFT)
    names = tuple(
        entry.field.name
        for entry in JoinKind().plan(settings, inputs)
        if entry.side is theirs and entry.field.type is FieldType.TEXT
    )
    if not names:
        raise UsageError(
            f"No text of {other.name} comes along that could be filled.",
            remedy=f"Bring a text field from {other.name} first.",
        )
    flow = change_settings(flow, step_id, settings)
    word = f"no {rows_called(other.name)[0]}"
    filled = FillSettings(fields=names, of=word, gaps=Gaps.NO_PARTNER.value)
    return insert_after(flow, Input(step_id), FillKind.name, FillStepSettings((filled,)))


def read_as(flow: Flow, step_id: str, number: int, read: str, meant: str) -> Flow:
    """The flow with one value of a knot's link field read as another.

    Where the other one is itself read as something, that is meant; that the two do not mean the same, as was
    said before, no longer holds.
    """
    settings = decoded(flow.step(step_id).settings, JoinSettings)
    link = settings.links[number]
    known = dict(link.correct)
    correct = known | {read: known.get(meant, meant)}
    links = list(settings.links)
    links[number] = msgspec.structs.replace(link, correct=tuple(correct.items()))
    rejected = tuple(pair for pair in settings.rejected if set(pair) != {read, meant})
    return change_settings(
        flow, step_id, msgspec.structs.replace(settings, links=tuple(links), rejected=rejected)
    )


def _settings_after(
    flow: Flow, settings: JoinSettings, mend: Mend, reason: Reason, values: Sequence[str] = ()
) -> JoinSettings:
    """The settings of a knot with a mend of its own made. values: those that are accepted as absent."""
    if mend.way is Way.ACCEPT:
        fresh = settings.not_accepted(reason.side, values)
        return msgspec.structs.replace(
            settings, accepted=(*settings.accepted, AcceptedSettings(reason.side, fresh))
        )
    links = tuple(
        _with_own_pairs(flow, LinkSettings.of(link), settings.links[number : number + 1])
        for number, link in enumerate(mend.links)
    )
    return msgspec.structs.replace(settings, links=links, take=mend.take.name)


def _with_own_pairs(flow: Flow, made: LinkSettings, before: Sequence[LinkSettings]) -> LinkSettings:
    """A link that a mend made of one that has lists of corrections: their pairs stay theirs."""
    for link in before:
        theirs = set(listed_pairs(flow, link.lists)) - set(link.correct)
        own = tuple(pair for pair in made.correct if pair not in theirs)
        made = msgspec.structs.replace(made, correct=own, lists=link.lists)
    return made
