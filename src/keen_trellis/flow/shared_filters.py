"""Shared filters: one condition for many rails. Making, changing, tying, and saying what they reach."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

import msgspec

from keen_trellis.core.filtering import WORDS, Comparison
from keen_trellis.core.values import FieldType
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input, SharedFilter, Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.naming import free_id, free_name
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.shared_filter import SharedFilterKind, TieSettings, tie_of

_SHOWN = 2
_PLAIN = re.compile(r"[\W_]+")


class Place(msgspec.Struct, frozen=True):
    """Where a filter can be tied to a rail: behind a step, by a field of its rows that came from `origin`."""

    source: str
    rows: Input
    field: str
    type: FieldType
    origin: str


def ties(flow: Flow, filter_id: str) -> list[Step]:
    """The steps that tie a shared filter to rails, in the order of the flow."""
    return [step for step in flow.steps if tie_of(step) == filter_id]


def filter_said(shared: SharedFilter) -> str:
    """A shared filter in words: “Region is North”, “Month is in the last full month”."""
    try:
        how = Comparison(shared.is_)
    except ValueError:
        return shared.name
    if how in (Comparison.FILLED, Comparison.BLANK):
        return f"{shared.name} {WORDS[how]}"
    if not shared.values:
        return f"{shared.name} is anything"
    joint = " and " if how is Comparison.BETWEEN else " or "
    shown = joint.join(shared.values[:_SHOWN])
    more = len(shared.values) - _SHOWN
    return f"{shared.name} {WORDS[how]} {shown}{f' or {more} more' if more > 0 else ''}"


def lane(flow: Flow, source: str) -> list[Step]:
    """The steps that carry the rows of a source on as their first input, from the source to a first end."""
    found: list[Step] = []
    step = flow.find(source)
    while step is not None and step not in found:
        found.append(step)
        here = Input(step.id)
        takers = [taker for taker in flow.consumers(step.id) if taker.inputs[0] == here]
        step = max(takers, key=lambda taker: len(flow.consumers(taker.id)), default=None)
    return found


def unreached(flow: Flow, shared: SharedFilter) -> list[str]:
    """The sources whose rows pass no tie of a filter, on their own rail or on one that joins them."""
    reached = {step for tie in ties(flow, shared.id) for step in _passing(flow, tie)}
    return [step.id for step in flow.steps if KINDS.begins_rail(step) and step.id not in reached]


def _passing(flow: Flow, tie: Step) -> set[str]:
    """The steps whose rows pass a tie; those of a blend's other tables are summed up before, and do not."""
    found: set[str] = set()
    waiting = [tie.id]
    while waiting:
        step = flow.find(waiting.pop())
        if step is not None and step.id not in found:
            found.add(step.id)
            inputs = step.inputs[:1] if KINDS.first_only(step) else step.inputs
            waiting.extend(entry.step for entry in inputs)
    return found


def feeds_blend(flow: Flow, source: str) -> bool:
    """Whether the rail that begins at a source leads into a blend."""
    on_rail = {step.id for step in lane(flow, source)}
    blends = [step for step in flow.steps if KINDS.first_only(step)]
    return any(entry.step in on_rail for blend in blends for entry in blend.inputs)


def _same_name(one: str, other: str) -> bool:
    return _PLAIN.sub("", one).casefold() == _PLAIN.sub("", other).casefold()


def place_for(
    flow: Flow, source: str, name: str, shapes: Mapping[str, InputShape], wanted: FieldType | None = None
) -> Place | None:
    """The first step of a source's rail whose rows have a field called `name`, of the wanted type if that is
    given, None if none has.

    shapes: by step, those of their rows, as far as they are known.
    """
    for step in lane(flow, source):
        shape = shapes.get(step.id)
        for field in shape.fields if shape is not None else ():
            if _same_name(field.name, name) and (wanted in (None, field.type) or field.untyped):
                return Place(source, Input(step.id), field.name, field.type, field.origin)
    return None


def places_for(flow: Flow, name: str, shapes: Mapping[str, InputShape]) -> list[Place]:
    """Where a filter by a field called `name` reaches rails: of one type, that of the first rail found.

    A rail whose field another rail has joined is not among them: filtered there, it would only leave the
    other rail's rows without a partner.
    """
    found: list[Place] = []
    for step in flow.steps:
        if KINDS.begins_rail(step):
            place = place_for(flow, step.id, name, shapes, found[0].type if found else None)
            if place is not None and all(place.rows != entry.rows for entry in found):
                found.append(place)
    lent = {place.origin for place in found if place.origin != place.source}
    return [place for place in found if place.source not in lent]


def add_filter(flow: Flow, name: str, places: Sequence[Place], how: Comparison) -> tuple[Flow, str]:
    """Name a filter once for the flow, tied to all these places; the flow and the filter's id."""
    id_ = free_id(name, {f.id for f in flow.filters}, "filter")
    shared = SharedFilter(id_, free_name(name, {f.name for f in flow.filters}), how.value)
    flow = msgspec.structs.replace(flow, filters=(*flow.filters, shared))
    for place in places:
        flow = tie(flow, id_, place.rows, place.field)[0]
    return flow, id_


def tie(flow: Flow, filter_id: str, rows: Input, field: str) -> tuple[Flow, str]:
    """Tie a filter to a rail behind a port; the flow and the tie's id."""
    settings = TieSettings(filter=filter_id, of=field)
    flow, new = edits.insert_after(flow, rows, SharedFilterKind.name, settings)
    shared = flow.shared_filter(filter_id)
    if shared is not None:
        wanted = f"{shared.name} of {edits.rail_name(flow, rows.step)}"
        flow = edits.rename(flow, new, free_name(wanted, {step.name for step in flow.steps}))
    return flow, new


def change_filter(flow: Flow, filter_id: str, **changes: object) -> Flow:
    """Give a filter another name, comparison or other values."""
    filters = tuple(
        msgspec.structs.replace(entry, **changes) if entry.id == filter_id else entry
        for entry in flow.filters
    )
    return msgspec.structs.replace(flow, filters=filters)


def remove_filter(flow: Flow, filter_id: str) -> Flow:
    """Take a filter out, with all its ties."""
    for step in ties(flow, filter_id):
        flow = edits.remove_step(flow, step.id)
    filters = tuple(entry for entry in flow.filters if entry.id != filter_id)
    return msgspec.structs.replace(flow, filters=filters)
