"""A knot's reasons, and mends as edits of its settings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import msgspec

from keen_trellis.core.insight.mended import MendedPairs, mended_pairs
from keen_trellis.core.insight.open_rows import written
from keen_trellis.core.insight.reason import Mend, Reason, Way
from keen_trellis.core.insight.reasons import Asked, explain
from keen_trellis.core.link import Take
from keen_trellis.core.match import Match
from keen_trellis.core.table import ChosenRows, Table
from keen_trellis.core.task import Task
from keen_trellis.flow.steps.join import AcceptedSettings, JoinSettings, LinkSettings


@dataclass(frozen=True)
class Explained:
    """Everything that is known of why a knot's rows match or do not.

    mended: the pairs that match only after mending, by mend.
    """

    reasons: tuple[Reason, ...]
    mended: tuple[MendedPairs, ...]


def asked_of(settings: JoinSettings, left: Table, right: Table) -> Asked:
    """What there is to explain about a knot."""
    any_of = settings.any_of and len(settings.links) > 1
    accepted = tuple(
        tuple(value for entry in settings.accepted if entry.side == side for value in entry.values)
        for side in ("left", "right")
    )
    return Asked(
        left,
        right,
        settings.link_fields,
        any_of,
        Take.named(settings.take),
        (accepted[0], accepted[1]),
        frozenset(settings.rejected),
    )


def explained(settings: JoinSettings, left: Table, right: Table, found: Match, task: Task) -> Explained:
    """The reasons of a knot and its mended pairs. Cancelled."""
    asked = asked_of(settings, left, right)
    reasons = explain(asked, found, task)
    return Explained(tuple(reasons), tuple(mended_pairs(asked, found, task)))


def values_of(asked: Asked, reason: Reason) -> tuple[str, ...]:
    """The distinct link values of a reason's rows, as they are accepted as absent."""
    table = asked.left if reason.side == "left" else asked.right
    sides = [
        link.sides(asked.left.fields, asked.right.fields)[0 if reason.side == "left" else 1]
        for link in asked.links
    ]
    return tuple(dict.fromkeys(written(ChosenRows(table, reason.row_numbers), sides)))


def settings_after(
    settings: JoinSettings, mend: Mend, reason: Reason, values: Sequence[str] = ()
) -> JoinSettings:
    """The settings of a knot with a mend made. values: those that are accepted as absent."""
    if mend.way is Way.ACCEPT:
        known = {value for entry in settings.accepted if entry.side == reason.side for value in entry.values}
        fresh = tuple(value for value in dict.fromkeys(values) if value not in known)
        return msgspec.structs.replace(
            settings, accepted=(*settings.accepted, AcceptedSettings(reason.side, fresh))
        )
    links = tuple(LinkSettings.of(link) for link in mend.links)
    return msgspec.structs.replace(settings, links=links, take=mend.take.name)
