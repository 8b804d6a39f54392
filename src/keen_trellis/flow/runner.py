"""Runs steps: a result is a function of what it was computed from, and is kept by its fingerprint."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

import msgspec

from keen_trellis.core.errors import FlowFileError, TrellisError, UsageError
from keen_trellis.core.held import Buffers, buffers_of, machine_memory
from keen_trellis.core.table import Field, Table
from keen_trellis.core.task import Task
from keen_trellis.flow.graph import ROWS, Flow, Input, Step
from keen_trellis.flow.kinds import InputRows, InputShape, Kinds, StepResult, digest
from keen_trellis.flow.snapshot import Snapshot, Snapshots
from keen_trellis.flow.steps.blend import unused_number
from keen_trellis.flow.steps.one_input import OneInputKind
from keen_trellis.flow.steps.shared_filter import TieSettings
from keen_trellis.flow.steps.source import SourceKind
from keen_trellis.flow.wording import counted, rows_called

Made = TypeVar("Made")

# The share of the machine's memory that results may hold, unless it is set.
_SHARE_OF_MEMORY = 4
_COUNTED_EVERY = 32


class Kept:
    """What was made, by fingerprint, as far as it fits into the limit. Safe between threads.

    limit: bytes that all results may hold together, each buffer counted once. What was not asked for longest
    goes first, and with it all that was made from it and holds on to it.
    """

    def __init__(self, limit: int | None = None) -> None:
        self.limit = limit if limit is not None else machine_memory() // _SHARE_OF_MEMORY
        self._made: OrderedDict[str, Any] = OrderedDict()
        self._at_most = 0  # an estimate of what is held that is never too low when it was just counted
        self._since_counted = 0
        self._lock = threading.Lock()

    @property
    def held(self) -> int:
        """The bytes that all results hold now."""
        with self._lock:
            return sum(self._buffers().values())

    def _buffers(self) -> Buffers:
        return buffers_of(list(self._made.values()))

    def shrink(self) -> None:
        """Let go of results until the others fit into the limit; the latest one always stays."""
        with self._lock:
            while (held := sum(self._buffers().values())) > self.limit and len(self._made) > 1:
                gone = buffers_of(self._made.popitem(last=False)[1])
                # A result that holds on to those buffers keeps them in memory: it goes, too.
                last = next(reversed(self._made))
                for fingerprint, made in list(self._made.items()):
                    if fingerprint != last and gone and not gone.keys().isdisjoint(buffers_of(made)):
                        del self._made[fingerprint]
            self._at_most, self._since_counted = held, 0

    def find(self, fingerprint: str) -> Any:
        """What was kept under the fingerprint, or None."""
        with self._lock:
            if fingerprint in self._made:
                self._made.move_to_end(fingerprint)
            return self._made.get(fingerprint)

    def keep(self, fingerprint: str, made: Any) -> None:
        """Keep `made`, and let go of what was not asked for in a long time."""
        with self._lock:
            self._made[fingerprint] = made
            self._made.move_to_end(fingerprint)
            self._at_most += sum(buffers_of(made).values())
            self._since_counted += 1
        # Counting all is exact and slow; results also grow after they were made.
        if self._at_most > self.limit or self._since_counted >= _COUNTED_EVERY:
            self.shrink()


@dataclass
class _Context:
    task: Task
    kept: Kept

    def remember(self, parts: Sequence[object], make: Callable[[], Made]) -> Made:
        fingerprint = digest("part", *parts)
        found: Made | None = self.kept.find(fingerprint)
        if found is None:
            found = make()
            self.kept.keep(fingerprint, found)
        return found


@dataclass(frozen=True)
class _Computed:
    """A result with its fingerprint, its step, and the shapes of what went into it."""

    result: StepResult
    fingerprint: str
    step: Step
    shapes: Sequence[InputShape]


class Runner:
    """Computes the results of steps, upstream first, each only once for the same fingerprint."""

    def __init__(self, kinds: Kinds, snapshots: Snapshots, kept: Kept | None = None) -> None:
        self.kinds = kinds
        self.snapshots = snapshots
        self.kept = kept or Kept()

    def with_snapshots(self, snapshots: Snapshots) -> Runner:
        """A runner on other snapshots that shares what this one has computed."""
        return Runner(self.kinds, snapshots, self.kept)

    def result(self, flow: Flow, step_id: str, task: Task | None = None) -> StepResult:
        """The result of one step. Raises the error of the first step upstream that has one, or Cancelled."""
        task = task or Task()
        known: dict[str, _Computed] = {}
        for entry in _in_order(flow, [Input(step_id)]):
            if entry.step not in known:
                known[entry.step] = self._computed(flow, flow.step(entry.step), known, task)
        return known[step_id].result

    def table(self, flow: Flow, entry: Input, task: Task | None = None) -> Table:
        """The rows at a port. Raises what computing them raises; UsageError for a port that is not there."""
        result, step = self.result(flow, entry.step, task), _existing(flow, entry)
        if entry.port not in result.ports:
            raise _no_port(step, entry.port)
        return result.ports[entry.port]

    def settings(self, flow: Flow, step: Step) -> Any:
        """The settings of a step; of a tie, with the shared filter that it ties."""
        settings = self.kinds.settings(step)
        if isinstance(settings, TieSettings):
            return msgspec.structs.replace(settings, shared=flow.shared_filter(settings.filter))
        return settings

    def snapshot(self, step: Step, task: Task | None = None) -> Snapshot:
        """The snapshot that a source step shows."""
        return self.snapshots.get(self.kinds.settings(step), task or Task())

    def shape(self, flow: Flow, entry: Input, task: Task | None = None) -> InputShape:
        """The name and fields at a port. Sources are read if they have not been; nothing is matched."""
        return self._shapes(flow, [entry], task or Task())[0]

    def _shapes(self, flow: Flow, entries: Sequence[Input], task: Task) -> list[InputShape]:
        """The shapes at some ports; each step before them is looked at once, however the rails rejoin."""
        known: dict[Input, InputShape] = {}
        for entry in _in_order(flow, entries):
            step = _existing(flow, entry)
            kind, settings = self.kinds.of(step), self.settings(flow, step)
            if isinstance(kind, SourceKind):
                shapes = [InputShape(step.name, self._snapshot_fields(step, task))]
            else:
                _check_inputs(self.kinds, step)
                shapes = [known[own] for own in _used_inputs(step)]
            if step.skipped:
                known[entry] = shapes[0]
            else:
                name = self._name_of(step, entry.port, shapes)
                known[entry] = InputShape(name, kind.fields(settings, shapes, entry.port))
        return [known[entry] for entry in entries]

    def _name_of(self, step: Step, port: str, inputs: Sequence[InputShape]) -> str:
        """What the rows at a port are called; a step on a rail leaves the rail its name."""
        kind = self.kinds.of(step)
        if isinstance(kind, OneInputKind):
            return kind.rail_name(step.name, self.kinds.settings(step), inputs)
        return port_name(step.name, port, inputs)

    def input_shapes(self, flow: Flow, step: Step, task: Task | None = None) -> list[InputShape]:
        """The shapes of all inputs of a step; a source's one input is its snapshot."""
        if isinstance(self.kinds.of(step), SourceKind):
            return [InputShape(step.name, self._snapshot_fields(step, task or Task()))]
        _check_inputs(self.kinds, step)
        return self._shapes(flow, _used_inputs(step), task or Task())

    def _snapshot_fields(self, step: Step, task: Task) -> tuple[Field, ...]:
        snapshot = self.snapshots.get(self.kinds.settings(step), task)
        return snapshot.table.with_origin(step.id).fields

    def _computed(self, flow: Flow, step: Step, known: Mapping[str, _Computed], task: Task) -> _Computed:
        """The result of a step; `known` has those of the steps before it."""
        task.checkpoint()
        kind, settings = self.kinds.of(step), self.settings(flow, step)
        inputs = self._inputs(step, settings, known, task)
        shapes = [InputShape(entry.name, entry.table.fields) for entry in inputs]
        if step.skipped:
            return _Computed(StepResult({ROWS: inputs[0].table}), inputs[0].fingerprint, step, shapes)
        for problem in kind.problems(settings, shapes):
            raise _at(step, problem)
        fingerprint = digest(
            step.kind, kind.fingerprint(settings, shapes), [entry.fingerprint for entry in inputs]
        )
        result: StepResult | None = self.kept.find(fingerprint)
        if result is None:
            try:
                result = kind.compute(settings, inputs, _Context(task, self.kept))
            except TrellisError as error:
                raise _at(step, error) from error
            self.kept.keep(fingerprint, result)
        return _Computed(result, fingerprint, step, shapes)

    def _inputs(
        self, step: Step, settings: Any, known: Mapping[str, _Computed], task: Task
    ) -> list[InputRows]:
        if isinstance(self.kinds.of(step), SourceKind):
            snapshot = self.snapshots.get(settings, task)
            table = snapshot.table.with_origin(step.id)
            # The step's id is in the fingerprint: two rails of one table have fields of two origins.
            return [InputRows(step.name, table, digest(snapshot.identity, step.id))]
        _check_inputs(self.kinds, step)
        inputs = []
        for entry in _used_inputs(step):
            source = known[entry.step]
            if entry.port not in source.result.ports:
                raise _at(step, _no_port(source.step, entry.port))
            name = source.shapes[0].name
            if not source.step.skipped:
                name = self._name_of(source.step, entry.port, source.shapes)
            rows = source.result.ports[entry.port]
            inputs.append(InputRows(name, rows, digest(source.fingerprint, entry.port)))
        return inputs


def _in_order(flow: Flow, entries: Sequence[Input]) -> list[Input]:
    """Some ports and all that they are made of, each once and after those that its step takes rows from.

    Raises UsageError for a step that is gone. Without recursion, which a long rail would exhaust.
    """
    steps = {step.id: step for step in flow.steps}
    done: dict[Input, None] = {}
    waiting = [(entry, False) for entry in reversed(entries)]
    while waiting:
        entry, ready = waiting.pop()
        if entry in done:
            continue
        step = steps.get(entry.step) or _existing(flow, entry)
        if ready:
            done[entry] = None
        else:
            waiting.append((entry, True))
            waiting += [(own, False) for own in reversed(_used_inputs(step)) if own not in done]
    return list(done)


def port_name(step_name: str, port: str, inputs: Sequence[InputShape]) -> str:
    """What the rows at a port are called: the step's name, or "unmatched Loans" for a stub."""
    if port == "unmatched_left" and inputs:
        return f"unmatched {inputs[0].name}"
    if port == "unmatched_right" and len(inputs) > 1:
        return f"unmatched {inputs[1].name}"
    number = unused_number(port)
    if number is not None and number + 1 < len(inputs):
        return f"{inputs[number + 1].name} with no {rows_called(inputs[0].name)[0]}"
    if port == "passed_over":
        return f"passed over at {step_name}"
    return step_name


def _no_port(step: Step, port: str) -> TrellisError:
    if step.skipped:
        return UsageError(f"{step.name} is skipped, and has no such rows now.", remedy="Use it again.")
    return UsageError(f"{step.name} has no port “{port}”.")


def _used_inputs(step: Step) -> tuple[Input, ...]:
    """The inputs that a step looks at: of a skipped one only that which passes through."""
    return step.inputs[:1] if step.skipped else step.inputs


def _existing(flow: Flow, entry: Input) -> Step:
    step = flow.find(entry.step)
    if step is None:
        raise UsageError(
            f"The step “{entry.step}” that it takes rows from is gone.",
            remedy="Undo its removal, or remove this step too.",
        )
    return step


def _check_inputs(kinds: Kinds, step: Step) -> None:
    kind = kinds.of(step)
    wanted = kind.input_names
    if len(step.inputs) > len(wanted) and not kind.more_inputs:
        raise FlowFileError(
            f"It takes {counted(len(wanted), 'inputs')}, and {len(step.inputs):,} rails lead to it.",
            where=step.name,
            remedy="Take the others away from it in the flow's file.",
        )
    if len(step.inputs) < len(wanted):
        lacking = ", ".join(wanted[len(step.inputs) :])
        raise UsageError(f"It has no {lacking} input yet.", where=step.name, remedy="Lead a rail to it.")


def _at(step: Step, error: TrellisError) -> TrellisError:
    """The same error, said to be at `step` unless it already names a place."""
    if not error.where:
        error.where = step.name
    return error
