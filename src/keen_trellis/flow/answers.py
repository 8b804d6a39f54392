"""Answers of whoever keeps the data: a report's rows without a partner come back with a column filled in.

Each answer is about a value of one side of a knot: yes or no to what it probably means, the value that it
means, or that it has no partner and needs none.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import msgspec

from keen_trellis.core.errors import SourceError
from keen_trellis.core.table import Table
from keen_trellis.core.values import as_text
from keen_trellis.flow.edits import change_settings
from keen_trellis.flow.graph import Flow
from keen_trellis.flow.kinds import Kinds
from keen_trellis.flow.mending import read_as
from keen_trellis.flow.reviewing import ANSWER, AS, NO, READ, YES
from keen_trellis.flow.steps.join import AcceptedSettings, JoinSettings

KNOT, SIDE, ABSENT = "knot", "side", "absent"
COLUMNS = (READ, AS, ANSWER, KNOT, SIDE)
_SIDES = ("left", "right")
_NONE = (ABSENT, "none", "no partner")


class Answer(msgspec.Struct, frozen=True):
    """One answer, and where it is written: a sheet and a row of it, from 1."""

    knot: str
    side: str
    read: str
    meant: str
    answer: str
    where: str


class Answered(msgspec.Struct, frozen=True):
    """A flow with answers taken over. corrected, absent, rejected: how many values of each."""

    flow: Flow
    corrected: int
    absent: int
    rejected: int

    @property
    def said(self) -> str:
        """What was taken over, in words."""
        values = "1 value is" if self.corrected == 1 else f"{self.corrected:,} values are"
        absent = "1 is" if self.absent == 1 else f"{self.absent:,} are"
        pairs = "1 pair is" if self.rejected == 1 else f"{self.rejected:,} pairs are"
        return f"{values} corrected, {absent} accepted as absent, {pairs} rejected."


def has_answers(table: Table) -> bool:
    """Whether a table has the columns that answers are read from."""
    return set(COLUMNS) <= set(table.names)


def answers_of(table: Table, sheet: str) -> Iterator[Answer]:
    """The answers in a table; rows without one say nothing."""
    columns = [as_text(cells.values).to_pylist() for cells in table.take(None, COLUMNS)]
    for number, (read, meant, answer, knot, side) in enumerate(zip(*columns, strict=True)):
        if answer is not None and answer.strip():
            place = table.origins(number)
            where = f"{sheet}, row {place[0].row if place else number + 1:,}"
            yield Answer(knot or "", side or "", read or "", meant or "", answer.strip(), where)


def with_answers(flow: Flow, kinds: Kinds, answers: Iterable[Answer], note: str = "") -> Answered:
    """The flow with answers taken over. note: why values are accepted as absent.

    SourceError, and nothing is taken over, for an answer that fits nothing or contradicts another.
    """
    meant: dict[tuple[str, str], str] = {}
    absent: dict[tuple[str, str], dict[str, None]] = {}
    rejected: dict[str, dict[tuple[str, str], None]] = {}
    seen: dict[tuple[str, str, str], Answer] = {}
    for entry in answers:
        _check(flow, kinds, entry)
        before = seen.setdefault((entry.knot, entry.side, entry.read), entry)
        if before.answer != entry.answer:
            raise SourceError(
                f"“{entry.read}” is answered with “{entry.answer}”, and in {before.where} with "
                f"“{before.answer}”.",
                where=entry.where,
                remedy="Give one value one answer.",
            )
        word = entry.answer.casefold()
        if word in _NONE:
            absent.setdefault((entry.knot, entry.side), {})[entry.read] = None
        elif word in NO:
            rejected.setdefault(entry.knot, {})[entry.read, entry.meant] = None
        else:
            meant[entry.knot, entry.read] = entry.meant if word in YES else entry.answer
    for (knot, read), value in meant.items():
        flow = read_as(flow, knot, 0, read, value)
    for (knot, side), values in absent.items():
        flow = _accepted(flow, kinds, knot, side, list(values), note)
    for knot, pairs in rejected.items():
        settings: JoinSettings = kinds.settings(flow.step(knot))
        kept = tuple(dict.fromkeys([*settings.rejected, *pairs]))
        flow = change_settings(flow, knot, msgspec.structs.replace(settings, rejected=kept))
    counts = sum(map(len, absent.values())), sum(map(len, rejected.values()))
    return Answered(flow, len(meant), *counts)


def _accepted(flow: Flow, kinds: Kinds, knot: str, side: str, values: list[str], note: str) -> Flow:
    settings: JoinSettings = kinds.settings(flow.step(knot))
    fresh = settings.not_accepted(side, values)
    if not fresh:
        return flow
    accepted = (*settings.accepted, AcceptedSettings(side, fresh, note))
    return change_settings(flow, knot, msgspec.structs.replace(settings, accepted=accepted))


def _check(flow: Flow, kinds: Kinds, entry: Answer) -> None:
    """SourceError for an answer that cannot be taken over."""
    step = flow.find(entry.knot)
    if step is None or not kinds.matches(step) or entry.side not in _SIDES:
        raise SourceError(
            f"It is about the {entry.side or '?'} side of “{entry.knot}”, and the flow has no such join.",
            where=entry.where,
            remedy="Leave the columns knot and side as they were exported, or take them from a new report.",
        )
    settings: JoinSettings = kinds.settings(step)
    word = entry.answer.casefold()
    if word in (*YES, *NO) and not entry.meant:
        raise SourceError(
            f"“{entry.answer}” answers nothing: the report has no value that “{entry.read}” may mean.",
            where=entry.where,
            remedy=f"Write the value that it means, or {ABSENT}.",
        )
    if len(settings.links) != 1 and word not in (*_NONE, *NO):
        raise SourceError(
            f"{step.name} has several link fields, so that “{entry.answer}” cannot be told to be of one.",
            where=entry.where,
            remedy=f"Write {ABSENT} there, or correct the values in the window.",
        )
    if not entry.read and word not in NO:
        raise SourceError(
            "The row has no link value to be read as another, or to be accepted.",
            where=entry.where,
            remedy="Fill the link field in the source, or drop these rows before the join.",
        )
