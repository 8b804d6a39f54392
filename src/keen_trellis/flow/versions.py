"""Two versions of a flow compared: the steps that are not the same, and the rows that come out otherwise."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec

from keen_trellis.core.errors import TrellisError, UsageError
from keen_trellis.core.insight.changes import TableChanges, changes
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.graph import ROWS, Flow, Input, Step
from keen_trellis.flow.kinds import Kinds
from keen_trellis.flow.plain_text import cut
from keen_trellis.flow.runner import Runner

NEW, GONE, CHANGED = "new", "gone", "changed"


class Version(msgspec.Struct, frozen=True):
    """One of the two: a flow, what computes it, and the folder that its paths are relative to."""

    flow: Flow
    runner: Runner
    folder: Path


class StepDifference(msgspec.Struct, frozen=True):
    """A step that is new, gone, or changed. said: in what, a sentence each."""

    step: str
    name: str
    how: str
    said: tuple[str, ...] = ()


@dataclass(frozen=True)
class EndDifference:
    """What the rows of an output, or of a rail that leads to none, are in both versions.

    how: NEW or GONE for one that only a version has, else CHANGED or "".  changes: None where the rows of one
    of them cannot be had (error).  before, after: the rows that they speak of.
    """

    step: str
    name: str
    how: str = ""
    changes: TableChanges | None = None
    before: Table | None = field(default=None, compare=False, repr=False)
    after: Table | None = field(default=None, compare=False, repr=False)
    error: str = ""


class Differences(msgspec.Struct, frozen=True):
    """All of it. steps: in the order of the later version, those that are gone behind."""

    steps: tuple[StepDifference, ...]
    filters: tuple[str, ...]
    ends: tuple[EndDifference, ...]

    @property
    def is_none(self) -> bool:
        """Whether both come to the same, and say the same."""
        return not self.steps and not self.filters and not any(end.how or end.error for end in self.ends)


def differences(
    before: Version, after: Version, key: Sequence[str] = (), task: Task | None = None
) -> Differences:
    """Compare two versions of a flow, step by step and row by row.

    key: fields by which rows are found again; without them, those by which an output is updated, else a field
    that tells the rows apart. Cancelled.
    """
    task = task or Task()
    pairs = _paired(before.flow, after.flow)
    later = {was.id: step for step, was in pairs.items()}
    steps = []
    for step in after.flow.steps:
        earlier = pairs.get(step.id)
        if earlier is None:
            steps.append(StepDifference(step.id, step.name, NEW, _sentences(after, step, task)))
        elif said := tuple(_differs(before, after, earlier, step, later, task)):
            steps.append(StepDifference(step.id, step.name, CHANGED, said))
    steps += [
        StepDifference(step.id, step.name, GONE, _sentences(before, step, task))
        for step in before.flow.steps
        if step.id not in later
    ]
    filters = tuple(_filters(before.flow, after.flow))
    return Differences(tuple(steps), filters, tuple(_ends(before, after, pairs, key, task)))


def _paired(before: Flow, after: Flow) -> dict[str, Step]:
    """The earlier version of each step, by the id of the later one.

    It is the one with the same id, else the only one of its kind and name that has no other.
    """
    found = {}
    for step in after.steps:
        same = before.find(step.id)
        if same is not None and same.kind == step.kind:
            found[step.id] = same
    taken = {step.id for step in found.values()}
    alike: dict[tuple[str, str], list[Step]] = {}
    for earlier in before.steps:
        if earlier.id not in taken:
            alike.setdefault((earlier.kind, earlier.name), []).append(earlier)
    for step in after.steps:
        others = alike.get((step.kind, step.name), [])
        if step.id not in found and len(others) == 1:
            found[step.id] = others.pop()
    return found


def _differs(
    before: Version, after: Version, was: Step, now: Step, later: Mapping[str, str], task: Task
) -> list[str]:
    """In what a step is another one now. later: the id of each step of both in the later version."""
    said = []
    if was.name != now.name:
        said.append(f"It was called {was.name}.")
    if was.skipped != now.skipped:
        said.append("It is skipped now." if now.skipped else "It is no longer skipped.")
    if list(now.inputs) != [Input(later.get(entry.step, ""), entry.port) for entry in was.inputs]:
        said.append(f"It took rows from {_taken(before.flow, was)}, now from {_taken(after.flow, now)}.")
    differing = list(_unlike("", _plain_settings(before, was), _plain_settings(after, now)))
    if differing:
        old, new = _sentences(before, was, task), _sentences(after, now, task)
        if old and new and old != new:
            said += [f"Was: {old[0]}", f"Now: {new[0]}"]
        said += differing
    if was.note != now.note:
        said.append("Its note is another one.")
    return said


def _taken(flow: Flow, step: Step) -> str:
    """Where a step takes its rows from, in words."""
    named = []
    for entry in step.inputs:
        origin = flow.find(entry.step)
        name = origin.name if origin is not None else entry.step
        port = entry.port.replace("_", " ")
        named.append(name if entry.port == ROWS else f"{port} of {name}")
    return " and ".join(named) or "nowhere"


def _unlike(where: str, was: Any, now: Any) -> Iterator[str]:
    """What of two settings is not the same, a line each: “links 1, ignore: case; was nothing”."""
    if was == now:
        return
    if isinstance(was, dict) and isinstance(now, dict):
        for name in {**was, **now}:
            called = name.replace("_", " ")
            yield from _unlike(f"{where}, {called}" if where else called, was.get(name), now.get(name))
    elif _are_lists_of_settings(was, now):
        for number, (old, new) in enumerate(zip(was, now, strict=True), 1):
            yield from _unlike(f"{where} {number}", old, new)
    else:
        yield f"{where}: {_value_said(now)}; was {_value_said(was)}."


def _are_lists_of_settings(was: Any, now: Any) -> bool:
    lists = isinstance(was, list) and isinstance(now, list) and len(was) == len(now)
    return lists and all(isinstance(entry, dict) for entry in (*was, *now))


def _value_said(value: Any) -> str:
    """A setting as it is said, cut where it is long."""
    if value is None or value in ("", [], {}):
        return "nothing"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list) and not any(isinstance(entry, list | dict) for entry in value):
        return cut(", ".join(map(str, value)), 200)
    return cut(value if isinstance(value, str) else msgspec.json.encode(value).decode(), 200)


def _plain_settings(version: Version, step: Step) -> dict[str, Any]:
    settings: dict[str, Any] = msgspec.json.decode(step.settings)
    kind = version.runner.kinds.find(step.kind)
    for path in kind.path_settings if kind is not None else ():
        if isinstance(settings.get(path), str) and Path(settings[path]).is_absolute():
            settings[path] = os.path.relpath(settings[path], version.folder)
    return settings


def _sentences(version: Version, step: Step, task: Task) -> tuple[str, ...]:
    """A step read aloud; nothing where it cannot be."""
    runner = version.runner
    try:
        shapes = runner.input_shapes(version.flow, step, task)
        return (runner.kinds.of(step).sentence(runner.settings(version.flow, step), shapes),)
    except TrellisError:
        return ()


def _filters(before: Flow, after: Flow) -> list[str]:
    """What differs in the shared filters, in words."""
    said = []
    for shared in after.filters:
        earlier = before.shared_filter(shared.id)
        if earlier is None:
            said.append(f"The shared filter {shared.name} is new.")
        elif (earlier.is_, earlier.values, earlier.apart) != (shared.is_, shared.values, shared.apart):
            said.append(f"The shared filter {shared.name} lets other rows through.")
        elif earlier.name != shared.name:
            said.append(f"The shared filter {shared.name} was called {earlier.name}.")
    later = {shared.id for shared in after.filters}
    said += [f"The shared filter {entry.name} is gone." for entry in before.filters if entry.id not in later]
    return said


# --- rows ---


def _ends(
    before: Version, after: Version, pairs: Mapping[str, Step], key: Sequence[str], task: Task
) -> list[EndDifference]:
    """What comes out: the rows of each step that no other takes rows from."""
    earlier = {step.id: step for step in _last_steps(before.flow, before.runner.kinds)}
    found = []
    for step in _last_steps(after.flow, after.runner.kinds):
        was = pairs.get(step.id)
        if was is None or was.id not in earlier:
            found.append(EndDifference(step.id, step.name, NEW))
            continue
        del earlier[was.id]
        found.append(_end(before, after, was, step, key, task))
    return [*found, *(EndDifference(step.id, step.name, GONE) for step in earlier.values())]


def _last_steps(flow: Flow, kinds: Kinds) -> list[Step]:
    """Outputs that are written, and every other step whose rows go nowhere."""
    taken = {entry.step for step in flow.steps for entry in step.inputs}
    return [
        step for step in flow.steps if step.id not in taken and not (step.skipped and kinds.ends_rail(step))
    ]


def _end(
    before: Version, after: Version, was: Step, now: Step, key: Sequence[str], task: Task
) -> EndDifference:
    try:
        old = before.runner.result(before.flow, was.id, task).rows
        new = after.runner.result(after.flow, now.id, task).rows
    except TrellisError as error:
        return EndDifference(now.id, now.name, error=f"Its rows cannot be compared: {error}")
    keys = [tuple(key)] if key else []
    for name in key:
        for version, table in (("earlier", old), ("later", new)):
            if name not in table.names:
                said = f"{now.name} has no field “{name}” in the {version} version."
                raise UsageError(said, remedy="Name fields that both have, or none.")
    settings = after.runner.settings(after.flow, now)
    if own := tuple(getattr(settings, "key", ())):
        keys.append(own)
    found = changes(old, new, keys, task)
    if key and found.key != tuple(key) and old.rows and new.rows:
        raise UsageError(
            f"{', '.join(key)} does not tell the rows of {now.name} apart, or is blank in some.",
            remedy="Name more fields, or none.",
        )
    return EndDifference(now.id, now.name, CHANGED if found else "", found, old, new)
