"""Shared filters in the window: what they reach, how many rows they leave, and the edits of them."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.filtering import Comparison
from keen_trellis.core.insight.summary import commonest, in_their_order
from keen_trellis.core.table import Field
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.flow import edits, shared_filters
from keen_trellis.flow.graph import ROWS, Flow, Input, SharedFilter, Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.shared_filters import lane, ties, unreached
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.wording import rows_called
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session

_MOST_VALUES = 2_000


class Reach(msgspec.Struct, frozen=True):
    """How a shared filter stands to one rail. tie: the step that ties it, "" where it does not reach it.

    rows, left: before and behind the tie, -1 where not known.  apart: it is known that it need not reach it.
    """

    source: str
    rail: str
    tie: str = ""
    field: str = ""
    rows: int = -1
    left: int = -1
    apart: bool = False


def reaches(session: Session, shared: SharedFilter) -> list[Reach]:
    """What a shared filter does to every rail: first those that it reaches, then those that it does not."""
    flow, found = session.flow, []
    for tie in ties(flow, shared.id):
        outcome = session.outcome(tie.id)
        rows, left = _rows_around(outcome)
        source = next((s.id for s in flow.steps if KINDS.begins_rail(s) and tie in lane(flow, s.id)), "")
        field = KINDS.settings(tie).of
        found.append(Reach(source, edits.rail_name(flow, tie.id), tie.id, field, rows, left))
    for source in unreached(flow, shared):
        outcome = session.outcome(source)
        rows = _rows_around(outcome)[1]
        name = flow.step(source).name
        found.append(Reach(source, name, rows=rows, left=rows, apart=source in shared.apart))
    return found


def _rows_around(outcome: Outcome | None) -> tuple[int, int]:
    """How many rows a step on a rail takes, and how many it leaves; -1 where that is not known."""
    figures = outcome.figures if outcome is not None else None
    if figures is None:
        return -1, -1
    return figures.inputs[0] if figures.inputs else -1, figures.rows[ROWS]


def reach_said(entry: Reach, shared: SharedFilter) -> str:
    """What a shared filter leaves of one rail, in words."""
    if not entry.tie:
        return f"all {entry.rows:,}, not reached" if entry.rows >= 0 else "not reached"
    if entry.left < 0:
        return "not known yet"
    many = rows_called(entry.rail)[1]
    return f"{entry.left:,} of {entry.rows:,} {many}"


def filters_said(session: Session, blend: Step | None) -> dict[int, str]:
    """For each input of a blend its rows and what shared filters left of them, or which do not reach it."""
    found = {}
    for number, entry in enumerate(blend.inputs if blend is not None else ()):
        said = []
        way = _way_to(session.flow, entry)
        for shared in session.flow.filters:
            tied = [tie for tie in ties(session.flow, shared.id) if tie in way]
            outcome = session.outcome(tied[-1].id) if tied else None
            if shared.values and not tied:
                said.append(f"no {shared.name}")
            elif shared.values and outcome is not None and outcome.figures is not None:
                rows, left = _rows_around(outcome)
                before = [f"{rows:,}"] if not said else []
                said += [*before, f"{left:,} by {shared.name}"]
        if said:
            found[number] = ", ".join(said)
    return found


def _way_to(flow: Flow, entry: Input) -> list[Step]:
    """The steps on the lane that leads to a port."""
    found, step = [], flow.find(entry.step)
    while step is not None and step not in found:
        found.append(step)
        step = flow.find(step.inputs[0].step) if step.inputs else None
    return found


def why_rows_stay(session: Session, shared: SharedFilter) -> list[tuple[str, str]]:
    """Of each blend that a shared filter reaches in part: its id, and why its main table's rows stay."""
    flow, found = session.flow, []
    tied = {tie.id for tie in ties(flow, shared.id)}
    for step in flow.steps:
        if not KINDS.first_only(step) or not shared.values:
            continue
        reached = [bool(tied & flow.upstream(entry.step)) for entry in step.inputs]
        outcome = session.outcome(step.id)
        if not any(reached) or reached[0] or outcome is None or len(outcome.inputs) != len(step.inputs):
            continue
        names = [shape.name for shape in outcome.inputs]
        many = rows_called(names[0])[1]
        others = " and ".join(name for name, hit in zip(names[1:], reached[1:], strict=True) if hit)
        said = (
            f"all {many} stay: {shared.name} filters {others} before the blend, and does not reach {names[0]}"
        )
        blended = outcome.figures.blend if outcome.figures is not None else None
        if blended is not None:
            said = f"{said}; {blended.nothing:,} {many} find nothing now"
        found.append((step.id, said))
    return found


# --- what can be chosen ---


def shapes_of(session: Session, flow: Flow, task: Task) -> dict[str, InputShape]:
    """The fields behind every step on the way of a source, as far as they can be known."""
    found = {}
    for step in flow.steps:
        try:
            found[step.id] = session.runner.shape(flow, Input(step.id), task)
        except TrellisError:
            continue
    return found


def fields_to_share(flow: Flow, shapes: dict[str, InputShape]) -> list[tuple[Field, int]]:
    """The fields that a shared filter could be named after, and how many rails have them, most first."""
    found: dict[str, tuple[Field, int]] = {}
    for step in flow.steps:
        if KINDS.begins_rail(step):
            for passed in lane(flow, step.id):
                for field in shapes[passed.id].fields if passed.id in shapes else ():
                    if field.name not in found:
                        places = shared_filters.places_for(flow, field.name, shapes)
                        found[field.name] = (field, len(places))
    return sorted(found.values(), key=lambda entry: -entry[1])


class SharedValue(msgspec.Struct, frozen=True):
    """A value that some reached rails have, and how many rows of each."""

    text: str
    rows: tuple[tuple[str, int], ...]


def values_of(session: Session, shared: SharedFilter, task: Task) -> list[SharedValue]:
    """The values of all rails that a filter reaches, united: dates and numbers in their order, others of most
    rails first.
    """
    flow, runner = session.flow, session.runner
    rows: dict[str, list[tuple[str, int]]] = {}
    kinds: set[FieldType] = set()
    for tie in ties(flow, shared.id):
        table = runner.table(flow, tie.inputs[0], task)
        of = KINDS.settings(tie).of
        kinds.add(table.field(of).type)
        for share in commonest(table, of, _MOST_VALUES):
            rows.setdefault(share.text, []).append((edits.rail_name(flow, tie.id), share.rows))
    made = [SharedValue(text, tuple(of)) for text, of in rows.items()]
    order = in_their_order(rows, kinds.pop()) if len(kinds) == 1 else None
    if order is not None:
        return [SharedValue(text, tuple(rows[text])) for text in order]
    return sorted(made, key=lambda value: (-len(value.rows), -sum(count for _, count in value.rows)))


# --- edits ---


def share(session: Session, name: str, shapes: dict[str, InputShape]) -> str:
    """Name a filter by a field, tied to every rail that has it; its id."""
    places = shared_filters.places_for(session.flow, name, shapes)
    flow, id_ = shared_filters.add_filter(session.flow, name, places, Comparison.ONE_OF)
    session.apply(f"Share a filter by {name}", lambda _: flow, Selection(slat=id_))
    return id_


def change(session: Session, filter_id: str, said: str, **changes: object) -> None:
    """Give a shared filter another name, comparison or other values."""
    session.apply(said, lambda flow: shared_filters.change_filter(flow, filter_id, **changes))


def set_apart(session: Session, shared: SharedFilter, source: str) -> None:
    """Note that a filter need not reach a rail, or that it should after all."""
    apart = tuple(entry for entry in shared.apart if entry != source)
    if len(apart) == len(shared.apart):
        apart = (*apart, source)
    name = session.flow.step(source).name
    change(session, shared.id, f"{shared.name} need not reach {name}", apart=apart)


def remove(session: Session, filter_id: str) -> None:
    """Take a shared filter out, with its ties."""
    shared = session.flow.shared_filter(filter_id)
    if shared is not None:
        session.apply(
            f"Remove the filter {shared.name}",
            lambda flow: shared_filters.remove_filter(flow, filter_id),
            Selection(),
        )


def tie_by(session: Session, shared: SharedFilter, source: str, field: str, behind: str) -> None:
    """Tie a filter to a rail behind one of its steps, by a field of its rows."""
    session.apply(
        f"Tie {shared.name} to {session.flow.step(source).name} by {field}",
        lambda flow: shared_filters.tie(flow, shared.id, Input(behind), field)[0],
    )


def fields_for(session: Session, source: str, shapes: dict[str, InputShape]) -> list[tuple[str, Field]]:
    """By which fields a filter could be tied to a rail, each with the first step that has it."""
    found: dict[str, tuple[str, Field]] = {}
    for step in lane(session.flow, source):
        for field in shapes[step.id].fields if step.id in shapes else ():
            found.setdefault(field.name, (step.id, field))
    return list(found.values())


def with_shapes(session: Session, then: Callable[[dict[str, InputShape]], None]) -> None:
    """Find out the fields of all steps off the interface's thread, and go on with them."""
    flow = session.flow
    session.jobs.start(
        "looking at the fields of all rails",
        lambda task: shapes_of(session, flow, task),
        then,
        session.failed.emit,
    )


def selected_filter(session: Session) -> SharedFilter | None:
    """The shared filter whose slat is selected, or None."""
    return session.flow.shared_filter(session.selection.slat)
