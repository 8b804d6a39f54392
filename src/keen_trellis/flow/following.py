"""Asking after a value: the rows of every source that hold it, and their way through the flow to the outputs.

At each step: how many rows there are of it, which were dropped and by what, which found no partner and why,
which became several, what of it changed; and in which rows of the outputs it ends, or where it was lost.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import msgspec
import numpy as np

from keen_trellis.core.errors import UsageError
from keen_trellis.core.finding import rows_holding
from keen_trellis.core.table import IndexVector, Table, fields_behind
from keen_trellis.core.task import Task
from keen_trellis.flow.fates import BLANK, NO_PARTNER, Fate, How, Traced, cells_said, places_said
from keen_trellis.flow.graph import ROWS, Flow, Step
from keen_trellis.flow.kinds import StepResult
from keen_trellis.flow.runner import Runner

_COMPARED = 3  # rows whose cells are compared before and after a step
_MOST_CELLS = 4
_GAPS = (BLANK, NO_PARTNER)


@dataclass(frozen=True)
class Stage:
    """A step on the way. depth: how far from the source.  before, after: rows of it that come and that go on.

    rows: their numbers in the step's result.
    """

    step: str
    name: str
    depth: int
    before: int
    after: int
    fates: tuple[Fate, ...]
    rows: IndexVector = field(compare=False, repr=False)


class End(msgspec.Struct, frozen=True):
    """An output that the way leads to. rows: in which it ends.  said: where it was lost, or why it is there
    several times; "" if neither.
    """

    step: str
    name: str
    rows: int
    said: str


@dataclass(frozen=True)
class Way:
    """The way of the rows of one source, or of a step that made the value. fields: in which it is there.

    places: where the rows are, in words.  numbers: those of the rows.
    """

    step: str
    name: str
    fields: tuple[str, ...]
    rows: int
    places: str
    stages: tuple[Stage, ...]
    ends: tuple[End, ...]
    numbers: IndexVector = field(compare=False, repr=False)


class Followed(msgspec.Struct, frozen=True):
    """What is known of a value. loosely: it is nowhere as it was written, but otherwise in case or spaces.

    made: the ways begin at steps that made the value; no source holds it.
    """

    value: str
    loosely: bool
    made: bool
    ways: tuple[Way, ...]


def follow(
    runner: Runner,
    flow: Flow,
    value: str,
    task: Task | None = None,
    *,
    field_name: str = "",
    source: str = "",
) -> Followed:
    """Follow a value. field_name: the only field that is looked into.  source: the only step, by its id.

    Raises what computing a step raises; UsageError where no step has the field; Cancelled.
    """
    task = task or Task()
    results = {step.id: runner.result(flow, step.id, task) for step in flow.in_order()}
    _check_field(results, field_name)
    steps = [step for step in flow.in_order() if step.id in results and source in ("", step.id)]
    begins = [step for step in steps if runner.kinds.begins_rail(step)]
    for made, some in ((False, begins), (True, [step for step in steps if step not in begins])):
        for loosely in (False, True):
            ways = []
            for step in some:
                table = results[step.id].rows
                found = dict(_holding(table, value, field_name, task, loosely=loosely, made=made))
                if found:
                    ways.append(_way(runner, flow, step, results, found, task))
                if made and ways:
                    break  # behind the step that made it, it goes on
            if ways:
                return Followed(value, loosely, made, tuple(ways))
    return Followed(value, False, False, ())


def _holding(
    table: Table, value: str, field_name: str, task: Task, *, loosely: bool, made: bool
) -> Iterator[tuple[str, IndexVector]]:
    names = [name for name in table.names if field_name in ("", name)]
    if made:
        # What comes as it is was looked at where it comes from.
        known = {name for entry in table.gathered() for name in entry.names}
        names = [name for name in names if name not in known]
    return rows_holding(table, value, names, task, loosely=loosely)


def _check_field(results: Mapping[str, StepResult], name: str) -> None:
    if name and not any(name in result.rows.names for result in results.values()):
        known = dict.fromkeys(own for result in results.values() for own in result.rows.names)
        raise UsageError(
            f"No step has a field “{name}”.", remedy=f"There are: {', '.join(list(known)[:20])}."
        )


class _Going(msgspec.Struct):
    """A way as far as it was followed: by step and port its rows, and the fields that hold the value."""

    rows: dict[tuple[str, str], IndexVector]
    carriers: dict[tuple[str, str], tuple[str, ...]]
    depths: dict[str, int]


def _way(
    runner: Runner,
    flow: Flow,
    start: Step,
    results: Mapping[str, StepResult],
    found: Mapping[str, IndexVector],
    task: Task,
) -> Way:
    """The way of the rows of a step that hold a value, by the field that does."""
    numbers = np.unique(np.concatenate(list(found.values())))
    names = tuple(name for name in found if name)
    table = results[start.id].rows
    key = (start.id, ROWS)
    going = _Going({key: numbers}, {key: names}, {start.id: 0})
    stages = []
    for step in flow.in_order():
        if step.id == start.id or not any(entry.step in going.depths for entry in step.inputs):
            continue
        task.checkpoint(0, 0, f"following through {step.name}")
        stage = _stage(runner, flow, step, results, going, task)
        if stage is not None:
            stages.append(stage)
    ends = tuple(_ends(runner, flow, stages, start))
    places = places_said(table, numbers)
    return Way(start.id, start.name, names, len(numbers), places, tuple(stages), ends, numbers)


def _stage(
    runner: Runner,
    flow: Flow,
    step: Step,
    results: Mapping[str, StepResult],
    going: _Going,
    task: Task,
) -> Stage | None:
    """What becomes at a step of the rows that come there; None if none does. Notes what goes on."""
    result = results[step.id]
    kind, shapes = runner.kinds.of(step), runner.input_shapes(flow, step, task)
    used = step.inputs[: len(result.made_of)]
    nothing = np.zeros(0, np.int64)
    come = [going.rows.get((entry.step, entry.port), nothing) for entry in used]
    carry = [going.carriers.get((entry.step, entry.port), ()) for entry in used]
    if not any(len(rows) for rows in come):
        return None
    traced = [
        Traced(shape.name, table, rows, _after(result.rows, table, rows))
        for shape, table, rows in zip(shapes, result.made_of, come, strict=True)
    ]
    fates: list[Fate] = []
    if not step.skipped:
        fates += kind.fates(runner.settings(flow, step), traced, result, task)
        summed = any(fate.how is How.SUMMED for fate in fates)
        for entry, own in zip(traced, carry, strict=True):
            fates += () if summed else _changes(entry, own, result.rows)
    going.depths[step.id] = 1 + max(going.depths[e.step] for e in step.inputs if e.step in going.depths)
    taken = {
        entry.port for other in flow.consumers(step.id) for entry in other.inputs if entry.step == step.id
    }
    for port in {ROWS, *taken} & result.ports.keys():
        table = result.ports[port]
        parts = [_after(table, entry.table, entry.rows) for entry in traced]
        going.rows[step.id, port] = np.unique(np.concatenate(parts))
        kept = (
            name
            for entry, own in zip(traced, carry, strict=True)
            for name in _carried(entry.table, own, table)
        )
        going.carriers[step.id, port] = tuple(dict.fromkeys(kept))
    after = going.rows[step.id, ROWS]
    return Stage(
        step.id,
        step.name,
        going.depths[step.id],
        sum(map(len, come)),
        len(after),
        tuple(fates),
        after,
    )


def _after(table: Table, source: Table, rows: IndexVector) -> IndexVector:
    """The rows of a table that some of those it is made of are part of."""
    return table.rows_from(source, rows) if len(rows) else np.zeros(0, np.int64)


def _carried(before: Table, names: Sequence[str], after: Table) -> Iterator[str]:
    """The fields of a step's result that are read from some fields of an input."""
    wanted = set(names)
    if not wanted:
        return
    for name in after.names:
        if any(own is before and read in wanted for own, read, _ in fields_behind(after, name)):
            yield name


def _changes(traced: Traced, names: Sequence[str], after: Table) -> Iterator[Fate]:
    """How the cells of rows change at a step, and whether the value is in no field any more."""
    if not len(traced.after):
        return
    if names and not any(_carried(traced.table, names, after)):
        said = f"{', '.join(names)} is not among the fields that are kept: the rows go on without it"
        yield Fate(How.NO_FIELD, said, len(traced.rows))
    came_from = dict(_came_from(traced.table, after))
    for row in traced.rows[:_COMPARED].tolist():
        out = after.rows_from(traced.table, np.array([row]))
        if not len(out):
            continue
        was = _texts(traced.table, row, list(came_from.values()))
        now = _texts(after, int(out[0]), list(came_from))
        for how, gaps in ((How.FILLED, True), (How.CHANGED, False)):
            parts = [
                f"{name} is {new}, and {'had' if old == NO_PARTNER else 'was'} {old}"
                for name, old, new in zip(came_from, was, now, strict=True)
                if old != new and (old in _GAPS) is gaps
            ]
            if parts:
                more = f" and {len(parts) - _MOST_CELLS:,} more" if len(parts) > _MOST_CELLS else ""
                yield Fate(how, f"{'; '.join(parts[:_MOST_CELLS])}{more}", 1)


def _came_from(before: Table, after: Table) -> Iterator[tuple[str, str]]:
    """The fields of a step's result that are one of an input, each with that: of its own name, or renamed."""
    for name in after.names:
        read = {own for table, own, _ in fields_behind(after, name) if table is before}
        if name in read:
            yield name, name
        elif len(read) == 1 and not read <= set(after.names):
            yield name, read.pop()


def _texts(table: Table, row: int, names: Sequence[str]) -> list[str]:
    """The cells of a row in words."""
    return [cells_said(cells)[0] for cells in table.take(np.array([row]), list(names))]


def _ends(runner: Runner, flow: Flow, stages: Sequence[Stage], start: Step) -> Iterator[End]:
    """In how many rows of each output the way ends; where it was lost, or why it is there several times."""
    known = {stage.step: stage for stage in stages}
    behind = flow.downstream([start.id])
    for step in flow.steps:
        if not runner.kinds.ends_rail(step) or step.id not in behind:
            continue
        stage = known.get(step.id)
        rows = stage.after if stage is not None else 0
        before = [known[name] for name in _in_order(flow, step.id) if name in known]
        yield End(step.id, step.name, rows, _why(before, rows))


def _in_order(flow: Flow, step_id: str) -> list[str]:
    before = flow.upstream(step_id)
    return [step.id for step in flow.in_order() if step.id in before]


_LOST = (How.DROPPED, How.UNMATCHED, How.PASSED_OVER)


def _why(stages: Sequence[Stage], rows: int) -> str:
    """Where rows that come were lost on the way to an output, or where they became several."""
    if not rows:
        for stage in stages:
            if not stage.after:
                lost = [fate.said for fate in stage.fates if fate.how in _LOST]
                return f"it is lost at {stage.name}: {'; '.join(lost) or 'none of its rows goes on'}"
        return ""
    several = [stage for stage in stages if stage.after > stage.before]
    if not several:
        return ""
    parts = []
    for stage in several:
        times = [fate.said for fate in stage.fates if fate.how is How.MULTIPLIED]
        words = f"{stage.before:,} {'row becomes' if stage.before == 1 else 'rows become'} {stage.after:,}"
        parts.append(f"at {stage.name} {words}{f' ({times[0]})' if times else ''}")
    return "; ".join(parts)
