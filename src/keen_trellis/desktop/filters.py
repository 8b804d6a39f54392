"""Shared filters in the window: what they reach, how many rows they leave, and the edits of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from keen_trellis.core.errors import TrellisError
from keen_trellis.core.filtering import Comparison
from keen_trellis.core.insight.summary import commonest, in_their_order
from keen_trellis.core.table import Field
from keen_trellis.core.task import Task
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.document import Document, Selection
from keen_trellis.flow import edits, shared_filters
from keen_trellis.flow.graph import Flow, Input, SharedFilter, Step
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.shared_filters import lane, ties, unreached
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import BlendKind
from keen_trellis.flow.steps.source import SourceKind
from keen_trellis.flow.wording import rows_called

_MOST_VALUES = 2_000


@dataclass(frozen=True)
class Reach:
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


def reaches(document: Document, shared: SharedFilter) -> list[Reach]:
    """What a shared filter does to every rail: first those that it reaches, then those that it does not."""
    flow, found = document.flow, []
    for tie in ties(flow, shared.id):
        outcome = document.outcome(tie.id)
        rows = outcome.tables[0].rows if outcome is not None and outcome.tables else -1
        left = outcome.result.rows.rows if outcome is not None and outcome.result is not None else -1
        source = next((s.id for s in flow.steps if s.kind == SourceKind.name and tie in lane(flow, s.id)), "")
        field = KINDS.settings(tie).of
        found.append(Reach(source, edits.rail_name(flow, tie.id), tie.id, field, rows, left))
    for source in unreached(flow, shared):
        outcome = document.outcome(source)
        rows = outcome.result.rows.rows if outcome is not None and outcome.result is not None else -1
        name = flow.step(source).name
        found.append(Reach(source, name, rows=rows, left=rows, apart=source in shared.apart))
    return found


def reach_said(entry: Reach, shared: SharedFilter) -> str:
    """What a shared filter leaves of one rail, in words."""
    if not entry.tie:
        return f"all {entry.rows:,}, not reached" if entry.rows >= 0 else "not reached"
    if entry.left < 0:
        return "not known yet"
    many = rows_called(entry.rail)[1]
    return f"{entry.left:,} of {entry.rows:,} {many}"


def filters_said(document: Document, blend: Step | None) -> dict[int, str]:
    """For each input of a blend its rows and what shared filters left of them, or which do not reach it."""
    found = {}
    for number, entry in enumerate(blend.inputs if blend is not None else ()):
        said = []
        way = _way_to(document.flow, entry)
        for shared in document.flow.filters:
            tied = [tie for tie in ties(document.flow, shared.id) if tie in way]
            outcome = document.outcome(tied[-1].id) if tied else None
            if shared.values and not tied:
                said.append(f"no {shared.name}")
            elif shared.values and outcome is not None and outcome.result is not None and outcome.tables:
                before = [f"{outcome.tables[0].rows:,}"] if not said else []
                said += [*before, f"{outcome.result.rows.rows:,} by {shared.name}"]
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


def why_rows_stay(document: Document, shared: SharedFilter) -> list[tuple[str, str]]:
    """Of each blend that a shared filter reaches in part: its id, and why its main table's rows stay."""
    flow, found = document.flow, []
    tied = {tie.id for tie in ties(flow, shared.id)}
    for step in flow.steps:
        if step.kind != BlendKind.name or not shared.values:
            continue
        reached = [bool(tied & flow.upstream(entry.step)) for entry in step.inputs]
        outcome = document.outcome(step.id)
        if not any(reached) or reached[0] or outcome is None or len(outcome.inputs) != len(step.inputs):
            continue
        names = [shape.name for shape in outcome.inputs]
        many = rows_called(names[0])[1]
        others = " and ".join(name for name, hit in zip(names[1:], reached[1:], strict=True) if hit)
        said = (
            f"all {many} stay: {shared.name} filters {others} before the blend, and does not reach {names[0]}"
        )
        blended = outcome.result.blended if outcome.result is not None else None
        if blended is not None:
            nothing = blended.found_nothing
            said = f"{said}; {nothing:,} {many} find nothing now"
        found.append((step.id, said))
    return found


# --- what can be chosen ---


def shapes_of(document: Document, flow: Flow, task: Task) -> dict[str, InputShape]:
    """The fields behind every step on the way of a source, as far as they can be known."""
    found = {}
    for step in flow.steps:
        try:
            found[step.id] = document.runner.shape(flow, Input(step.id), task)
        except TrellisError:
            continue
    return found


def fields_to_share(flow: Flow, shapes: dict[str, InputShape]) -> list[tuple[Field, int]]:
    """The fields that a shared filter could be named after, and how many rails have them, most first."""
    found: dict[str, tuple[Field, int]] = {}
    for step in flow.steps:
        if step.kind == SourceKind.name:
            for passed in lane(flow, step.id):
                for field in shapes[passed.id].fields if passed.id in shapes else ():
                    if field.name not in found:
                        places = shared_filters.places_for(flow, field.name, shapes)
                        found[field.name] = (field, len(places))
    return sorted(found.values(), key=lambda entry: -entry[1])


@dataclass(frozen=True)
class SharedValue:
    """A value that some reached rails have, and how many rows of each."""

    text: str
    rows: tuple[tuple[str, int], ...]


def values_of(document: Document, shared: SharedFilter, task: Task) -> list[SharedValue]:
    """The values of all rails that a filter reaches, united: dates and numbers in their order, others of most
    rails first.
    """
    flow, runner = document.flow, document.runner
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


def share(document: Document, name: str, shapes: dict[str, InputShape]) -> str:
    """Name a filter by a field, tied to every rail that has it; its id."""
    flow = document.flow
    places = shared_filters.places_for(flow, name, shapes)
    flow, id_ = shared_filters.add_filter(flow, name, places, Comparison.ONE_OF)
    document.edit(flow, f"Share a filter by {name}", Selection(slat=id_))
    return id_


def change(document: Document, filter_id: str, said: str, **changes: object) -> None:
    """Give a shared filter another name, comparison or other values."""
    document.edit(shared_filters.change_filter(document.flow, filter_id, **changes), said)


def set_apart(document: Document, shared: SharedFilter, source: str) -> None:
    """Note that a filter need not reach a rail, or that it should after all."""
    apart = tuple(entry for entry in shared.apart if entry != source)
    if len(apart) == len(shared.apart):
        apart = (*apart, source)
    name = document.flow.step(source).name
    change(document, shared.id, f"{shared.name} need not reach {name}", apart=apart)


def remove(document: Document, filter_id: str) -> None:
    """Take a shared filter out, with its ties."""
    shared = document.flow.shared_filter(filter_id)
    if shared is not None:
        flow = shared_filters.remove_filter(document.flow, filter_id)
        document.edit(flow, f"Remove the filter {shared.name}", Selection())


def tie_by(document: Document, shared: SharedFilter, source: str, field: str, behind: str) -> None:
    """Tie a filter to a rail behind one of its steps, by a field of its rows."""
    flow = shared_filters.tie(document.flow, shared.id, Input(behind), field)[0]
    document.edit(flow, f"Tie {shared.name} to {document.flow.step(source).name} by {field}")


def fields_for(document: Document, source: str, shapes: dict[str, InputShape]) -> list[tuple[str, Field]]:
    """By which fields a filter could be tied to a rail, each with the first step that has it."""
    found: dict[str, tuple[str, Field]] = {}
    for step in lane(document.flow, source):
        for field in shapes[step.id].fields if step.id in shapes else ():
            found.setdefault(field.name, (step.id, field))
    return list(found.values())


def with_shapes(document: Document, then: Callable[[dict[str, InputShape]], None]) -> None:
    """Find out the fields of all steps off the interface's thread, and go on with them."""
    flow = document.flow
    document.jobs.start(
        "looking at the fields of all rails",
        lambda task: shapes_of(document, flow, task),
        then,
        document.failed.emit,
    )


def selected_filter(document: Document) -> SharedFilter | None:
    """The shared filter whose slat is selected, or None."""
    return document.flow.shared_filter(document.selection.slat)
