"""The guards of a flow's knots and outputs: what they look at, and whether they hold."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

import msgspec

from keen_trellis.core.day import as_of
from keen_trellis.core.errors import UsageError
from keen_trellis.core.insight import guards
from keen_trellis.core.insight.guards import Guarded, Verdict
from keen_trellis.core.table import Table
from keen_trellis.core.task import Task
from keen_trellis.flow.graph import Flow, Step
from keen_trellis.flow.runner import Runner
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.wording import rows_called


class Checked(msgspec.Struct, frozen=True):
    """A guard of a step that was checked, in words."""

    step: str
    name: str
    statement: str
    verdict: Verdict

    @property
    def holds(self) -> bool:
        return self.verdict.holds


def has_guards(step: Step) -> bool:
    """Whether guards can be set on a step, and are looked at."""
    kind = KINDS.find(step.kind)
    return kind is not None and kind.has_guards and not step.skipped


def guarded(runner: Runner, flow: Flow, step: Step, task: Task) -> Guarded:
    """What the guards of a step look at. Raises what computing the step raises."""
    result = runner.result(flow, step.id, task)

    def total_from(name: str) -> Table | None:
        origin = flow.find(result.rows.field(name).origin)
        if origin is None:
            return None
        source = runner.result(flow, origin.id, task).rows
        return source if name in source.names else None

    # Of other steps no run keeps what they came to.
    is_kept = result.match is not None or runner.kinds.ends_rail(step)
    past = partial(runner.past, step.id) if is_kept and runner.past is not None and flow.keeps_log else None
    before = partial(_fields_before, runner, flow, step, task)
    if result.match is None:
        return Guarded(result.rows, total_from, past=past, fields_before=before)
    left, right = (runner.table(flow, entry, task) for entry in step.inputs)
    asked = runner.settings(flow, step).asked(left, right)
    return Guarded(result.rows, total_from, asked, result.match, past, before)


def _fields_before(runner: Runner, flow: Flow, step: Step, task: Task) -> set[str]:
    """The names of all fields of a step and of those before it."""
    steps = (runner.result(flow, name, task) for name in flow.upstream(step.id))
    return {field.name for result in steps for field in result.rows.fields}


def checked(runner: Runner, flow: Flow, step: Step, task: Task) -> Iterator[Checked]:
    """Each guard of a step and whether it holds; one that cannot be checked does not. Of a source also each
    field with values that are not of the type that it had, and whether all of its rows are read.
    """
    if runner.kinds.begins_rail(step):
        for remark in runner.snapshot(flow, step, task).remarks:
            if remark.misfit_of:
                statement = f"{remark.field} fits its type"
                verdict = Verdict(f"type={remark.field}", False, remark.text)
                yield Checked(step.id, step.name, statement, verdict)
            if remark.is_sample:
                yield Checked(step.id, step.name, "all rows are read", Verdict("rows", False, remark.text))
    if not has_guards(step):
        return
    texts: tuple[str, ...] = runner.settings(flow, step).guards
    if not texts:
        return
    subject = guarded(runner, flow, step, task)
    names = [rows_called(shape.name)[1] for shape in runner.input_shapes(flow, step, task)]
    for text in texts:
        task.checkpoint(0, 0, f"checking {text}")
        try:
            with as_of(runner.day):
                verdict = guards.check(text, subject)
        except UsageError as error:
            verdict = Verdict(text, False, error.what)
        yield Checked(step.id, step.name, guards.in_words(text, names), verdict)


def checked_before(runner: Runner, flow: Flow, step_id: str, task: Task) -> list[Checked]:
    """The guards of a step and of all before it."""
    before = flow.upstream(step_id)
    steps = [step for step in flow.in_order() if step.id in before]
    return [entry for step in steps for entry in checked(runner, flow, step, task)]


def proposed(runner: Runner, flow: Flow, step: Step, task: Task) -> list[tuple[str, str]]:
    """Guards that hold at a step now and are not set, each with its statement."""
    texts = runner.settings(flow, step).guards
    names = [rows_called(shape.name)[1] for shape in runner.input_shapes(flow, step, task)]
    subject = guarded(runner, flow, step, task)
    return [(text, guards.in_words(text, names)) for text in guards.proposals(subject) if text not in texts]
