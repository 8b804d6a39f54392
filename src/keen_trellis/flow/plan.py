"""A flow compiled: what is known of each step without computing it, each step looked at once.

Of a step a plan holds its settings, the names and fields at its inputs and ports, what is wrong with it, and
its fingerprint. Steps are planned when they are asked for, with all that they depend on, so that a rail tells
its fields while another one's source is still being read. What did not change is taken from the plan before.
"""

from __future__ import annotations

import datetime as dt
import difflib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from graphlib import TopologicalSorter
from typing import Any

import msgspec

from keen_trellis.core.day import as_of
from keen_trellis.core.errors import FlowFileError, TrellisError, UsageError
from keen_trellis.core.task import Task
from keen_trellis.flow.graph import Flow, Input, RunValue, Step, reached
from keen_trellis.flow.kinds import InputShape, Kinds, Standing, StepKind, digest
from keen_trellis.flow.run_values import named_in
from keen_trellis.flow.snapshot import Snapshot, Snapshots
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.wording import counted

Before = tuple[tuple["Planned", str], ...]
Sources = Mapping[str, tuple[SourceSettings, Snapshot]]


@dataclass(frozen=True, eq=False)
class Planned:
    """One step. before: the steps that it takes rows from, each with the port.  inputs: their shapes.
    input_fingerprints: what tells their rows apart.

    snapshot: of a source.  sources: the settings and snapshots of all sources that it depends on, by step.
    blocked: the first error of a step before it, or its own, that keeps it from being computed.  own: what
    its settings contribute to its fingerprint; both say nothing where it is blocked.
    """

    step: Step
    kind: StepKind[Any]
    settings: Any
    before: Before
    inputs: tuple[InputShape, ...]
    input_fingerprints: tuple[str, ...]
    snapshot: Snapshot | None
    sources: Sources
    blocked: TrellisError | None
    own: str | None
    fingerprint: str
    _ports: dict[str, InputShape] = field(default_factory=dict, repr=False)

    def shape(self, port: str) -> InputShape:
        """The name and fields at a port. TrellisError if they cannot be known."""
        found = self._ports.get(port)
        if found is None:
            found = self.inputs[0] if self.step.skipped else self._made_shape(port)
            self._ports[port] = found
        return found

    def _made_shape(self, port: str) -> InputShape:
        return InputShape(self.name_of(port, self.inputs), self.kind.fields(self.settings, self.inputs, port))

    def name_of(self, port: str, inputs: Sequence[InputShape]) -> str:
        """What the rows at a port are called; a step on a rail leaves the rail its name."""
        if self.step.skipped:
            return inputs[0].name
        return self.kind.rows_called(self.step.name, port, self.settings, inputs)

    def upstream(self) -> Iterator[Planned]:
        """The step and all that it depends on, each once and after those that it depends on."""
        takes = reached([self], lambda planned: (other for other, _ in planned.before))
        yield from TopologicalSorter(takes).static_order()


class Plan:
    """What is known of the steps of one flow. Safe between threads: what two plan at once is the same."""

    def __init__(
        self, flow: Flow, kinds: Kinds, snapshots: Snapshots, day: dt.date, previous: Plan | None = None
    ) -> None:
        self.flow = flow
        # Fingerprints of steps that speak of today hold the day.
        self.day = day
        self._kinds, self._snapshots = kinds, snapshots
        self._steps = {step.id: step for step in flow.steps}
        self._planned: dict[str, Planned] = {}
        self._earlier: Mapping[str, Planned] = {}
        before = Flow() if previous is None else previous.flow
        self._values_before, self._lists_before = before.values, before.lists
        if previous is not None and previous.day == self.day:
            known = {**previous._earlier, **previous._planned}
            self._earlier = {name: planned for name, planned in known.items() if name in self._steps}

    def with_values(self, values: tuple[RunValue, ...]) -> Plan:
        """That of the same flow with other run values."""
        flow = msgspec.structs.replace(self.flow, values=values)
        return Plan(flow, self._kinds, self._snapshots, self.day, self)

    def planned(self, step_id: str, task: Task) -> Planned:
        """What is known of a step. Sources that it depends on are read if they have not been.

        Raises the first error that keeps its inputs from being known, or Cancelled.
        """
        known = self._planned.get(step_id)
        if known is not None and self._is_current(known, task):
            return known
        with as_of(self.day):
            for name in self._in_order(step_id):
                self._planned[name] = self._plan(self._steps[name], task)
        return self._planned[step_id]

    def shapes(self, entries: Sequence[Input], task: Task) -> list[InputShape]:
        """The shapes at some ports."""
        return [self.planned(entry.step, task).shape(entry.port) for entry in entries]

    def _is_current(self, planned: Planned, task: Task) -> bool:
        """Whether the sources of a step are as they were when it was planned."""
        return all(
            self._snapshots.get(settings, task) is snapshot for settings, snapshot in planned.sources.values()
        )

    def _in_order(self, step_id: str) -> list[str]:
        """A step and all that it depends on, each once and after those that it depends on.

        Raises UsageError for a step that is gone.
        """

        def before(name: str) -> Iterator[str]:
            if name not in self._steps:
                raise gone(self.flow, name)
            return (entry.step for entry in used_inputs(self._steps[name]))

        return list(TopologicalSorter(reached([step_id], before)).static_order())

    def _plan(self, step: Step, task: Task) -> Planned:
        """What is known of a step; those before it are planned."""
        earlier = self._planned.get(step.id) or self._earlier.get(step.id)
        kind = self._kinds.of(step)
        settings = self._settings(step, earlier)
        if kind.standing is Standing.BEGINS:
            return self._plan_source(step, kind, settings, earlier, task)
        check_inputs(kind, step)
        before = tuple((self._planned[entry.step], entry.port) for entry in used_inputs(step))
        same = earlier is not None and (earlier.step, earlier.settings) == (step, settings)
        if same and earlier is not None and _are_same(earlier.before, before):
            return earlier
        inputs = tuple(planned.shape(port) for planned, port in before)
        fingerprints = tuple(digest(planned.fingerprint, port) for planned, port in before)
        # Where settings and inputs are as before, only other rows go in: what is known of the step stays.
        alike = earlier if same and earlier is not None and earlier.inputs == inputs else None
        blocked = next((planned.blocked for planned, _ in before if planned.blocked is not None), None)
        own: str | None = ""
        if blocked is None and not step.skipped:
            if alike is not None and alike.own is not None:
                own = alike.own
            else:
                blocked = next((at_step(step, error) for error in kind.problems(settings, inputs)), None)
                own = self._own(step, kind, settings, inputs) if blocked is None else None
        return Planned(
            step=step,
            kind=kind,
            settings=settings,
            before=before,
            inputs=inputs,
            input_fingerprints=fingerprints,
            snapshot=None,
            sources={name: source for planned, _ in before for name, source in planned.sources.items()},
            blocked=blocked,
            own=own if blocked is None else None,
            fingerprint=digest(own, fingerprints) if blocked is None else "",
            _ports=alike._ports if alike is not None else {},
        )

    def _own(self, step: Step, kind: StepKind[Any], settings: Any, inputs: Sequence[InputShape]) -> str:
        """What its settings contribute to the fingerprint of a step: also the day, if they speak of it."""
        return digest(step.kind, kind.fingerprint(settings, inputs), day_told(step, self.day))

    def _plan_source(
        self, step: Step, kind: StepKind[Any], settings: SourceSettings, earlier: Planned | None, task: Task
    ) -> Planned:
        snapshot = self._snapshots.get(settings, task)
        same = earlier is not None and (earlier.step, earlier.settings) == (step, settings)
        if same and earlier is not None and earlier.snapshot is snapshot:
            return earlier
        inputs = (InputShape(step.name, snapshot.table.with_origin(step.id).fields),)
        # The step's id is in it: two rails of one table have fields of two origins.
        rows = digest(snapshot.identity, step.id)
        own = self._own(step, kind, settings, inputs)
        return Planned(
            step=step,
            kind=kind,
            settings=settings,
            before=(),
            inputs=inputs,
            input_fingerprints=(rows,),
            snapshot=snapshot,
            sources={step.id: (settings, snapshot)},
            blocked=None,
            own=own,
            fingerprint=digest(own, (rows,)),
        )

    def _settings(self, step: Step, earlier: Planned | None) -> Any:
        """The settings of a step; of a tie, with the shared filter that it ties."""
        if (
            earlier is not None
            and earlier.step.settings == step.settings
            and earlier.step.kind == step.kind
            and not named_in(step.settings, self.flow.values)
            and not named_in(step.settings, self._values_before)
            and self.flow.lists == self._lists_before
        ):
            return self._kinds.settled_anew(self.flow, step, earlier.settings)
        return self._kinds.settled(self.flow, step)


def day_told(step: Step, day: dt.date) -> str:
    """The day, if the settings of a step speak of it; what it comes to is of that day only."""
    return str(day) if b"CURRENT_DATE" in step.settings.upper() else ""


def _are_same(some: Before, others: Before) -> bool:
    """Whether inputs are the same ports of the same planned steps."""
    return len(some) == len(others) and all(
        one is other and port == other_port
        for (one, port), (other, other_port) in zip(some, others, strict=True)
    )


def used_inputs(step: Step) -> tuple[Input, ...]:
    """The inputs that a step looks at: of a skipped one only that which passes through."""
    return step.inputs[:1] if step.skipped else step.inputs


def gone(flow: Flow, step_id: str) -> UsageError:
    """The error for a step that is not in the flow and that another one takes rows from: which one does so,
    and what the flow has that is called nearly so.
    """
    takers = [step.name for step in flow.consumers(step_id)]
    near = difflib.get_close_matches(step_id, [step.id for step in flow.steps], n=1)
    hint = f"Did you mean “{near[0]}”? " if near else ""
    return UsageError(
        f"The step “{step_id}” that it takes rows from is missing.",
        where=takers[0] if takers else "",
        remedy=f"{hint}Lead other rows to it, undo the removal, or remove this step too.",
    )


def check_inputs(kind: StepKind[Any], step: Step) -> None:
    """Raise what is wrong with the number of a step's inputs."""
    wanted = kind.input_names
    if len(step.inputs) > len(wanted) and not kind.more_inputs:
        raise FlowFileError(
            f"It takes {counted(len(wanted), 'inputs')}, and {len(step.inputs):,} rails lead to it.",
            where=step.name,
            remedy="Take the others away from it in the flow's file.",
        )
    if len(step.inputs) < len(wanted):
        lacking = ", ".join(wanted[len(step.inputs) :])
        raise UsageError(f"It has no {lacking} input yet.", where=step.name, remedy="Drag a rail onto it.")


def at_step(step: Step, error: TrellisError) -> TrellisError:
    """The same error, said to be at `step` unless it already names a place."""
    if not error.where:
        error.where = step.name
    return error
