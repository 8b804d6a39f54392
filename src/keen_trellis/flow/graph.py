"""The flow as a value: an immutable tree of steps, their inputs and their plain settings."""

from __future__ import annotations

import heapq
from collections.abc import Callable, Collection, Hashable, Iterable, Iterator
from functools import cached_property
from graphlib import CycleError, TopologicalSorter
from typing import TypeVar

import msgspec

from keen_trellis.core.errors import UsageError

ROWS = "rows"

Node = TypeVar("Node", bound=Hashable)


def reached(starts: Iterable[Node], leads_to: Callable[[Node], Iterable[Node]]) -> dict[Node, list[Node]]:
    """What can be reached from some nodes, they included, each with what it leads to.

    Each is visited once and without recursion, which a long rail would exhaust.
    """
    found: dict[Node, list[Node]] = {}
    waiting = list(starts)
    while waiting:
        node = waiting.pop()
        if node not in found:
            found[node] = list(leads_to(node))
            waiting += found[node]
    return found


class Input(msgspec.Struct, frozen=True):
    """Where a step takes rows from: a step and one of its ports."""

    step: str
    port: str = ROWS


class Step(msgspec.Struct, frozen=True):
    """One step. `settings` is JSON text that only the registry of kinds can read.

    skipped: the rows of its first input pass through as if it were not there.

    extra: members of the step in its file that this program does not know, as JSON text by name.
    """

    id: str
    kind: str
    name: str
    note: str = ""
    inputs: tuple[Input, ...] = ()
    settings: bytes = b"{}"
    extra: tuple[tuple[str, bytes], ...] = ()
    skipped: bool = False


class SharedFilter(msgspec.Struct, frozen=True, omit_defaults=True):
    """A filter that is named once for the flow, and bound to rails by steps of the kind “shared-filter”.

    is_: how it compares, as `core.filtering` names it.  values: with what, as text; without any, every row
    stays.  apart: ids of sources that it is known not to reach, and need not.  extra: as that of a step.
    """

    id: str
    name: str
    is_: str = msgspec.field(name="is", default="one-of")
    values: tuple[str, ...] = ()
    apart: tuple[str, ...] = ()
    extra: tuple[tuple[str, bytes], ...] = ()


class RunValue(msgspec.Struct, frozen=True, omit_defaults=True):
    """A value that each run may set anew, written `:name` where it is used.

    type: text, number, date or file.  value: what it is unless a run says otherwise; "" for nothing yet.
    said: what it means, in a sentence.  choices: what it can be, if that is known.  source, field: the source
    step one of whose field's values it is.  extra: as that of a step.
    """

    name: str
    type: str = "text"
    value: str = ""
    said: str = ""
    choices: tuple[str, ...] = ()
    source: str = ""
    field: str = ""
    extra: tuple[tuple[str, bytes], ...] = ()


class CorrectionList(msgspec.Struct, frozen=True, omit_defaults=True):
    """A list of corrections that links of the flow may use. path: of its file, absolute.

    pairs: what the file said when it was read last, not kept in the flow's file.  error: why it could not be
    read then.  extra: as that of a step.
    """

    id: str
    path: str
    pairs: tuple[tuple[str, str], ...] = ()
    error: str = ""
    extra: tuple[tuple[str, bytes], ...] = ()


class Flow(msgspec.Struct, frozen=True, dict=True):
    """The whole document. `files` are the absolute paths in the margin, in their order there.
    keeps_log: whether its runs are noted in a log beside it.  confidential: names of fields whose values are
    in no report.

    It has a `__dict__` for what is looked up often; that is neither compared nor saved.
    """

    files: tuple[str, ...] = ()
    steps: tuple[Step, ...] = ()
    extra: tuple[tuple[str, bytes], ...] = ()
    filters: tuple[SharedFilter, ...] = ()
    keeps_log: bool = True
    confidential: tuple[str, ...] = ()
    values: tuple[RunValue, ...] = ()
    lists: tuple[CorrectionList, ...] = ()

    def correction_list(self, list_id: str) -> CorrectionList | None:
        """The list of corrections with this id, or None."""
        return next((entry for entry in self.lists if entry.id == list_id), None)

    def shared_filter(self, filter_id: str) -> SharedFilter | None:
        """The shared filter with this id, or None."""
        return next((entry for entry in self.filters if entry.id == filter_id), None)

    def step(self, step_id: str) -> Step:
        """The step with this id; UsageError if there is none."""
        found = self.find(step_id)
        if found is None:
            raise UsageError(f"There is no step “{step_id}” in this flow.")
        return found

    def find(self, step_id: str) -> Step | None:
        """The step with this id, or None."""
        return self._by_id.get(step_id)

    @cached_property
    def _by_id(self) -> dict[str, Step]:
        # The first of two with one id, as a flow with such steps was always read.
        return {step.id: step for step in reversed(self.steps)}

    def consumers(self, step_id: str) -> list[Step]:
        """The steps that take rows from this one, in the order of the flow."""
        return [step for step in self.steps if any(entry.step == step_id for entry in step.inputs)]

    def upstream(self, step_id: str) -> set[str]:
        """The ids of all steps that this one depends on, itself included."""

        def before(name: str) -> Iterator[str]:
            return (entry.step for entry in self.step(name).inputs if entry.step in self._by_id)

        return set(reached([step_id], before)) if step_id in self._by_id else set()

    def downstream(self, step_ids: Collection[str]) -> set[str]:
        """The ids of all steps that depend on one of these, and of these."""
        takers: dict[str, list[str]] = {}
        for step in self.steps:
            for entry in step.inputs:
                takers.setdefault(entry.step, []).append(step.id)
        return set(reached(step_ids, lambda name: takers.get(name, ())))

    def in_order(self) -> Iterator[Step]:
        """All steps, each after those that it depends on; otherwise in the order of the flow."""
        places = {step.id: place for place, step in enumerate(self.steps)}
        sorter = TopologicalSorter(
            {step.id: [entry.step for entry in step.inputs if entry.step in places] for step in self.steps}
        )
        try:
            sorter.prepare()
        except CycleError as error:
            raise UsageError("The steps of this flow go round in a circle.") from error
        ready: list[int] = []
        while sorter.is_active():
            for step_id in sorter.get_ready():
                heapq.heappush(ready, places[step_id])
            step = self.steps[heapq.heappop(ready)]
            yield step
            sorter.done(step.id)
