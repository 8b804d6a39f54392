"""Runs steps: a result is a function of what it was computed from, and is kept by its fingerprint."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any, TypeVar

import msgspec

from keen_trellis.core.day import as_of, this_day
from keen_trellis.core.errors import TrellisError, UsageError
from keen_trellis.core.memory_use import buffers_of, machine_memory
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.graph import ROWS, Flow, Input, Step
from keen_trellis.flow.kinds import InputRows, InputShape, Kinds, Standing, StepResult, digest
from keen_trellis.flow.plan import Plan, Planned, at_step, check_inputs, day_told, used_inputs
from keen_trellis.flow.snapshot import Snapshot, Snapshots

if TYPE_CHECKING:
    from keen_trellis.core.insight.guards import Past

Made = TypeVar("Made")

# The share of the machine's memory that results may hold, unless it is set.
_SHARE_OF_MEMORY = 4
_COUNTED_EVERY = 32
_LOOK_EVERY = 0.05  # seconds between two looks whether waiting was cancelled


def _nothing() -> int:
    """Nothing is held besides."""
    return 0


class Kept:
    """What was made, by fingerprint, as far as it fits into the limit. Safe between threads.

    A knot's match is kept under a fingerprint of its links and inputs, its result under one of the match, the
    type and the fields: another type finds the match, and makes only the result; undo finds both.

    limit: bytes that all results may hold together, each buffer counted once, with what is held besides. What
    was not asked for longest goes first, and with it all that was made from it and holds on to it.
    """

    def __init__(self, limit: int | None = None) -> None:
        self.limit = limit if limit is not None else machine_memory() // _SHARE_OF_MEMORY
        self._made: OrderedDict[str, Any] = OrderedDict()
        self._at_most = 0  # an estimate of what is held that is never too low when it was just counted
        self._since_counted = 0
        self._under_way: dict[str, threading.Event] = {}
        # The bytes that are held besides, and what is held as long as it is looked at: they take their part
        # of the limit.
        self.beside: Callable[[], int] = _nothing
        self.looked_at: Callable[[], object] = _nothing
        self._lock = threading.Lock()

    @property
    def held(self) -> int:
        """The bytes that all results hold now."""
        with self._lock:
            return self._counted()

    def __len__(self) -> int:
        return len(self._made)

    def _counted(self) -> int:
        return sum(buffers_of([*self._made.values(), self.looked_at()]).values()) + self.beside()

    def limit_to(self, limit: int) -> None:
        """Let all results hold `limit` bytes together from now on."""
        self.limit = limit
        if self._at_most > limit:
            self.shrink()

    def shrink(self) -> None:
        """Let go of results until the others fit into the limit; the latest one always stays."""
        with self._lock:
            while (held := self._counted()) > self.limit and len(self._made) > 1:
                gone = buffers_of(self._made.popitem(last=False)[1])
                # A result that holds on to those buffers keeps them in memory: it goes, too.
                last = next(reversed(self._made))
                for fingerprint, made in list(self._made.items()):
                    if fingerprint != last and gone and not gone.keys().isdisjoint(buffers_of(made)):
                        del self._made[fingerprint]
            self._at_most, self._since_counted = held, 0

    def made(self, fingerprint: str, make: Callable[[], Made], task: Task) -> Made:
        """What was kept under the fingerprint, or else what `make` returns, which is kept.

        Of several who ask at the same moment one makes it and the others wait. Where that one is cancelled or
        fails, the next one tries. Raises what `make` raises, and Cancelled while it waits.
        """
        while True:
            with self._lock:
                found: Made | None = self._made.get(fingerprint)
                if found is not None:
                    self._made.move_to_end(fingerprint)
                    return found
                others = self._under_way.get(fingerprint)
                if others is None:
                    done = self._under_way[fingerprint] = threading.Event()
                    break
            while not others.wait(_LOOK_EVERY):
                task.checkpoint()
            task.checkpoint()
        try:
            made = make()
            self.keep(fingerprint, made)
            return made
        finally:
            with self._lock:
                del self._under_way[fingerprint]
            done.set()

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


class _Context(msgspec.Struct):
    task: Task
    kept: Kept
    day: str

    def remember(self, parts: Sequence[object], make: Callable[[], Made]) -> Made:
        return self.kept.made(digest("part", self.day, *parts), make, self.task)


class Runner:
    """Computes the results of steps, upstream first, each only once for the same fingerprint.

    day: what all that it computes takes as today; a run keeps it, a session goes on with the days.  past:
    what a step came to in so many of the latest runs in which its guards held; None where none are kept.
    """

    def __init__(self, kinds: Kinds, snapshots: Snapshots, kept: Kept | None = None) -> None:
        self.kinds = kinds
        self.snapshots = snapshots
        self.kept = kept if kept is not None else Kept()
        self.day = this_day()
        self.past: Callable[[str, int], Sequence[Past]] | None = None
        self._latest: Plan | None = None
        self._lock = threading.Lock()

    def with_snapshots(self, snapshots: Snapshots) -> Runner:
        """A runner on other snapshots that shares what this one has computed."""
        other = Runner(self.kinds, snapshots, self.kept)
        other.day, other.past = self.day, self.past
        return other

    def plan(self, flow: Flow) -> Plan:
        """What is known of the steps of a flow; of what has not changed since the last one, as it was."""
        with self._lock:
            latest = self._latest
            if latest is None or latest.flow is not flow or latest.day != self.day:
                self._latest = Plan(flow, self.kinds, self.snapshots, self.day, latest)
            return self._latest  # type: ignore[return-value]

    def result(self, flow: Flow, step_id: str, task: Task | None = None) -> StepResult:
        """The result of one step. Raises the error of the first step upstream that has one, or Cancelled."""
        task = task or Task()
        wanted = self.plan(flow).planned(step_id, task)
        if wanted.blocked is not None:
            raise wanted.blocked.with_traceback(None)  # it is raised again and again
        results: dict[str, StepResult] = {}
        for planned in wanted.upstream():
            task.checkpoint()
            if planned.step.skipped:
                before, port = planned.before[0]
                rows = _rows_at(before, port, results, planned.step)
                results[planned.step.id] = StepResult({ROWS: rows}, made_of=(rows,))
                continue
            results[planned.step.id] = self.kept.made(
                planned.fingerprint, partial(self._computed, planned, results, task), task
            )
        return results[step_id]

    def table(self, flow: Flow, entry: Input, task: Task | None = None) -> Table:
        """The rows at a port. Raises what computing them raises; UsageError for a port that is not there."""
        result, step = self.result(flow, entry.step, task), flow.step(entry.step)
        if entry.port not in result.ports:
            raise _no_port(step, entry.port, result.ports)
        return result.ports[entry.port]

    def settings(self, flow: Flow, step: Step) -> Any:
        """The settings of a step as they are run: with run values, of a tie with the filter that it ties."""
        return self.kinds.settled(flow, step)

    def snapshot(self, flow: Flow, step: Step, task: Task | None = None) -> Snapshot:
        """The snapshot that a source step shows."""
        return self.snapshots.get(self.settings(flow, step), task or Task())

    def shape(self, flow: Flow, entry: Input, task: Task | None = None) -> InputShape:
        """The name and fields at a port. Sources are read if they have not been; nothing is matched."""
        return self.plan(flow).shapes([entry], task or Task())[0]

    def input_shapes(self, flow: Flow, step: Step, task: Task | None = None) -> list[InputShape]:
        """The shapes of all inputs of a step; a source's one input is its snapshot."""
        kind = self.kinds.of(step)
        if kind.standing is Standing.BEGINS:
            return list(self.plan(flow).planned(step.id, task or Task()).inputs)
        check_inputs(kind, step)
        return self.plan(flow).shapes(used_inputs(step), task or Task())

    def _computed(self, planned: Planned, results: Mapping[str, StepResult], task: Task) -> StepResult:
        """The result of a step; `results` has those of the steps before it."""
        fingerprints = planned.input_fingerprints
        if planned.snapshot is not None:
            table = planned.snapshot.table.with_origin(planned.step.id)
            inputs = [InputRows(planned.step.name, table, fingerprints[0])]
        else:
            inputs = [
                InputRows(shape.name, _rows_at(before, port, results, planned.step), fingerprint)
                for shape, (before, port), fingerprint in zip(
                    planned.inputs, planned.before, fingerprints, strict=True
                )
            ]
        try:
            with as_of(self.day):
                context = _Context(task, self.kept, day_told(planned.step, self.day))
                made = planned.kind.compute(planned.settings, inputs, context)
                return msgspec.structs.replace(made, made_of=tuple(entry.table for entry in inputs))
        except TrellisError as error:
            raise at_step(planned.step, error) from error


def _rows_at(before: Planned, port: str, results: Mapping[str, StepResult], step: Step) -> Table:
    """The rows that a step takes from a port."""
    ports = results[before.step.id].ports
    if port not in ports:
        raise at_step(step, _no_port(before.step, port, ports))
    return ports[port]


def _no_port(step: Step, port: str, ports: Iterable[str]) -> TrellisError:
    if step.skipped:
        return UsageError(f"{step.name} is skipped, and has no such rows now.", remedy="Use it again.")
    return UsageError(f"{step.name} has no port “{port}”.", remedy=f"It has: {', '.join(ports)}.")
